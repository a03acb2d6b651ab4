"""What the problem says at one design."""

from __future__ import annotations

import math
from typing import Any

import numpy as np
from numpy.typing import NDArray

from ilvren.records import dataclass

__all__ = ["Evaluation", "entries_of"]

FloatArray = NDArray[np.float64]


@dataclass(frozen=True, eq=False)
class Evaluation:
    """What the problem says at one design; NaN where a value or derivative is invalid.

    `objective` internal (minimized; 0 without an objective), `rows` (m,), `gradient` (n,) and `jacobian`
    (m, n) over all variables, None when they were not asked for; the Jacobian a SciPy CSR array from a sparse gate.
    """

    objective: float
    rows: FloatArray
    gradient: FloatArray | None = None
    jacobian: Any = None

    @property
    def is_finite(self) -> bool:
        """Return whether every value is finite."""
        return math.isfinite(self.objective) and bool(np.isfinite(self.rows).all())

    @property
    def has_finite_derivatives(self) -> bool:
        """Return whether derivatives are there and all finite."""
        return (
            self.gradient is not None
            and self.jacobian is not None
            and bool(np.isfinite(self.gradient).all() and np.isfinite(entries_of(self.jacobian)).all())
        )


def entries_of(matrix: Any) -> FloatArray:
    """Return the numbers that a dense or sparse matrix stores. They are (entries,)."""
    found: FloatArray = matrix if isinstance(matrix, np.ndarray) else matrix.data
    return found
