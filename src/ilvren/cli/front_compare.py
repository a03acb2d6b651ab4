"""`ilvren compare` and `contest` of fronts: tables, JSON and figures."""

from __future__ import annotations

import argparse
import math
from collections.abc import Sequence
from typing import TYPE_CHECKING

from rich.text import Text

from ilvren.cli import status
from ilvren.cli.arguments import numbers
from ilvren.cli.tables.table import count, number, seconds_text, table, with_unit

if TYPE_CHECKING:
    from rich.table import Table

    from ilvren.cli.terminal import Terminal
    from ilvren.judge.fronts import FrontComparison, FrontContest
    from ilvren.ledger import Ledger

__all__ = ["compare_recorded_fronts", "have_several"]

FIGURES = ("fronts", "attainment")
MOST_BETTER, MOST_PAIRS, MOST_ROWS, MOST_COVERED = 6, 15, 30, 6


def have_several(ledger: Ledger, references: Sequence[str]) -> bool:
    """Return whether the first of the runs and groups named has several objectives."""
    from ilvren.judge.fronts import have_fronts

    for name in references:
        if not ledger.is_group(name):
            return have_fronts(ledger, [name])
        runs = ledger.group_runs(ledger.group(name))
        if runs:
            return have_fronts(ledger, [next(iter(runs.values())).id])
    return False


def compare_recorded_fronts(
    references: Sequence[str], arguments: argparse.Namespace, ledger: Ledger, terminal: Terminal
) -> int:
    """Compare fronts on record, print or draw them, and return 0 where every run ended as it was asked. Raises
    RequestError."""
    from ilvren.errors import RequestError
    from ilvren.judge.fronts import contest_of_fronts
    from ilvren.runs import problem_of, refuse_reference

    if arguments.figure is not None and arguments.figure not in FIGURES:
        raise RequestError(
            f"--figure {arguments.figure} is for runs of one objective", advice="of fronts: " + ", ".join(FIGURES)
        )
    corner = numbers("--reference", arguments.reference.split(",")) if arguments.reference else None
    if corner is not None:
        single = [name for name in references if not ledger.is_group(name)]
        if single:
            refuse_reference(problem_of(ledger.run(single[0])), corner)
    found = contest_of_fronts(ledger, references, corner)
    if arguments.json:
        terminal.document(found.to_dict())
    else:
        _show(found, terminal)
    if arguments.output:
        _draw(found, arguments, terminal)
    return status.HOLDS if found.holds else status.DOES_NOT_HOLD


def _draw(found: FrontContest, arguments: argparse.Namespace, terminal: Terminal) -> None:
    from ilvren.draw import draw_attainment, draw_fronts
    from ilvren.errors import RequestError

    is_attainment = arguments.figure == "attainment" or (arguments.figure is None and not found.is_one_run_each)
    if is_attainment and len(found.comparisons[0].sense.names) != 2:
        if arguments.figure == "attainment":
            raise RequestError("--figure attainment draws two objectives", advice="--figure fronts draws two of more")
        is_attainment = False
    if is_attainment:
        draw_attainment(found.kinds, arguments.output)
        terminal.note(f"{arguments.output}: what half of the runs of each kind have attained, and all of them")
        return
    draw_fronts(found.comparisons[0], arguments.output)
    terminal.note(f"{arguments.output}: the fronts, and the share of their union's hypervolume on the way")


def _show(found: FrontContest, terminal: Terminal) -> None:
    for comparison in found.comparisons:
        problem = comparison.tracks[0].problem
        title = problem.title or problem.source.file
        total = len(comparison.tracks)
        terminal.show(Text(f"{count(total, 'front')} on {title}", style="bold"))
        if total <= MOST_ROWS:
            terminal.show(_table(comparison))
        _show_reference(comparison, terminal)
        if 1 < total <= MOST_COVERED:
            terminal.show(_coverage(comparison))
            terminal.show("covered: the share of the run's members that a member of the other one dominates")
        for item in comparison.better[:MOST_BETTER]:
            terminal.show_sentence(_better_sentence(comparison, item.run, item.low, item.high))
        if len(comparison.tracks) == 2 and not comparison.better:
            terminal.show("neither front is clearly better anywhere")
    if found.missing:
        terminal.show(f"{count(found.missing, 'run')} of the plan are missing: `ilvren resume {found.name}` goes on")
    if found.is_one_run_each:
        return
    rows = [
        (
            item.name,
            str(item.runs),
            number(item.shares.lower, 5),
            number(item.shares.median, 5),
            number(item.shares.upper, 5),
            number(item.gaps.median, 3),
            number(item.work.median, 4),
            *(f"{number(cost, 4)} ({n})" if n else "never" for n, cost in item.arrivals.values()),
        )
        for item in found.series
    ]
    heads = ["method", ">runs", ">share: quarter", ">half", ">three quarters", ">gap, median", ">work, median"]
    heads += [f">to {level:g}" for level in found.series[0].arrivals]
    terminal.show(table(heads, rows))
    terminal.show("share: of the hypervolume of all fronts together; to: median work until so much was reached (runs)")
    for test in found.tests[:MOST_PAIRS]:
        terminal.show_sentence(f"{test.sentence.replace('its cost', 'what was missing')}.")


def _show_reference(comparison: FrontComparison, terminal: Terminal) -> None:
    sense = comparison.sense
    written = sense.as_written(comparison.reference).tolist()
    told = ", ".join(
        f"{item.name} {with_unit(value, item.unit)}" for item, value in zip(sense.objectives, written, strict=True)
    )
    terminal.show(f"share: hypervolume over that of all fronts together, measured from {told}")
    terminal.show("work: evaluations, a gradient counted as 3; to: work until so much of the share was reached")


def _table(comparison: FrontComparison) -> Table:
    rows = []
    for track, share, gap, arrivals in zip(
        comparison.tracks, comparison.shares, comparison.gaps, comparison.arrivals, strict=True
    ):
        rows.append(
            (
                track.name,
                track.method,
                track.outcome,
                str(len(track.values)),
                number(share, 5),
                "-" if math.isnan(gap) else f"{100.0 * gap:.2g} %",
                number(track.work, 6),
                seconds_text(track.seconds),
                *("never" if n is None else number(n, 5) for n in arrivals.values()),
            )
        )
    heads = ["run", "method", "outcome", ">points", ">share", ">widest gap", ">work", ">time"]
    heads += [f">to {level:g}" for level in comparison.arrivals[0]]
    return table(heads, rows)


def _coverage(comparison: FrontComparison) -> Table:
    rows = []
    for place, track in enumerate(comparison.tracks):
        own = [comparison.coverage[other][place] for other in range(len(comparison.tracks))]
        rows.append((track.name, *("" if other == place else f"{100.0 * c:.3g} %" for other, c in enumerate(own))))
    return table(("covered", *(f">by {track.name}" for track in comparison.tracks)), rows)


def _better_sentence(comparison: FrontComparison, run: str, low: float, high: float) -> str:
    first = comparison.sense.objectives[0]
    union = comparison.sense.as_written(comparison.union)[:, 0]
    least, most = float(union.min()), float(union.max())
    reach = 0.01 * (most - least)
    if low <= least + reach and high >= most - reach:
        return f"{run} is better all along."
    if low <= least + reach:
        where = f"below {with_unit(high, first.unit, 4)}"
    elif high >= most - reach:
        where = f"above {with_unit(low, first.unit, 4)}"
    else:
        where = f"between {with_unit(low, first.unit, 4)} and {with_unit(high, first.unit, 4)}"
    return f"{run} is better for {first.name} {where}."
