"""What the next whole number or catalogue member of each variable would bring: the problem solved again with that
variable held there, all others free."""

from __future__ import annotations

import math
from collections.abc import Callable, Iterator
from dataclasses import replace
from typing import TYPE_CHECKING

import numpy as np

from ilvren.judge.standing.findings import MemberWorth

if TYPE_CHECKING:
    from ilvren.judge.optimum.judged import JudgedDesign
    from ilvren.problem import Problem
    from ilvren.runs import RunResult

__all__ = ["member_worths"]

# So many variables are looked at: each is solved again twice.
MOST_MEMBERS = 6


def member_worths(
    case: JudgedDesign, solved: Callable[[Problem, JudgedDesign], RunResult | None]
) -> tuple[tuple[MemberWorth, ...], tuple[str, ...]]:
    """Return what neighbouring members bring, by `solved`, which solves a changed problem from the design; and notes on
    what was not looked at. Objectives are as written."""
    problem, found = case.problem, list[MemberWorth]()
    variables = [(place, item) for place, item in enumerate(problem.variables) if item.kind != "continuous"]
    looked_at = [(place, item) for place, item in variables if not item.words and not item.is_fixed]
    for place, _ in looked_at[:MOST_MEMBERS]:
        for side, member in _neighbours(problem, place, float(case.point[place])):
            result = solved(_held_at(problem, place, member), case)
            value = None if result is None or result.objective is None else float(result.objective)
            found.append(
                MemberWorth(
                    name=problem.variables[place].name,
                    value=float(case.point[place]),
                    member=member,
                    side=side,
                    objective=value,
                    note="" if result is not None else "no feasible design was found with it",
                )
            )
    notes = []
    if len(looked_at) > MOST_MEMBERS:
        notes.append(f"{len(looked_at) - MOST_MEMBERS} more variables of members were not looked at")
    if len(variables) > len(looked_at):
        notes.append("words have no neighbours, and fixed variables no others: they are not looked at")
    return tuple(found), tuple(notes)


def _neighbours(problem: Problem, place: int, value: float) -> Iterator[tuple[str, float]]:
    item = problem.variables[place]
    if item.catalogue is not None:
        at = int(np.argmin(np.abs(np.array(item.catalogue) - value)))
        around = [(side, at + step) for side, step in (("next lower", -1), ("next higher", 1))]
        yield from ((side, item.catalogue[k]) for side, k in around if 0 <= k < len(item.catalogue))
        return
    assert item.spacing is not None
    for side, step in (("next lower", -item.spacing), ("next higher", item.spacing)):
        member = item.member(value + step)
        if not math.isclose(member, value) and item.lower <= member <= item.upper:
            yield side, member


def _held_at(problem: Problem, place: int, member: float) -> Problem:
    """Return the problem with one element of a block held at a value; others of its block stay members."""
    blocks = []
    for block in problem.blocks:
        if not block.first <= place < block.first + block.size:
            blocks.append(block)
            continue
        lower, upper, start = block.lower.copy(), block.upper.copy(), block.start.copy()
        lower[place - block.first] = upper[place - block.first] = start[place - block.first] = member
        held = replace(block, lower=lower, upper=upper, start=start)
        blocks.append(replace(held, spacing=None, catalogue=None) if block.size == 1 else held)
    return replace(problem, blocks=tuple(blocks))
