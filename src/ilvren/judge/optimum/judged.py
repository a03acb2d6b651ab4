"""A design to be judged: the stored problem, what the run reported and logged, and what the checks find."""

from __future__ import annotations

from collections.abc import Mapping, Sequence
from dataclasses import field, replace
from typing import TYPE_CHECKING, Any

import numpy as np
from numpy.typing import NDArray

from ilvren.errors import RequestError
from ilvren.evaluate import Gate, measured
from ilvren.judge.standing.design_report import point_at
from ilvren.judge.standing.verdict import Check, Verdict
from ilvren.problem import Problem, begun, limit_sizes, objective_size
from ilvren.records import dataclass
from ilvren.runs import (
    AUTOMATIC,
    Conditions,
    RunResult,
    Settings,
    addressed,
    counted_problem,
    flat_design,
    is_large,
    limit_states,
    problem_of,
    refuse_changed,
    smooth_at,
    split_address,
)

if TYPE_CHECKING:
    from ilvren.formula import Kink
    from ilvren.judge.optimum.curvature import Curvature
    from ilvren.judge.optimum.probe import Better
    from ilvren.ledger import EvaluationRecord, Ledger
    from ilvren.runs import LimitState, LimitStates

__all__ = ["JudgedDesign", "case_of_design", "case_of_record", "case_of_result"]

FloatArray = NDArray[np.float64]


@dataclass(kw_only=True)
class JudgedDesign:
    """What is judged, and what has been found so far."""

    problem: Problem
    point: FloatArray
    tolerance: float
    feasibility: float
    run: str = ""
    logged_objective: float | None = None
    logged: tuple[EvaluationRecord, ...] = ()
    accept_probe: bool = False
    in_new_process: bool = False
    checks: list[Check] = field(default_factory=list)

    def __post_init__(self) -> None:
        self.asked = self.problem
        self.problem = replace(self.problem, confirmation=None)  # which is asked of this design, and no other
        self.gate = Gate(self.problem, is_sparse=is_large(self.problem))
        self.measures = measured(self.problem, self.gate)
        self.evaluation = self.gate.evaluate(self.point, derivatives=True)
        start = self.gate.evaluate(np.array(self.problem.start))
        self.size = objective_size(self.measures.objective_magnitude, self.evaluation.objective, start.objective)
        self.sizes = self.measures.variable_sizes(self.point)
        self.conditions: Conditions | None = None
        self.curvature: Curvature | None = None
        self.qualification = ""  # the kind, once it has been examined
        self.kinks: list[Kink] = []
        self.kink_radii = np.zeros(len(self.point))

    def add(self, name: str, result: str, value: float | None, limit: float | None, detail: str) -> str:
        """Put a check on the list and return its result."""
        self.checks.append(Check(name, result, value, limit, detail))
        return result

    def sized(self, internal: float) -> float:
        """Return an internal objective as written."""
        return internal * (self.problem.objective.sign if self.problem.objective else 1)

    def verdict(self, word: str, reason: str, better: Better | None = None) -> Verdict:
        """Close the case."""
        if better is not None and self.problem.is_about_scatter:
            doubt = self._doubt(better)
            if doubt:
                word, better = "unverified", None
                reason = f"a search finds a design that is better as far as smooth values tell, but counted {doubt}"
        active: tuple[LimitState, ...] = ()
        freedom = self.curvature.freedom if self.curvature else None
        if self.conditions is not None:
            bounds, rows = limit_states(
                self.problem, self.measures, self.point, self.evaluation, self.conditions, feasibility=self.feasibility
            )
            active = (
                *(state for state in self._own(rows) if state.is_active),
                *(state for state in bounds if state.is_active and state.lower < state.upper),
            )
        names = [variable.name for variable in self.problem.variables[: self.problem.own_size]]
        return Verdict(
            run=self.run,
            problem=self.asked,
            verdict=word,
            reason=reason,
            checks=tuple(self.checks),
            objective=self.sized(self._told_objective()) if self.problem.objective else None,
            active=active,
            freedom=freedom,
            better=dict(zip(names, better.point.tolist(), strict=False)) if better else {},
            better_objective=self.sized(better.objective) if better else None,
            accept_probe=self.accept_probe,
        )

    def _doubt(self, better: Better) -> str:
        """Return why a better design of a problem about scatter is none when it is counted, "" where it is one."""
        counted = counted_problem(self.problem)
        gate = Gate(counted)
        found = gate.evaluate(better.point)
        measures = measured(counted, gate)
        if not found.is_finite:
            return "it has no finite values"
        if not measures.violation(better.point, found.rows) <= self.feasibility:
            miss = np.maximum(measures.row_lower - found.rows, found.rows - measures.row_upper) / measures.row_sizes
            return f"it misses {counted.rows[int(np.argmax(miss))].name}"
        return "" if found.objective < gate.evaluate(self.point).objective else "it is none"

    def _told_objective(self) -> float:
        """Return the objective as it is told: of a problem about scatter what is counted."""
        if not self.problem.is_about_scatter:
            return float(self.evaluation.objective)
        return float(Gate(counted_problem(self.problem)).evaluate(self.point).objective)

    def _own(self, rows: LimitStates) -> Sequence[LimitState]:
        """Return the rows that the file asks for: equations between unknowns on a grid are none of them."""
        return rows if not self.problem.is_collocated else rows[: self.problem.own_row_count]


def case_of_result(result: RunResult, tolerance: float | None, accept_probe: bool) -> JudgedDesign:
    """Return the case of a run's design."""
    return _case(
        result.whole or result.problem,
        result.full_point,
        result.settings,
        tolerance,
        accept_probe,
        result.id,
        result.objective,
        result.evaluations,
        sizes=None if result.whole is None else limit_sizes(result.whole),
    )


def case_of_record(
    ledger: Ledger, reference: str, tolerance: float | None, accept_probe: bool, *, as_now: bool = False
) -> JudgedDesign:
    """Return the case of a design on record. Raises RequestError for a run without one, and where models have
    changed."""
    reference, number = split_address(reference)
    record = ledger.run(reference)
    if number is not None:
        return _case_of_number(ledger, f"{record.id}:{number}", tolerance, accept_probe, as_now=as_now)
    if record.state != "ended" or record.result is None:
        what = "is still running" if ledger.is_alive(record) else "was killed before it could report a design"
        raise RequestError(f"{record.id} {what}", advice=f"`ilvren resume {record.id}` brings it to an end")
    variables, objectives = record.result["variables"], record.result["objectives"]
    assert isinstance(variables, dict)
    assert isinstance(objectives, dict)
    problem = problem_of(record)
    point = flat_design(variables)
    refuse_changed(record, problem, as_now=as_now)
    logged = next(iter(objectives.values()), None)
    return _case(
        problem,
        point,
        record.settings,
        tolerance,
        accept_probe,
        record.id,
        logged if isinstance(logged, float) else None,
        tuple(ledger.evaluations(record.number)),
        in_new_process=True,
        sizes=record.overrides.get("unknowns", {}).get("sizes"),
    )


def _case_of_number(
    ledger: Ledger, address: str, tolerance: float | None, accept_probe: bool, *, as_now: bool
) -> JudgedDesign:
    """Return the case of one of the designs that a run evaluated, whether it has ended or not."""
    found = addressed(ledger, address)
    problem = problem_of(found.record)
    refuse_changed(found.record, problem, as_now=as_now)
    return _case(
        problem,
        found.point,
        found.record.settings,
        tolerance,
        accept_probe,
        found.address,
        None if found.evaluation is None else found.evaluation.objective,
        tuple(ledger.evaluations(found.record.number)),
        in_new_process=True,
        sizes=found.record.overrides.get("unknowns", {}).get("sizes"),
    )


def case_of_design(
    problem: Problem,
    at: Mapping[str, Any],
    tolerance: float | None,
    accept_probe: bool,
    *,
    in_new_process: bool = False,
) -> JudgedDesign:
    """Return the case of any design of a problem: its starts with the values of `at` in place."""
    point = point_at(problem, at)
    settings = Settings(method=AUTOMATIC).to_dict()
    if problem.is_about_scatter:
        problem = smooth_at(problem, np.array(point))
    return _case(problem, point, settings, tolerance, accept_probe, "", None, (), in_new_process=in_new_process)


def _case(
    problem: Problem,
    point: tuple[float, ...],
    settings: Mapping[str, object],
    tolerance: float | None,
    accept_probe: bool,
    run_id: str,
    logged: float | None,
    evaluations: tuple[EvaluationRecord, ...],
    *,
    in_new_process: bool = False,
    sizes: Mapping[str, float] | None = None,
) -> JudgedDesign:
    if problem.is_collocated:  # its states are as large as they are along this design
        problem = begun(problem, np.array(point), sizes)
    own, feasibility = settings["tolerance"], settings["feasibility"]
    assert isinstance(own, float)
    assert isinstance(feasibility, float)
    tolerance = own if tolerance is None else tolerance
    if not 0.0 < tolerance < 1.0:
        raise RequestError(f"the tolerance must lie between 0 and 1, not {tolerance:g}")
    return JudgedDesign(
        problem=problem,
        point=np.array(point),
        tolerance=tolerance,
        feasibility=feasibility,
        run=run_id,
        logged_objective=logged,
        logged=evaluations,
        accept_probe=accept_probe,
        in_new_process=in_new_process,
    )
