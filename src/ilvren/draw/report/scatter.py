"""The part of a report on how its designs fare when they are not made exactly."""

from __future__ import annotations

from collections.abc import Sequence
from typing import TYPE_CHECKING

from ilvren.draw.report.numbers import number
from ilvren.draw.report.picture import Picture, pictured
from ilvren.draw.scatter import draw_scatter, draw_several
from ilvren.errors import IlvrenError
from ilvren.explore.scatter import OutputScatter, ScatterResult, scatter
from ilvren.records import dataclass
from ilvren.runs import addressed, problem_of

if TYPE_CHECKING:
    from ilvren.ledger import Ledger, RunRecord

__all__ = ["HEADS", "ScatterPart", "rows_of", "scatter_part"]

HEADS = ("quantity", "as designed", "mean", "deviation", "limit", "reserve", "misses", "comes from")
# Quantities told of each design, and designs of one figure.
MOST_ROWS, MOST_DESIGNS = 30, 4


@dataclass(frozen=True)
class ScatterPart:
    """A table for each design, as (its headline, rows under HEADS), a picture where something scatters, and notes."""

    tables: tuple[tuple[str, tuple[tuple[str, ...], ...]], ...]
    pictures: tuple[Picture, ...]
    notes: tuple[str, ...]


def scatter_part(records: Sequence[RunRecord], ledger: Ledger) -> ScatterPart | None:
    """Return how the designs of runs fare; None where their file says of nothing how it scatters, or where scenarios
    would call models."""
    found: list[ScatterResult] = []
    for record in records[:MOST_DESIGNS]:
        problem = problem_of(record)
        if not problem.template.declarations.scatter or problem.sources or problem.simulations:
            return None
        try:
            item = addressed(ledger, record.id)
            found.append(scatter(problem, item.point, design=record.id))
        except IlvrenError:  # a run without a design: its chapter says so
            continue
    if not found:
        return None
    tables = tuple((_headline(result), rows_of(result)) for result in found)
    notes = [f"{result.design}: {note}" for result in found for note in result.notes]
    notes += [rest for result in found if (rest := rows_left_out(result))]
    if len(records) > MOST_DESIGNS:
        notes.append(f"the first {MOST_DESIGNS} of {len(records)} designs")
    return ScatterPart(tables, _pictures(found), tuple(notes))


def _pictures(found: Sequence[ScatterResult]) -> tuple[Picture, ...]:
    shows = "how quantities scatter, with their limits"
    try:
        if len(found) == 1:
            return (pictured(lambda path: draw_scatter(found[0], path), shows),)
        return (pictured(lambda path: draw_several(found, path), shows),)
    except IlvrenError:  # nothing scatters
        return ()


def _headline(result: ScatterResult) -> str:
    works = result.works
    told = f"{result.design}: {result.scenarios:,} scenarios"
    if works is None:
        return told
    share = f"everything holds in {100.0 * works.value:.4g} % of them"
    return f"{told}, {share} ({100.0 * works.low:.3g} .. {100.0 * works.high:.3g} %)"


def rows_of(result: ScatterResult) -> tuple[tuple[str, ...], ...]:
    """Return the rows of a design's quantities, under HEADS."""
    return tuple(_row(result, item) for item in result.of[:MOST_ROWS])


def rows_left_out(result: ScatterResult) -> str:
    """Return how many quantities `rows_of` leaves out, or nothing."""
    left = len(result.of) - MOST_ROWS
    return f"{result.design}: {left} more quantities stand in `ilvren scatter --json`" if left > 0 else ""


def _row(result: ScatterResult, item: OutputScatter) -> tuple[str, ...]:
    output = item.output
    limit = ""
    if output.kind == "constraint":
        sides = [f"≥ {number(output.lower)}"] if output.lower > -1e300 else []
        limit = ", ".join([*sides, *([f"≤ {number(output.upper)}"] if output.upper < 1e300 else [])])
    drivers = sorted(result.drivers.get(output.name, {}).items(), key=lambda own: -own[1][1])[:3]
    return (
        f"{output.name} [{output.unit}]" if output.unit else output.name,
        number(item.nominal, 6),
        "" if item.mean is None else number(item.mean.value, 6),
        "" if item.deviation is None else number(item.deviation.value, 4),
        limit,
        "" if item.reserve is None else f"{item.reserve:.2f}",
        "" if item.misses is None else f"{100.0 * item.misses.value:.3g} %",
        ", ".join(f"{name} {100.0 * max(total, 0.0):.0f} %" for name, (_, total) in drivers if total >= 0.02),
    )
