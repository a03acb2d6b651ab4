"""Results as notebooks show them: tables, sentences and a figure, as a piece of HTML that stands by itself."""

from __future__ import annotations

import base64
import math
from collections.abc import Iterable, Sequence
from functools import singledispatch
from typing import Any

import numpy as np

from ilvren.draw.contest import draw_series
from ilvren.draw.fronts import DrawnFront, draw_front
from ilvren.draw.histories import draw_histories
from ilvren.draw.report.numbers import number
from ilvren.draw.report.page import rendered
from ilvren.draw.report.picture import Picture, pictured
from ilvren.draw.report.section import Section, sentence
from ilvren.draw.report.words import active_rows, check_rows
from ilvren.draw.scatter import draw_scatter
from ilvren.draw.sensitivity import draw_sensitivity
from ilvren.draw.sweep import draw_sweep
from ilvren.errors import IlvrenError
from ilvren.explore import DesignTable
from ilvren.explore.scatter import ScatterResult
from ilvren.explore.sensitivity import Sensitivity
from ilvren.judge import MEANINGS, Comparison, ContestSummary, Diagnosis, Verdict, compare, curve_of_sweep
from ilvren.judge.checking import CheckReport
from ilvren.problem import Problem
from ilvren.runs import OUTCOMES, LimitState, Repeats, RunResult, Sweep

__all__ = ["as_html"]

# Rows of a table; of more the first, which is said.
MOST_ROWS = 40
# Columns of variables in a table, and inputs told of an output.
MOST_COLUMNS = 8


def as_html(shown: object) -> str:
    """Return a result as HTML: headings, sentences, tables and pictures, with nothing to be fetched. Raises TypeError
    for what has no page."""
    problem = shown if isinstance(shown, Problem) else None
    return rendered(
        "notebook.html.j2",
        sections=list(_sections(shown)),
        problem=problem,
        encoded=lambda data: base64.b64encode(data).decode("ascii"),
    )


@singledispatch
def _sections(shown: object) -> Iterable[Section]:
    raise TypeError(f"{type(shown).__name__} has no page for notebooks")


def _table(
    title: str, sentences: Sequence[str], heads: Sequence[str], rows: Sequence[Sequence[str]], *, of: int = 0
) -> Section:
    """Return a section with a table cut short, which then is said; `of` so many rows where not all were made."""
    told, count = list(sentences), max(of, len(rows))
    if count > MOST_ROWS:
        told.append(f"The first {MOST_ROWS} of {count:,}; to_dict() has all.")
    return Section(title, tuple(told), tuple(heads), tuple(tuple(row) for row in rows[:MOST_ROWS]))


def _picture(drawn: Any, shows: str) -> tuple[Picture, ...]:
    try:
        return (pictured(drawn, shows),)
    except (IlvrenError, ValueError):  # nothing to be drawn: the tables tell
        return ()


def _unit(name: str, unit: str) -> str:
    return f"{name} [{unit}]" if unit else name


def _named(problem: Problem) -> str:
    return problem.title or problem.source.file


@_sections.register
def _of_problem(problem: Problem) -> Iterable[Section]:
    rows = [
        (item.name, item.unit, number(item.shown(item.start)), number(item.lower, 5), number(item.upper, 5), item.about)
        for item in problem.variables[:MOST_ROWS]
    ]
    free = f"{len(problem.free):,} of {problem.size:,} variables are free; {problem.row_count:,} constraint rows."
    heads = ("variable", "unit", ">start", ">lower", ">upper", "about")
    yield _table(_named(problem), [free], heads, rows, of=problem.size)


def _limit_rows(states: Iterable[LimitState], feasibility: float) -> list[tuple[str, ...]]:
    return [
        (
            state.name,
            number(state.value),
            state.unit,
            number(state.lower, 5),
            number(state.upper, 5),
            number(state.price, 4),
            state.word(feasibility),
        )
        for state in states
    ]


@_sections.register
def _of_result(result: RunResult) -> Iterable[Section]:
    problem = result.problem
    objective = problem.objective
    told = [f"{result.outcome}: {OUTCOMES[result.outcome]}.", sentence(result.reason)]
    if objective is not None and result.objective is not None:
        told.append(f"{_unit(objective.name, objective.unit)} = {number(result.objective)}.")
    told.append(f"{result.counts['evaluations']:,} evaluations, violation {number(result.violation, 2)}.")
    title = f"{result.id} {result.method} on {_named(problem)}".strip()
    if result.front is not None:
        yield _front_section(result, title, told)
        return
    bounds = {state.name: state for state in result.bounds}
    rows = [
        (
            variable.name,
            number(variable.shown(value)),
            variable.unit,
            number(variable.lower, 5),
            number(variable.upper, 5),
            number(bounds[variable.name].price, 4) if variable.name in bounds else "–",
        )
        for variable, value in zip(problem.variables[:MOST_ROWS], result.point, strict=False)
    ]
    yield _table(title, told, ("variable", ">value", "unit", ">lower", ">upper", ">price"), rows, of=problem.size)
    feasibility = float(str(result.settings.get("feasibility", 1e-6)))
    worst = result.worst_constraints(MOST_ROWS)
    if worst:
        more = (
            [f"The worst {len(worst)} of {len(result.constraints):,}."] if len(worst) < len(result.constraints) else []
        )
        heads = ("constraint", ">value", "unit", ">lower", ">upper", ">price", "note")
        yield _table("Constraints", more, heads, _limit_rows(worst, feasibility))
    if len(result.iterations) > 1 and objective is not None:
        yield Section("", pictures=_picture(lambda path: draw_histories(compare(result), path), "how it came there"))


def _front_section(result: RunResult, title: str, told: list[str]) -> Section:
    front = result.front
    assert front is not None
    names = list(front.sense.names)
    values = np.array([[member.objectives[name] for name in names] for member in front.members]).reshape(-1, len(names))
    drawn = DrawnFront(title, front.sense, values, [""] * len(values), np.zeros((0, len(names))), [()] * len(values))
    units = {item.name: item.unit for item in front.sense.objectives}
    heads = [f">{_unit(name, units.get(name, ''))}" for name in names]
    rows = [tuple(number(value) for value in row) for row in values.tolist()]
    section = _table(title, told, heads, rows)
    pictures = _picture(lambda path: draw_front(drawn, path), f"the front of {', '.join(names)}") if len(values) else ()
    return Section(section.title, section.sentences, section.heads, section.rows, pictures)


@_sections.register
def _of_verdict(verdict: Verdict) -> Iterable[Section]:
    word = "holds" if verdict.holds else "does not hold"
    told = [f"{verdict.verdict} ({word}): {MEANINGS[verdict.verdict]}.", sentence(verdict.reason)]
    if verdict.better:
        told.append(
            "Better: " + ", ".join(f"{key} = {number(own)}" for key, own in verdict.better_design().items()) + "."
        )
    title = f"{verdict.run} verified afresh on {_named(verdict.problem)}".strip()
    yield _table(title, told, ("check", "result", ">value", ">limit", "detail"), check_rows(verdict))
    if verdict.active:
        yield _table("Active limits", [], ("limit", "side", ">value", ">price"), active_rows(verdict))


@_sections.register
def _of_comparison(comparison: Comparison) -> Iterable[Section]:
    rows = [
        (
            track.id,
            track.label or "",
            track.method,
            track.outcome,
            number(track.final_objective),
            number(comparison.gap(track), 3),
            number(track.final_violation, 2),
            f"{track.counts.get('evaluations', 0):,}",
        )
        for track in comparison.tracks
    ]
    heads = ("run", "label", "method", "outcome", ">objective", ">gap", ">violation", ">evaluations")
    best = "none feasible" if comparison.best is None else number(comparison.best, 8)
    section = _table(comparison.problem_name, [f"Best known: {best}.", *map(sentence, comparison.notes)], heads, rows)
    pictures = _picture(lambda path: draw_histories(comparison, path), "gap, violation and stationarity of the runs")
    yield Section(section.title, section.sentences, section.heads, section.rows, pictures)


@_sections.register
def _of_sweep(found: Sweep) -> Iterable[Section]:
    problem = found.members[0].result.problem
    objective = problem.objective
    variables = [item for item in problem.variables if item.name != found.over][:MOST_COLUMNS]
    places = [problem.variables.index(item) for item in variables]
    rows = []
    for member in found.members:
        result = member.result
        values = [number(item.shown(result.point[place])) for item, place in zip(variables, places, strict=True)]
        rows.append((number(found.shown(member.value)), result.outcome, number(result.objective), *values))
    name = "objective" if objective is None else _unit(objective.name, objective.unit)
    heads = [
        f">{_unit(found.over, found.unit)}",
        "outcome",
        f">{name}",
        *(f">{_unit(v.name, v.unit)}" for v in variables),
    ]
    others = len(problem.variables) - len(variables) - any(item.name == found.over for item in problem.variables)
    told = [f"{others:,} more variables stand in to_dict()."] if others else []
    section = _table(f"{_named(problem)} over {found.over}", told, heads, rows)
    shows = f"the optimum against {found.over}"
    pictures = _picture(lambda path: draw_sweep(curve_of_sweep(found), path), shows)
    yield Section(section.title, section.sentences, section.heads, section.rows, pictures)


@_sections.register
def _of_check(report: CheckReport) -> Iterable[Section]:
    word = "nothing found makes the check fail" if report.holds else "what was found makes the check fail"
    told = [f"{'Holds' if report.holds else 'Does not hold'}: {word}."]
    if report.derivatives is not None:
        told.append(
            f"{report.derivatives.agreed:,} of {report.derivatives.compared:,} derivatives agree with differences."
        )
    rows = [(finding.kind, str(finding.line or ""), finding.text) for finding in report.findings]
    yield _table(f"{_named(report.problem)} checked", told, ("finding", ">line", "what"), rows)


@_sections.register
def _of_designs(table: DesignTable) -> Iterable[Section]:
    names = table.names[:MOST_COLUMNS]
    columns = [table.column(name) for name in names]
    units = table.units
    rows = [
        (
            design.address,
            *(number(table.told(name, float(own[place]))) for name, own in zip(names, columns, strict=True)),
            number(design.violation, 2),
        )
        for place, design in enumerate(table.designs[:MOST_ROWS])
    ]
    told = [f"{len(table.designs):,} of {table.total:,} designs of {', '.join(table.runs)}."]
    if len(names) < len(table.names):
        told.append(f"{len(names)} of {len(table.names)} quantities.")
    heads = ("design", *(f">{_unit(name, units.get(name, ''))}" for name in names), ">violation")
    yield _table(_named(table.problem), told, heads, rows, of=len(table.designs))


@_sections.register
def _of_contest(summary: ContestSummary) -> Iterable[Section]:
    rows = [
        (
            item.series,
            str(item.runs),
            f"{100 * item.share:.0f} %",
            "never" if math.isinf(item.costs.median) else number(item.costs.median, 4),
            "–" if math.isinf(item.gaps.median) else f"{item.gaps.median:.1e}",
        )
        for item in summary.methods
    ]
    heads = ("method", ">runs", ">solved", f">median cost in {summary.along}", ">median gap")
    section = _table(summary.name, [test.sentence for test in summary.tests], heads, rows)
    pictures = _picture(lambda path: draw_series(summary, path), "how the methods came on")
    yield Section(section.title, section.sentences, section.heads, section.rows, pictures)


@_sections.register
def _of_scatter(found: ScatterResult) -> Iterable[Section]:
    from ilvren.draw.report.scatter import HEADS, rows_left_out, rows_of

    told = [f"{found.scenarios:,} scenarios of {found.design}.", *map(sentence, found.notes)]
    told += [sentence(rows_left_out(found))] if rows_left_out(found) else []
    section = _table("As it will be made", told, HEADS, rows_of(found))
    pictures = _picture(lambda path: draw_scatter(found, path), "how quantities scatter, and what drives them")
    yield Section(section.title, section.sentences, section.heads, section.rows, pictures)


@_sections.register
def _of_sensitivity(found: Sensitivity) -> Iterable[Section]:
    rows = [
        (output, driver.variable, number(driver.size, 4))
        for output, drivers in found.of.items()
        for driver in sorted(drivers, key=lambda own: -own.size if math.isfinite(own.size) else math.inf)[:MOST_COLUMNS]
    ]
    told = list(map(sentence, found.notes))
    if any(len(drivers) > MOST_COLUMNS for drivers in found.of.values()):
        told.append(f"Of each output the {MOST_COLUMNS} strongest; to_dict() has all.")
    section = _table(f"What drives what, by {found.kind}", told, ("output", "by", ">size"), rows)
    pictures = _picture(lambda path: draw_sensitivity(found, path), "what drives each output")
    yield Section(section.title, section.sentences, section.heads, section.rows, pictures)


@_sections.register
def _of_repeats(found: Repeats) -> Iterable[Section]:
    rows = [
        (result.id, str(result.seed), result.outcome, number(result.objective), f"{result.counts['evaluations']:,}")
        for result in found.runs
    ]
    told = [f"{100 * found.share:.0f} % of {len(found.runs)} seeds reached what they were asked."]
    problem = found.runs[0].problem
    heads = ("run", ">seed", "outcome", ">objective", ">evaluations")
    yield _table(f"{found.runs[0].method} on {_named(problem)}", told, heads, rows)


@_sections.register
def _of_diagnosis(found: Diagnosis) -> Iterable[Section]:
    rows = [(item.kind, str(item.line or ""), item.text) for item in found.symptoms]
    told = [f"{found.outcome}: {found.reason}."]
    yield _table(f"{found.run} on {_named(found.problem)}", told, ("kind", ">line", "what was found"), rows)
    yield _table("What to try", [], ("command", "why"), list(found.advice))
