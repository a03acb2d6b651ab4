"""The document that describes an approximation: groups of inputs and outputs, with a surface for every output.

A group stands for one model, or for formulas of a problem (then its `model` is "").
"""

from __future__ import annotations

import json
import math
from collections.abc import Mapping
from dataclasses import field
from typing import Any

import numpy as np
from numpy.typing import NDArray

from ilvren.approximate import Failing, FormError, Surface, failing_from, surface_from
from ilvren.errors import ProblemError
from ilvren.records import dataclass

__all__ = ["FORM", "Group", "LearntInput", "document_from", "group_for"]

FloatArray = NDArray[np.float64]

# What a document says it is.
FORM = "ilvren-approximation-1"


@dataclass(frozen=True)
class LearntInput:
    """An input, element by element: its `name` ("bore", "level[3]", "wood=oak" for a word of a choice), unit, and
    between what values it was learnt."""

    name: str
    lower: float
    upper: float
    unit: str = ""

    @property
    def base(self) -> str:
        """Return the name without the place or the word."""
        return self.name.partition("=")[0].partition("[")[0]

    @property
    def word(self) -> str | None:
        """Return the word of a choice for which it is 1, and 0 for all others; None where it is a number."""
        _, equals, word = self.name.partition("=")
        return word if equals else None


@dataclass(frozen=True)
class Group:
    """The approximated `outputs` {name: surface} of a model, or of formulas (`model` ""), over all `inputs`, in the
    order of the surfaces' coordinates; `held` are inputs that had one value alone when it was learnt; `units` {output:
    unit}; `intervals` {output: {share: how many spreads to both sides}}; `limits` {constraint: (lower, upper)};
    `failing` the chance that there are no values, None where that never came up."""

    model: str
    inputs: tuple[LearntInput, ...]
    outputs: Mapping[str, Surface]
    units: Mapping[str, str]
    name: str = ""
    held: tuple[LearntInput, ...] = ()
    intervals: Mapping[str, Mapping[str, float]] = field(default_factory=dict)
    limits: Mapping[str, tuple[float, float]] = field(default_factory=dict)
    failing: Failing | None = None

    def outside(self, values: FloatArray) -> list[tuple[LearntInput, float]]:
        """Return the inputs, held ones last, that lie outside what was learnt, with their values. `values` are
        (inputs,)."""
        found = []
        for item, value in zip((*self.inputs, *self.held), values.tolist(), strict=True):
            slack = 1e-9 * max(abs(item.lower), abs(item.upper), abs(item.upper - item.lower))
            if not item.lower - slack <= value <= item.upper + slack:
                found.append((item, value))
        return found


def document_from(text: str, file: str) -> tuple[str, tuple[Group, ...]]:
    """Return the name and the groups of a document. Raises ProblemError about the file."""
    try:
        given = json.loads(text)
    except ValueError as error:
        raise ProblemError(f"is no JSON: {error}", file=file) from None
    if not isinstance(given, Mapping) or given.get("form") != FORM:
        raise ProblemError(
            f'is no approximation ("form": "{FORM}" is missing)',
            file=file,
            advice="`ilvren export a1 --output NAME.json` writes one",
        )
    listed = given.get("groups")
    try:
        if not isinstance(listed, list) or not listed:
            raise FormError("groups", "a list of at least one group is expected")
        name = str(given.get("approximation", ""))
        return name, tuple(_group(own, f"groups[{k}]", name) for k, own in enumerate(listed))
    except FormError as error:
        raise ProblemError(str(error), file=file) from None


def _group(given: Any, where: str, name: str) -> Group:
    if not isinstance(given, Mapping) or not isinstance(given.get("outputs"), Mapping) or not given["outputs"]:
        raise FormError(where, '"inputs" and "outputs" are expected')
    inputs, held = (_inputs(given.get(key) or (), f"{where}.{key}") for key in ("inputs", "held"))
    if not inputs:
        raise FormError(f"{where}.inputs", "a list of inputs is expected")
    outputs = {
        str(key): surface_from(own.get("surface") if isinstance(own, Mapping) else None, len(inputs), f"{where}.{key}")
        for key, own in given["outputs"].items()
    }
    units = {str(key): str(own.get("unit", "")) for key, own in given["outputs"].items()}
    intervals = {str(key): _intervals(own.get("intervals", {})) for key, own in given["outputs"].items()}
    limits = {
        str(key): _limits(own["limits"], f"{where}.{key}.limits")
        for key, own in given["outputs"].items()
        if "limits" in own
    }
    failing = failing_from(given["failing"], len(inputs), f"{where}.failing") if given.get("failing") else None
    return Group(str(given.get("model", "")), inputs, outputs, units, name, held, intervals, limits, failing)


def _inputs(given: Any, where: str) -> tuple[LearntInput, ...]:
    inputs = []
    for k, item in enumerate(given):
        try:
            inputs.append(
                LearntInput(str(item["name"]), float(item["lower"]), float(item["upper"]), str(item.get("unit", "")))
            )
        except (KeyError, TypeError, ValueError, AttributeError):
            raise FormError(f"{where}[{k}]", '"name", "lower" and "upper" are expected') from None
    return tuple(inputs)


def _intervals(given: Any) -> dict[str, float]:
    """Return the numbers of spreads; what is none is left out: then there are no intervals."""
    pairs = given.items() if isinstance(given, Mapping) else ()
    return {str(share): float(q) for share, q in pairs if isinstance(q, int | float) and q >= 0.0}


def _limits(given: Any, where: str) -> tuple[float, float]:
    try:
        lower, upper = given
        return -math.inf if lower is None else float(lower), math.inf if upper is None else float(upper)
    except (TypeError, ValueError):
        raise FormError(where, "two numbers are expected, null for none") from None


def group_for(groups: tuple[Group, ...], model: str, file: str) -> Group:
    """Return the group that stands for a model: the only one, or the one of its name. Raises ProblemError."""
    if len(groups) == 1:
        return groups[0]
    for group in groups:
        if group.model == model:
            return group
    names = ", ".join(group.model or "formulas" for group in groups)
    raise ProblemError(
        f'has no outputs of a model "{model}", and several others: {names}',
        file=file,
        advice="give the model one of these names, or approximate one of them alone: --of NAME",
    )
