"""Which of many sampled designs local searches should start from.

Taken from the best on, one becomes a start unless a better one lies within

    r = (σ ln N / N)^(1/n) / 2 ,   σ = 4                                                                   (1)

of it, in widths of the box, N the number of samples: that one would lead the same way down. Where too few remain, r is
halved.

Source: A. Rinnooy Kan, G. Timmer, "Stochastic global optimization methods II: multi level methods", 1987.
"""

from __future__ import annotations

import math
from typing import TYPE_CHECKING

import numpy as np
from numpy.typing import NDArray

from ilvren.methods.pieces.ranking import order

if TYPE_CHECKING:
    from ilvren.methods.pieces.coding import Coding

__all__ = ["linked_starts"]

FloatArray = NDArray[np.float64]

# (1): σ, and how often r is halved.
SIGMA, MOST_HALVINGS = 4.0, 6
# Among so many of the best samples for each start that is wanted, starts are looked for.
MOST_RANKED = 20


def linked_starts(coding: Coding, codes: FloatArray, f: FloatArray, v: FloatArray, count: int) -> list[int]:
    """Return the places of the samples to start from: the first, then by (1) from the best on. Shapes: codes (k, n), f
    and v (k,)."""
    n = codes.shape[1]
    scaled = codes / coding.widths
    ranked = [int(place) for place in order(f, v) if math.isfinite(f[place])][: MOST_RANKED * max(count, 1)]
    radius = 0.5 * min((SIGMA * math.log(max(len(f), 2)) / len(f)) ** (1.0 / n), 1.0)
    points, away = scaled[ranked], np.full(len(ranked), np.nan)
    chosen = [0] if math.isfinite(f[0]) else []
    for _ in range(MOST_HALVINGS):
        for rank, place in enumerate(ranked):
            if len(chosen) >= count:
                return chosen
            if place in chosen:
                continue
            if math.isnan(away[rank]):  # how far the nearest better one is
                away[rank] = np.abs(points[:rank] - points[rank]).max(axis=1).min() if rank else math.inf
            if away[rank] > radius:
                chosen.append(place)
        radius *= 0.5
    chosen += [place for place in ranked if place not in chosen]
    return chosen[:count]
