"""Tables of what evolves over time."""

from __future__ import annotations

from collections.abc import Mapping, Sequence
from typing import TYPE_CHECKING, Any

import numpy as np

from ilvren.cli.tables.blocks import shape_note
from ilvren.cli.tables.table import count, number, table
from ilvren.problem import names_told, time_facts

if TYPE_CHECKING:
    from rich.table import Table

    from ilvren.problem import Problem
    from ilvren.runs import TimeReport

__all__ = ["error_line", "horizon_lines", "over_time_table"]


def horizon_lines(problem: Problem, report: TimeReport | None) -> list[str]:
    """Return from when to when, how finely, and what simulating costs."""
    found = []
    for axis in problem.template.built_axes:
        facts = time_facts(axis)
        unit = f" {facts.unit}" if facts.unit else ""
        end = "an end that the design gives" if facts.end is None else f"{number(facts.end)}{unit}"
        case = f" in {axis.case}" if axis.case else ""
        parts = [count(facts.states, "state number")]
        parts += [count(facts.samples, "sampled one")] if facts.samples else []
        parts += [count(facts.integrals, "integral")] if facts.integrals else []
        parts += [count(facts.controls, "control number")] if facts.controls else []
        parts += [count(facts.lags, "delay")] if facts.lags else []
        found.append(
            f"over time{case}: from {number(facts.begin)} to {end}, {facts.moments} moments; {', '.join(parts)}"
        )
    found.append(error_line(report))
    return found


def error_line(report: TimeReport | None) -> str:
    """Return what simulating costs at a design."""
    if report is None:
        return "cannot be simulated here"
    halved = ", halved, being chosen for another design" if report.is_halved else ""
    verdict = "" if report.is_met else f", above the tolerance of {report.limit:.0e}"
    estimate = f"{report.estimate:.1e}" if np.isfinite(report.estimate) else "unknown"
    how = f"simulated in {count(report.steps, 'step')} ({report.scheme}{halved})"
    return f"{how}; error of the states {estimate} of their sizes{verdict}"


def over_time_table(problem: Problem, signals: Sequence[Mapping[str, Any]]) -> Table:
    """Return every name over time: what it is, its ends and extremes, its formula."""
    rows = []
    for axis, values in zip(problem.template.built_axes, signals, strict=True):
        for item in names_told(axis):
            value = np.asarray(values[item.name])
            name = f"{item.name} {shape_note(value.shape[1:])}".rstrip()
            flat = value.reshape(len(value), -1)
            if flat.shape[1] == 1:
                ends = [float(flat[0, 0]), float(np.min(flat)), float(np.max(flat)), float(flat[-1, 0])]
                cells = [number(end) for end in ends]
            else:
                cells = ["", number(float(np.min(flat))), number(float(np.max(flat))), ""]
            rows.append((name, item.kind, *cells, item.unit, " ".join(item.text.split())))
    return table(("over time", "kind", ">first", ">lowest", ">highest", ">last", "unit", "rate or formula"), rows)
