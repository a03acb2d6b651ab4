"""A method begun anew where derivatives are of quite another size than at the start: in the scale of its new start.

    ẑ = x / D,   f̂ = f / F,   ĉ_i = c_i / R_i,   F = max |D∇f|,   R_i = max |D∇c_i|   at the new start       (1)

D differs from 1 for unbounded variables alone that were far larger at the start. The driver goes on in its own scale:
points and replies are scaled on the way, and the Hessian of ŵ f̂ − λ̂'ĉ is D (w ∇²f − Σ λ_i ∇²c_i) D with w = ŵ / F,
λ_i = λ̂_i / R_i.
"""

from __future__ import annotations

from collections.abc import Callable
from dataclasses import replace
from typing import TYPE_CHECKING, Any

import numpy as np
from numpy.typing import NDArray

from ilvren.methods.base import Ending, HessianRequest, Iterate, Matrix, Protocol, Reply, Request, Task, Tight
from ilvren.records import dataclass

if TYPE_CHECKING:
    from ilvren.methods.pieces.points import Point

__all__ = ["is_out_of_scale", "rescaled"]

FloatArray = NDArray[np.float64]

# A largest derivative beyond these asks for another scale; no factor is further from 1.
LEAST_SLOPE, MOST_SLOPE, MOST_FACTOR = 1e-4, 1e4, 1e40
# An unbounded variable that has shrunk below this share of what it was at the start gets a size of its own.
SHRUNK, LEAST_SHARE = 1e-4, 1e-14


def is_out_of_scale(here: Point) -> bool:
    """Return whether the derivatives at a point are of quite another size than the task was scaled for."""
    largest = [float(np.abs(here.g).max(initial=0.0)), float(_by_row(here.j).max(initial=0.0))]
    return any(value > 0.0 and not LEAST_SLOPE <= value <= MOST_SLOPE for value in largest)


def rescaled(run: Callable[[Task, Any], Protocol], task: Task, options: Any, here: Point) -> Protocol:
    """Run a method from a point that was evaluated with derivatives, in the scale of those."""
    scale = _Scale.at(task, here)
    generator = run(scale.task(task, here), options)
    answer: Any = None
    try:
        while True:
            message = generator.send(answer)
            answer = scale.answer(message, (yield scale.asked(message)))
    except StopIteration as end:
        ending: Ending = end.value
        return ending
    finally:
        generator.close()


@dataclass(frozen=True)
class _Scale:
    """The factors of (1): D (n,), F, R (m,), powers of two, so that dividing by them rounds nothing."""

    d: FloatArray
    f: float
    rows: FloatArray

    @classmethod
    def at(cls, task: Task, here: Point) -> _Scale:
        before, now = np.abs(task.start), np.abs(here.x)
        has_shrunk = ~np.isfinite(task.upper - task.lower) & (now < SHRUNK * before)
        d = np.where(has_shrunk, _factor(np.maximum(now, LEAST_SHARE * before)), 1.0)
        f = float(_factor(np.array([np.abs(d * here.g).max(initial=0.0)]))[0])
        return cls(d, f, _factor(_by_row(_over_columns(here.j, d))))

    def task(self, task: Task, here: Point) -> Task:
        return replace(
            task,
            start=here.x / self.d,
            lower=task.lower / self.d,
            upper=task.upper / self.d,
            row_lower=task.row_lower / self.rows,
            row_upper=task.row_upper / self.rows,
            row_sizes=task.row_sizes / self.rows,
            row_multipliers=None,
            bound_multipliers=None,
            unit=task.unit * self.f,
            residual_weight=task.residual_weight / self.f,
        )

    def asked(self, message: Any) -> Any:
        """Return a message in the driver's scale."""
        if isinstance(message, Request):
            return replace(message, points=message.points * self.d)
        if isinstance(message, Tight):
            return replace(message, point=message.point * self.d)
        if isinstance(message, HessianRequest):
            direction = None if message.direction is None else message.direction * self.d
            return replace(
                message,
                point=message.point * self.d,
                multipliers=message.multipliers / self.rows,
                weight=message.weight / self.f,
                direction=direction,
            )
        if isinstance(message, Iterate):
            multipliers = None if message.multipliers is None else message.multipliers * self.f / self.rows
            return replace(message, point=message.point * self.d, multipliers=multipliers)
        return message

    def answer(self, message: Any, answer: Any) -> Any:
        """Return what was answered to a message in the method's scale."""
        if isinstance(message, Request) and isinstance(answer, Reply):
            gradient, jacobian = answer.gradient, answer.jacobian
            return replace(
                answer,
                objective=answer.objective / self.f,
                rows=answer.rows / self.rows,
                gradient=None if gradient is None else gradient * self.d / self.f,
                jacobian=None if jacobian is None else [self._jacobian(matrix) for matrix in jacobian],
            )
        if isinstance(message, Tight):
            return np.asarray(answer) / self.d
        if isinstance(message, HessianRequest):
            if message.direction is not None:
                return answer * self.d
            return _over_rows(_over_columns(answer, self.d), 1.0 / self.d)
        return answer

    def _jacobian(self, matrix: Matrix) -> Matrix:
        return _over_rows(_over_columns(matrix, self.d), self.rows)


def _over_columns(matrix: Matrix, factors: FloatArray) -> Matrix:
    """Return a matrix with its columns times some factors."""
    return matrix * factors if isinstance(matrix, np.ndarray) else matrix.multiply(factors[np.newaxis]).tocsr()


def _over_rows(matrix: Matrix, factors: FloatArray) -> Matrix:
    """Return a matrix with its rows over some factors."""
    if isinstance(matrix, np.ndarray):
        return matrix / factors[:, np.newaxis]
    return matrix.multiply(1.0 / factors[:, np.newaxis]).tocsr()


def _by_row(matrix: Matrix) -> FloatArray:
    """Return the largest |entry| of each row (m,)."""
    if isinstance(matrix, np.ndarray):
        return np.asarray(np.abs(matrix).max(axis=1, initial=0.0))
    return np.asarray(abs(matrix).max(axis=1).toarray()).ravel()


def _factor(largest: FloatArray) -> FloatArray:
    """Return a power of two near each size, 1 for none."""
    usable = (largest > 1.0 / MOST_FACTOR) & (largest < MOST_FACTOR)
    return np.exp2(np.round(np.log2(np.where(usable, largest, 1.0))))
