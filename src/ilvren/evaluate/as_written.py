"""Values, derivatives, products and batches of a problem at designs, everything as written; nothing is counted."""

from __future__ import annotations

import math
from collections.abc import Callable, Iterator, Sequence
from typing import TYPE_CHECKING, Any

import numpy as np
from numpy.typing import NDArray

from ilvren.algebra import central_along
from ilvren.errors import RequestError, nearest
from ilvren.evaluate.forms import Form, form_of
from ilvren.evaluate.second_derivatives import has_second_derivatives
from ilvren.formula import Trouble, gradient, interpret
from ilvren.records import dataclass

if TYPE_CHECKING:
    from ilvren.models import Calls
    from ilvren.problem import Problem

__all__ = ["AsWritten", "Batch"]

FloatArray = NDArray[np.float64]

# Designs of a batch that are computed at once: few enough for their arrays to stay in the processor's cache.
BATCH_NUMBERS = 65_536
# A model slower than this is not asked for derivatives only to learn their pattern.
SLOW_SECONDS = 1.0


@dataclass(frozen=True, eq=False)
class Batch:
    """Values at many designs: `objective` (k,) as written (NaN without an objective), `rows` (k, m)."""

    objective: FloatArray
    rows: FloatArray


class AsWritten:
    """Evaluates one problem as it is written, at designs (n,). Formulas are compiled at the first use, each kind of
    question apart. `calls` are those of a run that goes on; without them new ones begin."""

    def __init__(self, problem: Problem, calls: Sequence[Calls] | None = None) -> None:
        self.problem = problem
        self.calls = problem.calls() if calls is None else tuple(calls)
        self.value_roots = [block.node for block in problem.row_blocks]
        if problem.objective is not None:
            self.value_roots.insert(0, problem.objective.node)
        self._forms: dict[object, Any] = {}

    def values(self, point: Sequence[float] | FloatArray) -> dict[str, Any]:
        """Return {name: value} of every derived value, objective and constraint at a design (n,): floats, or arrays
        of the entry's shape; NaN where invalid."""
        problem = self.problem
        nodes = self.kept("entries", lambda: self._entry_nodes())
        form: Form = self.kept("all values", lambda: self.form_of_nodes(list(nodes.values())))
        found = form(problem.split(self._design(point)))
        return {name: _valid(value) for name, value in zip(nodes, found, strict=True)}

    def gradient(self, point: Sequence[float] | FloatArray, name: str | None = None) -> FloatArray:
        """Return the gradient (n,) at a design: of the objective as written, or of a scalar entry by name.

        Raises RequestError for an unknown name and for an entry that is not one number.
        """
        graph = self.problem.graph
        node = self._node(name)
        if graph.shape(node):
            raise RequestError(f'"{name}" is not one number: it has no gradient', advice="`jacobian` gives its rows")
        slopes = self.kept(f"slopes {node}", lambda: gradient(graph, node))
        form: Form = self.kept(f"gradient {node}", lambda: self.form_of_nodes(list(slopes.values())))
        return self._spread(form(self.problem.split(self._design(point))), list(slopes))

    def jacobian(self, point: Sequence[float] | FloatArray) -> Any:
        """Return the Jacobian of all rows, a SciPy CSR array (m, n), at a design (n,).

        Raises RequestError where it has too many non-zeros to be formed.
        """
        from scipy.sparse import csr_array

        variables = self.problem.split(self._design(point))
        while True:
            plan = self.jacobian_plan()
            before = self._pattern_version()
            name = f"jacobian {before}"
            if name not in self._forms:
                self._forms[name] = plan.forms(self.problem, self.calls)
            forms = self._forms[name]
            data = plan.entries(self.problem, forms, variables)
            if self._pattern_version() == before:
                break  # else a model showed derivatives it had not shown before: once more with the wider pattern
        return csr_array((data, plan.pattern.indices, plan.pattern.indptr), shape=plan.pattern.shape)

    def hessian(
        self, point: Sequence[float] | FloatArray, multipliers: FloatArray | None = None, *, weight: float = 1.0
    ) -> Any:
        """Return the Hessian of weight · objective − Σ multipliers · rows, a symmetric SciPy CSR array (n, n), at a
        design (n,); the objective as written, `multipliers` (m,), 0 when left out.

        Second derivatives of models are differences of exact or estimated first ones; those of formulas are exact.
        """
        from scipy.sparse import csr_array

        design, given = self._design(point), self._lagrangian_weights(multipliers, weight)
        while True:
            plan = self.hessian_plan()
            before = self._pattern_version()
            if plan.is_differenced:
                data = self._hessian_by_differences(plan, design, given)
            else:
                form = self.kept("hessian", lambda: self.hessian_plan().form(self.problem, self.calls))
                data = plan.entries(self.problem, form, self.problem.split(design), given)
            if self._pattern_version() == before:
                break
        return csr_array((data, plan.pattern.indices, plan.pattern.indptr), shape=plan.pattern.shape)

    def jacobian_product(self, point: Sequence[float] | FloatArray, direction: FloatArray) -> FloatArray:
        """Return J·direction (m,) at a design, without forming J."""
        from ilvren.evaluate.matrices import tangent_inputs
        from ilvren.formula import tangents

        problem = self.problem
        nodes = [block.node for block in problem.row_blocks]
        found = self.kept("moved rows", lambda: tangents(problem.graph, nodes, tangent_inputs(problem)))
        kept = [node for node in found if node is not None]
        form: Form = self.kept("jacobian product", lambda: self.form_of_nodes(kept))
        values = iter(form(problem.split(self._design(point)), (), problem.split(self._design(direction))))
        parts = [
            np.zeros(block.size) if node is None else np.ravel(np.broadcast_to(next(values), block.shape))
            for node, block in zip(found, problem.row_blocks, strict=True)
        ]
        return np.concatenate(parts) if parts else np.zeros(0)

    def transposed_product(self, point: Sequence[float] | FloatArray, multipliers: FloatArray) -> FloatArray:
        """Return Jᵀ·multipliers (n,) at a design, without forming J."""
        return self._lagrangian_slope(self._design(point), self._weights(multipliers, 0.0))

    def hessian_product(
        self,
        point: Sequence[float] | FloatArray,
        direction: FloatArray,
        multipliers: FloatArray | None = None,
        *,
        weight: float = 1.0,
    ) -> FloatArray:
        """Return H·direction (n,) for the Hessian that `hessian` gives, without forming it."""
        from ilvren.evaluate.matrices import tangent_inputs
        from ilvren.formula import tangents

        problem, design = self.problem, self._design(point)
        given = self._lagrangian_weights(multipliers, weight)
        if not has_second_derivatives(problem):
            return self._slope_change(design, self._design(direction), given)
        slopes = self._lagrangian_nodes()
        found = self.kept(
            "moved slopes", lambda: tangents(problem.graph, list(slopes.values()), tangent_inputs(problem))
        )
        moved = [index for index, node in zip(slopes, found, strict=True) if node is not None]
        form: Form = self.kept("hessian product", lambda: self.form_of_nodes([n for n in found if n is not None]))
        return self._spread(form(problem.split(design), given, problem.split(self._design(direction))), moved)

    def batch(self, points: FloatArray, *, rows: NDArray[np.int64] | None = None) -> Batch:
        """Return objective and rows at many designs (k, n) in a few vectorised calls; of the rows only those at the
        places `rows`, when given."""
        problem = self.problem
        form: Form = self.kept("batch", lambda: self.form_of_nodes(self.value_roots, ("variable",)))
        shapes = [block.shape for block in problem.row_blocks]
        if problem.objective is not None:
            shapes.insert(0, ())
        has_objective = problem.objective is not None
        count = problem.row_count if rows is None else len(rows)
        objective, found = np.full(len(points), np.nan), np.empty((len(points), count))
        for first, last, values in self._in_parts(form, points, shapes):
            if has_objective:
                objective[first:last] = values[0][:, 0]
            own = values[has_objective:]
            if rows is None:
                for block, value in zip(problem.row_blocks, own, strict=True):
                    found[first:last, block.first : block.first + block.size] = value
            elif count:
                found[first:last] = np.concatenate(
                    [np.broadcast_to(v, (last - first, v.shape[1])) for v in own], axis=1
                )[:, rows]
        return Batch(objective, found)

    def entry_batch(self, name: str | None, points: FloatArray) -> FloatArray:
        """Return the values (k, size) of an entry (the objective without a name), as written, at designs (k, n)."""
        node = self._node(name)
        form: Form = self.kept(f"batch {node}", lambda: self.form_of_nodes([node], ("variable",)))
        shape = self.problem.graph.shape(node)
        found = np.empty((len(points), math.prod(shape)))
        for first, last, values in self._in_parts(form, points, [shape]):
            found[first:last] = values[0]
        return found

    def entry_node(self, name: str) -> int:
        """Return the node of a derived value, objective or constraint. Raises RequestError for an unknown name."""
        return self._node(name)

    def node_batch(self, nodes: Sequence[int], points: FloatArray) -> list[FloatArray]:
        """Return the values (k, size) of some nodes of the graph at designs (k, n)."""
        if not nodes:
            return []
        form = self.form_of_nodes(list(nodes), ("variable",))
        shapes = [self.problem.graph.shape(node) for node in nodes]
        found = [np.empty((len(points), math.prod(shape))) for shape in shapes]
        for first, last, values in self._in_parts(form, points, shapes):
            for column, value in zip(found, values, strict=True):
                column[first:last] = value
        return found

    def _in_parts(
        self, form: Form, points: FloatArray, shapes: Sequence[tuple[int, ...]]
    ) -> Iterator[tuple[int, int, list[FloatArray]]]:
        """Yield (first, last, values of each root as (k or 1, size)) for parts of the designs (k, n)."""
        problem = self.problem
        points = np.asarray(points, dtype=float)
        if points.ndim != 2 or points.shape[1] != problem.size:
            raise RequestError(f"designs of shape {points.shape} are given, expected is (k, {problem.size})")
        largest = max(*(block.size for block in problem.blocks), *(math.prod(shape) for shape in shapes), 1)
        step = max(1, BATCH_NUMBERS // largest)
        for first in range(0, len(points), step):
            part = points[first : first + step]
            columns = part.T if part.strides[0] == part.itemsize else np.ascontiguousarray(part.T)
            given = [
                columns[block.first : block.first + block.size].T.reshape(len(part), *block.shape)
                if block.shape
                else columns[block.first]
                for block in problem.blocks
            ]
            values = []
            for value, shape in zip(form(given), shapes, strict=True):
                array = np.asarray(value)
                if not np.isfinite(array).all():
                    array = np.where(np.isfinite(array), array, np.nan)
                lead = array.shape[: array.ndim - len(shape)]
                values.append(array.reshape(lead[0] if lead else 1, math.prod(shape)))
            yield first, first + len(part), values

    def jacobian_plan(self) -> Any:
        """Return the pattern and colours of the Jacobian. Raises RequestError where it is too large to be formed."""
        from ilvren.evaluate.matrices import JacobianPlan

        return self._plan("jacobian plan", JacobianPlan)

    def hessian_plan(self) -> Any:
        """Return the pattern and colours of the Lagrangian's Hessian. Raises RequestError as `jacobian_plan` does."""
        from ilvren.evaluate.matrices import HessianPlan

        return self._plan("hessian plan", HessianPlan)

    def slope_trouble(self, point: FloatArray) -> tuple[str, str, Trouble] | None:
        """Return (entry, variable, trouble) of the first derivative of the objective or a constraint at a design that
        is not finite while the values are, or None."""
        problem = self.problem
        entries = [(problem.objective.name, problem.objective.node)] if problem.objective else []
        entries += [(block.name, block.node) for block in problem.row_blocks]
        variables, models = problem.split(point), problem.with_simulations(self.calls)
        for name, node in entries:
            if problem.graph.shape(node):
                continue
            slopes = dict(sorted(gradient(problem.graph, node).items()))  # the first variable of the file is told
            seen = interpret(problem.graph, list(slopes.values()), variables, problem.parameter_values, models=models)
            for index, value, trouble in zip(slopes, seen.values, seen.troubles, strict=True):
                if trouble is not None:
                    block = problem.blocks[index]
                    place = int(np.argmax(~np.isfinite(np.ravel(value))))
                    return name, block.element(place).name, trouble
        return self._row_slope_trouble(point)

    def _row_slope_trouble(self, point: FloatArray) -> tuple[str, str, Trouble] | None:
        problem = self.problem
        if all(not problem.graph.shape(block.node) for block in problem.row_blocks):
            return None
        plan = self.jacobian_plan()
        bad = np.flatnonzero(~np.isfinite(self.jacobian(point).data))
        if not len(bad):
            return None
        row, column = int(plan.rows[bad[0]]), int(plan.columns[bad[0]])
        slopes = self._lagrangian_nodes()
        weights = np.zeros(problem.row_count)
        weights[row] = 1.0
        seen = interpret(
            problem.graph,
            list(slopes.values()),
            problem.split(point),
            problem.parameter_values,
            weights=self._weights(weights, 0.0),
            models=problem.with_simulations(self.calls),
        )
        trouble = next((item for item in seen.troubles if item is not None), Trouble("", (), math.nan, "", None))
        return problem.rows[row].name, problem.variables[column].name, trouble

    # ---- pieces -------------------------------------------------------------------------------

    def form_of_nodes(self, roots: Sequence[int], batch: Sequence[str] = ()) -> Form:
        """Return the compiled form of some nodes of the graph."""
        return form_of(self.problem, roots, batch, calls=self.calls)

    def kept(self, name: object, make: Callable[[], Any]) -> Any:
        """Return what is kept under a name, made at the first use."""
        if name not in self._forms:
            self._forms[name] = make()
        return self._forms[name]

    def _plan(self, name: str, kind: type) -> Any:
        from ilvren.formula import PatternTooLarge

        self._learn_patterns()
        kept = self.problem.graph.compiled
        # The same nodes may be rows here, and an objective and rows there.
        key = (name, tuple(self.value_roots), self.problem.row_count, self._patterns_known())
        if key not in kept:
            try:
                kept[key] = kind(self.problem)
            except PatternTooLarge:
                raise RequestError(
                    f"the {name.split()[0]} has too many non-zeros to be formed",
                    advice="products with it can still be had: jacobian_product, transposed_product, hessian_product",
                ) from None
        return kept[key]

    def _pattern_version(self) -> int:
        return sum(calls.pattern_version for calls in self.calls)

    def _patterns_known(self) -> tuple[object, ...]:
        """Return what tells the patterns of the models that are known from any others."""
        return tuple(
            None if calls.pattern is None else (calls.pattern.indptr.tobytes(), calls.pattern.indices.tobytes())
            for calls in self.calls
        )

    def _learn_patterns(self) -> None:
        """Let the graph know which outputs of large models depend on which inputs: declared, or seen at the start."""
        problem = self.problem
        for number, node in enumerate(problem.graph.nodes):
            if node.operation != "call" or node.index < 0 or not self.calls[node.index].is_sparse:
                continue
            calls = self.calls[node.index]
            if calls.pattern is None and calls.seconds < SLOW_SECONDS * max(calls.calls, 1):
                given = problem.entry_values(problem.graph.nodes[number].operands, problem.start, self.calls).values
                calls(None, [False] * len(given), given).pattern()
            problem.graph.model_patterns.pop(node.index, None)
            if calls.pattern is not None:
                problem.graph.model_patterns[node.index] = (calls.pattern, *calls.offsets)

    def _design(self, point: Sequence[float] | FloatArray) -> FloatArray:
        design = np.asarray(point, dtype=float)
        if design.shape != (self.problem.size,):
            raise RequestError(f"a design has {self.problem.size} numbers, not the shape {design.shape}")
        return design

    def _node(self, name: str | None) -> int:
        problem = self.problem
        if name is None:
            if problem.objective is None:
                raise RequestError("the problem has no objective", advice="name a derived value or a constraint")
            return problem.objective.node
        nodes = self._entry_nodes()
        if name not in nodes:
            close = nearest(name, nodes)
            raise RequestError(f'no entry "{name}"', advice=f'did you mean "{close}"?' if close else None)
        return nodes[name]

    def _entry_nodes(self) -> dict[str, int]:
        """Return {name: node} of every derived value, output of a model, objective and constraint."""
        problem = self.problem
        nodes = dict(problem.outputs) | {item.name: item.node for item in problem.derived}
        nodes |= {item.name: item.node for item in problem.objectives}
        return nodes | {block.name: block.node for block in problem.row_blocks}

    def _spread(self, found: Sequence[Any], indices: Sequence[int]) -> FloatArray:
        result = np.zeros(self.problem.size)
        for index, value in zip(indices, found, strict=True):
            block = self.problem.blocks[index]
            result[block.first : block.first + block.size] = np.ravel(value)
        return result

    def _weights(self, multipliers: FloatArray | None, weight: float) -> list[Any]:
        m = self.problem.row_count
        given = np.zeros(m) if multipliers is None else np.asarray(multipliers, dtype=float)
        if given.shape != (m,):
            raise RequestError(f"there are {m} rows, not multipliers of shape {given.shape}")
        parts: list[Any] = [np.float64(weight)]
        for block in self.problem.row_blocks:
            part = given[block.first : block.first + block.size].reshape(block.shape)
            parts.append(part if block.shape else np.float64(part))
        return parts

    def _lagrangian_weights(self, multipliers: FloatArray | None, weight: float) -> list[Any]:
        return self._weights(None if multipliers is None else -np.asarray(multipliers, dtype=float), weight)

    def _lagrangian_nodes(self) -> dict[int, int]:
        from ilvren.evaluate.matrices import lagrangian_gradient

        found: dict[int, int] = self.kept("lagrangian nodes", lambda: lagrangian_gradient(self.problem))
        return found

    def _lagrangian_slope(self, design: FloatArray, weights: list[Any]) -> FloatArray:
        nodes = self._lagrangian_nodes()
        form: Form = self.kept("lagrangian", lambda: self.form_of_nodes(list(nodes.values())))
        return self._spread(form(self.problem.split(design), weights), list(nodes))

    def _slope_change(self, design: FloatArray, direction: FloatArray, weights: list[Any]) -> FloatArray:
        """Return H·direction by a central difference of the Lagrangian's gradient."""
        return central_along(lambda there: self._lagrangian_slope(there, weights), design, direction)

    def _hessian_by_differences(self, plan: Any, design: FloatArray, weights: list[Any]) -> FloatArray:
        if not plan.colour_count:
            return np.zeros(plan.pattern.nnz)
        product = np.array([self._slope_change(design, d, weights) for d in plan.directions(0, plan.colour_count)])
        rows, colours = plan.places
        found: FloatArray = product[colours, rows]
        return found


def _valid(value: Any) -> Any:
    """Return a float or an array with NaN for whatever is not finite."""
    if type(value) is float:  # the common case, and a quick one
        return value if value - value == 0.0 else math.nan
    if np.ndim(value) == 0:
        number = float(value)
        return number if math.isfinite(number) else math.nan
    return np.where(np.isfinite(value), value, np.nan)
