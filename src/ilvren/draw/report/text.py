"""The report as text: Markdown with tables."""

from __future__ import annotations

from collections.abc import Iterator, Sequence
from pathlib import Path
from typing import TYPE_CHECKING

from ilvren.draw.report.numbers import number
from ilvren.draw.report.scatter import HEADS
from ilvren.draw.report.section import sentence
from ilvren.draw.report.words import (
    active_note,
    active_rows,
    check_rows,
    design_rows,
    left_out,
    method_rows,
    quantity_rows,
    settings_rows,
    verdict_line,
)
from ilvren.judge import MEANINGS
from ilvren.printable import markdown_lines
from ilvren.version import __version__

if TYPE_CHECKING:
    from ilvren.draw.report.content import Chapter, Report
    from ilvren.draw.report.section import Section
    from ilvren.problem import Problem

__all__ = ["problem_lines", "section_lines", "table_lines", "write_text"]


def write_text(report: Report, path: str) -> None:
    """Write the report to `path`."""
    Path(path).write_text("\n".join(markdown_lines(_lines(report, Path(path)))) + "\n", encoding="utf-8")


def _lines(report: Report, target: Path) -> Iterator[str]:
    ids = ", ".join(chapter.record.id for chapter in report.chapters)
    yield f"# {report.title}"
    yield ""
    yield f"{ids} · {report.problem.source.file} · made {report.made} by Ilvren {__version__}"
    yield ""
    for chapter in report.chapters:
        yield f"- {_summary(chapter)}"
    yield from problem_lines(report.problem)
    yield from ("", "## Baseline and final design", "")
    names = [chapter.track.name for chapter in report.chapters]
    rows = [(name, unit, bounds, base, *values) for name, unit, bounds, base, values in design_rows(report)]
    yield from table_lines(("variable", "unit", "bounds", "baseline", *names), rows)
    quantities = [(name, unit, *values) for name, unit, values in quantity_rows(report)]
    if quantities:
        yield ""
        yield from table_lines(("derived", "unit", *names), quantities)
    if left_out(report):
        yield from ("", left_out(report))
    yield from _histories(report)
    methods = method_rows(report)
    if methods and report.contest is not None:
        yield from ("", "## Methods of the contest", "")
        heads = ("method", "runs", "solved", "cost: quarter", "half", "three quarters", "median gap", "failures")
        yield from table_lines(heads, methods)
        yield ""
        for test in report.contest.tests:
            yield f"- {test.sentence}"
    yield from ("", "## Verification")
    for chapter in report.chapters:
        yield from _verification(chapter)
    yield from section_lines(report.further, target)
    if report.scatter is not None:
        yield from ("", "## As it will be made")
        for headline, told in report.scatter.tables:
            yield from ("", f"### {headline}", "")
            yield from table_lines(HEADS, told)
        yield from ("", *(f"- {note}" for note in report.scatter.notes))
    yield from ("", "## Do it again", "", "```sh", *report.commands, "```", "")
    yield from table_lines(("setting", *names), [(name, *values) for name, values in settings_rows(report)])


def _summary(chapter: Chapter) -> str:
    track = chapter.track
    objective = track.problem.objective
    value = ""
    if objective is not None and track.final_objective is not None:
        value = f", {objective.name} = {number(track.final_objective, 8)} {objective.unit}".rstrip()
    count = track.counts.get("evaluations", "?")
    head = f"**{track.name}**, {chapter.record.method}: {track.outcome}{value} after {count} evaluations"
    return f"{head}; verdict **{verdict_line(chapter)}**"


def problem_lines(problem: Problem) -> Iterator[str]:
    """Give the lines that tell a problem."""
    yield from ("", "## The problem", "")
    if problem.about:
        yield from (problem.about, "")
    for objective in problem.objectives:
        word = "minimize" if objective.sign > 0 else "maximize"
        yield f"    {word}  {objective.name} = {objective.text}"
    for place, block in enumerate(problem.row_blocks):
        yield f"    {'subject to' if place == 0 else '          '}  {block.name}: {block.text}"
    for place, item in enumerate(item for item in problem.derived if item.text):
        yield f"    {'with' if place == 0 else '    '}  {item.name} = {item.text}"


def _histories(report: Report) -> Iterator[str]:
    yield from ("", "## Histories", "")
    distances = list(report.comparison.arrivals[0])
    heads = ("run", "iterations", "evaluations", "gradients", *(f"to {distance:g}" for distance in distances))
    rows = []
    for chapter, arrivals in zip(report.chapters, report.comparison.arrivals, strict=True):
        counts = chapter.track.counts
        told = ["never" if value is None else number(value, 4) for value in arrivals.values()]
        rows.append(
            (
                chapter.track.name,
                *(str(counts.get(key, "")) for key in ("iterations", "evaluations", "gradients")),
                *told,
            )
        )
    yield from table_lines(heads, rows)
    yield ""
    best = number(report.comparison.best, 8)
    worth = number(report.comparison.gradient_worth)
    yield f"Evaluations until a feasible design was that close to the best known ({best});"
    yield f"a gradient counts as {worth}."


def _verification(chapter: Chapter) -> Iterator[str]:
    yield from ("", f"### {chapter.track.name}, {chapter.record.method}: {verdict_line(chapter)}", "")
    verdict = chapter.verdict
    if verdict is None:
        yield chapter.unjudged
        return
    yield f"{sentence(MEANINGS[verdict.verdict])} {sentence(verdict.reason)}"
    if verdict.active:
        yield ""
        yield from table_lines(("active limit", "side", "value", "price"), active_rows(verdict))
        yield from filter(None, (active_note(verdict),))
    yield ""
    yield from table_lines(("check", "result", "value", "limit", "what it says"), check_rows(verdict))


def section_lines(sections: Sequence[Section], target: Path) -> Iterator[str]:
    """Give the lines of sections; their pictures go beside the file `target`, as NAME-1.png and so on."""
    number_ = 0
    for section in sections:
        yield from ("", f"## {section.title}", "")
        if section.sentences:
            yield from (" ".join(section.sentences), "")
        if section.rows:
            yield from table_lines([head.lstrip(">") for head in section.heads], section.rows)
        for picture in section.pictures:
            number_ += 1
            beside = target.with_name(f"{target.stem}-{number_}.png")
            beside.write_bytes(picture.data)
            yield from ("", f"![{picture.shows}]({beside.name})")


def table_lines(heads: Sequence[str], rows: Sequence[Sequence[str]]) -> Iterator[str]:
    """Give the lines of a table."""
    yield _row(heads)
    yield "|" + "---|" * len(heads)
    for row in rows:
        yield _row(row)


def _row(cells: Sequence[str]) -> str:
    return "| " + " | ".join(cell.replace("|", "\\|").replace("\n", " ") for cell in cells) + " |"
