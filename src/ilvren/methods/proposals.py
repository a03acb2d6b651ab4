"""Proposals: moves that linear models promise, no larger than these have been found to be trusted.

At a design x each iteration proposes the move p of

    minimize  ½ p'Bp + g'p   subject to   c + J p within the row limits, bounds,  g'p ≥ −t,  |p_i| ≤ r       (1)

in which t limits the change of the objective that is promised, and r the move. It is evaluated, and what it gives is
held against what it promised in φ = f + ρ |v|₂, v_i being the miss of row i and ρ > |λ|₂:

    actual / promised  < 0.1   the move is refused;   < 1/4   t and r become smaller;   > 3/4   larger            (2)

B begins as the identity, so that the first moves are the smallest for what they promise, and learns curvature by damped
BFGS updates. Where the linearised limits conflict they are relaxed, each by its own amount, as dearly as that goes.
This is `ilvren propose` by itself: for models whose gradients are costly, and rough.

Needs     gradients.   Handles   bounds, inequalities, equalities.
Cost      one value and mostly one gradient per iteration; arithmetic ~ (n + m)³, memory (n + m)².
Stops     when the conditions measured by the driver hold, or nothing more is promised.
Weak      thousands of variables (dense matrices); the last digits, where exact curvature helps.
Source    R. E. Griffith, R. A. Stewart, "A nonlinear programming technique for the optimization of continuous
          processing systems", 1961; (2): R. Fletcher, "An efficient, globally convergent, algorithm for unconstrained
          and linearly constrained optimization problems", 1970; A. Vardi, "A trust region algorithm for equality
          constrained minimization", 1985.
Departs   by limiting the promised change as well as the move.
"""

from __future__ import annotations

import math

import numpy as np
from numpy.typing import NDArray

from ilvren.algebra import QuadraticSolution, damped_bfgs, solve_quadratic, solve_relaxed
from ilvren.methods.base import Assessment, Ending, Iterate, Method, Protocol, Task
from ilvren.methods.pieces.descent import begun, endless
from ilvren.methods.pieces.options import option
from ilvren.methods.pieces.points import Point, evaluated
from ilvren.records import dataclass

__all__ = ["METHOD", "ProposalsOptions"]

FloatArray = NDArray[np.float64]

# (2), and by what t and r are changed.
REFUSED, DOUBTED, TRUSTED, SHORTER, LONGER = 0.1, 0.25, 0.75, 0.3, 2.0
# The largest move, what is no move any more, and one within which limits that conflict do conflict.
LONGEST, SHORTEST, WIDE = 1e12, 1e-12, 0.3
# ρ against |λ|, the least of it, what a relaxed limit costs, and the share of a violation that a relaxed move must
# promise to take away.
PENALTY, LEAST_PENALTY, RELAXED, LEAST_TAKEN = 1.5, 0.1, 1e6, 1e-4
# Promises below this share of the objective are rounding.
NOTHING = 1e-14
# Curvature along a step, against what B has there, from which on B learns it; and how small B may become without.
NO_CURVATURE, LEAST_CURVED = 1e-6, 1e-12
# Iterations without a better design before it ends.
PATIENCE = 60


@dataclass(frozen=True)
class ProposalsOptions:
    """Options of `proposals`."""

    first_change: float = option(
        0.1, low=1e-6, high=1e6, help="the change of the objective promised at first, in its scale"
    )
    first_move: float = option(0.25, low=1e-6, high=1.0, help="the largest first move of a variable, in its size")


@dataclass
class _Trust:
    change: float
    move: float

    def shorter(self, promised: float, length: float) -> None:
        self.change = SHORTER * min(self.change, max(promised, 0.0) or self.change)
        self.move = SHORTER * min(self.move, length)

    def longer(self) -> None:
        self.change, self.move = LONGER * self.change, min(LONGER * self.move, LONGEST)


def proposals(task: Task, options: ProposalsOptions) -> Protocol:
    """Run the method on `task`; see the head of this file."""
    here = yield from begun(task)
    if isinstance(here, Ending):
        return here
    n, m = len(here.x), len(task.row_lower)
    matrix, multipliers, penalty = np.eye(n), np.zeros(m), LEAST_PENALTY
    trust = _Trust(options.first_change, options.first_move)
    step, note, gain_ratio, idle = math.nan, "the start", math.nan, 0
    while True:
        assessment: Assessment = yield Iterate(here.x, step, note, gain_ratio, multipliers if m else None)
        if assessment.meets_conditions:
            return Ending("converged", "first-order conditions hold: no move promises anything")
        ended = endless(task, here, assessment)
        if ended is not None:
            return ended
        found = _proposed(task, here, matrix, trust)
        misses = _misses(task, here.c)
        v = float(np.linalg.norm(misses))
        if found is None:
            if trust.move < SHORTEST or idle > PATIENCE:
                return Ending("stalled", "the numbers of the linear models broke down")
            trust.move, idle, step, note = SHORTER * trust.move, idle + 1, 0.0, "shorter: the numbers broke down"
            continue
        p, own, is_relaxed = found
        after = float(np.linalg.norm(_misses(task, here.c + here.j @ p))) if m else 0.0
        if is_relaxed and v - after <= LEAST_TAKEN * v and trust.move >= WIDE:
            return Ending("conflict", "to first order no move lowers the violation")
        if is_relaxed:  # multipliers of relaxed rows are what relaxing costs: the way back must only outweigh its price
            own = multipliers
            penalty = max(penalty, LONGER * float(here.g @ p) / max(v - after, 1e-300) if v > after else 0.0)
        else:
            penalty = max(penalty, PENALTY * float(np.linalg.norm(own)))
        promised = -float(here.g @ p) + penalty * (v - after)
        length = float(np.abs(p).max(initial=0.0))
        if not promised > NOTHING * max(1.0, abs(here.f)) or length <= SHORTEST or idle > PATIENCE:
            return Ending("stalled", "no move promises anything more")
        trial = yield from evaluated(np.clip(here.x + p, task.lower, task.upper), derivatives=False)
        actual = -math.inf
        if trial.is_finite:
            actual = here.f - trial.f + penalty * (v - float(np.linalg.norm(_misses(task, trial.c))))
        gain_ratio = actual / promised
        if not gain_ratio >= REFUSED and m and trial.is_finite and not is_relaxed:
            # Curved limits may be all that is in the way of a good move: (1) once more with what they are there.
            again = _proposed(task, here, matrix, trust, rows_here=trial.c - here.j @ p)
            if again is not None and not again[2]:
                trial = yield from evaluated(np.clip(here.x + again[0], task.lower, task.upper), derivatives=False)
                if trial.is_finite:
                    actual = here.f - trial.f + penalty * (v - float(np.linalg.norm(_misses(task, trial.c))))
                    gain_ratio = actual / promised
        if not gain_ratio >= REFUSED:
            trust.shorter(promised, length)
            step, idle, note = 0.0, idle + 1, f"refused: {gain_ratio:.2g} of what was promised"
            continue
        there = yield from evaluated(trial.x, derivatives=True)
        if not (there.is_finite and there.has_derivatives):
            trust.shorter(promised, length)
            step, idle, note = 0.0, idle + 1, "refused: no derivatives there"
            continue
        matrix = _learnt(matrix, here, there, own)
        if gain_ratio < DOUBTED:
            trust.shorter(promised, length)
        elif gain_ratio > TRUSTED:
            trust.longer()
        idle = 0 if actual > 1e-9 * max(1.0, abs(here.f)) else idle + 1
        step, note = (
            float(np.abs(there.x - here.x).max()),
            f"a change of {promised:.2g} promised, {gain_ratio:.2g} of it given",
        )
        here, multipliers = there, own


def _proposed(
    task: Task, here: Point, matrix: FloatArray, trust: _Trust, *, rows_here: FloatArray | None = None
) -> tuple[FloatArray, FloatArray, bool] | None:
    """Return the move of (1), the multipliers of the rows, and whether rows had to be relaxed; `rows_here` (m,) stand
    in place of c."""
    n, m = len(here.x), len(task.row_lower)
    low = np.maximum(task.lower - here.x, -trust.move)
    high = np.minimum(task.upper - here.x, trust.move)
    rows = np.asarray(here.j) if m else np.zeros((0, n))
    c = here.c if rows_here is None else rows_here
    limits = (task.row_lower - c, task.row_upper - c) if m else (np.zeros(0), np.zeros(0))
    is_feasible = not m or task.violation(here.c) <= task.feasibility
    if is_feasible:
        all_rows = np.vstack([rows, here.g[np.newaxis]])
        all_limits = (np.append(limits[0], -trust.change), np.append(limits[1], np.inf))
    else:  # a way back may cost or gain whatever it does
        all_rows, all_limits = rows, limits
    found = solve_quadratic(matrix, here.g, rows=all_rows, row_limits=all_limits, bounds=(low, high))
    if found.outcome == "solved":
        return found.step, found.row_multipliers[:m], False
    if not m:
        return None
    relaxed: QuadraticSolution = solve_relaxed(
        matrix, here.g, rows=rows, row_limits=limits, bounds=(low, high), weight=RELAXED
    )
    return (relaxed.step, relaxed.row_multipliers, True) if relaxed.outcome == "solved" else None


def _misses(task: Task, rows: FloatArray) -> FloatArray:
    return np.maximum(np.maximum(task.row_lower - rows, rows - task.row_upper), 0.0)


def _learnt(matrix: FloatArray, here: Point, there: Point, multipliers: FloatArray) -> FloatArray:
    """Return B after a step, by the change of the Lagrangian's gradient."""
    change = there.g - here.g
    if len(multipliers):
        change = change - (there.j.T @ multipliers - here.j.T @ multipliers)
    step = there.x - here.x
    if not float(step @ change) > NO_CURVATURE * float(step @ matrix @ step):
        # A straight line: moves along it may be longer, as long as B stays one to compute with.
        return 0.5 * matrix if float(np.abs(matrix).max(initial=0.0)) > LEAST_CURVED else matrix
    return damped_bfgs(matrix, step, change)


METHOD = Method(
    name="proposals",
    about="moves that linear models promise, as far as they are trusted: costly, rough gradients",
    kind="gradient-based",
    needs="gradients",
    handles=frozenset({"bounds", "inequalities", "equalities"}),
    options=ProposalsOptions,
    run=proposals,
    most_variables=2000,
    cost="a value and mostly a gradient per iteration; arithmetic (n + m)^3",
    weak="thousands of variables; the last digits",
)
