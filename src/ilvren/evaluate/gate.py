"""Points in, values and derivatives out; each distinct point is computed and counted once."""

from __future__ import annotations

from collections import OrderedDict
from collections.abc import Iterator, Sequence
from contextlib import contextmanager
from functools import partial
from typing import TYPE_CHECKING, Any

import numpy as np
from numpy.typing import NDArray

from ilvren.errors import ProblemError, RequestError
from ilvren.evaluate.as_written import AsWritten
from ilvren.evaluate.evaluation import Evaluation
from ilvren.evaluate.jobs import Answer, Arrival, Job, Workers, failed_evaluation
from ilvren.evaluate.keys import LONGEST_KEY, key_of
from ilvren.evaluate.scalar_forms import ScalarForms
from ilvren.evaluate.second_derivatives import has_second_derivatives
from ilvren.problem import Problem
from ilvren.records import dataclass

if TYPE_CHECKING:
    from ilvren.evaluate.forms import Form
    from ilvren.models import Calls, Outcome, Question

__all__ = ["MOST_DENSE", "Counts", "Gate"]

FloatArray = NDArray[np.float64]

# Methods come back to the points they just left; older ones are computed again but not counted again.
LEAST_KEPT, MOST_KEPT, MOST_KEPT_NUMBERS = 3, 4096, 6_000_000
# Dense Jacobians beyond this many entries are not made; `jacobian` gives the sparse one at any size.
MOST_DENSE = 20_000_000

# Estimated second derivatives are worth their factorization up to so many entries a variable.
MOST_HESSIAN_ENTRIES = 40
# Longer than this nobody waits for second derivatives of models.
MOST_HESSIAN_SECONDS = 60.0
# Lengths of the steps by which second derivatives of models are estimated twice.
BEND_STEPS = (1.0, 4.0)
# Second derivatives of formulas in so few scalars are compiled one by one, else by compressed products.
FEW_SCALARS = 60


@dataclass(frozen=True)
class Counts:
    """Distinct points at which values, gradients and Hessians (or products with them) were computed; the calls that
    differences took count as evaluations."""

    evaluations: int = 0
    gradients: int = 0
    hessians: int = 0


class Gate:
    """Evaluates one problem for methods: internal signs, each distinct design (n,) computed and counted once; `written`
    gives what is asked as written, uncounted.

    With `is_sparse` Jacobians and Hessians are SciPy CSR arrays; with `by_differences` first derivatives are
    differences of values, and there are no second ones. `calls` are those of a run that goes on; without them new ones
    begin.
    """

    def __init__(
        self,
        problem: Problem,
        *,
        is_sparse: bool = False,
        by_differences: bool = False,
        workers: Workers | None = None,
        calls: Sequence[Calls] | None = None,
    ) -> None:
        self.written = AsWritten(problem, calls)
        self.problem, self.calls = problem, self.written.calls
        self._scalar = ScalarForms(self.written)
        self.workers = workers
        if workers is not None:
            for place, own in enumerate(self.calls):
                own.elsewhere = partial(_asked, workers, place)
        self._by_differences = by_differences
        self.is_sparse = is_sparse
        self._sign = 1.0 if problem.objective is None else float(problem.objective.sign)
        self._cache: OrderedDict[bytes, Evaluation] = OrderedDict()
        self._counted_values: set[bytes] = set()
        self._counted_gradients: set[bytes] = set()
        self._counted_hessians: set[bytes] = set()
        self._counted_unseen = 0  # designs that were counted, but are not known one by one
        self._calls_before = self._difference_calls()
        self._is_scalar = not problem.graph.has_arrays
        n, m = problem.size, problem.row_count
        numbers = 4 * (n + m) if is_sparse else n * m + n + m
        self._most_kept = max(LEAST_KEPT, min(MOST_KEPT, MOST_KEPT_NUMBERS // max(numbers, 1)))

    @property
    def counts(self) -> Counts:
        """Return how many distinct points were computed so far."""
        extra = (self._difference_calls() - self._calls_before) // self.problem.scenario_count
        values = len(self._counted_values) + self._counted_unseen
        return Counts(values + extra, len(self._counted_gradients), len(self._counted_hessians))

    def _difference_calls(self) -> int:
        return sum(calls.difference_calls for calls in self.calls)

    def release(self) -> None:
        """Let the models be called here again: the workers are about to end."""
        self.workers = None
        for calls in self.calls:
            calls.elsewhere = None

    def known(self, point: FloatArray, *, derivatives: bool = False) -> Evaluation | None:
        """Return what is kept of a point, if it is all that is wanted. `point` is (n,)."""
        return self.known_by(key_of(point), derivatives=derivatives)

    def known_by(self, key: bytes, *, derivatives: bool = False) -> Evaluation | None:
        """Return what is kept of a point, by its key, if it is all that is wanted."""
        kept = self._cache.get(key)
        return kept if kept is not None and (kept.gradient is not None or not derivatives) else None

    def has_counted(self, point: FloatArray) -> bool:
        """Return whether a design was computed before, kept or not."""
        return key_of(point) in self._counted_values

    def has_counted_key(self, key: bytes) -> bool:
        """Return whether a design was computed before, by its key."""
        return key in self._counted_values

    def counted_among(self, points: FloatArray) -> int:
        """Return how many of the designs (k, n), all different, are counted one by one."""
        if len(self._counted_values) > len(points) or points.shape[1] * points.itemsize > LONGEST_KEY:
            return sum(key_of(point) in self._counted_values for point in points)
        found, columns = 0, np.ascontiguousarray(points.T)
        for key in self._counted_values:
            places: Any = slice(None)
            for column, value in zip(columns, np.frombuffer(key), strict=True):
                near = np.flatnonzero(column[places] == value)
                places = near if isinstance(places, slice) else places[near]
            found += len(places) > 0
        return found

    def count_more(self, number: int) -> None:
        """Count designs that are not kept."""
        self._counted_unseen += number

    def count_derivatives(self, point: FloatArray, *, second: bool = False) -> None:
        """Count first derivatives at a design that were computed in another form, or with `second` second ones."""
        (self._counted_hessians if second else self._counted_gradients).add(key_of(point))

    def batch_values(self, points: FloatArray) -> tuple[FloatArray, FloatArray]:
        """Return the internal objective (k,) and rows (k, m) at designs (k, n) in one vectorised call; nothing is
        counted or kept until `take_batch`."""
        found = self.written.batch(points)
        if self.problem.objective is None:
            return np.zeros(len(points)), found.rows
        return self._sign * found.objective, found.rows

    def take_batch(self, keys: Sequence[bytes], objective: FloatArray, rows: FloatArray) -> tuple[list[int], int]:
        """Keep and count computed values, by the keys of their points; return how many evaluations were counted with
        each, and how many gradients. Shapes: objective (k,), rows (k, m)."""
        extra, gradients = self._difference_calls() - self._calls_before, len(self._counted_gradients)
        counts = []
        for key, value, row in zip(keys, objective.tolist(), rows, strict=True):
            self._keep(key, Evaluation(value, row))
            counts.append(len(self._counted_values) + self._counted_unseen + extra)
        return counts, gradients

    def by_workers(self, points: Sequence[FloatArray], *, derivatives: bool) -> Iterator[tuple[int, Arrival]]:
        """Yield (place, what arrived) for designs, as the workers make them; nothing is counted or kept until `take`.

        Raises ProblemError where a model cannot be evaluated at all."""
        assert self.workers is not None
        steps = tuple(calls.steps for calls in self.calls)
        jobs, places = [], []
        for place, point in enumerate(points):
            found, known = self.on_record(point, derivatives=derivatives)
            if found is not None:
                yield place, found
            else:
                jobs.append(Job(point, derivatives, steps, known=known))
                places.append(place)
        for number, answer in self.workers.answers(jobs):
            place = places[number]
            yield place, self._arrived(points[place], answer, derivatives=derivatives)

    def as_they_come(self, points: Sequence[FloatArray]) -> Iterator[tuple[int, Arrival]]:
        """Yield (place, what arrived) of values at designs, as the workers make them; designs that are added to
        `points` meanwhile are put under way, too. Nothing is counted or kept until `take`."""
        assert self.workers is not None
        jobs = [Job(point) for point in points]
        for place, answer in self.workers.answers(jobs):
            yield place, self._arrived(points[place], answer, derivatives=False)
            jobs += [Job(point) for point in points[len(jobs) :]]

    def _arrived(self, point: FloatArray, answer: Answer, *, derivatives: bool) -> Arrival:
        """Return what a worker made of a design, the models' calls being noted. Raises ProblemError where a model
        cannot be evaluated at all."""
        for note in answer.notes:
            self.calls[0].add_note(note)
        made = answer.evaluation
        if made is None and not answer.is_slow:
            raise ProblemError(answer.failure)
        for calls, (count, first) in zip(self.calls, answer.failures, strict=False):
            calls.count_failures(count, first)
        self._record(answer)
        if answer.failure and not answer.failures:
            self.calls[0].count_failures(1, f"{answer.failure}{self._named(point)}")
        if made is None:
            made = failed_evaluation(self.problem.row_count, self.problem.size, derivatives=derivatives)
        return Arrival(made, answer.difference_calls, answer.seconds)

    def on_record(
        self, point: FloatArray, *, derivatives: bool
    ) -> tuple[Arrival | None, tuple[tuple[str, Question, Outcome], ...]]:
        """Return what a design comes to by calls alone that are kept or on record, or None where one is missing, with
        those that are known by then. Nothing is counted or kept until `take`."""
        from ilvren.models import NotOnRecord

        before = [(c.difference_calls, c.steps, c.failures, c.first_failure) for c in self.calls]
        for calls in self.calls:
            calls.made, calls.is_closed = [], True
        found = None
        try:
            found = self._with_derivatives(point) if derivatives else self._only_values(point)
        except NotOnRecord:
            pass
        finally:
            spent = sum(calls.difference_calls for calls in self.calls) - sum(number for number, *_ in before)
            known = tuple((calls.source.name, *made) for calls in self.calls for made in calls.made or ())
            for calls, (number, steps, failures, first) in zip(self.calls, before, strict=True):
                calls.difference_calls, calls.steps = number, steps
                if found is None:  # whoever computes it tells of them
                    calls.failures, calls.first_failure = failures, first
                calls.made, calls.is_closed = None, False
        return (None if found is None else Arrival(found, spent, 0.0)), known

    def _record(self, answer: Answer) -> None:
        """Put the calls that a worker made on record."""
        for place, question, outcome in answer.made:
            self.calls[place].learn(question, outcome)
        for place, inputs, jacobian in answer.slopes:
            self.calls[place].learn_slopes(inputs, jacobian)

    def _named(self, point: FloatArray) -> str:
        told = [f"{v.name} = {x:.6g}" for v, x in zip(self.problem.variables[:6], point.tolist(), strict=False)]
        return " at " + ", ".join(told)

    def take(self, point: FloatArray, arrival: Arrival) -> None:
        """Keep and count what a worker has made. `point` is (n,)."""
        self._keep(key_of(point), arrival.evaluation)
        self._calls_before -= arrival.difference_calls

    def forget(self, point: FloatArray) -> None:
        """Drop what is kept of a point. `point` is (n,)."""
        self._cache.pop(key_of(point), None)

    def evaluate(self, point: FloatArray, *, derivatives: bool = False) -> Evaluation:
        """Return the values, and with `derivatives` the gradient and a dense Jacobian, at a full design (n,)."""
        key = key_of(point)
        kept = self._cache.get(key)
        if kept is not None and (kept.gradient is not None or not derivatives):
            return kept
        found = self._with_derivatives(point) if derivatives else self._only_values(point)
        self._keep(key, found)
        return found

    def adopt(self, point: FloatArray, evaluation: Evaluation, *, evaluations: int) -> None:
        """Take an evaluation as computed: keep and count it; `evaluations` were counted with it then. `point` is
        (n,)."""
        self._keep(key_of(point), evaluation)
        self._calls_before = self._difference_calls() - max(
            evaluations - len(self._counted_values) - self._counted_unseen, 0
        )

    def _keep(self, key: bytes, evaluation: Evaluation) -> None:
        if len(self._cache) >= self._most_kept:
            self._cache.popitem(last=False)
        self._cache[key] = evaluation
        self._counted_values.add(key)
        if evaluation.gradient is not None:
            self._counted_gradients.add(key)

    @property
    def has_curvature(self) -> bool:
        """Return whether second derivatives are exact: formulas have them, models do not."""
        return not self.problem.sources and not self._by_differences

    @property
    def has_secants(self) -> bool:
        """Return whether second derivatives can be had that are exact but for those of models, which are estimated from
        the first derivatives that the run came by. Not where a model's inputs make a large Hessian dense."""
        if not self.problem.sources or not self._has_second_derivatives:
            return False
        try:
            entries = self.written.hessian_plan().pattern.nnz if self.is_sparse else 0
        except RequestError:
            return False
        return entries <= MOST_HESSIAN_ENTRIES * self.problem.size

    @property
    def _has_second_derivatives(self) -> bool:
        return not self._by_differences and has_second_derivatives(self.problem)

    def curvature(self, point: FloatArray, multipliers: FloatArray, weight: float) -> Any:
        """Return the Hessian of weight · f − multipliers'c at a full design (n,), f internal: dense, or a CSR array."""
        self._counted_hessians.add(key_of(point))
        if self._is_scalar and not self.is_sparse and self.problem.size <= FEW_SCALARS:
            return self._scalar.hessian(point, multipliers, self._sign * weight)
        with self._secants():
            found = self.written.hessian(point, multipliers, weight=self._sign * weight)
        return found if self.is_sparse else found.toarray()

    def curvatures(self, point: FloatArray, multipliers: FloatArray) -> list[Any]:
        """Return the Hessian of f − multipliers'c: exact, or two estimates by other steps, whose disagreement tells the
        error, where models have no second derivatives; none where there are too many inputs for that. Shapes: point
        (n,), multipliers (m,), each Hessian (n, n)."""
        if self.has_curvature:
            return [self.curvature(point, multipliers, 1.0)]
        if not self._has_second_derivatives or self._hessian_seconds > MOST_HESSIAN_SECONDS:
            return []
        found = []
        try:
            for step in BEND_STEPS:
                for calls in self.calls:
                    calls.hessian_step = step
                found.append(self.written.hessian(point, multipliers, weight=self._sign))
        except RequestError:  # too many non-zeros to be formed
            return []
        finally:
            for calls in self.calls:
                calls.hessian_step = 1.0
        return found

    @property
    def _hessian_seconds(self) -> float:
        """Return what `curvatures` would take at least: two Jacobians for each input and step."""
        return sum(
            2.0 * len(BEND_STEPS) * calls.source.input_size * calls.quickest
            for calls in self.calls
            if np.isfinite(calls.quickest)
        )

    def curvature_along(
        self, point: FloatArray, direction: FloatArray, multipliers: FloatArray, weight: float
    ) -> FloatArray:
        """Return the product of the Hessian that `curvature` gives with a direction (n,)."""
        self._counted_hessians.add(key_of(point))
        with self._secants():
            return self.written.hessian_product(point, direction, multipliers, weight=self._sign * weight)

    @contextmanager
    def _secants(self) -> Iterator[None]:
        """Let second derivatives of models be estimated from what methods saw of them, in the order in which they
        asked."""
        for calls in self.calls:
            calls.secants = calls.visited
        try:
            yield
        finally:
            for calls in self.calls:
                calls.secants = None

    def residuals(self, point: FloatArray, *, derivatives: bool) -> tuple[FloatArray, Any]:
        """Return the residuals (p,) and their Jacobian (p, n), None without `derivatives`, at a full design where the
        objective is a sum of squares."""
        from ilvren.problem import residual_problem

        inner: Gate = self.written.kept(
            "residuals",
            lambda: Gate(
                residual_problem(self.problem),
                is_sparse=self.is_sparse,
                by_differences=self._by_differences,
                calls=self.calls,
            ),
        )
        found = inner.evaluate(point, derivatives=derivatives)
        return found.rows, found.jacobian

    # ---- pieces -------------------------------------------------------------------------------

    def _only_values(self, point: FloatArray) -> Evaluation:
        form: Form = self.written.kept("values", lambda: self.written.form_of_nodes(self.written.value_roots))
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
        if problem.size * problem.row_count > MOST_DENSE and not self.is_sparse:
            raise RequestError(
                f"a dense Jacobian of {problem.row_count} rows by {problem.size} variables is too large",
                advice="`AsWritten.jacobian` gives the sparse one",
            )
        if self._by_differences:
            return self._differences(point)
        if self._is_scalar and not self.is_sparse:
            return self._scalar.derivatives(point, self._sign)
        known = self._cache.get(key_of(point)) or self._only_values(point)
        slope = self._sign * self.written.gradient(point) if problem.objective is not None else np.zeros(problem.size)
        jacobian: Any = np.zeros((0, problem.size))
        if problem.row_blocks or self.is_sparse:
            jacobian = self.written.jacobian(point)
            jacobian = jacobian if self.is_sparse else jacobian.toarray()
        return Evaluation(known.objective, known.rows, slope + 0.0, jacobian)

    def _differences(self, point: FloatArray) -> Evaluation:
        """Gradient and Jacobian from differences of values, each point of which is counted."""
        from ilvren.evaluate.differences import differenced

        problem = self.problem
        known = self._cache.get(key_of(point)) or self._only_values(point)
        used = np.zeros(problem.size, dtype=bool)
        used[problem.free_places] = True

        def values(points: FloatArray) -> FloatArray:
            self._counted_values.update(key_of(one) for one in points)
            found = self.written.batch(points)
            objective = self._sign * found.objective if problem.objective is not None else np.zeros(len(points))
            return np.column_stack([objective, found.rows])

        here = np.concatenate([[known.objective], known.rows])
        limits = problem.joined("lower"), problem.joined("upper")
        slopes = differenced(values, point, here, limits, np.array(problem.start), used)
        jacobian: Any = slopes[1:]
        if self.is_sparse:
            from scipy.sparse import csr_array

            jacobian = csr_array(jacobian)
        return Evaluation(known.objective, known.rows, slopes[0], jacobian)


def _asked(workers: Workers, place: int, questions: Sequence[Question]) -> list[Outcome]:
    """Let workers ask the model in a place; return what came of each question."""
    from ilvren.models import Outcome

    found = [Outcome("failed") for _ in questions]
    for at, answer in workers.answers([Job(model=place, question=question) for question in questions]):
        found[at] = answer.outcome or Outcome("lost", None, answer.failure)
    return found
