"""Reports on fronts: what was asked, what trades off against what, where to choose, and whether each design holds."""

from __future__ import annotations

import datetime
from collections import Counter
from collections.abc import Sequence
from typing import TYPE_CHECKING

import numpy as np

from ilvren.algebra import spread_subset
from ilvren.draw.fronts import DrawnFront, draw_front, draw_fronts
from ilvren.draw.report.numbers import number
from ilvren.draw.report.picture import Picture, pictured
from ilvren.draw.report.section import Section
from ilvren.draw.report.surveys import Survey
from ilvren.errors import RequestError
from ilvren.explore import DesignTable, corners, designs_of, held_by, knee
from ilvren.judge import MEANINGS
from ilvren.judge.fronts import (
    FRONT_MEANINGS,
    FrontComparison,
    FrontTrack,
    FrontVerdict,
    compare_fronts,
    track_of_front,
    verify_front,
)
from ilvren.problem import unfronted
from ilvren.runs import command_again, problem_of

if TYPE_CHECKING:
    from ilvren.ledger import Ledger, RunRecord

__all__ = ["front_survey", "has_fronts"]

# Members listed of each front, and variables of each.
MOST_LISTED, MOST_VARIABLES, MOST_DRAWN = 40, 8, 150


def has_fronts(references: Sequence[str], ledger: Ledger) -> bool:
    """Return whether a report is on runs of several objectives."""
    for name in references:
        if ledger.is_approximation(name) or ledger.is_group(name):
            return False
        record = ledger.run(name)
        if "sample" in record.overrides or len(problem_of(record).objectives) < 2:
            return False
    return True


def front_survey(references: Sequence[str], ledger: Ledger, *, prove: bool = False) -> Survey:
    """Gather the report on fronts of one problem. Raises RequestError."""
    records = [ledger.run(name) for name in references]
    if len({record.id for record in records}) < len(records):
        raise RequestError("a run is named twice")
    tracks = [track_of_front(ledger, record) for record in records]
    comparison = compare_fronts(tracks)
    problem = problem_of(records[0])
    summary: list[str] = []
    sections: list[Section] = []
    commands: list[str] = []
    for record, track in zip(records, tracks, strict=True):
        verdict = verify_front(ledger, record, prove_seconds=60.0 if prove and len(track.sense.names) == 2 else None)
        sections += _sections(record, track, verdict, ledger, several=len(records) > 1)
        summary.append(_sentence(track, verdict))
        commands += [command_again(record), f"ilvren verify {record.id}"]
    if len(records) > 1:
        sections.insert(0, _compared(comparison))
        commands.append(f"ilvren compare {' '.join(record.id for record in records)}")
    made = datetime.datetime.now(datetime.UTC).strftime("%Y-%m-%d %H:%M UTC")
    subtitle = f"{', '.join(record.id for record in records)} · {problem.source.file} · made {made}"
    title = problem.title or problem.source.file
    return Survey(
        title,
        subtitle,
        unfronted(problem),
        tuple(summary),
        tuple(sections),
        tuple(commands),
        records[0].problem_text,
    )


def _sentence(track: FrontTrack, verdict: FrontVerdict) -> str:
    mark = "holds" if verdict.holds else "does not hold"
    return (
        f"{track.id}: {len(track.values)} designs trade off {', '.join(track.sense.names)}, found by {track.method}"
        f" ({track.outcome}); {verdict.verdict} ({mark}): {verdict.reason}."
    )


def _sections(
    record: RunRecord, track: FrontTrack, verdict: FrontVerdict, ledger: Ledger, *, several: bool
) -> list[Section]:
    """Return the front, its designs, and their verdicts."""
    suffix = f" of {record.id}" if several else ""
    sense = track.sense
    table = designs_of(ledger, [record.id])
    places = {design.address: place for place, design in enumerate(table.designs)}
    members = [member for member in verdict.members if member.address in places]
    own = [places[member.address] for member in members]
    notes = _notes(track, [np.array([member.objectives[name] for name in sense.names]) for member in members])
    held = held_by(table, own)
    free = list(verdict.problem.free)[:MOST_VARIABLES]
    heads = ["design", *(f">{_headed(item.name, item.unit)}" for item in sense.objectives)]
    heads += [f">{verdict.problem.variables[place].name}" for place in free] + ["held by", "verdict", "note"]
    shown = _listed(members and track.values, len(members))
    rows = []
    for k in shown:
        member, design = members[k], table.designs[own[k]]
        rows.append(
            (
                member.address,
                *(number(member.objectives[name]) for name in sense.names),
                *(number(verdict.problem.variables[place].shown(float(design.point[place]))) for place in free),
                ", ".join(held[k][:4]),
                member.verdict,
                notes.get(k, ""),
            )
        )
    sentences = [f"{len(rows)} of {len(members)} designs are listed."] if len(rows) < len(members) else []
    if len(verdict.problem.free) > len(free):
        sentences.append(f"The first {len(free)} of {len(verdict.problem.free):,} free variables.")
    words = Counter(member.verdict for member in verdict.members)
    meanings = MEANINGS | FRONT_MEANINGS
    judged = tuple((word, str(count), meanings[word]) for word, count in words.most_common())
    bad = [f"{member.address}: {member.reason}." for member in verdict.members if not member.holds][:8]
    holes = [
        f"Between {hole.left} and {hole.right} lie {100.0 * hole.width:.2g} % of the ranges without a design."
        for hole in verdict.holes[:5]
    ]
    return [
        Section(f"The front{suffix}", tuple(holes), pictures=(_picture(table, track, own, members, held, verdict),)),
        Section(f"Its designs{suffix}", tuple(sentences), tuple(heads), tuple(rows)),
        Section(f"Verified{suffix}", (verdict.reason + ".", *bad), ("verdict", ">members", "what it means"), judged),
    ]


def _headed(name: str, unit: str) -> str:
    return f"{name} [{unit}]" if unit else name


def _notes(track: FrontTrack, written: list[np.ndarray]) -> dict[int, str]:
    """Return what is special about members."""
    if not written:
        return {}
    values = np.array(written) * track.sense.signs
    found: dict[int, str] = {}
    for name, place in zip(track.sense.names, np.argmin(values, axis=0).tolist(), strict=True):
        found[place] = f"{found[place]}, best {name}" if place in found else f"best {name}"
    if values.shape[1] == 2:
        order = np.lexsort((values[:, 1], values[:, 0]))
        for k in corners(values[order]):
            found.setdefault(int(order[k]), "corner")
    own = knee(values)
    if own is not None:
        found[own] = "knee"
    return found


def _listed(values: object, count: int) -> list[int]:
    if count <= MOST_LISTED:
        return list(range(count))
    return sorted(spread_subset(np.asarray(values), MOST_LISTED).tolist())


def _picture(
    table: DesignTable,
    track: FrontTrack,
    own: list[int],
    members: Sequence[object],
    held: list[tuple[str, ...]],
    verdict: FrontVerdict,
) -> Picture:
    sense = track.sense
    values = np.array([table.column(name) for name in sense.names]).T
    rest = [p for p, design in enumerate(table.designs) if design.layer is not None and design.layer > 1]
    addresses = [table.designs[place].address for place in own]
    title = f"{track.id}: front of {len(members)} designs"
    drawn = DrawnFront(title, sense, values[own], addresses, values[rest], held, verdict.bound)
    shows = f"the front of {', '.join(sense.names)}, with what holds its designs"
    return pictured(lambda path: draw_front(drawn, path), shows)


def _compared(comparison: FrontComparison) -> Section:
    """Return the fronts side by side."""
    heads = ("run", "method", ">points", ">share of the hypervolume", ">widest gap", ">evaluations", "outcome")
    rows = tuple(
        (
            track.name,
            track.method,
            str(len(track.values)),
            number(share, 5),
            f"{100.0 * gap:.2g} %",
            number(track.work),
            track.outcome,
        )
        for track, share, gap in zip(comparison.tracks, comparison.shares, comparison.gaps, strict=True)
    )
    first = comparison.sense.objectives[0]
    sentences = [
        f"{item.run} is better for {first.name} from {number(item.low)} to {number(item.high)} {first.unit}.".replace(
            " .", "."
        )
        for item in comparison.better[:6]
    ]
    shows = "the fronts, and the share of their union's hypervolume against evaluations (a gradient counted as 3)"
    picture = pictured(lambda path: draw_fronts(comparison, path), shows)
    return Section("Side by side", tuple(sentences), heads, rows, (picture,))
