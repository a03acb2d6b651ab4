"""What every kind of surface gives when it is fitted to standardized values."""

from __future__ import annotations

from typing import TYPE_CHECKING

import numpy as np
from numpy.typing import NDArray

from ilvren.records import dataclass

if TYPE_CHECKING:
    from ilvren.approximate.surface import Part

__all__ = ["Fitted", "folds", "left_out_of", "rms"]

FloatArray = NDArray[np.float64]


@dataclass(frozen=True)
class Fitted:
    """A part and `left_out` (k,): what it says of each point when that point had no share in it (and none of those that
    stand for its slopes). `found` are numbers that were searched for: a search on nearly the same points may begin
    there."""

    part: Part
    left_out: FloatArray
    found: FloatArray | None = None


def folds(k: int, count: int, rng: np.random.Generator) -> list[NDArray[np.int64]]:
    """Return `count` groups of the places of k points, drawn at random and of sizes that differ by one at most. Each
    group is (about k / count,)."""
    return [np.sort(part) for part in np.array_split(rng.permutation(k), min(count, k))]


def rms(errors: FloatArray) -> float:
    """Return √ of the mean square; infinite where one is not finite. `errors` have any shape."""
    with np.errstate(over="ignore"):
        found = float(np.sqrt(np.mean(np.square(errors)))) if len(errors) else np.inf
    return found if np.isfinite(found) else np.inf


def left_out_of(
    matrix: FloatArray, basis: FloatArray, y: FloatArray, owners: NDArray[np.int64] | None = None
) -> tuple[FloatArray, FloatArray, FloatArray]:
    """Return (w, b, left out) of  y = A w + F b,  F'w = 0:  A (k, k) symmetric, F (k, t).

    With C the upper left block of the inverse of [[A, F], [F', 0]], w = C y, and the value that is said of point i
    without it is y_i − w_i / C_ii: no second fit is needed. Where rows G belong to one point (`owners`), y_G − (C_GG)⁻¹
    w_G are said of them without all of them.

    Source: O. Dubrule, "Cross validation of kriging in a unique neighborhood", 1983. Raises LinAlgError."""
    inverse = np.linalg.inv(matrix)
    middle = basis.T @ (inverse @ basis)
    share = np.linalg.solve(middle, basis.T @ inverse)
    kept = inverse - inverse @ basis @ share
    w = kept @ y
    own = np.diag(kept)
    if not (np.isfinite(w).all() and (np.abs(own) > 0.0).all()):
        raise np.linalg.LinAlgError("singular")
    if owners is None:
        return w, share @ y, y - w / own
    count = int(owners.max()) + 1
    errors = np.empty(count)
    order = np.argsort(owners, kind="stable")
    for group in np.split(order, np.flatnonzero(np.diff(owners[order])) + 1):
        errors[owners[group[0]]] = np.linalg.solve(kept[np.ix_(group, group)], w[group])[0]
    return w, share @ y, y[:count] - errors
