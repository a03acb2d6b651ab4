"""A verdict as text: the checks, what presses, what it is worth, and the word."""

from __future__ import annotations

import math
from typing import TYPE_CHECKING

from rich.text import Text

from ilvren.cli.tables.table import count, margin_text, number, small, table, with_unit
from ilvren.judge import MEANINGS

if TYPE_CHECKING:
    from ilvren.cli.terminal import Terminal
    from ilvren.judge import (
        LimitWorth,
        MemberWorth,
        ParameterResponse,
        Rounding,
        ScatterWorth,
        Tolerance,
        Verdict,
        Worth,
    )
    from ilvren.problem import Objective
    from ilvren.runs import LimitState

__all__ = ["show_verdict"]

# More active limits, or elements of a better design, than this are not listed.
MOST_LISTED = 20
# A variable that can move by less than this share of its value cannot be moved at all.
NO_ROOM = 1e-6


def show_verdict(verdict: Verdict, terminal: Terminal) -> None:
    """Print the verdict."""
    title = verdict.problem.title or verdict.problem.source.file
    terminal.show(Text(f"{verdict.run or 'the design given'}  verified afresh on {title}", style="bold"))
    objective = verdict.problem.objective
    if objective is not None:
        terminal.show(f"{objective.name} = {with_unit(verdict.objective, objective.unit, 8)}")
    rows = [
        (
            check.name,
            check.result,
            "" if check.value is None else _value(check.value, check.limit),
            "" if check.limit is None else _value(check.limit, check.limit),
            check.detail,
        )
        for check in verdict.checks
    ]
    terminal.show(table(("check", "result", ">value", ">limit", "detail"), rows))
    if verdict.active:
        active = [
            (state.name, state.side, margin_text(state.margin, state.value), _price(state, objective))
            for state in _most_priced(verdict)
        ]
        terminal.show(table(("active limit", "side", ">margin", ">price"), active))
        if len(active) < len(verdict.active):
            terminal.show(f"the {len(active)} most priced of {len(verdict.active)} active limits")
    if verdict.freedom is not None:
        terminal.show(f"degrees of freedom that the active limits leave: {verdict.freedom}")
    if verdict.worth is not None:
        _show_worth(verdict, verdict.worth, terminal)
    if verdict.confirmation is not None:
        from ilvren.cli.outcome import show_confirmation

        show_confirmation(verdict.confirmation, terminal)
    if verdict.rounding is not None:
        _show_rounding(verdict, verdict.rounding, terminal)
    _show_word(verdict, terminal)


def _value(value: float, limit: float | None) -> str:
    """Return a residual with two digits, a count as it is."""
    if limit is not None and limit >= 1.0 and value == int(value):
        return str(int(value))
    return small(value)


def _show_word(verdict: Verdict, terminal: Terminal) -> None:
    objective = verdict.problem.objective
    style = "green bold" if verdict.holds else "red bold"
    mark = "holds" if verdict.holds else "does not hold"
    terminal.show(Text.assemble("\n", (verdict.verdict, style), f" ({mark})  {MEANINGS[verdict.verdict]}"))
    names = {row.name for row in verdict.problem.rows} | {v.name for v in verdict.problem.variables}
    is_name = verdict.reason.split(" ")[0] in names or (
        objective is not None and verdict.reason.startswith(objective.name)
    )
    terminal.show_sentence(f"{verdict.reason if is_name else verdict.reason[:1].upper() + verdict.reason[1:]}.")
    if verdict.better:
        terminal.show(f"  The better design: {_listed(verdict.better_design())}")
        if verdict.better_run:
            terminal.show(f"  It is recorded as {verdict.better_run}; next: ilvren verify {verdict.better_run}")
    if verdict.proof is not None and verdict.proof.box:
        words = {variable.name: variable for variable in verdict.problem.variables if variable.words}
        told = [
            f"{name} {number(low, 5)} .. {number(high, 5)}" if name not in words else f"{name} {words[name].shown(low)}"
            for name, (low, high) in verdict.proof.box.items()
            if name not in words or low == high  # between words nothing lies
        ]
        bound = "no bound" if verdict.proof.bound is None else f"the proved bound is {number(verdict.proof.bound, 8)}"
        terminal.show(f"  Not proved to be the best of all ({bound}); a better design may hide in {_cut(told)}")


def _listed(values: dict[str, float | str]) -> str:
    told = [f"{name} = {value if isinstance(value, str) else number(value, 8)}" for name, value in values.items()]
    return _cut(told)


def _cut(told: list[str]) -> str:
    more = f" and {len(told) - MOST_LISTED} more (--json has all)" if len(told) > MOST_LISTED else ""
    return ", ".join(told[:MOST_LISTED]) + more


def _most_priced(verdict: Verdict) -> list[LimitState]:
    """Return the active limits shown: all of few, of many the most priced."""
    if len(verdict.active) <= MOST_LISTED:
        return list(verdict.active)
    return sorted(verdict.active, key=lambda state: -abs(state.price or 0.0))[:MOST_LISTED]


def _price(state: LimitState, objective: Objective | None) -> str:
    if state.price is None or objective is None:
        return ""
    unit = f"{objective.unit or '1'}/{state.unit}" if state.unit else objective.unit
    return with_unit(state.price, unit, 4) + ("" if state.is_unique else " *")


# ---- what it is worth ----------------------------------------------------------------------------


def _show_worth(verdict: Verdict, worth: Worth, terminal: Terminal) -> None:
    objective = verdict.problem.objective
    unit = objective.unit if objective is not None else ""
    name = objective.name if objective is not None else "objective"
    if worth.limits:
        rows = [_limit_row(item, unit) for item in worth.limits]
        heads = ("limit that decides", ">relaxed by", f">{name} changes by", ">solved again", ">good for", "then")
        terminal.show(table(heads, rows))
        terminal.show(_sentence(worth.limits[0], name, unit))
    if worth.parameters:
        followed = [_parameter_row(item, unit) for item in worth.parameters]
        terminal.show(
            table(("1 % more of", ">value", f">{name} changes by", ">solved again", "the design follows"), followed)
        )
    if worth.members:
        heads = ("member", ">now", ">then", f">{name} then", ">change", "note")
        terminal.show(table(heads, [_member_row(item, verdict, unit) for item in worth.members]))
        terminal.show("each held at its neighbour, all else chosen anew")
    if worth.scatter:
        scattered = [_scatter_row(item, unit) for item in worth.scatter]
        told = ("tolerance of", ">deviation", f">halved, {name} changes by", ">solved again", ">a tenth wider, by")
        terminal.show(table(told, scattered))
        terminal.show(_scatter_sentence(worth.scatter, name, unit))
    if worth.tolerances:
        heads = ("variable", ">value", ">down to", "stopped by", ">up to", "stopped by")
        terminal.show(table(heads, map(_tolerance_row, worth.tolerances[:MOST_LISTED])))
        more = (
            f" ({len(worth.tolerances) - MOST_LISTED} more: --json has them)"
            if len(worth.tolerances) > MOST_LISTED
            else ""
        )
        terminal.show(f"each moved alone, the others held: how exactly the design must be made{more}")
    for note in worth.notes:
        terminal.show(f"- {note}")


def _member_row(item: MemberWorth, verdict: Verdict, unit: str) -> tuple[str, ...]:
    now = verdict.objective
    change = "" if item.objective is None or now is None else with_unit(item.objective - now, unit, 4)
    then = "" if item.objective is None else with_unit(item.objective, unit)
    return f"{item.name}, {item.side}", number(item.value), number(item.member), then, change, item.note


def _scatter_row(item: ScatterWorth, unit: str) -> tuple[str, ...]:
    return (
        item.name,
        with_unit(item.deviation, item.unit, 4),
        with_unit(item.predicted, unit, 4),
        "-" if math.isnan(item.found) else with_unit(item.found, unit, 4),
        with_unit(item.wider, unit, 3),
    )


def _scatter_sentence(items: tuple[ScatterWorth, ...], name: str, unit: str) -> str:
    """Say which tolerance is worth most, and which may be relaxed."""

    def gain(item: ScatterWorth) -> float:
        return item.predicted if math.isnan(item.found) else item.found

    first, last = max(items, key=lambda item: abs(gain(item))), min(items, key=lambda item: abs(item.wider))
    word = "lowers" if gain(first) < 0.0 else "raises"
    told = f"halving what {first.name} scatters by {word} {name} by {with_unit(abs(gain(first)), unit, 3)}"
    if last is first:
        return told
    return f"{told}; {last.name} matters least: a tenth more changes it by {with_unit(abs(last.wider), unit, 2)}"


def _limit_row(item: LimitWorth, unit: str) -> tuple[str, ...]:
    own = item.state.unit
    good = "no end found" if math.isinf(item.valid) else with_unit(item.valid, own, 3)
    return (
        f"{item.state.name} ({item.state.side})",
        with_unit(item.amount, own, 4),
        with_unit(item.predicted, unit, 4),
        "failed" if math.isnan(item.found) else with_unit(item.found, unit, 4),
        good,
        item.ends if not math.isinf(item.valid) else "",
    )


def _sentence(item: LimitWorth, name: str, unit: str) -> str:
    value = item.predicted if math.isnan(item.found) else item.found
    word = "lowers" if value < 0.0 else "raises"
    about = (
        "" if math.isinf(item.valid) else f"; its price holds up to about {with_unit(item.valid, item.state.unit, 2)}"
    )
    return (
        f"relaxing {item.state.name}'s {item.state.side} limit by {with_unit(item.amount, item.state.unit, 3)}"
        f" {word} {name} by {with_unit(abs(value), unit, 4)}{about}"
    )


def _parameter_row(item: ParameterResponse, unit: str) -> tuple[str, ...]:
    moved = sorted(item.variables.items(), key=lambda pair: -abs(pair[1]))
    step = 0.01 * item.value
    told = [f"{name} {number(slope * step, 2)}" for name, slope in moved if abs(slope * step) > 1e-12][:3]
    return (
        item.name,
        with_unit(item.value, item.unit),
        with_unit(item.predicted, unit, 4),
        "failed" if math.isnan(item.found) else with_unit(item.found, unit, 4),
        ", ".join(told),
    )


def _tolerance_row(item: Tolerance) -> tuple[str, ...]:
    def end(room: float, sign: float) -> str:
        if math.isinf(room):
            return "no end"
        if room <= NO_ROOM * max(abs(item.value), 1e-300) * 10.0:
            return "no room"
        return with_unit(item.value + sign * room, item.unit, 5)

    value = with_unit(item.value, item.unit, 6)
    return item.name, value, end(item.down, -1.0), item.stopped_down, end(item.up, 1.0), item.stopped_up


def _show_rounding(verdict: Verdict, found: Rounding, terminal: Terminal) -> None:
    objective = verdict.problem.objective
    unit = objective.unit if objective is not None else ""
    name = objective.name if objective is not None else "objective"
    spacings = ", ".join(f"{key} in steps of {number(value)}" for key, value in found.spacings.items())
    if found.objective is None or found.cost is None:
        terminal.show(
            f"makeable ({spacings}): no feasible design among {count(found.tried, 'combination')} near this one"
        )
        return
    chosen = {
        block.element_name(place)
        for block in verdict.problem.blocks
        if not (block.is_grid or block.name in verdict.problem.template.own_points)
        for place in range(block.size)
    }
    values = _listed({name: value for name, value in dict(found.variables).items() if name in chosen})
    terminal.show(f"makeable ({spacings}), best of {count(found.tried, 'combination')}: {values}")
    here = verdict.objective or 0.0
    share = f" ({100.0 * found.cost / abs(here):.2g} %)" if here else ""
    word = "more" if found.cost >= 0.0 else "less"
    if objective is not None and objective.sign < 0:
        word = "less" if found.cost >= 0.0 else "more"
    rounding = (
        "rounding each by itself breaks a limit"
        if found.rounded is None
        else f"mere rounding: {number(found.rounded, 8)}"
    )
    change = f"{with_unit(abs(found.cost), unit, 4)} {word}{share}"
    terminal.show(f"  {name} = {with_unit(found.objective, unit, 8)}, {change}; {rounding}")
