"""Search by expected improvement: each design is the one from which most is to be hoped, by all that is known.

Gaussian processes of the objective and the rows tell what is expected at a design and how uncertain that is
(`pieces.beliefs`). With μ and s of the objective, f* the best feasible value and u = (f* − μ)/s, the improvement to be
hoped for there, times the chance that all rows are met and that there are values at all, is

    E(x) = s (u Φ(u) + φ(u)) · Π_i P(l_i <= c_i <= u_i) · (1 − p_fail)                                              (1)

The next design makes (1) largest; before anything is feasible, the chances alone. Every third is instead the best by
expectation alone among those likely to be feasible: near the end that is what is left to do. Several designs at a time:
what is expected of the first is taken for true while the next is chosen                                            (2)

Where several designs in a row were no better, what is believed of the objective is doubted: bent or not, by a field of
all variables or by main effects, the most likely ways are taken in turn.

Noise     is estimated with the lengths; f* is then the least expectation at a design, not the least value.

Needs     values.   Handles   bounds, inequalities, spaced and catalogue variables; known designs.
Cost      3 + 2n first designs, then `batch` values an iteration; arithmetic k³ for k designs.
Stops     when what is to be hoped for falls below a share of the spread of values, or 20 + 5n designs were no better.
Weak      more than about twenty variables; kinks and jumps; some hundred designs. Cheap models: others are quicker.
Source    D. R. Jones, M. Schonlau, W. J. Welch, "Efficient global optimization of expensive black-box functions", 1998;
          limits: M. Schonlau, W. J. Welch, D. R. Jones, "Global versus local search in constrained optimization of
          computer models", 1998; (2): D. Ginsbourger, R. Le Riche, L. Carraro, "Kriging is well-suited to parallelize
          optimization", 2010.
Departs   by the third designs, and by bending the objective (`pieces.beliefs`).
"""

from __future__ import annotations

import math
from collections.abc import Generator
from typing import Any

import numpy as np
from numpy.typing import NDArray
from threadpoolctl import threadpool_limits

from ilvren.methods.base import Ending, Foretold, Iterate, Method, Protocol, Request, Task
from ilvren.methods.pieces.beliefs import Beliefs, Designs
from ilvren.methods.pieces.coding import Coding, spread
from ilvren.methods.pieces.hopes import log_chance, log_hope, most_hoped
from ilvren.methods.pieces.options import option
from ilvren.records import dataclass

__all__ = ["METHOD", "ExpectedImprovementOptions"]

FloatArray = NDArray[np.float64]

# First designs: so many, and so many for each variable, at most.
FIRST, FIRST_PER_VARIABLE, MOST_FIRST = 3, 2, 60
# Every so many designs one is taken by expectation alone, where the chance of its being feasible is at least this.
EXPECTED_EVERY, LIKELY = 3, 0.5
# Designs in a row that are no better before what is believed is doubted: so many, and one for each variable; ways of
# believing that are then taken in turn, the most likely one among them.
DOUBTING, WAYS = 2, 3
# Proposals in a row that promise nothing before the search ends.
PATIENCE = 4
# Designs in a row that are no better before the search ends: so many, and so many for each variable.
NO_BETTER, NO_BETTER_PER_VARIABLE = 20, 5
# More designs than this are more than the surfaces can be fitted to in time.
MOST_DESIGNS = 250


@dataclass(frozen=True)
class ExpectedImprovementOptions:
    """Options of `expected-improvement`."""

    first: int = option(0, low=0, help="designs before the first surface (0: 3 and 2 for each variable)")
    batch: int = option(1, low=1, high=64, help="designs proposed at a time, for as many workers")
    worth: float = option(
        1e-5, low=0.0, help="stop when the improvement hoped for is below this share of the values' deviation"
    )


def expected_improvement(task: Task, options: ExpectedImprovementOptions) -> Protocol:
    """Run the search."""
    coding, n = Coding.of(task), len(task.start)
    rng = np.random.default_rng([task.seed, 61])
    count = options.first or min(FIRST + FIRST_PER_VARIABLE * n, MOST_FIRST)
    designs = yield from _first(task, coding, count, rng)
    if not designs.valid.any():
        return Ending("invalid", f"none of {len(designs.f)} first designs has values")
    beliefs, idle, turn = Beliefs(task=task, coding=coding), 0, 0
    best, since = _best(task, designs), 0
    reached = _progress(task, designs, best)
    yield Iterate(coding.decoded(designs.codes[[best]])[0], math.nan, f"the best of {len(designs.f)} first designs")
    while len(designs.f) < MOST_DESIGNS:
        with threadpool_limits(1):  # matrices are small: threads would wait for each other
            # Where nothing has come of what seemed most likely, what else may be so is looked at in turn.
            doubt = 0 if since < DOUBTING + n else since % WAYS
            beliefs.learn(designs, doubt)
            chosen, hoped, said = _proposed(beliefs, designs, options.batch, turn, rng)
        if not len(chosen):
            return Ending("settled", "every design that could be better is known")
        before = designs.codes[best]
        reply = yield Request(coding.decoded(chosen.copy()))
        designs = designs.added(chosen, reply.objective, reply.rows)
        turn += len(chosen)
        best = _best(task, designs)
        moved = float((np.abs(designs.codes[best] - before) / coding.widths).max())
        told = Foretold(
            said[0], abs(said[1] - said[0]), float(reply.objective[0]), beliefs.told(len(designs.f) - len(chosen))
        )
        note = "" if math.isfinite(hoped) else "looking for a feasible design"
        yield Iterate(coding.decoded(designs.codes[[best]])[0], moved, note, foretold=told)
        size = float(designs.f[designs.valid].std())
        progress = _progress(task, designs, best)
        if progress[0] < reached[0] - task.feasibility or progress[1] < reached[1] - options.worth * size:
            reached, since = progress, 0
        else:
            since += len(chosen)
        if since >= NO_BETTER + NO_BETTER_PER_VARIABLE * n:
            return Ending("settled", f"the last {since} designs were no better")
        idle = idle + 1 if hoped <= options.worth * max(size, 1e-300) else 0
        if idle >= PATIENCE:
            return Ending("settled", f"{idle} designs in a row promised next to nothing")
    return Ending("stalled", f"{MOST_DESIGNS} designs are as many as the surfaces take")


def _first(task: Task, coding: Coding, count: int, rng: np.random.Generator) -> Generator[Request, Any, Designs]:
    """Return the first designs, the start among them; known ones count, and the best of these is asked for."""
    n, m = len(task.start), len(task.row_lower)
    codes = spread(coding, count, rng)
    known = Designs(np.zeros((0, n)), np.zeros(0), np.zeros((0, m)))
    if task.known is not None and len(task.known.points):
        own = task.known.points.copy()
        for place, grid in enumerate(task.grids):
            if grid is not None:
                own[:, place] = grid.indices(own[:, place])
        known = Designs(own, task.known.objective, task.known.rows)
        codes = np.vstack([coding.start, own[_best(task, known)]])
        missing = count - len(own)
        if missing > 0:
            codes = np.vstack([codes, spread(coding, missing + 1, rng)[1:]])
    codes = np.unique(codes, axis=0)
    reply = yield Request(coding.decoded(codes.copy()))
    return known.added(codes, reply.objective, reply.rows)


def _best(task: Task, designs: Designs) -> int:
    """Return the place of the best design: feasible before infeasible, then the objective, then the violation."""
    violations = task.violations(designs.rows)
    f = np.where(np.isfinite(designs.f), designs.f, np.inf)
    feasible = designs.valid & (violations <= task.feasibility)
    if feasible.any():
        return int(np.argmin(np.where(feasible, f, np.inf)))
    return int(np.argmin(np.where(designs.valid, violations, np.inf)))


def _progress(task: Task, designs: Designs, best: int) -> tuple[float, float]:
    """Return by how much the best design misses its limits, 0 for what is allowed, and its f where it misses none."""
    missed = task.violation(designs.rows[best])
    return (0.0, float(designs.f[best])) if missed <= task.feasibility else (missed, math.inf)


def _proposed(
    beliefs: Beliefs, designs: Designs, count: int, turn: int, rng: np.random.Generator
) -> tuple[FloatArray, float, tuple[float, float]]:
    """Return codes (k, n) to be evaluated next, the improvement hoped for of the first by (1), and what is expected of
    it, with how uncertain that is."""
    found: list[FloatArray] = []
    hoped, said, pretended = math.inf, (math.nan, math.nan), designs
    for number in range(count):
        if number:
            beliefs.learn(pretended)
        is_expectation = (turn + number) % EXPECTED_EVERY == EXPECTED_EVERY - 1
        worth = _Worth(beliefs, pretended)
        judge = worth.expectation if is_expectation else worth.log_improvement
        code, _ = most_hoped(beliefs, pretended, pretended.codes[worth.best], judge, rng)
        if code is None:
            break
        if number == 0:
            hoped = worth.improvement(code)
            said = worth.expected(code)
        found.append(code)
        pretended = worth.pretended(code)
    return np.array(found).reshape(-1, designs.codes.shape[1]), hoped, said


class _Worth:
    """What designs are worth, by what is believed."""

    def __init__(self, beliefs: Beliefs, designs: Designs) -> None:
        self.beliefs, self.designs = beliefs, designs
        self.task, self.coding = beliefs.task, beliefs.coding
        violations = self.task.violations(designs.rows)
        self.feasible = designs.valid & (violations <= self.task.feasibility)
        self.best = _best(self.task, designs)
        self.target = math.nan
        if self.feasible.any() and beliefs.objective is not None:
            expected, _ = beliefs.objective.at(beliefs.shares(designs.codes[self.feasible]))
            actual = beliefs.objective.bent(designs.f[self.feasible])
            # With noise a value may be lucky: then the least expectation counts.
            self.target = float(max(expected.min(), actual.min()))

    def chance(self, z: FloatArray) -> FloatArray:
        """Return the log of the chance (k,) that rows are met and there are values."""
        return log_chance(self.beliefs, z)

    def log_improvement(self, z: FloatArray) -> FloatArray:
        """Return log E of (1); the chances alone where nothing is feasible yet."""
        found = self.chance(z)
        if math.isnan(self.target) or self.beliefs.objective is None:
            return found
        mean, spread = self.beliefs.objective.at(z)
        return found + log_hope((self.target - mean) / spread) + np.log(spread)

    def expectation(self, z: FloatArray) -> FloatArray:
        """Return −μ where the rows are likely to be met, and less the less they are."""
        chance = self.chance(z)
        mean = np.zeros(len(z)) if self.beliefs.objective is None else self.beliefs.objective.at(z)[0]
        size = 1.0 if self.beliefs.objective is None else self.beliefs.objective.deviation
        return np.where(chance >= math.log(LIKELY), -mean, -1e6 * size + size * chance)

    def improvement(self, code: FloatArray) -> float:
        """Return the improvement hoped for at a design, in values of the task; infinite where nothing is feasible."""
        if math.isnan(self.target) or self.beliefs.objective is None:
            return math.inf
        hoped = math.exp(min(float(self.log_improvement(self.beliefs.shares(code[np.newaxis]))[0]), 700.0))
        field = self.beliefs.objective
        return abs(field.straight(self.target + hoped) - field.straight(self.target))

    def expected(self, code: FloatArray) -> tuple[float, float]:
        """Return what is expected of the objective at a design, and one deviation more, in values of the task."""
        field = self.beliefs.objective
        if field is None:
            return math.nan, math.nan
        mean, spread = field.at(self.beliefs.shares(code[np.newaxis]))
        return field.straight(float(mean[0])), field.straight(float(mean[0] + spread[0]))

    def pretended(self, code: FloatArray) -> Designs:
        """Return the designs with one more, taken to be as expected (2)."""
        z = self.beliefs.shares(code[np.newaxis])
        rows = self.designs.rows[self.best].copy()
        for row, belief in self.beliefs.rows.items():
            rows[row] = belief.at(z)[0][0]
        return self.designs.added(code[np.newaxis], np.array([self.expected(code)[0]]), rows[np.newaxis])


METHOD = Method(
    name="expected-improvement",
    about="designs from which most is to be hoped, by surfaces of all before: models that take long",
    kind="global",
    needs="values",
    handles=frozenset({"bounds", "inequalities", "spaced", "catalogue"}),
    options=ExpectedImprovementOptions,
    run=expected_improvement,
    cost="one design an iteration, or a batch",
    weak="many variables, cheap models",
    most_variables=40,
    is_random=True,
    takes_known=True,
)
