"""Which objectives pull against each other, and what each is at the best of every other one.

Two objectives conflict at a design where the angle between their gradients, in the sizes of the variables and signed so
that both are to fall, exceeds a right angle: the step that lowers one fastest raises the other. The same is told of
designs spread over the box; "never" means never among these. The pay-off table has a row for each objective: the
values of all at the best design of that one alone.

Sources: angles: A. Lovison, "Singular continuation: generating piecewise linear approximations to Pareto sets via
global analysis", 2011; the pay-off table: R. Benayoun, J. de Montgolfier, J. Tergny, O. Laritchev, "Linear programming
with multiple objective functions: step method (STEM)", 1971.
"""

from __future__ import annotations

import math
from collections.abc import Callable, Mapping
from dataclasses import replace
from typing import Any

import numpy as np
from numpy.typing import NDArray

from ilvren.errors import InputError
from ilvren.evaluate import Gate, measured
from ilvren.problem import Problem, Sense, fronted, sense_of
from ilvren.records import dataclass
from ilvren.runs import AUTOMATIC, Settings, plain, run, told_by_block

__all__ = ["Conflict", "EndRow", "conflicts_of", "payoff_table"]

FloatArray = NDArray[np.float64]

# Designs spread over the box at which formulas are differentiated.
SPREAD = 200
# Evaluations of each end of the pay-off table, and seconds.
EVALUATIONS, SECONDS = 20_000, 60.0


@dataclass(frozen=True)
class Conflict:
    """Two objectives: the `angle` between their gradients at the design, in degrees (0: as one, 180: straight against
    each other; NaN without derivatives), and at which `share` of so many `tried` designs of the box it exceeds 90."""

    first: str
    second: str
    angle: float
    share: float
    tried: int

    def to_dict(self) -> dict[str, object]:
        """Return the JSON document."""
        return {
            "objectives": [self.first, self.second],
            "angle": plain(self.angle),
            "share": plain(self.share),
            "designs": self.tried,
        }

    @property
    def sentence(self) -> str:
        """Return it in words."""
        pair = f"{self.first} and {self.second}"
        if math.isnan(self.angle):
            here = "their derivatives are not known here"
        else:
            word = "conflict" if self.angle > 90.0 else "do not conflict"
            here = f"{word} here (angle {self.angle:.0f} degrees)"
        if not self.tried:
            return f"{pair}: {here}"
        if self.share == 0.0:
            return f"{pair}: {here}; never at {self.tried} designs over the box"
        return f"{pair}: {here}; at {100.0 * self.share:.0f} % of {self.tried} designs over the box they do"


@dataclass(frozen=True)
class EndRow:
    """The best of one objective alone: its outcome, the values of all objectives as written, and the variables."""

    objective: str
    outcome: str
    values: Mapping[str, float]
    variables: Mapping[str, Any]

    def to_dict(self) -> dict[str, object]:
        """Return the JSON document."""
        return {
            "outcome": self.outcome,
            "objectives": {name: plain(value) for name, value in self.values.items()},
            "variables": dict(self.variables),
        }


def conflicts_of(problem: Problem, point: FloatArray) -> list[Conflict]:
    """Return what each pair of the objectives of a problem does at a design (n,). Models are not called: their
    objectives' angles are NaN."""
    whole = fronted(problem)
    sense = sense_of(whole)
    if sense is None:
        return []
    gate = Gate(whole)
    names = sense.names
    pairs = [(a, b) for a in range(len(names)) for b in range(a + 1, len(names))]
    if whole.sources or whole.simulations:
        return [Conflict(names[a], names[b], math.nan, math.nan, 0) for a, b in pairs]
    with np.errstate(all="ignore"):
        sizes = measured(whole, gate).variable_sizes(point)
        here = _angles(whole, gate, sense, point, sizes)
        spread = [_angles(whole, gate, sense, own, sizes) for own in _designs(whole)]
    found = []
    for a, b in pairs:
        own = np.array([angles[a, b] for angles in spread])
        own = own[np.isfinite(own)]
        share = float((own > 90.0).mean()) if len(own) else math.nan
        found.append(Conflict(names[a], names[b], float(here[a, b]), share, len(own)))
    return found


def _angles(problem: Problem, gate: Gate, sense: Sense, point: FloatArray, sizes: FloatArray) -> FloatArray:
    """Return (p, p): the angles in degrees between the objectives' gradients."""
    evaluation = gate.evaluate(point, derivatives=True)
    p = len(sense.rows)
    if not evaluation.has_finite_derivatives:
        return np.full((p, p), np.nan)
    jacobian: Any = evaluation.jacobian
    free = list(problem.free)
    slopes = sense.signs[:, np.newaxis] * np.asarray(jacobian)[sense.rows][:, free] * sizes[free]
    lengths = np.linalg.norm(slopes, axis=1)
    cosines = (slopes @ slopes.T) / np.outer(lengths, lengths)
    return np.asarray(np.degrees(np.arccos(np.clip(cosines, -1.0, 1.0))), dtype=np.float64)


def _designs(problem: Problem) -> FloatArray:
    """Return designs (k, n) spread over the box; none where a bound is missing or variables are many."""
    free = list(problem.free)
    low, high = problem.joined("lower")[free], problem.joined("upper")[free]
    if not np.isfinite(high - low).all() or len(free) > SPREAD:
        return np.zeros((0, problem.size))
    rng = np.random.default_rng(17)
    strata = np.column_stack([rng.permutation(SPREAD) for _ in free])
    points = np.tile(np.array(problem.start), (SPREAD, 1))
    points[:, free] = low + (strata + rng.random(strata.shape)) / SPREAD * (high - low)
    return np.array([problem.with_starts(point).start for point in points]) if problem.grid else points


def payoff_table(problem: Problem, told: Callable[[str], None] | None = None) -> list[EndRow]:
    """Return the pay-off table of a problem of several objectives: each is searched alone, by what suits it, from the
    start; nothing is recorded."""
    whole = fronted(problem)
    sense = sense_of(whole)
    if sense is None:
        return []
    own_rows = tuple(block for block in whole.row_blocks if not block.is_objective)
    gate = Gate(whole)
    rows = []
    for item in sense.objectives:
        if told is not None:
            told(f"looking for the best {item.name} alone")
        alone = replace(whole, objective=item, objectives=(item,), row_blocks=own_rows, confirmation=None)
        settings = Settings(method=AUTOMATIC, evaluations=EVALUATIONS, seconds=SECONDS)
        try:
            result = run(alone, settings)
        except InputError as error:
            rows.append(EndRow(item.name, f"refused: {error}", {}, {}))
            continue
        values = gate.evaluate(np.array(result.point)).rows[sense.rows]
        named = dict(zip(sense.names, values.tolist(), strict=True))
        rows.append(EndRow(item.name, result.outcome, named, told_by_block(whole.blocks, result.point)))
    return rows
