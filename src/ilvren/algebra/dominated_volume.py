"""The volume that a front dominates, up to a reference point: one number for how near and how well spread it is.

    HV(A, r) = volume of  ∪_{a in A} [a, r]                                                          (1)
    own share of a = HV(A, r) − HV(A without a, r)                                                   (2)

Exact. Two objectives: a sum over the sorted front. Three: a sweep along the third, the front of the first two growing
from step to step. More: (1) is the sum of what each design adds to those before it, each time limited to what it
dominates, which needs fewer and fewer designs.

Sources: E. Zitzler, L. Thiele, "Multiobjective evolutionary algorithms: a comparative case study and the strength
Pareto approach", 1999; the sweep: N. Beume, C. Fonseca, M. López-Ibáñez, L. Paquete, J. Vahrenhold, "On the complexity
of computing the hypervolume indicator", 2009; more than three: L. While, L. Bradstreet, L. Barone, "A fast way of
calculating exact hypervolumes", 2012.
"""

from __future__ import annotations

import heapq

import numpy as np
from numpy.typing import NDArray

from ilvren.algebra.domination import nondominated

__all__ = ["hypervolume", "own_shares", "spread_subset"]

FloatArray = NDArray[np.float64]


def hypervolume(values: FloatArray, reference: FloatArray) -> float:
    """Return (1) of values (k, p) to be minimized; those not below the reference (p,) everywhere add nothing."""
    own = np.asarray(values, dtype=float)
    own = own[(own < reference).all(axis=1)] if len(own) else own
    if not len(own):
        return 0.0
    if own.shape[1] == 2:  # sorted, what is not below all before adds nothing
        own = own[np.lexsort((own[:, 1], own[:, 0]))]
        least = np.minimum.accumulate(own[:, 1])
        kept = np.concatenate([[True], own[1:, 1] < least[:-1]])
        return _area(own[kept], np.asarray(reference, dtype=float))
    own = np.unique(own[nondominated(own)], axis=0)
    return _volume(own, np.asarray(reference, dtype=float))


def _volume(own: FloatArray, reference: FloatArray) -> float:
    """Return the volume of distinct designs, none of which dominates another, in lexical order."""
    objectives = own.shape[1]
    if objectives == 1:
        return float(reference[0] - own[:, 0].min())
    if objectives == 2:
        return _area(own, reference)
    if objectives == 3:
        return _swept(own, reference)
    order = np.argsort(own[:, -1])[::-1]  # the worst of the last objective first: what is left is flat soon
    own, total = own[order], 0.0
    for place, design in enumerate(own):
        rest = np.maximum(own[place + 1 :], design)
        total += float(np.prod(reference - design)) - hypervolume(rest, reference)
    return total


def _area(own: FloatArray, reference: FloatArray) -> float:
    """Return the area below a front that is sorted by the first objective."""
    above = np.concatenate([[reference[1]], own[:-1, 1]])
    return float(np.sum((reference[0] - own[:, 0]) * (above - own[:, 1])))


def _swept(own: FloatArray, reference: FloatArray) -> float:
    """Return the volume of three objectives: slices between values of the third, each as large as the area of the
    designs below it."""
    order = np.lexsort((own[:, 1], own[:, 0], own[:, 2]))
    own = own[order]
    ends = np.append(own[1:, 2], reference[2])
    front = own[:1, :2]
    area, total = _area(front, reference[:2]), 0.0
    total = area * (ends[0] - own[0, 2])
    for design, low, high in zip(own[1:, :2], own[1:, 2].tolist(), ends[1:].tolist(), strict=True):
        area += _added_area(front, design, reference)
        place = int(np.searchsorted(front[:, 0], design[0]))
        kept = (front[:, 0] < design[0]) | (front[:, 1] < design[1])
        if not (place and front[place - 1, 1] <= design[1]):
            front = np.vstack([front[:place], design, front[place:][kept[place:]]])
        total += area * (high - low)
    return float(total)


def _added_area(front: FloatArray, design: FloatArray, reference: FloatArray) -> float:
    """Return what a design adds to the area of a front sorted by the first objective."""
    x, y = float(design[0]), float(design[1])
    place = int(np.searchsorted(front[:, 0], x, side="right"))
    top = reference[1] if place == 0 else float(front[place - 1, 1])
    if top <= y:
        return 0.0
    later = front[place:]
    end = int(np.count_nonzero(later[:, 1] > y))
    levels = np.concatenate([[top], np.maximum(later[: end + 1, 1], y)])
    xs = (
        np.append(later[: end + 1, 0], reference[0])[: end + 1]
        if end < len(later)
        else np.append(later[:, 0], reference[0])
    )
    heights = levels[: len(xs)] - y
    starts = np.concatenate([[x], xs[:-1]])
    return float(np.sum((xs - starts) * heights))


def own_shares(values: FloatArray, reference: FloatArray) -> FloatArray:
    """Return (2) (k,) of values that do not dominate each other; 0 for equal ones and beyond the reference."""
    count, objectives = values.shape
    if objectives == 2:
        return _own_areas(values, reference)
    whole = hypervolume(values, reference)
    is_left = np.ones(count, dtype=bool)
    found = np.zeros(count)
    for place in range(count):
        is_left[place] = False
        found[place] = whole - hypervolume(values[is_left], reference)
        is_left[place] = True
    return np.maximum(found, 0.0)


def _own_areas(values: FloatArray, reference: FloatArray) -> FloatArray:
    order = np.lexsort((values[:, 1], values[:, 0]))
    own = np.minimum(values[order], reference)
    right = np.append(own[1:, 0], reference[0])
    above = np.concatenate([[reference[1]], own[:-1, 1]])
    found = np.zeros(len(values))
    found[order] = np.maximum(right - own[:, 0], 0.0) * np.maximum(above - own[:, 1], 0.0)
    return found


def spread_subset(values: FloatArray, count: int) -> NDArray[np.int64]:
    """Return the places of at most `count` of the values (k, p), which do not dominate each other, that lose little of
    what all of them dominate: the ends stay; of two objectives the least own share goes first, again and again; of more
    those stay that lie farthest from what has been chosen."""
    if len(values) <= count:
        return np.arange(len(values))
    low, high = values.min(axis=0), values.max(axis=0)
    scaled = (values - low) / np.where(high > low, high - low, 1.0)
    if values.shape[1] == 2:
        return _thinned_pairs(scaled, count)
    chosen = list(dict.fromkeys(np.argmin(scaled, axis=0).tolist()))[:count]
    far = np.full(len(values), np.inf)
    for place in chosen:
        far = np.minimum(far, np.linalg.norm(scaled - scaled[place], axis=1))
    while len(chosen) < count:
        place = int(np.argmax(far))
        chosen.append(place)
        far = np.minimum(far, np.linalg.norm(scaled - scaled[place], axis=1))
    return np.sort(np.array(chosen, dtype=np.int64))


def _thinned_pairs(scaled: FloatArray, count: int) -> NDArray[np.int64]:
    """Take away the design with the least own area until `count` are left, the ends apart."""
    order = np.lexsort((scaled[:, 1], scaled[:, 0]))
    x, y = scaled[order, 0].tolist(), scaled[order, 1].tolist()
    total = len(order)
    before, after = list(range(-1, total - 1)), list(range(1, total + 1))
    is_left = [True] * total

    def area(place: int) -> float:
        return float((x[after[place]] - x[place]) * (y[before[place]] - y[place]))

    waiting = [(area(place), place) for place in range(1, total - 1)]
    heapq.heapify(waiting)
    left = total
    while left > max(count, 2) and waiting:
        own, place = heapq.heappop(waiting)
        if not is_left[place] or own != area(place):  # has changed since
            continue
        is_left[place] = False
        left -= 1
        after[before[place]], before[after[place]] = after[place], before[place]
        for near in (before[place], after[place]):
            if 0 < near < total - 1:
                heapq.heappush(waiting, (area(near), near))
    chosen = np.sort(order[np.flatnonzero(is_left)])
    return chosen[:1] if count == 1 else chosen
