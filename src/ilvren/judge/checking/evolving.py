"""What can be said of things over time before any run: whether they can be simulated from the start, and limits that
first values break whatever the design."""

from __future__ import annotations

from typing import TYPE_CHECKING

import numpy as np

from ilvren.formula import names_in, parse_limits
from ilvren.judge.checking.finding import Finding

if TYPE_CHECKING:
    from ilvren.evaluate import Gate
    from ilvren.problem import Problem, RowBlock

__all__ = ["check_first_values", "check_simulated"]

# A first value breaks a limit by more than this share of the limit's size.
MISSED = 1e-9


def check_simulated(problem: Problem, gate: Gate) -> list[Finding]:
    """Return why what evolves cannot be simulated at the start, where it cannot."""
    found = []
    point = np.array(problem.start)
    simulations = problem.bound_simulations(gate.calls)
    for axis, simulation, inputs in zip(
        problem.template.built_axes if simulations else [],
        simulations,
        problem.simulation_inputs(point, gate.calls) if simulations else [],
        strict=True,
    ):
        reason = simulation.point(inputs).reason
        if reason:
            case = f" (case {axis.case})" if axis.case else ""
            text = f"from the start nothing can be simulated{case}: {reason}"
            found.append(Finding("domain", ("states",), text))
    return found


def check_first_values(problem: Problem, gate: Gate) -> list[Finding]:
    """Return limits over time that are broken at the beginning by first values that no variable moves."""
    template = problem.template
    known = {
        state.name
        for state in template.declarations.states
        if state.initial is not None and state.every is None and not _depends(problem, state.initial)
    }
    suffixes = {axis.suffix for axis in template.built_axes}
    names = {name + suffix for name in known for suffix in {"", *suffixes}}
    fixed = names | {axis.t_name for axis in template.built_axes} | {"t", "pi"}
    fixed |= {entry.name for entry in template.declarations.parameters}
    found = []
    rows = None
    for block in problem.row_blocks:
        if block.times is None or block.measure is not None or not block.size or not _is_about(block, fixed, names):
            continue
        begins = {axis.time_at(0.0, list(problem.start), problem) for axis in template.built_axes}
        if block.times[0] not in begins:
            continue
        rows = gate.evaluate(np.array(problem.start)).rows if rows is None else rows
        for place in range(block.size // len(block.times)):
            value, low, high = (float(v[place]) for v in (rows[block.first :], block.lower, block.upper))
            limit = low if value < low - MISSED * max(abs(low), 1.0) else high
            if value < low - MISSED * max(abs(low), 1.0) or value > high + MISSED * max(abs(high), 1.0):
                sign = ">=" if limit == low else "<="
                text = f"{block.row_name(place)} is {value:.6g} whatever the design, by its first values, and must be"
                found.append(Finding("conflict", (block.entry,), f"{text} {sign} {limit:.6g}", block.line))
    return found


def _is_about(block: RowBlock, fixed: set[str], states: set[str]) -> bool:
    words = {word.name for side in parse_limits(block.text).sides for word in names_in(side)}
    return bool(words & states) and words <= fixed


def _depends(problem: Problem, initial: object) -> bool:
    """Return whether a first value may move with the design: only numbers and formulas of parameters do not."""
    if not isinstance(initial, str):
        return isinstance(initial, tuple)
    from ilvren.formula import parse_formula

    known = {entry.name for entry in problem.template.declarations.parameters}
    return not {word.name for word in names_in(parse_formula(initial))} <= known | {"pi"}
