"""Is the reported design an optimum? Independent checks on a fresh evaluation of the stored problem.

Nothing a method said is used: multipliers, active limits and curvature are computed here. The verdict is the
first of `MEANINGS` that the checks bear out; a doubt makes it weaker, never stronger.
"""

from __future__ import annotations

import math
from dataclasses import replace
from pathlib import Path

import numpy as np
from numpy.typing import NDArray

from ilvren.errors import RequestError
from ilvren.evaluate import Evaluation
from ilvren.judge.case import Case, case_of_record, case_of_result
from ilvren.judge.curvature import lagrangian_curvature
from ilvren.judge.members import Neighbours, neighbours_of
from ilvren.judge.probe import Better, Probe, gain_over, probe_around
from ilvren.judge.standing import trouble_sentence
from ilvren.judge.verdict import Verdict
from ilvren.ledger import Ledger
from ilvren.runs import AUTOMATIC, Conditions, RunResult, Settings, first_order_conditions, run
from ilvren.runs.replay import unpacked
from ilvren.runs.report import limit_states

__all__ = ["verify"]

FloatArray = NDArray[np.float64]

# A fresh evaluation must agree with the record to this share of each value's size.
AGREEMENT = 1e-9
# A formula that changes its branch this near the design (a share of the sizes) has no usable derivatives there.
KINK_RADIUS = 1e-5
# How far and how often designs are probed: where derivatives decide, where curvature does not, where none exist.
NEAR_RADII = (1e-3, 1e-4)
WIDE_RADII = (1e-1, 1e-2, 1e-3)
BLIND_RADII = (1e-1, 1e-2, 1e-3, 1e-4, 1e-5)
SAMPLES = 60
# Slack in multiples of what counts as feasible, within which limits of large problems are taken as reached.
NEARLY_REACHED = (10.0, 100.0, 1000.0)
# The search for a better design where first-order conditions fail.
DESCENT_EVALUATIONS = 2000


def verify(
    subject: RunResult | str,
    *,
    ledger: Ledger | str | Path | None = None,
    tolerance: float | None = None,
    accept_probe: bool = False,
    as_now: bool = False,
) -> Verdict:
    """Judge the reported design of a run: a result, or an id, a label or "last" in `ledger`.

    `tolerance` replaces the run's own; `accept_probe` lets a verdict "probe-only" hold. A run whose models'
    files have changed is refused unless `as_now`. Raises RequestError
    when there is no such run, or it has not ended.
    """
    if isinstance(subject, RunResult):
        case = case_of_result(subject, tolerance, accept_probe)
    else:
        if ledger is None:
            raise RequestError(f'"{subject}" is a run of a ledger: say which with ledger=…')
        opened = ledger if isinstance(ledger, Ledger) else Ledger(ledger, read_only=True)
        try:
            case = case_of_record(opened, subject, tolerance, accept_probe, as_now=as_now)
        finally:
            if opened is not ledger:
                opened.close()
    with np.errstate(all="ignore"):
        return _judged(case)


# ---- the checks, in the order of the verdicts ----------------------------------------------------


def _judged(case: Case) -> Verdict:
    agrees = _check_evaluation(case)
    if not _check_limits(case):
        worst = next(
            check for check in case.checks if check.result == "fail" and check.name in ("bounds", "constraints")
        )
        return case.verdict("limits-broken", worst.detail)
    if not case.evaluation.is_finite:
        return case.verdict("unverified", case.checks[0].detail)
    if agrees == "fail":
        return case.verdict("unverified", "the record and a fresh evaluation disagree: " + case.checks[0].detail)
    if case.problem.seeks_feasible:
        return case.verdict(
            "global-proved", "nothing is minimized: every feasible design is an optimum, and this one is feasible"
        )
    better = _check_record(case)
    if better is not None:
        return case.verdict("improvable", _better_reason(case, better, "the run itself evaluated"), better)
    if not case.problem.free:
        return case.verdict("local-strict", "no variable can change anything: there is no other design")
    members = _check_members(case)
    if members is not None and members.better is not None:
        return case.verdict(
            "improvable", _better_reason(case, members.better, "a neighbouring member has"), members.better
        )
    if members is not None and not len(case.problem.continuous_places):
        if members.open:
            return case.verdict("unverified", "some neighbouring members could not be settled")
        return case.verdict("local-strict", f"all {members.tried} neighbouring members are worse")
    if not _check_derivatives(case):
        return _probed_blind(case)
    if not _check_stationarity(case):
        return _descended(case)
    found = _second_order(case)
    if members is None or found.verdict != "local-strict":
        return found
    if members.open:
        return case.verdict(
            "first-order-only",
            "the continuous variables are strictly optimal; of some members beside it nothing is known",
        )
    return case.verdict("local-strict", f"{found.reason}; all {members.tried} neighbouring members are worse")


def _check_evaluation(case: Case) -> str:
    evaluation = case.evaluation
    if not evaluation.is_finite:
        troubles = case.problem.named_values(tuple(case.point.tolist()))
        first = next((trouble_sentence(n, t) for n, (_, t) in troubles.items() if t), "a value is not finite")
        return case.add("evaluation", "fail", None, None, first)
    worst = 0.0
    if case.logged_objective is not None and case.problem.objective is not None:
        worst = abs(case.sized(evaluation.objective) - case.logged_objective) / case.size
    record = next((r for r in reversed(case.logged) if r.point == case.point.tobytes()), None)
    if record is not None and len(evaluation.rows):
        logged = unpacked(record, variables=len(case.point), rows=len(evaluation.rows), derivatives=False)
        worst = max(worst, float((np.abs(logged.rows - evaluation.rows) / case.measures.row_sizes).max()))
    result = "pass" if worst <= AGREEMENT else "fail"
    word = "agrees" if result == "pass" else "does not agree"
    return case.add("evaluation", result, worst, AGREEMENT, f"a fresh evaluation {word} with the record")


def _check_limits(case: Case) -> bool:
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


def _prices(case: Case) -> FloatArray:
    """Return the worth of a unit of miss per row, from the multipliers where derivatives allow."""
    if case.conditions is None and case.evaluation.has_finite_derivatives:
        case.conditions = first_order_conditions(
            case.problem,
            case.measures,
            case.point,
            case.evaluation,
            objective_size=case.size,
            feasibility=case.feasibility,
        )
    if case.conditions is None:
        return np.zeros(case.problem.row_count)
    return case.conditions.row_multipliers


def _check_record(case: Case) -> Better | None:
    """Return the best feasible design on record that beats the reported one."""
    prices, best = _prices(case), None
    for record in case.logged:
        if not record.violation <= case.feasibility or record.objective is None:
            continue
        values = np.frombuffer(record.values)
        there = Evaluation(float(values[0]), values[1:])
        gain = gain_over(case.measures, case.evaluation, there, prices)
        if gain > case.tolerance * case.size and (best is None or gain > best.gain):
            best = Better(np.frombuffer(record.point), there.objective, gain, record.violation)
    if case.logged:
        word = (
            "no feasible design of the run is better" if best is None else "the run evaluated a better feasible design"
        )
        gain = 0.0 if best is None else best.gain / case.size
        case.add("record", "pass" if best is None else "fail", gain, case.tolerance, word)
    return best


def _check_members(case: Case) -> Neighbours | None:
    """Look at the neighbouring members of spaced and catalogue variables; None without any."""
    if not set(case.problem.free) - set(case.problem.continuous_places.tolist()):
        return None
    found = neighbours_of(
        case.problem,
        case.measures,
        case.point,
        case.evaluation,
        feasibility=case.feasibility,
        tolerance=case.tolerance,
        least_gain=case.tolerance * case.size,
    )
    gain = 0.0 if found.better is None else found.better.gain / case.size
    word = f"all {found.tried} neighbouring members are worse, the other variables solved for again"
    if found.better is not None:
        word = "a neighbouring member is better, the other variables solved for again"
    elif found.open:
        word = f"{found.open} of {found.tried} neighbouring members could not be settled"
    result = "fail" if found.better is not None else "unknown" if found.open else "pass"
    case.add("members", result, gain, case.tolerance, word)
    return found


def _check_derivatives(case: Case) -> bool:
    if not case.evaluation.has_finite_derivatives:
        case.add("derivatives", "unknown", None, None, "a derivative is not finite at this design")
        return False
    radii = np.zeros(len(case.point))
    free = list(case.problem.continuous_places)
    radii[free] = KINK_RADIUS * case.sizes[free]
    kinks = case.gate.kinks(case.point, radii)
    if kinks:
        origin = kinks[0].origin
        part = f' at "{" ".join(origin.text[slice(*origin.span)].split())}" in {origin.entry}' if origin else ""
        case.add(
            "derivatives",
            "unknown",
            float(len(kinks)),
            0.0,
            f"a kink or jump within {KINK_RADIUS:g} of the sizes{part}",
        )
        return False
    case.add("derivatives", "pass", 0.0, 0.0, "all derivatives are finite, and no formula changes its branch nearby")
    return True


def _check_stationarity(case: Case) -> bool:
    _prices(case)
    if case.gate.is_sparse:
        _take_all_but_reached(case)
    conditions = case.conditions
    assert conditions is not None
    dependent = not conditions.are_unique
    case.add(
        "qualification",
        "unknown" if dependent else "pass",
        None,
        None,
        "the gradients of the active limits depend on each other: multipliers are not unique"
        if dependent
        else "the gradients of the active limits are independent",
    )
    case.curvature = lagrangian_curvature(
        case.gate, case.measures, case.point, conditions, sizes=case.sizes, objective_size=case.size
    )
    value, passes = conditions.stationarity, conditions.stationarity <= case.tolerance
    detail = "no feasible direction improves the objective to first order"
    model = case.curvature
    if not passes and model is not None:
        if model.promise <= case.tolerance and model.moved <= math.sqrt(case.tolerance):
            passes = True
            detail = f"above the limit, but the best step of the model promises only {model.promise:.1e}"
            _take_nearly_active(case)
    if not passes:
        detail = "the objective still improves along a feasible direction, to first order"
    case.add("stationarity", "pass" if passes else "fail", value, case.tolerance, detail)
    if not passes:
        return False
    gap = _complementarity(case, case.conditions or conditions)
    is_small = gap <= case.tolerance
    case.add(
        "complementarity",
        "pass" if is_small else "fail",
        gap,
        case.tolerance,
        "priced limits are met exactly, as far as it matters" if is_small else "a priced limit is not quite reached",
    )
    return is_small


def _take_all_but_reached(case: Case) -> None:
    """Count limits of a large problem as active that the design all but reaches, where that makes the conditions hold:
    a method may end a little inside thousands of limits, whose prices times distances are what counts."""
    for share in (1.0, *NEARLY_REACHED):
        found = first_order_conditions(
            case.problem,
            case.measures,
            case.point,
            case.evaluation,
            objective_size=case.size,
            feasibility=case.feasibility * share,
            guess=case.conditions,
        )
        if case.conditions is None or found.stationarity < case.conditions.stationarity:
            case.conditions = found
        if found.meet(case.tolerance):
            break


def _take_nearly_active(case: Case) -> None:
    """Count limits as active that the design all but reaches, where that explains more of the gradient: a method
    without derivatives stops a little short of them."""
    assert case.conditions is not None
    slack = max(case.feasibility, math.sqrt(case.tolerance))
    nearly = first_order_conditions(
        case.problem, case.measures, case.point, case.evaluation, objective_size=case.size, feasibility=slack
    )
    if nearly.stationarity < case.conditions.stationarity:
        case.conditions = nearly
        case.curvature = lagrangian_curvature(
            case.gate, case.measures, case.point, nearly, sizes=case.sizes, objective_size=case.size
        )


def _complementarity(case: Case, conditions: Conditions) -> float:
    worst = 0.0
    for values, low, high, sides, multipliers in (
        (
            case.evaluation.rows,
            case.measures.row_lower,
            case.measures.row_upper,
            conditions.row_sides,
            conditions.row_multipliers,
        ),
        (case.point, case.measures.lower, case.measures.upper, conditions.bound_sides, conditions.bound_multipliers),
    ):
        for value, lower, upper, side, multiplier in zip(values, low, high, sides, multipliers, strict=True):
            if side in (-1, 1):
                margin = max(value - lower if side == -1 else upper - value, 0.0)
                worst = max(worst, abs(multiplier) * margin / case.size)
    return float(worst)


def _probe(case: Case, radii: tuple[float, ...], directions: list[FloatArray]) -> Probe:
    return probe_around(
        case.gate,
        case.measures,
        case.point,
        sizes=case.sizes,
        prices=_prices(case),
        radii=radii,
        feasibility=case.feasibility,
        least_gain=case.tolerance * case.size,
        directions=directions,
        samples=SAMPLES,
    )


def _check_neighbourhood(case: Case, radii: tuple[float, ...], directions: list[FloatArray]) -> Probe:
    probe = _probe(case, radii, directions)
    detail = f"{probe.tried} feasible designs within {probe.radius:g} of the variables' sizes"
    gain = 0.0 if probe.better is None else probe.better.gain / case.size
    if probe.better is not None:
        case.add("neighbourhood", "fail", gain, case.tolerance, detail + ": one is better")
    else:
        case.add("neighbourhood", "pass" if probe.tried else "unknown", gain, case.tolerance, detail + ", none better")
    return probe


def _better_reason(case: Case, better: Better, who: str) -> str:
    objective = case.problem.objective
    assert objective is not None
    unit = f" {objective.unit}" if objective.unit else ""
    return (
        f"{who} a feasible design with {objective.name} = {case.sized(better.objective):.8g}{unit},"
        f" against {case.sized(case.evaluation.objective):.8g}{unit} here"
    )


def _probed_blind(case: Case) -> Verdict:
    why = case.checks[-1].detail
    probe = _check_neighbourhood(case, BLIND_RADII, [])
    if probe.better is not None:
        return case.verdict(
            "improvable", _better_reason(case, probe.better, "the neighbourhood probe found"), probe.better
        )
    if probe.tried == 0:
        return case.verdict("unverified", f"{why}, and no feasible design was found nearby to compare with")
    return case.verdict(
        "probe-only",
        f"{why}; {probe.tried} feasible designs within {probe.radius:g} of the variables' sizes were tried,"
        " none is better",
    )


def _descended(case: Case) -> Verdict:
    """First-order conditions fail: search downhill from here, so that the failure is shown and not only claimed."""
    better = _search_downhill(case)
    if better is None:
        better = _check_neighbourhood(case, WIDE_RADII, []).better
    if better is not None:
        return case.verdict("improvable", _better_reason(case, better, "a search from this design found"), better)
    failed = next(check for check in case.checks if check.result == "fail")
    return case.verdict("unverified", f"{failed.detail}, yet no better feasible design was found")


def _search_downhill(case: Case) -> Better | None:
    if any(case.problem.variables[i].kind != "continuous" for i in case.problem.free):
        return None
    problem = case.problem.with_starts(case.point)
    settings = Settings(
        method=AUTOMATIC, evaluations=DESCENT_EVALUATIONS, tolerance=case.tolerance, feasibility=case.feasibility
    )
    result = run(problem, settings)
    point = np.array(result.point)
    there = case.gate.evaluate(point)
    if result.violation > case.feasibility:
        return None
    gain = gain_over(case.measures, case.evaluation, there, _prices(case))
    is_better = gain > case.tolerance * case.size
    case.add(
        "search",
        "fail" if is_better else "pass",
        max(gain, 0.0) / case.size,
        case.tolerance,
        "a search downhill from here finds a better design"
        if is_better
        else "a search downhill from here finds nothing better",
    )
    return Better(point, there.objective, gain, result.violation) if is_better else None


def _second_order(case: Case) -> Verdict:
    curvature = case.curvature
    if curvature is None:
        case.add("curvature", "unknown", None, None, "derivatives near this design are not finite")
        probe = _check_neighbourhood(case, WIDE_RADII, [])
        if probe.better is not None:
            return case.verdict(
                "improvable", _better_reason(case, probe.better, "the neighbourhood probe found"), probe.better
            )
        return case.verdict("first-order-only", "the curvature cannot be measured here")
    if curvature.kind == "strict" and curvature.moved > math.sqrt(case.tolerance):
        detail = f"the curvature is so slight that the optimum may lie {curvature.moved:.1e} of a variable's size away"
        curvature = case.curvature = replace(curvature, kind="unknown", detail=detail)
    words = {"strict": "pass", "saddle": "fail", "unknown": "unknown"}
    least = None if math.isinf(curvature.least) else curvature.least
    case.add("curvature", words[curvature.kind], least, curvature.noise, curvature.detail)
    if curvature.kind == "saddle":
        return case.verdict("saddle", curvature.detail)
    direction = curvature.direction / case.sizes
    largest = float(np.abs(direction).max(initial=0.0))
    directions = [direction / largest] if largest > 0.0 else []
    is_strict = curvature.kind == "strict"
    probe = _check_neighbourhood(case, NEAR_RADII if is_strict else WIDE_RADII, directions)
    if probe.better is not None:
        return case.verdict(
            "improvable", _better_reason(case, probe.better, "the neighbourhood probe found"), probe.better
        )
    if is_strict:
        return case.verdict("local-strict", f"first-order conditions hold, and {curvature.detail}")
    return case.verdict("first-order-only", f"first-order conditions hold, but {curvature.detail}")
