"""`ilvren verify` of a front: what is asked, recorded and shown."""

from __future__ import annotations

import argparse
import math
from collections import Counter
from typing import TYPE_CHECKING

from rich.text import Text

from ilvren.cli import status
from ilvren.cli.tables.table import number, table, with_unit
from ilvren.judge import MEANINGS
from ilvren.judge.fronts import FRONT_MEANINGS, FrontVerdict, JudgedTradeOff, verify_front

if TYPE_CHECKING:
    from rich.table import Table

    from ilvren.cli.terminal import Terminal
    from ilvren.ledger import Ledger, RunRecord
    from ilvren.problem import Objective

__all__ = ["verify_recorded_front"]

# Members that hold, and holes, that are listed without --full; all others always are.
MOST_LISTED, MOST_HOLES = 12, 5
# Flags that ask for what single designs have.
SINGLE = ("random_starts", "method", "worth", "makeable", "reference", "reference_file", "output", "confirm")


def verify_recorded_front(
    arguments: argparse.Namespace, record: RunRecord, ledger: Ledger, path: str, design: int | None, terminal: Terminal
) -> int:
    """Judge the front of a run, or one of its designs, show the verdict, and return the exit status. Raises
    RequestError."""
    from ilvren.errors import RequestError

    for name in SINGLE:
        if getattr(arguments, name):
            flag = "--" + name.replace("_", "-")
            names = [item.name for item in _objectives(record)]
            raise RequestError(
                f"{flag} is for a design of one objective, and {record.id} trades off {', '.join(names)}",
                advice=f"run one of them from a design of the front: --only {names[0]} --from {record.id}:NUMBER",
            )
    share = 0.95 if arguments.share is None else arguments.share
    if not 0.0 < share <= 1.0:
        raise RequestError(f"--share must lie above 0 and at most at 1, not {share:g}")

    def told(what: str, done: int, count: int) -> None:
        terminal.progress(f"{done} of {count} {what}")

    try:
        found = verify_front(
            ledger,
            record,
            tolerance=arguments.tolerance,
            feasibility=arguments.feasibility,
            accept_probe=arguments.accept_probe,
            as_now=arguments.as_now,
            share=share,
            number=design,
            prove_seconds=(arguments.seconds or 60.0) if arguments.prove else None,
            told=told,
        )
        mended = _mended(arguments, found, record, path, terminal) if arguments.mend else ""
    finally:
        terminal.progress("")
    if arguments.json:
        terminal.document(found.to_dict() | ({"mended": mended or None} if arguments.mend else {}))
    else:
        _show(found, terminal, full=arguments.full)
        if mended:
            terminal.show(f"mended as {mended}; next: ilvren verify {mended}")
        elif arguments.mend:
            terminal.show("nothing to mend: every member holds")
    return status.HOLDS if found.holds else status.DOES_NOT_HOLD


def _objectives(record: RunRecord) -> tuple[Objective, ...]:
    from ilvren.runs import problem_of

    return problem_of(record).objectives


def _mended(
    arguments: argparse.Namespace, found: FrontVerdict, record: RunRecord, path: str, terminal: Terminal
) -> str:
    """Return the id of the run of the mended front, "" where there is nothing to mend."""
    if all(member.holds for member in found.members):
        return ""
    from ilvren.judge.fronts import front_documents, mended
    from ilvren.ledger import Ledger
    from ilvren.runs import Settings, flat_design

    points = {
        str(own["design"]): flat_design(own["variables"], found.problem.blocks) for own in front_documents(record)
    }
    with Ledger(path) as opened:
        result = mended(
            found,
            points,
            opened,
            Settings.from_dict(record.settings),
            told=lambda done, count: terminal.progress(f"{done} of {count} members mended"),
        )
    return result.id


def _show(found: FrontVerdict, terminal: Terminal, *, full: bool) -> None:
    """Print the verdict on a front."""
    title = found.problem.title or found.problem.source.file
    count = len(found.members)
    what = f"front of {count} designs" if count > 1 else found.members[0].address
    terminal.show(Text(f"{found.run}  {what} verified afresh on {title}", style="bold"))
    words = Counter(member.verdict for member in found.members)
    meanings = MEANINGS | FRONT_MEANINGS
    if count > 1:
        rows = [(word, str(number_), meanings[word]) for word, number_ in words.most_common()]
        terminal.show(table(("verdict", ">members", "what it means"), rows))
    places = _listed(found) if not full else list(range(count))
    terminal.show(_member_table(found, places))
    if len(places) < count:
        terminal.show(f"{len(places)} of {count} members; --full shows all, with what does not hold always shown")
    if count == 1:
        own = found.members[0]
        rows_ = [
            (
                check.name,
                check.result,
                "" if check.value is None else number(check.value, 2),
                "" if check.limit is None else number(check.limit, 2),
                check.detail,
            )
            for check in own.checks
        ]
        terminal.show(table(("check", "result", ">value", ">limit", "detail"), rows_))
    for member in found.members if full else [m for m in found.members if not m.holds][:MOST_HOLES]:
        if not member.holds:
            terminal.show_sentence(f"{member.address}: {member.reason}.")
    _show_holes(found, terminal)
    if found.bound is not None:
        proved = sum(step.is_proved for step in found.bound.steps)
        terminal.show(
            f"bound by intervals: {proved} of {len(found.bound.steps)} steps proved to"
            f" {found.bound.tolerance:g} of the ranges"
        )
    style = "green bold" if found.holds else "red bold"
    mark = "holds" if found.holds else "does not hold"
    terminal.show(Text.assemble("\n", (found.verdict, style), f" ({mark})  {meanings[found.verdict]}"))
    terminal.show_sentence(f"{found.reason[:1].upper()}{found.reason[1:]}.")
    if not found.holds and count > 1:
        terminal.show(f"next: ilvren verify {found.run} --mend")


def _show_holes(found: FrontVerdict, terminal: Terminal) -> None:
    """Tell of gaps that are far wider than the others."""
    if math.isnan(found.widest_gap):
        return
    percent = 100.0 * found.widest_gap
    if not found.holes:
        terminal.show(f"widest gap between neighbours: {percent:.2g} % of the ranges, none far wider than the others")
        return
    told = [f"{hole.left} to {hole.right} ({100.0 * hole.width:.2g} %)" for hole in found.holes[:MOST_HOLES]]
    more = f" and {len(found.holes) - MOST_HOLES} more" if len(found.holes) > MOST_HOLES else ""
    terminal.show_sentence(
        f"Gaps far wider than the others, of the ranges: {', '.join(told)}{more}; either the front has holes there, or"
        " nothing was found."
    )


def _listed(found: FrontVerdict) -> list[int]:
    """Return the places of the members listed: those that do not hold, and some of the others."""
    count = len(found.members)
    if count <= MOST_LISTED:
        return list(range(count))
    bad = [place for place, member in enumerate(found.members) if not member.holds][: 2 * MOST_LISTED]
    step = max(count // MOST_LISTED, 1)
    return sorted({*bad, *range(0, count, step), count - 1})


def _member_table(found: FrontVerdict, places: list[int]) -> Table:
    names = found.sense.names
    units = {item.name: item.unit for item in found.sense.objectives}
    heads = [f">{name} [{units[name]}]" if units[name] else f">{name}" for name in names]
    first = found.sense.objectives[0]
    sign = "less" if first.sign > 0 else "more"
    one = with_unit(1.0, first.unit)
    heads += [f">{name} for {one} {sign} {first.name}" for name in names[1:]]
    rows = []
    for place in places:
        member = found.members[place]
        rows.append(
            (
                member.address,
                *(number(member.objectives[name]) for name in names),
                *(_rate(member, name) for name in names[1:]),
                member.verdict,
            )
        )
    return table(("design", *heads, "verdict"), rows)


def _rate(member: JudgedTradeOff, name: str) -> str:
    rate = member.rates.get(name)
    return "" if rate is None else number(abs(rate), 3)
