"""The rows and sentences that the page and the text version share."""

from __future__ import annotations

import math
from collections.abc import Sequence
from typing import TYPE_CHECKING

import numpy as np

from ilvren.draw.report.numbers import number

if TYPE_CHECKING:
    from ilvren.draw.report.content import Chapter, Report
    from ilvren.judge import Verdict
    from ilvren.problem import Variable
    from ilvren.runs import LimitState

__all__ = [
    "active_note",
    "active_rows",
    "check_rows",
    "design_rows",
    "left_out",
    "method_rows",
    "quantity_rows",
    "settings_rows",
    "verdict_line",
]

# Active limits told.
MOST_LIMITS = 50
# Variables told in the table of designs; of more those that differ most.
MOST_VARIABLES = 40
# Derived values and outputs told.
MOST_QUANTITIES = 60


def verdict_line(chapter: Chapter) -> str:
    """Return the verdict's word and whether it holds."""
    if chapter.verdict is None:
        return "not judged"
    return f"{chapter.verdict.verdict} ({'holds' if chapter.verdict.holds else 'does not hold'})"


def check_rows(verdict: Verdict) -> list[tuple[str, str, str, str, str]]:
    """Return name, result, value, limit and sentence of every check."""
    return [
        (check.name, check.result, _short(check.value), _short(check.limit), check.detail) for check in verdict.checks
    ]


def _short(value: float | None) -> str:
    if value is None:
        return ""
    return "0" if value == 0.0 else f"{value:.2g}"


def active_rows(verdict: Verdict) -> list[tuple[str, str, str, str]]:
    """Return name, side, value and price of the active limits, of very many the most priced."""
    objective = verdict.problem.objective
    unit = objective.unit if objective is not None else ""
    shown = verdict.active
    if len(shown) > MOST_LIMITS:
        shown = tuple(sorted(shown, key=lambda state: -abs(state.price or 0.0))[:MOST_LIMITS])
    return [(state.name, state.side, _with(number(state.value), state.unit), _price(state, unit)) for state in shown]


def active_note(verdict: Verdict) -> str:
    """Return how many active limits are not told, or nothing."""
    more = len(verdict.active) - MOST_LIMITS
    return f"The {MOST_LIMITS} most priced of {len(verdict.active)} active limits." if more > 0 else ""


def _price(state: LimitState, unit: str) -> str:
    if state.price is None:
        return "–"
    text = _with(number(state.price, 4), f"{unit or '1'}/{state.unit}" if state.unit else unit)
    return text if state.is_unique else f"{text} (not unique)"


def _with(text: str, unit: str) -> str:
    return f"{text} {unit}".rstrip()


def design_rows(report: Report) -> list[tuple[str, str, str, str, Sequence[str]]]:
    """Return name, unit, bounds, baseline and the value in each run of the variables, in the file's order where all are
    told."""
    problem = report.problem
    variables = {
        variable.name: (variable, base) for variable, base in zip(problem.variables, problem.baseline, strict=True)
    }
    names = [item.name for item in report.differences]
    if len(names) <= MOST_VARIABLES:
        order = [name for name in variables if name in names] + [name for name in names if name not in variables]
    else:
        order = names[:MOST_VARIABLES]
    found = {item.name: item for item in report.differences}
    rows: list[tuple[str, str, str, str, Sequence[str]]] = []
    for name in order:
        values = [number(value) for value in found[name].values]
        variable, base = variables.get(name, (None, None))
        if variable is not None and variable.words:
            words = [_word(variable, value) for value in found[name].values]
            rows.append(
                (
                    name,
                    "",
                    ", ".join(_word(variable, k) for k in variable.catalogue or ()),
                    _word(variable, base),
                    words,
                )
            )
            continue
        bounds = "" if variable is None else f"{number(variable.lower, 5)} … {number(variable.upper, 5)}"
        rows.append((name, found[name].unit, bounds, number(base), values))
    return rows


def _word(variable: Variable, value: float | None) -> str:
    """Return the word of a choice."""
    return "–" if value is None else variable.words[round(value) - 1]


def quantity_rows(report: Report) -> list[tuple[str, str, Sequence[str]]]:
    """Return name, unit and the value at each run's design of the derived values and models' outputs; of vectors the
    least and the largest element."""
    units = report.problem.quantity_units
    told = [chapter.record.result.get("derived", {}) if chapter.record.result else {} for chapter in report.chapters]
    found = [own for own in told if isinstance(own, dict)]
    names = list(dict.fromkeys(name for own in found for name in own))[:MOST_QUANTITIES]
    return [(name, units.get(name, ""), [_told(own.get(name)) for own in found]) for name in names]


def left_out(report: Report) -> str:
    """Return how many variables and derived values the tables of a page do not tell, or nothing."""
    variables = len(report.differences) - MOST_VARIABLES
    told = [chapter.record.result.get("derived", {}) if chapter.record.result else {} for chapter in report.chapters]
    derived = len({name for own in told if isinstance(own, dict) for name in own}) - MOST_QUANTITIES
    counts = [f"{variables:,} more variables"] * (variables > 0) + [f"{derived:,} more derived values"] * (derived > 0)
    return f"{' and '.join(counts)} stand in `ilvren show RUN --json`." if counts else ""


def _told(value: object) -> str:
    flat = np.ravel(np.array(value, dtype=object))
    numbers = [item for item in flat.tolist() if isinstance(item, (int, float))]
    if not numbers:
        return "–"
    if len(flat) == 1:
        return number(float(numbers[0]))
    return f"{number(float(min(numbers)), 5)} … {number(float(max(numbers)), 5)}"


def method_rows(report: Report) -> list[tuple[str, ...]]:
    """Return method, runs, share solved, cost at a quarter, half and three quarters, median gap and failures."""
    if report.contest is None:
        return []
    rows = []
    for item in report.contest.methods:
        costs = [
            "never" if math.isinf(value) else number(value, 4)
            for value in (item.costs.lower, item.costs.median, item.costs.upper)
        ]
        failures = ", ".join(f"{count} {word}" for word, count in item.failures.items())
        gap = "–" if math.isinf(item.gaps.median) else f"{item.gaps.median:.1e}"
        rows.append((item.series, str(item.runs), f"{100 * item.share:.0f} %", *costs, gap, failures))
    return rows


def settings_rows(report: Report) -> list[tuple[str, Sequence[str]]]:
    """Return each setting and its value in every run, then the versions."""
    keys = list(dict.fromkeys(key for chapter in report.chapters for key in chapter.record.settings))
    rows: list[tuple[str, Sequence[str]]] = []
    for key in keys:
        values = [_plain(chapter.record.settings.get(key)) for chapter in report.chapters]
        if any(values):
            rows.append((key, values))
    for key in dict.fromkeys(key for chapter in report.chapters for key in chapter.record.versions):
        rows.append((f"version: {key}", [chapter.record.versions.get(key, "") for chapter in report.chapters]))
    return rows


def _plain(value: object) -> str:
    if value is None or value == {}:
        return ""
    if isinstance(value, bool):
        return "yes" if value else "no"
    if isinstance(value, dict):
        return ", ".join(f"{name}={own}" for name, own in value.items())
    return f"{value:g}" if isinstance(value, float) else str(value)
