"""What is kept of a stage as it goes: evaluations, iterations, the best designs; in memory, on record, and told."""

from __future__ import annotations

import math
from collections.abc import Sequence
from typing import TYPE_CHECKING

import numpy as np
from numpy.typing import NDArray

from ilvren.evaluate import key_of
from ilvren.ledger import EvaluationRecord, ForetoldRecord, IterationRecord
from ilvren.runs.events import Iterated, Sampled
from ilvren.runs.history import History
from ilvren.runs.incumbents import Incumbents

if TYPE_CHECKING:
    from ilvren.evaluate import Arrival, Evaluation
    from ilvren.methods import Assessment, Iterate
    from ilvren.runs.archive import Archive
    from ilvren.runs.stage import Stage

__all__ = ["Recorder", "packed_values"]

FloatArray = NDArray[np.float64]


class Recorder:
    """Keeps what a stage evaluates and shows. `incumbents` are its best designs so far, `archive` the trade-offs of
    several objectives, None of one; `first` says with how many evaluations and iterations the stage began."""

    def __init__(self, stage: Stage) -> None:
        self._stage = stage
        problem, settings = stage.problem, stage.settings
        # Runs of older ledgers are followed by the replies on record, which are kept whole.
        thinned = None if stage.is_old_style else stage.ledger
        self.history = stage.base.history or History(
            variables=problem.size, rows=problem.row_count, ledger=thinned, run=stage.number
        )
        self.evaluations, self.iterations = self.history.evaluations, self.history.iterations
        self.first = len(self.evaluations), len(self.iterations)
        self.incumbents = Incumbents(settings.feasibility, settings.tolerance)
        self.incumbents.progress_at = self.first[0]
        self.archive = _archive_of(stage) if any(block.is_objective for block in problem.row_blocks) else None
        self._numbers: dict[bytes, int] = {}

    def number_of(self, point: FloatArray) -> int:
        """Return the number of a design's first evaluation, 0 for none."""
        return self._numbers.get(key_of(point), 0)

    @property
    def best_as_written(self) -> float | None:
        """Return the best feasible objective, as written."""
        best = self.incumbents.feasible
        return None if best is None else self._stage.as_written(best.objective)

    @property
    def progress_at(self) -> int:
        """Return the number of the evaluation that was the last to come nearer to what is looked for."""
        if self.archive is None or not len(self.archive):
            return self.incumbents.progress_at
        self.archive.note_progress()
        return max(self.archive.progress_at, self.first[0])

    # ---- evaluations ----------------------------------------------------------------------------

    def add_early(self, point: FloatArray, arrival: Arrival, request: int, number: int) -> None:
        """Put what a worker has made on record, before its turn has come. `point` is (n,)."""
        stage = self._stage
        if stage.ledger is not None:
            early = self._record(point, arrival.evaluation, request, number)
            stage.ledger.add_evaluation(stage.number, early, took=arrival.seconds)

    def add(
        self, point: FloatArray, evaluation: Evaluation, request: int, *, took: float = 0.0, is_recorded: bool = False,
        number: int | None = None,
    ) -> None:  # fmt: skip
        """Keep an evaluation that the gate has counted; of the next `number`, if none is given. `point` is (n,)."""
        stage = self._stage
        record = self._record(point, evaluation, request, len(self.evaluations) + 1 if number is None else number)
        self._numbers.setdefault(key_of(point), record.number)
        if stage.ledger is not None and not is_recorded:
            stage.ledger.add_evaluation(stage.number, record, took=took)
        if evaluation.is_finite:
            objective, violation = np.array([evaluation.objective]), np.array([record.violation])
            self._note_best(point[np.newaxis], objective, evaluation.rows[np.newaxis], violation, record.number)
        self.history.add_evaluation(record, spared=self.incumbents.numbers)
        if stage.is_sample and stage.listener is not None:
            front = None if self.archive is None else len(self.archive)
            told = Sampled(stage.counts.evaluations, self.best_as_written, stage.clock.seconds, front)
            stage.listener(told)

    def add_batch(
        self, points: FloatArray, objective: FloatArray, rows: FloatArray, keys: Sequence[bytes], request: int,
        began: float,
    ) -> None:  # fmt: skip
        """Keep and count designs (k, n) that were computed at once, since `began`."""
        stage = self._stage
        violation = stage.measures.violations(points, rows)
        violation[~np.isfinite(objective) | ~np.isfinite(rows).all(axis=1)] = math.inf
        written: list[float | None] = [None] * len(keys)
        if stage.problem.objective is not None:
            written = (stage.problem.objective.sign * objective).tolist()
        counts, gradients = stage.gate.take_batch(keys, objective, rows)
        packed = np.column_stack([objective, rows])
        first, seconds = len(self.evaluations) + 1, stage.clock.seconds
        records = [
            EvaluationRecord(number, request, point.tobytes(), values.tobytes(), None, f, v, count, gradients, seconds)
            for number, (point, values, f, v, count) in enumerate(
                zip(points, packed, written, violation.tolist(), counts, strict=True), start=first
            )
        ]
        for key, record in zip(keys, records, strict=True):
            self._numbers.setdefault(key, record.number)
        if stage.ledger is not None:
            fresh = [record for record in records if not stage.replay.knows(record.point)]
            stage.ledger.add_evaluations(stage.number, fresh, took=(seconds - began) / len(keys))
        if np.isfinite(violation).any():
            self._note_best(points, objective, rows, violation, first)
        for record in records:
            self.history.add_evaluation(record, spared=self.incumbents.numbers)

    def _note_best(
        self, points: FloatArray, objective: FloatArray, rows: FloatArray, violation: FloatArray, first: int
    ) -> None:
        self.incumbents.note(points, objective, violation, first)
        if self.archive is not None:
            self.archive.note(points, rows, violation, first)

    def _record(self, point: FloatArray, evaluation: Evaluation, request: int, number: int) -> EvaluationRecord:
        from ilvren.runs.replay import packed_derivatives

        stage = self._stage
        violation = stage.measures.violation(point, evaluation.rows) if evaluation.is_finite else math.inf
        derivatives = None
        if evaluation.gradient is not None and evaluation.jacobian is not None:
            # Formulas give the same numbers again, from the calls of models on record; older ledgers have no calls.
            derivatives = packed_derivatives(evaluation) if stage.is_old_style else b""
        key, values = self._kept_bytes(point), packed_values(evaluation)
        before = self.evaluations[-1] if self.evaluations else None
        if before is not None and before.point == key:  # first its values, then its derivatives: kept once
            key, values = before.point, before.values if before.values == values else values
        counts, objective = stage.counts, stage.as_written(evaluation.objective)
        return EvaluationRecord(
            number, request, key, values, derivatives, objective, violation, counts.evaluations, counts.gradients,
            stage.clock.seconds,
        )  # fmt: skip

    def _kept_bytes(self, point: FloatArray) -> bytes:
        """Return a design's bytes, those of its evaluation where that is one of the last: long vectors are kept
        once."""
        key = point.tobytes()
        return next((record.point for record in self.evaluations[:-4:-1] if record.point == key), key)

    # ---- iterations -----------------------------------------------------------------------------

    def add_iteration(
        self, iterate: Iterate, point: FloatArray, evaluation: Evaluation, assessment: Assessment
    ) -> None:
        """Keep an iterate that was assessed, and tell of it. `point` is (n,)."""
        stage, number = self._stage, len(self.iterations)  # the first iterate is the start: iteration 0
        counts, best = stage.counts, self.best_as_written
        foretold = self._foretold(iterate)
        note = iterate.note if foretold is None else "; ".join(filter(None, (_foretold_words(foretold), iterate.note)))
        record = IterationRecord(
            number=number,
            path=iterate.path or stage.method.name,
            evaluations=counts.evaluations,
            gradients=counts.gradients,
            seconds=stage.clock.seconds,
            objective=stage.as_written(evaluation.objective),
            best=best,
            violation=assessment.violation,
            stationarity=assessment.stationarity,
            step=iterate.step,
            note=note,
            point=self._kept_bytes(point),
            foretold=foretold,
        )
        is_replay = number < stage.replay.iterations
        if stage.ledger is not None and not is_replay:
            members: tuple[int, ...] | None = None
            if iterate.population is not None:
                full = stage.full(np.asarray(iterate.population, dtype=float))
                members = tuple(self.number_of(one) for one in full)
            stage.ledger.add_iteration(stage.number, record, members)
        self.history.add_iteration(record)
        if stage.listener is not None:
            stage.listener(
                Iterated(
                    iteration=number,
                    evaluations=counts.evaluations,
                    gradients=counts.gradients,
                    seconds=record.seconds,
                    best=best,
                    violation=assessment.violation,
                    stationarity=assessment.stationarity,
                    note=note,
                    is_replay=is_replay,
                    objective=record.objective if evaluation.is_finite else None,
                    step=iterate.step,
                    gain_ratio=iterate.gain_ratio,
                    path=iterate.path,
                    incumbents=self.incumbents.top if self.archive is None else (),
                    front=None if self.archive is None else self.archive.now,
                )
            )

    def _foretold(self, iterate: Iterate) -> ForetoldRecord | None:
        """Return what a surface said, in the objective as written."""
        told, objective, scaling = iterate.foretold, self._stage.problem.objective, self._stage.scaling
        if told is None or objective is None or scaling is None:
            return None
        said, actual = (objective.sign * scaling.objective * value for value in (told.said, told.actual))
        return ForetoldRecord(said, scaling.objective * told.spread, actual, told.surface)


def _archive_of(stage: Stage) -> Archive | None:
    from ilvren.problem import sense_of
    from ilvren.runs.archive import Archive

    sense = sense_of(stage.problem)
    return None if sense is None else Archive(sense, stage.problem.size, stage.settings.feasibility)


def packed_values(evaluation: Evaluation) -> bytes:
    """Return an evaluation's objective and rows as they are recorded."""
    return np.concatenate([[evaluation.objective], evaluation.rows]).tobytes()


def _foretold_words(told: ForetoldRecord) -> str:
    """Say what was predicted, by which surface, and what came of it."""
    came = f"{told.actual:.6g}" if math.isfinite(told.actual) else "none"
    return f"predicted {told.said:.6g} ± {told.spread:.2g}, actual {came}: {told.surface}"
