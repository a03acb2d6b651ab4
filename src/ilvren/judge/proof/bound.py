"""Proofs by intervals: that no feasible design is better than the one judged, anywhere or within a box around it.

The statement: every design within the bounds (and on the grid of spaced and catalogue variables) that meets all limits
exactly has an objective of at least the bound, in real arithmetic, provided that the library's functions are right to
eight units in the last place. It says nothing of designs that use the misses allowed by the feasibility.
"""

from __future__ import annotations

import math
from collections.abc import Callable, Mapping
from dataclasses import replace
from typing import TYPE_CHECKING

import numpy as np
from numpy.typing import NDArray

from ilvren.judge.optimum.probe import Better
from ilvren.judge.optimum.search_around import better_at
from ilvren.judge.standing.verdict import Proof, Verdict
from ilvren.problem import allowed_values_of, scalar_problem
from ilvren.proofs import Bounder, Search, search_boxes
from ilvren.runs import AUTOMATIC, Settings, run_as_it_stands

if TYPE_CHECKING:
    from ilvren.judge.optimum.judged import JudgedDesign

__all__ = ["MOST_SECONDS", "bound_on_box", "proved", "refusal"]

FloatArray = NDArray[np.float64]
Told = Callable[[int, int, float], None]

# Beyond so many free variables a proof is not begun: boxes double with every one.
MOST_VARIABLES, MOST_ROWS = 12, 60
# Where variables have no bounds, this share of the time goes into a proof without any; then it is restricted to designs
# within so many sizes, and says so.
OPEN_SHARE, FAR = 0.15, 1000.0
# Proofs that are limited by boxes take no longer than this on any machine.
MOST_SECONDS = 20.0
# What a search from the lowest box may use.
SEARCH_EVALUATIONS = 400
# A bound on a box around a design counts only when it is the design's own value, up to rounding of this share.
EXACT = 1e-12


def refusal(case: JudgedDesign) -> str:
    """Return why there can be no proof, or nothing."""
    problem = case.problem
    if problem.sources:
        return "a model's inside is not known to intervals; only formulas can be proved"
    if len(problem.free) > MOST_VARIABLES or problem.row_count > MOST_ROWS:
        return f"{len(problem.free)} free variables and {problem.row_count} rows are too many for a proof"
    return "" if scalar_problem(problem) is not None else "formulas as long as these cannot be followed by intervals"


def _bounder(case: JudgedDesign) -> Bounder:
    problem = scalar_problem(case.problem)
    assert problem is not None
    return Bounder(problem.with_starts(case.point))


def bound_on_box(case: JudgedDesign, radius: float, seconds: float) -> float | None:
    """Return 0.0 (the gap) when no feasible design within `radius` sizes is better at all, else None."""
    if refusal(case):
        return None
    bounder = _bounder(case)
    free = bounder.free
    reach = radius * case.sizes[free]
    low = np.maximum(case.measures.lower[free], case.point[free] - reach)
    high = np.minimum(case.measures.upper[free], case.point[free] + reach)
    cutoff = case.evaluation.objective - EXACT * case.size
    found = search_boxes(
        bounder, low, high, cutoff, seconds=seconds, try_points=lambda _: None, search_from=lambda _: None
    )
    return EXACT if found.is_complete else None


def proved(
    case: JudgedDesign, verdict: Verdict, *, seconds: float, told: Told | None = None, most: int | None = None
) -> Verdict:
    """Try to prove the case's design best of all, with `most` boxes; return the verdict with that."""
    why = refusal(case)
    if why:
        case.add("proof", "unknown", None, None, why)
        return replace(verdict, checks=tuple(case.checks))
    bounder = _bounder(case)
    free = bounder.free
    low, high = (np.array(side[free]) for side in (case.measures.lower, case.measures.upper))
    for place, variable in case.problem.grid:
        at = np.flatnonzero(free == place)
        own = allowed_values_of(variable)
        if len(at) and own.listed is not None:
            low[at], high[at] = own.listed[0], own.listed[-1]
    slack = case.tolerance * case.size
    cutoff = case.evaluation.objective - slack

    def search(low: FloatArray, high: FloatArray, seconds: float) -> Search:
        return search_boxes(
            bounder,
            low,
            high,
            cutoff,
            seconds=seconds,
            try_points=lambda points: _try_points(case, free, points, cutoff),
            search_from=lambda point: _search_from(case, free, point),
            told=told,
            most=most,
        )

    is_open = ~np.isfinite(high - low)
    if not is_open.any():
        return _with_proof(case, verdict, search(low, high, seconds), free, {})
    found = search(low, high, OPEN_SHARE * seconds)
    if found.is_complete or found.better is not None:
        return _with_proof(case, verdict, found, free, {})
    reach = FAR * np.maximum(case.sizes[free], np.abs(case.point[free]))
    near_low, near_high = np.maximum(low, case.point[free] - reach), np.minimum(high, case.point[free] + reach)
    names = [case.problem.variables[place].name for place in free]
    assumed = {
        name: (float(one), float(other))
        for name, one, other, open_ in zip(names, near_low, near_high, is_open, strict=True)
        if open_
    }
    again = search(near_low, near_high, seconds - found.seconds)
    again = replace(again, boxes=again.boxes + found.boxes, seconds=again.seconds + found.seconds)
    return _with_proof(case, verdict, again, free, assumed)


def _try_points(case: JudgedDesign, free: NDArray[np.int64], points: FloatArray, cutoff: float) -> FloatArray | None:
    """Return the best of the designs (k, n_free) that is feasible and below the cutoff, or None."""
    points = points[np.isfinite(points).all(axis=1)]
    if not len(points):
        return None
    full = np.repeat(case.point[np.newaxis], len(points), axis=0)
    full[:, free] = points
    for place, variable in case.problem.grid:
        full[:, place] = [variable.member(value) for value in full[:, place].tolist()]
    objective, rows = case.gate.batch_values(full)
    is_better = np.flatnonzero(objective < cutoff)
    for place in is_better[np.argsort(objective[is_better])][:20]:
        if case.measures.violation(full[place], rows[place]) <= case.feasibility and _gain(case, full[place]) > 0.0:
            return np.asarray(full[place])
    return None


def _gain(case: JudgedDesign, point: FloatArray) -> float:
    found = better_at(case, point)
    return -math.inf if found is None else found.gain


def _search_from(case: JudgedDesign, free: NDArray[np.int64], point: FloatArray) -> FloatArray | None:
    if not np.isfinite(point).all():
        return None
    start = case.point.copy()
    start[free] = point
    settings = Settings(
        method=AUTOMATIC,
        second_look=0.0,
        evaluations=SEARCH_EVALUATIONS,
        tolerance=case.tolerance,
        feasibility=case.feasibility,
    )
    result = run_as_it_stands(case.problem.with_starts(start), settings)
    there = np.array(result.full_point)
    return there if result.violation <= case.feasibility and _gain(case, there) > 0.0 else None


def _with_proof(
    case: JudgedDesign,
    verdict: Verdict,
    found: Search,
    free: NDArray[np.int64],
    assumed: Mapping[str, tuple[float, float]],
) -> Verdict:
    here = case.evaluation.objective
    gap = (here - found.bound) / case.size if math.isfinite(found.bound) else math.inf
    objective = case.problem.objective
    assert objective is not None
    work = f"{found.boxes} boxes in {found.seconds:.1f} s"
    if found.better is not None:
        there = case.gate.evaluate(found.better)
        violation = case.measures.violation(found.better, there.rows)
        better = Better(found.better, there.objective, here - there.objective, violation)
        case.add("proof", "fail", better.gain / case.size, case.tolerance, f"a better design was found after {work}")
        unit = f" {objective.unit}" if objective.unit else ""
        reason = (
            f"the search for a proof found a feasible design with {objective.name} ="
            f" {case.sized(there.objective):.8g}{unit}, against {case.sized(here):.8g}{unit} here"
        )
        return case.verdict("improvable", reason, better)
    bound = case.sized(found.bound)
    if found.is_complete:
        detail = f"no feasible design has {objective.name} {'below' if objective.sign > 0 else 'above'} {bound:.10g}"
        if assumed:
            ends = ", ".join(f"{low:.4g} <= {name} <= {high:.4g}" for name, (low, high) in assumed.items())
            detail += f" as long as {ends} (they have no bounds of their own)"
        case.add("proof", "pass", gap, case.tolerance, f"{detail}: {work}")
        proof = Proof(bound, gap, found.boxes, found.seconds, assumed=assumed)
        proven = case.verdict("global-proved", f"{detail}, as intervals prove ({work}); the gap is {gap:.1e}")
        return replace(proven, proof=proof)
    point_low, point_high = case.point.copy(), case.point.copy()
    point_low[free], point_high[free] = found.low, found.high
    names = [variable.name for variable in case.problem.variables]
    box = dict(zip(names, zip(point_low.tolist(), point_high.tolist(), strict=True), strict=True))
    case.add(
        "proof",
        "unknown",
        gap if math.isfinite(gap) else None,
        case.tolerance,
        f"{found.why or 'boxes too narrow to split are left'} after {work}; a better design may hide in the box shown",
    )
    proof = Proof(bound if math.isfinite(bound) else None, gap, found.boxes, found.seconds, box, assumed)
    return replace(verdict, checks=tuple(case.checks), proof=proof)
