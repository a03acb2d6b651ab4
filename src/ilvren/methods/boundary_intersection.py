"""Points of a front where lines through the box between its ends meet it: even spacing from derivatives.

With F the objectives, z the least values of each (the ideal), D the ranges between them and the largest values at the
ends, each point solves, from a design nearby,

    minimize t    subject to    the limits,   F_i(x) − d_i t <= a_i                                             (1)

two objectives     a half way between two neighbours of the front, d = D: the widest gap first, so that the points
                   spread evenly however the front is bent                                                      (2)
three and more     a = z, d = w ∘ D with weights w of a lattice, then those whose expected point is farthest
                   from all that are there                                                                      (3)

The ends come first: each objective alone, then the others as far as that one stays at its best.               (4)
A line that ends at an end of its gap shows that there is nothing on that side, a dent or a hole of the front; the rest
of the gap is halved.

Needs     what its local method needs.   Handles   what that handles.
Cost      a short local search for each point; searches of a wave run together.
Stops     when there are as many points as asked for, or no gap is left that can be filled.
Weak      local searches find local fronts: where there are many optima, begin with known designs, or with the default,
          which looks around first.
Source    I. Das, J. Dennis, "Normal-boundary intersection: a new method for generating the Pareto surface in nonlinear
          multicriteria optimization problems", 1998; with <= in (1): A. Pascoletti, P. Serafini, "Scalarizing vector
          optimization problems", 1984; (3): A. Wierzbicki, "The use of reference objectives in multiobjective
          optimization", 1980.
Departs   by <= in (1), which leaves no dominated points; by choosing lines as the front unfolds.
"""

from __future__ import annotations

import itertools
from collections.abc import Generator
from typing import Any

import numpy as np
from numpy.typing import NDArray

from ilvren.algebra import lattice
from ilvren.methods.base import FRONT, Ending, HessianRequest, Iterate, Method, Protocol, Request, Task
from ilvren.methods.pieces.ends import Ends, Starts, found_ends, search_all
from ilvren.methods.pieces.inner import AUTOMATIC, inner_method
from ilvren.methods.pieces.options import option
from ilvren.methods.pieces.scalarizing import Scalar, Solved
from ilvren.methods.pieces.trade_offs import Known, compromise
from ilvren.records import dataclass

__all__ = ["METHOD", "BoundaryIntersectionOptions"]

FloatArray = NDArray[np.float64]

# Searches that run together; gaps of at least this share of the widest are taken up in one wave.
AT_ONCE, GAP_SHARE = 12, 0.6
# A gap, or what is left to be looked at of it, is closed below this share of what an even front leaves between points.
LEAST_WINDOW = 0.4
# (3): the share of the points that the first lattice has; the least weight; lattices that later points come from.
LATTICE_SHARE, LEAST_WEIGHT, FINER = 0.7, 1e-3, 3
# Searches in vain, and in a row, over the points asked for, after which no more are made.
MOST_VAIN, IN_A_ROW = 1.0, 0.3
# A gap is told as one where it is so many times wider than those of an even front.
WIDE = 3.0


@dataclass(frozen=True)
class BoundaryIntersectionOptions:
    """Options of `boundary-intersection`."""

    local: str = option(
        AUTOMATIC, names_method=True, help="the method that finds each point; automatic: what suits the problem"
    )
    points: int = option(0, low=0, high=100_000, help="points of the front; 0: as many as the run is asked for")


def boundary_intersection(task: Task, options: BoundaryIntersectionOptions) -> Protocol:
    """Run the method on `task`; see the head of this file."""
    count = options.points or task.points
    method = inner_method(options.local, task)
    ends = yield from found_ends(task, method)  # (4)
    if isinstance(ends, Ending):
        return ends
    if ends.is_one_point or count <= len(ends.low):
        return ends.ending(
            "the objectives have their best at one design" if ends.is_one_point else "the ends are found"
        )
    if len(ends.low) == 2:
        return (yield from _along(task, ends, method, count))
    return (yield from _over(task, ends, method, count))


METHOD = Method(
    name="boundary-intersection",
    about="lines that meet the front, by a local method with derivatives: even spacing, few evaluations",
    kind=FRONT,
    needs="values",
    handles=frozenset({"bounds", "inequalities", "equalities", "spaced", "catalogue"}),
    options=BoundaryIntersectionOptions,
    run=boundary_intersection,
    cost="a short local search for each point",
    weak="many local fronts",
    inner="local",
    takes_known=True,
)


def _along(
    task: Task, ends: Ends, method: Method, count: int
) -> Generator[Request | HessianRequest | Iterate, Any, Ending]:
    """Fill the gaps between neighbours, the widest first, (2)."""
    extent, vain, in_a_row = ends.extent, 0, 0
    windows: dict[tuple[bytes, bytes], tuple[float, float]] = {}
    while len(ends.front.x) < count and vain <= MOST_VAIN * count and in_a_row <= 10 + IN_A_ROW * count:
        x, values = ends.front.x, ends.front.values
        pairs = _pairs(values)
        windows = {name: windows.get(name, (0.0, 1.0)) for name in pairs}
        widths = {
            name: float(np.linalg.norm((values[b] - values[a]) / extent)) * (windows[name][1] - windows[name][0])
            for name, (a, b) in pairs.items()
        }
        open_ones = [name for name in pairs if widths[name] > LEAST_WINDOW / count]
        if not open_ones:
            break
        open_ones.sort(key=lambda name: -widths[name])
        widest = widths[open_ones[0]]
        room = min(AT_ONCE, count - len(x))
        wave = [name for name in open_ones[:room] if widths[name] >= GAP_SHARE * widest]
        jobs: list[tuple[Scalar, Starts]] = []
        for name in wave:
            a, b = pairs[name]
            share = sum(windows[name]) / 2
            foot = values[a] + share * (values[b] - values[a])
            neighbours = [(x[a], values[a]), (x[b], values[b])]
            if not task.is_discrete.any():  # between both, and as high: nearer than either where the front is smooth
                neighbours.insert(0, (x[a] + share * (x[b] - x[a]), np.maximum(values[a], values[b])))
            jobs.append((Scalar(np.zeros(2), foot, extent, extent, 1.0), neighbours))
        found = yield from search_all(task, method, jobs, ends.known)
        ends.take(found)
        left, before = _pairs(ends.front.values), vain
        for name, own in zip(wave, found, strict=True):
            if name not in left:  # something lies between them now, or one of them was not on the front
                continue
            a, b = pairs[name]
            windows[name] = _rest(own, values[a], values[b], extent, windows[name])
            vain += 1
        in_a_row = in_a_row + len(wave) if vain - before == len(wave) else 0
        told = f"{len(ends.front.x)} points, the widest gap {widest:.2g} of the range"
        yield Iterate(ends.front.x[compromise(ends.front.values)], note=told)
    return ends.ending(f"{len(ends.front.x)} points{_holes(ends, count)}")


def _rest(
    own: Solved, left: FloatArray, right: FloatArray, extent: FloatArray, window: tuple[float, float]
) -> tuple[float, float]:
    """Return what is left to be looked at of a gap, as shares of its chord, where a line has led to nothing new: to one
    of its ends, so that there is nothing on that side; or nowhere."""
    middle = sum(window) / 2
    if own.values is None or not own.is_met:
        return window[0], middle  # no search is like another: a line nearer to one end may lead somewhere
    from_left, from_right = (float(np.linalg.norm((own.values - end) / extent)) for end in (left, right))
    return (middle, window[1]) if from_left < from_right else (window[0], middle)


def _name(values: FloatArray, left: int, right: int) -> tuple[bytes, bytes]:
    """Return what stands for a gap between two neighbours."""
    return values[left].tobytes(), values[right].tobytes()


def _pairs(values: FloatArray) -> dict[tuple[bytes, bytes], tuple[int, int]]:
    """Return the places of all neighbours on a front of two objectives, by their gap's name."""
    order = np.lexsort((values[:, 1], values[:, 0])).tolist()
    return {_name(values, a, b): (a, b) for a, b in itertools.pairwise(order)}


def _holes(ends: Ends, count: int) -> str:
    """Return what is to be said of wide gaps that have no points between."""
    values = ends.front.values
    widths = [float(np.linalg.norm((values[b] - values[a]) / ends.extent)) for a, b in _pairs(values).values()]
    wide = [width for width in widths if width > WIDE / count]
    if not wide or len(values) < count:
        return ""
    return f"; {len(wide)} gap{'s' * (len(wide) > 1)} without points between, the widest {max(wide):.2g} of the range"


def _over(
    task: Task, ends: Ends, method: Method, count: int
) -> Generator[Request | HessianRequest | Iterate, Any, Ending]:
    """Points on rays from the ideal, (3)."""
    p, parts = len(ends.low), 1
    while len(lattice(parts + 1, p)) <= max(LATTICE_SHARE * count, p + 1):
        parts += 1
    directions = lattice(parts, p)
    finer = lattice(FINER * parts, p) if p <= 4 else lattice(2 * parts, p)
    done, lengths, vain = [np.eye(p)], [np.ones(p)], 0
    waiting = directions[directions.max(axis=1) < 1.0]
    while len(ends.front.x) < count and vain <= MOST_VAIN * count:
        known = np.vstack(done)
        room = min(AT_ONCE, count - len(ends.front.x))
        if len(waiting):
            # Those next to what is done come first: their searches begin nearby.
            far = np.linalg.norm(waiting[:, np.newaxis] - known[np.newaxis], axis=2).min(axis=1)
            chosen = np.argsort(far, kind="stable")[:room]
            wave, waiting = waiting[chosen], np.delete(waiting, chosen, axis=0)
        else:
            wave = _open_directions(finer, known, np.concatenate(lengths), ends, room)
            if not len(wave):
                break
        jobs: list[tuple[Scalar, Starts]] = []
        for weights in wave:
            reach = np.maximum(weights, LEAST_WEIGHT) * ends.extent
            scalar = Scalar(np.zeros(p), ends.low.copy(), reach, ends.extent, 1.0)
            jobs.append((scalar, _nearest(ends.front, scalar)))
        before = len(ends.front.x)
        found = yield from search_all(task, method, jobs, ends.known)
        own_lengths = []
        for own, scalar in zip(found, (job[0] for job in jobs), strict=True):
            own_lengths.append(scalar.shortfall(own.values) if own.values is not None else np.nan)
        done.append(wave)
        lengths.append(np.array(own_lengths))
        ends.take(found)
        vain += max(len(wave) - max(len(ends.front.x) - before, 0), 0)
        yield Iterate(ends.front.x[compromise(ends.front.values)], note=f"{len(ends.front.x)} points")
    return ends.ending(f"{len(ends.front.x)} points")


def _nearest(front: Known, scalar: Scalar) -> list[tuple[FloatArray, FloatArray]]:
    """Return the designs of a front that come nearest to what is looked for, best first."""
    order = np.argsort(scalar.worth(front.values), kind="stable")[:2]
    return [(front.x[place], front.values[place]) for place in order]


def _open_directions(finer: FloatArray, known: FloatArray, lengths: FloatArray, ends: Ends, room: int) -> FloatArray:
    """Return directions whose expected points are farthest from the front, those first."""
    usable = np.isfinite(lengths)
    if not usable.any():
        return finer[:0]
    distance = np.linalg.norm(finer[:, np.newaxis] - known[np.newaxis, usable], axis=2)
    is_open = np.linalg.norm(finer[:, np.newaxis] - known[np.newaxis], axis=2).min(axis=1) > 1e-9
    weight = 1.0 / np.maximum(distance, 1e-9) ** 4
    expected = (weight @ lengths[usable]) / weight.sum(axis=1)
    points = np.maximum(finer, LEAST_WEIGHT) * expected[:, np.newaxis]
    there = (ends.front.values - ends.low) / ends.extent
    far = np.linalg.norm(points[:, np.newaxis] - there[np.newaxis], axis=2).min(axis=1)
    far[~is_open] = -np.inf
    chosen: list[int] = []
    while len(chosen) < room:
        place = int(np.argmax(far))
        if not np.isfinite(far[place]):
            break
        chosen.append(place)
        far = np.minimum(far, np.linalg.norm(points - points[place], axis=1))
        far[place] = -np.inf
    return finer[chosen]
