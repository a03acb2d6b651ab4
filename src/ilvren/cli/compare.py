"""`ilvren compare`: runs side by side."""

from __future__ import annotations

import argparse
from typing import TYPE_CHECKING

from ilvren.cli import status
from ilvren.cli.arguments import add_ledger, add_output_flags, ledger_path, pairs
from ilvren.cli.terminal import Terminal

if TYPE_CHECKING:
    from ilvren.judge import Comparison

EXAMPLES = """examples:
  ilvren compare r1 r2
  ilvren compare r1 r2 --output histories.png --reference cost=139120
"""


def add_arguments(parser: argparse.ArgumentParser) -> None:
    """Declare the flags."""
    parser.add_argument("runs", metavar="RUN", nargs="+", help='runs: ids, labels or "last"')
    parser.add_argument("--reference", metavar="NAME=VALUE", help="the best objective known, instead of the best found")
    parser.add_argument(
        "--gradient-worth", type=float, metavar="N", help="how many evaluations a gradient counts for (3)"
    )
    parser.add_argument("--output", metavar="FILE", help="write the histories as a figure: .png or .svg")
    add_ledger(parser)
    add_output_flags(parser)


def execute(arguments: argparse.Namespace, terminal: Terminal) -> int:
    """Run the command."""
    from ilvren.cli.files import check_suffix, read_ledger
    from ilvren.errors import RequestError
    from ilvren.judge.comparison import GRADIENT_WORTH, compare

    if arguments.output:
        check_suffix(arguments.output, (".png", ".svg"))
    worth = GRADIENT_WORTH if arguments.gradient_worth is None else arguments.gradient_worth
    with read_ledger(ledger_path(arguments.ledger)) as ledger:
        reference = None
        if arguments.reference:
            given = pairs("--reference", [arguments.reference])
            comparison = compare(*arguments.runs, ledger=ledger, gradient_worth=worth)
            objective = comparison.tracks[0].problem.objective
            if objective is None or objective.name not in given:
                known = f'the objective is "{objective.name}"' if objective else "the runs have no objective"
                raise RequestError(f"--reference {arguments.reference}: {known}")
            reference = given[objective.name]
        comparison = compare(*arguments.runs, ledger=ledger, gradient_worth=worth, reference=reference)
    if arguments.json:
        terminal.document(comparison.to_dict())
    else:
        _show(comparison, terminal)
    if arguments.output:
        from ilvren.draw.histories import draw_histories

        draw_histories(comparison, arguments.output)
        terminal.note(f"{arguments.output}: gap, violation and stationarity against evaluations")
    return status.HOLDS


def _show(comparison: Comparison, terminal: Terminal) -> None:
    from ilvren.cli.tables import number, seconds_text, small, table, with_unit

    objective = comparison.tracks[0].problem.objective
    headers = ["run", "method", "outcome", f">{objective.name if objective else 'objective'}", ">gap", ">violation"]
    headers += [">evaluations", ">gradients", ">time"]
    headers += [f">to {small(distance).replace('e-0', 'e-').replace('.0', '')}" for distance in comparison.arrivals[0]]
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
                *("never" if n is None else str(n) for n in arrivals.values()),
            )
        )
    terminal.show(table(headers, rows))
    if objective is not None:
        source = "given" if comparison.is_reference else "the best feasible of these runs"
        best = (
            "none: no run found a feasible design"
            if comparison.best is None
            else with_unit(comparison.best, objective.unit, 8)
        )
        terminal.show(f"best {objective.name}: {best}" + ("" if comparison.best is None else f" ({source})"))
        terminal.show(
            "to 1e-3, to 1e-6: evaluations until a feasible design was that close to the best, relative;"
            f" a gradient counts as {number(comparison.gradient_worth)}"
        )
    for note in comparison.notes:
        terminal.show(f"- {note}")
