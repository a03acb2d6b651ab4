"""What a report tells, gathered from the ledger: the problem, the runs, their histories, the verdicts, how to do it
again."""

from __future__ import annotations

import datetime
import shlex
from collections.abc import Sequence
from pathlib import Path
from typing import TYPE_CHECKING

from ilvren.draw.report.further import further_sections
from ilvren.draw.report.scatter import ScatterPart, scatter_part
from ilvren.draw.report.section import Section
from ilvren.errors import RequestError
from ilvren.judge import (
    Comparison,
    ContestSummary,
    DesignDifference,
    FinalOptimum,
    Track,
    VerifyOptions,
    compared,
    contest_summary,
    final_optima,
    sorted_differences,
    track_of_record,
    verify,
)
from ilvren.ledger import Ledger, RunRecord
from ilvren.problem import Problem
from ilvren.records import dataclass
from ilvren.runs import command_again, problem_of

if TYPE_CHECKING:
    from ilvren.judge import Verdict

__all__ = ["Chapter", "Report", "gather"]

# Runs that are told one by one; of a larger group, the best of each method.
MOST_RUNS = 8


@dataclass(frozen=True)
class Chapter:
    """One run: its record and track, the verdict on it (None where it has no design, with the reason in `unjudged`),
    and the command that made it."""

    record: RunRecord
    track: Track
    verdict: Verdict | None
    unjudged: str
    command: str


@dataclass(frozen=True, kw_only=True)
class Report:
    """Everything a report tells. `comparison` covers the runs told one by one; `contest` all runs of the groups;
    `scatter` how the designs fare when they are not made exactly, None where nothing says how they scatter; `further`
    what some kinds of runs have beside a design."""

    title: str
    made: str
    problem: Problem
    chapters: tuple[Chapter, ...]
    comparison: Comparison
    contest: ContestSummary | None
    differences: tuple[DesignDifference, ...]
    optima: tuple[FinalOptimum, ...]
    commands: tuple[str, ...]
    ledger: str
    scatter: ScatterPart | None = None
    further: tuple[Section, ...] = ()


def gather(references: Sequence[str], ledger: Ledger | str | Path, *, extra: VerifyOptions | None = None) -> Report:
    """Gather the report on runs and groups of one problem. Every run that is told is verified now. Raises
    RequestError."""
    opened = ledger if isinstance(ledger, Ledger) else Ledger(ledger, read_only=True)
    try:
        has_groups = any(opened.is_group(name) for name in references)
        contest = contest_summary(references, opened) if has_groups else None
        if contest is not None and len(contest.comparisons) > 1:
            raise RequestError(
                f"{contest.name} holds several problems; a report is on one",
                advice="name the runs of one problem, or hold a contest for each",
            )
        records = [opened.run(name) for name in references] if contest is None else _chosen(contest, opened)
        if len({record.id for record in records}) < len(records):
            raise RequestError("a run is named twice")
        chapters = tuple(_chapter(record, opened, extra) for record in records)
        scatter = scatter_part(records, opened)
        further = further_sections(records, opened)
    finally:
        if opened is not ledger:
            opened.close()
    problem = problem_of(records[0])
    tracks = [chapter.track for chapter in chapters]
    path = str(opened.path)
    flag = "" if path == "ilvren.ledger" else f" --ledger {shlex.quote(path)}"
    commands = [chapter.command for chapter in chapters]
    commands += [f"ilvren verify {chapter.record.id}{flag}" for chapter in chapters if chapter.verdict is not None]
    if len(chapters) > 1:
        commands.append(f"ilvren compare {' '.join(chapter.record.id for chapter in chapters)}{flag}")
    return Report(
        title=problem.title or problem.source.file,
        made=datetime.datetime.now(datetime.UTC).strftime("%Y-%m-%d %H:%M UTC"),
        problem=problem,
        chapters=chapters,
        comparison=compared(tracks),
        contest=contest,
        differences=sorted_differences(tracks),
        optima=final_optima(tracks),
        commands=tuple(commands),
        ledger=path,
        scatter=scatter,
        further=further,
    )


def _chosen(contest: ContestSummary, ledger: Ledger) -> list[RunRecord]:
    """Return the best run of each method, best first."""
    comparison = contest.comparisons[0]
    order = []
    for place, case in enumerate(contest.cases[0]):
        gap = comparison.gap(case.track)
        order.append((float("inf") if gap is None else gap, place, case))
    chosen: dict[str, str] = {}
    for _, _, case in sorted(order, key=lambda item: item[:2]):
        chosen.setdefault(case.series, case.track.id)
    return [ledger.run(name) for name in list(chosen.values())[:MOST_RUNS]]


def _chapter(record: RunRecord, ledger: Ledger, extra: VerifyOptions | None) -> Chapter:
    track = track_of_record(ledger, record)
    command = command_again(record)
    try:
        verdict = verify(record.id, ledger=ledger, extra=extra)
    except RequestError as error:
        return Chapter(record, track, None, str(error), command)
    return Chapter(record, track, verdict, "", command)
