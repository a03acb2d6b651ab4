"""Surfaces of f and the rows from all designs near a centre: quadratics that heed far designs less, or Gaussian
processes.

In steps y = (x − x_c) / Δ from the centre a quadratic is

    q(y) = c + g·y + ½ y'Hy,   H = Σ w_k y_k y_k',   [½ (Y Y')² + D, 1, Y; 1', 0, 0; Y', 0, 0] (w, c, g) = (F, 0, 0)
                                                                                                        (1)

which passes through the values with H of least norm where D = 0. D_kk = τ |y_k|⁶ lets it miss the value of a design
by what terms of third order may come to there; τ is the one of a few by which designs that are left out are told best,
near ones before far ones. A Gaussian process takes its place where that tells them better still           (2)

Sources: (1): M. J. D. Powell, "Least Frobenius norm updating of quadratic models that satisfy interpolation
conditions", 2004; left out: O. Dubrule, "Cross validation of kriging in a unique neighborhood", 1983; all near designs:
S. M. Wild, C. Shoemaker, "Global convergence of radial basis function trust-region algorithms for derivative-free
optimization", 2013.
"""

from __future__ import annotations

import math
from collections.abc import Mapping
from dataclasses import field, replace
from typing import TYPE_CHECKING

import numpy as np
from numpy.typing import NDArray
from threadpoolctl import threadpool_limits

from ilvren.approximate import Part, all_powers, fitted_fields
from ilvren.methods.pieces.quadratics import Quadratics
from ilvren.records import dataclass

if TYPE_CHECKING:
    from ilvren.methods.base import Task

__all__ = ["NearSurfaces", "Surfaces"]

FloatArray = NDArray[np.float64]

# How far designs count as near, in radii, and how many do: so many, and so many for each variable, at most.
REACH, MOST_NEAR, NEAR_PER_VARIABLE, MOST_NEAR_OF_ALL = 8.0, 12, 6, 160
# τ of (2): what is tried; the first one lets no design be missed but by rounding.
LOOSENESS = (0.0, 1e-8, 1e-6, 1e-4, 1e-2)
# What is added to the diagonal of (1), as a share of its mean; a power of |y| in D.
RIDGE, ORDER = 1e-11, 6
# Values that differ so many times more from the centre's than those of the nearest designs have no share.
OUTLYING = 1e3
# A design adds a direction where this share of its distance is across all others.
NEW_SHARE = 0.05
# A design is told by the others where what it adds itself is more than this share of what the others add.
LEAST_TELLING = 1e-9
# A quadratic that tells designs left out as well as this, of their deviation, is as good as exact.
EXACT = 1e-6
# Gaussian processes are fitted to f and so many rows at most, those with the least room; with so many designs beyond
# what a plane takes; and taken where they are better by this factor.
MOST_FIELDS, FIELD_BEYOND, BETTER = 6, 3, 0.8
# Designs nearer than this share of the radius are one.
SAME = 1e-9
# Of the steps that Hessians of fields are differenced by.
BEND_STEP = 1e-4


@dataclass(frozen=True)
class NearSurfaces:
    """Surfaces of q functions: `quadratics`, in whose place `fields` {place: part}, in steps over `reach`, stand for
    some; `said` (q,) is how wrong each is of designs left out; `count` designs they come from."""

    quadratics: Quadratics
    reach: float
    fields: Mapping[int, Part]
    said: FloatArray
    count: int

    @property
    def centre(self) -> FloatArray:
        """Return the centre (n,)."""
        return self.quadratics.centre

    @property
    def radius(self) -> FloatArray:
        """Return what steps are counted in (n,)."""
        return self.quadratics.radius

    def values(self, x: FloatArray) -> FloatArray:
        """Return (k, q) at points (k, n)."""
        found = self.quadratics.values(x)
        for place, part in self.fields.items():
            found[:, place] = part.at((x - self.centre) / self.radius / self.reach)
        return found

    def local(self, z: FloatArray) -> tuple[FloatArray, FloatArray]:
        """Return values (q,) and slopes (q, n) at a step z (n,) from the centre, counted in radii."""
        values, slopes = self.quadratics.local(z)
        y = z[np.newaxis] / self.reach
        for place, part in self.fields.items():
            values[place], slopes[place] = part.at(y)[0], part.slopes_at(y)[0] / self.reach
        return values, slopes

    def hessian(self, z: FloatArray, multipliers: FloatArray) -> FloatArray:
        """Return the Hessian (n, n) of f − multipliers'c there, in radii."""
        n = len(z)
        weights = np.append(1.0, -multipliers)
        own = weights.copy()
        own[list(self.fields)] = 0.0
        found = np.tensordot(own, self.quadratics.h, 1)
        y = (z + BEND_STEP * self.reach * np.vstack([np.eye(n), -np.eye(n)])) / self.reach
        for place, part in self.fields.items():
            if weights[place] != 0.0:
                slopes = weights[place] * part.slopes_at(y)
                found = found + (slopes[:n] - slopes[n:]) / (2.0 * BEND_STEP * self.reach**2)
        return np.asarray(0.5 * (found + found.T))

    @property
    def told(self) -> str:
        """Return what the surface of f is, in words."""
        kind = "Gaussian process" if 0 in self.fields else "quadratic"
        return f"{kind} of {self.count} designs"


@dataclass
class Surfaces:
    """What fits surfaces to designs, again and again: searches for lengths go on where the last ones ended."""

    task: Task
    _known: dict[int, dict[tuple[str, bool], FloatArray]] = field(default_factory=dict)
    _extents: dict[int, float] = field(default_factory=dict)

    def near(self, x: FloatArray, centre: FloatArray, radius: FloatArray) -> NDArray[np.int64]:
        """Return the places of the designs x (k, n) that count as near, the nearest first, no two the same."""
        y = (x - centre) / radius
        distances = np.abs(y).max(axis=1)
        n = len(centre)
        most = min(MOST_NEAR + NEAR_PER_VARIABLE * n, max(MOST_NEAR_OF_ALL, 3 * n))
        kept: list[int] = []
        for place in np.argsort(distances, kind="stable"):
            if distances[place] > REACH and len(kept) > n + 1:
                break
            if not kept or float(np.abs(y[kept] - y[place]).max(axis=1).min()) > SAME:
                kept.append(int(place))
            if len(kept) == most:
                break
        return np.array(kept, dtype=np.int64)

    def fitted(self, x: FloatArray, values: FloatArray, centre: FloatArray, radius: FloatArray) -> NearSurfaces | None:
        """Return the surfaces through points (k, n) with values (k, q), all finite, k > n; None where they do not
        tell."""
        y = (x - centre) / radius
        kept = _told_by(y, values)
        y, values = y[kept], values[kept]
        reach = max(float(np.abs(y).max()), 1e-12)
        size = np.maximum(np.abs(values).max(axis=0), 1e-300)
        middle, deviation = values.mean(axis=0), np.maximum(values.std(axis=0), 1e-13 * size)
        scaled = (values - middle) / deviation
        near = 1.0 / (1.0 + np.abs(y).max(axis=1) ** 4)
        near /= near.sum()
        with threadpool_limits(1):  # matrices are small: threads would wait for each other
            found = _quadratics(y / reach, scaled, np.abs(y).max(axis=1), near)
            if found is None:
                return None
            (c, g, h), said = found
            c, g, h = middle + deviation * c, g * deviation[:, None] / reach, h * deviation[:, None, None] / reach**2
            fields = {}
            for place in self._worth_a_field(values, said, len(y)):
                part, error = self._field(y / reach, scaled[:, place], near, place, reach)
                if part is not None and error < BETTER * said[place]:
                    fields[place] = replace(part, middle=float(middle[place]), deviation=float(deviation[place]))
                    said[place] = error
        return NearSurfaces(Quadratics(centre, radius, c, g, h), reach, fields, said * deviation, len(y))

    def _worth_a_field(self, values: FloatArray, said: FloatArray, k: int) -> list[int]:
        """Return which functions a Gaussian process may tell better: f, and the rows with the least room."""
        n, task = len(self.task.start), self.task
        if k < n + 1 + FIELD_BEYOND:
            return []
        rows = values[:, 1:]
        room = np.minimum(rows - task.row_lower, task.row_upper - rows) / task.row_sizes
        order = np.argsort(room.min(axis=0), kind="stable")[: MOST_FIELDS - 1] + 1
        return [int(place) for place in (0, *order) if said[place] > EXACT]

    def _field(
        self, z: FloatArray, y: FloatArray, near: FloatArray, place: int, reach: float
    ) -> tuple[Part | None, float]:
        """Return the Gaussian process that tells values best, and how wrong it is of designs left out."""
        n = z.shape[1]
        known = self._known.setdefault(place, {})
        # Lengths are in shares of the extent, which may be another one now.
        shift = math.log(self._extents.get(place, reach) / reach)
        for key, theta in known.items():
            known[key] = np.append(theta[:-1] + shift, theta[-1])
        self._extents[place] = reach
        trends = [all_powers(n, 1)] if len(z) > 2 * n + 2 else [all_powers(n, 0)]
        best, least = None, math.inf
        for one in fitted_fields(z, y, trends, np.random.default_rng(1), known):
            if one.found is not None and one.part.expansion is not None:
                known[one.part.expansion.kernel, len(one.part.trend.powers) == 1] = one.found
            error = math.sqrt(float(near @ (one.left_out - y) ** 2))
            if error < least:
                best, least = one.part, error
        return best, least


def _told_by(y: FloatArray, values: FloatArray) -> NDArray[np.bool_]:
    """Return which designs have a share in surfaces: not those whose values are of quite another size than the nearest
    ones', which would leave nothing of these but rounding."""
    n = y.shape[1]
    order = np.argsort(np.abs(y).max(axis=1), kind="stable")
    away = np.abs(values - values[order[0]])
    size = away[order[: 2 * n + 1]].max(axis=0)
    is_kept: NDArray[np.bool_] = (away <= OUTLYING * np.maximum(size, 1e-300)).all(axis=1)
    if is_kept.all():
        return is_kept
    basis = np.zeros((n, 0))
    for place in order:  # the nearest one in each direction has a share all the same
        left = y[place] - y[order[0]]
        left = left - basis @ (basis.T @ left)
        length = float(np.linalg.norm(left))
        if length > NEW_SHARE * float(np.abs(y[place]).max()):
            basis = np.column_stack([basis, left / length])
            is_kept[place] = True
        if basis.shape[1] == n:
            break
    is_kept[order[0]] = True
    return is_kept


def _quadratics(
    z: FloatArray, values: FloatArray, distances: FloatArray, near: FloatArray
) -> tuple[tuple[FloatArray, FloatArray, FloatArray], FloatArray] | None:
    """Return c (q,), g (q, n) and H (q, n, n) of the quadratics (1) of values (k, q) at z (k, n), and how wrong each is
    of designs left out (q,)."""
    (k, n), q = z.shape, values.shape[1]
    basis = np.hstack([np.ones((k, 1)), z])
    matrix = 0.5 * (z @ z.T) ** 2
    ridge = RIDGE * max(float(np.trace(matrix)) / k, 1e-300)
    best, weights, planes = np.full(q, np.inf), np.zeros((k, q)), np.zeros((n + 1, q))
    for looseness in LOOSENESS if k > n + 2 else LOOSENESS[:1]:
        own = matrix + np.diag(ridge + looseness * distances**ORDER / distances.max() ** 4)
        try:
            inverse = np.linalg.inv(own)
            share = np.linalg.solve(basis.T @ inverse @ basis, basis.T @ inverse)
        except np.linalg.LinAlgError:
            continue
        kept = inverse - inverse @ basis @ share
        w, b = kept @ values, share @ values
        if not (np.isfinite(w).all() and np.isfinite(b).all()):
            continue
        # Where the rest of the designs does not tell a plane, nothing is said of the one left out.
        diagonal = np.diag(kept)
        tells = diagonal > LEAST_TELLING * float(diagonal.max())
        left = np.where(tells[:, None], w / np.where(tells, diagonal, 1.0)[:, None], 1.0)
        errors = np.sqrt(near @ left**2) if k > n + 1 else np.ones(q)
        better = errors < best
        best, weights[:, better], planes[:, better] = np.where(better, errors, best), w[:, better], b[:, better]
    if not np.isfinite(best).all():
        return None
    return (planes[0], planes[1:].T, np.einsum("kq,ki,kj->qij", weights, z, z, optimize=True)), best
