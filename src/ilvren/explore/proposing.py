"""The smallest move that first derivatives say gives the changes asked for, within the limits.

    first     min Σ w_k s_k²        g_k'p / Δ_k ≥ 1 − s_k,   0 ≤ s_k ≤ 1,   rows and bounds kept,   |p_i| ≤ most    (1)
    then      min ½ p'M p           g_k'p / Δ_k ≥ 1 − s_k,   the same                                              (2)

p are moves over the sizes of the variables, Δ_k the changes asked for, s_k the shares of them that the limits do not
allow, w_k their weights. M is the identity; for vectors that shall move smoothly I + r⁴ D'D, with second differences D
and r about an eighth of their length. A limit stands in the way when it has a multiplier in (1), or, all being met, in
(2). A limit that is missed already is kept from being missed more.

Source: linearized design moves as in R. E. Griffith, R. A. Stewart, "A nonlinear programming technique for the
optimization of continuous processing systems", 1961; smooth moves: A. N. Tikhonov, "Solution of incorrectly
formulated problems and the regularization method", 1963.
"""

from __future__ import annotations

import math
import re
from collections.abc import Mapping, Sequence
from dataclasses import replace
from typing import TYPE_CHECKING, Any

import numpy as np
from numpy.typing import NDArray

from ilvren.algebra import solve_quadratic
from ilvren.errors import RequestError, nearest
from ilvren.evaluate import Gate, measured
from ilvren.problem import with_limits
from ilvren.records import dataclass

if TYPE_CHECKING:
    from ilvren.models import Calls
    from ilvren.problem import Problem

__all__ = ["Change", "Moved", "Proposal", "Quantity", "proposal_at", "told_names", "trusted_share"]

FloatArray = NDArray[np.float64]

# The least of a move's size against the changes of (1), a share that counts as all, and one that counts as none.
REGULAR, ALL, NONE = 1e-9, 1e-6, 1e-9
# A multiplier below this share of the largest stands in nobody's way.
LEAST_PRESSURE = 1e-3
# Vectors move smoothly over about this part of their length.
SMOOTH_PART, LEAST_REACH = 8.0, 2.0
# Linear models are trusted as far as they are wrong by this share of what they promise.
TRUSTED = 0.1
MOST_IN_WAY = 12


@dataclass(frozen=True)
class Change:
    """A change asked for: of the quantity `name` by `amount`, a share of its value where `is_relative`, with a
    `weight`."""

    name: str
    amount: float
    is_relative: bool
    weight: float = 1.0

    @property
    def text(self) -> str:
        """Return the change as it is written."""
        return f"{self.name}={100 * self.amount:+.6g}%" if self.is_relative else f"{self.name}={self.amount:+.6g}"


@dataclass(frozen=True)
class Quantity:
    """A quantity now and as predicted, arrays of its shape; `asked` is the change asked for, None for no wish."""

    name: str
    unit: str
    now: FloatArray
    predicted: FloatArray
    asked: float | None = None


@dataclass(frozen=True)
class Moved:
    """A variable's element that moves: from, to, and the move over its size."""

    name: str
    unit: str
    before: float
    after: float
    share: float


@dataclass(frozen=True)
class Proposal:
    """A move: the design (n,) it begins at and leads to, how much of each change it gives (`shares`), quantities,
    limits `in_the_way` with how hard they press (the hardest is 1), pairs of changes that exclude each other, and
    variables that do not move because they have members only (`fixed`)."""

    start: FloatArray
    point: FloatArray
    changes: tuple[Change, ...]
    shares: tuple[float, ...]
    quantities: tuple[Quantity, ...]
    moves: tuple[Moved, ...]
    in_the_way: tuple[tuple[str, float], ...]
    conflicts: tuple[tuple[str, str], ...]
    fixed: tuple[str, ...]

    @property
    def size(self) -> float:
        """Return the largest move over a variable's size."""
        return max((abs(move.share) for move in self.moves), default=0.0)

    @property
    def is_whole(self) -> bool:
        """Return whether all changes are given in full, as far as derivatives tell."""
        return all(share >= 1.0 - ALL for share in self.shares)


@dataclass(frozen=True)
class _Linear:
    """What is known at the design: scaled gradients of the changes (k, n), of the rows (m, n), of all quantities."""

    gradients: FloatArray
    amounts: FloatArray
    rows: FloatArray
    row_limits: tuple[FloatArray, FloatArray]
    bounds: tuple[FloatArray, FloatArray]
    metric: FloatArray
    weights: FloatArray
    names: list[str]


def proposal_at(
    problem: Problem,
    point: Sequence[float] | FloatArray,
    changes: Sequence[Change],
    *,
    hold: Sequence[str] = (),
    most: float = 0.25,
    smooth: Sequence[str] = (),
    calls: Sequence[Calls] = (),
) -> Proposal:
    """Return the smallest move from a design (n,) that gives the changes. `hold` are names of variables and quantities
    that stay, `most` the largest move over a variable's size, `smooth` vectors that move smoothly; `calls` answer for
    models. Raises RequestError for unknown names, and where derivatives are not finite."""
    at = np.array(point, dtype=float)
    blocks = {block.name: block for block in problem.blocks}
    held = [name for name in hold if name not in blocks]
    told = told_names(problem)
    asked = list(dict.fromkeys([*(change.name for change in changes), *held]))
    _check_names(problem, [(f"--change {change.text}", change.name) for change in changes], told)
    _check_names(problem, [(f"--hold {name}", name) for name in held], told)
    if not len(problem.continuous_places):
        raise RequestError("no variable moves freely: derivatives say nothing of members of a catalogue or grid")
    own = with_limits(problem, [f"{name} <= 1e300" for name in [*told, *asked]]).with_starts(at)
    gate = Gate(own, calls=tuple(calls) or None)
    evaluation = gate.evaluate(at, derivatives=True)
    if not evaluation.is_finite or not evaluation.has_finite_derivatives:
        raise RequestError("the design has no finite values and derivatives to go on from", advice="another design")
    sizes = measured(problem, Gate(problem, calls=gate.calls[: len(problem.sources)])).variable_sizes(at)
    free = problem.continuous_places
    jacobian = evaluation.jacobian
    dense = np.asarray(jacobian if isinstance(jacobian, np.ndarray) else jacobian.toarray())
    gradient = dense[:, free] * sizes[free]
    places = _places(own, problem, [*told, *asked])
    wanted = [_one_row(name, places[name]) for name in (change.name for change in changes)]
    values = evaluation.rows
    amounts = np.array(
        [c.amount * abs(values[w]) if c.is_relative else c.amount for c, w in zip(changes, wanted, strict=True)]
    )
    if not np.isfinite(amounts).all() or not amounts.all():
        raise RequestError(
            "a change of nothing is asked for", advice="a share of 0 is 0: write an amount, such as +0.5"
        )
    lower, upper = problem.joined("lower")[free], problem.joined("upper")[free]
    low = np.maximum(np.minimum((lower - at[free]) / sizes[free], 0.0), -most)
    high = np.minimum(np.maximum((upper - at[free]) / sizes[free], 0.0), most)
    linear = _linear(problem, values, gradient, wanted, amounts, [places[name] for name in held], changes, (low, high))
    linear = _with_held(linear, problem, free, [name for name in hold if name in blocks], smooth)
    move, shares, pressing = _solved(linear)
    conflicts = _conflicts(linear, changes, shares) if len(changes) > 1 else []
    moved = at.copy()
    moved[free] = np.clip(at[free] + move * sizes[free], lower, upper)
    real = np.zeros(len(at))
    real[free] = moved[free] - at[free]
    predicted = values + dense @ real
    wishes = {w: float(a) for w, a in zip(wanted, amounts, strict=True)}
    names = [variable.name for variable in problem.variables]
    units = {block.name: block.unit for block in problem.blocks}
    return Proposal(
        at,
        moved,
        tuple(changes),
        tuple(shares),
        tuple(_quantities(own, problem, values, predicted, places, wishes)),
        tuple(
            Moved(names[p], units[names[p].partition("[")[0]], float(at[p]), float(moved[p]), float(real[p] / sizes[p]))
            for p in free.tolist()
            if moved[p] != at[p]
        ),
        tuple((_named(place, problem, linear, most), share) for place, share in pressing),
        tuple(conflicts),
        tuple(problem.variables[place].name for place, _ in problem.grid if place in set(problem.free)),
    )


def _check_names(problem: Problem, given: Sequence[tuple[str, str]], told: Sequence[str]) -> None:
    """Refuse names of nothing; formulas are looked at when they are built."""
    known = [*told, *(block.name for block in problem.blocks), *(block.name for block in problem.row_blocks)]
    known += [name.partition(".")[2] for name, _ in problem.outputs] + [item.name for item in problem.parameters]
    for flag, name in given:
        if re.fullmatch(r"[A-Za-z_][\w.]*", name) and name not in known:
            close = nearest(name, known)
            advice = f'did you mean "{close}"?' if close else "known: " + ", ".join(known[:12])
            raise RequestError(f'{flag}: the file has nothing named "{name}"', advice=advice)


def told_names(problem: Problem) -> list[str]:
    """Return the quantities that are told: objectives, derived values, models' outputs."""
    # The sum of a [fit] has no name that a formula could use.
    names = [item.name for item in problem.objectives] if not problem.residuals else []
    names += [item.name for item in problem.derived if problem.graph.variables_of([item.node])]
    return list(dict.fromkeys([*names, *(name for name, _ in problem.outputs)]))


def _places(own: Problem, problem: Problem, names: Sequence[str]) -> dict[str, range]:
    """Return {name: its rows} in the problem that has them as limits; constraints by their own names."""
    added = own.row_blocks[len(problem.row_blocks) :]
    found = {name: range(block.first, block.first + block.size) for name, block in zip(names, added, strict=True)}
    for block in problem.row_blocks:
        found.setdefault(block.name, range(block.first, block.first + block.size))
    return found


def _one_row(name: str, rows: range) -> int:
    if len(rows) != 1:
        raise RequestError(
            f"--change {name}: it has {len(rows)} elements",
            advice=f"one of them: {name}[0]; or max({name}), sum({name})",
        )
    return rows[0]


def _linear(
    problem: Problem,
    values: FloatArray,
    gradient: FloatArray,
    wanted: Sequence[int],
    amounts: FloatArray,
    held: Sequence[range],
    changes: Sequence[Change],
    bounds: tuple[FloatArray, FloatArray],
) -> _Linear:
    """Return the program of the changes, with the limits and what is held as rows."""
    m = problem.row_count
    lower = problem.joined_rows("lower") if m else np.zeros(0)
    upper = problem.joined_rows("upper") if m else np.zeros(0)
    low, high = np.minimum(lower - values[:m], 0.0), np.maximum(upper - values[:m], 0.0)
    is_equality = lower == upper
    low, high = np.where(is_equality, lower - values[:m], low), np.where(is_equality, upper - values[:m], high)
    places = [place for rows in held for place in rows]
    rows = np.vstack([gradient[:m], gradient[places]]) if places else gradient[:m]
    zeros = np.zeros(len(places))
    names = [row.name for row in problem.rows] + ["what is held"] * len(places)
    # Rows are scaled by their gradients, so that none drowns in another.
    length = np.maximum(np.abs(rows).max(axis=1, initial=0.0), 1e-300)
    return _Linear(
        gradient[list(wanted)],
        amounts,
        rows / length[:, np.newaxis],
        (np.append(low, zeros) / length, np.append(high, zeros) / length),
        bounds,
        np.eye(gradient.shape[1]),
        np.array([change.weight for change in changes]),
        names,
    )


def _with_held(
    linear: _Linear, problem: Problem, free: NDArray[np.int64], hold: Sequence[str], smooth: Sequence[str]
) -> _Linear:
    """Return the program with variables held, and smooth vectors in its metric."""
    blocks = {block.name: block for block in problem.blocks}
    low, high = linear.bounds[0].copy(), linear.bounds[1].copy()
    column = {int(place): k for k, place in enumerate(free)}
    for name in hold:
        block = blocks[name]
        for place in range(block.first, block.first + block.size):
            if place in column:
                low[column[place]] = high[column[place]] = 0.0
    metric = linear.metric.copy()
    for name in smooth:
        if name not in blocks or blocks[name].size < 3:
            close = nearest(name, [other for other, block in blocks.items() if block.size > 2])
            advice = f'did you mean "{close}"?' if close else "it smooths the moves of a vector variable"
            raise RequestError(f'--smooth {name}: no vector variable "{name}" of three elements or more', advice=advice)
        block = blocks[name]
        own = [column[place] for place in range(block.first, block.first + block.size) if place in column]
        reach = max(LEAST_REACH, block.size / SMOOTH_PART)
        second = np.diff(np.eye(len(own)), 2, axis=0)
        metric[np.ix_(own, own)] += reach**4 * second.T @ second
    return replace(linear, bounds=(low, high), metric=metric)


def _solved(linear: _Linear) -> tuple[FloatArray, list[float], list[tuple[str, float]]]:
    """Return the move, the share of each change that it gives, and what stands in the way."""
    n, k = linear.gradients.shape[1], len(linear.amounts)
    gradients = linear.gradients / linear.amounts[:, np.newaxis]
    endless = np.full(k, np.inf)
    hessian = np.zeros((n + k, n + k))
    hessian[:n, :n] = REGULAR * linear.metric
    hessian[n:, n:] = np.diag(linear.weights)
    rows = np.vstack([np.hstack([gradients, np.eye(k)]), np.hstack([linear.rows, np.zeros((len(linear.rows), k))])])
    limits = (np.append(np.ones(k), linear.row_limits[0]), np.append(endless, linear.row_limits[1]))
    bounds = (np.append(linear.bounds[0], np.zeros(k)), np.append(linear.bounds[1], np.ones(k)))
    with np.errstate(all="ignore"):
        first = solve_quadratic(hessian, np.zeros(n + k), rows=rows, row_limits=limits, bounds=bounds)
    if first.outcome != "solved":
        raise RequestError(
            "no move keeps the limits that hold here, as far as derivatives tell",
            advice="leave out --hold, or larger --most",
        )
    shares = np.clip(1.0 - first.step[n:], 0.0, 1.0)
    shares = np.where(shares > 1.0 - ALL, 1.0, shares)
    rows = np.vstack([gradients, linear.rows])
    limits = (np.append(shares - 0.1 * ALL, linear.row_limits[0]), np.append(endless, linear.row_limits[1]))
    with np.errstate(all="ignore"):
        second = solve_quadratic(linear.metric, np.zeros(n), rows=rows, row_limits=limits, bounds=linear.bounds)
    move = second.step if second.outcome == "solved" else first.step[:n]
    chosen = second if second.outcome == "solved" and (shares == 1.0).all() else first
    pressing = np.append(np.abs(chosen.row_multipliers[k:]), np.abs(chosen.bound_multipliers[:n]))
    return move, shares.tolist(), _in_the_way(linear, pressing, move)


def _in_the_way(linear: _Linear, pressing: FloatArray, move: FloatArray) -> list[tuple[str, float]]:
    largest = float(pressing.max(initial=0.0))
    if not largest > NONE:
        return []
    names = [*linear.names, *(f"|{k}" for k in range(len(move)))]
    order = np.argsort(-pressing, kind="stable")
    return [
        (names[place], float(pressing[place] / largest))
        for place in order[:MOST_IN_WAY].tolist()
        if pressing[place] > LEAST_PRESSURE * largest
    ]


def _conflicts(linear: _Linear, changes: Sequence[Change], shares: Sequence[float]) -> list[tuple[str, str]]:
    """Return pairs of changes of which each could be had alone, but not both."""
    if min(shares) >= 1.0 - ALL:
        return []

    def only(places: list[int]) -> list[float]:
        part = replace(
            linear,
            gradients=linear.gradients[places],
            amounts=linear.amounts[places],
            weights=linear.weights[places],
        )
        return _solved(part)[1]

    alone = [only([k])[0] for k in range(len(changes))]
    found = []
    for i in range(len(changes)):
        for j in range(i):
            both = only([j, i])
            if both[0] < alone[j] - 1e-3 or both[1] < alone[i] - 1e-3:
                found.append((changes[j].text, changes[i].text))
    return found


def _quantities(
    own: Problem,
    problem: Problem,
    values: FloatArray,
    predicted: FloatArray,
    places: Mapping[str, range],
    wishes: Mapping[int, float],
) -> list[Quantity]:
    units: dict[str, Any] = dict(problem.quantity_units)
    units |= {item.name: item.unit for item in problem.objectives}
    units |= {block.name: block.unit for block in problem.row_blocks}
    found = []
    for name, rows in places.items():
        asked = wishes.get(rows[0]) if len(rows) == 1 else None
        at = list(rows)
        found.append(Quantity(name, units.get(name, ""), values[at], predicted[at], asked))
    return found


def trusted_share(predicted: float, actual: float) -> float:
    """Return how much of a move like this linear models can be trusted for: where their error, which grows with the
    square of the move, is a tenth of what they promise; at most twice as far."""
    if predicted == 0.0 or not math.isfinite(actual):
        return 0.5
    error = abs(actual - predicted) / abs(predicted)
    return min(2.0, TRUSTED / error) if error > 0.0 else 2.0


def _named(place: str, problem: Problem, linear: _Linear, most: float) -> str:
    """Return what stands in the way in words: rows have names, "|3" is the move of the third free variable."""
    if not place.startswith("|"):
        return place
    k = int(place[1:])
    name = problem.variables[int(problem.continuous_places[k])].name
    low, high = float(linear.bounds[0][k]), float(linear.bounds[1][k])
    if low == high == 0.0:
        return f"{name} is held"
    return f"--most for {name}" if low == -most and high == most else f"the bounds of {name}, or --most"
