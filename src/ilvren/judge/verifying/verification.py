"""Is a design an optimum? Independent checks on a fresh evaluation of the stored problem.

Nothing a method said is used: multipliers, active limits and curvature are computed here. The verdict is the
first of `MEANINGS` that the checks bear out; a doubt makes it weaker, never stronger.
"""

from __future__ import annotations

import math
from collections.abc import Callable, Mapping
from dataclasses import field, replace
from pathlib import Path
from typing import TYPE_CHECKING, Any

import numpy as np
from numpy.typing import NDArray

from ilvren.errors import RequestError
from ilvren.evaluate import Gate
from ilvren.judge.optimum.afresh import evaluated_afresh
from ilvren.judge.optimum.judged import JudgedDesign, case_of_design, case_of_record, case_of_result
from ilvren.judge.optimum.search_around import better_at, check_other_method, check_random_starts
from ilvren.judge.standing.design_report import trouble_sentence
from ilvren.judge.standing.reference import Agreement, Reference, agreement_with
from ilvren.judge.standing.verdict import Check, Verdict
from ilvren.judge.verifying.local import better_reason, judged_locally
from ilvren.judge.verifying.neighbours import Neighbours, all_designs, neighbours_of
from ilvren.judge.worth.rounding import check_spacings, rounding_near
from ilvren.judge.worth.worth import worth_of
from ilvren.ledger import Ledger
from ilvren.problem import Problem, load
from ilvren.records import dataclass
from ilvren.runs import BROKEN, CONFIRMED, FAILED, RunResult, confirmed, counted_problem, limit_states, unpacked

if TYPE_CHECKING:
    from ilvren.judge.optimum.probe import Better

__all__ = ["VerifyOptions", "verify"]

FloatArray = NDArray[np.float64]

# A fresh evaluation must agree with the record to this share of each value's size.
AGREEMENT = 1e-9
# What the verdict is asked to survive: a tolerance so many times smaller.
SHARPER = 10.0
# Designs on record that are looked at for being better, the best first.
MOST_RECORDS = 20
# Problems with members of so many variables are proved if so many boxes suffice.
MOST_PROVED_QUICKLY, PROVED_QUICKLY_BOXES = 6, 4000


@dataclass(frozen=True, kw_only=True)
class VerifyOptions:
    """What a verification is to do beyond its own checks: so many random starts, another method that must agree, a
    proof within so many seconds (`told` hears of boxes done, boxes open and the bound), what the design is worth, the
    best design near it on spacings, agreement with a reference; `confirm` evaluates [confirm] whatever checks fail."""

    random_starts: int = 0
    method: str | None = None
    prove: bool = False
    prove_seconds: float = 60.0
    seed: int = 0
    worth: bool = False
    rounding: Mapping[str, float] = field(default_factory=dict)
    reference: Reference | None = None
    confirm: bool = False
    told: Callable[[int, int, float], None] | None = None


def verify(
    subject: RunResult | Problem | str | Path,
    *,
    at: Mapping[str, Any] | None = None,
    ledger: Ledger | str | Path | None = None,
    tolerance: float | None = None,
    feasibility: float | None = None,
    accept_probe: bool = False,
    as_now: bool = False,
    extra: VerifyOptions | None = None,
) -> Verdict:
    """Judge a design: that of a run (a result, or an id, a label or "last" in `ledger`), or any design of a problem (or
    the path of its file) with the values of `at` in place of its starts.

    `tolerance` and `feasibility` replace the run's own; `accept_probe` lets a verdict "probe-only" hold. A run whose
    models' files have changed is refused unless `as_now`. `extra` asks for more than the usual checks. Raises
    RequestError when there is no such run, or it has not ended.
    """
    if feasibility is not None and not 0.0 < feasibility < 1.0:
        raise RequestError(f"the feasibility must lie between 0 and 1, not {feasibility:g}")
    case = _case_of(subject, at, ledger, tolerance, accept_probe, as_now)
    case.feasibility = case.feasibility if feasibility is None else feasibility
    with np.errstate(all="ignore"):
        return judge(case, extra or VerifyOptions())


def _case_of(
    subject: RunResult | Problem | str | Path,
    at: Mapping[str, Any] | None,
    ledger: Ledger | str | Path | None,
    tolerance: float | None,
    accept_probe: bool,
    as_now: bool,
) -> JudgedDesign:
    if isinstance(subject, Problem):
        return case_of_design(subject, at or {}, tolerance, accept_probe)
    if isinstance(subject, RunResult):
        return case_of_result(subject, tolerance, accept_probe)
    if at is not None or isinstance(subject, Path) or ledger is None:
        if not isinstance(subject, Path) and at is None and not str(subject).endswith(".toml"):
            raise RequestError(f'"{subject}" is a run of a ledger: say which with ledger=…')
        return case_of_design(load(subject), at or {}, tolerance, accept_probe)
    opened = ledger if isinstance(ledger, Ledger) else Ledger(ledger, read_only=True)
    try:
        return case_of_record(opened, subject, tolerance, accept_probe, as_now=as_now)
    finally:
        if opened is not ledger:
            opened.close()


def judge(case: JudgedDesign, extra: VerifyOptions) -> Verdict:
    """Return the verdict on a case."""
    agreements = tuple(agreement_with(case.problem, case.point, extra.reference)) if extra.reference else ()
    if extra.rounding:
        check_spacings(case, extra.rounding)
    found = _judged(case)
    found = _searched_further(case, found, extra)
    if extra.prove and found.verdict not in ("limits-broken", "improvable", "global-proved"):
        from ilvren.judge.proof.bound import proved

        found = proved(case, found, seconds=extra.prove_seconds, told=extra.told)
    found = _with_reference(case, _with_sensitivity(case, found), agreements, extra)
    found = _with_confirmation(case, _with_regions(case, found), extra)
    if extra.worth:
        found = replace(found, worth=worth_of(case, found.active))
    if extra.rounding:
        found = replace(found, rounding=rounding_near(case, extra.rounding))
    return found


def _with_reference(
    case: JudgedDesign, found: Verdict, agreements: tuple[Agreement, ...], extra: VerifyOptions
) -> Verdict:
    if extra.reference is None:
        return found
    limit = extra.reference.tolerance
    failed = [item for item in agreements if not item.deviation <= limit]
    for item in agreements:
        word = "agrees" if item.deviation <= limit else "does not agree"
        place = f", worst at {item.along or 'element'} {item.at:g}" if len(item.values) > 1 else ""
        count = f"{len(item.values)} points" if len(item.values) > 1 else "1 value"
        detail = f"{item.name} {word} with the reference ({count}{place})"
        case.add("reference", "pass" if item.deviation <= limit else "fail", item.deviation, limit, detail)
    found = replace(found, checks=tuple(case.checks), agreements=agreements)
    if failed and found.holds:
        worst = max(failed, key=lambda item: item.deviation)
        reason = f"{worst.name} is off its reference by {worst.deviation:.2g} of its size"
        reason += f"; by itself the design is {found.verdict}"
        return replace(found, verdict="unverified", reason=reason)
    return found


def _with_regions(case: JudgedDesign, found: Verdict) -> Verdict:
    """Say of a design whose values are approximated that they are, and where it lies outside what was learnt."""
    problem = case.asked
    if problem.template is None or not problem.template.learnt:
        return found
    from ilvren.problem import outside_of  # few problems have approximations

    outside = outside_of(problem, case.point)
    detail = "; ".join(outside) if outside else "all inputs of approximations lie within what was learnt"
    check = Check("region", "fail" if outside else "pass", None, None, detail)
    found = replace(found, checks=(*found.checks, check))
    if not found.holds:
        return found
    if problem.aim.on:
        reason = f"its values are predicted, and none was evaluated truly; of what was predicted it is {found.verdict}"
        return replace(found, verdict="unverified", reason=reason)
    if outside:
        reason = f"outside what was learnt approximations are guesses: {detail}; by itself it is {found.verdict}"
        return replace(found, verdict="unverified", reason=reason)
    return found


def _with_confirmation(case: JudgedDesign, found: Verdict, extra: VerifyOptions) -> Verdict:
    """Evaluate [confirm] afresh for a design that holds, or that is asked for: a limit it misses breaks the verdict, a
    value that cannot be had leaves it open."""
    is_due = found.holds or found.verdict == "probe-only" or extra.confirm
    if case.asked.confirmation is None or found.verdict == "limits-broken" or not is_due:
        return found
    own = confirmed(case.asked, case.point.tolist(), case.feasibility)
    assert own is not None
    result = {CONFIRMED: "pass", BROKEN: "fail"}.get(own.word, "unknown")
    value = None if own.word == FAILED else own.violation
    check = Check("confirmation", result, value, case.feasibility, own.sentence)
    found = replace(found, checks=(*found.checks, check), confirmation=own)
    if own.word == BROKEN:
        return replace(found, verdict="confirmation-broken", reason=own.sentence)
    if own.word == FAILED:
        return replace(found, verdict="unverified", reason=own.sentence)
    return found


def _searched_further(case: JudgedDesign, found: Verdict, extra: VerifyOptions) -> Verdict:
    if found.verdict in ("limits-broken", "improvable") or not case.evaluation.is_finite:
        return found
    if case.problem.seeks_feasible or not case.problem.free:
        return found
    if extra.method is not None:
        better = check_other_method(case, extra.method)
        if better is not None:
            return case.verdict("improvable", better_reason(case, better, f"{extra.method} found"), better)
    if extra.random_starts:
        better = check_random_starts(case, extra.random_starts, extra.seed)
        if better is not None:
            return case.verdict("improvable", better_reason(case, better, "a search from elsewhere found"), better)
    return replace(found, checks=tuple(case.checks))


def _with_sensitivity(case: JudgedDesign, found: Verdict) -> Verdict:
    """Say how far the verdict depends on the tolerance: which one the checks would still have passed."""
    if not found.holds or found.verdict == "global-proved":
        return found
    used = [
        check.value
        for check in case.checks
        if check.limit == case.tolerance and check.result == "pass" and check.value is not None
    ]
    if case.curvature is not None and math.isfinite(case.curvature.promise):
        used = [value for value in used if value <= case.tolerance] + [case.curvature.promise]
    least = max(used, default=0.0)
    is_robust = least * SHARPER <= case.tolerance
    sharper = f"a tolerance of {case.tolerance / SHARPER:g}"
    word = f"{sharper} would not change the verdict" if is_robust else f"{sharper} would change the verdict"
    case.add(
        "sensitivity",
        "pass" if is_robust else "unknown",
        least,
        case.tolerance / SHARPER,
        f"{word}: the checks pass down to {least:.1e}",
    )
    return replace(found, checks=tuple(case.checks))


# ---- the checks, in the order of the verdicts ----------------------------------------------------


def _judged(case: JudgedDesign) -> Verdict:
    agrees = _check_evaluation(case)
    if not _check_limits(case):
        worst = next(
            check for check in case.checks if check.result == "fail" and check.name in ("bounds", "constraints")
        )
        return case.verdict("limits-broken", worst.detail)
    if not case.evaluation.is_finite:
        return case.verdict("unverified", case.checks[0].detail)
    timed = _check_looked_at(case)
    if timed is not None:
        return timed
    if agrees == "fail":
        return case.verdict("unverified", "the record and a fresh evaluation disagree: " + case.checks[0].detail)
    if case.problem.seeks_feasible:
        return case.verdict(
            "global-proved", "nothing is minimized: every feasible design is an optimum, and this one is feasible"
        )
    objective = case.problem.objective
    if objective is not None and objective.is_reached(case.sized(case.evaluation.objective)):
        reason = f"the goal {objective.goal:g} of {objective.name} is reached, and better counts for nothing"
        return case.verdict("global-proved", reason)
    better = _check_record(case)
    if better is not None:
        return case.verdict("improvable", better_reason(case, better, "the run itself evaluated"), better)
    if not case.problem.free:
        return case.verdict("local-strict", "no variable can change anything: there is no other design")
    if set(case.problem.free) - set(case.problem.continuous_places.tolist()):
        return _judged_among_members(case)
    return judged_locally(case)


def _judged_among_members(case: JudgedDesign) -> Verdict:
    """Judge a design with spaced or catalogue variables: by all designs where they are few, else by its neighbours."""
    everything = all_designs(case)
    if everything is not None:
        return _judged_by_all(case, *everything)
    proof = _proved_quickly(case)
    if proof is not None:
        return proof
    members = neighbours_of(case)
    _note_members(case, members)
    if members.better is not None:
        return case.verdict("improvable", better_reason(case, members.better, "a neighbour has"), members.better)
    found = judged_locally(case) if len(case.problem.continuous_places) else None
    if found is not None and found.verdict not in ("local-strict", "local-weak"):
        return found
    if not members.are_all_worse:
        why = f"{members.told}, none is better"
        if members.open:
            why += f"; {members.open} of them could not be settled"
        elif members.only_searched:
            why += f"; at {members.only_searched} of them that rests on local searches"
        return case.verdict("probe-only", f"{why}; {found.reason}" if found is not None else why)
    reason = "" if found is None else f"{found.reason}; "
    if members.ties:
        return case.verdict("local-weak", f"{reason}{members.told}, none is better, {members.ties:,} are as good")
    word = "local-strict" if found is None else found.verdict
    return case.verdict(word, f"{reason}{members.told}, and {'it is' if members.count == 1 else 'all are'} worse")


def _judged_by_all(case: JudgedDesign, count: int, better: Better | None) -> Verdict:
    gain = 0.0 if better is None else better.gain / case.size
    if better is not None:
        case.add("members", "fail", gain, case.tolerance, f"all {count:,} designs were evaluated: one is better")
        return case.verdict("improvable", better_reason(case, better, "the list of all designs has"), better)
    detail = f"all {count:,} designs were evaluated: no feasible one is better"
    case.add("members", "pass", gain, case.tolerance, detail)
    return case.verdict("global-proved", detail)


def _proved_quickly(case: JudgedDesign) -> Verdict | None:
    """Return the verdict where intervals prove a small problem with members within a second or two."""
    from ilvren.judge.proof.bound import MOST_SECONDS, proved, refusal

    if refusal(case) or len(case.problem.free) > MOST_PROVED_QUICKLY:
        return None
    checks = list(case.checks)
    found = proved(case, case.verdict("probe-only", ""), seconds=MOST_SECONDS, most=PROVED_QUICKLY_BOXES)
    if found.verdict in ("global-proved", "improvable"):
        return found
    case.checks[:] = checks
    return None


def _note_members(case: JudgedDesign, found: Neighbours) -> None:
    gain = 0.0 if found.better is None else found.better.gain / case.size
    word = f"{found.told}, none is better"
    if found.better is not None:
        word = f"{found.told}: one is better"
    elif found.ties:
        word += f", {found.ties:,} are as good"
    if found.open:
        word += f"; {found.open} could not be settled"
    if found.only_searched:
        word += f"; {found.only_searched} were searched, which proves nothing"
    result = "fail" if found.better is not None else "pass" if found.are_all_worse else "unknown"
    case.add("members", result, gain, case.tolerance, word)


def _check_evaluation(case: JudgedDesign) -> str:
    evaluation = case.evaluation
    if not evaluation.is_finite:
        troubles = case.problem.named_values(tuple(case.point.tolist()), case.gate.calls)
        first = next((trouble_sentence(n, t) for n, (_, t) in troubles.items() if t), "a value is not finite")
        return case.add("evaluation", "fail", None, None, first)
    worst, where = 0.0, "a fresh evaluation"
    if case.in_new_process:
        other = evaluated_afresh(case)
        where = "an evaluation in a new process"
        if other is None:
            return case.add("evaluation", "unknown", None, None, "a new process could not evaluate the design")
        evaluation = other
        if not evaluation.is_finite:
            return case.add("evaluation", "fail", None, None, "a new process finds no finite value at the design")
        here = case.evaluation
        worst = max(
            abs(evaluation.objective - here.objective) / case.size,
            float((np.abs(evaluation.rows - here.rows) / case.measures.row_sizes).max(initial=0.0)),
        )
    if case.logged_objective is not None and case.problem.objective is not None:
        told = evaluation.objective
        if case.problem.is_about_scatter:  # what is on record is counted
            told = Gate(counted_problem(case.problem)).evaluate(case.point).objective
        worst = max(worst, abs(case.sized(told) - case.logged_objective) / case.size)
    record = next((r for r in reversed(case.logged) if r.point == case.point.tobytes()), None)
    if record is not None and len(evaluation.rows):
        logged = unpacked(record, variables=len(case.point), rows=len(evaluation.rows), derivatives=False)
        worst = max(worst, float((np.abs(logged.rows - evaluation.rows) / case.measures.row_sizes).max()))
    result = "pass" if worst <= AGREEMENT else "fail"
    word = "agrees" if result == "pass" else "does not agree"
    what = "the record" if case.logged_objective is not None or record is not None else "the one here"
    return case.add("evaluation", result, worst, AGREEMENT, f"{where} {word} with {what}")


def _check_limits(case: JudgedDesign) -> bool:
    bounds, rows = limit_states(
        case.problem, case.measures, case.point, case.evaluation, None, feasibility=case.feasibility
    )
    holds = True
    for name, states, what in (("bounds", bounds, "variable"), ("constraints", rows, "constraint")):
        if not states:
            continue
        worst = max(states, key=lambda state: state.violation)
        is_met = worst.violation <= case.feasibility
        detail = f"every {what} is within its limits"
        if not is_met:
            side = "lower" if worst.value < worst.lower else "upper"
            limit = worst.lower if side == "lower" else worst.upper
            detail = f"{worst.name} is {worst.value:.6g}, its {side} limit {limit:.6g}"
            if math.isnan(worst.value):
                detail = f"{worst.name} has no finite value"
        elif worst.violation > 0.0:
            detail += f"; {worst.name} uses some of the miss allowed"
        holds &= case.add(name, "pass" if is_met else "fail", worst.violation, case.feasibility, detail) == "pass"
    off_grid = [
        variable.name
        for variable, value in zip(case.problem.variables, case.point.tolist(), strict=True)
        if variable.kind != "continuous" and not variable.allows(value)
    ]
    if off_grid:
        case.add("bounds", "fail", None, None, f"{off_grid[0]} is not one of its allowed values")
        return False
    return holds


def _check_looked_at(case: JudgedDesign) -> Verdict | None:
    """Check what evolves over time, integrated afresh and between the moments of the grid, and what scatters, on
    fresh scenarios; return the verdict where that decides."""
    if case.problem.is_about_scatter:
        from ilvren.judge.optimum.over_scatter import check_fresh_scenarios

        missed = check_fresh_scenarios(case)
        if missed is not None:
            return case.verdict("limits-broken", missed)
    if not case.problem.is_over_time:
        return None
    from ilvren.judge.optimum.over_time import check_between, check_time

    broken = check_between(case)
    if broken is not None:
        return case.verdict(*broken)
    wrong = check_time(case)
    return None if wrong is None else case.verdict("unverified", wrong)


def _check_record(case: JudgedDesign) -> Better | None:
    """Return the best feasible design on record that beats the reported one."""
    slack, found = case.tolerance * case.size, []
    for record in case.logged:
        if record.is_whole and record.violation <= case.feasibility and record.objective is not None:
            gain = case.evaluation.objective - float(np.frombuffer(record.values)[0])
            if gain > slack:
                found.append((gain, record))
    best = None
    for _, record in sorted(found, key=lambda item: -item[0])[:MOST_RECORDS]:
        best = better_at(case, np.frombuffer(record.point))  # what its misses are worth is taken off
        if best is not None:
            break
    if case.logged:
        word = (
            "no feasible design of the run is better" if best is None else "the run evaluated a better feasible design"
        )
        gain = 0.0 if best is None else best.gain / case.size
        case.add("record", "pass" if best is None else "fail", gain, case.tolerance, word)
    return best
