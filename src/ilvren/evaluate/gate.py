"""Points in, values and exact first derivatives out; each distinct point is computed and counted once."""

from __future__ import annotations

import math
from collections import OrderedDict
from collections.abc import Callable
from dataclasses import dataclass

import numpy as np
from numpy.typing import NDArray

from ilvren.formula import Kink, compile_scalar, gradient, walk
from ilvren.problem import Problem

__all__ = ["Counts", "Evaluation", "Gate"]

FloatArray = NDArray[np.float64]

# Methods come back to the points they just left; older ones are computed again but not counted again.
MOST_KEPT = 4096


@dataclass(frozen=True, slots=True)
class Evaluation:
    """What the problem says at one design; NaN where a value or derivative is invalid.

    `objective` internal (minimized; 0 without an objective), `rows` (m,), `gradient` (n,) and `jacobian`
    (m, n) over all variables, None when they were not asked for.
    """

    objective: float
    rows: FloatArray
    gradient: FloatArray | None = None
    jacobian: FloatArray | None = None

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
            and bool(np.isfinite(self.gradient).all() and np.isfinite(self.jacobian).all())
        )


@dataclass(frozen=True, slots=True)
class Counts:
    """Distinct points at which values and gradients were computed."""

    evaluations: int = 0
    gradients: int = 0


class Gate:
    """Evaluates one problem. Formulas are compiled at the first use: values and derivatives apart."""

    def __init__(self, problem: Problem) -> None:
        self.problem = problem
        self._values: Callable[..., tuple[float, ...]] | None = None
        self._derivatives: Callable[..., tuple[float, ...]] | None = None
        self._value_roots = [row.node for row in problem.rows]
        self._sign = 1.0
        if problem.objective is not None:
            self._sign = float(problem.objective.sign)
            self._value_roots.insert(0, problem.objective.node)
        self._derivative_roots: list[int] = []
        self._cache: OrderedDict[bytes, Evaluation] = OrderedDict()
        self._counted_values: set[bytes] = set()
        self._counted_gradients: set[bytes] = set()

    @property
    def counts(self) -> Counts:
        """Return how many distinct points were computed so far."""
        return Counts(len(self._counted_values), len(self._counted_gradients))

    def known(self, point: FloatArray, *, derivatives: bool = False) -> Evaluation | None:
        """Return what is kept of a point, if it is all that is wanted."""
        kept = self._cache.get(point.tobytes())
        return kept if kept is not None and (kept.gradient is not None or not derivatives) else None

    def has_counted(self, point: FloatArray) -> bool:
        """Return whether a design was computed before, kept or not."""
        return point.tobytes() in self._counted_values

    def evaluate(self, point: FloatArray, *, derivatives: bool = False) -> Evaluation:
        """Return the values, and with `derivatives` the gradient and Jacobian, at a full design (n,)."""
        key = point.tobytes()
        kept = self._cache.get(key)
        if kept is not None and (kept.gradient is not None or not derivatives):
            return kept
        found = self._with_derivatives(point) if derivatives else self._only_values(point)
        self._keep(key, found)
        return found

    def adopt(self, point: FloatArray, evaluation: Evaluation) -> None:
        """Take an evaluation as computed: keep and count it."""
        self._keep(point.tobytes(), evaluation)

    def _keep(self, key: bytes, evaluation: Evaluation) -> None:
        if len(self._cache) >= MOST_KEPT:
            self._cache.popitem(last=False)
        self._cache[key] = evaluation
        self._counted_values.add(key)
        if evaluation.gradient is not None:
            self._counted_gradients.add(key)

    def survey(self, points: FloatArray) -> tuple[FloatArray, FloatArray]:
        """Return objective (k,) and rows (k, m) at many designs (k, n), neither kept nor counted: for pictures."""
        if self._values is None:
            self._values = self._compiled(self._value_roots)
        found = [self._split(self._call(self._values, self._value_roots, point)) for point in points]
        m = len(self.problem.rows)
        return np.array([e.objective for e in found]), np.array([e.rows for e in found]).reshape(len(points), m)

    def kinks(self, point: FloatArray, radii: FloatArray) -> list[Kink]:
        """Return the operations that change their branch within `radii` (n,) of a design, each variable moved
        alone and all together; empty for formulas without branches."""
        here = {kink.node: kink for kink in self._branches(point)}
        if not here:
            return []
        moves = [
            sign * radius * unit for unit, radius in zip(np.eye(len(point)), radii, strict=True) for sign in (1, -1)
        ]
        moves += [radii, -radii]
        found = {node for node, kink in here.items() if kink.gap == 0.0}
        for move in moves:
            for kink in self._branches(point + move):
                before = here.get(kink.node)
                if before is not None and not kink.gap * before.gap > 0.0:
                    found.add(kink.node)
        return [here[node] for node in sorted(found)]

    def _branches(self, point: FloatArray) -> tuple[Kink, ...]:
        return walk(self.problem.graph, self._value_roots, point.tolist(), self.problem.parameter_values).kinks

    def compiled_derivatives(self) -> Callable[..., tuple[float, ...]]:
        """Return the compiled function behind `evaluate(…, derivatives=True)`: floats in, all results in a row."""
        if self._derivatives is None:
            self._prepare_derivatives()
        assert self._derivatives is not None
        return self._derivatives

    # ---- compiled forms -----------------------------------------------------------------------

    def _only_values(self, point: FloatArray) -> Evaluation:
        if self._values is None:
            self._values = self._compiled(self._value_roots)
        return self._split(self._call(self._values, self._value_roots, point))

    def _split(self, values: tuple[float, ...]) -> Evaluation:
        if self.problem.objective is None:
            return Evaluation(0.0, np.array(values))
        return Evaluation(self._sign * values[0], np.array(values[1:]))

    def _with_derivatives(self, point: FloatArray) -> Evaluation:
        found = np.array(self._call(self.compiled_derivatives(), self._derivative_roots, point))
        n, m, own = len(self.problem.variables), len(self.problem.rows), len(self._value_roots)
        has_objective = own - m
        gradient_array = found[own : own + n]
        if self._sign < 0.0:
            gradient_array = 0.0 - gradient_array
        return Evaluation(
            self._sign * float(found[0]) if has_objective else 0.0,
            found[has_objective:own],
            gradient_array,
            found[own + n :].reshape(m, n),
        )

    def _prepare_derivatives(self) -> None:
        """Compile values, gradient and Jacobian into one function; what is zero everywhere is a constant of it."""
        graph, n = self.problem.graph, len(self.problem.variables)
        zero = graph.constant(0.0)
        roots = list(self._value_roots)
        differentiated = [row.node for row in self.problem.rows]
        differentiated.insert(0, zero if self.problem.objective is None else self.problem.objective.node)
        for node in differentiated:
            slopes = gradient(graph, node)
            roots.extend(slopes.get(index, zero) for index in range(n))
        self._derivative_roots = roots
        self._derivatives = self._compiled(roots)

    def _compiled(self, roots: list[int]) -> Callable[..., tuple[float, ...]]:
        code = compile_scalar(self.problem.graph, roots, len(self.problem.variables))
        fixed = walk(self.problem.graph, code.constants, (), self.problem.parameter_values)
        return code.bound(fixed.values)

    def _call(
        self, function: Callable[..., tuple[float, ...]], roots: list[int], point: FloatArray
    ) -> tuple[float, ...]:
        try:
            return function(*point.tolist())
        except (ArithmeticError, ValueError):  # what Python refuses, or what would vanish unseen
            return walk(self.problem.graph, roots, point.tolist(), self.problem.parameter_values).values
