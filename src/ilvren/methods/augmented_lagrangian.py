"""Augmented Lagrangian: limits of any kind by a sequence of problems with bounds alone.

    minimize  f(x) + ½ ρ |v|²  on the bounds,     s = c(x) − λ/ρ,   v = s − P(s)                     (1)
    λ ← −ρ v,      ρ ← 10 ρ where the violation has not fallen enough                              (2)

P projects onto the limits of the rows. Each problem (1) is given to an inner method for bounds, to an accuracy that
rises with the outer iterations; what it asks for is turned into requests for f and c.

Needs     gradients.   Handles   bounds, inequalities, equalities.   Cost   many cheap gradients; memory ~ the inner
method's, no factorization.   Stops   when the conditions measured by the driver hold.
Weak      high accuracy on badly scaled limits takes many gradients.
Source    M. R. Hestenes, "Multiplier and gradient methods", 1969; M. J. D. Powell, "A method for nonlinear constraints
          in minimization problems", 1969; R. T. Rockafellar, "The multiplier method of Hestenes and Powell applied to
          convex programming", 1973, for inequalities.
"""

from __future__ import annotations

import math
from collections.abc import Generator
from dataclasses import dataclass, replace
from typing import Any

import numpy as np
from numpy.typing import NDArray

from ilvren.methods.base import (
    Bend,
    Ending,
    Iterate,
    Method,
    Protocol,
    Reply,
    Request,
    Standing,
    Task,
    method_named,
    option,
)
from ilvren.methods.pieces.descent import endless
from ilvren.methods.pieces.points import evaluated, projected_gradient

__all__ = ["METHOD", "AugmentedLagrangianOptions"]

FloatArray = NDArray[np.float64]

# ρ: first, most, growth, and the share to which the violation must fall to keep it.
FIRST_PENALTY, MOST_PENALTY, GROWTH, FALLEN = 10.0, 1e12, 10.0, 0.25
# The accuracy of the inner problems: first, last, and how it rises.
FIRST_INNER, LAST_INNER, INNER_FALL = 1e-2, 1e-10, 0.1
# Multipliers beyond this are held back.
MOST_MULTIPLIER = 1e10
MOST_OUTER, MOST_INNER = 100, 2000
# An inner problem that leads so many times further out than it began has no minimum.
RUNAWAY = 1e4


@dataclass(frozen=True)
class AugmentedLagrangianOptions:
    """Options of `augmented-lagrangian`."""

    inner: str = option("l-bfgs", words=("l-bfgs", "bfgs", "conjugate-gradient", "newton"), help="the method for (1)")


@dataclass(frozen=True)
class _Augmented:
    """The problem (1) for given λ (m,) and ρ."""

    task: Task
    multipliers: FloatArray
    penalty: float

    def misses(self, rows: FloatArray) -> FloatArray:
        """Return v (…, m)."""
        shifted = rows - self.multipliers / self.penalty
        return shifted - np.clip(shifted, self.task.row_lower, self.task.row_upper)

    def answered(self, reply: Reply) -> Reply:
        """Return the reply to (1) from that for f and c."""
        v = self.misses(reply.rows)
        f = reply.objective + 0.5 * self.penalty * (v * v).sum(axis=1)
        none = np.zeros((len(f), 0))
        if reply.gradient is None or reply.jacobian is None:
            return Reply(f, none)
        g = np.array(
            [g + self.penalty * (j.T @ own) for g, j, own in zip(reply.gradient, reply.jacobian, v, strict=True)]
        )
        return Reply(f, none, g, [np.zeros((0, len(self.task.start)))] * len(f))


def augmented_lagrangian(task: Task, options: AugmentedLagrangianOptions) -> Protocol:
    """Run the method on `task`; see the head of this file."""
    here = yield from evaluated(np.clip(task.start, task.lower, task.upper), derivatives=True)
    if not here.is_finite:
        return Ending("invalid", "the objective or a constraint has no finite value at the start")
    if not here.has_derivatives:
        return Ending("invalid", "a derivative is not finite at the start")
    multipliers = np.zeros(len(here.c)) if task.row_multipliers is None else task.row_multipliers
    penalty, accuracy = FIRST_PENALTY, FIRST_INNER if len(here.c) else LAST_INNER
    violation = math.inf
    note, step = "the start", math.nan
    standing: Standing = yield Iterate(here.x, step, note, math.nan, multipliers)
    last = "nothing"
    for _ in range(MOST_OUTER):
        if standing.meets_conditions:
            return Ending("converged", "first-order conditions hold for the multipliers found")
        problem = _Augmented(task, multipliers, penalty)
        x, last, done = yield from _inner(problem, here.x, accuracy, options)  # (1)
        there = yield from evaluated(x, derivatives=True)
        if not (there.is_finite and there.has_derivatives):
            return Ending("stalled", "the inner problem ended where a derivative is not finite")
        is_violated = len(here.c) > 0 and task.violation(there.c) > task.feasibility
        if last == "unbounded" and is_violated and penalty < MOST_PENALTY:  # (1) has no minimum yet
            penalty, accuracy = GROWTH * penalty, FIRST_INNER
            note = f"the inner problem fell without end: penalty {penalty:.0e}"
            standing = yield Iterate(here.x, 0.0, note, math.nan, multipliers)
            continue
        step = float(np.abs(there.x - here.x).max(initial=0.0))
        here = there
        v = problem.misses(here.c)
        multipliers = np.clip(-penalty * v, -MOST_MULTIPLIER, MOST_MULTIPLIER)  # (2)
        note = f"multipliers renewed, penalty {penalty:.0e}"
        standing = yield Iterate(here.x, step, note, math.nan, multipliers)
        if done or standing.meets_conditions:
            return Ending("converged", "first-order conditions hold for the multipliers found")
        ended = endless(task, here, standing)
        if ended is not None:
            return ended
        if not len(here.c) and last != "exhausted":  # without rows there are no multipliers to improve
            return Ending("stalled", f"the inner method, {options.inner}, found no better design: {last}")
        now = float(np.linalg.norm(task.misses(here.c)))
        if now > FALLEN * violation and now > 0.0:
            if penalty >= MOST_PENALTY:
                break
            penalty *= GROWTH
        violation = min(now, violation)
        accuracy = max(INNER_FALL * accuracy, LAST_INNER)
    if task.violation(here.c) > task.feasibility:
        return Ending("infeasible", "no direction reduces the violation of the limits any further")
    return Ending("stalled", f"the multipliers no longer improve (the inner method ended: {last})")


def _inner(
    problem: _Augmented, x: FloatArray, accuracy: float, options: AugmentedLagrangianOptions
) -> Generator[Request | Bend | Iterate, Any, tuple[FloatArray, str, bool]]:
    """Drive the inner method on (1) from x. Return the design reached, its claim, and whether all conditions were met
    on the way."""
    task = problem.task
    none = np.zeros(0)
    own = replace(
        task,
        start=x,
        row_lower=none,
        row_upper=none,
        row_sizes=none,
        row_multipliers=None,
        bound_multipliers=None,
        has_curvature=False,
        losses=None,
    )
    inner = method_named(options.inner)
    generator = inner.run(own, inner.options())
    known: dict[bytes, tuple[FloatArray, FloatArray]] = {}
    reached, rounds = x, 0
    try:
        message = next(generator)
        while True:
            if isinstance(message, Request):
                reply: Reply = yield message
                answer: Any = problem.answered(reply)
                for point, g, rows in zip(
                    message.points, answer.gradient if answer.gradient is not None else (), reply.rows, strict=False
                ):
                    known[point.tobytes()] = (g, rows)
            else:
                assert isinstance(message, Iterate)
                rounds += 1
                if rounds > MOST_INNER:
                    return reached, "exhausted", False
                out = float(np.abs(message.point).max(initial=0.0))
                if len(problem.multipliers) and out > RUNAWAY * max(1.0, float(np.abs(x).max(initial=0.0))):
                    return message.point, "unbounded", False
                reached = message.point
                g, rows = known.get(reached.tobytes(), (np.full(len(x), math.nan), none))
                known = {reached.tobytes(): (g, rows)}
                least = float(np.abs(projected_gradient(task, reached, g)).max(initial=0.0))
                multipliers = -problem.penalty * problem.misses(rows) if len(rows) else problem.multipliers
                standing: Standing = yield replace(
                    message, multipliers=multipliers, path=f"augmented-lagrangian/{options.inner}"
                )
                if standing.meets_conditions:
                    return reached, "converged", True
                # Without rows (1) is the problem itself, and what is measured there is all there is.
                answer = Standing(0.0, least, least <= accuracy) if len(problem.multipliers) else standing
            message = generator.send(answer)
    except StopIteration as end:
        return reached, end.value.claim, False
    finally:
        generator.close()


METHOD = Method(
    name="augmented-lagrangian",
    about="limits by multipliers and penalties, with a method for bounds inside: very large problems",
    kind="gradient-based",
    needs="gradients",
    handles=frozenset({"bounds", "inequalities", "equalities"}),
    options=AugmentedLagrangianOptions,
    run=augmented_lagrangian,
    takes_sparse=True,
    cost="many gradients, no factorization; memory of the inner method",
    weak="high accuracy on badly scaled limits",
)
