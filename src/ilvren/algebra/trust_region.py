"""The step of least model value within a radius, from an eigenvalue decomposition.

    minimize  g'd + ½ d'Hd   subject to  |d|₂ ≤ Δ
    d = −(H + λI)⁻¹ g,   λ ≥ max(0, −λ_min),   λ (Δ − |d|) = 0                                      (1)

and in the hard case, where no such λ reaches Δ, an eigenvector of λ_min is added.

Source: J. J. Moré, D. C. Sorensen, "Computing a trust region step", 1983; with all eigenvalues at hand the search for λ
is a scalar one.
"""

from __future__ import annotations

import numpy as np
from numpy.typing import NDArray

__all__ = ["trust_region_step"]

FloatArray = NDArray[np.float64]

# λ is found to this share of the radius, in at most so many steps; what counts as orthogonal to λ_min's eigenvector.
RADIUS_ERROR, MOST_STEPS, HARD = 1e-3, 100, 1e-12


def trust_region_step(hessian: FloatArray, gradient: FloatArray, radius: float) -> tuple[FloatArray, bool, bool]:
    """Return (d, whether it reaches the radius, whether H has negative curvature); `hessian` (n, n)."""
    values, vectors = np.linalg.eigh(hessian)
    turned = vectors.T @ gradient
    least = float(values[0])
    largest = max(float(np.abs(values).max()), 1e-300)
    if least > HARD * largest:
        d = turned / values
        if float(np.linalg.norm(d)) <= radius:
            return -(vectors @ d), False, False
    base = max(0.0, -least)
    # At λ = base only the part of g outside the lowest eigenspace gives a finite step.
    gap = values + base
    outside = gap > HARD * largest
    rest = np.where(outside, turned / np.where(outside, gap, 1.0), 0.0)
    inside = float(np.linalg.norm(turned[~outside]))
    if inside <= HARD * max(float(np.linalg.norm(gradient)), 1e-300):
        length = float(np.linalg.norm(rest))
        if length <= radius:
            if least >= -HARD * largest:
                return -(vectors @ rest), False, False
            along = np.sqrt(max(radius * radius - length * length, 0.0))  # the hard case
            return -(vectors @ rest) + along * vectors[:, 0], True, True
    low, high = base, base + float(np.linalg.norm(gradient)) / radius
    shift = high
    for _ in range(MOST_STEPS):
        d = turned / np.maximum(values + shift, 1e-300)
        length = float(np.linalg.norm(d))
        if not length > 0.0 or abs(length - radius) <= RADIUS_ERROR * radius:
            break
        low, high = (shift, high) if length > radius else (low, shift)
        slope = -float(np.sum(d * d / np.maximum(values + shift, 1e-300))) / length
        newton = shift - (length / radius - 1.0) * length / min(
            slope, -1e-300
        )  # on 1/|d|, which is nearly straight in λ
        shift = newton if low < newton < high else 0.5 * (low + high)
    return -(vectors @ d), True, least < -HARD * largest
