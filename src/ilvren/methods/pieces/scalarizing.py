"""Problems of one objective made from several, for methods of one objective; what these ask is put as the task has it.

With F (p,) the objectives, each to be minimized, and an extra unknown t where `reach` is not zero,

    minimize  weights'F + price · t    subject to    the limits of the task,  F_i − reach_i t <= ceiling_i           (1)

for those i whose ceiling is finite. First and second derivatives of (1) are those of the rows that F are:

    gradient  J_F'w,    Hessian of the Lagrangian with multipliers μ of (1):  the rows' with w − μ                   (2)

(signs as in `HessianRequest`). `shortfall` is the least t that meets (1) at a design, so that a start can always be
one of it.
"""

from __future__ import annotations

from collections.abc import Generator
from dataclasses import replace
from typing import Any

import numpy as np
from numpy.typing import NDArray

from ilvren.methods.base import Ending, HessianRequest, Iterate, Method, Protocol, Reply, Request, Task
from ilvren.methods.pieces.measured import stands
from ilvren.methods.pieces.together import Seen
from ilvren.methods.pieces.trade_offs import counted, minimized, trade_offs
from ilvren.records import dataclass

__all__ = ["Scalar", "ScalarView", "Solved", "scalarized_task", "solving"]

FloatArray = NDArray[np.float64]

# Designs whose derivatives are kept while a search goes on.
MOST_LATEST = 4
# The objective of (1) is measured in ranges of the objectives.
ONE_RANGE = 1.0
# A ceiling counts as met where it is missed by no more than this share of its size.
MET = 1e-6


@dataclass(frozen=True)
class Scalar:
    """The numbers of (1): `weights` (p,), `ceiling` (p,), infinite for none, `reach` (p,), and the `price` of t;
    `least` is a lower bound of t; `sizes` (p,) are what misses of ceilings are measured in."""

    weights: FloatArray
    ceiling: FloatArray
    reach: FloatArray
    sizes: FloatArray
    price: float = 0.0
    least: float = -np.inf

    @property
    def has_extra(self) -> bool:
        """Return whether there is a t."""
        return self.price != 0.0

    @property
    def capped(self) -> NDArray[np.int64]:
        """Return the objectives with a ceiling. They are (count,)."""
        return np.flatnonzero(np.isfinite(self.ceiling))

    def shortfall(self, values: FloatArray) -> float:
        """Return the least t at which objectives (p,) meet their ceilings; infinite where none does."""
        own = self.capped
        has_reach = self.reach[own] > 0.0
        if (values[own] > self.ceiling[own] + MET * self.sizes[own])[~has_reach].any():
            return np.inf
        own = own[has_reach]
        return max(float(np.max((values[own] - self.ceiling[own]) / self.reach[own], initial=-np.inf)), self.least)

    def worth(self, values: FloatArray) -> FloatArray:
        """Return the objective of (1) (k,) at designs with objectives (k, p), t being the least that will do; infinite
        where a ceiling is missed."""
        own = self.capped[self.reach[self.capped] <= 0.0]
        missed = (values[:, own] > self.ceiling[own] + MET * self.sizes[own]).any(axis=1)
        found = np.where(missed, np.inf, values @ self.weights)
        if self.has_extra:
            own = self.capped[self.reach[self.capped] > 0.0]
            t = ((values[:, own] - self.ceiling[own]) / self.reach[own]).max(axis=1, initial=-np.inf)
            found = found + self.price * np.maximum(t, self.least)
        return np.asarray(found, dtype=np.float64)


def scalarized_task(task: Task, scalar: Scalar, start: FloatArray, values: FloatArray) -> Task:
    """Return (1) as a task of one objective; `values` (p,) are the objectives at `start` (n,)."""
    own = _own_rows(task)
    lower, upper, x, grids = task.lower, task.upper, start, task.grids
    if scalar.has_extra:
        first = scalar.shortfall(values)
        x = np.append(start, first if np.isfinite(first) else 1.0)
        lower, upper = np.append(lower, scalar.least), np.append(upper, np.inf)
        grids = (*grids, None) if grids else ()
    capped = scalar.capped
    return replace(
        task,
        start=x,
        lower=lower,
        upper=upper,
        row_lower=np.concatenate([task.row_lower[own], np.full(len(capped), -np.inf)]),
        row_upper=np.concatenate([task.row_upper[own], scalar.ceiling[capped]]),
        row_sizes=np.concatenate([task.row_sizes[own], scalar.sizes[capped]]),
        row_multipliers=None,
        bound_multipliers=None,
        grids=grids,
        is_convex=False,
        lifted=None,
        known=None,
        objectives=(),
        signs=(),
    )


@dataclass
class Solved:
    """What the search of (1) came to: a design x (n,) with its objectives (p,), feasible, None where none was found;
    `claim` is the method's own; `is_met`: first-order conditions of (1) were measured to hold there."""

    scalar: Scalar
    x: FloatArray | None = None
    values: FloatArray | None = None
    claim: str = ""
    is_met: bool = False
    worth: float = np.inf


def solving(
    task: Task, scalar: Scalar, start: FloatArray, values: FloatArray, method: Method, found: Solved
) -> Protocol:
    """Look for the best of (1) from a design (n,) with objectives (p,), by a method of one objective; what it comes to
    is put into `found`. Nothing is shown on the way."""
    scalar = with_goals(task, scalar)
    small = scalarized_task(task, scalar, start, values)
    view = ScalarView(task, scalar)
    generator = method.run(small, method.options())
    latest: dict[bytes, Seen] = {}
    answer: Any = None
    try:
        while True:
            message = generator.send(answer)
            if isinstance(message, Request):
                points = np.asarray(message.points, dtype=float)
                reply: Reply = yield replace(message, points=view.designs(points))
                answer = view.reply(points, reply)
                _note(task, scalar, view, points, reply, found)
                _keep(latest, points, answer)
            elif isinstance(message, HessianRequest):
                answer = yield from view.hessian(message)
            elif isinstance(message, Iterate):
                at = np.asarray(message.point, dtype=float)
                answer = stands(small, latest.get(at.tobytes()), least_size=ONE_RANGE)
                if answer.meets_conditions:
                    _take(scalar, view, at, latest, found)
            else:
                answer = yield message
    except StopIteration as end:
        ending: Ending = end.value
        found.claim = ending.claim
        return ending
    finally:
        generator.close()


def with_goals(task: Task, scalar: Scalar) -> Scalar:
    """Return (1) with t no lower than the goals allow: below them nothing is won."""
    if not task.goals or not scalar.has_extra:
        return scalar
    own = scalar.capped[scalar.reach[scalar.capped] > 0.0]
    least = ((np.array(task.goals)[own] - scalar.ceiling[own]) / scalar.reach[own]).max(initial=-np.inf)
    return replace(scalar, least=max(scalar.least, float(least)))


def _keep(latest: dict[bytes, Seen], points: FloatArray, reply: Reply) -> None:
    """Keep what is known of the last designs whose derivatives were asked for."""
    if reply.gradient is None or reply.jacobian is None:
        return
    for place, point in enumerate(points):
        latest[point.tobytes()] = Seen(
            point, float(reply.objective[place]), reply.rows[place], reply.gradient[place], reply.jacobian[place]
        )
    while len(latest) > MOST_LATEST:
        latest.pop(next(iter(latest)))


def _note(task: Task, scalar: Scalar, view: ScalarView, points: FloatArray, reply: Reply, found: Solved) -> None:
    """Keep the best feasible design of those asked for, as long as none meets the conditions."""
    if found.is_met:
        return
    values, v = trade_offs(task, reply)
    for place in np.flatnonzero(v <= 0.0):
        worth = float(scalar.worth(values[[place]])[0])
        if worth < found.worth:
            found.x, found.values, found.worth = view.designs(points[[place]])[0], values[place], worth


def _take(scalar: Scalar, view: ScalarView, at: FloatArray, latest: dict[bytes, Seen], found: Solved) -> None:
    """Take an iterate that meets the conditions for the result."""
    seen = latest[at.tobytes()]
    found.x, found.values, found.is_met = view.designs(at[np.newaxis])[0], view.values(seen), True
    found.worth = float(scalar.worth(found.values[np.newaxis])[0])


def _own_rows(task: Task) -> NDArray[np.int64]:
    """Return the rows that are no objectives."""
    return np.setdiff1d(np.arange(len(task.row_lower)), np.array(task.objectives, dtype=np.int64))


class ScalarView:
    """The task seen as (1)."""

    def __init__(self, task: Task, scalar: Scalar) -> None:
        self.task, self.scalar = task, scalar
        self.own = _own_rows(task)
        self.places = np.array(task.objectives, dtype=np.int64)
        self.signs = np.array(task.signs)
        self.capped = scalar.capped
        self._latest_values: dict[bytes, FloatArray] = {}

    def values(self, seen: Seen) -> FloatArray:
        """Return the objectives (p,) at a design of the last replies."""
        return self._latest_values[seen.x.tobytes()]

    def designs(self, points: FloatArray) -> FloatArray:
        """Return points without t. Shapes: points (k, n + 1), result (k, n)."""
        return points[:, :-1] if self.scalar.has_extra else points

    def reply(self, points: FloatArray, reply: Reply) -> Reply:
        """Return what a reply says of (1). `points` are (k, n + 1)."""
        scalar, t = self.scalar, points[:, -1] if self.scalar.has_extra else np.zeros(len(points))
        values = minimized(self.task, reply.rows)
        with np.errstate(invalid="ignore", over="ignore"):
            f = values @ scalar.weights + scalar.price * t
            capped = values[:, self.capped] - scalar.reach[self.capped] * t[:, np.newaxis]
        rows = np.hstack([reply.rows[:, self.own], capped])
        told = counted(self.task, values)
        self._latest_values |= {point.tobytes(): own for point, own in zip(points, told, strict=True)}
        while len(self._latest_values) > 4 * MOST_LATEST + len(points):
            self._latest_values.pop(next(iter(self._latest_values)))
        if reply.gradient is None or reply.jacobian is None:
            return Reply(f, rows)
        gradients, jacobians = [], []
        for matrix in reply.jacobian:
            slopes = matrix[self.places]
            signed = (
                slopes.multiply(self.signs[:, np.newaxis]).tocsr()
                if self.task.is_sparse
                else (slopes * self.signs[:, np.newaxis])
            )
            g = np.asarray(signed.T @ scalar.weights).ravel()
            jacobians.append(self._rows(matrix[self.own], signed[self.capped]))
            gradients.append(np.append(g, scalar.price) if scalar.has_extra else g)
        return Reply(f, rows, np.array(gradients), jacobians)

    def _rows(self, own: Any, capped: Any) -> Any:
        """Return the Jacobian of (1)."""
        reach = -self.scalar.reach[self.capped]
        if not self.task.is_sparse:
            both = np.vstack([own, capped])
            if not self.scalar.has_extra:
                return both
            return np.hstack([both, np.concatenate([np.zeros(len(own)), reach])[:, np.newaxis]])
        from scipy import sparse

        both = sparse.vstack([own, capped], format="csr")
        if not self.scalar.has_extra:
            return sparse.csr_array(both)
        column = sparse.csr_array(np.concatenate([np.zeros(own.shape[0]), reach])[:, np.newaxis])
        return sparse.csr_array(sparse.hstack([both, column], format="csr"))

    def hessian(self, message: HessianRequest) -> Generator[HessianRequest, Any, Any]:
        """Ask for the second derivatives of (1)."""
        extra = self.scalar.has_extra
        multipliers = np.zeros(len(self.task.row_lower))
        multipliers[self.own] = message.multipliers[: len(self.own)]
        weights = message.weight * self.scalar.weights
        weights[self.capped] = weights[self.capped] - message.multipliers[len(self.own) :]
        multipliers[self.places] = -weights * self.signs
        direction = message.direction
        if direction is not None:
            cut = direction[:-1] if extra else direction
            found = yield HessianRequest(self._design(message.point), multipliers, 0.0, cut)
            return np.append(found, 0.0) if extra else found
        hessian = yield HessianRequest(self._design(message.point), multipliers, 0.0)
        if not extra:
            return hessian
        if isinstance(hessian, np.ndarray):
            return np.pad(hessian, ((0, 1), (0, 1)))
        from scipy import sparse

        return sparse.csr_array(sparse.block_diag([hessian, sparse.csr_array((1, 1))], format="csr"))

    def _design(self, point: FloatArray) -> FloatArray:
        return point[:-1] if self.scalar.has_extra else point
