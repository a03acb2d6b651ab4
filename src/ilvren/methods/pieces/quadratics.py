"""Quadratic models of values, through points that have been evaluated, and where they are least.

    q(y) = c + g·y + ½ y'Hy   with  q(y_k) = F_k   and  H of least Frobenius norm                          (1)
    H = Σ λ_k y_k y_k' ,   [½ (Y Y')² , 1 , Y ; 1' , 0 ; Y' , 0] (λ, c, g) = (F, 0, 0)                     (2)

With as many points as a full quadratic has coefficients, or more, (1) is fitted by least squares. Points are taken
relative to a centre, over a radius.

Sources: M. J. D. Powell, "Least Frobenius norm updating of quadratic models that satisfy interpolation conditions",
2004; A. Conn, K. Scheinberg, L. Vicente, "Introduction to derivative-free optimization", 2009.
"""

from __future__ import annotations

from typing import TYPE_CHECKING, Protocol

import numpy as np
from numpy.typing import NDArray

from ilvren.algebra import QuadraticSolution, solve_quadratic, solve_relaxed
from ilvren.records import dataclass

if TYPE_CHECKING:
    from ilvren.methods.base import Task

__all__ = ["Models", "Quadratics", "fitted", "minimizer_of"]

FloatArray = NDArray[np.float64]

# Singular values below this share of the largest are noise.
LEAST_SINGULAR = 1e-12
# A sequence of programs ends after so many steps, or when one is shorter than this share of the radius.
MOST_STEPS, LEAST_MOVE = 12, 1e-4
# The shortest share of a step that is tried.
LEAST_LENGTH = 1e-3
# Curvatures are raised to these shares of the largest one and of the largest slope, over one radius.
LEAST_CURVATURE, LEAST_SLOPE_CURVATURE = 1e-4, 1e-3
# What a miss weighs, against the slopes of f, where not all limits can be met; and over its multiplier where they can.
RELAXED_WEIGHT, MULTIPLIER_FACTOR = 1e4, 2.0


class Models(Protocol):
    """Models of f and the rows around `centre` (n,), in steps of `radius` (n,)."""

    @property
    def centre(self) -> FloatArray:
        """Return (n,)."""

    @property
    def radius(self) -> FloatArray:
        """Return (n,)."""

    def local(self, z: FloatArray) -> tuple[FloatArray, FloatArray]:
        """Return values (q,) and slopes (q, n) at a step z (n,) from the centre, counted in radii."""

    def hessian(self, z: FloatArray, multipliers: FloatArray) -> FloatArray:
        """Return the Hessian (n, n) of f − multipliers'c there, in radii."""


@dataclass(frozen=True)
class Quadratics:
    """Models of q functions around `centre` (n,) in steps of `radius` (n,): `c` (q,), `g` (q, n), `h` (q, n, n)."""

    centre: FloatArray
    radius: FloatArray
    c: FloatArray
    g: FloatArray
    h: FloatArray

    def values(self, x: FloatArray) -> FloatArray:
        """Return (k, q) at points (k, n)."""
        y = (x - self.centre) / self.radius
        return np.asarray(
            self.c + y @ self.g.T + 0.5 * np.einsum("ki,qij,kj->kq", y, self.h, y, optimize=True), dtype=np.float64
        )

    def local(self, z: FloatArray) -> tuple[FloatArray, FloatArray]:
        """Return values (q,) and slopes (q, n) at a step z (n,) from the centre, counted in radii."""
        product = self.h @ z
        return self.c + self.g @ z + 0.5 * product @ z, self.g + product

    def hessian(self, z: FloatArray, multipliers: FloatArray) -> FloatArray:
        """Return the Hessian (n, n) of f − multipliers'c, the same everywhere."""
        return np.asarray(self.h[0] - np.tensordot(multipliers, self.h[1:], 1))

    def moved(self, centre: FloatArray, radius: FloatArray) -> Quadratics:
        """Return the same models around another centre, over another radius. Both are (n,)."""
        y, stretch = (centre - self.centre) / self.radius, radius / self.radius
        c = self.c + self.g @ y + 0.5 * np.einsum("i,qij,j->q", y, self.h, y)
        return Quadratics(centre, radius, c, (self.g + self.h @ y) * stretch, self.h * np.outer(stretch, stretch))

    def plus(self, other: Quadratics) -> Quadratics:
        """Return the sum of models around the same centre, over the same radius."""
        return Quadratics(self.centre, self.radius, self.c + other.c, self.g + other.g, self.h + other.h)


def fitted(x: FloatArray, values: FloatArray, centre: FloatArray, radius: FloatArray) -> Quadratics | None:
    """Return models through points x (p, n) with values (p, q), all finite; None where the points do not tell."""
    y = (x - centre) / radius
    p, n = y.shape
    full = (n + 1) * (n + 2) // 2
    try:
        if p >= full:
            c, g, h = _by_least_squares(y, values)
        else:
            c, g, h = _of_least_norm(y, values)
    except np.linalg.LinAlgError:
        return None
    if not (np.isfinite(c).all() and np.isfinite(g).all() and np.isfinite(h).all()):
        return None
    return Quadratics(centre, radius, c, g, h)


def _of_least_norm(y: FloatArray, values: FloatArray) -> tuple[FloatArray, FloatArray, FloatArray]:
    p, n = y.shape
    matrix = np.zeros((p + n + 1, p + n + 1))
    matrix[:p, :p] = 0.5 * (y @ y.T) ** 2
    matrix[:p, p] = matrix[p, :p] = 1.0
    matrix[:p, p + 1 :], matrix[p + 1 :, :p] = y, y.T
    target = np.zeros((p + n + 1, values.shape[1]))
    target[:p] = values
    found = np.linalg.lstsq(matrix, target, rcond=LEAST_SINGULAR)[0]  # (2)
    h: FloatArray = np.einsum("kq,ki,kj->qij", found[:p], y, y, optimize=True)
    c, g = np.asarray(found[p]), np.asarray(found[p + 1 :].T)
    return c, g, h


def _by_least_squares(y: FloatArray, values: FloatArray) -> tuple[FloatArray, FloatArray, FloatArray]:
    p, n = y.shape
    i, j = np.triu_indices(n)
    products = y[:, i] * y[:, j] * np.where(i == j, 0.5, 1.0)
    found = np.linalg.lstsq(np.hstack([np.ones((p, 1)), y, products]), values, rcond=LEAST_SINGULAR)[0]
    h = np.zeros((values.shape[1], n, n))
    h[:, i, j] = h[:, j, i] = found[n + 1 :].T
    return np.asarray(found[0]), np.asarray(found[1 : n + 1].T), h


def minimizer_of(
    models: Models,
    task: Task,
    lower: FloatArray,
    upper: FloatArray,
    start: FloatArray,
    multipliers: FloatArray,
) -> tuple[FloatArray, FloatArray]:
    """Return a point within [lower, upper] where the model of f (the first) is least within the limits on the models
    of the rows (the others), and the multipliers (m,) there, `multipliers` being a guess of them; where the limits
    cannot all be met, a point that comes near.

    A sequence of quadratic programs on the models themselves, each step shortened until it is one downhill: in f and
    weighted misses, or, where the program has no solution, in the misses alone.
    """
    z = (np.clip(start, lower, upper) - models.centre) / models.radius
    low, high = (lower - models.centre) / models.radius, (upper - models.centre) / models.radius
    weights = MULTIPLIER_FACTOR * np.abs(multipliers)
    value, slopes = models.local(z)
    held: QuadraticSolution | None = None
    for _ in range(MOST_STEPS):
        h = _convex(models.hessian(z, multipliers), slopes[0])
        limits = task.row_lower - value[1:], task.row_upper - value[1:]
        room = low - z, high - z
        found = solve_quadratic(h, slopes[0], rows=slopes[1:], row_limits=limits, bounds=room, guess=held)
        is_met = found.outcome == "solved"
        held = found if is_met else None
        if not is_met and len(multipliers):
            sizes = task.row_sizes[:, np.newaxis]
            scaled = limits[0] / task.row_sizes, limits[1] / task.row_sizes
            weight = RELAXED_WEIGHT * max(float(np.abs(slopes[0]).max()), float(np.abs(h).max()), 1e-12)
            found = solve_relaxed(
                h, slopes[0], rows=slopes[1:] / sizes, row_limits=scaled, bounds=(low - z, high - z), weight=weight
            )
        if found.outcome != "solved":
            break
        if is_met:
            multipliers = found.row_multipliers
            weights = np.maximum(weights, MULTIPLIER_FACTOR * np.abs(multipliers))
        before, length = _worth(task, value, weights, is_met=is_met), 1.0
        while length > LEAST_LENGTH:
            trial = np.clip(z + length * found.step, low, high)
            new_value, new_slopes = models.local(trial)
            if _worth(task, new_value, weights, is_met=is_met) < before:
                break
            length *= 0.5
        else:
            break
        moved = float(np.abs(trial - z).max())
        z, value, slopes = trial, new_value, new_slopes
        if moved <= LEAST_MOVE:
            break
    return np.clip(models.centre + models.radius * z, lower, upper), multipliers


def _convex(h: FloatArray, slope: FloatArray) -> FloatArray:
    """Return the matrix with its small and negative curvatures raised to where the slope alone leads to the edge."""
    values, axes = np.linalg.eigh(h)
    least = max(
        LEAST_CURVATURE * float(np.abs(values).max(initial=0.0)),
        LEAST_SLOPE_CURVATURE * float(np.abs(slope).max()),
        1e-12,
    )
    if values[0] >= least:
        return h
    return np.asarray((axes * np.maximum(values, least)) @ axes.T, dtype=np.float64)


def _worth(task: Task, value: FloatArray, weights: FloatArray, *, is_met: bool) -> float:
    misses = task.misses(value[1:])
    if is_met:
        return float(value[0] + weights @ misses)
    return float((misses / task.row_sizes).sum())
