"""Gaussian processes: a trend, and deviations from it whose likeness decreases with distance, a length for each input.

    y = F b + Z,   cov(Z(z), Z(z')) = σ² (k(s) + λ [z = z']),   s = Σ ((z_j − z'_j)/l_j)²                       (1)
    2 log L = −k log σ̂² − log |K| (+ const),   σ̂² = (y − F b̂)'K⁻¹(y − F b̂)/k,   K = k(s) + λ I
    (2) ∂ log L/∂θ = ½ (a'(∂K/∂θ)a / σ̂² − tr K⁻¹ ∂K/∂θ),   a = K⁻¹(y − F b̂)
      (3)

The lengths and the noise λ make (2) as large as it can be; by a part of the points first, from several starts.

Sources: D. G. Krige, 1951; G. Matheron, "Principles of geostatistics", 1963; J. Sacks, W. J. Welch, T. J. Mitchell, H.
P. Wynn, "Design and analysis of computer experiments", 1989; K. V. Mardia, R. J. Marshall, 1984 (3).
"""

from __future__ import annotations

import math
from collections.abc import Mapping
from dataclasses import replace

import numpy as np
from numpy.typing import NDArray
from scipy.linalg import cholesky, lapack

from ilvren.approximate.fitted import Fitted, left_out_of, rms
from ilvren.approximate.kernels import KERNELS, Kernel, squared_distances
from ilvren.approximate.maximizing import maximized
from ilvren.approximate.monomials import monomials
from ilvren.approximate.slopes import as_slopes, covariances, from_slopes
from ilvren.approximate.spread import FieldSpread
from ilvren.approximate.surface import Expansion, Part, Trend
from ilvren.records import dataclass

__all__ = ["Field", "conditioned", "fitted_fields", "likelihood_of"]

FloatArray = NDArray[np.float64]
Powers = NDArray[np.int64]
# Points (k, n), values (k,), and the points that rows stand for where these have slopes.
Rows = tuple[FloatArray, FloatArray, NDArray[np.int64] | None]

CORRELATIONS = ("squared-exponential", "matern-5/2")
# Lengths, of a region of −1 .. 1, and noise (a share of σ²) lie within these.
LEAST_LENGTH, MOST_LENGTH = 0.03, 100.0
LEAST_NOISE, MOST_NOISE = 1e-10, 10.0
# Starts of the search: (length as a share of √n, noise).
STARTS = ((0.5, 1e-4), (1.5, 1e-6), (0.2, 1e-2))
# The search looks at so many points first, for so many iterations each; then at more: a likelihood of all of a few
# thousand would take minutes, and tell the same lengths.
FIRST_POINTS, SHORT_ITERATIONS, FIRST_ITERATIONS, LAST_POINTS, LAST_ITERATIONS = 120, 8, 30, 600, 12
# Of nearly the same points as before so few iterations are enough.
AGAIN_ITERATIONS = 6
# A spread is no smaller than this share of the values': rounding.
LEAST_SPREAD = 1e-10
# Points beyond this are left to a part of them: a factorization of more takes too long.
MOST_POINTS = 2000
# Differences of all pairs of points are kept where they are no more numbers than this.
MOST_PAIRED = 4_000_000
# A log-likelihood is made less by this times the square of log l: lengths nobody can tell stay moderate.
PULL = 0.02


@dataclass(frozen=True)
class Field:
    """A trend's powers (t, n), a kernel, lengths (n,) and noise: all but the data."""

    kernel: str
    powers: Powers
    lengths: FloatArray
    noise: float

    @classmethod
    def of(cls, kernel: str, powers: Powers, theta: FloatArray) -> Field:
        """Return the field of θ = (log l, log λ). θ is (n + 1,)."""
        return cls(kernel, powers, np.exp(theta[:-1]), math.exp(theta[-1]))


def fitted_fields(
    z: FloatArray,
    y: FloatArray,
    trends: list[Powers],
    rng: np.random.Generator,
    known: Mapping[tuple[str, bool], FloatArray] | None = None,
    owners: NDArray[np.int64] | None = None,
) -> list[Fitted]:
    """Return a Gaussian process of each kernel and trend that can be fitted to points (k, n) and values (k,). `known`
    are the numbers found for nearly the same points, by kernel and whether the trend is constant; `owners` as in
    `left_out_of`."""
    if len(z) > MOST_POINTS and owners is None:
        kept = np.sort(rng.choice(len(z), MOST_POINTS, replace=False))
        found = fitted_fields(z[kept], y[kept], trends, rng, known)
        for place, one in enumerate(found):
            said = one.part.at(z)
            said[kept] = one.left_out
            found[place] = replace(one, left_out=said)
        return found
    found = []
    first, last = (_searched_rows(z, y, owners, count, rng) for count in (FIRST_POINTS, LAST_POINTS))
    for powers in trends:
        for name in CORRELATIONS:
            start = None if known is None else known.get((name, len(powers) == 1))
            theta = start if start is not None else _from_starts(first, KERNELS[name], powers)
            if theta is not None and (start is not None or len(first[0]) < len(z)):
                most = AGAIN_ITERATIONS if start is not None else LAST_ITERATIONS
                theta = _searched(last, KERNELS[name], powers, theta, most)[0]
            given = None if theta is None else conditioned(z, y, Field.of(name, powers, theta), owners)
            if given is not None:
                found.append(replace(given, found=theta))
    return found


def _searched_rows(
    z: FloatArray, y: FloatArray, owners: NDArray[np.int64] | None, count: int, rng: np.random.Generator
) -> Rows:
    """Return the rows that a search looks at: those of about so many, chosen at random."""
    if len(z) <= count:
        return z, y, owners
    if owners is None:
        kept = np.sort(rng.choice(len(z), count, replace=False))
        return z[kept], y[kept], None
    points = int(owners.max()) + 1
    chosen = rng.choice(points, max(2, count * points // len(z)), replace=False)
    kept = np.flatnonzero(np.isin(owners, chosen))
    return z[kept], y[kept], np.unique(owners[kept], return_inverse=True)[1]


def _from_starts(rows: Rows, kernel: Kernel, powers: Powers) -> FloatArray | None:
    """Return θ of the largest likelihood: a few iterations from each start, then more from where the best has come."""
    n = rows[0].shape[1]
    tried = []
    for length, noise in STARTS:
        start = np.append(np.full(n, math.log(length * math.sqrt(n))), math.log(noise))
        tried.append(_searched(rows, kernel, powers, start, SHORT_ITERATIONS))
    theta, value = max(tried, key=lambda pair: pair[1])
    return _searched(rows, kernel, powers, theta, FIRST_ITERATIONS)[0] if math.isfinite(value) else None


def _searched(rows: Rows, kernel: Kernel, powers: Powers, start: FloatArray, most: int) -> tuple[FloatArray, float]:
    """Return θ of the largest likelihood found from a start, and that."""
    z, y, owners = rows
    n = z.shape[1]
    lower = np.append(np.full(n, math.log(LEAST_LENGTH)), math.log(LEAST_NOISE))
    upper = np.append(np.full(n, math.log(MOST_LENGTH)), math.log(MOST_NOISE))
    basis, y = as_slopes(monomials(z, powers), z, owners), as_slopes(y, z, owners)
    pairs = Pairs.of(z) if owners is None else None
    return maximized(lambda theta: likelihood(z, y, basis, kernel, theta, owners, pairs), start, lower, upper, most)


def likelihood(
    z: FloatArray,
    y: FloatArray,
    basis: FloatArray,
    kernel: Kernel,
    theta: FloatArray,
    owners: NDArray[np.int64] | None = None,
    pairs: Pairs | None = None,
) -> tuple[float, FloatArray]:
    """Return log L (2) less its pull, and the gradient (3), of θ = (log l, log λ); −inf where K is not positive. With
    `owners` y and basis have slopes where rows stand for them; `pairs` are those of few points. Shapes: z (k, n), y
    (rows,), basis (rows, p), θ and gradient (n + 1,), owners (rows,)."""
    k, n = z.shape
    lengths, noise = np.exp(theta[:-1]), math.exp(theta[-1])
    if pairs is None:
        s = squared_distances(z, z, lengths)
        matrix = covariances(kernel.value(s), z, owners, noise)
    else:
        s = pairs.squares @ lengths**-2
        matrix = pairs.matrix(kernel.value(s), 1.0 + noise)
    # Searches call this by the hundred thousand for few points: the library's routines, without what checks them.
    lower, trouble = lapack.dpotrf(matrix, lower=1, clean=1, overwrite_a=1)
    if trouble:
        return -math.inf, np.zeros(n + 1)
    white, scaled = (lapack.dtrtrs(lower, item, lower=1)[0] for item in (basis, y))
    left = scaled - white @ _least_squares(white, scaled)
    variance = float(left @ left) / k
    if not variance > 0.0 or not math.isfinite(variance):
        return -math.inf, np.zeros(n + 1)
    value = -0.5 * k * math.log(variance) - float(np.log(lower.diagonal()).sum())
    value -= PULL * float(theta[:-1] @ theta[:-1])
    a = lapack.dtrtrs(lower, left, lower=1, trans=1)[0]
    inverse = lapack.dpotri(lower, lower=1)[0]  # its upper triangle is not set
    # Of the lower triangle: Σ_a>b 2 W_ab Δ²_abj;  ∂k/∂log l_j = −2 k'(s) Δ_j² / l_j².
    if pairs is None:
        sums = _summed(z / lengths, _weights(z, a, inverse, variance, owners) * kernel.slope(s))
    else:
        weights = a[pairs.one] * a[pairs.other] / variance - inverse[pairs.one, pairs.other]
        sums = 2.0 * ((weights * kernel.slope(s)) @ pairs.squares) / lengths**2
    gradient = np.append(-sums - 2.0 * PULL * theta[:-1], 0.0)
    gradient[-1] = 0.5 * noise * (float(a @ a) / variance - float(inverse.trace()))
    return value, gradient


def _weights(
    z: FloatArray, a: FloatArray, inverse: FloatArray, variance: float, owners: NDArray[np.int64] | None
) -> FloatArray:
    """Return a a'/σ̂² − K⁻¹ (k, k), its lower triangle."""
    weights = np.outer(a, a / variance)
    if owners is None:
        return np.asarray(weights - inverse)
    whole = np.tril(inverse) + np.tril(inverse, -1).T
    return from_slopes(from_slopes(weights - whole, z, owners).T, z, owners)


def _summed(p: FloatArray, weights: FloatArray) -> FloatArray:
    """Return Σ_a>b 2 W_ab Δ²_abj (n,) of scaled points p (k, n), by Δ² = p_a² − 2 p_a p_b + p_b²."""
    weights = np.tril(weights, -1)
    sums = (p**2).T @ (weights.sum(axis=1) + weights.sum(axis=0)) - 2.0 * np.einsum("aj,aj->j", p, weights @ p)
    return np.asarray(2.0 * sums)


@dataclass(frozen=True, eq=False)
class Pairs:
    """All pairs of k points, each once: places of `one` and the `other`, and `squares` (pairs, n) of differences."""

    count: int
    one: NDArray[np.int64]
    other: NDArray[np.int64]
    squares: FloatArray

    @classmethod
    def of(cls, z: FloatArray) -> Pairs | None:
        """Return the pairs of points (k, n), None of so many that they take more room than time is won."""
        k, n = z.shape
        if k * k * n > MOST_PAIRED:
            return None
        one, other = np.tril_indices(k, -1)
        return cls(k, one, other, (z[one] - z[other]) ** 2)

    def matrix(self, values: FloatArray, diagonal: float) -> FloatArray:
        """Return the lower triangle of a matrix (k, k) from the values of the pairs and those on its diagonal."""
        found = np.zeros((self.count, self.count), order="F")
        found[self.one, self.other] = values
        np.fill_diagonal(found, diagonal)
        return found


def _least_squares(white: FloatArray, scaled: FloatArray) -> FloatArray:
    if white.shape[1] == 1:
        own = white[:, 0]
        return np.array([float(own @ scaled) / float(own @ own)])
    return np.asarray(np.linalg.lstsq(white, scaled, rcond=1e-12)[0], dtype=np.float64)


def likelihood_of(z: FloatArray, y: FloatArray, kernel: str, theta: FloatArray) -> float:
    """Return log L (2) of values about a constant, by numbers that were found. Shapes: z (k, n), y (k,), θ (n + 1,)."""
    basis = np.ones((len(z), 1))
    return likelihood(z, y, basis, KERNELS[kernel], theta)[0] + PULL * float(theta[:-1] @ theta[:-1])


def conditioned(z: FloatArray, y: FloatArray, field: Field, owners: NDArray[np.int64] | None = None) -> Fitted | None:
    """Return the field given the data: its part and what it says of points left out; `owners` as in `left_out_of`.
    Shapes: z (k, n), y (rows,), owners (rows,)."""
    k = len(z)
    basis, y = as_slopes(monomials(z, field.powers), z, owners), as_slopes(y, z, owners)
    matrix = KERNELS[field.kernel].value(squared_distances(z, z, field.lengths))
    matrix = covariances(matrix, z, owners, field.noise)
    try:
        cholesky(matrix, lower=True, check_finite=False)
        w, b, left_out = left_out_of(matrix, basis, y, owners)
    except np.linalg.LinAlgError:
        return None
    if not math.isfinite(rms(left_out)):
        return None
    variance = max(float((y - basis @ b) @ w) / k, LEAST_SPREAD**2)
    expansion = Expansion(field.kernel, field.lengths, z, from_slopes(w, z, owners))
    size = math.sqrt(variance)
    spread = FieldSpread(field.kernel, field.lengths, z, field.powers, field.noise, size, owners)
    part = Part("gaussian-process", Trend(field.powers, b), expansion, spread=spread)
    return Fitted(part, left_out)
