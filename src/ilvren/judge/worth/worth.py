"""What a verified design is worth: what its limits cost, how the optimum follows them and the parameters, and how
exactly the design must be made.

With H the Hessian of the Lagrangian, A the gradients of the strongly active limits and u their multipliers, the optimum
follows a change dp of a parameter (or of a limit) by

    [ H  A' ] [ dx ]     [ ∂(g − A'u)/∂p ]
    [ A  0  ] [−du ] = − [ ∂(c − limit)/∂p ] dp                                          (1)

until another limit is reached or a multiplier becomes zero, and its objective by ∂f/∂p − u'∂(c − limit)/∂p. Every
response that is reported is checked by solving again.

Source: A. V. Fiacco, "Introduction to Sensitivity and Stability Analysis in Nonlinear Programming", 1983.
"""

from __future__ import annotations

import math
from dataclasses import replace
from typing import TYPE_CHECKING, TypeVar

import numpy as np
from numpy.typing import NDArray

from ilvren.errors import InputError
from ilvren.evaluate import Gate
from ilvren.judge.optimum.curvature import lagrangian_hessians
from ilvren.judge.standing.findings import LimitWorth, ParameterResponse, Worth
from ilvren.judge.worth.member_worth import member_worths
from ilvren.judge.worth.scatter_worth import scatter_worths
from ilvren.judge.worth.tolerances import tolerances_of
from ilvren.problem import Measures, Problem, RowBlock, VariableBlock
from ilvren.records import dataclass
from ilvren.runs import AUTOMATIC, RunResult, Settings, run_as_it_stands

if TYPE_CHECKING:
    from ilvren.judge.optimum.judged import JudgedDesign
    from ilvren.runs import LimitState

__all__ = ["worth_of"]

FloatArray = NDArray[np.float64]
Block = TypeVar("Block", RowBlock, VariableBlock)

# Beyond so many free variables responses are not computed; so many limits and parameters are checked by solving again.
MOST_VARIABLES, MOST_CHECKED = 100, 12
# How far parameters are moved: for derivatives, and for the check, relative to their values.
PARAMETER_STEP, CHECK_STEP = 1e-5, 1e-2
# A limit is moved by this share of what its price is good for, and of its size at most.
LIMIT_SHARE, MOST_SHARE = 0.5, 0.05
# A multiplier below this share of the largest does not press.
PRESSING = 1e-8


def worth_of(case: JudgedDesign, active: tuple[LimitState, ...]) -> Worth:
    """Return what the design of a judged case is worth; `active` are its active limits."""
    with np.errstate(all="ignore"):
        is_grid = case.problem.is_collocated
        tolerances = () if is_grid else tolerances_of(case)
        alone = ("no variable moves alone on a grid, whose states have to follow: no tolerances",) if is_grid else ()
        if case.problem.seeks_feasible:
            return Worth(tolerances=tolerances, notes=("nothing is minimized: limits have no prices", *alone))
        scatter = scatter_worths(case) if case.problem.is_about_scatter else ()
        members, left = member_worths(case, _solved_again)
        alone = (*alone, *left)
        response = _Response.of(case)
        if isinstance(response, str):
            return Worth(tolerances=tolerances, notes=(response, *alone), scatter=scatter, members=members)
        limits = tuple(_limit_worth(case, response, state) for state in _priced(active)[:MOST_CHECKED])
        parameters, notes = _parameters(case, response)
        return Worth(limits, parameters, tolerances, (*notes, *alone), scatter, members)


def _priced(active: tuple[LimitState, ...]) -> list[LimitState]:
    """Return the limits with a price, those that decide most first: price times the limit's size."""
    own = [state for state in active if state.price]
    return sorted(own, key=lambda state: -abs(state.price or 0.0) * state.size)


# ---- how the optimum responds --------------------------------------------------------------------


@dataclass(frozen=True)
class _Response:
    """The system (1): `free` places, `normals` A (k, n_free) of pressing limits, `limits` as ("row" or "bound", place),
    `multipliers` (k,), and the pseudo-inverse of the whole matrix."""

    free: NDArray[np.int64]
    normals: FloatArray
    limits: tuple[tuple[str, int], ...]
    multipliers: FloatArray
    inverse: FloatArray

    @classmethod
    def of(cls, case: JudgedDesign) -> _Response | str:
        """Return the system, or why there is none."""
        conditions, free = case.conditions, case.problem.continuous_places
        if len(free) > MOST_VARIABLES or case.gate.is_sparse:
            return f"responses are computed for up to {MOST_VARIABLES} variables"
        if conditions is None or case.curvature is None:
            if len(free) < len(case.point):
                return ("limits and parameters have no prices here: they come from derivatives at an optimum of the "
                        "continuous variables, which this verdict does not rest on")  # fmt: skip
            return "there are no derivatives to compute responses from"
        found = lagrangian_hessians(case.gate, case.measures, case.point, conditions, free, case.sizes[free])
        if found is None or not np.isfinite(found[0]).all():
            return "second derivatives are not finite here"
        largest = max(
            float(np.abs(conditions.row_multipliers * case.measures.row_sizes).max(initial=0.0)),
            float(np.abs(conditions.bound_multipliers * case.sizes).max(initial=0.0)),
        )
        normals, limits, multipliers = [], [], []
        jacobian = case.evaluation.jacobian
        assert jacobian is not None
        for row in np.flatnonzero(conditions.row_sides):
            u = float(conditions.row_multipliers[row])
            if conditions.row_sides[row] == 2 or abs(u) * case.measures.row_sizes[row] > PRESSING * largest:
                normals.append(jacobian[row, free])
                limits.append(("row", int(row)))
                multipliers.append(u)
        for column, place in enumerate(free.tolist()):
            u = float(conditions.bound_multipliers[place])
            if conditions.bound_sides[place] in (-1, 1) and abs(u) * case.sizes[place] > PRESSING * largest:
                normals.append(np.eye(len(free))[column])
                limits.append(("bound", place))
                multipliers.append(u)
        a = np.array(normals, dtype=float).reshape(len(normals), len(free))
        k = len(a)
        # In sizes, so that the pseudo-inverse tells dependence from different units.
        scale = np.concatenate(
            [case.sizes[free], 1.0 / np.maximum(np.abs(a * case.sizes[free]).max(axis=1, initial=0.0), 1e-300)]
        )
        scale[: len(free)] *= 1.0
        matrix = np.block([[found[0], a.T], [a, np.zeros((k, k))]])
        weights = (
            np.concatenate([np.full(len(free), 1.0 / math.sqrt(case.size)), np.full(k, math.sqrt(case.size))]) * scale
        )
        inverse = (
            weights[:, np.newaxis] * np.linalg.pinv(weights[:, np.newaxis] * matrix * weights, rcond=1e-12) * weights
        )
        return cls(free, a, tuple(limits), np.array(multipliers), inverse)

    def to(self, gradient_change: FloatArray, limit_change: FloatArray) -> tuple[FloatArray, FloatArray]:
        """Return (dx, du) for ∂(g − A'u)/∂p (n_free,) and ∂(c − limit)/∂p (k,)."""
        found = self.inverse @ -np.concatenate([gradient_change, limit_change])
        n = len(self.free)
        return found[:n], -found[n:]


def _limit_worth(case: JudgedDesign, response: _Response, state: LimitState) -> LimitWorth:
    price = state.price or 0.0
    kind, place = _place(case, state)
    sign = case.problem.objective.sign if case.problem.objective else 1
    # Moved up where that helps: a price is the change of the objective as written per unit up.
    up = -1.0 if price * sign > 0.0 else 1.0
    valid, ends = math.inf, "no end was found"
    if (kind, place) in response.limits:
        change = np.zeros(len(response.limits))
        change[response.limits.index((kind, place))] = -up  # (c − limit) falls as the limit moves up
        dx, du = response.to(np.zeros(len(response.free)), change)
        valid, ends = _validity(case, response, dx, du, but=(kind, place))
    amount = min(LIMIT_SHARE * valid, MOST_SHARE * state.size)
    found = _solved_again(_with_limit(case, kind, place, state, up * amount), case)
    there = math.nan if found is None else _objective(found) - case.sized(case.evaluation.objective)
    return LimitWorth(state, amount, price * up * amount, there, valid, ends)


def _place(case: JudgedDesign, state: LimitState) -> tuple[str, int]:
    for place, row in enumerate(case.problem.rows):
        if row.name == state.name:
            return "row", place
    names = [variable.name for variable in case.problem.variables]
    return "bound", names.index(state.name)


def _validity(
    case: JudgedDesign, response: _Response, dx: FloatArray, du: FloatArray, *, but: tuple[str, int]
) -> tuple[float, str]:
    """Return how far the response goes on until another limit is met or one no longer presses, to first order."""
    best, ends = math.inf, "no end was found"
    jacobian = case.evaluation.jacobian
    assert jacobian is not None
    pressing = set(response.limits)
    values = [("row", place, float(value), float(slope)) for place, (value, slope) in enumerate(
        zip(case.evaluation.rows, jacobian[:, response.free] @ dx, strict=True)
    )]  # fmt: skip
    values += [
        ("bound", place, float(case.point[place]), float(slope))
        for place, slope in zip(response.free.tolist(), dx, strict=True)
    ]
    for kind, place, value, slope in values:
        if (kind, place) in pressing or slope == 0.0:
            continue
        lower, upper, name = (
            (case.measures.row_lower[place], case.measures.row_upper[place], case.problem.rows[place].name)
            if kind == "row"
            else (case.measures.lower[place], case.measures.upper[place], case.problem.variables[place].name)
        )
        room = (upper - value if slope > 0.0 else lower - value) / slope
        if 0.0 <= room < best:
            best, ends = float(room), f"{name} reaches its {'upper' if slope > 0.0 else 'lower'} limit"
    for limit, u, change in zip(response.limits, response.multipliers, du, strict=True):
        if change != 0.0 and 0.0 < -u / change < best:
            kind, place = limit
            name = case.problem.rows[place].name if kind == "row" else case.problem.variables[place].name
            sides = case.conditions.row_sides if kind == "row" and case.conditions else None
            if sides is not None and sides[place] == 2:
                continue  # an equality holds whatever its multiplier
            best = float(-u / change)
            ends = "it no longer presses" if limit == but else f"{name} no longer presses"
    return best, ends


def _with_limit(case: JudgedDesign, kind: str, place: int, state: LimitState, move: float) -> Problem:
    """Return the problem with one limit moved."""
    problem = case.problem
    if kind == "row":
        return replace(
            problem, row_blocks=tuple(_moved(block, place, state.side, move) for block in problem.row_blocks)
        )
    return replace(problem, blocks=tuple(_moved(block, place, state.side, move) for block in problem.blocks))


def _moved(block: Block, place: int, side: str, move: float) -> Block:
    own = place - block.first
    if not 0 <= own < block.size:
        return block
    lower, upper = block.lower.copy(), block.upper.copy()
    lower[own] += move if side in ("lower", "equality") else 0.0
    upper[own] += move if side in ("upper", "equality") else 0.0
    return replace(block, lower=lower, upper=upper)


def _solved_again(problem: Problem, case: JudgedDesign) -> RunResult | None:
    """Solve a changed problem from the design; None where that does not end well."""
    settings = Settings(
        method=AUTOMATIC,
        second_look=0.0,
        tolerance=min(case.tolerance, 1e-6),
        feasibility=case.feasibility,
        evaluations=3000,
        seconds=20.0,
    )
    try:
        found = run_as_it_stands(problem.with_starts(case.point), settings)
    except InputError:
        return None
    return found if found.holds else None


def _objective(result: RunResult) -> float:
    return math.nan if result.objective is None else result.objective


# ---- parameters ----------------------------------------------------------------------------------


def _parameters(case: JudgedDesign, response: _Response) -> tuple[tuple[ParameterResponse, ...], tuple[str, ...]]:
    found: list[ParameterResponse] = []
    notes: list[str] = []
    names = [p for p in case.problem.parameters if not p.is_data and np.ndim(p.value) == 0 and float(p.value) != 0.0]
    for parameter in names:
        if len(found) >= MOST_CHECKED:
            notes.append(f"parameters beyond the first {MOST_CHECKED} that matter are left out")
            break
        try:
            one = _parameter_response(case, response, parameter.name, float(parameter.value), parameter.unit)
        except (InputError, ValueError):
            notes.append(f"{parameter.name}: the problem cannot be built with another value")
            continue
        if one is not None:
            found.append(one)
    order = sorted(found, key=lambda item: -abs(item.predicted))
    return tuple(order), tuple(notes)


def _parameter_response(
    case: JudgedDesign, response: _Response, name: str, value: float, unit: str
) -> ParameterResponse | None:
    """Return the response to a parameter by (1); None where it changes nothing."""
    step = PARAMETER_STEP * abs(value)
    sides = []
    assert case.conditions is not None
    for moved in (value + step, value - step):
        problem = case.problem.with_parameters(**{name: moved})
        if problem.size != case.problem.size or problem.row_count != case.problem.row_count:
            return None
        measures, gate = Measures.of(problem), Gate(problem)
        evaluation = gate.evaluate(case.point, derivatives=True)
        if not evaluation.has_finite_derivatives or evaluation.gradient is None or evaluation.jacobian is None:
            return None
        slope = (evaluation.gradient - evaluation.jacobian.T @ case.conditions.row_multipliers)[response.free]
        gaps = [_gap(case, kind, place, evaluation.rows, measures) for kind, place in response.limits]
        sides.append((evaluation.objective, slope, np.array(gaps)))
    (f_up, g_up, c_up), (f_down, g_down, c_down) = sides
    df, dg, dc = (f_up - f_down) / (2.0 * step), (g_up - g_down) / (2.0 * step), (c_up - c_down) / (2.0 * step)
    if df == 0.0 and not np.any(dg) and not np.any(dc):
        return None
    dx, _ = response.to(dg, dc)
    total = float(df - response.multipliers @ dc) if len(dc) else float(df)
    again = _solved_again(case.problem.with_parameters(**{name: value + CHECK_STEP * value}), case)
    there = math.nan if again is None else _objective(again) - case.sized(case.evaluation.objective)
    variables = {case.problem.variables[place].name: float(d) for place, d in zip(response.free, dx, strict=True)}
    slope_as_written = case.sized(total)
    return ParameterResponse(
        name, value, unit, slope_as_written, variables, slope_as_written * CHECK_STEP * value, there
    )


def _gap(case: JudgedDesign, kind: str, place: int, rows: FloatArray, measures: Measures) -> float:
    """Return the pressing limit's c − limit under changed parameters."""
    conditions = case.conditions
    assert conditions is not None
    if kind == "row":
        limit = measures.row_lower[place] if conditions.row_multipliers[place] > 0.0 else measures.row_upper[place]
        return float(rows[place] - limit)
    limit = measures.lower[place] if conditions.bound_multipliers[place] > 0.0 else measures.upper[place]
    return float(case.point[place] - limit)
