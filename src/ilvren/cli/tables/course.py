"""What a course on a grid tells: arcs of the controls, what states, limits and time are worth."""

from __future__ import annotations

import math
from typing import TYPE_CHECKING

import numpy as np

from ilvren.cli.tables.table import count, number, table, with_unit

if TYPE_CHECKING:
    from ilvren.cli.terminal import Terminal
    from ilvren.runs import CourseTold, RunResult

__all__ = ["show_courses"]

# Arcs shown; a control with more is summed up.
MOST_ARCS = 24
# Changes of limits and states in sentences: this share of their size, one digit.
STEP = 0.01


def show_courses(result: RunResult, terminal: Terminal) -> None:
    """Print the arcs, the costates and what limits over time and the time itself are worth."""
    for told in result.courses:
        _show_arcs(told, terminal)
        _show_costates(result, told, terminal)
        for sentence in _sentences(result, told):
            terminal.show(sentence)
        for remark in told.remarks:
            terminal.show_sentence(f"{remark}.")
    if result.time_error is not None:
        report = result.time_error
        error = f"{report.estimate:.1e}" if np.isfinite(report.estimate) else "unknown"
        over = "" if report.is_met else f", above the tolerance of {report.limit:.0e}"
        grown = f"; deviations grow by up to {report.growth:.1e}: it needs feedback" if report.growth > 1e5 else ""
        what = f"error of states and integrals {error} of their sizes{over}{grown}"
        terminal.show(f"{count(report.steps, 'interval')} ({report.scheme}); {what}")


def _show_arcs(told: CourseTold, terminal: Terminal) -> None:
    unit = f" [{told.unit}]" if told.unit else ""
    case = f"@{told.case}" if told.case else ""
    rows = [(f"{arc.control}{case}", number(arc.begin, 5), number(arc.end, 5), arc.words) for arc in told.arcs]
    if not rows:
        return
    terminal.show(table(("control", f">from{unit}", f">to{unit}", "what it does"), rows[:MOST_ARCS]))
    if len(rows) > MOST_ARCS:
        terminal.show(f"{MOST_ARCS} of {len(rows)} arcs; --json has all")


def _show_costates(result: RunResult, told: CourseTold, terminal: Terminal) -> None:
    """Print what a unit more of each state would be worth at the beginning, in the middle, at the end, and at most."""
    objective = result.problem.objective
    if objective is None or not told.costates:
        return
    units = _state_units(result)
    rows = []
    for name, values in told.costates.items():
        flat = np.asarray(values, dtype=float).reshape(len(values), -1)
        if flat.shape[1] != 1 or not np.isfinite(flat).all():
            continue
        own = flat[:, 0]
        peak = int(np.argmax(np.abs(own)))
        unit = f"{objective.unit or '1'}/{units[name]}" if units.get(name) else objective.unit
        ends = [number(float(own[k]), 4) for k in (0, len(own) // 2, -1)]
        rows.append((name, *ends, number(float(own[peak]), 4), number(float(told.times[peak]), 5), unit))
    if rows:
        moments = (">at the beginning", ">half way", ">at the end", ">most", ">at")
        heads = ("a unit more of", *moments, f"changes {objective.name}")
        terminal.show(table(heads, rows))


def _state_units(result: RunResult) -> dict[str, str]:
    problem = result.whole or result.problem
    return {item.name.removesuffix("@grid"): item.unit for item in problem.blocks if item.is_grid}


def _sentences(result: RunResult, told: CourseTold) -> list[str]:
    """Return what limits over time and the end of the time are worth."""
    objective = result.problem.objective
    if objective is None:
        return []
    found = []
    blocks = {block.name: block for block in result.constraints.blocks}
    for name in told.prices:
        block = blocks[name]
        own = slice(block.first, block.first + block.size)
        prices, sides = result.constraints.prices, result.constraints.sides[own]
        if prices is None:
            continue
        lower, upper = result.constraints.lower[own], result.constraints.upper[own]
        for side, word, limits in ((-1, "lower", lower), (1, "upper", upper)):
            chosen = (sides == side) & np.isfinite(prices[own])
            total = float(prices[own][chosen].sum())
            if not chosen.any() or total == 0.0:
                continue
            step = float(f"{STEP * (float(np.abs(limits[chosen]).max()) or 1.0):.1g}")
            verb = "raises" if total > 0.0 else "lowers"
            found.append(
                f"raising {name}'s {word} limit by {with_unit(step, block.unit)} at all times {verb} {objective.name}"
                f" by {with_unit(abs(total) * step, objective.unit, 3)}"
            )
    if told.end_price is not None and math.isfinite(told.end_price) and told.end_price != 0.0:
        verb = "raises" if told.end_price > 0.0 else "lowers"
        later = f"1 {told.unit}" if told.unit else "1 unit of time"
        effect = with_unit(abs(told.end_price), objective.unit, 3)
        found.append(f"ending {later} later {verb} {objective.name} by {effect}, as far as a small change tells")
    return found
