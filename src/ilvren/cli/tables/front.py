"""What the terminal says of a front of several objectives."""

from __future__ import annotations

import math
from collections.abc import Sequence
from typing import TYPE_CHECKING

import numpy as np
from rich.table import Table

from ilvren.cli.dots import dot_plot
from ilvren.cli.tables.table import number, table, with_unit
from ilvren.explore import corners, exchange_rates, knee

if TYPE_CHECKING:
    from ilvren.cli.terminal import Terminal
    from ilvren.problem import Problem, Sense
    from ilvren.runs import Front, FrontDesign, RunResult

__all__ = ["exchange_sentence", "front_table", "notes_of", "show_front"]

# Designs of a front that are listed without --full, and columns for variables.
MOST_LISTED, MOST_VARIABLES = 12, 6
# What holds a design is named up to this many; a value is at a bound to within this share of the
# variable's range, or of itself without one.
MOST_HELD, BOUND_SLACK = 3, 1e-6


def show_front(result: RunResult, terminal: Terminal, *, full: bool) -> None:
    """Show the front of a run: what lies between what, a picture, some of its designs, what an exchange costs."""
    front = result.front
    assert front is not None
    if not front.members:
        terminal.show("\nno design that meets all limits was evaluated: there is no front to show")
        return
    units = {item.name: item.unit for item in front.sense.objectives}
    several = len(front.members) > 1
    chosen = "" if front.found <= len(front.members) else f" of {front.found:,} that nothing evaluated dominates"
    more = ", and more were not kept" if front.is_trimmed else ""
    terminal.show(f"\nfront of {len(front.members)} design{'s' * several}{chosen}{more}")
    terminal.show(_extent_table(front))
    if len(front.sense.names) == 2 and several:
        names = front.sense.names
        labels = tuple(f"{name} [{units[name]}]" if units[name] else name for name in names)
        points = [(member.objectives[names[0]], member.objectives[names[1]]) for member in front.members]
        own = knee(front.values)
        marked = [] if own is None else [own]
        for line in dot_plot(points, marked=marked, labels=(labels[0], labels[1])):
            terminal.show(line)
    places = list(range(len(front.members))) if full else listed(front)
    terminal.show(front_table(result, places))
    if len(result.problem.free) > MOST_VARIABLES:
        terminal.show(f"{MOST_VARIABLES} of {len(result.problem.free):,} free variables; --json has all")
    if len(places) < len(front.members):
        told = f"{len(places)} of {len(front.members)} designs; --full shows all, "
        terminal.show(f"{told}`ilvren designs {result.id or 'RUN'}` every one evaluated")
    for sentence in _exchange_sentences(result):
        terminal.show_sentence(sentence)
    share = "" if math.isnan(front.share) else f" ({100.0 * front.share:.3g} % of the box from the ideal to there)"
    corner = ", ".join(f"{name} {with_unit(value, units[name])}" for name, value in front.reference_point.items())
    terminal.show(f"hypervolume {number(front.hypervolume)}{share}, measured from {corner}")


def listed(front: Front, most: int = MOST_LISTED) -> list[int]:
    """Return the places of the designs that are listed: the best of each objective, knee and corners, and others
    evenly between."""
    count = len(front.members)
    if count <= most:
        return list(range(count))
    values = front.values
    chosen = dict.fromkeys(np.argmin(values, axis=0).tolist())
    own = knee(values)
    if own is not None:
        chosen[own] = None
    if values.shape[1] == 2:
        chosen |= dict.fromkeys(corners(values)[:3])
    for place in np.linspace(0, count - 1, most).round().astype(int).tolist():
        if len(chosen) >= most:
            break
        if all(abs(place - other) > 1 for other in chosen):
            chosen[place] = None
    return sorted(chosen)


def notes_of(front: Front) -> dict[int, str]:
    """Return {place: note} of what is special about members."""
    values, found = front.values, dict[int, list[str]]()
    if len(values) > 1:
        for name, place in zip(front.sense.names, np.argmin(values, axis=0).tolist(), strict=True):
            found.setdefault(place, []).append(f"best {name}")
    own = knee(values)
    if own is not None:
        found.setdefault(own, []).append("knee")
    for place in corners(values) if values.shape[1] == 2 else ():
        if "knee" not in found.get(place, ()):
            found.setdefault(place, []).append("corner")
    return {place: ", ".join(words) for place, words in found.items()}


def front_table(result: RunResult, places: Sequence[int]) -> Table:
    """Return the table of some members: address, objectives, variables, what holds them."""
    front = result.front
    assert front is not None
    names = front.sense.names
    units = {item.name: item.unit for item in front.sense.objectives}
    problem = result.problem
    free = list(problem.free)[:MOST_VARIABLES]
    notes = notes_of(front)
    rows = []
    for place in places:
        member = front.members[place]
        note = "; ".join(filter(None, (notes.get(place, ""), _held(problem, member))))
        rows.append(
            (
                _address(result.id, member),
                *(number(member.objectives[name]) for name in names),
                *(_told(problem.variables[index].shown(member.point[index])) for index in free),
                note,
            )
        )
    heads = [f">{name} [{units[name]}]" if units[name] else f">{name}" for name in names]
    heads += [f">{problem.variables[index].name}" for index in free]
    return table(("design", *heads, "note"), rows)


def _told(value: float | str) -> str:
    return value if isinstance(value, str) else number(value, 5)


def _held(problem: Problem, member: FrontDesign) -> str:
    """Return what holds a design, for example "at stress, height's upper bound"; a long list says how it goes on."""
    held = [state.name for state in member.constraints if state.is_active]
    for index in problem.free:
        variable, value = problem.variables[index], member.point[index]
        if variable.kind == "continuous":
            width = variable.upper - variable.lower
            near = BOUND_SLACK * (width if math.isfinite(width) else abs(value))
            for side, bound in (("lower", variable.lower), ("upper", variable.upper)):
                if abs(value - bound) <= near:
                    held.append(f"{variable.name}'s {side} bound")
    more = f" and {len(held) - MOST_HELD} more" if len(held) > MOST_HELD else ""
    return f"at {', '.join(held[:MOST_HELD])}{more}" if held else ""


def _address(run: str, member: FrontDesign) -> str:
    return f"{run}:{member.number}" if run else str(member.number)


def _extent_table(front: Front) -> Table:
    rows = []
    for item in front.sense.objectives:
        rows.append(
            (
                item.name,
                "minimize" if item.sign > 0 else "maximize",
                number(front.ideal[item.name]),
                number(front.nadir[item.name]),
                item.unit,
            )
        )
    return table(("objective", "", ">best", ">worst of the front", "unit"), rows)


def exchange_sentence(sense: Sense, rate: float, step: float, *, at: str) -> str:
    """Return for example "at r1:40, 1,200 EUR less cost means 5 m^3 more loss" of two objectives, `rate` the change of
    the second as written for one unit more of the first."""
    first, second = sense.objectives
    effect = abs(rate) * step
    better = "less" if first.sign > 0 else "more"
    worse = "more" if second.sign > 0 else "less"
    return (
        f"at {at}, {with_unit(step, first.unit, 3)} {better} {first.name} means"
        f" {with_unit(effect, second.unit, 3)} {worse} {second.name}"
    )


def _exchange_sentences(result: RunResult) -> list[str]:
    """Return what an exchange costs at the middle, or the knee, of a front of two objectives."""
    front = result.front
    assert front is not None
    if len(front.sense.names) != 2 or len(front.members) < 3:
        return []
    values = np.array([[member.objectives[name] for name in front.sense.names] for member in front.members])
    own = knee(front.values)
    place = own if own is not None else len(values) // 2
    rate = float(exchange_rates(values)[place])
    if not math.isfinite(rate):
        return []
    step = float(f"{0.05 * float(np.ptp(values[:, 0])):.1g}")
    at = f"{'the knee, ' if own is not None else ''}{_address(result.id, front.members[place])}"
    told = exchange_sentence(front.sense, rate, step, at=at)
    return [f"{told[:1].upper()}{told[1:]} (between its neighbours)."]
