"""Which designs are worth keeping when several objectives are minimized: domination, layers, crowding.

    a dominates b   if   a_i <= b_i for all i, and a_i < b_i for one                                (1)
    layer 1: what nothing dominates; layer k: what nothing dominates once layers 1 … k−1 are gone   (2)
    crowding of a = Σ_i (next larger b_i − next smaller b_i) / range of i, over its layer           (3)

Equal designs do not dominate each other. Values that are not finite are dominated by all that are.

Sources: V. Pareto, "Cours d'économie politique", 1896; (2), (3): K. Deb, A. Pratap, S. Agarwal, T. Meyarivan, "A fast
and elitist multiobjective genetic algorithm", 2002.
"""

from __future__ import annotations

from bisect import bisect_right

import numpy as np
from numpy.typing import NDArray

__all__ = ["crowding", "crowding_by_layer", "dominated_by", "domination_layers", "lattice", "nondominated"]

FloatArray = NDArray[np.float64]
IntArray = NDArray[np.int64]

# Pairs compared at once, and designs up to which all pairs are.
MOST_PAIRS, MOST_AT_ONCE = 4_000_000, 600
# Of two objectives, more pairs than these are not compared one by one.
FEW_PAIRS = 20_000
# Of very many designs, those that all are compared with first.
FIRST = 400


def nondominated(values: FloatArray) -> NDArray[np.bool_]:
    """Return which of the values (k, p) nothing dominates; of equal ones all count. NaN and infinities never do."""
    is_finite = np.isfinite(values).all(axis=1)
    found = np.zeros(len(values), dtype=bool)
    places = np.flatnonzero(is_finite)
    if not len(places):
        return found
    own = values[places]
    if values.shape[1] == 1:
        found[places[own[:, 0] == own.min()]] = True
        return found
    if values.shape[1] == 2:
        found[places] = _nondominated_pairs(own)
        return found
    # By growing sum nothing later dominates anything before it: what the first ones dominate goes first.
    order = np.lexsort((*own.T[::-1], own.sum(axis=1)))
    if len(order) > MOST_AT_ONCE:
        order = order[~dominated_by(own[order], own[order[:: len(order) // FIRST]])]
    kept, keep = own[:0], []
    for first in range(0, len(order), MOST_AT_ONCE):
        part = order[first : first + MOST_AT_ONCE]
        part = part[~dominated_by(own[part], kept)]
        part = part[~dominated_by(own[part], own[part])]
        keep.append(part)
        kept = np.vstack([kept, own[part]])
    found[places[np.concatenate(keep)]] = True
    return found


def _nondominated_pairs(values: FloatArray) -> NDArray[np.bool_]:
    order = np.lexsort((values[:, 1], values[:, 0]))
    first, second = values[order, 0], values[order, 1]
    before = np.minimum.accumulate(np.concatenate([[np.inf], second[:-1]]))
    kept = second < before
    # Equal designs stand side by side: each is as good as the first of them.
    is_same = np.zeros(len(order), dtype=bool)
    is_same[1:] = (first[1:] == first[:-1]) & (second[1:] == second[:-1])
    starts = np.maximum.accumulate(np.where(is_same, 0, np.arange(len(order))))
    found = np.zeros(len(order), dtype=bool)
    found[order] = kept[starts]
    return found


def dominated_by(values: FloatArray, others: FloatArray) -> NDArray[np.bool_]:
    """Return (k,): which of the values (k, p) any of the others (l, p) dominates."""
    if values.shape[1] == 2 and len(values) * len(others) > FEW_PAIRS:
        return _dominated_pairs(values, others)
    found = np.zeros(len(values), dtype=bool)
    step = max(MOST_PAIRS // max(len(values), 1), 1)
    for first in range(0, len(others), step):
        part = others[first : first + step]
        no_worse = np.ones((len(part), len(values)), dtype=bool)
        better = np.zeros((len(part), len(values)), dtype=bool)
        for theirs, own in zip(part.T, values.T, strict=True):
            no_worse &= theirs[:, np.newaxis] <= own
            better |= theirs[:, np.newaxis] < own
        found |= (no_worse & better).any(axis=0)
    return found


def _dominated_pairs(values: FloatArray, others: FloatArray) -> NDArray[np.bool_]:
    """Of two objectives: (1) by the least second one of all others whose first one is less, or no more."""
    order = np.argsort(others[:, 0], kind="stable")
    first = others[order, 0]
    least = np.concatenate([[np.inf], np.fmin.accumulate(others[order, 1])])
    less, no_more = (np.searchsorted(first, values[:, 0], side=side) for side in ("left", "right"))
    is_number = ~np.isnan(values).any(axis=1)
    return is_number & ((least[less] <= values[:, 1]) & (less > 0) | (least[no_more] < values[:, 1]))


def domination_layers(values: FloatArray, violations: FloatArray | None = None, most: int | None = None) -> IntArray:
    """Return the layer (k,), from 0, of values (k, p) to be minimized; with violations (k,) those above 0 come after,
    the smaller first (constrained domination), and those that are infinite last. Once `most` designs have a layer, all
    others share the next one."""
    count = len(values)
    found = np.full(count, -1, dtype=np.int64)
    v = np.zeros(count) if violations is None else violations
    is_valid = np.isfinite(values).all(axis=1) & np.isfinite(v)
    feasible = np.flatnonzero(is_valid & (v <= 0.0))
    found[feasible], last = _layers(values[feasible], most if most is not None else count)
    missing = np.flatnonzero(is_valid & (v > 0.0))
    if len(missing):
        _, order = np.unique(v[missing], return_inverse=True)
        found[missing] = last + order
        last += int(order.max()) + 1
    found[~is_valid] = last
    return found


def _layers(values: FloatArray, most: int) -> tuple[IntArray, int]:
    """Return the layers of finite values, and how many there are."""
    count = len(values)
    found = np.full(count, -1, dtype=np.int64)
    if not count:
        return found, 0
    if values.shape[1] == 2:
        return _layers_of_pairs(values)
    if count <= MOST_AT_ONCE:
        return _layers_at_once(values, most)
    layer, left = 0, np.arange(count)
    while len(left):
        own = nondominated(values[left])
        found[left[own]] = layer
        layer, left = layer + 1, left[~own]
        if count - len(left) >= most and len(left):
            found[left] = layer
            return found, layer + 1
    return found, layer


def _layers_at_once(values: FloatArray, most: int) -> tuple[IntArray, int]:
    """Return the layers by counting for each design how many dominate it, and taking these away layer by layer."""
    count = len(values)
    no_worse = np.ones((count, count), dtype=bool)
    for own in values.T:
        no_worse &= own[:, np.newaxis] <= own
    dominates = no_worse & ~no_worse.T
    above = dominates.sum(axis=0)
    found = np.full(count, -1, dtype=np.int64)
    layer, done = 0, 0
    while done < count:
        now = np.flatnonzero(above == 0)
        found[now] = layer
        layer, done = layer + 1, done + len(now)
        if done >= most and done < count:
            found[found < 0] = layer
            return found, layer + 1
        above[now] = -1
        above -= dominates[now].sum(axis=0)
        above[found >= 0] = -1
    return found, layer


def _layers_of_pairs(values: FloatArray) -> tuple[IntArray, int]:
    """Return the layers of two objectives: by the first one, each design joins the first layer whose last value of the
    second lies above its own (M. Jensen, "Reducing the run-time complexity of multiobjective EAs", 2003)."""
    order = np.lexsort((values[:, 1], values[:, 0]))
    first, second = values[order, 0].tolist(), values[order, 1].tolist()
    layers: list[int] = []
    ends: list[float] = []  # of each layer the least of the second objective so far: grows from layer to layer
    last_a, last_b, layer = np.nan, np.nan, 0
    for a, b in zip(first, second, strict=True):
        if not (a == last_a and b == last_b):  # equal designs share a layer
            layer = bisect_right(ends, b)
            if layer == len(ends):
                ends.append(b)
            else:
                ends[layer] = b
            last_a, last_b = a, b
        layers.append(layer)
    found = np.empty(len(order), dtype=np.int64)
    found[order] = layers
    return found, len(ends)


def crowding(values: FloatArray) -> FloatArray:
    """Return (3) of values (k, p), infinite at the ends of each objective."""
    count = len(values)
    if count <= 2:
        return np.full(count, np.inf)
    found = np.zeros(count)
    columns = np.arange(values.shape[1])
    order = np.argsort(values, axis=0, kind="stable")
    ordered = values[order, columns]
    extent = ordered[-1] - ordered[0]
    gaps = (ordered[2:] - ordered[:-2]) / np.where(extent > 0.0, extent, np.inf)
    for column in columns:
        found[order[1:-1, column]] += gaps[:, column]
        found[order[[0, -1], column]] = np.inf
    return found


def crowding_by_layer(values: FloatArray, layers: IntArray) -> FloatArray:
    """Return (3) (k,) of values (k, p), each within its layer (k,)."""
    count = len(values)
    found = np.zeros(count)
    for column in values.T:
        order = np.lexsort((column, layers))
        ordered, own = column[order], layers[order]
        starts = np.flatnonzero(np.concatenate([[True], own[1:] != own[:-1]]))
        ends = np.append(starts[1:], count) - 1
        extent = np.repeat(ordered[ends] - ordered[starts], ends - starts + 1)
        room = np.zeros(count)
        room[1:-1] = ordered[2:] - ordered[:-2]
        with np.errstate(divide="ignore", invalid="ignore"):
            room = np.where(extent > 0.0, room / extent, 0.0)
        room[starts] = room[ends] = np.inf
        found[order] += room
    return found


def lattice(parts: int, objectives: int) -> FloatArray:
    """Return all weights (k, p) that are multiples of 1/`parts` and add up to 1 (I. Das, J. Dennis, 1998), the ends
    among them, in lexical order."""
    if objectives == 1:
        return np.ones((1, 1))
    found: list[list[int]] = []

    def fill(before: list[int], left: int) -> None:
        if len(before) == objectives - 1:
            found.append([*before, left])
            return
        for own in range(left, -1, -1):
            fill([*before, own], left - own)

    fill([], parts)
    return np.array(found, dtype=float) / parts
