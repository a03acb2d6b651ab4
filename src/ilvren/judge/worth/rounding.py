"""The best design near another that can be made: its variables rounded to spacings, found among the neighbours.

Rounding each variable to its nearer member is seldom best and often breaks a limit. All members within REACH spacings
either way are tried together where they are few, the other variables being solved for again; where they are many, a
descent over one and two variables at a time starts from the best rounding.
"""

from __future__ import annotations

import itertools
import math
from collections.abc import Mapping
from dataclasses import replace
from typing import TYPE_CHECKING

import numpy as np
from numpy.typing import NDArray

from ilvren.errors import RequestError, nearest
from ilvren.judge.standing.findings import Rounding
from ilvren.runs import AUTOMATIC, Settings, run_as_it_stands

if TYPE_CHECKING:
    from ilvren.judge.optimum.judged import JudgedDesign
    from ilvren.problem import Problem

__all__ = ["check_spacings", "rounding_near"]

FloatArray = NDArray[np.float64]

# Members tried either way of the design; combinations up to which all are tried; steps of the descent.
REACH, MOST_COMBINATIONS, MOST_STEPS = 2, 600, 60


def rounding_near(case: JudgedDesign, spacings: Mapping[str, float]) -> Rounding:
    """Return the best makeable design near the case's. `spacings` by variable name, counted from 0, in the variable's
    unit; the problem's own spaced and catalogue variables are held at members, too. Raises RequestError."""
    problem = case.problem
    places, candidates = check_spacings(case, spacings)
    search = _Search(case, places, candidates)
    rounding = tuple(
        int(np.argmin(np.abs(np.array(own) - case.point[p]))) for p, own in zip(places, candidates, strict=True)
    )
    rounded = search.value(rounding)
    best = search.best_of_all() if math.prod(map(len, candidates)) <= MOST_COMBINATIONS else search.descended(rounding)
    here = case.evaluation.objective
    point = search.designs.get(best) if best is not None else None
    if best is None or point is None:
        return Rounding(spacings, {}, None, None, None, len(search.values))
    value = search.value(best)
    variables = {variable.name: float(x) for variable, x in zip(problem.variables, point.tolist(), strict=True)}
    own_rounded = case.sized(rounded) if math.isfinite(rounded) else None
    return Rounding(spacings, variables, case.sized(value), value - here, own_rounded, len(search.values))


def check_spacings(case: JudgedDesign, spacings: Mapping[str, float]) -> tuple[list[int], list[list[float]]]:
    """Return the places of the variables and the members near the design of each. Raises RequestError."""
    places: list[int] = []
    candidates: list[list[float]] = []
    names = {variable.name: place for place, variable in enumerate(case.problem.variables)}
    for name, spacing in spacings.items():
        if name not in names:
            close = nearest(name, names)
            advice = f'did you mean "{close}"?' if close else "its variables: " + ", ".join(list(names)[:12])
            raise RequestError(f'--makeable {name}=…: the problem has no variable "{name}"', advice=advice)
        if not (spacing > 0.0 and math.isfinite(spacing)):
            raise RequestError(f"--makeable {name}={spacing:g}: a spacing is a number above 0")
        places.append(names[name])
        candidates.append(_multiples(case, names[name], spacing))
    return places, candidates


def _multiples(case: JudgedDesign, place: int, spacing: float) -> list[float]:
    middle = case.point[place] / spacing
    low, high = case.measures.lower[place], case.measures.upper[place]
    slack = 1e-9 * spacing
    steps = range(math.floor(middle) - REACH + 1, math.ceil(middle) + REACH)
    found = [step * spacing for step in steps if low - slack <= step * spacing <= high + slack]
    if not found:
        name = case.problem.variables[place].name
        raise RequestError(
            f"--makeable {name}={spacing:g}: no multiple of it lies within the bounds near {case.point[place]:g}"
        )
    return found


class _Search:
    """Values of combinations of members, each solved for the other variables."""

    def __init__(self, case: JudgedDesign, places: list[int], candidates: list[list[float]]) -> None:
        self.case, self.places, self.candidates = case, places, candidates
        self.values: dict[tuple[int, ...], float] = {}
        self.designs: dict[tuple[int, ...], FloatArray] = {}

    def value(self, chosen: tuple[int, ...]) -> float:
        """Return the internal objective of a combination, infinite where no feasible design was found."""
        if chosen not in self.values:
            self.values[chosen] = self._computed(chosen)
        return self.values[chosen]

    def _computed(self, chosen: tuple[int, ...]) -> float:
        case = self.case
        point = case.point.copy()
        for place, own, k in zip(self.places, self.candidates, chosen, strict=True):
            point[place] = own[k]
        held = _held(case.problem, self.places, point)
        if len(held.free):
            found = run_as_it_stands(
                held,
                Settings(
                    method=AUTOMATIC,
                    second_look=0.0,
                    evaluations=500,
                    feasibility=case.feasibility,
                    tolerance=case.tolerance,
                ),
            )
            point = np.array(found.full_point)
        evaluation = case.gate.evaluate(point)
        if not evaluation.is_finite or not case.measures.violation(point, evaluation.rows) <= case.feasibility:
            return math.inf
        self.designs[chosen] = point
        return evaluation.objective

    def best_of_all(self) -> tuple[int, ...] | None:
        """Try every combination."""
        every = list(itertools.product(*(range(len(own)) for own in self.candidates)))
        best = min(every, key=self.value)
        return best if math.isfinite(self.value(best)) else None

    def descended(self, start: tuple[int, ...]) -> tuple[int, ...] | None:
        """Go to the best combination that differs in one or two members until none is better. Where the start is not
        feasible, so far as moves of two reach a feasible one."""
        here = start
        for _ in range(MOST_STEPS):
            moves = list(self._moves(here))
            best = min(moves, key=self.value, default=here)
            if not self.value(best) < self.value(here):
                break
            here = best
        return here if math.isfinite(self.value(here)) else None

    def _moves(self, here: tuple[int, ...]) -> list[tuple[int, ...]]:
        count = len(here)
        found = []
        for size in (1, 2):
            for which in itertools.combinations(range(count), size):
                for steps in itertools.product((-1, 1), repeat=size):
                    moved = list(here)
                    for place, step in zip(which, steps, strict=True):
                        moved[place] += step
                    if all(0 <= moved[p] < len(self.candidates[p]) for p in which):
                        found.append(tuple(moved))
        return found


def _held(problem: Problem, places: list[int], point: FloatArray) -> Problem:
    """Return the problem with some variables, and its own spaced and catalogue ones, fixed where `point` has them."""
    blocks = []
    for block in problem.blocks:
        own = slice(block.first, block.first + block.size)
        part = point[own]
        if block.kind != "continuous":
            blocks.append(replace(block, start=part, lower=part, upper=part, spacing=None, catalogue=None))
            continue
        held = np.array([place in places for place in range(own.start, own.stop)])
        lower, upper = np.where(held, part, block.lower), np.where(held, part, block.upper)
        blocks.append(replace(block, start=np.clip(part, lower, upper), lower=lower, upper=upper))
    return replace(problem, blocks=tuple(blocks))
