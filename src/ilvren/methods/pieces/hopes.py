"""What may be hoped for by what is believed: chances, improvements, and where most of it lies."""

from __future__ import annotations

import math
from collections.abc import Callable
from typing import TYPE_CHECKING, Any

import numpy as np
from numpy.typing import NDArray
from scipy.spatial.distance import cdist
from scipy.special import log_ndtr

if TYPE_CHECKING:
    from ilvren.methods.pieces.beliefs import Beliefs, Designs

__all__ = ["LEAST_LOG", "log_between", "log_chance", "log_hope", "most_hoped"]

FloatArray = NDArray[np.float64]

# Candidates over the box and around the best; then rounds that narrow on the best of them.
CANDIDATES, CANDIDATES_PER_VARIABLE, NEAR, ROUNDS, KEPT, TRIED = 600, 150, 300, 8, 4, 25
# How far around the best design candidates lie, in shares of the box, and by what rounds narrow.
REACHES, NARROWING = (0.2, 0.05, 0.01), 0.6
# Designs nearer than this share of the box are the same.
SAME = 1e-6
# A log chance below this is as good as none.
LEAST_LOG = -1e4


def log_chance(beliefs: Beliefs, z: FloatArray) -> FloatArray:
    """Return the log of the chance (k,) that rows are met and there are values, at shares (k, n)."""
    task, found = beliefs.task, np.zeros(len(z))
    slack = task.feasibility * task.row_sizes
    for row, belief in beliefs.rows.items():
        low, high = task.row_lower[row] - slack[row], task.row_upper[row] + slack[row]
        if not (np.isfinite(low) or np.isfinite(high)):
            continue
        mean, spread = belief.at(z)
        found += log_between((low - mean) / spread, (high - mean) / spread)
    if beliefs.failing is not None:
        found += np.log(np.maximum(1.0 - beliefs.failing.at(z), 1e-12))
    return np.maximum(found, LEAST_LOG)


def most_hoped(
    beliefs: Beliefs,
    designs: Designs,
    centre: FloatArray,
    judge: Callable[[FloatArray], FloatArray],
    rng: np.random.Generator,
) -> tuple[FloatArray | None, float]:
    """Return the code (n,) that is worth most, by `judge` of shares (k, n), among those that are new, and its worth;
    None where none is. Candidates lie over the box, and around `centre` (n,)."""
    coding, n = beliefs.coding, len(beliefs.coding.start)
    low = np.where(coding.is_discrete, coding.box_lower - 0.5, coding.box_lower)
    high = np.where(coding.is_discrete, coding.box_upper + 0.5, coding.box_upper)
    anywhere = low + (high - low) * rng.random((CANDIDATES + CANDIDATES_PER_VARIABLE * n, n))
    near = [centre + reach * coding.widths * rng.normal(size=(NEAR // len(REACHES), n)) for reach in REACHES]
    one = centre + np.where(
        rng.random((NEAR // 2, n)) < 1.0 / n, 0.3 * coding.widths * rng.normal(size=(NEAR // 2, n)), 0.0
    )
    codes = coding.rounded(np.clip(np.vstack([anywhere, *near, one]), coding.box_lower, coding.box_upper))
    codes, values = _new_ones(beliefs, designs, codes, judge)
    reach = 0.1
    for _ in range(ROUNDS):
        if not len(codes):
            return None, math.nan
        kept = np.argsort(-values, kind="stable")[:KEPT]
        codes, values = codes[kept], values[kept]
        steps = reach * coding.widths * rng.normal(size=(KEPT * TRIED, n))
        steps = np.where(rng.random(steps.shape) < max(0.5, 1.0 / n), steps, 0.0)
        tried = codes[np.arange(KEPT * TRIED) % len(codes)] + steps
        tried = coding.rounded(np.clip(tried, coding.box_lower, coding.box_upper))
        tried, own = _new_ones(beliefs, designs, tried, judge)
        codes, values = np.vstack([codes, tried]), np.append(values, own)
        reach *= NARROWING
    place = int(np.argmax(values))
    return codes[place], float(values[place])


def _new_ones(beliefs: Beliefs, designs: Designs, codes: FloatArray, judge: Any) -> tuple[FloatArray, FloatArray]:
    """Return the codes that are not among the designs, and what they are worth."""
    codes = np.unique(codes, axis=0)
    z, known = beliefs.shares(codes), beliefs.shares(designs.codes)
    apart = cdist(z, known, "chebyshev").min(axis=1, initial=np.inf)
    codes, z = codes[apart > SAME], z[apart > SAME]
    return codes, judge(z) if len(z) else np.zeros(0)


def log_hope(u: FloatArray) -> FloatArray:
    """Return log (u Φ(u) + φ(u)), also far below, where it is φ(u)/u² and more: differences of it would be nothing. u
    and result have any shape."""
    u = np.asarray(u, dtype=float)
    far = u < -25.0
    near = np.where(far, 0.0, u)
    density = np.exp(-0.5 * near**2) / math.sqrt(2.0 * math.pi)
    found = np.log(np.maximum(near * np.exp(log_ndtr(near)) + density, 1e-300))
    below = -0.5 * u**2 - 0.5 * math.log(2.0 * math.pi) - 2.0 * np.log(np.maximum(np.abs(u), 1.0))
    return np.where(far, below, found)


def log_between(low: FloatArray, high: FloatArray) -> FloatArray:
    """Return log (Φ(high) − Φ(low)), from the side where both are small. All have any one shape."""
    swap = low > 0.0
    a, b = np.where(swap, -high, low), np.where(swap, -low, high)
    upper, lower = log_ndtr(b), log_ndtr(a)
    with np.errstate(divide="ignore"):
        return np.asarray(upper + np.log1p(-np.exp(np.minimum(lower - upper, -1e-300))))
