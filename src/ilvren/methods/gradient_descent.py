"""Gradient descent: the simplest method there is, for teaching and for comparison.

    x⁺ = P(x − α D g)                                                                               (1)

P projects onto the bounds; D is the identity in the scaled variables. The step α is

    fixed           the option `length`, whatever happens
    backtracking    halved from a growing first trial until f falls enough (Armijo)
    exact           the minimum along the ray, as near as a tight line search finds it

Needs     gradients.   Handles   bounds.   Cost   one gradient per iteration, some values; arithmetic and memory ~ n.
Stops     when the conditions measured by the driver hold.
Weak      narrow valleys: the number of iterations grows with the ratio of largest to least curvature.
Source    A. Cauchy, "Méthode générale pour la résolution des systèmes d'équations simultanées", 1847;
          L. Armijo, "Minimization of functions having Lipschitz continuous first partial derivatives", 1966.
"""

from __future__ import annotations

import math
from collections.abc import Generator
from typing import Any

import numpy as np

from ilvren.methods.base import Assessment, Ending, Iterate, Method, Protocol, Request, Task
from ilvren.methods.pieces.descent import begun, end_of, stuck
from ilvren.methods.pieces.line_search import Found, moving_gradient, searched
from ilvren.methods.pieces.options import option
from ilvren.methods.pieces.points import Point, evaluated
from ilvren.records import dataclass

__all__ = ["METHOD", "GradientDescentOptions"]

# Armijo's constant, and halvings before the search gives up.
SUFFICIENT, MOST_HALVINGS = 1e-4, 60
# The first trial is this many times the last step; the very first moves the largest component by this much.
GROWTH, FIRST_MOVE = 2.0, 0.1
# Iterations in a row that may rise with a fixed step.
MOST_RISES = 20
# c₂ of the exact step.
EXACT = 0.01
ROUNDING = 10.0 * float(np.finfo(float).eps)


@dataclass(frozen=True)
class GradientDescentOptions:
    """Options of `gradient-descent`."""

    step: str = option(
        "backtracking", words=("backtracking", "exact", "fixed"), help="how the length of a step is found"
    )
    length: float = option(0.01, low=1e-12, high=1e6, help="the α of a fixed step, in scaled variables")


def gradient_descent(task: Task, options: GradientDescentOptions) -> Protocol:
    """Run the method on `task`; see the head of this file."""
    here = yield from begun(task)
    if isinstance(here, Ending):
        return here
    step, note, gain_ratio = math.nan, "the start", math.nan
    first, last, rises = here.f, here.f, 0
    alpha = FIRST_MOVE / max(float(np.abs(here.g).max(initial=0.0)), 1e-300)
    while True:
        assessment: Assessment = yield Iterate(here.x, step, note, gain_ratio)
        ended = end_of(task, here, assessment)
        # A fixed step that is too long climbs without end, to where any slope is small against f.
        rises = rises + 1 if here.f > last else 0
        last = here.f
        if rises >= MOST_RISES or (ended is not None and here.f > first):
            return Ending("stalled", f"the objective rises: the fixed step of length {options.length:g} is too long")
        if ended is not None:
            return ended
        gradient = moving_gradient(task, here.x, here.g)
        if options.step == "fixed":
            there = yield from evaluated(
                np.clip(here.x - options.length * here.g, task.lower, task.upper), derivatives=True
            )
            if not (there.is_finite and there.has_derivatives):
                return Ending("stalled", f"the fixed step of length {options.length:g} leads to an invalid design")
            if np.array_equal(there.x, here.x):
                return stuck(here, gradient)
            found: Found | None = Found(there, options.length, _held(here, there))
        elif options.step == "exact":
            found = yield from searched(task, here, -gradient, alpha, curvature=EXACT)
        else:
            found = yield from _backtracked(task, here, GROWTH * alpha)
        if found is None:
            return stuck(here, gradient)
        step, gain_ratio = float(np.abs(found.point.x - here.x).max()), found.gain_ratio
        note = {"fixed": "fixed step", "exact": "to the minimum along the gradient"}.get(
            options.step, f"step of length {found.alpha:.2g} along the gradient"
        )
        alpha, here = found.alpha, found.point


def _backtracked(task: Task, here: Point, alpha: float) -> Generator[Request, Any, Found | None]:
    """Halve α until f falls by the share SUFFICIENT of what the gradient promises."""
    for _ in range(MOST_HALVINGS):
        x = np.clip(here.x - alpha * here.g, task.lower, task.upper)
        if np.array_equal(x, here.x):
            return None
        trial = yield from evaluated(x, derivatives=False)
        promised = float(here.g @ (here.x - x))
        if math.isfinite(trial.f) and trial.f <= here.f - SUFFICIENT * promised + ROUNDING * abs(here.f):
            there = yield from evaluated(x, derivatives=True)
            if there.has_derivatives:
                return Found(there, alpha, _held(here, there))
        alpha *= 0.5
    return None


def _held(here: Point, there: Point) -> float:
    promised = float(here.g @ (here.x - there.x))
    return (here.f - there.f) / promised if promised > 0.0 else math.nan


METHOD = Method(
    name="gradient-descent",
    about="steps along the gradient: for teaching and comparison",
    kind="gradient-based",
    needs="gradients",
    handles=frozenset({"bounds"}),
    options=GradientDescentOptions,
    run=gradient_descent,
    takes_sparse=True,
    cost="one gradient per iteration; arithmetic and memory n",
    weak="narrow valleys, where it takes thousands of iterations",
)
