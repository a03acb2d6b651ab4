"""Radial basis functions beside a linear trend, all inputs alike in the region's own scale.

    y = F b + (Φ + λ I) w,   F'w = 0,   Φ_ab = φ(s_ab),   s = Σ ((z_j − z'_j)/l)²                               (1)

The function, its length l and the smoothing λ are those that say most of points left out, in closed form.

Sources: M. J. D. Powell, 1992; S. Rippa, "An algorithm for selecting a good value for the parameter c in radial basis
function interpolation", 1999.
"""

from __future__ import annotations

import numpy as np
from numpy.typing import NDArray

from ilvren.approximate.fitted import Fitted, left_out_of, rms
from ilvren.approximate.kernels import KERNELS, squared_distances
from ilvren.approximate.monomials import monomials
from ilvren.approximate.polynomial import all_powers
from ilvren.approximate.slopes import as_slopes, from_slopes
from ilvren.approximate.surface import Expansion, Part, Trend

__all__ = ["fitted_radial"]

FloatArray = NDArray[np.float64]

# (function, length, smoothing) tried, the smoothing as a share of the largest of Φ.
TRIED = tuple(
    (name, length, share)
    for name, lengths in (("cubic", (1.0,)), ("multiquadric", (0.3, 1.0, 3.0)))
    for length in lengths
    for share in (1e-9, 1e-4, 1e-2)
)
# Points beyond this are not fitted: each trial inverts a matrix of them.
MOST_POINTS = 1000


def fitted_radial(z: FloatArray, y: FloatArray, owners: NDArray[np.int64] | None = None) -> Fitted | None:
    """Return radial basis functions of points z (k, n) and values (k,); None for too few or too many. `owners` as in
    `left_out_of`."""
    k, n = z.shape
    powers = all_powers(n, 1)
    if not len(powers) + 2 <= k <= MOST_POINTS:
        return None
    basis, y = as_slopes(monomials(z, powers), z, owners), as_slopes(y, z, owners)
    best: tuple[float, Fitted] | None = None
    for name, length, share in TRIED:
        lengths = np.full(n, length)
        matrix = KERNELS[name].value(squared_distances(z, z, lengths))
        matrix = as_slopes(as_slopes(matrix, z, owners).T, z, owners)
        matrix[np.diag_indices(k)] += share * float(np.abs(matrix).max())
        try:
            w, b, left_out = left_out_of(matrix, basis, y, owners)
        except np.linalg.LinAlgError:
            continue
        error = rms(left_out - y[: len(left_out)])
        if best is None or error < best[0]:
            weights = from_slopes(w, z, owners)
            part = Part("radial-basis", Trend(powers, b), Expansion(name, lengths, z, weights))
            best = (error, Fitted(part, left_out))
    return None if best is None or not np.isfinite(best[0]) else best[1]
