"""`ilvren run --repeats`: the same run with several seeds."""

from __future__ import annotations

from typing import TYPE_CHECKING, Any

from ilvren.cli import status
from ilvren.cli.progress import progress_of
from ilvren.cli.tables.table import count, number, table

if TYPE_CHECKING:
    from ilvren.cli.terminal import Terminal
    from ilvren.problem import Problem
    from ilvren.runs import Quartiles, Repeats, RunResult, Settings

__all__ = ["run_repeats"]

# Runs listed one by one; of more, the quartiles alone are shown.
MOST_LISTED = 30


def run_repeats(
    problem: Problem,
    times: int,
    settings: Settings,
    terminal: Terminal,
    *,
    ledger: Any,
    as_json: bool,
    full: bool,
    workers: str | None,
) -> int:
    """Run the seeds, print the summary and return the exit status."""
    from ilvren.runs import repeat

    progress = progress_of(problem, terminal)

    def told(result: RunResult) -> None:
        progress.close()
        objective = "" if result.objective is None else f"  {number(result.objective)}"
        terminal.note(f"seed {result.seed}: {result.outcome}{objective}")

    try:
        found = repeat(problem, times, settings, ledger=ledger, listener=progress, finished=told, workers=workers)
    finally:
        progress.close()
    if as_json:
        terminal.document(found.to_dict(full=full))
    else:
        _show(found, terminal)
    stopped = status.of_stopped(found.runs, terminal)
    if stopped is not None:
        return stopped
    return status.HOLDS if found.holds else status.DOES_NOT_HOLD


def _show(found: Repeats, terminal: Terminal) -> None:
    problem = found.runs[0].problem
    if found.runs[0].front is not None:
        return _show_fronts(found, terminal)
    name = problem.objective.name if problem.objective is not None else "objective"
    unit = f" [{problem.objective.unit}]" if problem.objective is not None and problem.objective.unit else ""
    if len(found.runs) <= MOST_LISTED:
        rows = [
            (r.id, str(r.seed), number(r.objective), number(r.violation, 2), str(r.counts["evaluations"]), r.outcome)
            for r in found.runs
        ]
        terminal.show(table(("run", ">seed", f">{name}{unit}", ">violation", ">evaluations", "outcome"), rows))
    quartiles = [
        _quartile_row(f"{name}{unit}, feasible", found.objectives()),
        _quartile_row("evaluations", found.evaluations()),
    ]
    heads = (f"{count(len(found.runs), 'seed')}", ">least", ">lower quartile", ">median", ">upper quartile", ">largest")
    terminal.show(table(heads, quartiles))
    reached = sum(result.holds for result in found.runs)
    terminal.show(f"{reached} of {len(found.runs)} reached what was asked ({100.0 * found.share:.0f} %)")
    best = found.best
    if best is None:
        terminal.show("no seed found a feasible design")
    elif best.id:
        terminal.show(f"best: {best.id}; next: ilvren verify {best.id}")


def _show_fronts(found: Repeats, terminal: Terminal) -> None:
    """Print how far the fronts of several seeds came, each as a share of what all of them dominate."""
    shares = found.shares or [float("nan")] * len(found.runs)
    if len(found.runs) <= MOST_LISTED:
        rows = [
            (r.id, str(r.seed), number(share, 5), str(len(r.front.members)), str(r.counts["evaluations"]), r.outcome)
            for r, share in zip(found.runs, shares, strict=True)
            if r.front is not None
        ]
        terminal.show(table(("run", ">seed", ">share", ">points", ">evaluations", "outcome"), rows))
    quartiles = [
        _quartile_row("share", found.objectives()),
        _quartile_row("evaluations", found.evaluations()),
    ]
    heads = (f"{count(len(found.runs), 'seed')}", ">least", ">lower quartile", ">median", ">upper quartile", ">largest")
    terminal.show(table(heads, quartiles))
    terminal.show("share: of the hypervolume of all these fronts together")
    best = found.best
    if best is not None and best.id:
        terminal.show(f"best: {best.id}; next: ilvren verify {best.id}")


def _quartile_row(name: str, values: Quartiles) -> tuple[str, ...]:
    found = (values.least, values.lower, values.median, values.upper, values.largest)
    return (name, *(number(value) for value in found))
