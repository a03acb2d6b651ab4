"""The result of a run: what is reported, and the JSON document that says it."""

from __future__ import annotations

from collections.abc import Mapping
from dataclasses import field
from typing import TYPE_CHECKING, Any

import numpy as np

from ilvren.notebooks import InNotebooks
from ilvren.records import dataclass
from ilvren.runs.limits import LimitState, LimitStates, by_block, plain, plain_values, told_by_block

if TYPE_CHECKING:
    from ilvren.ledger import EvaluationRecord, IterationRecord
    from ilvren.problem import Problem
    from ilvren.runs.estimates import Estimates
    from ilvren.runs.fitted import Forecast
    from ilvren.runs.front import Front
    from ilvren.runs.refining import TimeReport
    from ilvren.runs.stages import StageEnd
    from ilvren.runs.told import Confirmation, CourseTold, Prediction, ScatterTold

__all__ = ["HOLDS", "OUTCOMES", "FoundOptimum", "RunResult"]

# Outcome → what it means for the reader.
OUTCOMES = {
    "converged": "first-order conditions hold at a feasible design",
    "settled": "the method's own criterion is met at a feasible design; stationarity was not measured",
    "target": "the objective asked for by --target, or its goal, is reached at a feasible design",
    "infeasible": "the violation of the limits cannot be reduced any further from here",
    "no-feasible": "no feasible design was found, which does not prove that there is none",
    "unbounded": "the objective improves without end at feasible designs",
    "stalled": "no further progress, and the criterion is not met",
    "exhausted": "the evaluations, iterations or seconds allowed are used up",
    "invalid": "there is no finite value to go on from",
    "model-failed": "a model failed and the method could not go on",
    "interrupted": "stopped from outside; the best design so far is kept",
}
# Above this many rows the JSON document is a summary of the worst, unless all are asked for.
MOST_JSON_ROWS, SUMMARY_ROWS = 1000, 20
HOLDS = frozenset({"converged", "settled", "target"})


@dataclass(frozen=True)
class FoundOptimum:
    """One of several distinct optima a run found: the design (n,), its objective as written, how `often` it was
    reached, and the numbers of the starts it was reached `from_starts`."""

    point: tuple[float, ...]
    objective: float
    often: int
    from_starts: tuple[int, ...]


@dataclass(frozen=True, kw_only=True, eq=False)
class RunResult(InNotebooks):
    """What a run reports. `id` is "" when it was not recorded; `design` says which design this is:
    "final", "best-feasible" or "least-violation". Objectives are as written. `estimates`: how well the parameters of
    a fit are determined; `forecast` how it does on lines that were left out. `optima` are the distinct ones of a
    method that looks for several; `bound` is the best that any feasible design could reach, where the method gives it,
    a mathematical statement when `bound_is_proved`.
    `second_look` is what was found from other starts after the method had converged (`runs.second_look`); `conflict`
    names the constraints that were proved to exclude each other; `notes` say what a user should know of its models;
    `derived` {name: value} are the derived values and the models' outputs at the design; `stages` is how the stages
    before the last one ended; `time_error` what simulating costs at the design; `confirmation` what
    [confirm] found, None where it was not evaluated; `prediction` what the approximation said that was searched on.
    `whole` is the problem with its unknowns on a grid, where `problem` is without; `courses` tell costates and arcs of
    what evolves there; `multipliers` are those of all rows and bounds of what was solved, internal and unscaled, where
    they are known; `scatter` is what is told of a run about scatter. `unknowns` {name: values} are those of states on a
    grid, which are no part of the design.
    Of several objectives `front` is what was found, `design` says "compromise", and the design is the member nearest to
    the ideal, each objective over its range."""

    id: str
    problem: Problem
    method: str
    outcome: str
    reason: str
    design: str
    point: tuple[float, ...]
    objective: float | None
    baseline_objective: float | None
    baseline_violation: float
    bounds: LimitStates
    constraints: LimitStates
    violation: float
    stationarity: float | None
    counts: Mapping[str, int]
    seconds: float
    seed: int
    settings: Mapping[str, object]
    evaluations: tuple[EvaluationRecord, ...] = field(default=(), repr=False)
    iterations: tuple[IterationRecord, ...] = field(default=(), repr=False)
    machine_trouble: str | None = None
    estimates: Estimates | None = field(default=None, repr=False)
    optima: tuple[FoundOptimum, ...] = ()
    bound: float | None = None
    bound_is_proved: bool = False
    second_look: Mapping[str, object] | None = None
    conflict: tuple[str, ...] = ()
    notes: tuple[str, ...] = ()
    derived: Mapping[str, Any] = field(default_factory=dict, repr=False)
    stages: tuple[StageEnd, ...] = ()
    confirmation: Confirmation | None = None
    time_error: TimeReport | None = None
    forecast: tuple[Forecast, ...] = ()
    prediction: Prediction | None = None
    front: Front | None = None
    unknowns: Mapping[str, Any] = field(default_factory=dict, repr=False)
    courses: tuple[CourseTold, ...] = ()
    whole: Problem | None = field(default=None, repr=False, compare=False)
    scatter: ScatterTold | None = None
    multipliers: tuple[Any, Any] | None = field(default=None, repr=False, compare=False)

    @property
    def holds(self) -> bool:
        """Return whether the run reached what it was asked, and nothing of [confirm] is broken."""
        return self.outcome in HOLDS and not (self.confirmation is not None and self.confirmation.word == "broken")

    @property
    def objectives(self) -> dict[str, float]:
        """Return {name: value as written}; empty without an objective."""
        if self.problem.objective is None or self.objective is None:
            return {}
        return {self.problem.objective.name: self.objective}

    @property
    def variables(self) -> dict[str, Any]:
        """Return {name: value} of the reported design, nested lists for vectors and matrices."""
        return told_by_block(self.problem.blocks, self.point)

    def worst_constraints(self, most: int) -> tuple[LimitState, ...]:
        """Return the rows with the largest violation, then with the least room, in their order in the file."""
        return self.constraints.worst(most)

    def to_dict(self, *, full: bool = True) -> dict[str, object]:
        """Return the JSON document of the run; without `full`, of very many rows only the worst."""
        if full or len(self.constraints) <= MOST_JSON_ROWS:
            return self._document(self.bounds.document(), self.constraints.document())
        shown = self.worst_constraints(SUMMARY_ROWS)
        document = self._document(self.bounds.document(), {state.name: state.to_dict() for state in shown})
        document["constraints_summary"] = {"rows": len(self.constraints), "shown": len(shown)}
        return document

    def to_record(self) -> dict[str, object]:
        """Return what a ledger keeps: the document, of very many bounds and rows only what a design does not tell."""
        if len(self.constraints) + len(self.bounds) <= MOST_JSON_ROWS:
            found = self.to_dict()
        else:
            found = self._document(self.bounds.priced_document(), self.constraints.priced_document())
        variables = by_block(self.problem.blocks, [plain(value) for value in self.point])
        return found | {"variables": variables | dict(self.unknowns)}

    @property
    def full_point(self) -> tuple[float, ...]:
        """Return the design with its unknowns on a grid, where it has such."""
        parts = [np.ravel(np.array(values, dtype=float)) for values in self.unknowns.values()]
        return (*self.point, *np.concatenate(parts).tolist()) if parts else self.point

    @property
    def gap(self) -> float | None:
        """Return how far the objective is from the bound, relative to the larger of both; None without a bound."""
        if self.bound is None or self.objective is None:
            return None
        size = max(abs(self.objective), abs(self.bound))
        return abs(self.objective - self.bound) / size if size > 0.0 else 0.0

    def _bound_document(self) -> dict[str, object]:
        return {"value": self.bound, "gap": self.gap, "proved": self.bound_is_proved}

    def _optimum_document(self, item: FoundOptimum) -> dict[str, object]:
        return {
            "objective": plain(item.objective),
            "variables": told_by_block(self.problem.blocks, [plain(value) for value in item.point]),
            "reached": item.often,
            "from_starts": list(item.from_starts),
        }

    def _document(self, bounds: Mapping[str, object], constraints: Mapping[str, object]) -> dict[str, object]:
        return {
            "run": self.id or None,
            "problem": self.problem.title or self.problem.source.file,
            "method": self.method,
            "outcome": self.outcome,
            "reason": self.reason,
            "design": self.design,
            "objectives": None if self.front is not None else {n: plain(v) for n, v in self.objectives.items()},
            "variables": told_by_block(self.problem.blocks, [plain(value) for value in self.point]),
            "bounds": bounds,
            "constraints": constraints,
            "derived": {name: plain_values(value) for name, value in self.derived.items()},
            "violation": plain(self.violation),
            "stationarity": None if self.stationarity is None else plain(self.stationarity),
            "counts": dict(self.counts),
            "seconds": round(self.seconds, 6),
            "seed": self.seed,
            "settings": dict(self.settings),
            **({"estimates": self.estimates.to_dict()} if self.estimates is not None else {}),
            **({"forecast": [item.to_dict() for item in self.forecast]} if self.forecast else {}),
            **({"optima": [self._optimum_document(item) for item in self.optima]} if self.optima else {}),
            **({"bound": self._bound_document()} if self.bound is not None else {}),
            **({"conflict": list(self.conflict)} if self.conflict else {}),
            **({"stages": [stage.to_dict() for stage in self.stages]} if self.stages else {}),
            **({"confirmation": self.confirmation.to_dict()} if self.confirmation is not None else {}),
            **(self.prediction.to_dict() if self.prediction is not None else {}),
            **({"time_error": self.time_error.to_dict()} if self.time_error is not None else {}),
            **({"scatter": self.scatter.to_dict()} if self.scatter is not None else {}),
            **({"courses": [item.to_dict() for item in self.courses]} if self.courses else {}),
            **({"second_look": dict(self.second_look)} if self.second_look is not None else {}),
            **(self.front.to_dict(self.problem, self.id) if self.front is not None else {}),
        }
