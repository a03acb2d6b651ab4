"""A model that is a Python function: what the problem file says of it, and its answers."""

from __future__ import annotations

import hashlib
import json
import math
import time
from collections.abc import Callable, Mapping, Sequence
from dataclasses import field, fields, replace
from functools import cached_property
from pathlib import Path
from typing import Any, ClassVar

import numpy as np
from numpy.typing import NDArray

from ilvren.models.failures import CannotFollow, ModelFailure
from ilvren.models.python.guard import (
    TooSlow,
    first_line,
    imported,
    line_in,
    standard_output_apart,
    time_limit,
)
from ilvren.models.python.reads import local_imports, undeclared
from ilvren.models.source import AUTOMATIC, LEAST_SPARSE, Outcome, Question
from ilvren.records import dataclass
from ilvren.regular import regular_bytes

__all__ = ["PythonSource"]

Array = NDArray[Any]
Shape = tuple[int, ...]


@dataclass(frozen=True, kw_only=True)
class PythonSource:
    """A function of a file; the other fields as in `models.source.ModelSource`. `slopes_path` and `slopes` name the
    function that supplies derivatives; `depends` are further files that decide the result."""

    name: str
    path: Path
    function: str
    inputs: tuple[tuple[str, Shape], ...]
    outputs: tuple[tuple[str, Shape], ...]
    derivatives: str = AUTOMATIC
    slopes_path: Path | None = None
    slopes: str = ""
    bands: Mapping[str, int] = field(default_factory=dict)
    timeout: float | None = None
    depends: tuple[Path, ...] = ()
    place: tuple[str, int | None] = ("", None)
    is_strict: bool = True
    retries: int = 1
    is_repeatable: bool = True

    # It runs in a process that it may take with it; what was slow or lost may work at the second try.
    is_apart = False
    tried_again = frozenset({"slow", "lost"})
    still: ClassVar[frozenset[str]] = frozenset()

    @property
    def code_files(self) -> tuple[Path, ...]:
        """Return the files whose code runs."""
        return (self.path,) if self.slopes_path is None else (self.path, self.slopes_path)

    @property
    def told(self) -> str:
        """Return the file and the function."""
        return f"{self.path.name}:{self.function}"

    @cached_property
    def input_size(self) -> int:
        """Return the number of input elements."""
        return sum(math.prod(shape) for _, shape in self.inputs)

    @cached_property
    def output_size(self) -> int:
        """Return the number of output elements."""
        return sum(math.prod(shape) for _, shape in self.outputs)

    @property
    def can_supply(self) -> bool:
        """Return whether a second function gives derivatives."""
        return bool(self.slopes)

    def hashes(self) -> dict[str, str]:
        """Return {file name: hash of its content} of all files that decide the result."""
        found = {}
        for path in sorted(self._files()):
            is_near = path not in self.depends and path.is_relative_to(self.path.parent)
            name = str(path.relative_to(self.path.parent)) if is_near else path.name
            try:
                found[name] = hashlib.sha256(regular_bytes(path)).hexdigest()[:16]
            except OSError:
                found[name] = "missing"
        return found

    def _files(self) -> set[Path]:
        """Return what is declared, and what those files import from their folders."""
        files = {self.path} | ({self.slopes_path} if self.slopes_path else set())
        return files.union(self.depends, *(local_imports(path) for path in files))

    def identity(self) -> str:
        """Return a hash of the files, the functions, inputs and outputs."""
        said = [self.hashes(), self.path.name, self.function, self.slopes, self.inputs, self.outputs]
        return hashlib.sha256(json.dumps(said).encode()).hexdigest()[:16]

    def stamps(self) -> dict[str, int]:
        """Return {path: time of its last change} of the files that are imported, 0 for one that is not there."""
        found = {}
        for path in self._declared:
            try:
                found[str(path)] = path.stat().st_mtime_ns
            except OSError:
                found[str(path)] = 0
        return found

    def is_here(self) -> bool:
        """Return whether the function's file is on this machine."""
        return self.path.exists()

    def with_derivatives(self, word: str) -> PythonSource:
        """Return the same function, differentiated another way."""
        return replace(self, derivatives=word)

    def key(self, inputs: Sequence[Array]) -> bytes:
        """Return the inputs to the last bit. They have the shapes of the inputs."""
        return b"".join(np.ascontiguousarray(value).tobytes() for value in inputs)

    def shown(self, inputs: Sequence[Array], places: Sequence[int]) -> Array:
        """Return (k, 2): the inputs themselves, with all digits."""
        flat = np.concatenate([np.ravel(value) for value in inputs])
        return np.stack([flat[list(places)], np.zeros(len(places))], axis=1)

    def asked(self, question: Question) -> Outcome:
        """Answer in this process, within the timeout; what the function prints goes to standard error."""
        began = time.perf_counter()
        try:
            answer = self._answer(question)
        except TooSlow:
            status, trouble = "slow", f'model "{self.name}" took longer than its timeout of {self.timeout:g} s'
        except _Broken as broken:
            status, trouble = "broken", str(broken)
        except CannotFollow as error:
            status, trouble = "unfollowable", str(error)
        except ModelFailure as failure:
            status, trouble = "failed", str(failure)
        except KeyboardInterrupt:
            raise
        except BaseException as error:  # objects that raise when they are looked at: they are the model's
            told = f": {words}" if (words := first_line(error)) else ""
            status = "failed"
            trouble = f'model "{self.name}" returned what cannot be looked at: {type(error).__name__}{told}'
        else:
            return Outcome("done", answer, "", time.perf_counter() - began, undeclared(self._declared, self.path))
        return Outcome(status, None, trouble, time.perf_counter() - began)

    def _answer(self, question: Question) -> Any:
        match question.kind:
            case "ready":
                self._function(self.path, self.function)
                if self.slopes_path is not None:
                    self._function(self.slopes_path, self.slopes)
                return None
            case "values" | "complex":
                kind = complex if question.kind == "complex" else float
                raw = self._called(self.path, self.function, question.inputs)
                pairs = zip(self.outputs, self._listed(raw), strict=True)
                return [self._shaped(name, shape, value, kind) for (name, shape), value in pairs]
            case "followed":
                return self._followed(question.inputs)
        return self._supplied(question.inputs)

    # ---- calling ----------------------------------------------------------------------------------

    @cached_property
    def _declared(self) -> set[Path]:
        return self._files()

    @cached_property
    def _functions(self) -> dict[tuple[Path, str], Callable[..., Any]]:
        return {}

    def __getstate__(self) -> dict[str, Any]:
        return {item.name: getattr(self, item.name) for item in fields(self)}  # nothing that was found in this process

    def _function(self, path: Path, name: str) -> Callable[..., Any]:
        if (path, name) in self._functions:
            return self._functions[path, name]
        try:
            function: Callable[..., Any] = getattr(imported(path), name)
        except AttributeError:
            raise _Broken(f'{path.name} has no function "{name}"') from None
        except KeyboardInterrupt:
            raise
        except BaseException as error:
            raise _Broken(f"{path.name} cannot be imported: {type(error).__name__}: {first_line(error)}") from None
        self._functions[path, name] = function
        return function

    def _called(self, path: Path, name: str, inputs: Sequence[Any]) -> Any:
        # Copies: a function may write into its inputs.
        given = {
            label: (value.copy() if shape else value.item()) if isinstance(value, np.ndarray) else value
            for (label, shape), value in zip(self.inputs, inputs, strict=True)
        }
        with standard_output_apart():
            function = self._function(path, name)
            try:
                with time_limit(self.timeout):
                    return function(**given)
            except (TooSlow, ModelFailure, KeyboardInterrupt):
                raise
            except CannotFollow as error:
                raise CannotFollow(f"{error}{line_in(self.path, error)}") from None
            except BaseException as error:
                cause = error.__cause__ or error.__context__
                if isinstance(cause, CannotFollow):  # NumPy wraps it in errors of its own
                    raise CannotFollow(f"{cause}{line_in(self.path, error)}") from None
                told = first_line(error)
                raise ModelFailure(
                    f'model "{self.name}" raised {type(error).__name__}{line_in(self.path, error)}'
                    + (f": {told}" if told else "")
                ) from None

    def _listed(self, result: Any) -> list[Any]:
        """Return the outputs in order from what the function returned."""
        names = [name for name, _ in self.outputs]
        if not isinstance(result, Mapping):
            if len(names) == 1 and not isinstance(result, (str, type(None))):
                return [result]
            if isinstance(result, (tuple, list)) and len(result) == len(names):
                return list(result)
            raise ModelFailure(f'model "{self.name}" returned {type(result).__name__}, not a mapping of its outputs')
        missing = [name for name in names if name not in result]
        if missing:
            has = ", ".join(map(str, result)) or "nothing"
            raise ModelFailure(f'model "{self.name}" returned no "{missing[0]}" (it returned {has})')
        return [result[name] for name in names]

    def _shaped(self, name: str, shape: Shape, value: Any, kind: type) -> Array:
        try:
            raw = np.asarray(value)
            if raw.dtype.kind in "USmMV" or np.ma.is_masked(value):
                what = "something masked" if np.ma.is_masked(value) else type(value).__name__
                raise ModelFailure(f'model "{self.name}" returned no numbers as "{name}": {what}')
            array: Array = raw.astype(kind, copy=False)
        except (TypeError, ValueError, OverflowError) as error:
            raise ModelFailure(f'model "{self.name}" returned no numbers as "{name}": {first_line(error)}') from None
        if array.shape != shape:
            if array.size == 1 and math.prod(shape) == 1:
                return array.reshape(shape)
            raise ModelFailure(f'model "{self.name}" returned "{name}" with shape {array.shape}, declared is {shape}')
        return array.copy()  # the function may write into its own array at the next call

    # ---- derivatives ------------------------------------------------------------------------------

    def _followed(self, inputs: Sequence[Array]) -> Any:
        """Return the Jacobian by running the function on our own array type."""
        from scipy.sparse import csr_array, vstack

        from ilvren.models.python.traced_functions import Traced

        given, at = [], 0
        for value in inputs:
            given.append(Traced.input(value, at, self.input_size))
            at += value.size
        raw = self._listed(self._called(self.path, self.function, given))
        blocks = []
        for (name, shape), value in zip(self.outputs, raw, strict=True):
            if isinstance(value, (list, tuple)):
                value = Traced.stacked(value)
            size = math.prod(shape)
            if not isinstance(value, Traced):  # a constant
                blocks.append(csr_array((size, self.input_size)))
                continue
            if value.shape != shape and not (value.size == size == 1):
                raise ModelFailure(
                    f'model "{self.name}" returned "{name}" with shape {value.shape}, declared is {shape}'
                )
            blocks.append(value.slopes)
        return self._worthy(vstack(blocks, format="csr"))

    def _supplied(self, inputs: Sequence[Array]) -> Any:
        """Return the Jacobian that the second function gives."""
        from scipy.sparse import block_array, csr_array

        assert self.slopes_path is not None
        result = self._called(self.slopes_path, self.slopes, inputs)
        if not isinstance(result, Mapping):
            raise ModelFailure(f'"{self.slopes}" returned {type(result).__name__}, not a mapping')
        blocks: list[list[Any]] = []
        for output, out_shape in self.outputs:
            own = result.get(output)
            blocks.append([])
            for name, shape in self.inputs:
                part = result.get((output, name))
                if part is None and isinstance(own, Mapping):
                    part = own.get(name)
                if part is None:
                    raise ModelFailure(f'"{self.slopes}" returned no derivative of "{output}" by "{name}"')
                size = (math.prod(out_shape), math.prod(shape))
                if not hasattr(part, "tocsr"):
                    part = np.asarray(part, dtype=float)
                    if part.size == math.prod(size):
                        part = part.reshape(size)
                if part.shape != size:
                    raise ModelFailure(
                        f'"{self.slopes}" returned the derivative of "{output}" by "{name}" with shape {part.shape},'
                        f" expected is {out_shape + shape}"
                    )
                blocks[-1].append(csr_array(part))
        return self._worthy(block_array(blocks, format="csr"))

    def _worthy(self, found: Any) -> Any:
        return found if self.input_size * self.output_size > LEAST_SPARSE else found.toarray()


class _Broken(Exception):
    """The function cannot be asked at all."""
