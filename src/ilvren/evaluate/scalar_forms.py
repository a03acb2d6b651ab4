"""Derivatives of problems in few scalars: all of them in one compiled function of floats each."""

from __future__ import annotations

from collections.abc import Callable
from typing import TYPE_CHECKING

import numpy as np
from numpy.typing import NDArray

from ilvren.evaluate.evaluation import Evaluation
from ilvren.evaluate.forms import form_of
from ilvren.formula import gradient, weighted_gradient

if TYPE_CHECKING:
    from ilvren.evaluate.as_written import AsWritten
    from ilvren.evaluate.forms import Form

__all__ = ["ScalarForms"]

FloatArray = NDArray[np.float64]

# A gradient and Jacobian of so few entries is computed whole, zeros and all: quicker than putting them in place.
FEW_DERIVATIVES = 400


class ScalarForms:
    """The compiled functions of one problem without arrays."""

    def __init__(self, written: AsWritten) -> None:
        self._written, self._problem = written, written.problem
        self._first: tuple[Form, NDArray[np.int64] | None] | None = None

    def derivatives(self, point: FloatArray, sign: float) -> Evaluation:
        """Return values, gradient and Jacobian at a design (n,), the objective times `sign`."""
        if self._first is None:
            self._first = self._first_plan()
        form, places = self._first
        found = np.array(form(point.tolist()))
        n, own = self._problem.size, len(self._written.value_roots)
        has_objective = self._problem.objective is not None
        if places is None:
            matrix = found[own:].reshape(-1, n)
        else:
            matrix = np.zeros((self._problem.row_count + 1, n))
            matrix.reshape(-1)[places] = found[own:]
        slope, objective = matrix[0], 0.0
        if has_objective:
            objective = sign * float(found[0])
            slope = slope if sign > 0.0 else 0.0 - slope  # a zero turned round is no −0.0
        return Evaluation(objective, found[has_objective:own], slope, matrix[1:])

    def _first_plan(self) -> tuple[Form, NDArray[np.int64] | None]:
        """Return the form of values and derivatives, and where these stand in the matrix of gradient and Jacobian; None
        for all of a small one, zeros included."""
        problem = self._problem
        graph, n = problem.graph, problem.size
        zero = graph.constant(0.0)
        key = ("first derivatives", tuple(self._written.value_roots), problem.row_count)
        if key not in graph.compiled:
            nodes = [zero if problem.objective is None else problem.objective.node]
            nodes += [block.node for block in problem.row_blocks]
            graph.compiled[key] = [gradient(graph, node) for node in nodes]
        slopes: list[dict[int, int]] = graph.compiled[key]
        roots = list(self._written.value_roots)
        if len(slopes) * n <= FEW_DERIVATIVES:
            roots += [own.get(column, zero) for own in slopes for column in range(n)]
            return self._written.form_of_nodes(roots), None
        places = [row * n + column for row, own in enumerate(slopes) for column in sorted(own)]
        roots += [own[column] for own in slopes for column in sorted(own)]
        return self._written.form_of_nodes(roots), np.array(places, dtype=np.int64)

    def hessian(self, point: FloatArray, multipliers: FloatArray, weight: float) -> FloatArray:
        """Return the Hessian (n, n) of weight · f − multipliers'c at a design (n,), f as written."""
        n, weights = self._problem.size, np.concatenate([[weight], -multipliers])
        values, (rows, columns) = self._weighted_second(point, weights, tuple(range(len(weights))))
        if not np.isfinite(values).all() and not weights.all():
            # An invalid entry of a row without weight does not matter: 0 · NaN is left out.
            values, (rows, columns) = self._weighted_second(point, weights, tuple(np.flatnonzero(weights).tolist()))
        found = np.zeros((n, n))
        found[rows, columns] = found[columns, rows] = values
        return found

    def _weighted_second(
        self, point: FloatArray, weights: FloatArray, places: tuple[int, ...]
    ) -> tuple[FloatArray, tuple[NDArray[np.int64], NDArray[np.int64]]]:
        """Return the second derivatives of what stands in some places (0 the objective), weighed and added up, that
        are not zero everywhere, and where they stand in the lower triangle."""
        form, entries = self._written.kept(("second derivatives", places), lambda: self._second_plan(places))
        return np.array(form(point.tolist(), weights.tolist()), dtype=float), entries

    def _second_plan(self, places: tuple[int, ...]) -> tuple[Form, tuple[NDArray[np.int64], NDArray[np.int64]]]:
        problem = self._problem
        graph = problem.graph
        key = ("second derivatives", tuple(self._written.value_roots), problem.row_count, places)
        if key not in graph.compiled:  # derived once for all gates of these formulas
            nodes = [graph.constant(0.0) if problem.objective is None else problem.objective.node]
            nodes += [block.node for block in problem.row_blocks]
            seeds: dict[int, int] = {}
            for place in places:
                own = graph.input("weight", place)
                seeds[nodes[place]] = graph.apply("add", seeds[nodes[place]], own) if nodes[place] in seeds else own
            graph.compiled[key] = [
                (i, j, second)
                for i, slope in weighted_gradient(graph, seeds).items()
                for j, second in gradient(graph, slope, range(i + 1)).items()
            ]
        found: list[tuple[int, int, int]] = graph.compiled[key]
        rows, columns = (np.array([item[k] for item in found], dtype=np.int64) for k in range(2))
        weights = 1 + problem.row_count
        form = form_of(problem, [item[2] for item in found], calls=self._written.calls, weights=weights)
        return form, (rows, columns)

    @property
    def compiled(self) -> Callable[..., tuple[float, ...]]:
        """Return the compiled function behind `derivatives`: floats in, values and derivatives in a row out."""
        if self._first is None:
            self._first = self._first_plan()
        function: Callable[..., tuple[float, ...]] = self._first[0].scalar
        return function
