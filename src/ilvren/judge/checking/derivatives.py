"""Every derivative against high-accuracy differences, and which disagreements are noise.

    D_0(h) = (f(x + h e) − f(x − h e)) / 2h,    D_k(h) = D_{k−1}(h/r) + (D_{k−1}(h/r) − D_{k−1}(h)) / (r^{2k} − 1)   (1)

From the tableau of (1) the entry with the least change against its neighbours is taken, and that change (or the
rounding of the values, if larger) as its error. A derivative is wrong when it is further off than ten such errors
and a ten-thousandth of its size; what lies between that and agreement is doubtful: noise, or a kink nearby.

Source: C. Ridders, "Accurate computation of F'(x) and F'(x) F''(x)", 1982 (polynomial extrapolation with an error).
"""

from __future__ import annotations

import math
import time
from collections.abc import Callable

import numpy as np
from numpy.typing import NDArray

from ilvren.errors import RequestError
from ilvren.evaluate import MOST_DENSE, Gate, measured
from ilvren.judge.checking.finding import Finding, listed
from ilvren.models import FORWARD_DIFFERENCES
from ilvren.problem import Measures, Problem
from ilvren.records import dataclass
from ilvren.runs import mending, trouble_clause

__all__ = ["DerivativeCheck", "check_derivatives"]

FloatArray = NDArray[np.float64]
Progress = Callable[[str], None]

# Steps as shares of a variable's size, each RATIO smaller than the one before.
FIRST_STEP, RATIO, LEVELS = 2e-2, 4.0, 7
# Interior points beside the start; each costs 2 · LEVELS · n values.
POINTS = 3
# Beyond so long no further design is begun, which is said.
MOST_SECONDS = 15.0
# Up to so many variables every one is moved alone; beyond, a sample of them and random directions.
MOST_ALONE, SAMPLED, DIRECTIONS = 1500, 200, 5
MOST_COLOURS = 64
AGREE, WRONG, ERRORS = 1e-6, 1e-4, 10.0
# A difference whose own error is larger than this share of the derivative shows nothing.
BLURRED = 1e-2
# One whose error is larger than this share of itself cannot accuse.
BLUNT = 0.1
# A kink counts when it is this close, in sizes: nearer than the finest difference.
KINK_STEP = 1e-6
EPSILON = float(np.finfo(float).eps)
MOST_FINDINGS = 40
MOST_LOCATED = 3
# Disagreements below this share of the values themselves, per size of the variable, are rounding.
FLOOR = 100.0 * EPSILON
FLOORS = {"differences": 1e-9, "forward-differences": 1e-6}


@dataclass(frozen=True)
class DerivativeCheck:
    """How many elements were compared at how many designs, how many agreed, and what is wrong or doubtful."""

    compared: int
    agreed: int
    points: int
    skipped: int
    worst: float
    findings: tuple[Finding, ...]
    sampled: str = ""


def check_derivatives(
    problem: Problem, gate: Gate, *, seed: int = 0, progress: Progress | None = None
) -> DerivativeCheck:
    """Compare every element of gradient and Jacobian at the start and, while that does not take long, at random
    interior designs."""
    points, skipped = _points(problem, gate, seed)
    n = problem.size
    is_continuous = np.concatenate([np.full(block.size, block.kind == "continuous") for block in problem.blocks])
    # Nobody asks for slopes by spaced and catalogue variables, nor does a table have any.
    free = np.array([place for place in problem.free if is_continuous[place]], dtype=np.int64)
    sampled = ""
    rng = np.random.default_rng([seed, 3])
    columns, colours = free, list[tuple[FloatArray, str]]()
    if len(free) > MOST_ALONE:
        columns = np.sort(rng.choice(free, SAMPLED, replace=False))
        sampled = f"{SAMPLED} of {len(free)} variables alone, {DIRECTIONS} random directions"
        colours = _colour_directions(problem, gate, free)
        if colours:
            sampled += ", and all variables in groups of which a row knows one (full rows apart)"
    tally, located = _Tally(problem, gate), list[Finding]()
    began, compared = time.monotonic(), 0
    for number, point in enumerate(points):
        spent = time.monotonic() - began
        if number and spent * (number + 1) / number > MOST_SECONDS:
            told = f"{number} of {len(points)} designs, since one takes {spent / number:.2g} s"
            sampled = f"{sampled}; {told}" if sampled else told
            break
        compared += 1
        if progress is not None:
            progress(f"derivatives at design {number + 1} of {len(points)}")
        sizes = _steps(problem, point)
        exact = _Exact(gate, point)
        for column in columns.tolist():
            unit = np.zeros(n)
            unit[column] = sizes[column]
            estimate, error, scale = _difference(gate, point, unit)
            name = problem.variables[column].name
            own = exact.column(column) * sizes[column]
            tally.compare(own, estimate, error, scale, sizes[column], name, number, point, unit)
        directions = [(sizes * group, name) for group, name in colours]
        for _ in range(DIRECTIONS if sampled else 0):
            direction = np.zeros(n)
            direction[free] = rng.normal(size=len(free)) * sizes[free] / math.sqrt(len(free))
            directions.append((direction, "a random direction"))
        for direction, name in directions:
            estimate, error, scale = _difference(gate, point, direction)
            tally.compare(exact.along(direction), estimate, error, scale, 1.0, name, number, point, direction)
        if tally.met_infinite and len(located) < MOST_LOCATED:
            located += _located(gate, point, number)
            tally.met_infinite = False
    return DerivativeCheck(
        tally.compared, tally.agreed, compared, skipped, tally.worst, (*tally.findings(), *located), sampled
    )


def _located(gate: Gate, point: FloatArray, number: int) -> list[Finding]:
    """Say where the first derivative that is not finite comes from."""
    found = gate.written.slope_trouble(point)
    if found is None:
        return []
    name, variable, trouble = found
    where = "the start" if number == 0 else f"random design {number}"
    text = (
        f"the derivative of {name} by {variable} is not finite at {where}{trouble_clause(trouble)}; {mending(trouble)}"
    )
    return [Finding("note", (name, variable), text)]


def _colour_directions(problem: Problem, gate: Gate, free: NDArray[np.int64]) -> list[tuple[FloatArray, str]]:
    """Return the directions of the Jacobian's colours, as ones and zeros: along each, every row changes by one
    variable of it alone, so that together they show every element of a sparse Jacobian (full rows apart). None when
    they are too many to move along."""
    try:
        plan = gate.written.jacobian_plan()
    except RequestError:
        return []
    if plan.colour_count > MOST_COLOURS:
        return []
    found = []
    for colour in range(plan.colour_count):
        members = free[(plan.colours[free] == colour) & plan.used_columns[free]]
        direction = np.zeros(problem.size)
        direction[members] = 1.0
        found.append((direction, f"the variables of group {colour + 1}"))
    return found


def _points(problem: Problem, gate: Gate, seed: int) -> tuple[list[FloatArray], int]:
    """Return the start and random designs inside the bounds where all is finite, and how many were not."""
    start = np.array(problem.start)
    measures = measured(problem, gate)
    sizes = measures.variable_sizes(start)
    free = np.array(problem.free, dtype=np.int64)
    low = np.where(np.isfinite(measures.lower), measures.lower, start - 0.5 * sizes)
    high = np.where(np.isfinite(measures.upper), measures.upper, start + 0.5 * sizes)
    rng = np.random.default_rng([seed, 2])
    found = [start] if gate.evaluate(start).is_finite else []
    skipped = 1 - len(found)
    for _ in range(8 * POINTS):
        if len(found) >= POINTS + 1:
            break
        point = start.copy()
        share = rng.uniform(0.05, 0.95, len(free))
        point[free] = low[free] + share * (high - low)[free]
        for place, variable in problem.grid:
            point[place] = variable.member(float(point[place]))
        if gate.evaluate(point).is_finite:
            found.append(point)
        else:
            skipped += 1
    return found, skipped


def _steps(problem: Problem, point: FloatArray) -> FloatArray:
    """Return each variable's size, no larger than a few times what it is at this design: an upper bound a thousand
    times the value says nothing of the curvature here."""
    sizes = Measures.of(problem).variable_sizes(point)
    own = np.where(point != 0.0, np.maximum(np.abs(point), 1e-3 * sizes), sizes)
    return np.minimum(sizes, own)


class _Exact:
    """The derivatives at one design, dense or sparse."""

    def __init__(self, gate: Gate, point: FloatArray) -> None:
        problem = gate.problem
        n, m = problem.size, problem.row_count
        self.gradient = gate.written.gradient(point) if problem.objective is not None else np.zeros(n)
        self.jacobian = None
        self._gate, self._point = gate, point
        if n * m <= MOST_DENSE and not problem.graph.has_arrays:
            self.jacobian = gate.evaluate(point, derivatives=True).jacobian
            return
        try:
            self.jacobian = gate.written.jacobian(point).tocsc()
        except RequestError:  # too many non-zeros to be formed: products will do
            self.jacobian = None

    def column(self, column: int) -> FloatArray:
        if self.jacobian is None:
            unit = np.zeros(self._gate.problem.size)
            unit[column] = 1.0
            return self.along(unit)
        part = self.jacobian[:, [column]]
        own = part if isinstance(part, np.ndarray) else part.toarray()
        return np.append(self.gradient[column], own.ravel())

    def along(self, direction: FloatArray) -> FloatArray:
        product = (
            self._gate.written.jacobian_product(self._point, direction)
            if self.jacobian is None
            else self.jacobian @ direction
        )
        return np.append(self.gradient @ direction, product)


def _difference(gate: Gate, point: FloatArray, step: FloatArray) -> tuple[FloatArray, FloatArray, FloatArray]:
    """Return the derivative of objective and rows along `step` by (1), its error, and the size of the values."""
    shares: FloatArray = FIRST_STEP / RATIO ** np.arange(LEVELS, dtype=np.float64)
    moved = np.concatenate([point + shares[:, np.newaxis] * step, point - shares[:, np.newaxis] * step])
    batch = gate.written.batch(moved)
    objective = np.zeros(2 * LEVELS) if gate.problem.objective is None else batch.objective
    values = np.column_stack([objective, batch.rows])
    size = np.abs(np.where(np.isfinite(values[0]), values[0], 0.0))
    # Of a sparse problem few rows change at all; where none of the values does, the derivative is 0 without error.
    moved_rows = np.flatnonzero((values != values[0]).any(axis=0))
    best, error = np.zeros(values.shape[1]), np.zeros(values.shape[1])
    best[moved_rows], error[moved_rows] = _extrapolated(values[:, moved_rows], shares)
    return best, error, size


def _extrapolated(values: FloatArray, shares: FloatArray) -> tuple[FloatArray, FloatArray]:
    """Return the derivatives of (1) and their errors from values (2 · LEVELS, r), ahead first, then behind."""
    size = np.abs(np.where(np.isfinite(values), values, 0.0)).max(axis=0)
    with np.errstate(all="ignore"):
        table = (values[:LEVELS] - values[LEVELS:]) / (2.0 * shares[:, np.newaxis])
        rounding = EPSILON * size / shares[:, np.newaxis]
    best, error = np.full(values.shape[1], np.nan), np.full(values.shape[1], np.inf)
    column = table
    for order in range(1, LEVELS):
        with np.errstate(all="ignore"):
            finer = column[1:] + (column[1:] - column[:-1]) / (RATIO ** (2 * order) - 1.0)
            change = np.maximum(np.abs(finer - column[1:]), np.abs(finer - column[:-1]))
            change = np.maximum(change, rounding[order:])
        for row in range(len(finer)):
            better = change[row] < error
            best, error = np.where(better, finer[row], best), np.where(better, change[row], error)
        column = finer
    return best, error


class _Tally:
    """Counts, and keeps the worst disagreement of each element."""

    def __init__(self, problem: Problem, gate: Gate) -> None:
        self.problem, self.gate = problem, gate
        self.compared = self.agreed = 0
        self.worst = 0.0
        self.met_infinite = False
        # Slopes that are differences themselves cannot be better than differences are.
        sources = {calls.source.derivatives for calls in gate.calls}
        self.agree = 1e-5 if FORWARD_DIFFERENCES in sources else AGREE
        self.floor = max(FLOORS.get(source, FLOOR) for source in sources) if sources else FLOOR
        self._found: dict[tuple[int, str], Finding] = {}

    def compare(
        self,
        exact: FloatArray,
        estimate: FloatArray,
        error: FloatArray,
        size: FloatArray,
        unit: float,
        variable: str,
        point: int,
        at: FloatArray,
        step: FloatArray,
    ) -> None:
        """Compare derivatives at a design `at` (n,) along one `step` (n,), all times its length `unit`."""
        with np.errstate(all="ignore"):
            off = np.abs(exact - estimate)
            scale = np.fmax(np.abs(exact), np.abs(estimate))
            scale = np.where(np.isfinite(scale), scale, np.abs(estimate))
            floor = self.floor * size
            agrees = (off <= self.agree * scale + 3.0 * error + floor) & (
                error <= BLURRED * scale + AGREE * size + floor
            )
            is_wrong = (off > WRONG * scale + floor) & (off > ERRORS * error)
            is_wrong &= error <= BLUNT * np.abs(estimate) + AGREE * size + floor  # else the difference shows nothing
            is_wrong |= ~np.isfinite(exact) & np.isfinite(estimate) & (error <= BLURRED * scale + AGREE * size)
        first = 0 if self.problem.objective is not None else 1
        self.compared += len(exact) - first
        self.agreed += int(agrees[first:].sum())
        share = np.where(agrees, off / np.maximum(scale, 1e-3 * size + 1e-300), 0.0)
        self.worst = max(self.worst, float(np.max(share[first:], initial=0.0)))
        self.met_infinite |= not bool(np.isfinite(exact).all())
        for row in np.flatnonzero(~agrees[first:]) + first:
            numbers = (float(exact[row] / unit), float(estimate[row] / unit), float(error[row] / unit))
            self._note(int(row), bool(is_wrong[row]), *numbers, variable, point, at, step)

    def _note(
        self,
        row: int,
        is_wrong: bool,
        exact: float,
        estimate: float,
        error: float,
        variable: str,
        point: int,
        at: FloatArray,
        step: FloatArray,
    ) -> None:
        if is_wrong and math.isfinite(exact) and self._at_kink(row, at, step):
            is_wrong = False  # two slopes meet here: neither number is the derivative
        known = self._found.get((row, variable))
        if known is not None and (known.kind == "wrong" or not is_wrong):
            return
        if len(self._found) >= 50 * MOST_FINDINGS and not is_wrong:
            return
        objective = self.problem.objective
        name = objective.name if row == 0 and objective is not None else self.problem.rows[row - 1].name
        line = objective.line if row == 0 and objective is not None else self.problem.rows[row - 1].line
        where = "the start" if point == 0 else f"random design {point}"
        told = f"{name} by {variable}: {exact:.9g}, by differences {estimate:.9g} ± {error:.1e} at {where}"
        if not math.isfinite(exact):
            told += "; not finite"
        elif not math.isfinite(estimate):
            told += "; the values nearby are not finite"
        elif not is_wrong:
            told += "; within the noise of the differences, or at a kink"
        facts = {
            "entry": name,
            "variable": variable,
            "derivative": exact if math.isfinite(exact) else None,
            "difference": estimate if math.isfinite(estimate) else None,
            "error": error if math.isfinite(error) else None,
            "design": where,
        }
        self._found[row, variable] = Finding("wrong" if is_wrong else "doubtful", (name, variable), told, line, facts)

    def _at_kink(self, row: int, at: FloatArray, step: FloatArray) -> bool:
        """Return whether an operation of the entry changes its branch at this design, along this step."""
        problem = self.problem
        if row == 0:
            assert problem.objective is not None
            node = problem.objective.node
        else:
            node = next(b.node for b in problem.row_blocks if b.first <= row - 1 < b.first + b.size)
        here, ahead, behind = (
            {
                kink.node: kink.gap
                for kink in problem.entry_values([node], at + s * KINK_STEP * step, self.gate.calls).kinks
            }
            for s in (0.0, 1.0, -1.0)
        )
        return any(
            bool(np.any(np.equal(gap, 0.0) | (np.multiply(ahead.get(key, 0.0), behind.get(key, 0.0)) <= 0.0)))
            for key, gap in here.items()
        )

    def findings(self) -> list[Finding]:
        """Return the wrong ones first."""
        ordered = sorted(self._found.values(), key=lambda finding: finding.kind != "wrong")
        return listed(ordered, MOST_FINDINGS)
