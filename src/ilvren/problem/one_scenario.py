"""What formulas with functions of what scatters say of one scenario, as text: `expected(cost)` is its cost, and
`chance(hoop <= 8) >= 0.99` the limit `hoop <= 8`."""

from __future__ import annotations

from collections.abc import Callable, Mapping
from dataclasses import replace

from ilvren.errors import FormulaError
from ilvren.formula import Call, Comparison, Condition, Name, Node, parse_formula, parse_limits
from ilvren.problem.entries import EntryDeclaration, Value, formula_text
from ilvren.problem.texts import calls_of_scatter

__all__ = ["limits_of_one", "value_of_one"]


def value_of_one(entry: EntryDeclaration) -> EntryDeclaration:
    """Return an entry with every function of what scatters as what it is of; a deviation is 0, a chance 1 or 0."""
    text = formula_text(entry.formula)
    try:
        calls = calls_of_scatter(parse_formula(text))
    except FormulaError:  # refused with its place when the problem is built
        return entry
    return replace(entry, formula=_replaced(text, calls)) if calls else entry


def limits_of_one(entry: EntryDeclaration, told: Mapping[str, str] | None = None) -> list[EntryDeclaration]:
    """Return the limits of one scenario: the conditions of a chance that must be large, and of a limit with a function
    alone on a side what it is of. None of a chance with "or" or "not", or of functions that are reckoned with: these
    are no limits of one scenario. `told` {name: formula} are derived values that are functions, by their names."""
    text = formula_text(entry.formula)
    try:
        text = _by_formulas(text, told or {})
        limits = parse_limits(text)
    except FormulaError:
        return [entry]
    calls = [call for side in limits.sides for call in calls_of_scatter(side)]
    if not calls:
        return [entry]
    chance = next((call for call in calls if call.function in ("chance", "reliability_index")), None)
    if chance is None:
        is_alone = all(side in calls or not calls_of_scatter(side) for side in limits.sides)
        return [replace(entry, formula=_replaced(text, calls))] if is_alone else []
    place = next((k for k, side in enumerate(limits.sides) if side == chance), None)
    if place is None or len(limits.sides) != 2:
        return []
    is_large = (limits.operators[0] == ">=") == (place == 0)
    parts = _compared(chance.arguments[0]) if is_large else None
    if parts is None:
        return []
    found = []
    for number, part in enumerate(parts):
        name = entry.name if len(parts) == 1 else f"{entry.name}_{number + 1}"
        operator = {"<": "<=", ">": ">="}.get(part.operator, part.operator)
        left, right = (text[slice(*side.span)] for side in (part.left, part.right))
        own = f"{left} {operator} {right}"
        found.append(replace(entry, name=name, formula=own, written_in=entry.section, magnitude=None))
    return found


def _by_formulas(text: str, told: Mapping[str, str]) -> str:
    """Return a limit with sides that are names of such derived values as their formulas."""
    found = text
    for side in sorted(parse_limits(text).sides, key=lambda own: -own.span[0]):
        if isinstance(side, Name) and side.name in told:
            found = found[: side.span[0]] + told[side.name] + found[side.span[1] :]
    return found


def _compared(condition: Node) -> list[Comparison] | None:
    if isinstance(condition, Comparison):
        return [condition]
    if isinstance(condition, Condition) and condition.word == "and":
        parts = [_compared(part) for part in condition.parts]
        return None if any(part is None for part in parts) else [own for part in parts if part for own in part]
    return None


def _replaced(text: str, calls: list[Call]) -> Value:
    found = text
    for call in sorted(calls, key=lambda own: -own.span[0]):
        found = found[: call.span[0]] + _one(text, call) + found[call.span[1] :]
    return found


def _one(text: str, call: Call) -> str:
    inner = text[slice(*call.arguments[0].span)]
    told: dict[str, Callable[[], str]] = {
        "deviation": lambda: f"(0 * ({inner}))",
        "chance": lambda: f"where({_unchained(text, call.arguments[0])}, 1, 0)",
        "reliability_index": lambda: f"where({_unchained(text, call.arguments[0])}, 1, 0)",
    }
    return told[call.function]() if call.function in told else f"({inner})"


def _unchained(text: str, condition: Node) -> str:
    """Return a condition without chains of comparisons."""
    if isinstance(condition, Condition):
        if condition.word == "not":
            return f"not ({_unchained(text, condition.parts[0])})"
        return f" {condition.word} ".join(f"({_unchained(text, part)})" for part in condition.parts)
    assert isinstance(condition, Comparison)
    left, right = (text[slice(*side.span)] for side in (condition.left, condition.right))
    return f"({left}) {condition.operator} ({right})"
