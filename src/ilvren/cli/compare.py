"""`ilvren compare`: runs and groups side by side."""

from __future__ import annotations

import argparse
from typing import TYPE_CHECKING

from ilvren.cli import status
from ilvren.cli.arguments import add_ledger, add_output_flags, ledger_path
from ilvren.cli.contest import add_summary_flags

if TYPE_CHECKING:
    from ilvren.cli.terminal import Terminal
    from ilvren.judge import Comparison

EXAMPLES = """examples:
  ilvren compare r1 r2
  ilvren compare r1 r2 --output histories.png --reference cost=123118
  ilvren compare g1 --within 1e-2,1e-4 --along seconds
  ilvren compare r1 r2 r3 --output designs.png --figure designs
"""

# Variables shown side by side, for so many runs.
MOST_VARIABLES, MOST_COLUMNS = 12, 6


def add_arguments(parser: argparse.ArgumentParser) -> None:
    """Declare the flags."""
    parser.add_argument("runs", metavar="RUN|GROUP", nargs="+", help='runs and groups: ids, labels or "last"')
    parser.add_argument(
        "--within", metavar="SHARES", help="distances to the best whose first arrival is told (1e-3,1e-6)"
    )
    add_summary_flags(parser)
    add_ledger(parser)
    add_output_flags(parser)


def execute(arguments: argparse.Namespace, terminal: Terminal) -> int:
    """Run the command and return its exit status. Raises InputError for what a user can mend."""
    from ilvren.cli.files import read_ledger
    from ilvren.cli.front_compare import compare_recorded_fronts, have_several
    from ilvren.cli.tables.contest import check_figure, distances_of, reference_of, summarize
    from ilvren.judge import GRADIENT_WORTH, compare

    check_figure(arguments)
    distances = distances_of(arguments.within)
    path = ledger_path(arguments.ledger)
    with read_ledger(path) as ledger:
        if have_several(ledger, arguments.runs):
            found = compare_recorded_fronts(arguments.runs, arguments, ledger, terminal)
            return status.HOLDS if found == status.DOES_NOT_HOLD else found
        has_groups = any(ledger.is_group(name) for name in arguments.runs)
    if has_groups or arguments.solved_within is not None:
        found = summarize(arguments.runs, arguments, terminal)
        return status.HOLDS if found == status.DOES_NOT_HOLD else found
    worth = GRADIENT_WORTH if arguments.gradient_worth is None else arguments.gradient_worth
    with read_ledger(path) as ledger:
        comparison = compare(
            *arguments.runs, ledger=ledger, gradient_worth=worth, distances=distances, along=arguments.along
        )
        reference = reference_of(arguments, comparison.tracks[0].problem)
        if reference is not None:
            comparison = compare(
                *arguments.runs,
                ledger=ledger,
                gradient_worth=worth,
                distances=distances,
                along=arguments.along,
                reference=reference,
            )
    if arguments.json:
        terminal.document(comparison.to_dict())
    else:
        _show(comparison, terminal)
    if arguments.output:
        _draw(comparison, arguments, terminal)
    return status.HOLDS


def _draw(comparison: Comparison, arguments: argparse.Namespace, terminal: Terminal) -> None:
    from ilvren.cli.tables.contest import draw_summary
    from ilvren.judge import SOLVED, contest_summary

    if arguments.figure in (None, "histories"):
        from ilvren.draw import draw_histories

        draw_histories(comparison, arguments.output)
        terminal.note(f"{arguments.output}: gap, violation and stationarity against {comparison.along}")
        return
    summary = contest_summary(
        arguments.runs, ledger_path(arguments.ledger), solved_within=SOLVED, along=arguments.along
    )
    draw_summary(summary, arguments, terminal)


def _show(comparison: Comparison, terminal: Terminal) -> None:
    from ilvren.cli.tables.contest import show_optima
    from ilvren.cli.tables.table import number, seconds_text, small, table
    from ilvren.judge import distance_text

    objective = comparison.tracks[0].problem.objective
    headers = ["run", "method", "outcome", f">{objective.name if objective else 'objective'}", ">gap", ">violation"]
    headers += [">evaluations", ">gradients", ">time"]
    headers += [f">to {distance_text(distance)}" for distance in comparison.arrivals[0]]
    rows = []
    for track, arrivals in zip(comparison.tracks, comparison.arrivals, strict=True):
        gap = comparison.gap(track)
        rows.append(
            (
                track.name,
                track.method,
                track.outcome,
                number(track.final_objective, 8),
                "-" if gap is None else small(max(gap, 0.0) if gap > -1e-15 else gap),
                small(track.final_violation),
                str(track.counts.get("evaluations", "")),
                str(track.counts.get("gradients", "")),
                seconds_text(track.total_seconds),
                *("never" if n is None else number(n, 4) for n in arrivals.values()),
            )
        )
    terminal.show(table(headers, rows))
    if objective is not None:
        show_optima(comparison, terminal)
        told = ", ".join(f"to {distance_text(distance)}" for distance in comparison.arrivals[0])
        rate = (
            f"; a gradient counts as {number(comparison.gradient_worth)}" if comparison.along == "evaluations" else ""
        )
        terminal.show(f"{told}: {comparison.along} until a feasible design was that close to the best, relative{rate}")
    _show_designs(comparison, terminal)
    _show_predictions(comparison, terminal)
    for note in comparison.notes:
        terminal.show(f"- {note}")


def _show_predictions(comparison: Comparison, terminal: Terminal) -> None:
    """Print what surfaces said along the way, against what came of it."""
    from ilvren.cli.tables.table import number, table

    objective = comparison.tracks[0].problem.objective
    rows = []
    for track in comparison.tracks:
        if track.foretold is None:
            continue
        told, (first, second) = track.foretold, track.foretold.typical
        share = told.share_within
        rows.append(
            (
                track.name,
                told.surface,
                str(len(told.said)),
                number(first, 3),
                number(second, 3),
                "-" if share is None else f"{100.0 * share:.0f} %",
            )
        )
    if not rows or objective is None:
        return
    heads = ("run", "the last surface", ">predictions", ">off, first half", ">off, second half", ">within twice told")
    terminal.show(table(heads, rows))
    terminal.show(f"off: the median of |actual − predicted| of {objective.name}, before each design was evaluated")


def _show_designs(comparison: Comparison, terminal: Terminal) -> None:
    """Print the final designs side by side, the variables that differ most first."""
    from ilvren.cli.tables.table import number, table
    from ilvren.judge import sorted_differences

    if not 2 <= len(comparison.tracks) <= MOST_COLUMNS:
        return
    found = sorted_differences(comparison.tracks)
    choices = {block.name: block for block in comparison.tracks[0].problem.blocks if block.words}

    def told(name: str, value: float | None) -> str:
        return str(choices[name].shown(value)) if name in choices and value is not None else number(value, 7)

    rows = [
        (item.name, item.unit, *(told(item.name, value) for value in item.values), f"{item.spread:.2g}")
        for item in found[:MOST_VARIABLES]
    ]
    terminal.show(table(("variable", "unit", *(f">{track.name}" for track in comparison.tracks), ">spread"), rows))
    more = f" ({len(found) - MOST_VARIABLES} more differ less)" if len(found) > MOST_VARIABLES else ""
    terminal.show(f"spread: largest difference over the variable's size{more}")
