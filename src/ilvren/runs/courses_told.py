"""What a run on a grid tells of its course: costates, prices of limits over time, the arcs of its controls.

An arc is a stretch of time on which a control does the same: it lies at a bound, a limit over time decides it, or it is
free. Where it is free and all that it changes is linear in it, the arc is singular: the conditions of first order do
not say what it is, and it may chatter from point to point.
"""

from __future__ import annotations

import math
from collections.abc import Sequence
from functools import partial
from typing import TYPE_CHECKING, Any

import numpy as np
from numpy.typing import NDArray

from ilvren.algebra import central
from ilvren.dynamics import costates
from ilvren.formula import interpret, tangents
from ilvren.problem import Between, Problem, courses_of, element_name, limits_between
from ilvren.runs.time_worth import time_worth
from ilvren.runs.told import Arc, CourseTold

if TYPE_CHECKING:
    from ilvren.dynamics import GriddedCourse
    from ilvren.problem import CollocatedAxis
    from ilvren.runs.result import RunResult

__all__ = ["chattering", "courses_told", "free_end_told", "remarks_on", "worth_in_objective"]

FloatArray = NDArray[np.float64]
# From when to when, and what a control does there: its kind, and the limit that decides it.
Piece = tuple[float, float, tuple[str, str]]

# A control chatters where it turns at so many points in a row, each time by this share of its range.
MOST_TURNS, TURN = 6, 0.04
# A jump from bound to bound disturbs at most so many intervals; values nearer than this share of the range are one.
MOST_MIXED, SAME_VALUE = 4, 1e-6
# An end of the time that is this share of what it began at has run away.
VANISHED = 1e-3


def courses_told(problem: Problem, point: FloatArray, result: RunResult) -> tuple[CourseTold, ...]:
    """Return what there is to tell of a collocated run's design; `result` has its multipliers and limits."""
    found = []
    courses, between = courses_of(problem, point), limits_between(problem, point)
    limit = math.inf if result.time_error is None else result.time_error.limit
    sign = 1.0 if problem.objective is None else float(problem.objective.sign)
    for axis, course in zip(problem.template.built_axes, courses, strict=True):
        begin, end = (axis.time_at(share, point.tolist(), problem) for share in (0.0, 1.0))
        times = begin + course.taus * (end - begin)
        told: dict[str, FloatArray] = {}
        end_price = None
        if result.multipliers is not None:
            rows = sign * result.multipliers[0]
            worth = _worth_of_integrals(problem, axis, course, point, result.multipliers[0])
            values = costates(course, _equation_prices(problem, axis, rows), worth)
            told = _by_state(axis, values)
            end_price = time_worth(problem, axis, point, result.multipliers)
        prices = _price_curves(problem, axis, result, times)
        arcs = _arcs(problem, axis, course, times, result)
        remarks = [*_broken_between(axis, between, limit), *remarks_on(problem, axis, course, point)]
        found.append(CourseTold(axis.case, axis.time.unit, times, told, prices, tuple(arcs), end_price, tuple(remarks)))
    return tuple(found)


# ---- costates ------------------------------------------------------------------------------------------


def _equation_prices(problem: Problem, axis: CollocatedAxis, rows: FloatArray) -> FloatArray:
    """Return the prices (intervals, equations, n) of an axis's equations."""
    n, width = len(axis.taus) - 1, axis.scheme.width
    parts = []
    for state in axis.states:
        own = []
        for i in range(width):
            name = f"{state.name}: equation {i + 1} of {width}"
            block = next(item for item in problem.row_blocks if item.name == name)
            own.append(rows[block.first : block.first + block.size].reshape(n, -1))
        parts.append(np.stack(own, axis=1))
    return np.concatenate(parts, axis=2)


def _by_state(axis: CollocatedAxis, values: FloatArray) -> dict[str, FloatArray]:
    found, first = {}, 0
    for state in axis.states:
        size = math.prod(state.shape)
        found[state.name] = values[:, first : first + size].reshape(len(values), *state.shape)
        first += size
    return found


def _worth_of_integrals(
    problem: Problem, axis: CollocatedAxis, course: GriddedCourse, point: FloatArray, rows: FloatArray
) -> FloatArray:
    """Return what each integral (per share of the time) is worth: how the objective, and the rows at their prices,
    change with the weights of some points, fitted to what is integrated there."""
    code, objective = course.integrand_code, problem.objective
    name = f"{axis.key} weights"
    place = next((k for k, item in enumerate(problem.parameters) if item.name == name), None)
    if code is None or objective is None or place is None:
        return np.zeros(0 if code is None else sum(code.sizes))
    count, used = sum(code.sizes), len(course.scheme.used)
    total = course.intervals * used
    chosen = np.unique(np.linspace(0, total - 1, min(total, 2 * count + 4)).astype(int))
    at = (course.taus[:-1, np.newaxis] + np.diff(course.taus)[:, np.newaxis] * course.scheme.used_points).ravel()[
        chosen
    ]
    is_left = np.tile(course.scheme.used_points >= 1.0, course.intervals)[chosen]
    places = np.arange(course.intervals)[:, np.newaxis] * course.scheme.width + np.array(course.scheme.used)
    values = code.values(course.inputs(at, is_left, course.flat[places.ravel()[chosen]]))
    own_rows = [block for block in problem.row_blocks if not block.is_grid]
    nodes = [objective.node, *(block.node for block in own_rows)]
    sign = float(objective.sign)

    def lagrangian(which: int, step: float) -> float:
        numbers = list(problem.parameter_values)
        weights = np.array(numbers[place], dtype=float)
        weights[which] += step
        numbers[place] = weights
        found = interpret(problem.graph, nodes, problem.split(point), numbers).values
        result = sign * float(np.asarray(found[0]))
        for block, value in zip(own_rows, found[1:], strict=True):
            result -= float(np.ravel(value) @ rows[block.first : block.first + block.size])
        return sign * result

    gains = [central(partial(lagrangian, int(k)), 1e-5) for k in chosen]
    if not (np.isfinite(gains).all() and np.isfinite(values).all()):
        return np.full(count, np.nan)
    return np.asarray(np.linalg.lstsq(values, np.array(gains), rcond=1e-10)[0])


def worth_in_objective(problem: Problem, course: GriddedCourse, point: FloatArray) -> FloatArray:
    """Return what each integral along a course (per share of the time) is worth in the objective alone. Shapes: point
    (n,), result (integrals,)."""
    axis = problem.template.built_axes[0]
    return _worth_of_integrals(problem, axis, course, point, np.zeros(problem.row_count))


# ---- prices of limits over time ------------------------------------------------------------------------


def _price_curves(
    problem: Problem, axis: CollocatedAxis, result: RunResult, times: FloatArray
) -> dict[str, tuple[FloatArray, FloatArray]]:
    """Return {limit: (times, price per unit of the limit and of time)} of limits over time that have a price."""
    found: dict[str, tuple[FloatArray, FloatArray]] = {}
    states = result.constraints
    if states.prices is None:
        return found
    for block in states.blocks:
        own_times = getattr(block, "times", None)
        if own_times is None or len(own_times) < 2 or not _is_of(axis, block.name):
            continue
        prices = states.prices[block.first : block.first + block.size].reshape(len(own_times), -1)
        if not np.isfinite(prices).any():
            continue
        at = np.array(own_times)
        ends = np.concatenate([[times[0]], 0.5 * (at[1:] + at[:-1]), [times[-1]]])
        lengths = np.maximum(np.diff(ends), 1e-12)
        found[block.name] = at, np.nan_to_num(prices).sum(axis=1) / lengths
    return found


def _is_of(axis: CollocatedAxis, name: str) -> bool:
    others = [own.suffix for own in axis.template.built_axes if own is not axis and own.suffix]
    return not any(name.endswith(suffix) for suffix in others)


# ---- arcs ----------------------------------------------------------------------------------------------


def _arcs(
    problem: Problem, axis: CollocatedAxis, course: GriddedCourse, times: FloatArray, result: RunResult
) -> list[Arc]:
    found: list[Arc] = []
    limits = _active_limits(axis, result)
    middles = 0.5 * (course.taus[1:] + course.taus[:-1])
    for control, own in zip(axis.controls, course.controls, strict=True):
        block = next(item for item in problem.blocks if item.name == control.name)
        low, high, theta = own.at(middles, np.zeros(len(middles), dtype=bool))
        values = low if own.scheme is not None or not own.is_linear else _between(low, high, theta)
        sides = _sides(block, own, result, middles)
        is_singular = own.scheme is not None and _is_linear(axis, course, axis.control_places[control.name])
        flat = np.asarray(values).reshape(len(middles), -1)
        for element in range(flat.shape[1]):
            name = element_name(control.name, control.shape, element)
            kinds = [
                _kind(int(side), times[k], times[k + 1], limits, is_singular=is_singular)
                for k, side in enumerate(sides[:, element])
            ]
            pieces = [(float(times[k]), float(times[k + 1]), kind) for k, kind in enumerate(kinds)]
            if (
                own.scheme is not None
                and not own.scheme.shares_ends
                and len(kinds) * len(own.scheme.used) == len(own.values)
            ):
                used = own.values.reshape(len(kinds), len(own.scheme.used), -1)[:, :, element]
                pieces = _switched(pieces, used, own.scheme.weights[list(own.scheme.used)])
            found += _joined(name, pieces)
    return found


def _switched(pieces: list[Piece], values: FloatArray, weights: FloatArray) -> list[Piece]:
    """Return the pieces with a jump from one bound to the other told as such, not as what lies between. A control,
    with values (intervals, used), jumps where its average says: where on either side of a few short intervals it is at
    different bounds, and within them at either or, what it changes being linear in it, anywhere. In the last interval
    one of its values may be anything: it is worth nothing there."""
    lengths = np.array([end - begin for begin, end, _ in pieces])
    usual = float(np.median(lengths))
    found: list[Piece] = []
    k = 0
    while k < len(pieces):
        width = next((w for w in range(1, MOST_MIXED + 1) if _is_jump(pieces, values, k, w, usual)), 0)
        if width:
            inside = slice(k, k + width)
            before, after = float(values[k - 1, -1]), float(values[k + width, 0])
            average = float(lengths[inside] @ (values[inside] @ weights)) / float(weights.sum() * lengths[inside].sum())
            share = min(max((average - after) / (before - after), 0.0), 1.0)
            begin, end = pieces[k][0], pieces[k + width - 1][1]
            at = begin + share * (end - begin)
            found += [(begin, at, pieces[k - 1][2]), (at, end, pieces[k + width][2])]
        else:
            begin, end, kind = pieces[k]
            if k and k == len(pieces) - 1 and kind[0] == "singular" and found[-1][2][0] in ("lower", "upper"):
                is_other = np.abs(values[k] - values[k - 1, -1]) > SAME_VALUE * float(np.ptp(values))
                kind = found[-1][2] if is_other.sum() <= 1 else kind
            found.append((begin, end, kind))
        k += max(width, 1)
    return found


def _is_jump(pieces: list[Piece], values: FloatArray, k: int, width: int, usual: float) -> bool:
    """Return whether from piece `k` on so many are a jump between the bounds on either side."""
    if not k or k + width >= len(pieces) or {pieces[k - 1][2][0], pieces[k + width][2][0]} != {"lower", "upper"}:
        return False
    if width > 1 and pieces[k + width - 1][1] - pieces[k][0] > 2.0 * usual:
        return False
    one, other = float(values[k - 1, -1]), float(values[k + width, 0])
    inside = values[k : k + width]
    apart = np.minimum(np.abs(inside - one), np.abs(inside - other))
    kinds = {kind for _, _, (kind, _) in pieces[k : k + width]}
    is_at_bounds = bool((apart <= SAME_VALUE * abs(other - one)).all())
    return kinds == {"singular"} or (kinds <= {"singular", "free"} and is_at_bounds)


def _between(low: FloatArray, high: FloatArray, theta: FloatArray) -> FloatArray:
    share = theta.reshape(-1, *(1,) * (low.ndim - 1))
    return np.asarray(low + share * (high - low))


def _sides(block: Any, own: Any, result: RunResult, middles: FloatArray) -> NDArray[np.int8]:
    """Return −1, 0 or 1 (intervals, elements): at which bound a control lies in each interval."""
    sides = result.bounds.sides[block.first : block.first + block.size]
    flat = np.where(np.abs(sides) == 1, sides, 0).reshape(block.shape[0], -1)
    if own.scheme is None:
        pieces = block.shape[0] - own.is_linear
        place = np.clip(np.floor(middles * pieces), 0, pieces - 1).astype(np.int64)
        if not own.is_linear:
            return np.asarray(flat[place], dtype=np.int8)
        return np.where(flat[place] == flat[place + 1], flat[place], 0).astype(np.int8)
    step = own.scheme.width if own.scheme.shares_ends else len(own.scheme.used)
    interval = np.clip(np.searchsorted(own.taus, middles, side="right") - 1, 0, len(own.taus) - 2)
    each = flat[interval[:, np.newaxis] * step + np.arange(len(own.scheme.used))]
    all_low, all_high = (each == -1).all(axis=1), (each == 1).all(axis=1)
    return np.asarray(all_high.astype(np.int8) - all_low.astype(np.int8), dtype=np.int8)


def _active_limits(axis: CollocatedAxis, result: RunResult) -> list[tuple[str, FloatArray]]:
    """Return (limit with its side, times at which it is active) of inequalities over time."""
    found = []
    states = result.constraints
    for block in states.blocks:
        own_times = getattr(block, "times", None)
        if own_times is None or not _is_of(axis, block.name):
            continue
        sides = states.sides[block.first : block.first + block.size].reshape(len(own_times), -1)
        for side, word in ((-1, "lower"), (1, "upper")):
            active = (sides == side).any(axis=1)
            if active.any():
                found.append((f"{block.name}'s {word} limit", np.array(own_times)[active]))
    return found


def _kind(
    side: int, begin: float, end: float, limits: Sequence[tuple[str, FloatArray]], *, is_singular: bool
) -> tuple[str, str]:
    if side:
        return ("lower" if side < 0 else "upper"), ""
    names = [name for name, times in limits if int(((times > begin) & (times <= end)).sum()) >= 2]
    if names:
        return "limit", ", ".join(names)
    return ("singular" if is_singular else "free"), ""


def _joined(name: str, pieces: Sequence[Piece]) -> list[Arc]:
    found: list[Arc] = []
    first = 0
    for k in range(1, len(pieces) + 1):
        if k == len(pieces) or not _are_alike(pieces[k][2], pieces[k - 1][2]):
            words = dict.fromkeys(word for _, _, (_, told) in pieces[first:k] for word in told.split(", ") if word)
            found.append(Arc(name, pieces[first][0], pieces[k - 1][1], pieces[first][2][0], ", ".join(words)))
            first = k
    return found


def _are_alike(one: tuple[str, str], other: tuple[str, str]) -> bool:
    """Return whether a control does the same in two intervals: at limits, where they have one in common."""
    if one[0] != other[0]:
        return False
    return one[0] != "limit" or bool(set(one[1].split(", ")) & set(other[1].split(", ")))


def _is_linear(axis: CollocatedAxis, course: GriddedCourse, control: int) -> bool:
    """Return whether everything that evolves or is integrated is linear in a control that is chosen at every moment."""
    graph = axis.graph
    numbers = [k for k, item in enumerate(axis.inputs) if item.kind == "value" and item.of == control]
    if not numbers:
        return False
    seeds = {k: graph.stretched(graph.constant(1.0), axis.inputs[k].shape) for k in numbers}
    roots = [state.rate for state in axis.states if state.rate is not None] + list(course.integrands)
    first = [node for node in tangents(graph, roots, seeds) if node is not None]
    second = tangents(graph, first, seeds) if first else []
    return all(node is None or graph.is_constant(node, 0.0) for node in second)


# ---- remarks -------------------------------------------------------------------------------------------


def chattering(times: FloatArray, values: FloatArray) -> tuple[float, float] | None:
    """Return from when to when a control (k,) turns back and forth at successive points; None where it does not."""
    span = float(values.max() - values.min()) if len(values) else 0.0
    if not span > 0.0:
        return None
    moves = np.diff(values)
    turns = (moves[1:] * moves[:-1] < 0.0) & (np.minimum(np.abs(moves[1:]), np.abs(moves[:-1])) > TURN * span)
    best, count, first = (0, 0), 0, 0
    for k, turn in enumerate(turns.tolist()):
        count = count + 1 if turn else 0
        first = k if count == 1 else first
        if count > best[1] - best[0]:
            best = first, first + count
    if best[1] - best[0] < MOST_TURNS:
        return None
    return float(times[best[0]]), float(times[min(best[1] + 1, len(times) - 1)])


def remarks_on(problem: Problem, axis: CollocatedAxis, course: GriddedCourse, point: FloatArray) -> list[str]:
    """Return what an engineer should know of a course that its numbers do not say: controls that chatter, a free end
    that has run away. `point` is (n,)."""
    ends = np.array([axis.time_at(share, point.tolist(), problem) for share in (0.0, 1.0)])
    return [*_chatter_words(axis, course, ends), *free_end_told(problem, axis, point)]


def _broken_between(axis: CollocatedAxis, between: Sequence[Between], limit: float) -> list[str]:
    """Return which limits, of those that hold at the points of the grid, do not between them."""
    found = []
    for item in between:
        miss = float(item.miss.max(initial=0.0))
        if item.case == axis.case and item.kind == "measure" and miss > limit:
            found.append(
                f"what is measured in {item.name} is something else between the points of the grid, by {miss:.1e} of"
                " its size: more steps may help"
            )
        if item.case == axis.case and item.kind == "limit" and miss > limit:
            found.append(
                f"{item.name} holds at the points of the grid, but is broken between them, by {miss:.1e} of its size:"
                " more steps, or a control in pieces, may help"
            )
    return found


def _chatter_words(axis: CollocatedAxis, course: GriddedCourse, times: FloatArray) -> list[str]:
    found = []
    begin, duration = float(times[0]), float(times[-1] - times[0])
    unit = f" {axis.time.unit}" if axis.time.unit else ""
    for control, own in zip(axis.controls, course.controls, strict=True):
        if own.scheme is not None:
            shares = axis.own_points[control.name].shares
        else:
            count = len(own.values)
            shares = np.linspace(0, 1, count) if own.is_linear else (np.arange(count) + 0.5) / count
        flat = own.values.reshape(len(own.values), -1)
        for element in range(flat.shape[1]):
            between = chattering(begin + duration * shares, flat[:, element])
            if between is not None:
                name = element_name(control.name, control.shape, element)
                found.append(
                    f"{name} chatters from {between[0]:.6g} to {between[1]:.6g}{unit}: on a singular arc the grid"
                    f" decides what it does; a limit or a cost on moves({control.name}), pieces, or"
                    ' form = "linear" settle it'
                )
                break
    return found


def free_end_told(problem: Problem, axis: CollocatedAxis, point: FloatArray) -> list[str]:
    """Return what there is to say of a free end that has run to zero or to its bound. `point` is (n,)."""
    if not axis.horizon.is_free_end:
        return []
    graph = problem.graph
    found = []
    ends = [axis.time_at(share, point.tolist(), problem) for share in (0.0, 1.0)]
    began = [axis.time_at(share, list(problem.start), problem) for share in (0.0, 1.0)]
    if ends[1] - ends[0] <= VANISHED * abs(began[1] - began[0]):
        found.append(
            f"the time has run to {ends[1] - ends[0]:.3g}: ending at once is best; a limit on what must have happened"
            " by then is missing"
        )
    for index in sorted(graph.variables_of([axis.horizon.duration])):
        block = problem.blocks[index]
        for place in range(block.size):
            value, low, high = point[block.first + place], block.lower[place], block.upper[place]
            room = 1e-6 * max(abs(value), 1.0)
            side = "lower" if value - low <= room else "upper" if high - value <= room else ""
            if side and low < high:
                found.append(f"{block.element_name(place)}, which says when the time ends, lies at its {side} bound")
    return found
