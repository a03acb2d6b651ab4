"""Gaussian processes of main effects: a curve for each variable, and a field of all together.

    y = b + Z,   cov(Z(z), Z(z')) = σ² ((1 − ρ)/n Σ_j k(s_j) + ρ k(Σ_j s_j) + λ [z = z']),   s_j = ((z_j − z'_j)/l_j)²
                                                                                                        (1)
    ∂ log L/∂θ = ½ (a'(∂K/∂θ)a / σ̂² − tr K⁻¹ ∂K/∂θ),   a = K⁻¹(y − b̂)                                          (2)

Where variables act much by themselves, what was seen at one design tells of all that share a value with it: a few
designs for each variable tell the curves. With ρ = 1 it is the Gaussian process of `gaussian`, with ρ = 0 a sum of
curves; ρ is found with the lengths and the noise.

Sources: N. Durrande, D. Ginsbourger, O. Roustant, "Additive covariance kernels for high-dimensional Gaussian process
modeling", 2012; D. Duvenaud, H. Nickisch, C. E. Rasmussen, "Additive Gaussian processes", 2011; (2): K. V. Mardia, R.
J. Marshall, 1984.
"""

from __future__ import annotations

import math
from functools import cached_property

import numpy as np
from numpy.typing import NDArray
from scipy.linalg import cholesky, solve_triangular

from ilvren.approximate.fitted import left_out_of, rms
from ilvren.approximate.kernels import KERNELS
from ilvren.approximate.maximizing import maximized
from ilvren.records import dataclass

__all__ = ["EffectsField", "conditioned_effects", "likelihood_of_effects", "searched_effects"]

FloatArray = NDArray[np.float64]

KERNEL = "squared-exponential"
# Lengths and noise lie within these, t with ρ = 1/(1 + exp(−t)) too.
LEAST_LENGTH, MOST_LENGTH = 0.05, 20.0
LEAST_NOISE, MOST_NOISE = 1e-8, 10.0
LEAST_SHARE, MOST_SHARE = -6.0, 3.0
# Starts: (length, noise, t); iterations from each, from the best of these, and where a search goes on.
STARTS = ((0.6, 1e-4, -2.0), (0.3, 1e-5, -5.0), (1.5, 1e-5, -4.0))
SHORT_ITERATIONS, ITERATIONS, AGAIN_ITERATIONS = 8, 30, 6
# A log-likelihood is made less by this times the square of log l: lengths nobody can tell stay moderate.
PULL = 0.2
LEAST_SPREAD = 1e-10


@dataclass(frozen=True)
class EffectsField:
    """A field (1) given data: `centres` (k, n), θ = (log l, log λ, t), the weights w (k,) of K w = y − b, b and σ;
    `left_out` (k,) is what it says of each point without it."""

    centres: FloatArray
    theta: FloatArray
    weights: FloatArray
    level: float
    size: float
    left_out: FloatArray

    @cached_property
    def _factors(self) -> tuple[FloatArray, FloatArray, float]:
        """Return L with K = L L', L⁻¹ 1 and 1'K⁻¹1."""
        lower = cholesky(_matrix(self.centres, self.theta), lower=True)
        white = solve_triangular(lower, np.ones(len(self.centres)), lower=True)
        return lower, white, float(white @ white)

    def at(self, z: FloatArray) -> tuple[FloatArray, FloatArray]:
        """Return what is expected (k,) at points (k, n), and how uncertain it is."""
        between = _correlations(z, self.centres, self.theta)
        lower, white, middle = self._factors
        r = solve_triangular(lower, between.T, lower=True)
        noise = math.exp(self.theta[-2])
        left = 1.0 + noise - (r**2).sum(axis=0) + (white @ r - 1.0) ** 2 / middle
        spread = self.size * np.sqrt(np.maximum(left, max(noise, 1e-12)))
        return np.asarray(self.level + between @ self.weights), np.asarray(spread)


def _parts(one: FloatArray, other: FloatArray, theta: FloatArray) -> tuple[FloatArray, float]:
    """Return s_j (n, a, b) of (1), and ρ."""
    lengths = np.exp(theta[:-2])
    p, q = (one / lengths).T, (other / lengths).T
    return (p[:, :, None] - q[:, None, :]) ** 2, 1.0 / (1.0 + math.exp(-theta[-1]))


def _correlations(one: FloatArray, other: FloatArray, theta: FloatArray) -> FloatArray:
    s, share = _parts(one, other, theta)
    value = KERNELS[KERNEL].value
    return np.asarray((1.0 - share) * value(s).mean(axis=0) + share * value(s.sum(axis=0)))


def _matrix(z: FloatArray, theta: FloatArray) -> FloatArray:
    matrix = _correlations(z, z, theta)
    matrix[np.diag_indices(len(z))] += math.exp(theta[-2])
    return matrix


def likelihood(z: FloatArray, y: FloatArray, theta: FloatArray) -> tuple[float, FloatArray]:
    """Return log L less its pull, and its gradient (2), of θ = (log l, log λ, t); −inf where K is not positive. Shapes:
    z (k, n), y (k,), θ and gradient (n + 2,)."""
    k = len(z)
    kernel = KERNELS[KERNEL]
    s, share = _parts(z, z, theta)
    noise, total = math.exp(theta[-2]), s.sum(axis=0)
    curves, together = kernel.value(s).mean(axis=0), kernel.value(total)
    matrix = (1.0 - share) * curves + share * together
    matrix[np.diag_indices(k)] += noise
    try:
        inverse = np.linalg.inv(matrix)
        lower = cholesky(matrix, lower=True, check_finite=False)
    except np.linalg.LinAlgError:
        return -math.inf, np.zeros(len(theta))
    ones = inverse.sum(axis=0)
    left = y - float(ones @ y) / float(ones.sum())
    a = inverse @ left
    variance = float(left @ a) / k
    if not variance > 0.0 or not math.isfinite(variance):
        return -math.inf, np.zeros(len(theta))
    pull = PULL * float(theta[:-2] @ theta[:-2])
    value = -0.5 * k * math.log(variance) - float(np.log(np.diag(lower)).sum()) - pull
    weights = 0.5 * (np.outer(a, a) / variance - inverse)
    # ∂s_j/∂log l_j = −2 s_j
    each = (1.0 - share) / len(s) * kernel.slope(s) + share * kernel.slope(total)
    lengths = -2.0 * np.einsum("ab,jab,jab->j", weights, each, s)
    gradient = np.append(lengths - 2.0 * PULL * theta[:-2], [0.0, 0.0])
    gradient[-2] = noise * float(np.trace(weights))
    gradient[-1] = share * (1.0 - share) * float((weights * (together - curves)).sum())
    return value, gradient


def likelihood_of_effects(z: FloatArray, y: FloatArray, theta: FloatArray) -> float:
    """Return log L of values, by numbers that were found. Shapes: z (k, n), y (k,), θ (n + 2,)."""
    return likelihood(z, y, theta)[0] + PULL * float(theta[:-2] @ theta[:-2])


def searched_effects(z: FloatArray, y: FloatArray, known: FloatArray | None = None) -> FloatArray | None:
    """Return θ of the largest likelihood found for points (k, n) and values (k,), only from `known` on where it is
    given; None where there is none."""
    n = z.shape[1]
    lower = np.concatenate([np.full(n, math.log(LEAST_LENGTH)), [math.log(LEAST_NOISE), LEAST_SHARE]])
    upper = np.concatenate([np.full(n, math.log(MOST_LENGTH)), [math.log(MOST_NOISE), MOST_SHARE]])

    def searched(start: FloatArray, most: int) -> tuple[FloatArray, float]:
        return maximized(lambda theta: likelihood(z, y, theta), start, lower, upper, most)

    if known is not None:
        return searched(known, AGAIN_ITERATIONS)[0]
    tried = [
        searched(np.concatenate([np.full(n, math.log(length)), [math.log(noise), t]]), SHORT_ITERATIONS)
        for length, noise, t in STARTS
    ]
    theta, value = max(tried, key=lambda pair: pair[1])
    return searched(theta, ITERATIONS)[0] if math.isfinite(value) else None


def conditioned_effects(z: FloatArray, y: FloatArray, theta: FloatArray) -> EffectsField | None:
    """Return the field of θ given the data; None where K is not positive. Shapes: z (k, n), y (k,), θ (n + 2,)."""
    matrix = _matrix(z, theta)
    try:
        cholesky(matrix, lower=True, check_finite=False)
        w, b, left_out = left_out_of(matrix, np.ones((len(z), 1)), y)
    except np.linalg.LinAlgError:
        return None
    if not math.isfinite(rms(left_out)):
        return None
    variance = max(float((y - b[0]) @ w) / len(z), LEAST_SPREAD**2)
    return EffectsField(z, theta, w, float(b[0]), math.sqrt(variance), left_out)
