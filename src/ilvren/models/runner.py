"""One model: called once per point however many formulas use it, its failures named, its slopes on demand."""

from __future__ import annotations

import contextlib
import faulthandler
import hashlib
import importlib.util
import math
import os
import signal
import sys
import threading
import time
import traceback
from collections import OrderedDict
from collections.abc import Callable, Iterator, Mapping, Sequence
from dataclasses import dataclass, field, replace
from pathlib import Path
from typing import Any

import numpy as np
from numpy.typing import NDArray

from ilvren.errors import ProblemError
from ilvren.models.failures import CannotFollow, ModelFailure

__all__ = ["Call", "ModelFacts", "Runner"]

Array = NDArray[Any]
Shape = tuple[int, ...]

# Points whose outputs are kept: gradients, rows and the next request come back to the same few.
MOST_KEPT = 512
# Smaller Jacobians are dense whatever their pattern.
LEAST_SPARSE = 400
# So many different troubles are told.
MOST_NOTES = 5
# How long after its timeout a call that does not return may stop itself.
HANG_GRACE_SECONDS = 1.0


@dataclass(frozen=True)
class ModelFacts:
    """A model as the problem file declares it. `inputs` and `outputs` are (name, shape) in order; `bands` {output:
    how far an element looks to both sides of its own place in the vector inputs}. `is_strict`: the source of the
    derivatives was declared, and no other may take its place."""

    name: str
    path: Path
    function: str
    inputs: tuple[tuple[str, Shape], ...]
    outputs: tuple[tuple[str, Shape], ...]
    derivatives: str = "automatic"
    slopes_path: Path | None = None
    slopes: str = ""
    bands: Mapping[str, int] = field(default_factory=dict)
    timeout: float | None = None
    depends: tuple[Path, ...] = ()
    place: tuple[str, int | None] = ("", None)
    is_strict: bool = True

    @property
    def input_size(self) -> int:
        """Return the number of input elements."""
        return sum(math.prod(shape) for _, shape in self.inputs)

    @property
    def output_size(self) -> int:
        """Return the number of output elements."""
        return sum(math.prod(shape) for _, shape in self.outputs)

    def hashes(self) -> dict[str, str]:
        """Return {file name: hash of its content} of all files that decide the result."""
        paths = {self.path, *self.depends} | ({self.slopes_path} if self.slopes_path else set())
        found = {}
        for path in sorted(paths):
            try:
                found[path.name] = hashlib.sha256(path.read_bytes()).hexdigest()[:16]
            except OSError:
                found[path.name] = "missing"
        return found


class _TooSlow(Exception):
    pass


class Runner:
    """Calls the function of one model. `notes` collects what a user should know about its derivatives."""

    def __init__(self, facts: ModelFacts) -> None:
        self.facts = facts
        self.notes: list[str] = []
        self.calls = 0
        self.difference_calls = 0
        self.seconds = 0.0
        self.quickest = math.inf  # seconds of the quickest call so far
        self._functions: dict[str, Callable[..., Any]] = {}
        self._kept: OrderedDict[bytes, _Point] = OrderedDict()
        self.steps: Any = None  # of differences, chosen at their first use
        self.is_followed = False  # whether derivatives were found by following the function
        self.pattern: Any = None  # CSR (outputs, inputs) of ones: which derivatives were seen not to be zero
        self.pattern_version = 0
        self.tries = 2  # a call that takes too long is tried once more
        self.ends_hangs = False  # whether a call that cannot be stopped may end the process
        self.was_slow = False
        self.last_trouble = ""
        self.failures = 0
        self.first_failure = ""
        # Calls the function elsewhere, many at once: outputs, or why there are none.
        self.elsewhere: Callable[[Sequence[tuple[Any, ...]]], list[tuple[Any, ...] | str]] | None = None
        self._ahead: dict[bytes, tuple[Any, ...] | str] = {}

    @property
    def is_differenced(self) -> bool:
        """Return whether its derivatives are made of many calls."""
        return self.facts.derivatives not in ("automatic", "supplied")

    @property
    def is_decided(self) -> bool:
        """Return whether it is known where derivatives come from, and with what steps."""
        if self.is_differenced:
            return self.steps is not None
        return self.facts.derivatives != "automatic" or self.facts.is_strict or self.is_followed

    def fall_back(self, why: str = "") -> None:
        """Take derivatives by differences from now on, since the function cannot be followed: `why`, for a note."""
        self.facts = replace(self.facts, derivatives="differences")
        if why:
            self.add_note(f'model "{self.facts.name}" {why}: its derivatives are differences')

    def forget(self) -> None:
        """Drop all outputs that are kept."""
        self._kept.clear()

    def count_failures(self, count: int, first: str) -> None:
        """Count points at which the model gave nothing, and keep what was said of the first."""
        self.failures += count
        self.first_failure = self.first_failure or first

    def add_note(self, note: str) -> None:
        """Keep a note for the user, among the first few."""
        if note not in self.notes and len(self.notes) < MOST_NOTES:
            self.notes.append(note)

    def call_ahead(self, many: Sequence[list[Array]]) -> None:
        """Make calls that will be asked for next at the same time, where there are workers."""
        self._ahead.clear()
        if self.elsewhere is not None and len(many) > 1:
            given = [self._given(inputs) for inputs in many]
            self._ahead = dict(zip(map(_key_of, many), self.elsewhere(given), strict=True))

    def _given(self, inputs: Sequence[Any]) -> tuple[Any, ...]:
        return tuple(np.array(value) for value in inputs)

    def __call__(self, guard: Any, flags: Sequence[bool], inputs: Sequence[Any]) -> Call:
        """Return the call for these inputs, those with a flag having a batch axis; nothing runs where `guard` is
        false."""
        arrays = [np.asarray(value, dtype=float) for value in inputs]
        batch = next((len(value) for value, flag in zip(arrays, flags, strict=True) if flag), None)
        if batch is None:
            return Call(self, [self._point(arrays, guard is None or bool(np.any(guard)))], is_batch=False)
        points = []
        for place in range(batch):
            own = [value[place] if flag else value for value, flag in zip(arrays, flags, strict=True)]
            wanted = guard is None or bool(guard if np.ndim(guard) == 0 else guard[place])
            points.append(self._point(own, wanted))
        return Call(self, points, is_batch=True)

    def _point(self, inputs: list[Array], is_wanted: bool) -> _Point:
        shaped = [np.broadcast_to(value, shape) for value, (_, shape) in zip(inputs, self.facts.inputs, strict=True)]
        if not is_wanted or not all(np.isfinite(value).all() for value in shaped):
            empty = [np.full(shape, np.nan) for _, shape in self.facts.outputs]
            return _Point(shaped, empty, "", is_spoilt=True)
        key = b"".join(np.ascontiguousarray(value).tobytes() for value in shaped)
        kept = self._kept.get(key)
        if kept is None:
            kept = self._kept[key] = self._evaluated(shaped)
            if len(self._kept) > MOST_KEPT:
                self._kept.popitem(last=False)
        return kept

    def _evaluated(self, inputs: list[Array]) -> _Point:
        try:
            outputs = self.values(inputs)
        except ModelFailure as failure:
            empty = [np.full(shape, np.nan) for _, shape in self.facts.outputs]
            self.count_failures(1, f"{failure}{self.at(inputs)}")
            return _Point(inputs, empty, f"{failure}{self.at(inputs)}")
        reason = ""
        for (name, _), value in zip(self.facts.outputs, outputs, strict=True):
            if not np.isfinite(value).all():
                reason = f'model "{self.facts.name}" returned {_first_bad(value)} as "{name}"{self.at(inputs)}'
                break
        return _Point(inputs, outputs, reason)

    @property
    def is_sparse(self) -> bool:
        """Return whether the pattern of the derivatives is worth knowing."""
        facts = self.facts
        is_known = facts.derivatives in ("automatic", "supplied") or is_banded(facts)
        return is_known and facts.input_size * facts.output_size > LEAST_SPARSE

    def widen(self, matrix: Any) -> None:
        """Take what derivatives at a new point show into the pattern."""
        if not self.is_sparse or isinstance(matrix, np.ndarray):
            return
        own = matrix.copy()
        own.data = np.ones(own.nnz, dtype=np.int8)
        joined = own if self.pattern is None else own + self.pattern
        joined.data = np.ones(joined.nnz, dtype=np.int8)
        if self.pattern is None or joined.nnz > self.pattern.nnz:
            self.pattern = joined
            self.pattern_version += 1

    def at(self, inputs: Sequence[Array]) -> str:
        """Return the inputs as messages name them."""
        told = [
            f"{name} = {float(value):.6g}" if not shape else f"{name} = [{float(np.ravel(value)[0]):.4g}, …]"
            for (name, shape), value in zip(self.facts.inputs, inputs, strict=True)
            if value.size
        ]
        return " at " + ", ".join(told[:6]) if told else ""

    def values(self, inputs: Sequence[Any], *, kind: type = float) -> list[Array]:
        """Call the function and return its outputs as arrays of `kind`. Raises ModelFailure."""
        return [
            self._shaped(name, shape, value, kind)
            for (name, shape), value in zip(self.facts.outputs, self.raw(inputs), strict=True)
        ]

    def raw(self, inputs: Sequence[Any]) -> list[Any]:
        """Call the function with whatever `inputs` and return its outputs as they are. Raises ModelFailure."""
        facts = self.facts
        self.calls += 1
        if self.elsewhere is not None and all(isinstance(value, np.ndarray) for value in inputs):
            found = self._ahead.pop(_key_of(inputs), None)
            if found is None:
                found = self.elsewhere([self._given(inputs)])[0]
            if isinstance(found, str):
                raise ModelFailure(found)
            return list(found)
        # Copies: a function may write into its inputs.
        given = {
            name: (value.copy() if shape else value.item()) if isinstance(value, np.ndarray) else value
            for (name, shape), value in zip(facts.inputs, inputs, strict=True)
        }
        result = self.guarded_call(self.function(facts.path, facts.function), given)
        names = [name for name, _ in facts.outputs]
        if not isinstance(result, Mapping):
            if len(names) == 1 and not isinstance(result, (str, type(None))):
                return [result]
            if isinstance(result, (tuple, list)) and len(result) == len(names):
                return list(result)
            raise ModelFailure(f'model "{facts.name}" returned {type(result).__name__}, not a mapping of its outputs')
        missing = [name for name in names if name not in result]
        if missing:
            has = ", ".join(map(str, result)) or "nothing"
            raise ModelFailure(f'model "{facts.name}" returned no "{missing[0]}" (it returned {has})')
        return [result[name] for name in names]

    def _shaped(self, name: str, shape: Shape, value: Any, kind: type) -> Array:
        try:
            array: Array = np.asarray(value, dtype=kind)
        except (TypeError, ValueError) as error:
            raise ModelFailure(f'model "{self.facts.name}" returned no numbers as "{name}": {error}') from None
        if array.shape != shape:
            if array.size == 1 and math.prod(shape) == 1:
                return array.reshape(shape)
            raise ModelFailure(
                f'model "{self.facts.name}" returned "{name}" with shape {array.shape}, declared is {shape}'
            )
        return array.copy()  # the function may write into its own array at the next call

    def guarded_call(self, function: Callable[..., Any], given: Mapping[str, Any]) -> Any:
        """Call with a time limit, what it prints going to standard error. Raises ModelFailure for any failure."""
        began = time.perf_counter()
        try:
            for attempt in range(1, self.tries + 1):
                with (
                    contextlib.suppress(*([_TooSlow] if attempt < self.tries else [])),
                    _standard_output_apart(),
                    _time_limit(self.facts.timeout, ends_hangs=self.ends_hangs),
                ):
                    return function(**given)
        except _TooSlow:
            self.was_slow = True
            twice = ", twice" if self.tries > 1 else ""
            self.last_trouble = (
                f'model "{self.facts.name}" took longer than its timeout of {self.facts.timeout:g} s{twice}'
            )
            raise ModelFailure(self.last_trouble) from None
        except CannotFollow as error:
            raise CannotFollow(f"{error}{self.place_of(error)}") from None
        except (ModelFailure, ProblemError):
            raise
        except (Exception, SystemExit) as error:
            if isinstance(error.__cause__ or error.__context__, CannotFollow):  # NumPy wraps it in errors of its own
                raise CannotFollow(f"{error.__cause__ or error.__context__}{self.place_of(error)}") from None
            place = self.place_of(error)
            told = str(error).splitlines()[0][:200] if str(error) else ""
            raise ModelFailure(
                f'model "{self.facts.name}" raised {type(error).__name__}{place}' + (f": {told}" if told else "")
            ) from None
        finally:
            took = time.perf_counter() - began
            self.seconds += took
            self.quickest = min(self.quickest, took)

    def place_of(self, error: BaseException) -> str:
        """Return " (file.py:line)" of the function's line that an exception passed, "" where it passed none."""
        frames = traceback.extract_tb(error.__traceback__)
        own = [frame for frame in frames if frame.filename == str(self.facts.path)]
        return f" ({self.facts.path.name}:{own[-1].lineno})" if own else ""

    def ready(self) -> None:
        """Import the files of the model's functions. Raises ProblemError."""
        self.function(self.facts.path, self.facts.function)
        if self.facts.slopes_path is not None:
            self.function(self.facts.slopes_path, self.facts.slopes)

    def function(self, path: Path, name: str) -> Callable[..., Any]:
        """Return a function of a file, importing the file at the first time. Raises ProblemError."""
        key = f"{path}:{name}"
        if key not in self._functions:
            file, line = self.facts.place
            try:
                function = getattr(_module(path), name)
            except ProblemError:
                raise
            except AttributeError:
                raise ProblemError(
                    f'{path.name} has no function "{name}"', file=file, line=line, where=f"models.{self.facts.name}"
                ) from None
            except Exception as error:
                raise ProblemError(
                    f"{path.name} cannot be imported: {type(error).__name__}: {error}",
                    file=file,
                    line=line,
                    where=f"models.{self.facts.name}",
                ) from None
            self._functions[key] = function
        return self._functions[key]


def is_banded(facts: ModelFacts) -> bool:
    """Return whether all outputs are vectors with a declared band, and some input has their length."""
    return all(name in facts.bands and len(shape) == 1 for name, shape in facts.outputs) and any(
        all(shape == out for _, out in facts.outputs) for _, shape in facts.inputs
    )


_MODULES: dict[tuple[Path, int], Any] = {}


def _module(path: Path) -> Any:
    """Import a file once per content; its own folder is importable for it."""
    path = path.resolve()
    key = (path, path.stat().st_mtime_ns)
    if key not in _MODULES:
        name = f"ilvren_model_{path.stem}_{len(_MODULES)}"
        spec = importlib.util.spec_from_file_location(name, path)
        if spec is None or spec.loader is None:
            raise ImportError(f"{path} is no Python file")
        module = importlib.util.module_from_spec(spec)
        folder = str(path.parent)
        if folder not in sys.path:
            sys.path.append(folder)
        sys.modules[name] = module
        spec.loader.exec_module(module)
        _MODULES[key] = module
    return _MODULES[key]


def _key_of(inputs: Sequence[Array]) -> bytes:
    return b"".join(np.ascontiguousarray(value).tobytes() + value.dtype.char.encode() for value in inputs)


@contextlib.contextmanager
def _standard_output_apart() -> Iterator[None]:
    """Send to standard error what is printed inside, by Python or by whatever it starts."""
    sys.stdout.flush()
    try:
        kept = os.dup(1)
    except OSError:  # there is no standard output
        with contextlib.redirect_stdout(sys.stderr):
            yield
        return
    try:
        with contextlib.suppress(OSError):
            os.dup2(2, 1)
        with contextlib.redirect_stdout(sys.stderr):
            yield
    finally:
        os.dup2(kept, 1)
        os.close(kept)


@contextlib.contextmanager
def _time_limit(seconds: float | None, *, ends_hangs: bool = False) -> Iterator[None]:
    """Stop what runs inside after so many seconds. Signals reach the main thread only: elsewhere nothing stops. Code
    that does not come back to Python cannot be stopped; with `ends_hangs` it ends the process, a little later."""
    if seconds is None or threading.current_thread() is not threading.main_thread() or not hasattr(signal, "setitimer"):
        yield
        return

    def stop(*_: object) -> None:
        raise _TooSlow

    before = signal.signal(signal.SIGALRM, stop)
    signal.setitimer(signal.ITIMER_REAL, seconds)
    if ends_hangs:
        faulthandler.dump_traceback_later(seconds + HANG_GRACE_SECONDS, exit=True)
    try:
        yield
    finally:
        if ends_hangs:
            faulthandler.cancel_dump_traceback_later()
        signal.setitimer(signal.ITIMER_REAL, 0.0)
        signal.signal(signal.SIGALRM, before)


def _first_bad(value: Array) -> str:
    flat = np.ravel(value)
    return str(flat[~np.isfinite(flat)][0])


class _Point:
    """Inputs and outputs of one call; its Jacobian (output size, input size) is computed when asked for."""

    def __init__(self, inputs: list[Array], outputs: list[Array], reason: str, *, is_spoilt: bool = False) -> None:
        self.inputs = inputs
        self.outputs = outputs
        self.reason = reason
        self.is_spoilt = is_spoilt
        self.jacobian: Any = None


class Call:
    """What formulas see of a call, or of a batch of calls."""

    def __init__(self, runner: Runner, points: list[_Point], *, is_batch: bool) -> None:
        self._runner = runner
        self._points = points
        self._is_batch = is_batch

    @property
    def inputs(self) -> list[Array]:
        """Return the inputs of the first point."""
        return self._points[0].inputs

    @property
    def reason(self) -> str:
        """Return why an output is not finite, "" when all are."""
        return next((point.reason for point in self._points if point.reason), "")

    @property
    def is_spoilt(self) -> bool:
        """Return whether the function was not called, its inputs not being finite or nothing needing it."""
        return self._points[0].is_spoilt and not self._is_batch

    def output(self, place: object) -> Array:
        """Return an output by its place."""
        assert isinstance(place, int)
        if self._is_batch:
            return np.stack([point.outputs[place] for point in self._points])
        return self._points[0].outputs[place]

    def _jacobian(self, point: _Point) -> Any:
        from ilvren.models.slopes import jacobian

        if point.jacobian is None:
            facts = self._runner.facts
            if point.is_spoilt or point.reason:
                point.jacobian = np.full((facts.output_size, facts.input_size), np.nan)
            else:
                try:
                    point.jacobian = jacobian(self._runner, point.inputs, point.outputs)
                except ModelFailure as failure:
                    point.reason = f"{failure}, asked for its derivatives ({facts.derivatives})"
                    if point.reason not in self._runner.notes and len(self._runner.notes) < MOST_NOTES:
                        self._runner.notes.append(point.reason)
                    point.jacobian = np.full((facts.output_size, facts.input_size), np.nan)
                self._runner.widen(point.jacobian)
        return point.jacobian

    def pattern(self) -> Any:
        """Return which outputs depend on which inputs, as known so far: from the derivatives at this point, and at
        all points before. None when all may."""
        self._jacobian(self._points[0])
        return self._runner.pattern

    def pull(self, detail: tuple[int, tuple[int, ...]], adjoints: Sequence[Array]) -> Array:
        """Return the adjoint of an input: Σ over outputs of their Jacobian, transposed, times their adjoint.
        `detail` is (place of the input, places of the outputs)."""
        place, places = detail
        return self._product(adjoints, places, (place,), of=self._runner.facts.outputs, to=self._runner.facts.inputs)

    def push(self, detail: tuple[int, tuple[int, ...]], tangents: Sequence[Array]) -> Array:
        """Return the change of an output for changes of inputs. `detail` is (place of the output, of the inputs)."""
        place, places = detail
        return self._product(
            tangents, places, (place,), of=self._runner.facts.inputs, to=self._runner.facts.outputs, forward=True
        )

    def _product(
        self,
        given: Sequence[Array],
        places: tuple[int, ...],
        wanted: tuple[int],
        *,
        of: Sequence[tuple[str, Shape]],
        to: Sequence[tuple[str, Shape]],
        forward: bool = False,
    ) -> Array:
        shapes = [of[place][1] for place in places]
        given = [np.asarray(value, dtype=float) for value in given]
        batch = next(
            (len(value) for value, shape in zip(given, shapes, strict=True) if value.ndim > len(shape)),
            len(self._points) if self._is_batch else None,
        )
        count = batch or 1
        starts = np.concatenate([[0], np.cumsum([math.prod(shape) for _, shape in of])])
        block = np.zeros((count, int(starts[-1])))
        for value, shape, place in zip(given, shapes, places, strict=True):
            lead = (count,) if value.ndim > len(shape) else (1,)
            block[:, starts[place] : starts[place + 1]] = value.reshape(*lead, -1)
        if self._is_batch:
            rows = [self._times(self._jacobian(p), block[i], forward) for i, p in enumerate(self._points)]
            found = np.array(rows)
        else:
            found = self._times(self._jacobian(self._points[0]), block, forward)
        ends = np.concatenate([[0], np.cumsum([math.prod(shape) for _, shape in to])])
        shape = to[wanted[0]][1]
        part = found[:, ends[wanted[0]] : ends[wanted[0] + 1]]
        return part.reshape(count, *shape) if batch is not None else part.reshape(shape)

    @staticmethod
    def _times(matrix: Any, block: Array, forward: bool) -> Array:
        return np.asarray(block @ (matrix.T if forward else matrix))
