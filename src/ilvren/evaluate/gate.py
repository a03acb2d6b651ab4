"""Points in, values and derivatives out; each distinct point is computed and counted once."""

from __future__ import annotations

import math
from collections import OrderedDict
from collections.abc import Callable, Iterator, Sequence
from dataclasses import dataclass
from typing import Any

import numpy as np
from numpy.typing import NDArray

from ilvren.errors import RequestError
from ilvren.evaluate.forms import Form, form_of
from ilvren.formula import Kink, Trouble, gradient, walk
from ilvren.problem import Problem

__all__ = ["MOST_DENSE", "Batch", "Counts", "Evaluation", "Gate"]

FloatArray = NDArray[np.float64]

# Methods come back to the points they just left; older ones are computed again but not counted again.
MOST_KEPT, MOST_KEPT_NUMBERS = 4096, 20_000_000
# Dense Jacobians beyond this many entries are not made; `jacobian` gives the sparse one at any size.
MOST_DENSE = 20_000_000
# A gradient and Jacobian of so few entries is computed whole, zeros and all: quicker than putting them in place.
FEW_DERIVATIVES = 400
# Designs of a batch that are computed at once: few enough for their arrays to stay in the processor's cache.
BATCH_NUMBERS = 65_536
# A model slower than this is not asked for derivatives only to learn their pattern.
SLOW_SECONDS = 1.0


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
    """Distinct points at which values and gradients were computed; the calls that differences took count as
    evaluations."""

    evaluations: int = 0
    gradients: int = 0


@dataclass(frozen=True, slots=True)
class Batch:
    """Values at many designs: `objective` (k,) as written (NaN without an objective), `rows` (k, m)."""

    objective: FloatArray
    rows: FloatArray


class Gate:
    """Evaluates one problem. Formulas are compiled at the first use, each kind of question apart.

    `values`, `gradient`, `jacobian`, `hessian`, the products and `batch` give what is asked at designs (n,), as
    written: they are for users. `evaluate` is for methods: internal signs, kept and counted.
    """

    def __init__(self, problem: Problem) -> None:
        self.problem = problem
        self._sign = 1.0 if problem.objective is None else float(problem.objective.sign)
        self._value_roots = [block.node for block in problem.row_blocks]
        if problem.objective is not None:
            self._value_roots.insert(0, problem.objective.node)
        self._forms: dict[str, Any] = {}
        self._cache: OrderedDict[bytes, Evaluation] = OrderedDict()
        self._counted_values: set[bytes] = set()
        self._counted_gradients: set[bytes] = set()
        self._calls_before = self._difference_calls()
        self._is_scalar = not problem.graph.has_arrays
        n, m = problem.size, problem.row_count
        self._most_kept = max(8, min(MOST_KEPT, MOST_KEPT_NUMBERS // max(n * m + n + m, 1)))

    # ---- for methods --------------------------------------------------------------------------

    @property
    def counts(self) -> Counts:
        """Return how many distinct points were computed so far."""
        extra = self._difference_calls() - self._calls_before
        return Counts(len(self._counted_values) + extra, len(self._counted_gradients))

    def _difference_calls(self) -> int:
        return sum(runner.difference_calls for runner in self.problem.runners)

    def known(self, point: FloatArray, *, derivatives: bool = False) -> Evaluation | None:
        """Return what is kept of a point, if it is all that is wanted."""
        kept = self._cache.get(point.tobytes())
        return kept if kept is not None and (kept.gradient is not None or not derivatives) else None

    def has_counted(self, point: FloatArray) -> bool:
        """Return whether a design was computed before, kept or not."""
        return point.tobytes() in self._counted_values

    def evaluate(self, point: FloatArray, *, derivatives: bool = False) -> Evaluation:
        """Return the values, and with `derivatives` the gradient and a dense Jacobian, at a full design (n,)."""
        key = point.tobytes()
        kept = self._cache.get(key)
        if kept is not None and (kept.gradient is not None or not derivatives):
            return kept
        found = self._with_derivatives(point) if derivatives else self._only_values(point)
        self._keep(key, found)
        return found

    def adopt(self, point: FloatArray, evaluation: Evaluation, *, evaluations: int) -> None:
        """Take an evaluation as computed: keep and count it; `evaluations` were counted with it then."""
        self._keep(point.tobytes(), evaluation)
        self._calls_before = self._difference_calls() - max(evaluations - len(self._counted_values), 0)

    def _keep(self, key: bytes, evaluation: Evaluation) -> None:
        if len(self._cache) >= self._most_kept:
            self._cache.popitem(last=False)
        self._cache[key] = evaluation
        self._counted_values.add(key)
        if evaluation.gradient is not None:
            self._counted_gradients.add(key)

    def survey(self, points: FloatArray) -> tuple[FloatArray, FloatArray]:
        """Return objective (k,), internal, and rows (k, m) at many designs (k, n), neither kept nor counted."""
        found = self.batch(points)
        objective = np.zeros(len(points)) if self.problem.objective is None else self._sign * found.objective
        return objective, found.rows

    def kinks(self, point: FloatArray, radii: FloatArray) -> list[Kink]:
        """Return the operations that change their branch within `radii` (n,) of a design, each variable moved
        alone and all together; empty for formulas without branches."""
        here = {kink.node: kink for kink in self._branches(point)}
        if not here:
            return []
        found = {node for node, kink in here.items() if np.any(np.equal(kink.gap, 0.0))}
        for move in _moves(radii):
            for kink in self._branches(point + move):
                before = here.get(kink.node)
                if before is not None and np.any(~(np.multiply(kink.gap, before.gap) > 0.0)):
                    found.add(kink.node)
        return [here[node] for node in sorted(found)]

    def _branches(self, point: FloatArray) -> tuple[Kink, ...]:
        kinks: tuple[Kink, ...] = self.problem.entry_values(self._value_roots, point).kinks
        return kinks

    # ---- for users ----------------------------------------------------------------------------

    def values(self, point: Sequence[float] | FloatArray) -> dict[str, Any]:
        """Return {name: value} of every derived value, objective and constraint at a design (n,): floats, or arrays
        of the entry's shape; NaN where invalid."""
        return {name: value for name, (value, _) in self.problem.named_values(self._design(point)).items()}

    def gradient(self, point: Sequence[float] | FloatArray, name: str | None = None) -> FloatArray:
        """Return the gradient (n,) at a design: of the objective as written, or of a scalar entry by name.

        Raises RequestError for an unknown name and for an entry that is not one number.
        """
        graph = self.problem.graph
        node = self._node(name)
        if graph.shape(node):
            raise RequestError(f'"{name}" is not one number: it has no gradient', advice="`jacobian` gives its rows")
        slopes = self._kept(f"slopes {node}", lambda: gradient(graph, node))
        form: Form = self._kept(f"gradient {node}", lambda: form_of(self.problem, list(slopes.values())))
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
                self._forms[name] = plan.forms(self.problem)
            forms = self._forms[name]
            data = plan.entries(self.problem, forms, variables)
            if self._pattern_version() == before:
                break  # else a model showed derivatives it had not shown before: once more with the wider pattern
        return csr_array((data, plan.pattern.indices, plan.pattern.indptr), shape=plan.pattern.shape)

    def hessian(
        self, point: Sequence[float] | FloatArray, multipliers: FloatArray | None = None, *, weight: float = 1.0
    ) -> Any:
        """Return the Hessian of weight · objective + Σ multipliers · rows, a symmetric SciPy CSR array (n, n), at a
        design (n,); the objective as written, `multipliers` (m,), 0 when left out.

        Second derivatives through models are differences of exact or estimated first ones.
        """
        from scipy.sparse import csr_array

        design, given = self._design(point), self._weights(multipliers, weight)
        while True:
            plan = self.hessian_plan()
            before = self._pattern_version()
            if plan.has_models:
                data = self._hessian_by_differences(plan, design, given)
            else:
                form = self._kept("hessian", lambda: self.hessian_plan().form(self.problem))
                data = plan.entries(self.problem, form, self.problem.split(design), given)
            if self._pattern_version() == before:
                break
        return csr_array((data, plan.pattern.indices, plan.pattern.indptr), shape=plan.pattern.shape)

    def jacobian_product(self, point: Sequence[float] | FloatArray, direction: FloatArray) -> FloatArray:
        """Return J·direction (m,) at a design, without forming J."""
        from ilvren.evaluate.matrices import tangent_inputs
        from ilvren.formula.forward import tangents

        problem = self.problem
        nodes = [block.node for block in problem.row_blocks]
        found = self._kept("moved rows", lambda: tangents(problem.graph, nodes, tangent_inputs(problem)))
        kept = [node for node in found if node is not None]
        form: Form = self._kept("jacobian product", lambda: form_of(problem, kept))
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
        from ilvren.formula.forward import tangents

        problem, design = self.problem, self._design(point)
        given = self._weights(multipliers, weight)
        if problem.runners:
            return self._slope_change(design, self._design(direction), given)
        slopes = self._lagrangian_nodes()
        found = self._kept(
            "moved slopes", lambda: tangents(problem.graph, list(slopes.values()), tangent_inputs(problem))
        )
        moved = [index for index, node in zip(slopes, found, strict=True) if node is not None]
        form: Form = self._kept("hessian product", lambda: form_of(problem, [n for n in found if n is not None]))
        return self._spread(form(problem.split(design), given, problem.split(self._design(direction))), moved)

    def batch(self, points: FloatArray, *, rows: NDArray[np.int64] | None = None) -> Batch:
        """Return objective and rows at many designs (k, n) in a few vectorised calls; of the rows only those at the
        places `rows`, when given."""
        problem = self.problem
        form: Form = self._kept("batch", lambda: form_of(problem, self._value_roots, ("variable",)))
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
        form: Form = self._kept(f"batch {node}", lambda: form_of(self.problem, [node], ("variable",)))
        shape = self.problem.graph.shape(node)
        found = np.empty((len(points), math.prod(shape)))
        for first, last, values in self._in_parts(form, points, [shape]):
            found[first:last] = values[0]
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
            columns = np.ascontiguousarray(part.T)
            given = [
                columns[block.first : block.first + block.size].T.reshape(len(part), *block.shape)
                if block.shape
                else columns[block.first]
                for block in problem.blocks
            ]
            values = []
            for value, shape in zip(form(given), shapes, strict=True):
                array = np.asarray(value)
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
        variables = problem.split(point)
        for name, node in entries:
            if problem.graph.shape(node):
                continue
            slopes = gradient(problem.graph, node)
            seen = walk(
                problem.graph, list(slopes.values()), variables, problem.parameter_values, models=problem.runners
            )
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
        seen = walk(
            problem.graph,
            list(slopes.values()),
            problem.split(point),
            problem.parameter_values,
            weights=self._weights(weights, 0.0),
            models=problem.runners,
        )
        trouble = next((item for item in seen.troubles if item is not None), Trouble("", (), math.nan, "", None))
        return problem.rows[row].name, problem.variables[column].name, trouble

    # ---- pieces -------------------------------------------------------------------------------

    def _kept(self, name: str, make: Callable[[], Any]) -> Any:
        if name not in self._forms:
            self._forms[name] = make()
        return self._forms[name]

    def _plan(self, name: str, kind: type) -> Any:
        from ilvren.formula.sparsity import PatternTooLarge

        self._learn_patterns()
        kept = self.problem.graph.compiled
        key = (name, tuple(self._value_roots), self._pattern_version())
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
        return sum(runner.pattern_version for runner in self.problem.runners)

    def _learn_patterns(self) -> None:
        """Let the graph know which outputs of large models depend on which inputs: declared, or seen at the start."""
        problem = self.problem
        for number, node in enumerate(problem.graph.nodes):
            if node.operation != "call" or not problem.runners[node.index].is_sparse:
                continue
            runner = problem.runners[node.index]
            if runner.pattern is None and runner.seconds < SLOW_SECONDS * max(runner.calls, 1):
                given = problem.entry_values(problem.graph.nodes[number].operands, problem.start).values
                runner(None, [False] * len(given), given).pattern()
            if runner.pattern is not None:
                starts = [
                    np.concatenate([[0], np.cumsum([math.prod(shape) for _, shape in items])])
                    for items in (runner.facts.inputs, runner.facts.outputs)
                ]
                problem.graph.model_patterns[node.index] = (runner.pattern, *starts)

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
        nodes = {item.name: item.node for item in problem.derived}
        nodes |= {block.name: block.node for block in problem.row_blocks}
        if problem.objective is not None:
            nodes[problem.objective.name] = problem.objective.node
        if name not in nodes:
            from ilvren.errors import nearest

            close = nearest(name, nodes)
            raise RequestError(f'no entry "{name}"', advice=f'did you mean "{close}"?' if close else None)
        return nodes[name]

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

    def _lagrangian_nodes(self) -> dict[int, int]:
        from ilvren.evaluate.matrices import lagrangian_gradient

        found: dict[int, int] = self._kept("lagrangian nodes", lambda: lagrangian_gradient(self.problem))
        return found

    def _lagrangian_slope(self, design: FloatArray, weights: list[Any]) -> FloatArray:
        nodes = self._lagrangian_nodes()
        form: Form = self._kept("lagrangian", lambda: form_of(self.problem, list(nodes.values())))
        return self._spread(form(self.problem.split(design), weights), list(nodes))

    def _slope_change(self, design: FloatArray, direction: FloatArray, weights: list[Any]) -> FloatArray:
        """Return H·direction by a central difference of the Lagrangian's gradient."""
        size = float(np.max(np.abs(design) * (direction != 0.0), initial=0.0)) or 1.0
        length = float(np.max(np.abs(direction), initial=0.0)) or 1.0
        h = float(np.finfo(float).eps) ** (1.0 / 3.0) * size / length
        ahead, behind = (self._lagrangian_slope(design + s * h * direction, weights) for s in (1.0, -1.0))
        return (ahead - behind) / (2.0 * h)

    def _hessian_by_differences(self, plan: Any, design: FloatArray, weights: list[Any]) -> FloatArray:
        if not plan.colour_count:
            return np.zeros(plan.pattern.nnz)
        product = np.array([self._slope_change(design, d, weights) for d in plan.directions(0, plan.colour_count)])
        rows, colours = plan.places
        found: FloatArray = product[colours, rows]
        return found

    def _only_values(self, point: FloatArray) -> Evaluation:
        form: Form = self._kept("values", lambda: form_of(self.problem, self._value_roots))
        return self._evaluation(form(self.problem.split(point)))

    def _evaluation(self, values: Sequence[Any]) -> Evaluation:
        has_objective = self.problem.objective is not None
        objective = self._sign * float(values[0]) if has_objective else 0.0
        own = values[1:] if has_objective else values
        if self._is_scalar:
            return Evaluation(objective, np.array(own, dtype=float))
        return Evaluation(objective, np.concatenate([np.ravel(value) for value in own]) if len(own) else np.zeros(0))

    def _with_derivatives(self, point: FloatArray) -> Evaluation:
        problem = self.problem
        if problem.size * problem.row_count > MOST_DENSE:
            raise RequestError(
                f"a dense Jacobian of {problem.row_count} rows by {problem.size} variables is too large",
                advice="`Gate.jacobian` gives the sparse one",
            )
        if self._is_scalar:
            return self._scalar_derivatives(point)
        known = self._cache.get(point.tobytes()) or self._only_values(point)
        slope = self._sign * self.gradient(point) if problem.objective is not None else np.zeros(problem.size)
        jacobian = self.jacobian(point).toarray() if problem.row_blocks else np.zeros((0, problem.size))
        return Evaluation(known.objective, known.rows, slope + 0.0, jacobian)

    def _scalar_derivatives(self, point: FloatArray) -> Evaluation:
        """Values, gradient and Jacobian in one compiled function of floats."""
        plan = self._forms.get("derivatives")
        form, places = plan if plan is not None else self._kept("derivatives", self._scalar_plan)
        found = np.array(form(point.tolist()))
        n, own = self.problem.size, len(self._value_roots)
        has_objective = self.problem.objective is not None
        if places is None:
            matrix = found[own:].reshape(-1, n)
        else:
            matrix = np.zeros((self.problem.row_count + 1, n))
            matrix.reshape(-1)[places] = found[own:]
        slope, objective = matrix[0], 0.0
        if has_objective:
            objective = self._sign * float(found[0])
            slope = slope if self._sign > 0.0 else 0.0 - slope  # a zero turned round is no −0.0
        return Evaluation(objective, found[has_objective:own], slope, matrix[1:])

    def _scalar_plan(self) -> tuple[Form, NDArray[np.int64] | None]:
        """Return the form of values and derivatives, and where these stand in the matrix of gradient and Jacobian; None
        for all of a small one, zeros included."""
        problem = self.problem
        graph, n = problem.graph, problem.size
        zero = graph.constant(0.0)
        nodes = [zero if problem.objective is None else problem.objective.node]
        nodes += [block.node for block in problem.row_blocks]
        slopes = [gradient(graph, node) for node in nodes]
        roots = list(self._value_roots)
        if len(nodes) * n <= FEW_DERIVATIVES:
            roots += [own.get(column, zero) for own in slopes for column in range(n)]
            return form_of(problem, roots), None
        places = [row * n + column for row, own in enumerate(slopes) for column in sorted(own)]
        roots += [own[column] for own in slopes for column in sorted(own)]
        return form_of(problem, roots), np.array(places, dtype=np.int64)

    def compiled_derivatives(self) -> Callable[..., tuple[float, ...]]:
        """Return the compiled function behind `evaluate(…, derivatives=True)` of a scalar problem: floats in, values
        and derivatives in a row out."""
        form, _ = self._kept("derivatives", self._scalar_plan)
        function: Callable[..., tuple[float, ...]] = form.scalar
        return function


def _moves(radii: FloatArray) -> list[FloatArray]:
    """Return each variable's move alone, both ways, and all together; of very many variables only the latter."""
    moves = [radii, -radii]
    if len(radii) <= 1000:
        for place, radius in enumerate(radii):
            unit = np.zeros(len(radii))
            unit[place] = radius
            moves += [unit, -unit]
    return moves
