"""Perturb, minimize locally, accept by temperature: a walk from one local optimum to the next.

From the optimum x the start of the next local search is

    x + s · w_j · r_j ,   r_j uniform in [−1, 1], w_j the widths of the box                                (1)

and its end x' is accepted with the probability exp(−(f' − f)/T), T being `temperature` times the mean difference of
the optima met so far (2). s grows when the search falls back into the same optimum and shrinks when it is refused too
often, to keep the share of accepted moves near a half (3). An end that misses limits is never accepted.

Needs     what its local method needs.   Handles   what that handles.
Cost      one local search for each move, one after the other.
Stops     when nothing better was found in `idle` moves.
Weak      distant optima with nothing in between.
Source    Z. Li, H. Scheraga, "Monte Carlo-minimization approach to the multiple-minima problem in protein folding",
          1987; D. Wales, J. Doye, "Global optimization by basin-hopping", 1997.
Departs   by (2), which makes the temperature a number without unit.
"""

from __future__ import annotations

import math
from dataclasses import replace

import numpy as np
from numpy.typing import NDArray

from ilvren.methods.base import Ending, Iterate, Method, Optimum, Protocol, Task
from ilvren.methods.pieces.coding import Coding
from ilvren.methods.pieces.inner import AUTOMATIC, inner_method
from ilvren.methods.pieces.options import option
from ilvren.methods.pieces.together import Child, together
from ilvren.records import dataclass

__all__ = ["METHOD", "PerturbAndDescendOptions"]

FloatArray = NDArray[np.float64]

# (3): what s is multiplied by, and its range.
GROWTH, SHRINK, LEAST_STEP, MOST_STEP = 1.3, 0.85, 1e-3, 1.0
# Optima whose values and designs agree so well are one.
SAME_VALUE, SAME_DESIGN = 100.0, 1e-3
ENDS_WELL = ("converged", "settled")


@dataclass(frozen=True)
class PerturbAndDescendOptions:
    """Options of `perturb-and-descend`."""

    local: str = option(
        AUTOMATIC, names_method=True, help="the method that descends; automatic: what suits the problem"
    )
    first_step: float = option(0.2, low=1e-3, high=1.0, help="first size of a perturbation, as a share of the widths")
    temperature: float = option(
        0.5, low=0.0, high=100.0, help="of the acceptance, in mean differences of the optima met"
    )
    idle: int = option(30, low=1, high=100_000, help="moves without a better optimum after which the search ends")


@dataclass
class _Optimum:
    x: FloatArray
    f: float
    often: int
    moves: list[int]


def perturb_and_descend(task: Task, options: PerturbAndDescendOptions) -> Protocol:
    """Run the method on `task`; see the head of this file."""
    coding, rng = Coding.of(task), np.random.default_rng([task.seed, 29])
    method = inner_method(options.local, task)
    known: list[_Optimum] = []
    here: _Optimum | None = None
    step, idle, move, failed = options.first_step, 0, 0, 0
    start, claim, differences = task.start, "settled", 0.0
    last = Ending("stalled", "")
    while idle < options.idle:
        seed = int(np.random.SeedSequence([task.seed, move]).generate_state(1)[0])
        own = replace(task, start=start, seed=seed, row_multipliers=None, bound_multipliers=None)
        child = Child(path=f"move[{move}]/{method.name}", protocol=method.run(own, method.options()), task=own)
        yield from together([child])
        assert child.ending is not None
        last = child.ending
        if last.claim == "unbounded":
            return Ending("unbounded", "the objective falls without end from one of the moves")
        is_optimum = last.claim in ENDS_WELL and child.last is not None and child.worth()[0] == 0.0
        if is_optimum and child.best is not None and child.last is not None:
            x = child.last.point if last.claim == "converged" else child.best.x
            found = _met(task, coding, known, np.asarray(x), child.best.f, move)
            best = min(known, key=lambda item: item.f)
            is_new_best = found is best and found.often == 1
            if is_new_best:
                claim = last.claim
            idle = 0 if is_new_best else idle + 1
            if len(known) > 1:
                values = [item.f for item in known]
                differences = (max(values) - min(values)) / (len(values) - 1)
            if here is None:
                here = found
            elif found is here:
                step = min(GROWTH * step, MOST_STEP)
            elif _is_accepted(found.f - here.f, options.temperature * differences, rng):
                here = found
            else:
                step = max(SHRINK * step, LEAST_STEP)
        else:
            idle, failed = idle + 1, failed + 1
        move += 1
        centre = here.x if here is not None else task.start
        start = task.allowed(centre + step * _reach(task, coding) * rng.uniform(-1.0, 1.0, size=len(centre)))  # (1)
    if not known:
        return Ending(
            last.claim if last.claim in ("infeasible", "invalid") else "stalled",
            f"no move led to an optimum: {last.reason}",
        )
    known.sort(key=lambda item: item.f)
    best = known[0]
    yield Iterate(best.x, math.nan, "the best optimum", path=f"move[{best.moves[0]}]/{method.name}")
    optima = tuple(Optimum(item.x, item.f, item.often, tuple(item.moves)) for item in known)
    met = "1 optimum was" if len(known) == 1 else f"{len(known)} distinct optima were"
    reason = f"nothing better in {idle} moves; {met} met in {move}, the best one {best.often} times"
    if failed:
        reason += f"; {failed} came to no optimum"
    return Ending(claim, reason, optima=optima)


METHOD = Method(
    name="perturb-and-descend",
    about="a walk over local optima: perturb, minimize locally, accept by temperature",
    kind="global",
    needs="values",
    handles=frozenset({"bounds", "inequalities", "equalities", "spaced", "catalogue"}),
    options=PerturbAndDescendOptions,
    run=perturb_and_descend,
    cost="one local search for each move",
    weak="distant optima with nothing in between",
    inner="local",
    is_random=True,
)


def _reach(task: Task, coding: Coding) -> FloatArray:
    """Return the widths of the box, in designs."""
    return np.where(coding.is_discrete, np.minimum(task.upper - task.lower, 1e9), coding.widths)


def _met(task: Task, coding: Coding, known: list[_Optimum], x: FloatArray, f: float, move: int) -> _Optimum:
    """Return the known optimum that this is, or this as a new one."""
    reach = SAME_DESIGN * _reach(task, coding)
    for item in known:
        size = max(abs(item.f), abs(f), 1e-12)
        if abs(item.f - f) <= SAME_VALUE * task.tolerance * size and bool((np.abs(item.x - x) <= reach).all()):
            item.often += 1
            item.moves.append(move)
            return item
    known.append(_Optimum(x, f, 1, [move]))
    return known[-1]


def _is_accepted(change: float, temperature: float, rng: np.random.Generator) -> bool:
    """Return whether a move is made, (2)."""
    chance = float(rng.random())
    if change <= 0.0:
        return True
    return temperature > 0.0 and chance < math.exp(-min(change / temperature, 700.0))
