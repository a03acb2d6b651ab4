"""Inputs as decks show them: a deck with five digits cannot tell 0.123451 from 0.123452.

The values of one input that give the same texts as a given one are an interval, its cell. An input stands for the
middle of its cell; the width of the cell is the resolution. Both are found by filling in the texts, whatever writes the
numbers: templates, formats, numbers replaced in place.
"""

from __future__ import annotations

import math
from collections.abc import Callable, Sequence
from typing import Any

import numpy as np
from numpy.typing import NDArray

__all__ = ["cells"]

Array = NDArray[Any]

# A cell's ends are found to this share of its width.
SHARE = 2.0**-12
# An input that does not show up to this multiple of its size is not in the texts.
MOST_MOVE = 16.0


def cells(key: Callable[[Sequence[Array]], bytes | None], inputs: Sequence[Array], places: Sequence[int]) -> Array:
    """Return (k, 2): the middle and the width of the cell of each element of the inputs, in one row, at `places`;
    `key` tells texts apart, and is None where none can be written. The width is 0 where all digits are shown, and
    infinite where no text changes."""
    flat = [np.array(value, dtype=float) for value in inputs]
    ends = np.cumsum([value.size for value in flat])
    here = key(flat)
    found = np.empty((len(places), 2))
    for row, place in enumerate(places):
        which = int(np.searchsorted(ends, place, side="right"))
        own = flat[which]
        at = np.unravel_index(place - (int(ends[which]) - own.size), own.shape)
        found[row] = _cell(key, flat, own, at, here)
    return found


def _cell(
    key: Callable[[Sequence[Array]], bytes | None], inputs: Sequence[Array], own: Array, at: Any, here: bytes | None
) -> tuple[float, float]:
    value = float(own[at])

    def is_same(other: float) -> bool:
        own[at] = other
        try:
            return key(inputs) == here
        finally:
            own[at] = value

    sides = [_reach(is_same, value, direction) for direction in (1.0, -1.0)]
    if math.inf in sides:
        return value, math.inf if sides == [math.inf, math.inf] else 2.0 * min(sides)
    if sides == [0.0, 0.0]:
        return value, 0.0
    return value + (sides[0] - sides[1]) / 2.0, sides[0] + sides[1]


def _reach(is_same: Callable[[float], bool], value: float, direction: float) -> float:
    """Return how far a value may go in a direction with the same texts: 0 where the next number shows, infinity where
    none does."""
    size = max(abs(value), 1.0)
    step = 4.0 * float(np.spacing(abs(value)))
    if not is_same(value + direction * step):
        return 0.0
    while is_same(value + direction * step * 16.0):
        step *= 16.0
        if step > MOST_MOVE * size:
            return math.inf
    low, high = step, 16.0 * step
    while high - low > SHARE * high:
        middle = (low + high) / 2.0
        low, high = (middle, high) if is_same(value + direction * middle) else (low, middle)
    return (low + high) / 2.0
