"""`ilvren draw DESIGN --of NAME`: vectors of designs on record."""

from __future__ import annotations

import argparse
from collections.abc import Sequence
from typing import TYPE_CHECKING

from ilvren.cli import status
from ilvren.cli.arguments import ledger_path

if TYPE_CHECKING:
    import numpy as np
    from numpy.typing import NDArray

    from ilvren.cli.terminal import Terminal
    from ilvren.ledger import Ledger, RunRecord
    from ilvren.models import Calls
    from ilvren.problem import Problem

__all__ = ["draw_record", "unknown_vector", "vectors_of"]


def draw_record(arguments: argparse.Namespace, terminal: Terminal) -> int:
    """Draw a vector of a design, and of those of --run, against its index or the vector of --against. Raises
    RequestError."""
    import numpy as np

    from ilvren.cli.files import note_changed_file, note_changed_models, read_ledger, recorded_ledger
    from ilvren.draw import Line, draw_vector
    from ilvren.errors import RequestError
    from ilvren.runs import addressed, problem_of, recorded_calls

    for flag, given in (
        ("--variables", arguments.variables),
        ("--at", arguments.at),
        ("--tangent", arguments.tangent),
        ("--surface", arguments.surface),
        ("--slices", arguments.slices),
        ("--generations", arguments.generations),
    ):
        if given:
            raise RequestError(
                f"{flag} is for a problem file, not for a design on record such as {arguments.file}",
                advice="name the file first: ilvren draw FILE --run RUN",
            )
    if arguments.of is None:
        raise RequestError("--of names the vector to draw", advice=f"`ilvren draw {arguments.file} --of NAME`")
    if arguments.every is not None and arguments.every < 1:
        raise RequestError(f"--every must be at least 1, not {arguments.every}")
    lines: list[Line] = []
    with read_ledger(recorded_ledger(ledger_path(arguments.ledger))) as ledger:
        found = [addressed(ledger, text) for text in (arguments.file, *arguments.run)]
        past = _past(ledger, found[0].record, arguments.every)
        problem = problem_of(found[0].record)
        designs = [(name, point, found[0].record) for name, point in past]
        designs += [(item.address, np.array(item.point), item.record) for item in found]
        for place, (name, point, record) in enumerate(designs):
            own = problem if record is found[0].record else problem_of(record)
            if place >= len(past):
                note_changed_models(record, own, terminal)
            values = vectors_of(own, point, recorded_calls(own, ledger, record, only=False))
            across = None
            for flag, word in (("--of", arguments.of), ("--against", arguments.against)):
                if word is not None and word not in values:
                    raise unknown_vector(flag, word, values, name)
            if arguments.against is not None:
                across = values[arguments.against]
            lines.append(Line(name, values[arguments.of], across, place < len(past)))
    note_changed_file(found[0].record, terminal)
    sizes = {len(line.values) for line in lines} | {len(line.across) for line in lines if line.across is not None}
    if len(sizes) > 1:
        what = f"{arguments.of} and {arguments.against}" if arguments.against else f"{arguments.of} of these designs"
        raise RequestError(
            f"{what} have different lengths: {' and '.join(map(str, sorted(sizes)))} elements",
            advice="without --against a vector is drawn against its index",
        )
    units = _units(problem)
    told = ", ".join(item.address for item in found)
    over = f" against {arguments.against}" if arguments.against else ""
    draw_vector(
        lines,
        arguments.output,
        title=f"{problem.title or problem.source.file}: {arguments.of}{over} of {told}",
        of=_with_unit(arguments.of, units),
        against="index" if arguments.against is None else _with_unit(arguments.against, units),
        limits=_limits(problem, arguments.of),
        is_outline=arguments.against is not None and _is_outline(problem, arguments, units),
    )
    if arguments.json:
        document = {line.name: line.values.tolist() for line in lines}
        terminal.document({"of": arguments.of, "kind": "vector", "output": arguments.output, "values": document})
    terminal.note(f"{arguments.output}: {arguments.of}{over} of {told}")
    return status.HOLDS


def _past(ledger: Ledger, record: RunRecord, every: int | None) -> list[tuple[str, NDArray[np.float64]]]:
    """Return (name, design) of a run's start and of every Nth iteration, the last one left out."""
    import numpy as np

    if every is None:
        return []
    kept = [item for item in ledger.iterations(record.number) if item.point]
    chosen = [item for place, item in enumerate(kept[:-1]) if place % every == 0]
    return [
        (f"{record.id}, the start" if place == 0 else f"iteration {item.number}", np.frombuffer(item.point))
        for place, item in enumerate(chosen)
    ]


def _is_outline(problem: Problem, arguments: argparse.Namespace, units: dict[str, str]) -> bool:
    """Return whether two vectors are coordinates: lengths in the same unit."""
    unit = units.get(arguments.of, "")
    return unit in ("m", "mm", "cm", "km") and unit == units.get(arguments.against, "")


def vectors_of(problem: Problem, point: NDArray[np.float64], calls: Sequence[Calls]) -> dict[str, NDArray[np.float64]]:
    """Return {name: (size,)} of all variables, derived values, outputs, constraints and data with more than one number
    at a design."""
    import numpy as np

    found = {block.name: point[block.first : block.first + block.size] for block in problem.blocks}
    found |= {name: np.ravel(value) for name, value in problem.quantities(point, calls).items()}
    rows = problem.entry_values([block.node for block in problem.row_blocks], point, calls).values
    found |= {block.name: np.ravel(value) for block, value in zip(problem.row_blocks, rows, strict=True)}
    found |= {item.name: np.ravel(np.asarray(item.value, dtype=float)) for item in problem.parameters}
    return {name: np.asarray(value, dtype=float) for name, value in found.items() if np.size(value) > 1}


def _limits(problem: Problem, name: str) -> tuple[NDArray[np.float64], NDArray[np.float64]] | None:
    found = {block.name: (block.lower, block.upper) for block in problem.blocks}
    found |= {block.name: (block.lower, block.upper) for block in problem.row_blocks}
    return found.get(name)


def _units(problem: Problem) -> dict[str, str]:
    found = {block.name: block.unit for block in problem.blocks} | problem.quantity_units
    found |= {block.name: block.unit for block in problem.row_blocks}
    return found | {item.name: item.unit for item in problem.parameters}


def _with_unit(name: str, units: dict[str, str]) -> str:
    return f"{name} [{units[name]}]" if units.get(name) else name


def unknown_vector(flag: str, name: str | None, values: dict[str, NDArray[np.float64]], address: str) -> Exception:
    """Return the error that says which vectors a design has, the nearest first."""
    from ilvren.errors import RequestError, nearest

    known = ", ".join(list(values)[:12]) or "none"
    if name is None:
        return RequestError(f"{flag} NAME says which vector of {address} to draw", advice=f"its vectors: {known}")
    close = nearest(name, values)
    advice = f'did you mean "{close}"?' if close else f"its vectors: {known}"
    return RequestError(f'{flag} "{name}": {address} has no vector of this name', advice=advice)
