"""All plans by name."""

from __future__ import annotations

from collections.abc import Mapping
from dataclasses import fields
from typing import Any

from ilvren.errors import nearest
from ilvren.plans.base import Plan, PlanError
from ilvren.plans.factorial import FULL, GRID
from ilvren.plans.fractional import FRACTIONAL
from ilvren.plans.latin import LATIN
from ilvren.plans.optimal import D_OPTIMAL
from ilvren.plans.sequences import RANDOM, SOBOL
from ilvren.plans.single import ONE_AT_A_TIME
from ilvren.plans.surface import BOX_BEHNKEN, CENTRAL

__all__ = ["plan_named", "plan_names", "plan_options"]

_PLANS = {
    plan.name: plan
    for plan in (
        LATIN, SOBOL, RANDOM, FULL, FRACTIONAL, CENTRAL, BOX_BEHNKEN, D_OPTIMAL, ONE_AT_A_TIME, GRID,
    )
}  # fmt: skip


def plan_names() -> list[str]:
    """Return the names of all plans."""
    return list(_PLANS)


def plan_named(name: str) -> Plan:
    """Return a plan by its name. Raises PlanError."""
    if name not in _PLANS:
        close = nearest(name, plan_names())
        raise PlanError(f'unknown plan "{name}"', f'did you mean "{close}"?' if close else ", ".join(_PLANS))
    return _PLANS[name]


def plan_options(plan: Plan, given: Mapping[str, str]) -> Any:
    """Return a plan's options from words. Raises PlanError."""
    known = {field.name.replace("_", "-"): field for field in fields(plan.options)}
    values: dict[str, Any] = {}
    for name, word in given.items():
        if name not in known:
            close = nearest(name, list(known))
            advice = f'did you mean "{close}"?' if close else "it has " + (", ".join(known) or "none")
            raise PlanError(f'"{plan.name}" has no option "{name}"', advice)
        field = known[name]
        values[field.name] = _read(plan, name, word, field.default, field.metadata)
    return plan.options(**values)


def _read(plan: Plan, name: str, word: str, default: Any, metadata: Mapping[str, Any]) -> Any:
    if isinstance(default, bool):
        if word not in ("yes", "no", "true", "false"):
            raise PlanError(f'option "{name}" of "{plan.name}" is yes or no, not "{word}"')
        return word in ("yes", "true")
    if isinstance(default, str):
        return word
    try:
        value = int(word) if isinstance(default, int) else float(word)
    except ValueError:
        kind = "a whole number" if isinstance(default, int) else "a number"
        raise PlanError(f'option "{name}" of "{plan.name}" is {kind}, not "{word}"') from None
    low, high = metadata["low"], metadata["high"]
    if not (low is None or value >= low) or not (high is None or value <= high):
        raise PlanError(f'option "{name}" of "{plan.name}" lies between {low:g} and {high:g}, not {word}')
    return value
