"""A design written where the work goes on: into the decks of its programs, the problem file's starts, and another
problem's parameters.

Nothing else of the user's changes: what a file was is kept as a numbered copy, and everything in it that is not one of
the design's numbers stays as it was. Then the programs are run from the written files, and what they give is held
against the record.
"""

from __future__ import annotations

import contextlib
import difflib
import math
import os
import shutil
from collections.abc import Mapping, Sequence
from dataclasses import replace
from pathlib import Path
from typing import TYPE_CHECKING, Any

import numpy as np
from numpy.typing import NDArray

from ilvren.errors import InputError, MachineError, ProblemError, RequestError, nearest
from ilvren.models import Calls, NotOnRecord, ProgramSource
from ilvren.models.program import CannotWrite, Deck, inside, placed_at
from ilvren.problem import Problem, VariableBlock, element_name, load, loads, unfixed_problem
from ilvren.records import dataclass
from ilvren.regular import regular_bytes
from ilvren.runs.shelf import RunShelf

if TYPE_CHECKING:
    from ilvren.ledger import Ledger, RunRecord

__all__ = [
    "Change",
    "ReturnedValue",
    "WrittenFile",
    "decks_at",
    "fixed_at",
    "parameters_at",
    "returned_values",
    "starts_at",
    "write_files",
]

FloatArray = NDArray[np.float64]

MOST_COPIES = 10_000


@dataclass(frozen=True)
class Change:
    """A number that a file gets: what it was `before` (None where nothing says so), and its unit."""

    name: str
    before: float | str | None
    after: float | str
    unit: str


@dataclass(frozen=True)
class WrittenFile:
    """A file to be written: its path, its text before (None for a new one) and after, and the changed values."""

    path: Path
    before: str | None
    after: str
    changes: tuple[Change, ...]

    @property
    def is_changed(self) -> bool:
        """Return whether anything in it changes."""
        return self.before != self.after

    def diff(self) -> list[str]:
        """Return the lines that change, as unified differences."""
        before = (self.before or "").splitlines()
        found = difflib.unified_diff(before, self.after.splitlines(), "before", "after", lineterm="", n=1)
        return list(found)[2:]


@dataclass(frozen=True)
class ReturnedValue:
    """A program's value from the written files, `recorded` for the design (None where it is not on record), and their
    relative `deviation`."""

    name: str
    value: Any
    recorded: Any
    deviation: float | None
    unit: str


def _inputs_at(problem: Problem, point: Sequence[float], calls: Sequence[Calls]) -> dict[int, list[FloatArray]]:
    """Return {number of a model: its inputs} at a design, of those that are called once: not at every moment."""
    nodes = {node.index: node.operands for node in problem.graph.nodes if node.operation == "call"}
    found: dict[int, list[FloatArray]] = {}
    for place, source in enumerate(problem.sources):
        if place not in nodes:
            continue
        values = problem.entry_values(list(nodes[place]), point, calls).values
        found[place] = [
            np.broadcast_to(np.asarray(value, dtype=float), shape)
            for value, (_, shape) in zip(values, source.inputs, strict=True)
        ]
    return found


def recorded_calls(problem: Problem, ledger: Ledger, record: RunRecord, *, only: bool) -> tuple[Calls, ...]:
    """Return calls answered from the record, and by it alone with `only`."""
    calls = problem.calls()
    for own in calls:
        own.shelf, own.is_closed = RunShelf(ledger, record.number, problem, is_fresh=False), only
    return calls


def decks_at(
    problem: Problem, point: Sequence[float], ledger: Ledger, record: RunRecord, into: Path | None
) -> tuple[list[WrittenFile], dict[int, list[FloatArray]]]:
    """Return the decks of a design, in the folders of their models or `into` one, and each model's inputs. Raises
    RequestError where a value cannot be written."""
    try:
        inputs = _inputs_at(problem, point, recorded_calls(problem, ledger, record, only=True))
    except NotOnRecord:  # a model that feeds another is called once more
        inputs = _inputs_at(problem, point, recorded_calls(problem, ledger, record, only=False))
    files: list[WrittenFile] = []
    for place, source in enumerate(problem.sources):
        if not isinstance(source, ProgramSource):
            continue
        baseline = None
        for deck in source.decks:
            try:
                text = deck.written(source.values_of(inputs[place]))
            except CannotWrite as error:
                raise RequestError(f'the deck {deck.target} of model "{source.name}": {error}') from None
            path = (into or source.base) / deck.target
            if any(one.path == path and one.after != text for one in files):
                raise RequestError(
                    f"two models write {deck.target}, and not the same", advice="write one of them with --into FOLDER"
                )
            if baseline is None:
                with contextlib.suppress(NotOnRecord, ProblemError):
                    baseline = _inputs_at(
                        problem, problem.baseline, recorded_calls(problem, ledger, record, only=True)
                    )[place]
            changes = _changes(problem, source, deck, inputs[place], baseline)
            files.append(WrittenFile(path, _text(path), text, changes))
    return files, inputs


def _changes(
    problem: Problem, source: ProgramSource, deck: Deck, inputs: list[FloatArray], baseline: list[FloatArray] | None
) -> tuple[Change, ...]:
    """Return the numbers of a deck: before, those of its base, or of the baseline for a template."""
    units = {block.name: block.unit for block in problem.blocks} | problem.quantity_units
    units |= {item.name: item.unit for item in problem.parameters}
    found = []
    puts = None if deck.puts is None else {put.name: put for put in deck.puts}
    for place, (name, shape) in enumerate(source.inputs):
        if puts is not None and name not in puts:
            continue
        if puts is None and name in source.still:
            continue
        before: list[float | None] = [None] * math.prod(shape)
        if puts is not None:
            spots = placed_at(deck.text, puts[name], math.prod(shape))
            before = [_plain_number(text) for _, text in spots]
        elif baseline is not None:
            before = list(np.ravel(baseline[place]).tolist())
        words = source.words.get(name)
        for element, (was, value) in enumerate(zip(before, np.ravel(inputs[place]).tolist(), strict=True)):
            told = (was, float(value)) if words is None else (_word(words, was), _word(words, value))
            found.append(Change(element_name(name, shape, element), told[0], told[1] or 0.0, units.get(name, "")))
    return tuple(found)


def _word(words: Sequence[str], value: float | None) -> str | None:
    return None if value is None else words[round(value) - 1]


def _plain_number(text: str) -> float | None:
    from ilvren.models.program import as_number

    return as_number(text.strip())


def _text(path: Path) -> str | None:
    try:
        return regular_bytes(path).decode("utf-8", errors="replace")
    except FileNotFoundError:
        return None
    except OSError as error:
        raise RequestError(f"cannot be read: {error.strerror}", file=str(path)) from None


def starts_at(problem: Problem, point: Sequence[float], path: Path) -> WrittenFile:
    """Return the problem file with a design as its starts, comments and order kept; states on a grid and controls that
    are chosen at its every moment have none there. Raises RequestError."""
    text, document = _document(path)
    changes = []
    _refuse_differing(problem, point, path)
    # What a run held at a value stands in the file as it was.
    declared = unfixed_problem(problem).baseline if problem.aim.fix else problem.baseline
    moments = frozenset(problem.template.own_points)
    for block in problem.blocks:
        if block.is_grid or block.name in moments:
            continue
        own = slice(block.first, block.first + block.size)
        values, before = [float(x) for x in point[own]], [float(x) for x in declared[own]]
        section, name = _place_of_start(document, block.name, path)
        if values != before:
            new: Any = np.reshape(values, block.shape).tolist() if block.shape else block.shown(values[0])
            _set(section, name, "start", new)
            changes += _changed(block, before, values)
    return WrittenFile(path, text, document.as_string(), tuple(changes))


def fixed_at(problem: Problem, names: Sequence[str], path: Path) -> tuple[WrittenFile, tuple[str, ...]]:
    """Return the problem file with variables fixed at their starts, comments and order kept, and the names of those
    that could not be: parts of vectors, controls and first values. Raises RequestError."""
    text, document = _document(path)
    wanted, left, changes = set(names), [], []
    section = document.get("variables", {})
    for block in problem.blocks:
        elements = {element_name(block.name, block.shape, k) for k in range(block.size)}
        if not elements & wanted:
            continue
        if not elements <= wanted or block.name not in section:
            left += sorted(elements & wanted)
            continue
        entry = section[block.name]
        if not isinstance(entry, dict):  # a start alone
            left.append(block.name)
            continue
        values = [float(x) for x in problem.baseline[block.first : block.first + block.size]]
        if block.words or problem_has_members(problem, block.name):
            for key in ("choices", "catalogue", "spacing", "lower", "upper"):
                entry.pop(key, None)
            if block.words:  # a choice of one
                entry["choices"] = [block.shown(values[0])]
            else:
                entry["catalogue"] = [values[0]]
        else:
            new: Any = np.reshape(values, block.shape).tolist() if block.shape else values[0]
            entry["lower"] = entry["upper"] = new
        changes.append(Change(block.name, "free", f"fixed at {block.shown(values[0])}", block.unit))
    return WrittenFile(path, text, document.as_string(), tuple(changes)), tuple(left)


def problem_has_members(problem: Problem, name: str) -> bool:
    """Return whether a variable takes members only."""
    return any(variable.name.partition("[")[0] == name for _, variable in problem.grid)


def _document(path: Path) -> tuple[str, Any]:
    """Return a problem file's text, and what it says, to be changed in place. Raises RequestError."""
    import tomlkit
    from tomlkit.exceptions import TOMLKitError

    text = _text(path)
    if text is None:
        raise RequestError("the problem file is not there", file=str(path))
    try:
        return text, tomlkit.parse(text)
    except TOMLKitError as error:
        raise RequestError(f"is not valid TOML: {error}", file=str(path)) from None


def _set(section: Any, name: str, key: str, new: Any) -> None:
    """Set an entry's number, whether it is written alone or as a table."""
    entry = section[name]
    was = entry.get(key) if isinstance(entry, dict) else entry
    if isinstance(was, int) and isinstance(new, float) and new.is_integer():
        new = int(new)  # as the engineer writes it
    if isinstance(entry, dict):
        entry[key] = new
    else:
        section[name] = new


def _changed(block: VariableBlock, before: Sequence[float | str], values: Sequence[float]) -> list[Change]:
    return [
        Change(
            element_name(block.name, block.shape, k),
            block.shown(old) if isinstance(old, float) else old,
            block.shown(value),
            block.unit,
        )
        for k, (old, value) in enumerate(zip(before, values, strict=True))
        if old != value
    ]


def _place_of_start(document: Any, name: str, path: Path) -> tuple[Any, str]:
    """Return the section and the entry that declare a variable's start: its own, a control's, or a state's whose first
    value is free. Raises RequestError."""
    for section in ("variables", "controls"):
        if name in document.get(section, {}):
            return document[section], name
    state = name.removesuffix(".first").split("@")[0]
    if name.endswith(".first") and isinstance(document.get("states", {}).get(state), dict):
        return document["states"], state
    raise RequestError(f'has no variable "{name}" any more', file=str(path))


def _refuse_differing(problem: Problem, point: Sequence[float], path: Path) -> None:
    """Refuse first values of a state that differ between cases: one entry declares them all."""
    seen: dict[str, list[float]] = {}
    for block in problem.blocks:
        if block.name.endswith(".first"):
            state = block.name.removesuffix(".first").split("@")[0]
            values = [float(x) for x in point[block.first : block.first + block.size]]
            if seen.setdefault(state, values) != values:
                raise RequestError(
                    f'the first values of "{state}" differ between the cases, and its one "start" cannot hold them',
                    file=str(path),
                    advice="start from this design with --start, or continue the run with `ilvren resume`",
                )


def parameters_at(problem: Problem, point: Sequence[float], path: Path) -> tuple[WrittenFile, tuple[str, ...]]:
    """Return another problem file with the variables of a design as its parameters of these names, comments and order
    kept; and the variables that it has no parameter for. Raises RequestError, also where the file would not be a
    problem any more."""
    text, document = _document(path)
    try:
        load(path)
    except InputError as error:
        raise RequestError(f"is no problem file as it is: {error}", file=str(path)) from None
    parameters = document.get("parameters", {})
    changes: list[Change] = []
    others = []
    for block in problem.blocks:
        if block.name not in parameters:
            others.append(block.name)
            continue
        values = [float(x) for x in point[block.first : block.first + block.size]]
        entry = parameters[block.name]
        key = "formula" if isinstance(entry, dict) and "formula" in entry else "value"
        was: Any = entry.get(key) if isinstance(entry, dict) else entry
        unit = str(entry.get("unit", "")) if isinstance(entry, dict) else ""
        where = f"parameters.{block.name}"
        if isinstance(was, str) and not block.words:
            raise RequestError(
                f'"{block.name}" is a formula there: "{was}"',
                file=str(path),
                where=where,
                advice="write a number first",
            )
        if unit and block.unit and unit != block.unit:
            raise RequestError(
                f'"{block.name}" is in {unit} there, and in {block.unit} in the run',
                file=str(path),
                where=where,
                advice="give both the same unit",
            )
        if np.shape(was) != block.shape:
            raise RequestError(f'"{block.name}" has another shape there', file=str(path), where=where)
        before = [was] if isinstance(was, str) else np.ravel(np.asarray(was, dtype=float)).tolist()
        own = [block.shown(value) if isinstance(was, str) else value for value in values]
        if before != own:
            _set(parameters, block.name, key, np.reshape(values, block.shape).tolist() if block.shape else own[0])
            changes += _changed(block, before, values)
    if len(others) == len(problem.blocks):
        close = nearest(others[0], parameters)
        known = ", ".join(list(parameters)[:12]) or "none"
        advice = f'did you mean "{close}" by "{others[0]}"?' if close else f"its parameters: {known}"
        raise RequestError("none of the run's variables is a parameter there", file=str(path), advice=advice)
    after = document.as_string()
    try:
        loads(after, file=str(path))
    except InputError as error:
        raise RequestError(f"would not be a problem with these parameters: {error}", file=str(path)) from None
    return WrittenFile(path, text, after, tuple(changes)), tuple(others)


def write_files(files: Sequence[WrittenFile]) -> dict[Path, Path | None]:
    """Write files, keeping what each was as a numbered copy; return {path: its copy}. Raises MachineError, with nothing
    half written."""
    kept: dict[Path, Path | None] = {}
    for file in files:
        if not file.is_changed:
            continue
        partial = file.path.with_name(f".{file.path.name}.part")
        try:
            file.path.parent.mkdir(parents=True, exist_ok=True)
            partial.write_bytes(file.after.encode())
            copy = None
            if file.before is not None:
                copy = _free_copy(file.path)
                shutil.copy2(file.path, copy)
                shutil.copymode(file.path, partial)
            os.replace(partial, file.path)
        except OSError as error:
            with contextlib.suppress(OSError):
                partial.unlink()
            raise MachineError(f"{file.path} cannot be written: {error.strerror or error}") from None
        kept[file.path] = copy
    return kept


def _free_copy(path: Path) -> Path:
    for number in range(1, MOST_COPIES):
        copy = path.with_name(f"{path.name}.{number}")
        if not copy.exists():
            return copy
    raise MachineError(f"{path} has {MOST_COPIES} copies already")


def copy_along(problem: Problem, into: Path) -> list[str]:
    """Copy the files that programs need beside their decks into a folder, those that are not there; return them."""
    copied = []
    for source in problem.sources:
        if isinstance(source, ProgramSource):
            for name in (*source.files, *source.links):
                target = into / inside(name)
                if not target.exists():
                    target.parent.mkdir(parents=True, exist_ok=True)
                    own = source.base / name
                    (shutil.copytree if own.is_dir() else shutil.copy2)(own, target)
                    copied.append(str(target))
    return copied


def returned_values(
    problem: Problem,
    inputs: Mapping[int, list[FloatArray]],
    files: Sequence[WrittenFile],
    recorded: Mapping[str, Any],
    into: Path | None,
) -> list[ReturnedValue]:
    """Run the programs from the written files and return their values beside those on record. Raises RequestError where
    one fails. Inputs have the shapes that are declared."""
    if problem.refusal:
        raise RequestError(problem.refusal, advice="look at what it is, and add --trust to run it")
    found = []
    units = problem.quantity_units
    for place, source in enumerate(problem.sources):
        if not isinstance(source, ProgramSource):
            continue
        decks = []
        for deck in source.decks:
            text = _text((into or source.base) / deck.target)
            assert text is not None
            decks.append(Deck(deck.target, deck.file, text, ()))
        call = replace(source, decks=tuple(decks)).called(inputs[place])
        if call.status != "done":
            raise RequestError(f"run from the written files, {call.trouble}")
        for name, _ in source.outputs:
            full = f"{source.name}.{name}"
            value, was = call.found[name].value, recorded.get(full)
            off = None
            if was is not None and np.isfinite(was).all():
                size = float(np.abs(was).max(initial=0.0)) or 1.0
                off = float(np.abs(value - was).max(initial=0.0) / size)
            told = None if was is None else np.asarray(was).tolist()
            found.append(ReturnedValue(full, value.tolist(), told, off, units.get(full, "")))
    return found


def recorded_quantities(problem: Problem, point: Sequence[float], ledger: Ledger, record: RunRecord) -> dict[str, Any]:
    """Return the values of a design that are on record, {} where a call is not."""
    try:
        return problem.quantities(point, recorded_calls(problem, ledger, record, only=True))
    except NotOnRecord:
        return {}
