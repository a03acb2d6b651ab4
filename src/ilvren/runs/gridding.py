"""Grids of collocated problems, stage by stage: how large the error is, and where the next grid's moments stand.

An interval's error goes with its length to the power p + 1, p the scheme's order. With w_k how many intervals there
should be in place of interval k,

    w_k = (η_k / η)^(1/(p + 1)),   η such that Σ η_k / w_k^p is the error that is allowed              (1)

the moments of the next grid are spread so that each interval has about one of Σ w. Moments that the file gives (ends of
pieces, knots of tables) stay; where a control that is chosen at every moment jumps within an interval, the moment at
which it does is estimated, and becomes one of the grid. Where a limit needs a value between the bounds, what the
control comes to over the interval says when. Where each point has one of the bounds, that is one of a few numbers, and
says little: the multipliers of the bounds, each by the length that its point stands for, are the switching function of
the maximum principle, and its zero says when.

Sources: R. D. Russell, J. Christiansen, 1978; J. T. Betts, W. P. Huffman, 1998 (see `dynamics.gridded`); the switching
function: L. S. Pontryagin, V. G. Boltyanskii, R. V. Gamkrelidze, E. F. Mishchenko, "The mathematical theory of optimal
processes", 1962.
"""

from __future__ import annotations

import math
from collections.abc import Mapping
from dataclasses import replace
from itertools import pairwise
from typing import TYPE_CHECKING

import numpy as np
from numpy.typing import NDArray

from ilvren.problem import courses_of, limits_between
from ilvren.records import dataclass

if TYPE_CHECKING:
    from ilvren.dynamics import ControlOnGrid, Deviation, GriddedCourse
    from ilvren.problem import CollocatedAxis, Problem, Refinement

__all__ = ["JUMPED", "GridReport", "grid_report", "next_grid"]

FloatArray = NDArray[np.float64]
# At which share of the time a control jumps, the ends of the intervals around it, and whether prices say so.
Jump = tuple[float, tuple[float, float], bool]
Multipliers = tuple[FloatArray, FloatArray]

JUMPED = "a control jumps"
# What is aimed at, of the error allowed; how many times as many, or as few, intervals a stage may have in a place.
AIM, MOST_SPLIT, LEAST_SPLIT = 0.3, 5.0, 0.4
# Where what is measured is off by so many times what is allowed, intervals are split in so many.
FAR_OFF, FAR_SPLIT = 10.0, 4.0
# Grids beyond this are not made.
MOST_INTERVALS = 20_000
# Deviations that grow by so much tell nothing of the whole course: an unstable system needs feedback.
UNSTABLE = 1e5
# A control jumps where it changes by this share of its range from one interval to the next but one, while it changes by
# less than CALM of that within each of them; a jump within less than CLOSE of the time is located.
JUMP, CALM, CLOSE = 0.2, 0.25, 1e-6
EDGE = 0.03
# Nearer to a bound than this share of its range a control is at it.
AT_BOUND = 1e-6
# Moments of the grid nearer to a jump than this share of their interval give way to it.
NEAR = 0.3
# On either side of one, so far from it, is another.
NARROW = 0.1


@dataclass(frozen=True)
class GridReport:
    """How a course stands on its grid: the `estimate` of the largest error of a state over its size, the intervals in
    all, the `growth` of deviations, and by case what else is known."""

    estimate: float
    intervals: int
    growth: float
    deviations: Mapping[str, Deviation]
    courses: Mapping[str, GriddedCourse]

    @property
    def is_unstable(self) -> bool:
        """Return whether the estimate is of each interval by itself."""
        return self.growth > UNSTABLE


def grid_report(problem: Problem, point: FloatArray) -> GridReport:
    """Return how a full design of a collocated problem stands on its grid."""
    courses = courses_of(problem, point)
    deviations, by_case = {}, {}
    estimate, growth = 0.0, 1.0
    for axis, course in zip(problem.template.built_axes, courses, strict=True):
        found = course.deviation()
        deviations[axis.case], by_case[axis.case] = found, course
        growth = max(growth, found.growth)
        own = found.estimate if found.growth <= UNSTABLE else _by_itself(found)
        estimate = max(estimate, own) if not math.isnan(own) else math.inf
    return GridReport(estimate, sum(course.intervals for course in courses), growth, deviations, by_case)


def _by_itself(found: Deviation) -> float:
    if not found.is_told.all():
        return math.inf
    return float(np.abs(found.local).max(initial=0.0))


def next_grid(
    problem: Problem,
    point: FloatArray,
    tolerance: float,
    report: GridReport,
    *,
    finds_jumps: bool = True,
    multipliers: Multipliers | None = None,
) -> tuple[Refinement, str] | None:
    """Return the next stage's grid and why; None where nothing is gained by one. `point` is (n,), `multipliers` (m,)
    and (n,) are those of rows and bounds there."""
    bounds = multipliers[1] if multipliers is not None and _are_told(problem, point, multipliers) else None
    told: list[str] = []
    grids: dict[str, tuple[float, ...]] = {}
    misses = limits_between(problem, point)
    for axis in problem.template.built_axes:
        course, deviation = report.courses[axis.case], report.deviations[axis.case]
        wishes = np.ones(course.intervals)
        reasons = []
        if report.estimate > tolerance or not math.isfinite(report.estimate):
            wishes = _wished(course, deviation, tolerance, is_unstable=report.is_unstable)
            error = "could not be estimated" if not math.isfinite(report.estimate) else f"was {report.estimate:.1e}"
            reasons.append(f"the error {error}")
        worst = 0.0
        for item in misses:
            if item.case != axis.case or item.kind == "bound" or not item.miss.max(initial=0.0) > tolerance:
                continue
            places = np.searchsorted(course.taus, item.taus[item.miss > tolerance], side="right") - 1
            broken = np.unique(np.clip(places, 0, course.intervals - 1))
            is_far = item.kind == "measure" and item.miss.max() > FAR_OFF * tolerance
            wishes[broken] = np.maximum(wishes[broken], FAR_SPLIT if is_far else 2.0)
            if item.miss.max() > worst:
                worst = float(item.miss.max())
                what = "what is measured in {} is something else" if item.kind == "measure" else "{} is broken"
                reasons.append(f"{what.format(item.name)} between its points by {worst:.1e}")
        jumps = _jumps(problem, axis, course, bounds) if finds_jumps else []
        if not reasons and not len(jumps):
            grids[axis.case] = tuple(axis.taus.tolist())
            continue
        required = _required(axis.taus, problem, axis.case)
        taus = _spread(course.taus, wishes, required)
        if len(jumps):
            taus = _with_jumps(taus, jumps, required)
            times = ", ".join(f"{axis.time_at(float(tau), point.tolist(), problem):.6g}" for tau, _, _ in jumps[:3])
            more = f" and {len(jumps) - 3} more" if len(jumps) > 3 else ""
            reasons.append(f"{JUMPED} at t = {times}{more}: made moments of the grid")
        if len(taus) - 1 > MOST_INTERVALS or np.array_equal(taus, course.taus):
            grids[axis.case] = tuple(axis.taus.tolist())
            continue
        grids[axis.case] = tuple(taus.tolist())
        case = f" of {axis.case}" if axis.case else ""
        told.append(f"{course.intervals} → {len(taus) - 1} intervals{case} ({'; '.join(reasons)})")
    if not told:
        return None
    return replace(problem.refinement, grids=grids), "; ".join(told)


def _are_told(problem: Problem, point: FloatArray, multipliers: Multipliers) -> bool:
    """Return whether multipliers may be told by the conditions: where more limits hold a design than it has variables
    that are free, those of the limits are any of many."""
    lower, upper = problem.joined("lower"), problem.joined("upper")
    with np.errstate(invalid="ignore"):
        width = np.where(np.isfinite(upper - lower), upper - lower, 1.0)
    is_free = np.minimum(np.abs(point - lower), np.abs(upper - point)) > AT_BOUND * width
    sizes = np.abs(multipliers[0])
    is_equation = problem.joined_rows("lower") == problem.joined_rows("upper")
    is_held = is_equation | (sizes > AT_BOUND * float(sizes.max(initial=0.0)))
    return int(is_free.sum()) >= int(is_held.sum())


# ---- how many intervals in place of each ---------------------------------------------------------------


def _wished(course: GriddedCourse, deviation: Deviation, tolerance: float, *, is_unstable: bool) -> FloatArray:
    """Return w of (1), within what one stage may change."""
    order = course.scheme.order
    eta = _contributions(course, deviation, is_unstable=is_unstable)
    goal = AIM * tolerance
    total = float(eta.sum())
    if not total > 0.0:
        return np.ones(len(eta))
    # Σ η_k / w_k^p with w = (η_k / η)^(1/(p+1)) is η^(p/(p+1)) Σ η_k^(1/(p+1)).
    roots = eta ** (1.0 / (order + 1))
    level = (goal / float(roots.sum())) ** ((order + 1) / order)
    with np.errstate(divide="ignore"):
        wished = roots / level ** (1.0 / (order + 1))
    wished = np.where(deviation.is_told, wished, 3.0)
    return np.asarray(np.clip(wished, LEAST_SPLIT, MOST_SPLIT))


def _contributions(course: GriddedCourse, deviation: Deviation, *, is_unstable: bool) -> FloatArray:
    """Return (intervals,): what each interval adds to the error where that is largest, at least its own."""
    own = np.maximum(np.abs(deviation.local).max(axis=1, initial=0.0), 0.0)
    own = np.maximum(own, np.abs(deviation.of_integrals).max(axis=1, initial=0.0))
    inner = deviation.inner
    carried = np.abs(deviation.carried[1:])
    if not is_unstable and np.isfinite(carried).all() and carried.max(initial=0.0) > 0.0:
        ratio = float(carried.max()) / max(float(own.sum()), 1e-300)
        own = own * max(ratio, 1.0)
    # Between the moments the order is lower: what stands out there counts as such.
    beyond = np.maximum(inner - np.max(carried, axis=1, initial=0.0), 0.0) if not is_unstable else inner
    return np.asarray(np.maximum(own, beyond / 3.0))


def _required(taus: FloatArray, problem: Problem, case: str) -> FloatArray:
    """Return the moments that the file gives, which every grid has: those of the coarsest grid that it allows."""
    axis = next(item for item in problem.template.built_axes if item.case == case)
    found: FloatArray = axis.required
    return found


def _spread(taus: FloatArray, wishes: FloatArray, required: FloatArray) -> FloatArray:
    """Return a grid with about w_k intervals in place of interval k, the required moments among it."""
    ends = np.unique(np.concatenate([[0.0, 1.0], required]))
    marks = np.concatenate([[0.0], np.cumsum(wishes)])
    parts = [np.array([0.0])]
    for low, high in pairwise(ends.tolist()):
        if high - low <= 0.0:
            continue
        first, last = np.interp([low, high], taus, marks)
        count = max(1, math.ceil(last - first - 1e-9))
        inner = np.interp(np.linspace(first, last, count + 1)[1:-1], marks, taus)
        parts.append(np.append(inner, high))
    return np.unique(np.concatenate(parts))


# ---- jumps ---------------------------------------------------------------------------------------------


def _jumps(problem: Problem, axis: CollocatedAxis, course: GriddedCourse, bounds: FloatArray | None) -> list[Jump]:
    """Return where a control jumps within an interval: from bound to bound where its price, the multiplier of the
    bounds by the length that a value stands for, changes its sign; elsewhere where its average says."""
    found: list[Jump] = []
    for own, control in zip(axis.controls, course.controls, strict=True):
        if control.scheme is None or control.scheme.shares_ends or control.taus is None:
            continue
        n = len(control.taus) - 1
        shape = (n, len(control.scheme.used), -1)
        values = control.values.reshape(shape)
        weights = control.scheme.weights[list(control.scheme.used)]
        block = next(item for item in problem.blocks if item.name == own.name)
        places = slice(block.first, block.first + block.size)
        sides = [np.abs(values - problem.joined(side)[places].reshape(shape)) for side in ("lower", "upper")]
        for element in range(values.shape[2]):
            jumps = _jumps_of(control.taus, values[:, :, element], weights / weights.sum())
            if bounds is not None:
                near = [side[:, :, element] <= AT_BOUND * np.ptp(values[:, :, element]) for side in sides]
                prices = np.where(near[0] ^ near[1], bounds[places].reshape(shape)[:, :, element], 0.0)
                priced = _by_prices(control, prices)
                jumps = [jump for jump in jumps if not any(jump[1][0] <= at <= jump[1][1] for at, _, _ in priced)]
                # A jump that is as good as at a moment stays there.
                jumps += [
                    (at, ends, p) for at, ends, p in priced if EDGE < (at - ends[0]) / (ends[1] - ends[0]) < 1.0 - EDGE
                ]
            found += jumps
    found.sort()
    return found


def _by_prices(control: ControlOnGrid, multipliers: FloatArray) -> list[Jump]:
    """Return where the price of one number's bounds passes zero from one point to the next, it being at one bound here
    and at the other there: nothing is averaged then, each point takes what its own price says. The multipliers are
    (n, used), 0 away from the bounds."""
    assert control.scheme is not None
    assert control.taus is not None
    taus = control.taus
    lengths = np.diff(taus)[:, np.newaxis]
    at = (taus[:-1, np.newaxis] + lengths * control.scheme.used_points).ravel()
    prices = (multipliers / (lengths * control.scheme.weights[list(control.scheme.used)])).ravel()
    found = []
    for k in np.flatnonzero(prices[1:] * prices[:-1] < 0.0).tolist():
        tau = float(at[k] + (at[k + 1] - at[k]) * prices[k] / (prices[k] - prices[k + 1]))
        place = min(max(int(np.searchsorted(taus, tau, side="right")) - 1, 0), len(taus) - 2)
        found.append((tau, (float(taus[place]), float(taus[place + 1])), True))
    return found


def _jumps_of(taus: FloatArray, values: FloatArray, weights: FloatArray) -> list[Jump]:
    """Return the jumps within intervals of one number, with values (n, used) at the used points."""
    span = float(values.max() - values.min())
    n = len(values)
    if not span > 0.0 or n < 3:
        return []
    rough = values.max(axis=1) - values.min(axis=1)
    means = values @ weights
    lengths = np.diff(taus)
    found = []
    k = 1
    while k < n - 1:
        for width in (1, 2):  # a jump close to a moment disturbs both sides of it
            if k + width > n - 1:
                continue
            before, after = values[k - 1, -1], values[k + width, 0]
            size = abs(after - before)
            inside = slice(k, k + width)
            is_calm = max(rough[k - 1], rough[k + width]) <= CALM * size
            # What lies between must be disturbed, each part of it.
            is_mixed = bool((rough[inside] > CALM * size).all())
            total = float(lengths[inside].sum())
            if size > JUMP * span and is_calm and is_mixed and total > CLOSE:
                average = float((means[inside] * lengths[inside]).sum()) / total
                share = float((average - after) / (before - after))
                if not EDGE < share < 1.0 - EDGE:  # as good as at the moment itself
                    break
                found.append((float(taus[k]) + share * total, (float(taus[k]), float(taus[k + width])), False))
                k += width
                break
        k += 1
    return found


def _with_jumps(taus: FloatArray, jumps: list[Jump], required: FloatArray) -> FloatArray:
    """Return the grid with jumps among it, those that prices tell between two more moments, so that the next look at
    them is closer; others close to one, or within its interval, give way."""
    for tau, (low, high), is_priced in jumps:
        room = NEAR * (high - low)
        is_held = np.isin(taus, required) | (taus <= 0.0) | (taus >= 1.0)
        is_inside = (taus > low) & (taus < high)
        is_close = np.abs(taus - tau) < room
        kept = taus[is_held | ~(is_inside | is_close)]
        for own in (tau, *((tau - NARROW * (high - low), tau + NARROW * (high - low)) if is_priced else ())):
            if 0.0 < own < 1.0 and np.abs(kept - own).min() > 1e-9:
                kept = np.sort(np.append(kept, own))
        taus = kept
    return taus
