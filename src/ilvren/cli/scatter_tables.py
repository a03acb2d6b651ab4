"""What a run about scatter is told to be: counted over its own scenarios, and over fresh ones."""

from __future__ import annotations

from collections.abc import Sequence
from typing import TYPE_CHECKING

from rich.table import Table

from ilvren.cli.tables import limits_text, number, table
from ilvren.cli.terminal import Terminal

if TYPE_CHECKING:
    from ilvren.runs import RunResult
    from ilvren.scatter import Interval

__all__ = ["scattered_table", "show_counted"]

MOST_ROWS, MOST_NAMES = 12, 24


def scattered_table(rows: Sequence[tuple[str, str, float, float, str]]) -> Table:
    """Return the table of what scatters: (name, law, value as designed, deviation, unit)."""
    cells = [
        (name, law, number(value), number(deviation, 4), unit)
        for name, law, value, deviation, unit in rows[:MOST_NAMES]
    ]
    return table(("what scatters", "law", ">as designed", ">deviation", "unit"), cells)


def show_counted(result: RunResult, terminal: Terminal) -> None:
    """Print what is counted: what the method searched, and what fresh scenarios say."""
    told = result.scatter
    assert told is not None
    objective = result.problem.objective
    limits = {row.name: limits_text(row.lower, row.upper) for row in result.constraints}
    counted = {row.name: row.value for row in result.constraints}
    if objective is not None and result.objective is not None:
        counted[objective.name] = result.objective
    rows = []
    for name, fresh in told.fresh.items():
        if not _scatters(fresh):
            continue
        searched = told.searched.get(name, (counted[name], 0.0))[0]
        rows.append(
            (
                name,
                number(searched),
                number(counted[name]),
                number(fresh.value),
                f"{number(fresh.low, 5)} .. {number(fresh.high, 5)}",
                limits.get(name, ""),
            )
        )
    if not rows:
        return
    head = f">counted over {told.scenarios:,}"
    terminal.show(
        table(("about scatter", ">searched", head, ">over ten fresh sets", "interval", "limit"), rows[:MOST_ROWS])
    )
    if len(rows) > MOST_ROWS:
        terminal.show(f"and {len(rows) - MOST_ROWS} more (--json has all)")
    if objective is not None and objective.name in told.fresh and result.objective is not None:
        fresh = told.fresh[objective.name]
        gain = objective.sign * (fresh.value - result.objective)
        if _scatters(fresh) and result.objective != 0.0:
            share = 100.0 * abs(gain / result.objective)
            word = "better" if gain > 0.0 else "worse"
            terminal.show(f"on its own scenarios {objective.name} looked {share:.2g} % {word} than on fresh ones")


def _scatters(told: Interval) -> bool:
    return told.high - told.low > 1e-10 * max(abs(told.low), abs(told.high))
