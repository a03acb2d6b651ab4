"""From simulation to a grid, and from one grid to another: problems, designs and multipliers carried over."""

from __future__ import annotations

import math
from collections.abc import Mapping
from dataclasses import replace
from typing import TYPE_CHECKING, Any

import numpy as np
from numpy.typing import NDArray

from ilvren.dynamics.schemes import SCHEMES, lagrange
from ilvren.formula import SPLIT
from ilvren.problem.grid_blocks import sized
from ilvren.problem.loading import refined_problem
from ilvren.problem.model import Problem, RowBlock
from ilvren.problem.variables import VariableBlock

if TYPE_CHECKING:
    from ilvren.problem.collocated import CollocatedAxis
    from ilvren.problem.over_time import Axis
    from ilvren.problem.template_parts import OwnPoints

__all__ = [
    "begun",
    "carried",
    "carried_along",
    "carried_multipliers",
    "collocated_problem",
    "control_count",
    "control_shares",
    "kinked_rate",
    "limit_sizes",
    "read_control",
    "simulated_problem",
]

FloatArray = NDArray[np.float64]

# A simulated guess that is larger than what else is known of a state by this says that it ran away.
RUN_AWAY = 1e3
# Terms of a limit that are smaller than this share of the states in it say nothing of its size.
ALL_BUT_NOTHING = 1e-3


def simulated_problem(problem: Problem) -> Problem:
    """Return a problem over time whose states are simulated: the one that its file declares, from the same start."""
    if not problem.is_collocated:
        return problem
    own = refined_problem(problem, replace(problem.refinement, scheme="", grids={}))
    return own.with_starts(carried(problem, np.array(problem.start), own))


def collocated_problem(
    problem: Problem, scheme: str, grids: Mapping[str, tuple[float, ...]] | None = None, *, pieces: int | None = None
) -> tuple[Problem, bool]:
    """Return a problem over time with its states as unknowns of a scheme, and whether their guess was simulated: else
    it is each state's `start`, or its first value. Controls have the given number of `pieces`, 0 for as many as the
    file says, None for as many as they have. Raises ProblemError where the scheme cannot take it."""
    own = _without_starts_of_moments(simulated_problem(problem))
    refinement = replace(problem.refinement, scheme=scheme, grids=dict(grids or {}), anchor=None, tighter=0)
    refinement = refinement if pieces is None else replace(refinement, pieces=pieces)
    found = refined_problem(own, refinement)
    point = carried(own, np.array(own.start), found)
    states = _simulated_states(own, found)
    if states is not None:
        for name, values in states.items():
            block = next(item for item in found.blocks if item.name == name)
            point[block.first : block.first + block.size] = values
    return begun(found, point), states is not None


def _without_starts_of_moments(problem: Problem) -> Problem:
    """Return a problem that no longer says where controls begin that have values of their own at every moment of a
    grid, but for all moments at once; its start stays."""
    names = {item.name for item in problem.template.declarations.controls if item.form == "pointwise"}
    given = problem.start_overrides
    lasting = {name: value for name, value in given.items() if name not in names or np.ndim(value) == 0}
    return problem if len(lasting) == len(given) else replace(problem, start_overrides=lasting)


def begun(problem: Problem, point: FloatArray, sizes: Mapping[str, float] | None = None) -> Problem:
    """Return a collocated problem that begins at a full design, also as its baseline, with sizes that suit it; limits
    have the `sizes` that are given by name."""
    moved = problem.with_starts(point)
    blocks = [_without_guessed_size(block, problem) for block in moved.blocks]
    found_blocks, found_rows = sized(blocks, list(problem.row_blocks))
    made = replace(
        moved, blocks=tuple(found_blocks), row_blocks=tuple(found_rows), baseline=tuple(moved.joined("start").tolist())
    )
    return replace(made, row_blocks=tuple(_evenly_sized(made, row, sizes or {}) for row in made.row_blocks))


def limit_sizes(problem: Problem) -> dict[str, float]:
    """Return {limit: size} of the limits of a collocated problem that were given one by `begun`."""
    rows = [row for row in problem.row_blocks if not row.is_grid and row.size and np.isfinite(row.magnitude).all()]
    return {row.name: float(row.magnitude[0]) for row in rows}


def _evenly_sized(problem: Problem, row: RowBlock, sizes: Mapping[str, float]) -> RowBlock:
    """Return a limit that has no size of its own with one for all its elements and moments: of half of its terms' sizes
    there, so that a few wild moments of a guess do not count; of something that all but vanishes at the guess that of
    the states in it."""
    if row.is_grid or not row.size or np.isfinite(row.magnitude).any():
        return row
    for limits in (row.lower, row.upper):
        if np.abs(limits[np.isfinite(limits)]).max(initial=0.0) > 0.0:
            return row
    if row.name in sizes:
        return replace(row, magnitude=np.full(row.size, sizes[row.name]))
    largest = np.zeros(row.size)
    with np.errstate(all="ignore"):
        for value in problem.entry_values(row.terms, problem.start).values:
            own = np.abs(np.broadcast_to(np.asarray(value, dtype=float), row.shape)).ravel()
            largest = np.maximum(largest, np.where(np.isfinite(own), own, 0.0))
    size = float(np.median(largest))
    places = problem.graph.variables_of([row.node])
    states = [float(block.magnitude.max()) for k, block in enumerate(problem.blocks) if k in places and block.is_grid]
    if states and size < ALL_BUT_NOTHING * max(states):
        size = max(states)
    return replace(row, magnitude=np.full(row.size, size)) if size > 0.0 else row


def _without_guessed_size(block: VariableBlock, problem: Problem) -> VariableBlock:
    if not block.is_grid:
        return block
    declared = next(item for item in problem.template.grid_unknowns if item.name == block.name)
    size: Any = np.nan if declared.size is None else declared.size
    return replace(block, magnitude=np.array(np.broadcast_to(size, block.shape), dtype=float).ravel())


def _simulated_states(own: Problem, found: Problem) -> dict[str, FloatArray] | None:
    """Return {unknowns: values} along a simulation of the start; None where it cannot be simulated, or runs away."""
    result: dict[str, FloatArray] = {}
    for axis, made in zip(own.template.built_axes, found.template.built_axes, strict=True):
        nodes = [axis.output(axis.grid.probe, k) for k in range(len(made.unknowns))]
        try:
            with np.errstate(all="ignore"):
                values = own.entry_values(nodes, own.start).values
        except (ArithmeticError, ValueError):
            return None
        for unknown, told in zip(made.unknowns, values, strict=True):
            array = np.asarray(told, dtype=float)
            if not np.isfinite(array).all():
                return None
            block = next(item for item in found.blocks if item.name == unknown.name)
            flat = array.reshape(len(array), -1)
            if _runs_away(flat, block):
                return None
            columns = [np.interp(unknown.taus, axis.taus, flat[:, k]) for k in range(flat.shape[1])]
            result[unknown.name] = np.stack(columns, axis=1).ravel()
    return result


def _runs_away(values: FloatArray, block: VariableBlock) -> bool:
    each = values.shape[1]
    known = np.nan_to_num(block.magnitude.reshape(-1, each)[0], nan=1.0)
    low, high = block.lower.reshape(-1, each)[1:], block.upper.reshape(-1, each)[1:]
    reach = np.where(np.isfinite(high - low), high - low, 0.0).max(axis=0, initial=0.0)
    size = np.maximum(np.maximum(known, reach), 1.0)
    return bool((np.abs(values).max(axis=0) > RUN_AWAY * size).any())


# ---- carried over --------------------------------------------------------------------------------------


def carried_along(before: Problem, point: FloatArray, after: Problem, share: float) -> FloatArray:
    """Return a design of one window as the next one's, which begins a share of its length later: the course and the
    controls moved on, held at their last values where nothing is known yet. First values stay those of `after`."""
    result = np.array(after.start)
    known = {block.name: block for block in before.blocks}
    for block in after.blocks:
        own = known.get(block.name)
        if own is None or own.shape != block.shape:
            continue
        values = point[own.first : own.first + own.size].reshape(own.shape[0] if own.shape else 1, -1)
        place = slice(block.first, block.first + block.size)
        found = _axis_of(after, block.name)
        if found is not None:
            axis: CollocatedAxis = found[0]  # type: ignore[assignment]
            at = np.minimum(axis.points + share, 1.0)
            result[place] = _along(axis.taus, axis.scheme.points, values, at).ravel()
        elif _is_control(after, block):
            shares = control_shares(after, block)
            at = np.minimum(shares + share, shares[-1])
            columns = [np.interp(at, shares, values[:, k]) for k in range(values.shape[1])]
            result[place] = np.stack(columns, axis=1).ravel()
        else:
            result[place] = values.ravel()
    return np.asarray(np.clip(result, after.joined("lower"), after.joined("upper")))


def _axis_of(problem: Problem, name: str) -> tuple[Axis, Any] | None:
    for axis in problem.template.built_axes:
        for unknown in getattr(axis, "unknowns", ()):
            if unknown.name == name:
                return axis, unknown
    return None


def carried(before: Problem, point: FloatArray, after: Problem) -> FloatArray:
    """Return a design of `before` as one of `after`, the same problem on another grid: what has the same name and shape
    is taken as it is, what stands along the time is read off its polynomials."""
    result = np.array(after.start)
    known = {block.name: block for block in before.blocks}
    for block in after.blocks:
        own = known.get(block.name)
        if own is None:
            continue
        values = point[own.first : own.first + own.size]
        place = slice(block.first, block.first + block.size)
        if block.is_grid and own.is_grid:
            result[place] = _read_states(before, own, values, after, block)
        elif own.shape == block.shape and not block.is_grid and not _is_own_points(before, after, block.name):
            result[place] = values
        elif own.shape[1:] == block.shape[1:] and _is_control(after, block):
            result[place] = read_control(before, own, values, control_shares(after, block))
    low, high = after.joined("lower"), after.joined("upper")
    return np.asarray(np.clip(result, low, high))


def _is_control(problem: Problem, block: VariableBlock) -> bool:
    return any(item.name == block.name for item in problem.template.declarations.controls)


def _is_own_points(before: Problem, after: Problem, name: str) -> bool:
    return name in before.template.own_points or name in after.template.own_points


def _read_states(
    before: Problem, own: VariableBlock, values: FloatArray, after: Problem, block: VariableBlock
) -> FloatArray:
    found, wanted = _axis_of(before, own.name), _axis_of(after, block.name)
    assert found is not None
    assert wanted is not None
    axis: CollocatedAxis = found[0]  # type: ignore[assignment]
    found_values = _along(axis.taus, axis.scheme.points, values.reshape(own.shape[0], -1), wanted[1].taus)
    return np.asarray(found_values.ravel())


def _along(taus: FloatArray, points: FloatArray, values: FloatArray, at: FloatArray) -> FloatArray:
    """Return what polynomials through `values` (points of all intervals, k), neighbours sharing their ends, are at
    shares `at` of the time."""
    width = len(points) - 1
    interval = np.clip(np.searchsorted(taus, at, side="left") - 1, 0, len(taus) - 2)
    theta = np.clip((at - taus[interval]) / (taus[interval + 1] - taus[interval]), 0.0, 1.0)
    weights = lagrange(points, theta)
    places = interval[:, np.newaxis] * width + np.arange(width + 1)
    return np.asarray(np.einsum("kp,kpe->ke", weights, values[places]))


def read_control(before: Problem, own: VariableBlock, values: FloatArray, shares: FloatArray) -> FloatArray:
    """Return the values of a control, its block `own`, read at shares of the time (k,), one row each, flat."""
    flat = values.reshape(own.shape[0], -1)
    points: OwnPoints | None = before.template.own_points.get(own.name)
    if points is None and _is_constant(before, own):
        pieces = own.shape[0]
        places = np.clip(np.floor(shares * pieces + 1e-9), 0, pieces - 1).astype(np.int64)
        return np.asarray(flat[places].ravel())
    if points is None or SCHEMES[points.scheme].shares_ends:
        taus = control_shares(before, own)
        return np.stack([np.interp(shares, taus, flat[:, k]) for k in range(flat.shape[1])], axis=1).ravel()
    scheme = SCHEMES[points.scheme]
    interval = np.clip(np.searchsorted(points.taus, shares, side="left") - 1, 0, len(points.taus) - 2)
    length = points.taus[interval + 1] - points.taus[interval]
    weights = scheme.control_weights((shares - points.taus[interval]) / length)
    used = len(scheme.used)
    places = interval[:, np.newaxis] * used + np.arange(used)
    return np.asarray(np.einsum("kp,kpe->ke", weights, flat[places])).ravel()


def control_shares(problem: Problem, block: VariableBlock) -> FloatArray:
    """Return where along the time, as shares, the values of a control's block stand. They are (pieces,)."""
    points = problem.template.own_points.get(block.name)
    if points is not None:
        return np.asarray(points.shares)
    if _is_constant(problem, block):
        return (np.arange(block.shape[0]) + 0.5) / block.shape[0]
    return np.linspace(0.0, 1.0, block.shape[0])


def _is_constant(problem: Problem, block: VariableBlock) -> bool:
    """Return whether a block is a control of constant pieces."""
    controls = problem.template.declarations.controls
    return any(item.name == block.name and item.form == "constant" for item in controls)


def carried_multipliers(
    before: Problem, multipliers: tuple[FloatArray, FloatArray], after: Problem
) -> tuple[FloatArray, FloatArray]:
    """Return multipliers of rows and bounds of `before` as ones of `after`, on another grid: per length of the time, as
    prices over time are, and read off at the new moments. Each pair is (m,), (n,) of its problem."""
    rows, bounds = np.zeros(after.row_count), np.zeros(after.size)
    known_rows = {block.name: block for block in before.row_blocks}
    for block in after.row_blocks:
        own = known_rows.get(block.name)
        if own is not None:
            values = multipliers[0][own.first : own.first + own.size]
            rows[block.first : block.first + block.size] = _densely(before, own, values, after, block)
    known = {item.name: item for item in before.blocks}
    for item in after.blocks:
        other = known.get(item.name)
        if other is not None:
            values = multipliers[1][other.first : other.first + other.size]
            bounds[item.first : item.first + item.size] = _densely(before, other, values, after, item)
    return rows, bounds


def _densely(
    before: Problem,
    own: VariableBlock | RowBlock,
    values: FloatArray,
    after: Problem,
    block: VariableBlock | RowBlock,
) -> FloatArray:
    one, other = _places(before, own), _places(after, block)
    if one is None or other is None or own.shape[1:] != block.shape[1:]:
        return values if own.shape == block.shape else np.zeros(block.size)
    (taus, lengths), (wanted, new_lengths) = one, other
    each = math.prod(block.shape[1:])
    flat = values.reshape(-1, each) / lengths[:, np.newaxis]
    read = np.stack([np.interp(wanted, taus, flat[:, k]) for k in range(each)], axis=1)
    return np.asarray((read * new_lengths[:, np.newaxis]).ravel())


def _places(problem: Problem, block: VariableBlock | RowBlock) -> tuple[FloatArray, FloatArray] | None:
    """Return where the elements of something over time stand, as shares, and the length that each stands for."""
    points = problem.template.own_points.get(block.name)
    if points is not None:
        shares = points.shares
    elif block.times is not None and len(block.times) > 1:
        times = np.array(block.times)
        shares = (times - times[0]) / (times[-1] - times[0] or 1.0)
    else:
        return None
    if isinstance(block, RowBlock) and block.is_grid:  # one for each interval
        ends = np.append(times, np.nan)
        state = block.name.partition(":")[0]
        fitting = [item for item in problem.template.built_axes if len(item.taus) == len(ends)]
        axis = next((item for item in fitting if item.suffix and state.endswith(item.suffix)), fitting[0])
        return axis.taus[:-1], np.diff(axis.taus)
    inside = 0.5 * (shares[1:] + shares[:-1])
    lengths = np.diff(np.concatenate([[shares[0]], inside, [shares[-1]]]))
    return shares, np.maximum(lengths, 1e-12)


# ---- what a file holds ---------------------------------------------------------------------------------


def control_count(problem: Problem) -> float:
    """Return how many numbers its controls are, infinite for one that is chosen at every moment."""
    total = 0.0
    controls = problem.template.declarations.controls
    for control in controls:
        if control.form == "pointwise":
            return math.inf
        block = next(item for item in problem.blocks if item.name == control.name)
        total += block.size
    return total


def kinked_rate(problem: Problem) -> str:
    """Return the name of a state whose rate has a corner or a jump where states or controls decide, "" without one."""
    for axis in problem.template.built_axes:
        graph = axis.graph
        for state in axis.states:
            if state.rate is None or state.name not in axis.state_names:
                continue
            moving: set[int] = set()
            for number in graph.reachable([state.rate]):
                node = graph.nodes[number]
                if node.operation == "variable":
                    if axis.inputs[node.index].kind not in ("tau", "outer", "sigma"):
                        moving.add(number)
                elif any(operand in moving for operand in node.operands):
                    moving.add(number)
                    if node.operation in SPLIT or (node.operation == "interp" and node.operands[0] in moving):
                        return str(state.name)
    return ""
