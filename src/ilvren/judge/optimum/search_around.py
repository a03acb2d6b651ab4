"""Checks that look for a better design by searching: nearby, downhill, from elsewhere, by another method."""

from __future__ import annotations

import math
from dataclasses import replace
from typing import TYPE_CHECKING

import numpy as np
from numpy.typing import NDArray

from ilvren.judge.optimum.first_order import prices_of
from ilvren.judge.optimum.probe import Better, Probe, gain_over, probe_around, restored
from ilvren.problem import Problem, carried, collocated_problem, refined_problem
from ilvren.runs import AUTOMATIC, PRICED_STATIONARITY, RunResult, Settings, run, run_as_it_stands

if TYPE_CHECKING:
    from ilvren.judge.optimum.judged import JudgedDesign

__all__ = [
    "better_at",
    "check_neighbourhood",
    "check_other_method",
    "check_random_starts",
    "has_prices",
    "search_downhill",
    "search_without_slopes",
]

FloatArray = NDArray[np.float64]

# Random designs tried at every radius: formulas are cheap, models are not.
SAMPLES, MODEL_SAMPLES = 60, 20
# What a search from the design may use; through models it may also not take longer than this.
DESCENT_EVALUATIONS, BLIND_EVALUATIONS, MODEL_SECONDS = 2000, 600, 0.7
# A search without derivatives stays this near, in sizes.
BLIND_REACH = 0.05
# Without bounds, random starts lie within so many sizes of the design.
OPEN_REACH = 3.0


def check_neighbourhood(case: JudgedDesign, radii: tuple[float, ...], directions: list[FloatArray]) -> Probe:
    """Try designs around the case's; add the check and return what was found."""
    probe = probe_around(
        case.gate,
        case.measures,
        case.point,
        sizes=case.sizes,
        prices=prices_of(case),
        radii=radii,
        feasibility=case.feasibility,
        least_gain=case.tolerance * case.size,
        directions=directions,
        slack=1e-3 if has_prices(case) else 0.0,
        samples=MODEL_SAMPLES if case.problem.sources else SAMPLES,
    )
    detail = f"{probe.tried} feasible designs within {probe.radius:g} of the variables' sizes"
    gain = 0.0 if probe.better is None else probe.better.gain / case.size
    if probe.better is not None:
        case.add("neighbourhood", "fail", gain, case.tolerance, detail + ": one is better")
    else:
        case.add("neighbourhood", "pass" if probe.tried else "unknown", gain, case.tolerance, detail + ", none better")
    return probe


def _gained(case: JudgedDesign, result: RunResult) -> Better | None:
    """Return what a run found, if it beats the case's design by more than the tolerance."""
    if not result.violation <= case.feasibility:
        return None
    return better_at(case, np.array(result.full_point))


def _from_file(problem: Problem, own: FloatArray | None = None) -> Problem:
    """Return the problem of a judged design begun where its file says, or at other variables (own_size,); states on a
    grid along a simulation."""
    if not problem.is_collocated:
        return problem if own is None else problem.with_starts(own)
    plain = refined_problem(problem, replace(problem.refinement, scheme="", grids={}))
    if own is not None:
        at = np.array(problem.start)
        at[: len(own)] = own
        plain = plain.with_starts(carried(problem, at, plain))
    grids = {axis.case: tuple(axis.taus.tolist()) for axis in problem.template.built_axes}
    return collocated_problem(plain, problem.refinement.scheme, grids)[0]


def better_at(case: JudgedDesign, point: FloatArray) -> Better | None:
    """Return a feasible design as better than the case's, if it is by more than the tolerance, the worth of its larger
    misses taken off. Where multipliers need not exist (at a cusp, at a kink) or are not known a miss has no price,
    however small it is (it may be worth its root): then the design is brought back to misses no larger than those here
    first."""
    there = case.gate.evaluate(point)
    misses_more = bool((case.measures.row_misses(there.rows) > case.measures.row_misses(case.evaluation.rows)).any())
    if misses_more and not has_prices(case):
        own = case.measures.violation(case.point, case.evaluation.rows)
        free = case.problem.continuous_places
        point, there = restored(case.gate, case.measures, point, free, case.sizes, own)
        if not case.measures.violation(point, there.rows) <= own:
            return None
    gain = gain_over(case.measures, case.evaluation, there, prices_of(case))
    violation = case.measures.violation(point, there.rows)
    return Better(point, there.objective, gain, violation) if gain > case.tolerance * case.size else None


def has_prices(case: JudgedDesign) -> bool:
    """Return whether multipliers say what a miss is worth: they exist, and no kink makes them those of one side."""
    prices = prices_of(case)
    is_known = case.conditions is not None and bool(np.isfinite(prices).all())
    is_near = case.conditions is not None and bool(case.conditions.stationarity <= PRICED_STATIONARITY)
    return is_known and is_near and case.qualification in ("independent", "inward") and not case.kinks


def _add(case: JudgedDesign, name: str, better: Better | None, what: str, *, is_known: bool = True) -> Better | None:
    gain = 0.0 if better is None else better.gain / case.size
    result = "fail" if better is not None else "pass" if is_known else "unknown"
    case.add(name, result, gain, case.tolerance, f"{what} finds {'a better design' if better else 'nothing better'}")
    return better


def search_downhill(case: JudgedDesign) -> Better | None:
    """Run the method that suits the problem from the design; add the check."""
    if any(case.problem.variables[i].kind != "continuous" for i in case.problem.free):
        return None
    settings = Settings(
        method=AUTOMATIC,
        second_look=0.0,
        evaluations=DESCENT_EVALUATIONS,
        tolerance=case.tolerance,
        feasibility=case.feasibility,
        seconds=MODEL_SECONDS if case.problem.sources else None,
    )
    found = run_as_it_stands(case.problem.with_starts(case.point), settings)
    return _add(case, "search", _gained(case, found), "a search downhill")


def search_without_slopes(case: JudgedDesign) -> Better | None:
    """Search near the design with a method that needs no derivatives; add the check."""
    problem = case.problem.with_starts(case.point)
    if problem.is_collocated:
        what = "a search without derivatives, which cannot keep to a grid's equations,"
        return _add(case, "search", None, what, is_known=False)
    blocks = []
    for block in problem.blocks:
        own = slice(block.first, block.first + block.size)
        if block.kind != "continuous":
            part = case.point[own]
            blocks.append(replace(block, start=part, lower=part, upper=part, spacing=None, catalogue=None))
            continue
        reach = BLIND_REACH * case.sizes[own]
        lower, upper = np.maximum(block.lower, block.start - reach), np.minimum(block.upper, block.start + reach)
        blocks.append(replace(block, lower=lower, upper=upper))
    nearby = replace(problem, blocks=tuple(blocks))
    settings = Settings(
        method="mesh-adaptive-search",
        evaluations=BLIND_EVALUATIONS,
        tolerance=case.tolerance,
        feasibility=case.feasibility,
        seconds=MODEL_SECONDS if case.problem.sources else None,
    )
    return _add(case, "search", _gained(case, run(nearby, settings)), "a search without derivatives, nearby,")


def check_other_method(case: JudgedDesign, method: str) -> Better | None:
    """Solve from the problem's start with another method, which must find nothing better; add the check."""
    settings = Settings(method=method, tolerance=case.tolerance, feasibility=case.feasibility)
    result = run_as_it_stands(_from_file(case.problem), settings)
    better = _gained(case, result)
    point = np.array(result.full_point)
    there = case.gate.evaluate(point)
    is_feasible = result.violation <= case.feasibility and there.is_finite
    gap = (there.objective - case.evaluation.objective) / case.size if is_feasible else math.nan
    moved = float(np.abs((point - case.point) / case.sizes).max(initial=0.0))
    if better is not None:
        word, verdict = "finds a better design", "fail"
    elif not is_feasible:
        word, verdict = f"finds no feasible design ({result.outcome})", "unknown"
    elif gap > math.sqrt(case.tolerance):
        word, verdict = f"ends at a worse design ({result.outcome})", "unknown"
    elif moved > 1e-2:
        word, verdict = f"finds the same objective at another design, {moved:.2g} of the sizes away", "pass"
    else:
        word, verdict = "finds the same design", "pass"
    case.add("other-method", verdict, gap, case.tolerance, f"{result.method}, from the start, {word}")
    return better


def check_random_starts(case: JudgedDesign, count: int, seed: int = 0) -> Better | None:
    """Solve from random designs within the bounds; add the check."""
    rng = np.random.default_rng([seed, 11])
    low = np.where(np.isfinite(case.measures.lower), case.measures.lower, case.point - OPEN_REACH * case.sizes)
    high = np.where(np.isfinite(case.measures.upper), case.measures.upper, case.point + OPEN_REACH * case.sizes)
    best: Better | None = None
    reached = ended = 0
    settings = Settings(method=AUTOMATIC, second_look=0.0, tolerance=case.tolerance, feasibility=case.feasibility)
    for _ in range(count):
        start = np.array(case.problem.start)
        free = [place for place in case.problem.free if place < case.problem.own_size]
        start[free] = (low + rng.uniform(size=len(start)) * (high - low))[free]
        result = run_as_it_stands(_from_file(case.problem, start[: case.problem.own_size]), settings)
        better = _gained(case, result)
        if better is not None and (best is None or better.gain > best.gain):
            best = better
        if result.violation <= case.feasibility:
            ended += 1
            there = case.gate.evaluate(np.array(result.full_point))
            reached += abs(there.objective - case.evaluation.objective) <= math.sqrt(case.tolerance) * case.size
    what = f"{count} random starts: {ended} end at feasible designs, {reached} of them with this objective; the search"
    return _add(case, "random-starts", best, what, is_known=ended > 0)
