"""Augmented Lagrangian: limits of any kind by a sequence of problems with bounds alone.

    minimize  f(x) + ½ ρ |v|²  on the bounds,     s = c(x) − λ/ρ,   v = s − P(s)                     (1)
    λ ← −ρ v,      ρ ← 10 ρ where the violation has not fallen enough                              (2)

P projects onto the limits of the rows. Each problem (1) is given to an inner method, to an accuracy that rises with the
outer iterations: Newton's with one factorization a step (`methods.pieces.augmented_newton`) where second derivatives
are exact but for what models add, which is estimated, or a method for bounds, whose requests are turned into requests
for f and c. Where the limits seem to conflict, it looks around for a lower violation; where it has converged, for
negative curvature.

Needs     gradients.   Handles   bounds, inequalities, equalities.
Cost      a gradient, a Hessian and a factorization per step; without exact second derivatives many gradients.
Stops     when the conditions measured by the driver hold.
Weak      high accuracy on badly scaled limits takes many steps.
Source    M. R. Hestenes, "Multiplier and gradient methods", 1969; M. J. D. Powell, "A method for nonlinear constraints
          in minimization problems", 1969; R. T. Rockafellar, "The multiplier method of Hestenes and Powell applied to
          convex programming", 1973, for inequalities.
"""

from __future__ import annotations

import math
from collections.abc import Generator
from dataclasses import replace
from typing import Any

import numpy as np
from numpy.typing import NDArray

from ilvren.methods.base import (
    Assessment,
    Ending,
    HessianRequest,
    Iterate,
    Method,
    Protocol,
    Reply,
    Request,
    Task,
    method_named,
)
from ilvren.methods.pieces.augmented_newton import Augmented, newton_within_bounds
from ilvren.methods.pieces.descent import endless
from ilvren.methods.pieces.escape import downhill_from_saddle, less_violated_nearby
from ilvren.methods.pieces.estimated import estimated_while_useful
from ilvren.methods.pieces.inner import AUTOMATIC
from ilvren.methods.pieces.options import option
from ilvren.methods.pieces.points import Point, evaluated, projected_gradient
from ilvren.records import dataclass

__all__ = ["METHOD", "AugmentedLagrangianOptions"]

FloatArray = NDArray[np.float64]

# ρ: first, most, growth, and the share to which the violation must fall to keep it.
FIRST_PENALTY, MOST_PENALTY, GROWTH, FALLEN = 10.0, 1e12, 10.0, 0.25
# The accuracy of the inner problems: first, last, and how it rises.
FIRST_INNER, LAST_INNER, INNER_FALL = 1e-2, 1e-10, 0.1
# Multipliers beyond this are held back.
MOST_MULTIPLIER = 1e10
MOST_OUTER, MOST_INNER = 100, 2000
# Looks around where the limits conflict, and for negative curvature, in one run.
MOST_ESCAPES = 4
CONDITIONS_HOLD = "first-order conditions hold for the multipliers found"
# Newton's method with a factorization for each step, `pieces.augmented_newton`.
FACTORED = "factored"
# An inner problem that leads so many times further out than it began has no minimum.
RUNAWAY = 1e4


@dataclass(frozen=True)
class AugmentedLagrangianOptions:
    """Options of `augmented-lagrangian`."""

    inner: str = option(
        AUTOMATIC,
        words=(AUTOMATIC, FACTORED, "l-bfgs", "bfgs", "conjugate-gradient", "newton"),
        help="the method for (1); automatic: factored, where second derivatives can be had, else l-bfgs",
    )


@dataclass(frozen=True)
class _Augmented(Augmented):
    """The function of (1) as a task of its own."""

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
    inner = options.inner
    if inner in (AUTOMATIC, FACTORED):
        inner = FACTORED if task.has_curvature or task.has_secants else "l-bfgs"
    multipliers = np.zeros(len(here.c)) if task.row_multipliers is None else task.row_multipliers
    step, note = math.nan, "the start"
    for escapes in range(MOST_ESCAPES + 1):
        assessment: Assessment = yield Iterate(here.x, step, note, math.nan, multipliers)
        here, multipliers, ending = yield from _multiplied(task, inner, here, multipliers, assessment)
        elsewhere = None
        if escapes < MOST_ESCAPES and ending.claim == "infeasible":
            elsewhere = yield from less_violated_nearby(task, here, escapes)
            note, multipliers = "looked around for a lower violation", np.zeros(len(here.c))
        elif escapes < MOST_ESCAPES and ending.claim == "converged":
            elsewhere = yield from downhill_from_saddle(task, here, multipliers)
            note = "left a saddle along negative curvature"
        if elsewhere is None:
            break
        step, here = float(np.abs(elsewhere.x - here.x).max()), elsewhere
    return ending


def _multiplied(
    task: Task, inner: str, here: Point, multipliers: FloatArray, assessment: Assessment
) -> Generator[Request | HessianRequest | Iterate, Any, tuple[Point, FloatArray, Ending]]:
    """Alternate (1) and (2) from `here`. Return the point and the multipliers reached, and how that ended."""
    # Without rows (1) is the problem itself, and what the driver measures is all that counts.
    penalty, accuracy = FIRST_PENALTY, FIRST_INNER if len(here.c) else 0.0
    violation, last = math.inf, "nothing"
    for _ in range(MOST_OUTER):
        if assessment.meets_conditions:
            return here, multipliers, Ending("converged", CONDITIONS_HOLD)
        problem = _Augmented(task, multipliers, penalty)
        if inner == FACTORED:  # (1)
            there, last, done = yield from newton_within_bounds(problem, here, accuracy, f"{METHOD.name}/{inner}")
        else:
            x, last, done = yield from _inner(problem, here.x, accuracy, inner)
            there = yield from evaluated(x, derivatives=True)
        if not (there.is_finite and there.has_derivatives):
            reason = "the inner problem ended where a derivative is not finite"
            return here, multipliers, Ending("stalled", reason)
        is_violated = len(here.c) > 0 and task.violation(there.c) > task.feasibility
        if last == "unbounded" and is_violated and penalty < MOST_PENALTY:  # (1) has no minimum yet
            penalty, accuracy = GROWTH * penalty, FIRST_INNER
            note = f"the inner problem fell without end: penalty {penalty:.0e}"
            assessment = yield Iterate(here.x, 0.0, note, math.nan, multipliers)
            continue
        step = float(np.abs(there.x - here.x).max(initial=0.0))
        here = there
        multipliers = np.clip(problem.renewed(here.c), -MOST_MULTIPLIER, MOST_MULTIPLIER)  # (2)
        note = f"multipliers renewed, penalty {penalty:.0e}"
        assessment = yield Iterate(here.x, step, note, math.nan, multipliers)
        if done or assessment.meets_conditions:
            return here, multipliers, Ending("converged", CONDITIONS_HOLD)
        ended = endless(task, here, assessment)
        if ended is not None:
            return here, multipliers, ended
        if not len(here.c) and last != "exhausted":  # without rows there are no multipliers to improve
            reason = f"the inner method, {inner}, found no better design: {last}"
            return here, multipliers, Ending("stalled", reason)
        now = float(np.linalg.norm(task.misses(here.c)))
        if now > FALLEN * violation and now > 0.0:
            if penalty >= MOST_PENALTY:
                break
            penalty *= GROWTH
        violation = min(now, violation)
        accuracy = max(INNER_FALL * accuracy, LAST_INNER) if len(here.c) else 0.0
    if task.violation(here.c) > task.feasibility:
        return here, multipliers, Ending("infeasible", "no direction reduces the violation of the limits any further")
    reason = f"the multipliers no longer improve (the inner method ended: {last})"
    return here, multipliers, Ending("stalled", reason)


def _inner(
    problem: _Augmented, x: FloatArray, accuracy: float, name: str
) -> Generator[Request | HessianRequest | Iterate, Any, tuple[FloatArray, str, bool]]:
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
        has_secants=False,
        losses=None,
    )
    inner = method_named(name)
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
                assessment: Assessment = yield replace(message, multipliers=multipliers, path=f"{METHOD.name}/{name}")
                if assessment.meets_conditions:
                    return reached, "converged", True
                # Without rows (1) is the problem itself, and what is measured there is all there is.
                answer = Assessment(0.0, least, least <= accuracy) if len(problem.multipliers) else assessment
            message = generator.send(answer)
    except StopIteration as end:
        return reached, end.value.claim, False
    finally:
        generator.close()


METHOD = Method(
    name="augmented-lagrangian",
    about="limits by multipliers and penalties, with a method for bounds inside",
    kind="gradient-based",
    needs="gradients",
    handles=frozenset({"bounds", "inequalities", "equalities"}),
    options=AugmentedLagrangianOptions,
    run=estimated_while_useful(augmented_lagrangian),
    takes_sparse=True,
    cost="a gradient, a Hessian, a factorization a step; inexact: many gradients",
    weak="high accuracy on badly scaled limits",
)
