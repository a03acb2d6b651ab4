"""Why a run did not end as hoped: what is missed, what conflicts, what is out of scale, invalid, flat or kinked, and
what to try, as commands."""

from __future__ import annotations

import math
from collections.abc import Mapping, Sequence
from dataclasses import field
from typing import TYPE_CHECKING, Any

import numpy as np
from numpy.typing import NDArray

from ilvren.errors import RequestError
from ilvren.evaluate import Gate, entries_of, kinks_near, measured
from ilvren.judge.checking.conflicts import check_conflicts
from ilvren.judge.checking.scaling import check_scaling
from ilvren.judge.diagnosing.conflict import Conflict, find_conflict
from ilvren.judge.diagnosing.failing import FailingRegion, failing_region
from ilvren.judge.optimum.curvature import lagrangian_curvature
from ilvren.judge.standing.design_report import trouble_sentence
from ilvren.methods import method_named
from ilvren.methods.pieces import can_lift
from ilvren.notebooks import InNotebooks
from ilvren.problem import NamedValue, Objective, Problem, RowBlock, lifted_of, objective_size
from ilvren.records import dataclass
from ilvren.runs import (
    AUTOMATIC,
    HOLDS,
    RecordedShelf,
    Scaling,
    Settings,
    command_again,
    first_order_conditions,
    flat_design,
    is_large,
    limit_states,
    on_file_again,
    problem_of,
    refuse_changed,
    refuse_unhandled,
)

if TYPE_CHECKING:
    from ilvren.ledger import EvaluationRecord, Ledger, RunRecord
    from ilvren.runs import LimitState

__all__ = ["Diagnosis", "Symptom", "diagnose"]

FloatArray = NDArray[np.float64]

# Missed limits, conflicting rows of one vector and invalid designs told by name.
MOST_MISSED, MOST_NAMED, MOST_INVALID = 20, 3, 3
# The share of the sizes within which kinks are looked for.
KINK_RADIUS = 1e-4
# First derivatives that lie this far apart make methods crawl.
FAR_APART = 1e4
# Designs this stationary are looked at for curvature.
NEARLY_STATIONARY = 1e-2


@dataclass(frozen=True)
class Symptom:
    """One thing found: `kind` from missed, conflict, invalid, scaling, curvature, kink, flat; `text` a sentence; `line`
    in the problem file; `facts` the numbers behind it."""

    kind: str
    text: str
    line: int | None = None
    facts: Mapping[str, Any] = field(default_factory=dict)

    def to_dict(self) -> dict[str, object]:
        """Return the plain values of the JSON document."""
        return {"kind": self.kind, "text": self.text, "line": self.line, **self.facts}


@dataclass(frozen=True)
class Diagnosis(InNotebooks):
    """What was found about a run, the most telling first, and commands to try, each with its reason."""

    run: str
    problem: Problem
    outcome: str
    reason: str
    symptoms: tuple[Symptom, ...]
    advice: tuple[tuple[str, str], ...]

    @property
    def holds(self) -> bool:
        """Return whether the run ended as it was asked to."""
        return self.outcome in HOLDS

    def to_dict(self) -> dict[str, object]:
        """Return the JSON document."""
        return {
            "run": self.run,
            "outcome": self.outcome,
            "reason": self.reason,
            "symptoms": [symptom.to_dict() for symptom in self.symptoms],
            "advice": [{"command": command, "why": why} for command, why in self.advice],
        }


def diagnose(reference: str, ledger: Ledger, *, as_now: bool = False) -> Diagnosis:
    """Look into a recorded run. Raises RequestError when there is no such run, or it has not ended."""
    record = ledger.run(reference)
    if record.state != "ended" or record.result is None:
        raise RequestError(f"{record.id} has not ended", advice=f"`ilvren resume {record.id}` brings it to an end")
    problem = problem_of(record)
    refuse_changed(record, problem, as_now=as_now)
    case = _Case(record, problem, ledger)
    with np.errstate(all="ignore"):
        return case.diagnosis()


def _region_in_words(found: FailingRegion, names: Sequence[str]) -> tuple[str, str]:
    """Return where failures lie, and the bound or constraint that keeps out of there."""
    place = found.variable
    if place is not None:
        sign = found.normal[place]
        side, kind = (">=", "upper") if sign > 0.0 else ("<=", "lower")
        return (
            f"{names[place]} {side} {found.bound * sign:.5g}",
            f"the {kind} bound {found.safe * sign:.5g} of {names[place]}",
        )
    order = np.argsort(-np.abs(found.normal), kind="stable")
    terms = [f"{found.normal[k]:+.4g} * {names[k]}" for k in order if found.normal[k] != 0.0]
    told = " ".join(terms).removeprefix("+").replace("+1 * ", "+").replace("-1 * ", "-")
    told = told.removeprefix("1 * ")
    return f"{told} >= {found.bound:.5g}", f'the constraint "{told} <= {found.safe:.5g}"'


class _Case:
    def __init__(self, record: RunRecord, problem: Problem, ledger: Ledger) -> None:
        assert record.result is not None
        self.record, self.problem, self.ledger = record, problem, ledger
        self.result: Mapping[str, Any] = dict(record.result)
        variables: Any = self.result["variables"]
        self.settings = Settings.from_dict(record.settings)
        self.point: FloatArray = np.array(flat_design(variables), dtype=np.float64)
        self.gate = Gate(problem, is_sparse=is_large(problem))
        self.measures = measured(problem, self.gate)
        for calls in self.gate.calls:
            calls.shelf = RecordedShelf(ledger, record.number, problem)
        # Differences of a program take many calls, and say little where it shows few digits.
        self.is_costly = any(source.is_apart and not source.can_supply for source in problem.sources)
        self.here = self.gate.evaluate(self.point, derivatives=not self.is_costly)
        self.violation = self.measures.violation(self.point, self.here.rows) if self.here.is_finite else math.inf
        self.conflict: Conflict | None = None
        self.is_proved = False
        self.kinds: set[str] = set()

    def diagnosis(self) -> Diagnosis:
        proved = self._proved()
        symptoms = [
            *proved,
            *self._missed(),
            *([] if proved or self.is_costly else self._conflicting()),
            *self._invalid(),
            *([] if self.is_costly else (*self._kinks(), *self._scaling(), *self._curvature())),
        ]
        self.kinds = {symptom.kind for symptom in symptoms}
        outcome = self.record.outcome or ""
        return Diagnosis(
            self.record.id,
            self.problem,
            outcome,
            str(self.result["reason"]),
            tuple(symptoms),
            tuple(self._advice(outcome)),
        )

    # ---- symptoms -------------------------------------------------------------------------------

    def _proved(self) -> list[Symptom]:
        """Return the conflicts that the bounds and the formulas alone prove: no run can end better."""
        if self.here.is_finite and self.violation <= self.settings.feasibility:
            return []
        found = [item for item in check_conflicts(self.problem) if item.kind == "conflict"]
        self.is_proved = bool(found)
        return [
            Symptom(
                "conflict",
                f"proved: {item.text}",
                item.line,
                {"limits": list(item.about), "proved": True, **item.facts},
            )
            for item in found
        ]

    def _missed(self) -> list[Symptom]:
        if not self.here.is_finite:
            return []
        feasibility = self.settings.feasibility
        bounds, rows = limit_states(self.problem, self.measures, self.point, self.here, None, feasibility=feasibility)
        asked, equations = rows[: self.problem.own_row_count], rows[self.problem.own_row_count :]
        states = [(state, self._row_line(place)) for place, state in enumerate(asked)]
        states += [(state, self._variable_line(place)) for place, state in enumerate(bounds)]
        missed = sorted(
            (item for item in states if item[0].violation > feasibility), key=lambda item: -item[0].violation
        )
        entries: dict[str, list[tuple[LimitState, int | None]]] = {}
        for item in missed:  # the rows of one vector are told in one line, by the worst of them
            entries.setdefault(item[0].name.partition("[")[0], []).append(item)
        shown = list(entries.values())[:MOST_MISSED]
        found = [_missed_in_words(*items[0], len(items)) for items in shown]
        told = sum(len(items) for items in shown)
        if len(missed) > told:
            found.append(Symptom("missed", f"and {len(missed) - told} more limits are missed, all by less"))
        worst = max(equations, key=lambda state: state.violation, default=None)
        if worst is not None and worst.violation > feasibility:
            found.append(
                Symptom(
                    "missed",
                    f"what evolves is no course: the equations on the grid are not met, by {worst.violation:.2g} of the"
                    f" size at {worst.name.rpartition(': ')[0]}@{worst.name.rpartition('@')[2]}",
                    None,
                    {"limit": worst.name, "violation": worst.violation},
                )
            )
        return found

    def _conflicting(self) -> list[Symptom]:
        if not self.here.is_finite or self.violation <= self.settings.feasibility or self.problem.grid:
            return []
        self.conflict = find_conflict(self.problem, self.point, self.settings.feasibility)
        if self.conflict is None:
            return [
                Symptom(
                    "conflict",
                    "the limits do not conflict: leaving the objective out, a design that meets all of them was found",
                    None,
                    {"limits": []},
                )
            ]
        names = [self.problem.rows[place].name for place in self.conflict.rows]
        told = self._rows_in_words(self.conflict.rows)
        lines = [self._row_line(place) for place in self.conflict.rows]
        bounds = self._bounds_in_words(self.conflict.bounds)
        names, told = names + bounds, told + bounds
        shown = ", ".join(told[:12]) + (f" and {len(told) - 12} more" if len(told) > 12 else "")
        if not names:
            return []
        if len(names) == 1:
            text = f"{shown} cannot be met by itself: no design that meets it was found"
        elif self.conflict.is_minimal:
            text = f"{shown} cannot hold together; without any one of them the rest of these can be met"
        else:
            text = f"among these limits some cannot hold together: {shown}"
        facts = {"limits": names, "minimal": self.conflict.is_minimal, "lines": lines}
        return [Symptom("conflict", text, lines[0] if lines else None, facts)]

    def _bounds_in_words(self, places: tuple[int, ...]) -> list[str]:
        """Return variables whose bounds are meant by their names, whatever the moments of a grid."""
        problem = self.problem
        if not problem.is_collocated:
            return [f"the bounds of {problem.variables[place].name}" for place in places]
        return [
            f"the bounds of {block.name}"
            for block in problem.blocks
            if any(block.first <= place < block.first + block.size for place in places)
        ]

    def _rows_in_words(self, places: tuple[int, ...]) -> list[str]:
        """Return rows by their names, many of one vector as a count."""
        words = []
        for block in self.problem.row_blocks:
            own = [place for place in places if block.first <= place < block.first + block.size]
            if len(own) > MOST_NAMED:
                all_of = "all" if len(own) == block.size else f"{len(own)} of the"
                words.append(f"{all_of} {block.size} rows of {block.name}")
            else:
                words += [self.problem.rows[place].name for place in own]
        return words

    def _invalid(self) -> list[Symptom]:
        evaluations = self.ledger.evaluations(self.record.number)
        bad = [
            e
            for e in evaluations
            if (not np.isfinite(np.frombuffer(e.values)).all() if e.is_whole else math.isinf(e.violation))
        ]
        if not bad:
            return []
        found = []
        seen: set[str] = set()
        for item in bad:
            if not item.is_whole:
                continue
            point = np.frombuffer(item.point)
            if len(point) != len(self.point):
                continue
            for name, (_, trouble) in self.problem.named_values(tuple(point.tolist()), self.gate.calls).items():
                if trouble is not None and name not in seen and len(seen) < MOST_INVALID:
                    seen.add(name)
                    text = f"evaluation {item.number}: {trouble_sentence(name, trouble)}"
                    found.append(Symptom("invalid", text, self._entry_line(name), {"evaluation": item.number}))
                    break
        share = f"{len(bad)} of {len(evaluations)} designs had no finite value"
        facts = {"invalid": len(bad), "evaluations": len(evaluations)}
        return [Symptom("invalid", share, None, facts), *self._region(evaluations, bad), *found]

    def _region(self, evaluations: Sequence[EvaluationRecord], bad: Sequence[EvaluationRecord]) -> list[Symptom]:
        """Say where the designs without values lie, when they lie together, and what keeps out of there."""
        if not self.problem.sources:  # a formula says itself where it is invalid, and why
            return []
        failed = {item.number for item in bad}
        kept = [item for item in evaluations if item.is_whole and len(item.point) == 8 * len(self.point)]
        if not kept:
            return []
        points = np.array([np.frombuffer(item.point) for item in kept])
        sizes = np.where(np.isin(np.arange(len(self.point)), self.problem.free_places), 1.0, 0.0)
        sizes *= self.measures.variable_sizes(self.point)
        found = failing_region(points, np.array([item.number in failed for item in kept]), sizes)
        if found is None:
            return []
        others = found.others
        beside = {0: "no design there has", 1: "one design there has"}.get(others, f"{others} designs there have")
        told, out = _region_in_words(found, [variable.name for variable in self.problem.variables])
        share = "all of them" if found.failed == found.failures else f"{found.failed} of the {found.failures}"
        text = f"{share} lie where {told} ({beside} values): {out} keeps out of it"
        return [Symptom("invalid", text, None, {"failed_beyond": found.failed, "others_beyond": found.others})]

    def _kinks(self) -> list[Symptom]:
        if not self.here.is_finite:
            return []
        radii = np.zeros(len(self.point))
        free = list(self.problem.free)
        radii[free] = KINK_RADIUS * self.measures.variable_sizes(self.point)[free]
        found = []
        for kink in kinks_near(self.gate.written, self.point, radii)[:3]:
            origin = kink.origin
            place = (
                f'"{" ".join(origin.text[slice(*origin.span)].split())}" in {origin.entry}' if origin else "a formula"
            )
            line = self._entry_line(origin.entry.rpartition(".")[2]) if origin else None
            found.append(Symptom("kink", f"{place} changes its branch at this design: derivatives jump there", line))
        return found

    def _scaling(self) -> list[Symptom]:
        """Compare how far first derivatives lie apart as written and in the method's scaling."""
        if not self.here.has_finite_derivatives:
            return []
        check = check_scaling(self.problem, Gate(self.problem))
        found = [Symptom("scaling", item.text, item.line, item.facts) for item in check.findings if item.about]
        start = self.gate.evaluate(np.array(self.problem.start), derivatives=True)
        scaling = Scaling.at(self.problem, self.measures, start, is_on=True)
        before, after = self._spread(None), self._spread(scaling)
        if before > FAR_APART:
            state = "was on" if self.settings.scaling else "was switched off"
            found.append(
                Symptom(
                    "scaling",
                    f"first derivatives lie a factor {before:.1e} apart as written, {after:.1e} in the method's"
                    f" scaling, which {state}",
                    None,
                    {"before": before, "after": after},
                )
            )
        return found

    def _spread(self, scaling: Scaling | None) -> float:
        """Return the ratio of the largest to the smallest of the largest derivatives of objective and rows."""
        reply_gradient, jacobian = self.here.gradient, self.here.jacobian
        if scaling is not None:
            reply = scaling.reply([self.here], derivatives=True)
            assert reply.gradient is not None
            assert reply.jacobian is not None
            reply_gradient, jacobian = reply.gradient[0], reply.jacobian[0]
        assert reply_gradient is not None
        sizes = np.abs(np.concatenate([reply_gradient, entries_of(jacobian).ravel()]))
        sizes = sizes[sizes > 0.0]
        return float(sizes.max() / sizes.min()) if len(sizes) else 1.0

    def _curvature(self) -> list[Symptom]:
        if not self.here.has_finite_derivatives or self.problem.objective is None:
            return []
        start = self.gate.evaluate(np.array(self.problem.start))
        size = objective_size(self.measures.objective_magnitude, self.here.objective, start.objective)
        feasibility = self.settings.feasibility
        conditions = first_order_conditions(
            self.problem, self.measures, self.point, self.here, objective_size=size, feasibility=feasibility
        )
        if not conditions.stationarity <= NEARLY_STATIONARY or self.violation > feasibility:
            return []  # curvature says something at a stationary design only
        sizes = self.measures.variable_sizes(self.point)
        dense = Gate(self.problem)
        curvature = lagrangian_curvature(dense, self.measures, self.point, conditions, sizes=sizes, objective_size=size)
        found = []
        if not conditions.are_unique:
            text = "the gradients of the active limits depend on each other: their multipliers are not determined"
            found.append(Symptom("flat", text))
        if curvature is not None and abs(curvature.least) <= curvature.noise:
            found.append(
                Symptom(
                    "flat",
                    "the objective is flat along some direction that the limits leave",
                    None,
                    {"curvature": curvature.least},
                )
            )
        elif curvature is not None and curvature.least < 0.0:
            found.append(
                Symptom(
                    "curvature",
                    "the objective curves downwards along some direction that the limits leave: not a minimum",
                    None,
                    {"curvature": curvature.least},
                )
            )
        return found

    # ---- advice ----------------------------------------------------------------------------------

    def _advice(self, outcome: str) -> list[tuple[str, str]]:
        """Return commands to paste and why, the most promising first."""
        run, others = self.record.id, self._other_methods()
        found: list[tuple[str, str]] = []
        if "sample" in self.record.overrides:
            if outcome in ("exhausted", "interrupted"):
                found.append((f"ilvren resume {run}", "evaluate the designs that are left"))
            return [
                *found,
                (self._command(AUTOMATIC, from_best=True), "a sample searches nothing: search from its best design"),
            ]
        if outcome == "exhausted" or outcome == "interrupted":
            found.append((f"ilvren resume {run}", "the run had not come to its end"))
        if outcome == "unbounded":
            found.append((on_file_again(self.record, "show"), "look for a bound that is missing"))
        if self.is_proved:
            why = "this holds whatever is run: change one of these limits, or a bound"
            return [*found, (on_file_again(self.record, "check", "--only", "conflicts"), why)]
        if "conflict" in self.kinds and self.conflict is None and others:
            found.append((self._command(others[0]), "another way to feasible designs"))
        lifted = lifted_of(self.problem)
        is_liftable = lifted is not None and lifted.is_smooth
        if "kink" in self.kinds and is_liftable and not can_lift(method_named(self.record.method)):
            found.append((self._command("sqp"), "it takes these kinks as smooth limits of further unknowns"))
        elif "kink" in self.kinds and self._is_able("nelder-mead"):
            found.append((self._command("nelder-mead"), "it needs no derivatives, and goes on where they jump"))
        if "invalid" in self.kinds and self.violation < math.inf:
            found.append((self._command(self.record.method, from_best=True), "from the best valid design of this run"))
        if self.settings.scaling is False and any(symptom == "scaling" for symptom in self.kinds):
            found.append((self._command(self.record.method), "with scaling, which was switched off"))
        if outcome in ("stalled", "no-feasible", "infeasible"):
            tried = {command for command, _ in found}
            other = next((command for name in others if (command := self._command(name)) not in tried), None)
            if other is not None:
                found.append((other, "another method, from the same start"))
            found.append((self._command(AUTOMATIC, from_best=True), f"from the design that {run} reached"))
        if outcome in ("infeasible", "no-feasible", "invalid"):
            why = "see where limits leave room, for another start"
            found.append((on_file_again(self.record, "draw", "--output", "where.png"), why))
        if outcome in HOLDS:
            found.append((f"ilvren verify {run}", "the run ended well: see whether its design is an optimum"))
        return found

    def _other_methods(self) -> list[str]:
        candidates = (
            ["interior-point", "sqp", "augmented-lagrangian"] if self.problem.row_count else ["newton", "l-bfgs"]
        )
        if self.settings.method == AUTOMATIC:  # which has tried the first ones
            candidates = candidates[2:] or ["bfgs"]
        candidates = [*candidates, "mesh-adaptive-search", "differential-evolution"]
        return [name for name in candidates if name != self.record.method and self._is_able(name)]

    def _is_able(self, name: str) -> bool:
        """Return whether a method handles what the problem is made of."""
        try:
            refuse_unhandled(self.problem, method_named(name))
        except RequestError:
            return False
        return True

    def _command(self, method: str, *, from_best: bool = False) -> str:
        begins = "from-run" if from_best else "as-before"
        return command_again(self.record, method=method, begins=begins, is_bare=True)

    # ---- places ----------------------------------------------------------------------------------

    def _row_line(self, place: int) -> int | None:
        for block in self.problem.row_blocks:
            if block.first <= place < block.first + block.size:
                return block.line
        return None

    def _variable_line(self, place: int) -> int | None:
        for block in self.problem.blocks:
            if block.first <= place < block.first + block.size:
                return block.line
        return None

    def _entry_line(self, name: str) -> int | None:
        entries: list[NamedValue | RowBlock | Objective] = [*self.problem.derived, *self.problem.row_blocks]
        if self.problem.objective is not None:
            entries.append(self.problem.objective)
        return next((entry.line for entry in entries if entry.name == name), None)


def _missed_in_words(state: LimitState, line: int | None, count: int) -> Symptom:
    """Return what is missed by a limit, the worst of `count` of the same name."""
    side = "lower" if state.value < state.lower else "upper"
    limit = state.lower if side == "lower" else state.upper
    what = "limit" if state.lower == state.upper else f"{side} limit"
    unit = f" {state.unit}" if state.unit else ""
    text = (
        f"{state.name} = {state.value:.6g}{unit} misses its {what} {limit:.6g} by {abs(state.value - limit):.3g}"
        f"{unit}, {state.violation:.2g} of its size"
    )
    facts = {"name": state.name, "value": state.value, "limit": limit, "violation": state.violation}
    if count > 1:
        text += f"; {count - 1} more of {state.name.partition('[')[0]} are missed, by less"
        facts["missed_in_all"] = count
    return Symptom("missed", text, line, facts)
