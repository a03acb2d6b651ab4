"""Answering a method's requests: what is kept is taken as it is, what is on record is followed, the rest is computed.

There is one way of every design: is it new, does a limit still allow it, is it on record, who computes it (the gate,
one by one; its compiled formulas, all at once; workers), and how is it kept. Results are taken in the order of the
request, so that the path is the same whoever computes.
"""

from __future__ import annotations

import math
from typing import TYPE_CHECKING

import numpy as np
from numpy.typing import NDArray

from ilvren.errors import RequestError
from ilvren.evaluate import Evaluation, Gate, key_of
from ilvren.ledger import EvaluationRecord, RequestRecord
from ilvren.methods import VALUES, Arrived, HessianRequest, Reply, Request, Want
from ilvren.records import dataclass
from ilvren.runs.flight import Flight
from ilvren.runs.recording import packed_values
from ilvren.runs.replay import request_hash, unpacked
from ilvren.runs.stopping import ProtocolBroken, Stop

if TYPE_CHECKING:
    from ilvren.evaluate import Arrival
    from ilvren.runs.archive import Archive
    from ilvren.runs.lifted_view import LiftedView
    from ilvren.runs.recording import Recorder
    from ilvren.runs.scaling import Scaling
    from ilvren.runs.stage import Stage

__all__ = ["Answering"]

FloatArray = NDArray[np.float64]

# Requests for the values of so many designs of a problem of formulas are answered in one vectorised call.
LEAST_BATCH = 8


@dataclass(frozen=True, eq=False)
class _New:
    """The distinct designs of a request that are not kept: `points` {key: design}, in order; what is on `record` of
    them, None each for nothing; so many are `allowed` by the limit on evaluations."""

    points: dict[bytes, FloatArray]
    records: list[EvaluationRecord | None]
    allowed: int


class Answering:
    """Answers the requests of one stage."""

    def __init__(self, stage: Stage, recorder: Recorder) -> None:
        self._stage = stage
        self._recorder = recorder
        self.flight = Flight(stage.gate)
        # A model that is differentiated in one call is best left to one worker; differences are shared out.
        self._is_whole = not all(own.is_differenced for own in stage.gate.calls)

    # ---- requests -------------------------------------------------------------------------------

    def answer(self, request: Request) -> Reply | Arrived:
        """Return what is asked, scaled. Raises Stop where a limit is used up or the goal is reached, ProtocolBroken."""
        stage = self._stage
        scaling, view = self._scaling, stage.view if request.lifted else None
        points = np.asarray(request.points, dtype=float)
        n = len(view.scaling.free if view is not None else scaling.free)
        if points.ndim != 2 or points.shape[1] != n:
            raise ProtocolBroken(f"asked for points of shape {points.shape}, not (k, {n})")
        if view is not None:
            return self._lifted(view, view.full(points), derivatives=request.derivatives)
        full = stage.full(points)
        if request.in_arrival_order:
            return self._arrived(full)
        if self.flight.open:
            raise ProtocolBroken(f"asked for designs while {len(self.flight.open)} others were under way")
        if request.scan and not stage.problem.sources:
            return self._scan(full)
        if len(full) >= LEAST_BATCH and not (request.derivatives or request.residuals or stage.problem.sources):
            return scaling.values(*self._at_once(full))
        evaluations = self.evaluated(full, request.wants)
        residuals = None
        if request.residuals:
            residuals = [stage.gate.residuals(point, derivatives=request.derivatives) for point in full]
        return scaling.reply(evaluations, derivatives=request.derivatives, residuals=residuals)

    def hessian(self, request: HessianRequest) -> object:
        """Return second derivatives, scaled."""
        stage = self._stage
        if not (stage.gate.has_curvature or stage.gate.has_secants):
            raise ProtocolBroken("asked for second derivatives of a problem with models")
        stage.check_seconds()
        scaled = np.asarray(request.point, dtype=float)[np.newaxis]
        if request.lifted and stage.view is not None:
            lifted = stage.view.full(scaled)[0]
            stage.gate.count_derivatives(lifted[: stage.problem.size], second=True)
            return stage.view.scaling.second(stage.view.gate, request, lifted)
        return self._scaling.second(stage.gate, request, stage.full(scaled)[0])

    def evaluated(self, points: FloatArray, wants: frozenset[Want]) -> list[Evaluation]:
        """Return the evaluations of designs (k, n), one by one or by the workers."""
        gate, derivatives = self._stage.gate, Want.SLOPES in wants
        number = self._begun(points, wants)
        has_work = len(points) > 1 or (derivatives and self._is_whole)
        if gate.workers is not None and has_work and (not derivatives or self._has_steps()):
            found = self._by_workers(points, number, derivatives=derivatives)
        else:
            found = [self._one(point, number, derivatives=derivatives) for point in points]
        self.check_goals()
        return found

    def tried(self, points: FloatArray) -> tuple[FloatArray, FloatArray]:
        """Return values that find the variables' sizes. Formulas cost next to nothing and are not counted. Shapes:
        points (k, n), values (k,) and (k, m)."""
        if not self._stage.problem.sources:
            return self._stage.gate.batch_values(points)
        found = self.evaluated(points, VALUES)
        return np.array([item.objective for item in found]), np.array([item.rows for item in found])

    def check_goals(self) -> None:
        """Stop where the target is reached, a feasible design is all that is asked, or patience is at its end."""
        stage, recorder = self._stage, self._recorder
        best, settings, objective = recorder.incumbents.feasible, stage.settings, stage.problem.objective
        if best is not None and not stage.is_sample:
            if stage.problem.seeks_feasible and not stage.method.needs_derivatives and stage.scaling is not None:
                raise Stop("settled", "a feasible design is found, which is all that is asked")
            if objective is not None and objective.is_reached(objective.sign * best.objective):
                raise Stop("target", f"the goal {objective.goal:g} of {objective.name} is reached")
            target = settings.target
            if target is not None and objective is not None and best.objective <= objective.sign * target:
                raise Stop("target", f"the target {target:g} is reached")
        patience = settings.patience
        if patience is not None and len(recorder.evaluations) - recorder.progress_at >= patience:
            reason = f"no progress in the last {patience} evaluations, which is all that --patience allows"
            raise Stop("stalled", reason)

    @property
    def _scaling(self) -> Scaling:
        assert self._stage.scaling is not None
        return self._stage.scaling

    def _begun(self, points: FloatArray, wants: frozenset[Want]) -> int:
        """Check a request against the record, or record it, and return its number."""
        stage = self._stage
        number, stage.requests = stage.requests, stage.requests + 1
        if not stage.replay.check(number, points, wants) and stage.ledger is not None:
            stage.ledger.add_request(stage.number, RequestRecord(number, request_hash(points, wants), len(points)))
        return number

    def _lifted(self, view: LiftedView, lifted: FloatArray, *, derivatives: bool) -> Reply:
        """Answer a request for lifted designs (k, n + q): the designs that they begin with are counted and recorded."""
        own = lifted[:, : self._stage.problem.size]
        self.evaluated(own, VALUES)
        for point in own if derivatives else ():
            self._stage.gate.count_derivatives(point)
        return view.reply(lifted, derivatives=derivatives)

    # ---- what is new ----------------------------------------------------------------------------

    def _room(self) -> float:
        """Return how many evaluations the limit still allows."""
        limit = self._stage.settings.evaluations
        return math.inf if limit is None else limit - self._stage.counts.evaluations

    def _used_up(self) -> Stop:
        return Stop("exhausted", f"{self._stage.settings.evaluations} evaluations are used up")

    def _new_among(self, points: FloatArray, keys: list[bytes], *, derivatives: bool = False) -> _New:
        """Return what of designs (k, n) is not kept."""
        gate, replay = self._stage.gate, self._stage.replay
        found: dict[bytes, FloatArray] = {}
        for key, point in zip(keys, points, strict=True):
            if key not in found and gate.known_by(key, derivatives=derivatives) is None:
                found[key] = point
        count = np.cumsum([not gate.has_counted_key(key) for key in found])
        allowed = int(np.searchsorted(count, self._room(), side="right"))
        return _New(found, [replay.answer(point, derivatives=derivatives) for point in found.values()], allowed)

    # ---- one by one -----------------------------------------------------------------------------

    def _one(self, point: FloatArray, request: int, *, derivatives: bool) -> Evaluation:
        stage = self._stage
        known = stage.gate.known(point, derivatives=derivatives)
        if known is not None:
            return known
        if self._room() < 1 and not stage.gate.has_counted(point):
            raise self._used_up()
        recorded = stage.replay.answer(point, derivatives=derivatives)
        if recorded is not None:
            return self._followed(point, recorded, request, derivatives=derivatives)
        stage.check_seconds()
        began = stage.clock.seconds
        evaluation = stage.gate.evaluate(point, derivatives=derivatives)
        self._recorder.add(point, evaluation, request, took=stage.clock.seconds - began)
        return evaluation

    def _followed(
        self, point: FloatArray, recorded: EvaluationRecord, request: int, *, derivatives: bool
    ) -> Evaluation:
        """Take a design as it is on record: as it is written there, or made again of the models' calls on record."""
        stage = self._stage
        if stage.problem.sources and stage.replay.has_calls:
            evaluation = stage.gate.evaluate(point, derivatives=derivatives)
            if not self._agrees(evaluation, recorded):
                raise RequestError(
                    f"evaluation {recorded.number} is not what it was: its models' calls give others now"
                )
        else:
            evaluation = self._recalled(point, recorded, derivatives=derivatives)
            before = stage.base.counts.evaluations
            stage.gate.adopt(point, evaluation, evaluations=recorded.evaluations - before)
        stage.clock.follow(recorded.seconds)
        self._recorder.add(point, evaluation, request, is_recorded=True)
        return evaluation

    def _recalled(self, point: FloatArray, record: EvaluationRecord, *, derivatives: bool) -> Evaluation:
        """Return what a record says of a design. Derivatives of formulas are not recorded but computed again."""
        stage = self._stage
        if derivatives and not self._has_steps():
            # Chosen where they were chosen then: at the first derivatives. These calls are counted as recorded.
            Gate(stage.problem, is_sparse=stage.is_sparse, calls=stage.gate.calls).evaluate(point, derivatives=True)
        if record.is_whole and (not derivatives or record.derivatives):
            n, m = stage.problem.size, stage.problem.row_count
            return unpacked(record, variables=n, rows=m, derivatives=derivatives, is_sparse=stage.is_sparse)
        evaluation = stage.gate.evaluate(point, derivatives=derivatives)
        if not self._agrees(evaluation, record):
            raise RequestError(f"evaluation {record.number} is not what it was: the run cannot follow its own path")
        return evaluation

    def _agrees(self, evaluation: Evaluation, record: EvaluationRecord) -> bool:
        """Return whether an evaluation is the one on record; where long vectors were thinned, by its objective."""
        if record.is_whole:
            return packed_values(evaluation) == record.values
        return not evaluation.is_finite or self._stage.as_written(evaluation.objective) == record.objective

    def _has_steps(self) -> bool:
        """Return whether the sources of derivatives and the difference steps of all models are chosen: once, here, so
        that they are the same in every worker."""
        return all(calls.is_decided for calls in self._stage.gate.calls)

    # ---- by workers -----------------------------------------------------------------------------

    def _by_workers(self, points: FloatArray, request: int, *, derivatives: bool) -> list[Evaluation]:
        """Let the workers compute what is neither kept nor on record, each result being recorded as it arrives; then
        take all in order."""
        gate, recorder = self._stage.gate, self._recorder
        new = self._new_among(points, [key_of(point) for point in points], derivatives=derivatives)
        keys = list(new.points)[: new.allowed]
        numbers = {key: len(recorder.evaluations) + place for place, key in enumerate(keys, start=1)}
        open_keys = [key for key, record in zip(keys, new.records, strict=False) if record is None]
        arrived: dict[bytes, Arrival] = {}
        if open_keys:
            self._stage.check_seconds()
        try:
            for place, arrival in gate.by_workers([new.points[key] for key in open_keys], derivatives=derivatives):
                key = open_keys[place]
                arrived[key] = arrival
                recorder.add_early(new.points[key], arrival, request, numbers[key])
                self._stage.check_seconds()
        except BaseException:
            for key, arrival in arrived.items():  # whatever stops this, what has arrived counts
                self._take(new.points[key], arrival, request, numbers[key])
            raise
        found = []
        for point in points:
            key = key_of(point)
            if key in arrived and gate.known(point, derivatives=derivatives) is None:
                self._take(point, arrived[key], request, numbers[key])
            found.append(self._one(point, request, derivatives=derivatives))
        return found

    def _take(self, point: FloatArray, arrival: Arrival, request: int, number: int) -> None:
        self._stage.gate.take(point, arrival)
        self._recorder.add(point, arrival.evaluation, request, number=number)

    def _arrived(self, points: FloatArray) -> Arrived:
        """Put designs (k, n) under way and return the first that is back of all that are; on replay the one that
        was."""
        stage, flight = self._stage, self.flight
        number = self._begun(points, VALUES)
        flight.add(points)
        if not flight.open:
            raise ProtocolBroken("waits for designs, and none is under way")
        tickets = stage.replay.arrivals.get(number)
        if tickets is None:
            tickets = (self._first_back(number),)
            if stage.ledger is not None:
                stage.ledger.add_arrival(stage.number, number, tickets)
        found = [self._one(flight.points[ticket], number, derivatives=False) for ticket in tickets]
        for ticket in tickets:
            flight.close(ticket)
        self.check_goals()
        return Arrived(tickets, self._scaling.reply(found, derivatives=False, residuals=None))

    def _first_back(self, request: int) -> int:
        """Return the ticket of the design that is back first: one that is known, or what a worker has made, which is
        taken as evaluated; without workers the oldest."""
        stage, flight = self._stage, self.flight
        for ticket in flight.open:
            point = flight.points[ticket]
            if stage.gate.known(point) is not None or stage.replay.answer(point, derivatives=False) is not None:
                return ticket
        if stage.gate.workers is None:
            return next(iter(flight.open))
        stage.check_seconds()
        room = min(self._room() - flight.sent, len(flight.open))
        waiting = [ticket for ticket in flight.open if ticket not in flight.under_way]
        flight.send(waiting[: max(int(room), 0)])
        arrived = flight.arrived()
        if arrived is None:
            raise self._used_up()
        ticket, arrival = arrived
        point = flight.points[ticket]
        if stage.gate.known(point) is None:
            stage.gate.take(point, arrival)
            self._recorder.add(point, arrival.evaluation, request, took=arrival.seconds)
        return ticket

    # ---- all at once ----------------------------------------------------------------------------

    def _at_once(self, points: FloatArray) -> tuple[FloatArray, FloatArray]:
        """Return objective (k,) and rows (k, m) of designs of a problem of formulas, in one vectorised call."""
        stage, gate = self._stage, self._stage.gate
        request = self._begun(points, VALUES)
        keys = [key_of(point) for point in points]
        kept = {key: known for key in keys if (known := gate.known_by(key)) is not None}
        new = self._new_among(points, keys)
        objective, rows = np.zeros(len(points)), np.zeros((len(points), stage.problem.row_count))
        if new.points:
            began = stage.clock.seconds
            own, values, limits = self._computed(new)
            taken = list(new.points)[: new.allowed]
            if taken:
                count = len(taken)
                self._recorder.add_batch(own[:count], values[:count], limits[:count], taken, request, began)
            if new.allowed < len(own):
                raise self._used_up()
            place_of = {key: place for place, key in enumerate(new.points)}
            places = np.array([place_of.get(key, -1) for key in keys])
            is_new = places >= 0
            objective[is_new], rows[is_new] = values[places[is_new]], limits[places[is_new]]
        for place, key in enumerate(keys):
            if key in kept:
                objective[place], rows[place] = kept[key].objective, kept[key].rows
        self.check_goals()
        return objective, rows

    def _computed(self, new: _New) -> tuple[FloatArray, FloatArray, FloatArray]:
        """Return new designs (k, n), their objective (k,) and rows (k, m): as on record where they are there. All are
        computed, also those beyond a limit and those on record: the last bits could depend on the company."""
        points = np.array(list(new.points.values()))
        recorded = [None if record is None or not record.is_whole else record.values for record in new.records]
        if None in recorded:
            self._stage.check_seconds()
        objective, rows = self._stage.gate.batch_values(points)
        for place, values in enumerate(recorded):
            if values is not None:
                numbers = np.frombuffer(values)
                objective[place], rows[place] = numbers[0], numbers[1:]
        return points, objective, rows

    # ---- very many ------------------------------------------------------------------------------

    def _scan(self, full: FloatArray) -> Reply:
        """Return the values at very many designs (k, n) of formulas: computed at once, again on replay, and only the
        best is recorded; a limit lets the first of them count."""
        stage, recorder = self._stage, self._recorder
        request = self._begun(full, VALUES)
        stage.check_seconds()
        known = stage.gate.counted_among(full)
        taken = int(min(max(self._room() + known, 0), len(full)))
        objective, rows = stage.gate.batch_values(full)
        if taken and recorder.archive is not None:
            self._scan_front(recorder.archive, full[:taken], objective[:taken], rows[:taken], request)
        elif taken:
            best = self._best_of(full[:taken], objective[:taken], rows[:taken])
            stage.gate.count_more(taken - known)
            if best is not None and stage.gate.known(full[best]) is None:
                stage.gate.count_more(-1)
                recorder.add(full[best], Evaluation(float(objective[best]), rows[best]), request)
                stage.gate.take_batch([key_of(full[best])], objective[[best]], rows[[best]])
        if taken < len(full):
            raise self._used_up()
        self.check_goals()
        return self._scaling.values(objective, rows)

    def _scan_front(
        self, archive: Archive, points: FloatArray, objective: FloatArray, rows: FloatArray, request: int
    ) -> None:
        """Count all of the designs scanned, and record those that join the front."""
        gate, measures = self._stage.gate, self._stage.measures
        violations = measures.violations(points, rows)
        violations[~np.isfinite(rows).all(axis=1)] = math.inf
        places = archive.joining(rows, violations)
        if not len(places) and self._recorder.incumbents.feasible is None and len(points):
            places = np.array([int(np.argmin(violations))])
        fresh = [int(place) for place in places if gate.known(points[place]) is None]
        gate.count_more(len(points) - gate.counted_among(points) - len(fresh))
        keys = {key_of(points[place]): place for place in fresh}
        if keys:
            own = np.array(list(keys.values()), dtype=np.int64)
            seconds = self._stage.clock.seconds
            self._recorder.add_batch(points[own], objective[own], rows[own], list(keys), request, seconds)

    def _best_of(self, points: FloatArray, objective: FloatArray, rows: FloatArray) -> int | None:
        """Return the place of the best design that is reportable, or of the least violation; None where none is."""
        violation = self._stage.measures.violations(points, rows)
        is_valid = np.isfinite(objective) & np.isfinite(rows).all(axis=1)
        feasible = np.flatnonzero(is_valid & (violation <= self._stage.settings.feasibility))
        if len(feasible):
            return int(feasible[np.argmin(objective[feasible])])
        valid = np.flatnonzero(is_valid)
        return int(valid[np.argmin(violation[valid])]) if len(valid) else None
