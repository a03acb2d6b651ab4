"""`ilvren draw DESIGN --of NAME`: vectors of designs on record."""

from __future__ import annotations

import argparse
from typing import TYPE_CHECKING

from ilvren.cli import status
from ilvren.cli.arguments import ledger_path
from ilvren.cli.terminal import Terminal

if TYPE_CHECKING:
    import numpy as np
    from numpy.typing import NDArray

    from ilvren.problem import Problem

__all__ = ["draw_record"]


def draw_record(arguments: argparse.Namespace, terminal: Terminal) -> int:
    """Draw a vector of a design, and of those of --run, against its index or the vector of --over."""
    import numpy as np

    from ilvren.cli.files import note_changed_file, note_changed_models, read_ledger, recorded_ledger
    from ilvren.draw.vector import Line, draw_vector
    from ilvren.errors import RequestError
    from ilvren.runs.addresses import addressed
    from ilvren.runs.stored import problem_of

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
    lines, problem, across = [], None, None
    with read_ledger(recorded_ledger(ledger_path(arguments.ledger))) as ledger:
        found = [addressed(ledger, text) for text in (arguments.file, *arguments.run)]
    for item in found:
        own = problem_of(item.record)
        note_changed_models(item.record, own, terminal)
        values = _vectors(own, np.array(item.point))
        if arguments.of is None or arguments.of not in values:
            raise _unknown("--of", arguments.of, values, item.address)
        lines.append(Line(item.address, values[arguments.of]))
        if problem is None:
            problem = own
            note_changed_file(item.record, terminal)
            if arguments.over is not None:
                if arguments.over not in values:
                    raise _unknown("--over", arguments.over, values, item.address)
                across = values[arguments.over]
    assert problem is not None
    sizes = {len(line.values) for line in lines} | (set() if across is None else {len(across)})
    if len(sizes) > 1:
        what = f"{arguments.of} and {arguments.over}" if across is not None else f"{arguments.of} of these designs"
        raise RequestError(
            f"{what} have different lengths: {' and '.join(map(str, sorted(sizes)))} elements",
            advice="without --over a vector is drawn against its index",
        )
    units = _units(problem)
    draw_vector(
        lines,
        arguments.output,
        title=f"{problem.title or problem.source.file}: {arguments.of} of {', '.join(line.name for line in lines)}",
        of=_with_unit(arguments.of, units),
        over="index" if arguments.over is None else _with_unit(arguments.over, units),
        across=across,
        limits=_limits(problem, arguments.of),
    )
    if arguments.json:
        document = {line.name: line.values.tolist() for line in lines}
        terminal.document({"of": arguments.of, "kind": "vector", "output": arguments.output, "values": document})
    terminal.note(f"{arguments.output}: {arguments.of} of {', '.join(line.name for line in lines)}")
    return status.HOLDS


def _vectors(problem: Problem, point: NDArray[np.float64]) -> dict[str, NDArray[np.float64]]:
    """Return {name: (size,)} of all variables, derived values, outputs, constraints and data with more than one number
    at a design."""
    import numpy as np

    calls = problem.calls()
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


def _unknown(flag: str, name: str | None, values: dict[str, NDArray[np.float64]], address: str) -> Exception:
    from ilvren.errors import RequestError, nearest

    known = ", ".join(list(values)[:12]) or "none"
    if name is None:
        return RequestError(f"{flag} NAME says which vector of {address} to draw", advice=f"its vectors: {known}")
    close = nearest(name, values)
    advice = f'did you mean "{close}"?' if close else f"its vectors: {known}"
    return RequestError(f'{flag} "{name}": {address} has no vector of this name', advice=advice)
