"""Steps of differences of programs, whose decks and listings show few digits.

A number in a deck stands for all that are written like it: nothing can be learnt from a move below its resolution r,
and a move h is known to r/h. So h ≥ 1000·r, and quotients divide by the difference of the numbers *as written*. The
noise ε of an output is at least half of the last place that its listing shows, else what a difference table finds; with
central differences the step is L·(3ε)^(1/3), as in `models.slopes`, and at least 2000·ε of an input's size, as long as
that is no more than a tenth of it.
"""

from __future__ import annotations

from collections.abc import Sequence
from decimal import Decimal
from typing import Any

import numpy as np
from numpy.typing import NDArray

__all__ = ["LEAST_IN_DECK", "LEAST_IN_LISTING", "LONGEST", "listing_noise", "moving_places"]

Array = NDArray[Any]

# A step against the resolution of a deck, and against the noise of a listing; no step is longer than this share of an
# input's size because of the latter.
LEAST_IN_DECK, LEAST_IN_LISTING, LONGEST = 1000.0, 2000.0, 0.1
# Numbers with more digits than this are taken to have all.
MOST_DIGITS = 14


def listing_noise(values: Sequence[Array]) -> Array:
    """Return (p,): the relative error that rounding leaves in each output, from the digits of several values (k, p) of
    it; 0 for one with all digits."""
    table = np.atleast_2d(np.array(values, dtype=float))
    found = np.zeros(table.shape[1])
    for place, column in enumerate(table.T):
        shown = [float(value) for value in column if np.isfinite(value) and value != 0.0]
        if not shown:
            continue
        parts = [Decimal(repr(value)).normalize().as_tuple() for value in shown]
        if any(len(part.digits) > MOST_DIGITS for part in parts):
            continue
        exponents = [part.exponent for part in parts]
        last = min(exponent for exponent in exponents if isinstance(exponent, int))
        found[place] = 0.5 * 10.0**last / max(abs(value) for value in shown)
    return found


def moving_places(inputs: Sequence[tuple[str, tuple[int, ...]]], still: frozenset[str]) -> list[int]:
    """Return the places of the elements of inputs that variables move."""
    found: list[int] = []
    at = 0
    for name, shape in inputs:
        size = int(np.prod(shape, dtype=np.int64))
        if name not in still:
            found += range(at, at + size)
        at += size
    return found
