"""A model that is a program, or several in turn: decks written into a fresh folder, values read from what is left."""

from __future__ import annotations

import contextlib
import hashlib
import json
import math
import re
import shutil
import time
from collections.abc import Mapping, Sequence
from dataclasses import field, replace
from functools import cached_property
from pathlib import Path
from typing import Any

import numpy as np
from numpy.typing import NDArray

from ilvren.models.program.decks import Deck, Texts, filled, plain_value
from ilvren.models.program.reading import Found, Missing, Reading, read_values
from ilvren.models.program.running import (
    LOG,
    STDERR,
    STDOUT,
    CannotRun,
    Ran,
    found_program,
    inside,
    laid_out,
    run_commands,
    slot,
)
from ilvren.models.program.shown import cells
from ilvren.models.program.wardens import warden
from ilvren.models.program.writing import CannotWrite
from ilvren.models.source import DIFFERENCES, Outcome, Question
from ilvren.records import dataclass
from ilvren.regular import regular_text

__all__ = ["KEEPS", "ProgramCall", "ProgramSource"]

Array = NDArray[Any]
Shape = tuple[int, ...]

# Which folders of calls stay, and how many of one model at most.
KEEPS = ("none", "failed", "all")
MOST_FOLDERS = 100
# So many of a program's last lines are told when a call fails, and so much of each.
LAST_LINES, LINE_LENGTH = 2, 100
# A message names so many inputs.
MOST_TOLD = 6


@dataclass(frozen=True)
class ProgramCall:
    """What came of one call: `found` are the values with their places, by output and by (output, input) of slopes;
    `status` and `trouble` as in `Outcome`; `folder` where it stayed ("" where it did not), `texts` what was written."""

    status: str
    found: Mapping[Any, Found] = field(default_factory=dict)
    trouble: str = ""
    seconds: float = 0.0
    folder: str = ""
    texts: Texts | None = None


@dataclass(frozen=True, kw_only=True)
class ProgramSource:
    """Commands with what they are given and what they leave; the other fields as in `models.source.ModelSource`.

    `base` is the folder of the problem file; `files` are copied and `links` linked; `words` are the words of inputs
    that are choices, `failures` what in which file says that a call failed, `slopes` readings of derivatives by
    (output, input) or their value; `still` names inputs that no variable moves; `store` is where folders that stay
    are moved."""

    name: str
    base: Path
    commands: tuple[tuple[str, ...], ...]
    inputs: tuple[tuple[str, Shape], ...]
    outputs: tuple[tuple[str, Shape], ...]
    decks: tuple[Deck, ...] = ()
    readings: tuple[Reading, ...] = ()
    slopes: Mapping[tuple[str, str], Reading | float] = field(default_factory=dict)
    files: tuple[str, ...] = ()
    links: tuple[str, ...] = ()
    environment: Mapping[str, str] = field(default_factory=dict)
    failures: tuple[tuple[str, str], ...] = ()
    success: tuple[int, ...] = (0,)
    timeout: float | None = None
    retries: int = 0
    parallel: int | None = None
    keep: str = "failed"
    is_repeatable: bool = True
    still: frozenset[str] = frozenset()
    words: Mapping[str, tuple[str, ...]] = field(default_factory=dict)
    store: Path = Path()
    place: tuple[str, int | None] = ("", None)
    derivatives: str = DIFFERENCES
    is_strict: bool = True
    bands: Mapping[str, int] = field(default_factory=dict)

    # What the calls of a run do with it: it runs in processes of its own, and what fails is tried again.
    is_apart = True
    tried_again = frozenset({"slow", "failed", "unread"})

    @property
    def code_files(self) -> tuple[Path, ...]:
        """Return the programs that are named with a folder; those found by name alone are the machine's own."""
        return tuple(self.base / command[0] for command in self.commands if len(Path(command[0]).parts) > 1)

    @property
    def told(self) -> str:
        """Return the commands."""
        return "; ".join(" ".join(command) for command in self.commands)

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
        """Return whether derivatives are read with the values."""
        return bool(self.slopes)

    # ---- what decides it ----------------------------------------------------------------------------

    def _programs(self) -> list[Path]:
        """Return the programs that are not among the copied files, where they are found."""
        copied = {inside(name) for name in (*self.files, *self.links)}
        found = []
        for command in self.commands:
            if str(Path(command[0])) not in copied:
                program = found_program(command[0], self.base / ".no-such-folder", self.environment.get("PATH"))
                if program is not None:
                    found.append(Path(program))
        return found

    def hashes(self) -> dict[str, str]:
        """Return {file name: hash of its content} of all files that decide the result."""
        paths = {name: self.base / name for name in (*self.files, *self.links)}
        paths |= {path.name: path for path in self._programs()}
        # What decks are made from is a part of the problem, and stored with it: `apply` may have changed the file.
        found = {deck.file: hashlib.sha256(deck.text.encode()).hexdigest()[:16] for deck in self.decks}
        for name, path in sorted(paths.items()):
            if path.is_dir():
                found |= {
                    f"{name}/{own.relative_to(path)}": _hash(own) for own in sorted(path.rglob("*")) if own.is_file()
                }
            else:
                found[name] = _hash(path)
        return found

    def identity(self) -> str:
        """Return a hash of the programs, what they are given beside the decks, and what is read: equal decks give equal
        answers, whatever wrote them."""
        decks = {deck.file for deck in self.decks}
        said = [
            {name: digest for name, digest in self.hashes().items() if name not in decks},
            [repr(reading) for reading in self.readings],
            [(key, repr(reading)) for key, reading in sorted(self.slopes.items())],
            sorted(self.environment.items()),
            self.failures,
            self.success,
            self.outputs,
            self.inputs if self.slopes else (),
        ]
        return hashlib.sha256(json.dumps(said).encode()).hexdigest()[:16]

    def stamps(self) -> dict[str, int]:
        """Return {path: time of its last change} of the files that calls are given, 0 for one that is not there."""
        paths = [self.base / name for name in (*self.files, *self.links)]
        return {str(path): path.stat().st_mtime_ns if path.exists() else 0 for path in paths}

    def is_here(self) -> bool:
        """Return whether its files are on this machine."""
        return all((self.base / name).exists() for name in (*self.files, *self.links))

    def with_derivatives(self, word: str) -> ProgramSource:
        """Return the same programs, differentiated another way."""
        return replace(self, derivatives=word)

    # ---- what is written ----------------------------------------------------------------------------

    def values_of(self, inputs: Sequence[Array]) -> dict[str, Any]:
        """Return inputs as decks take them: numbers, nested lists, words of choices. They have the shapes of the
        inputs."""
        found = {}
        for (name, _), value in zip(self.inputs, inputs, strict=True):
            found[name] = plain_value(value)
            if name in self.words:
                found[name] = self.words[name][round(float(value)) - 1]
        return found

    def texts(self, inputs: Sequence[Array]) -> Texts:
        """Return what a call at these inputs is given. Raises CannotWrite. They have the shapes of the inputs."""
        values = self.values_of(inputs)
        decks = {deck.target: deck.written(values) for deck in self.decks}
        return Texts(decks, tuple(filled(command, values) for command in self.commands))

    def key(self, inputs: Sequence[Array]) -> bytes:
        """Return what tells the call at these inputs from every other: what it is given. They have the shapes of the
        inputs."""
        try:
            return self.texts(inputs).key
        except CannotWrite:
            return b"no deck:" + b"".join(np.ascontiguousarray(value).tobytes() for value in inputs)

    def shown(self, inputs: Sequence[Array], places: Sequence[int]) -> Array:
        """Return (k, 2): the value that the decks show of each input element at `places`, and their resolution there,
        infinite where it is not shown."""

        def key(at: Sequence[Array]) -> bytes | None:
            try:
                return self.texts(at).key
            except CannotWrite:
                return None

        return cells(key, inputs, places)

    # ---- calling ------------------------------------------------------------------------------------

    def asked(self, question: Question) -> Outcome:
        """Answer by running the programs; slopes that are read come behind the outputs, as one Jacobian."""
        if question.kind == "ready":
            trouble = self._unready()
            return Outcome("broken", None, trouble) if trouble else Outcome("done")
        if question.kind != "values":
            return Outcome("unfollowable", None, f'model "{self.name}" is a program: it gives values only')
        call = self.called(question.inputs)
        if call.status != "done":
            return Outcome(call.status, None, call.trouble, call.seconds, folder=call.folder)
        answer = [call.found[name].value for name, _ in self.outputs]
        if self.slopes:
            answer.append(self.jacobian_of(call.found))
        return Outcome("done", answer, "", call.seconds, folder=call.folder)

    def _unready(self) -> str:
        """Return why it cannot be asked at all, "" where it can."""
        copied = {inside(name) for name in (*self.files, *self.links)}
        gone = next((name for name in (*self.files, *self.links) if not (self.base / name).exists()), None)
        if gone is not None:
            return f'model "{self.name}" needs {gone}, which is not there: {self.base / gone}'
        for command in self.commands:
            if str(Path(command[0])) in copied or any(command[0].startswith(f"{name}/") for name in copied):
                continue
            if found_program(command[0], self.base / ".no-such-folder", self.environment.get("PATH")) is None:
                beside = (self.base / command[0]).is_file()
                advice = f': files = ["{Path(command[0])}"] brings it there' if beside else ""
                return (
                    f'the program "{command[0]}" of model "{self.name}" is neither among its files nor on the path'
                    + advice
                )
        return ""

    def called(self, inputs: Sequence[Array], *, into: Path | None = None) -> ProgramCall:
        """Run the programs at these inputs, in a fresh folder or in the one given (which stays), and return what came
        of it with every value's place. They have the shapes of the inputs."""
        began = time.monotonic()
        try:
            texts = self.texts(inputs)
        except CannotWrite as error:
            trouble = f'model "{self.name}"{self._at(inputs)}: {error}'
            return ProgramCall("failed", {}, trouble, time.monotonic() - began)
        folder = into or warden().folder()
        call = ProgramCall("failed")
        try:
            with slot(f"{self.base.resolve()}|{self.name}", self.parallel):
                began = time.monotonic()
                call = self._called(texts, folder)
            call = replace(call, seconds=time.monotonic() - began, texts=texts)
        finally:
            kept = str(folder) if into is not None else self._cleared(folder, call)
        if call.status not in ("done", "broken"):
            kept_at = f"; folder: {kept}" if kept else ""
            if not kept and self.keep != "none" and self._is_full():
                kept_at = f"; folder not kept: {MOST_FOLDERS} are in {self.store / self.name}, remove some"
            call = replace(call, trouble=f'model "{self.name}"{self._at(inputs)}: {call.trouble}{kept_at}')
        return replace(call, folder=kept)

    def _at(self, inputs: Sequence[Array]) -> str:
        """Return the inputs that variables move, as messages name them."""
        told = []
        for (name, shape), value in zip(self.inputs, inputs, strict=True):
            if name in self.words:
                told.append(f"{name} = {self.words[name][round(float(value)) - 1]}")
            elif name not in self.still and value.size:
                told.append(f"{name} = [{np.ravel(value)[0]:.4g}, …]" if shape else f"{name} = {float(value):.6g}")
        return " at " + ", ".join(told[:MOST_TOLD]) + (", …" if len(told) > MOST_TOLD else "") if told else ""

    def _called(self, texts: Texts, folder: Path) -> ProgramCall:
        try:
            laid_out(folder, self.base, self.files, self.links)
            for target, text in texts.decks.items():
                path = folder / target
                path.parent.mkdir(parents=True, exist_ok=True)
                path.write_bytes(text.encode())
            given = {name: _stamp(folder / name) for name in self._own_reads()}
            ran = run_commands(
                texts.commands,
                folder,
                environment=self.environment,
                timeout=self.timeout,
                success=self.success,
            )
        except CannotRun as error:
            return ProgramCall("broken", {}, f'model "{self.name}": {error}')
        except OSError as error:
            return ProgramCall("failed", {}, f"its folder cannot be written: {error.strerror or error}")
        if ran.status is None:
            told = f"took longer than its timeout of {self.timeout:g} s{self._last_lines(folder)}"
            return ProgramCall("slow", {}, told)
        streams = {"stdout": _text(folder / STDOUT), "stderr": _text(folder / STDERR)}
        trouble = self._failure(ran, folder, streams)
        if trouble:
            return ProgramCall("failed", {}, trouble + self._last_lines(folder))
        stale = next((name for name, stamp in given.items() if stamp and stamp == _stamp(folder / name)), None)
        try:
            if stale is not None:
                raise Missing(f"{stale} is as it was before the call: the program has not written it")
            found = read_values(self._all_readings(), folder, streams)
        except Missing as error:
            return ProgramCall("unread", {}, str(error))
        split = {tuple(name.split("|")) if "|" in name else name: value for name, value in found.items()}
        return ProgramCall("done", split)

    def _all_readings(self) -> list[Reading]:
        own = [
            replace(reading, name="|".join(pair))
            for pair, reading in self.slopes.items()
            if isinstance(reading, Reading)
        ]
        return [*self.readings, *own]

    def _own_reads(self) -> set[str]:
        """Return what is read of the files that a call is given."""
        given = {inside(name) for name in (*self.files, *self.links)} | {deck.target for deck in self.decks}
        return {reading.file for reading in self._all_readings()} & given

    def _failure(self, ran: Ran, folder: Path, streams: Mapping[str, str]) -> str:
        """Return how a call failed, "" where it did not."""
        assert ran.status is not None
        command = " ".join(ran.command)[:80]
        if ran.status not in self.success:
            if ran.status < 0:
                return f'"{command}" was ended by signal {-ran.status}'
            return f'"{command}" ended with status {ran.status}'
        for file, pattern in self.failures:
            text = streams.get(file) if file in streams else _text(folder / file)
            for number, line in enumerate((text or "").splitlines(), start=1):
                if re.search(pattern, line):
                    return f"{file}:{number} says that it failed: {line.strip()[:LINE_LENGTH]}"
        return ""

    def _last_lines(self, folder: Path) -> str:
        """Return the last lines of the program's output, for a message."""
        for name in (STDERR, STDOUT):
            lines = [line.strip() for line in _text(folder / name).splitlines() if line.strip()]
            if lines:
                return "; its last words: " + " | ".join(line[:LINE_LENGTH] for line in lines[-LAST_LINES:])
        return ""

    def _cleared(self, folder: Path, call: ProgramCall) -> str:
        """Remove a call's folder, or move it where it stays and return that."""
        stays = self.keep == "all" or (self.keep == "failed" and call.status not in ("done", "broken"))
        if stays and self.store != Path():
            target = self._target(folder)
            if target is not None:
                self._log(folder, call)
                try:
                    target.parent.mkdir(parents=True, exist_ok=True)
                    shutil.move(folder, target)
                    return str(target)
                except OSError:
                    pass
        shutil.rmtree(folder, ignore_errors=True)
        return ""

    def _target(self, folder: Path) -> Path | None:
        """Return where a folder is moved: named by the process and the call; None when enough are there."""
        if self._is_full():
            return None
        return self.store / self.name / f"{folder.parent.name.removeprefix('ilvren-')}-{folder.name}"

    def _is_full(self) -> bool:
        """Return whether as many folders are kept as ever are."""
        if self.store == Path():
            return False
        try:
            return sum(1 for _ in (self.store / self.name).iterdir()) >= MOST_FOLDERS
        except OSError:
            return False

    def _log(self, folder: Path, call: ProgramCall) -> None:
        lines = [f"model    {self.name}", f"outcome  {call.status}", f"seconds  {call.seconds:.3f}"]
        lines += [f"command  {json.dumps(command)}" for command in (call.texts.commands if call.texts else ())]
        lines += [f"trouble  {call.trouble}"] if call.trouble else []
        lines += [
            f"value    {name if isinstance(name, str) else ' by '.join(name)} = {found.value.tolist()}  {found.place}"
            for name, found in call.found.items()
        ]
        with contextlib.suppress(OSError):
            (folder / LOG).write_text("\n".join(lines) + "\n", encoding="utf-8")

    def jacobian_of(self, found: Mapping[Any, Found]) -> Array:
        """Return the Jacobian (outputs, inputs) of the slopes that were read."""
        blocks = []
        for output, out_shape in self.outputs:
            row = []
            for name, shape in self.inputs:
                size = (math.prod(out_shape), math.prod(shape))
                slope = self.slopes.get((output, name), 0.0)
                value = found[output, name].value if isinstance(slope, Reading) else np.full(size, slope)
                row.append(value.reshape(size))
            blocks.append(np.hstack(row) if row else np.zeros((math.prod(out_shape), 0)))
        return np.vstack(blocks)


def _hash(path: Path) -> str:
    try:
        with path.open("rb") as file:
            return hashlib.file_digest(file, "sha256").hexdigest()[:16]
    except OSError:
        return "missing"


def _text(path: Path) -> str:
    try:
        return regular_text(path, errors="replace")
    except OSError:
        return ""


def _stamp(path: Path) -> tuple[int, int, int] | None:
    try:
        stat = path.stat()
    except OSError:
        return None
    return stat.st_mtime_ns, stat.st_size, stat.st_ino
