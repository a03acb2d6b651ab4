"""What formulas see of a call: outputs, and products with first and second derivatives."""

from __future__ import annotations

import math
from collections.abc import Sequence
from typing import TYPE_CHECKING, Any, Protocol

import numpy as np
from numpy.typing import NDArray

from ilvren.models.hessians import Secants, differenced_along, differenced_hessian

if TYPE_CHECKING:
    from ilvren.models.source import ModelSource

__all__ = ["Call", "Derivatives", "Point"]

Array = NDArray[Any]
Shape = tuple[int, ...]


class Point:
    """Inputs and outputs of one call; its Jacobian (output size, input size) is computed when asked for."""

    def __init__(self, inputs: list[Array], outputs: list[Array], reason: str, *, is_spoilt: bool = False) -> None:
        self.inputs = inputs
        self.outputs = outputs
        self.reason = reason
        self.is_spoilt = is_spoilt
        self.jacobian: Any = None
        # Second derivatives of the outputs, and what they were weighted with and found from.
        self.hessian: tuple[object, Array] | None = None


class Derivatives(Protocol):
    """Where the derivatives of a call come from: its source's calls so far."""

    source: ModelSource
    pattern: Any
    secants: Secants | None
    hessian_step: float

    @property
    def offsets(self) -> tuple[NDArray[np.int64], NDArray[np.int64]]:
        """Return where each input and each output begins in flat rows of all."""

    def jacobian(self, point: Point) -> Any:
        """Return the Jacobian (output size, input size) at a point."""

    def jacobian_at(self, flat: Array) -> Any:
        """Return the Jacobian at inputs (q,) in one row."""


class Call:
    """What formulas see of a call, or of a batch of calls."""

    def __init__(self, calls: Derivatives, points: list[Point], *, is_batch: bool) -> None:
        self._calls = calls
        self._points = points
        self._is_batch = is_batch

    @property
    def inputs(self) -> list[Array]:
        """Return the inputs of the first point. They have the shapes of the inputs."""
        return self._points[0].inputs

    @property
    def reason(self) -> str:
        """Return why an output is not finite, "" when all are."""
        return next((point.reason for point in self._points if point.reason), "")

    @property
    def is_spoilt(self) -> bool:
        """Return whether the function was not called, its inputs not being finite or nothing needing it."""
        return self._points[0].is_spoilt and not self._is_batch

    def output(self, place: object) -> Array:
        """Return an output by its place. It has the shape of the output."""
        assert isinstance(place, int)
        if self._is_batch:
            return np.stack([point.outputs[place] for point in self._points])
        return self._points[0].outputs[place]

    def pattern(self) -> Any:
        """Return which outputs depend on which inputs, as known so far: from the derivatives at this point, and at
        all points before. None when all may."""
        self._calls.jacobian(self._points[0])
        return self._calls.pattern

    def vjp(self, detail: tuple[int, tuple[int, ...]], adjoints: Sequence[Array]) -> Array:
        """Return the adjoint of an input: Σ over outputs of their Jacobian, transposed, times their adjoint. `detail`
        is (place of the input, places of the outputs). All have the shapes of outputs and inputs."""
        place, places = detail
        return self._product(adjoints, places, (place,), of=self._calls.source.outputs, to=self._calls.source.inputs)

    def jvp(self, detail: tuple[int, tuple[int, ...]], tangents: Sequence[Array]) -> Array:
        """Return the change of an output for changes of inputs. `detail` is (place of the output, of the inputs). All
        have the shapes of inputs and outputs."""
        place, places = detail
        return self._product(
            tangents, places, (place,), of=self._calls.source.inputs, to=self._calls.source.outputs, forward=True
        )

    def hvp(self, detail: tuple[int, tuple[int, ...], tuple[int, ...]], given: Sequence[Array]) -> Array:
        """Return the change of the adjoint of an input that its outputs' second derivatives make, for adjoints of
        outputs and changes of inputs, in this order: a batch of changes, or one. `detail` is (place of the input, of
        the outputs, of the inputs that change). A batch has an axis more, in front."""
        place, outputs, inputs = detail
        calls, point = self._calls, self._points[0]
        assert not self._is_batch, "second derivatives are asked for at one design"
        starts, ends = calls.offsets
        weights = np.zeros(int(ends[-1]))
        for output, value in zip(outputs, given, strict=False):
            weights[ends[output] : ends[output + 1]] = np.ravel(value)
        shape = calls.source.inputs[place][1]
        batch = next(
            (
                len(value)
                for value, k in zip(given[len(outputs) :], inputs, strict=True)
                if np.ndim(value) > len(calls.source.inputs[k][1])
            ),
            None,
        )
        moved = np.zeros((batch or 1, int(starts[-1])))
        for k, value in zip(inputs, given[len(outputs) :], strict=True):
            moved[:, starts[k] : starts[k + 1]] = np.reshape(value, (-1, int(starts[k + 1] - starts[k])))
        if batch is None and calls.secants is None:  # one product: two Jacobians, not two for each input
            u = np.concatenate([np.ravel(value) for value in point.inputs])
            whole = differenced_along(calls.jacobian_at, u, weights, moved[0], step=calls.hessian_step)[np.newaxis]
        else:
            whole = moved @ self._hessian(point, weights)
        lead = () if batch is None else (batch,)
        return np.reshape(whole[:, starts[place] : starts[place + 1]], (*lead, *shape))

    def _hessian(self, point: Point, weights: Array) -> Array:
        """Return the second derivatives (input size, input size) of the weighted outputs, kept until asked with other
        weights."""
        calls = self._calls
        u, here = np.concatenate([np.ravel(value) for value in point.inputs]), calls.jacobian(point)
        if calls.secants is not None:
            calls.secants.visit(u, here)
        key = (weights.tobytes(), calls.secants is not None and calls.secants.count, calls.hessian_step)
        if point.hessian is None or point.hessian[0] != key:
            if calls.secants is not None:
                found = calls.secants.matrix(u, here, weights)
            else:
                found = differenced_hessian(calls.jacobian_at, u, weights, step=calls.hessian_step)
            if (
                calls.pattern is not None
            ):  # outputs that share no input's derivative have no second derivative by two inputs
                found = np.where((calls.pattern.astype(np.int64).T @ calls.pattern).toarray() != 0, found, 0.0)
            point.hessian = (key, found)
        return point.hessian[1]

    def _product(
        self,
        given: Sequence[Array],
        places: tuple[int, ...],
        wanted: tuple[int],
        *,
        of: Sequence[tuple[str, Shape]],
        to: Sequence[tuple[str, Shape]],
        forward: bool = False,
    ) -> Array:
        shapes = [of[place][1] for place in places]
        given = [np.asarray(value, dtype=float) for value in given]
        batch = next(
            (len(value) for value, shape in zip(given, shapes, strict=True) if value.ndim > len(shape)),
            len(self._points) if self._is_batch else None,
        )
        count = batch or 1
        starts = np.concatenate([[0], np.cumsum([math.prod(shape) for _, shape in of])])
        block = np.zeros((count, int(starts[-1])))
        for value, shape, place in zip(given, shapes, places, strict=True):
            lead = (count,) if value.ndim > len(shape) else (1,)
            block[:, starts[place] : starts[place + 1]] = value.reshape(*lead, -1)
        if self._is_batch:
            rows = [self._times(self._calls.jacobian(p), block[i], forward) for i, p in enumerate(self._points)]
            found = np.array(rows)
        else:
            found = self._times(self._calls.jacobian(self._points[0]), block, forward)
        ends = np.concatenate([[0], np.cumsum([math.prod(shape) for _, shape in to])])
        shape = to[wanted[0]][1]
        part = found[:, ends[wanted[0]] : ends[wanted[0] + 1]]
        return part.reshape(count, *shape) if batch is not None else part.reshape(shape)

    @staticmethod
    def _times(matrix: Any, block: Array, forward: bool) -> Array:
        return np.asarray(block @ (matrix.T if forward else matrix))
