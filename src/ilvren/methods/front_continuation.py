"""Along the front from point to point: predictor and corrector with exact second derivatives.

A point of the front solves, for a foot a on the plane through the ends and a direction d,

    minimize t    subject to    the limits,   F_i(x) − d_i t <= a_i                                             (1)

From the solution (x, t) with multipliers w of the objectives and λ of the limits at one foot, the next foot a' is
reached by quadratic programs, of which the first is the predictor along the tangent and the others correct it:

    minimize  t' + ½ s'Hs    subject to  linearised limits,   F_i + ∇F_i's − d_i t' <= a_i'                     (2)

H the second derivatives of Σ w_i F_i − λ'c, made positive definite by curvature across the limits that hold,

    H + σ A'A ,   −σ A'r for the gradient,   r what A s is to be                                                (3)

Limits that begin or cease to hold on the way are taken by (2) itself; where they do there is a corner of the front,
which is found by halving the way between the feet (4). Where (2) does not lead to a point of the front, the way is
halved; then a search of (1) looks for another part of the front, and the walk goes on from there.

two objectives     feet evenly along the chord between the ends; then the widest gaps
three and more     a the ideal, d = w ∘ D with weights w of a lattice, each from the nearest one that is done

Needs     what its local method needs; without second derivatives every point is searched for.   Handles   the same.
Cost      about two gradients and Hessians for each point; arithmetic (n + m)³.
Stops     when there are as many points as asked for, or no gap is left that can be filled.
Weak      fronts of many parts: each has to be found by a search.
Source    C. Hillermeier, "Nonlinear multiobjective optimization: a generalized homotopy approach", 2001; feet and
          lattice: I. Das, J. Dennis, 1998; (3): M. R. Hestenes, "Multiplier and gradient methods", 1969.
Departs   by (2) in place of Newton's method on the conditions with a fixed choice of limits.
"""

from __future__ import annotations

from collections.abc import Generator
from typing import Any

import numpy as np
from numpy.typing import NDArray

from ilvren.algebra import QuadraticSolution, lattice, solve_quadratic
from ilvren.methods.base import FRONT, SLOPES, Ending, HessianRequest, Iterate, Method, Protocol, Reply, Request, Task
from ilvren.methods.pieces.ends import Ends, found_ends, search_all
from ilvren.methods.pieces.inner import AUTOMATIC, inner_method
from ilvren.methods.pieces.measured import stands
from ilvren.methods.pieces.options import option
from ilvren.methods.pieces.scalarizing import Scalar, ScalarView, Solved, scalarized_task
from ilvren.methods.pieces.together import Seen
from ilvren.methods.pieces.trade_offs import compromise
from ilvren.records import dataclass

__all__ = ["METHOD", "FrontContinuationOptions"]

FloatArray = NDArray[np.float64]
Step = Generator[Request | HessianRequest | Iterate, Any, "_State | None"]

# Corrections of one point; halvings of the way to it; a step longer than so many sizes of the variables leads nowhere.
CORRECTIONS, HALVINGS, MOST_STEP = 6, 2, 3.0
# (3): weights tried, relative to the size of H; curvature of t, which has none.
ACROSS, CURVATURE_OF_T = (0.0, 1.0, 10.0, 100.0, 1e4), 1e-6
# Normals whose directions are so small beside the largest are dependent; multipliers and curvature that count as none.
RANK, LEVEL = 1e-10, 1e-8
# (4): halvings that find a corner, and the share of the points that corners may take.
CORNER_HALVINGS, CORNER_SHARE = 5, 0.15
# Least weight of an objective in a direction; the share of the points that the lattice has.
LEAST_WEIGHT, LATTICE_SHARE = 1e-3, 0.95
EVERY = 5


@dataclass(frozen=True)
class FrontContinuationOptions:
    """Options of `front-continuation`."""

    local: str = option(
        AUTOMATIC, names_method=True, help="the method that finds the ends and other parts; automatic: what suits"
    )
    points: int = option(0, low=0, high=100_000, help="points of the front; 0: as many as the run is asked for")


@dataclass(frozen=True)
class _State:
    """A point of the front: x (n,), its objectives (p,), the multipliers of the rows of (1) and of its bounds, and the
    foot and direction that it belongs to."""

    x: FloatArray
    values: FloatArray
    rows: FloatArray
    bounds: FloatArray
    scalar: Scalar

    @property
    def held(self) -> tuple[bytes, bytes]:
        """Return what tells which limits hold it: the signs of all multipliers but those of ceilings and t."""
        own = len(self.rows) - len(self.values)
        return np.sign(self.rows[:own]).tobytes(), np.sign(self.bounds[: len(self.x)]).tobytes()


def front_continuation(task: Task, options: FrontContinuationOptions) -> Protocol:
    """Run the method on `task`; see the head of this file."""
    count = options.points or task.points
    method = inner_method(options.local, task)
    ends = yield from found_ends(task, method)
    if isinstance(ends, Ending):
        return ends
    if ends.is_one_point or count <= len(ends.low):
        told = "the objectives have their best at one design" if ends.is_one_point else "the ends are found"
        return ends.ending(told)
    walk = _Walk(task, ends, method, count)
    if len(ends.low) == 2:
        yield from walk.along()
    else:
        yield from walk.over()
    corners = f", {walk.corners} of them corners where limits begin or cease to hold" if walk.corners else ""
    lost = f"; the way was lost {walk.lost} times, and searches went on" if walk.lost else ""
    return ends.ending(f"{len(ends.front.x)} points{corners}{lost}")


METHOD = Method(
    name="front-continuation",
    about="along the front with second derivatives: about two gradients for each exact point, and its corners",
    kind=FRONT,
    needs="values",
    handles=frozenset({"bounds", "inequalities", "equalities"}),
    options=FrontContinuationOptions,
    run=front_continuation,
    cost="two gradients and Hessians for each point",
    weak="fronts of many parts, many local fronts",
    inner="local",
    takes_known=True,
)


class _Walk:
    """The points of a front and the way between them."""

    def __init__(self, task: Task, ends: Ends, method: Method, count: int) -> None:
        self.task, self.ends, self.method, self.count = task, ends, method, count
        self.corners = self.lost = 0
        self.states: list[_State] = []

    # ---- two objectives -------------------------------------------------------------------------

    def along(self) -> Generator[Any, Any, None]:
        """Interpretation from one end to the other, then into the widest gaps."""
        ends = self.ends
        order = np.lexsort((ends.front.values[:, 1], ends.front.values[:, 0]))
        first, last = ends.front.values[order[0]], ends.front.values[order[-1]]
        steps = max(self.count - 1 - int(CORNER_SHARE * self.count), 2)

        def foot(share: float) -> Scalar:
            return Scalar(np.zeros(2), first + share * (last - first), ends.extent, ends.extent, 1.0)

        here = yield from self._corrected(ends.front.x[order[0]], first, None, foot(0.0))
        before = 0.0
        for number in range(1, steps):
            share = number / steps
            there = None if here is None else (yield from self._reached(here, foot, before, share))
            if there is None:
                self.lost += here is not None
                there = yield from self._searched(foot(share))
            if there is not None and here is not None and there.held != here.held:
                yield from self._corner(here, there, foot, before, share)
            if there is not None:
                self._take(there)
                before = share
            here = there
            if number % EVERY == 0:
                yield self._shown(f"{len(ends.front.x)} points, {100.0 * share:.0f} % of the way")
        yield from self._fill()
        yield self._shown(f"{len(ends.front.x)} points")

    def _reached(self, here: _State, foot: Any, before: float, share: float) -> Step:
        """Return the state at a foot, the way there being halved where it is lost; None where that does not help."""
        for halvings in range(HALVINGS + 1):
            pieces, state = 2**halvings, here
            ok = True
            for piece in range(1, pieces + 1):
                at = before + (share - before) * piece / pieces
                following = yield from self._corrected(state.x, state.values, state, foot(at))
                if following is None:
                    ok = False
                    break
                state = following
            if ok:
                return state
        return None

    def _corner(self, here: _State, there: _State, foot: Any, low: float, high: float) -> Generator[Any, Any, None]:
        """Find the design between two at which limits begin or cease to hold, (4)."""
        if self.corners >= CORNER_SHARE * self.count:
            return
        found = there
        for _ in range(CORNER_HALVINGS):
            middle = 0.5 * (low + high)
            state = yield from self._corrected(here.x, here.values, here, foot(middle))
            if state is None:
                return
            if state.held == here.held:
                low, here = middle, state
            else:
                high, found = middle, state
        self._take(found)
        self.corners += 1

    def _fill(self) -> Generator[Any, Any, None]:
        """Take points into the widest gaps, each from the nearer one of its ends."""
        ends, tried = self.ends, set[bytes]()
        while len(ends.front.x) < self.count:
            values = ends.front.values
            order = np.lexsort((values[:, 1], values[:, 0]))
            ordered = values[order]
            widths = np.linalg.norm(np.diff(ordered, axis=0) / ends.extent, axis=1)
            for place in np.argsort(-widths):
                if ordered[place].tobytes() not in tried:
                    break
            else:
                return
            tried.add(ordered[place].tobytes())
            foot = 0.5 * (ordered[place] + ordered[place + 1])
            scalar = Scalar(np.zeros(2), foot, ends.extent, ends.extent, 1.0)
            nearest = self._nearest(foot)
            state = None
            if nearest is not None:
                state = yield from self._corrected(nearest.x, nearest.values, nearest, scalar)
            if state is None:
                state = yield from self._searched(scalar)
            if state is not None:
                self._take(state)

    # ---- three and more -------------------------------------------------------------------------

    def over(self) -> Generator[Any, Any, None]:
        """Interpretation over a lattice of directions from the ideal, each from the nearest one that is done."""
        ends, p, parts = self.ends, len(self.ends.low), 1
        while len(lattice(parts + 1, p)) <= max(LATTICE_SHARE * self.count, p + 1):
            parts += 1
        directions = lattice(parts, p)
        centre = int(np.argmin(np.linalg.norm(directions - 1.0 / p, axis=1)))
        state = yield from self._searched(self._ray(directions[centre]))
        done = [directions[centre]]
        states: list[_State | None] = [state]
        if state is not None:
            self._take(state)
        waiting = np.delete(directions, centre, axis=0)
        while len(waiting) and len(ends.front.x) < self.count:
            usable = [k for k, own in enumerate(states) if own is not None]
            known = np.array([done[k] for k in usable]) if usable else directions[[centre]]
            distance = np.linalg.norm(waiting[:, np.newaxis] - known[np.newaxis], axis=2)
            nearest = distance.argmin(axis=1)
            place = int(np.argmin(distance.min(axis=1)))
            weights = waiting[place]
            waiting = np.delete(waiting, place, axis=0)
            own = states[usable[nearest[place]]] if usable else None
            state = None
            if own is not None:
                state = yield from self._corrected(own.x, own.values, own, self._ray(weights))
                self.lost += state is None
            if state is None:
                state = yield from self._searched(self._ray(weights))
            done.append(weights)
            states.append(state)
            if state is not None:
                self._take(state)
            if len(done) % EVERY == 0:
                yield self._shown(f"{len(ends.front.x)} points, {len(waiting)} directions left")
        yield self._shown(f"{len(ends.front.x)} points")

    def _ray(self, weights: FloatArray) -> Scalar:
        ends = self.ends
        reach = np.maximum(weights, LEAST_WEIGHT) * ends.extent
        return Scalar(np.zeros(len(weights)), ends.low.copy(), reach, ends.extent, 1.0)

    # ---- one point ------------------------------------------------------------------------------

    def _take(self, state: _State) -> None:
        self.states.append(state)
        self.ends.front = self.ends.front.joined(state.x[np.newaxis], state.values[np.newaxis], np.zeros(1))

    def _nearest(self, values: FloatArray) -> _State | None:
        if not self.states:
            return None
        every = np.array([state.values for state in self.states])
        return self.states[int(np.argmin(np.linalg.norm((every - values) / self.ends.extent, axis=1)))]

    def _shown(self, note: str) -> Iterate:
        front = self.ends.front
        return Iterate(front.x[compromise(front.values)], note=note)

    def _searched(self, scalar: Scalar) -> Step:
        """Return the state that a search of (1) comes to, None where it leads to nothing new."""
        front = self.ends.front
        order = np.argsort(scalar.worth(front.values), kind="stable")[:2]
        starts = [(front.x[place], front.values[place]) for place in order]
        if len(order) == 2 and not self.task.is_discrete.any():  # between two is nearer than either, and no saddle
            (x, values), (other, theirs) = starts
            starts.insert(0, (0.5 * (x + other), np.maximum(values, theirs)))
        found = (yield from search_all(self.task, self.method, [(scalar, starts)], self.ends.known))[0]
        self.ends.made += 1
        if found.x is None or found.values is None or not found.is_met:
            self.ends.failed += not found.is_met
            return None
        return (yield from self._settled(found, scalar))

    def _settled(self, found: Solved, scalar: Scalar) -> Step:
        """Return the state of a design that a search found: its multipliers are those of one more program."""
        assert found.x is not None
        assert found.values is not None
        state = yield from self._corrected(found.x, found.values, None, scalar)
        if state is not None:
            return state
        nothing = np.zeros(0)
        return _State(found.x, found.values, nothing, nothing, scalar)

    def _corrected(self, x: FloatArray, values: FloatArray, state: _State | None, scalar: Scalar) -> Step:
        """Return the state at a foot, by (2) from a point with the multipliers of its state; None where it is lost."""
        task = self.task
        if not (task.has_curvature or task.has_secants):
            return None
        small = scalarized_task(task, scalar, x, values)
        view = ScalarView(task, scalar)
        z = small.start
        m = len(small.row_lower)
        rows = state.rows if state is not None and len(state.rows) == m else np.zeros(m)
        plan: QuadraticSolution | None = None
        if state is not None and len(state.rows) == m:
            plan = QuadraticSolution(np.zeros(len(z)), state.rows, state.bounds, "solved", np.zeros(m))
        for _ in range(CORRECTIONS):
            reply: Reply = yield Request(z[np.newaxis, :-1], SLOPES)
            seen = _seen(view, z, reply)
            if seen is None:
                return None
            if plan is not None and stands(small, seen, least_size=1.0).meets_conditions:
                told = view.values(seen)
                if not _hold(plan.row_multipliers)[m - len(told) :].all():
                    # Beside the ray it may be where an objective levels off, no least of anything.
                    hessian = yield from view.hessian(HessianRequest(z, plan.row_multipliers, 1.0))
                    if not _curves_upwards(seen, np.asarray(hessian), plan):
                        return None
                return _State(z[:-1].copy(), told, plan.row_multipliers, plan.bound_multipliers, scalar)
            hessian = yield from view.hessian(HessianRequest(z, rows, 1.0))
            if not np.isfinite(hessian).all():
                return None
            plan = _programmed(small, seen, np.asarray(hessian), plan)
            if plan is None or not (np.abs(plan.step[:-1]) <= MOST_STEP * np.maximum(1.0, np.abs(z[:-1]))).all():
                return None
            z = np.clip(z + plan.step, small.lower, small.upper)
            rows = plan.row_multipliers
        return None


def _seen(view: ScalarView, z: FloatArray, reply: Reply) -> Seen | None:
    """Return what is known of a point of (1), None where something is not finite."""
    own = view.reply(z[np.newaxis], reply)
    assert own.gradient is not None
    assert own.jacobian is not None
    jacobian = own.jacobian[0]
    if not (np.isfinite(own.rows).all() and np.isfinite(own.gradient).all() and np.isfinite(jacobian).all()):
        return None
    return Seen(z, float(own.objective[0]), own.rows[0], own.gradient[0], jacobian)


def _hold(multipliers: FloatArray) -> NDArray[np.bool_]:
    """Return which limits (m,) hold a point, by multipliers that are more than rounding."""
    sizes = np.abs(multipliers)
    return np.asarray(sizes > LEVEL * float(sizes.max(initial=0.0)))


def _curves_upwards(seen: Seen, hessian: FloatArray, plan: QuadraticSolution) -> bool:
    """Return whether second derivatives (n + 1, n + 1) of the Lagrangian are nowhere negative where the limits that
    have multipliers leave room."""
    if not np.isfinite(hessian).all():
        return False
    normals = np.vstack([seen.j[_hold(plan.row_multipliers)], np.eye(len(seen.x))[_hold(plan.bound_multipliers)]])
    _, sizes, directions = np.linalg.svd(normals)
    count = int((sizes > RANK * sizes.max(initial=0.0)).sum())
    room = directions[count:]
    if not len(room):
        return True
    least = float(np.linalg.eigvalsh(room @ hessian @ room.T)[0])
    return least >= -LEVEL * max(float(np.abs(hessian).max()), 1e-8)


def _programmed(
    small: Task, seen: Seen, hessian: FloatArray, guess: QuadraticSolution | None
) -> QuadraticSolution | None:
    """Return the solution of (2), with (3) as far as that is needed; None where it has none."""
    size = max(float(np.abs(hessian).max(initial=0.0)), 1e-8)
    hessian = hessian.copy()
    hessian[-1, -1] += CURVATURE_OF_T * size
    held = np.flatnonzero(guess.row_multipliers) if guess is not None else np.zeros(0, dtype=np.int64)
    normals = seen.j[held]
    target = np.where(np.isfinite(small.row_upper), small.row_upper, small.row_lower)[held]
    if guess is not None:
        target = np.where(guess.row_multipliers[held] > 0.0, small.row_lower[held], small.row_upper[held])
    gaps = target - seen.c[held]
    for weight in ACROSS:
        matrix = hessian + weight * size * (normals.T @ normals)
        if float(np.linalg.eigvalsh(matrix)[0]) > 0.0:
            break
        if not len(held):
            matrix = hessian + (1e-6 * size - float(np.linalg.eigvalsh(hessian)[0])) * np.eye(len(hessian))
            weight = 0.0
            break
    else:
        return None
    gradient = seen.g - weight * size * (normals.T @ gaps) if len(held) else seen.g
    plan = solve_quadratic(
        matrix,
        np.asarray(gradient),
        rows=seen.j,
        row_limits=(small.row_lower - seen.c, small.row_upper - seen.c),
        bounds=(small.lower - seen.x, small.upper - seen.x),
        guess=guess,
    )
    if plan.outcome != "solved" or not np.isfinite(plan.step).all():
        return None
    if weight and len(held):  # what (3) adds to the gradient presses on the limits that hold
        rows = plan.row_multipliers.copy()
        rows[held] += weight * size * (gaps - normals @ plan.step)
        plan = QuadraticSolution(plan.step, rows, plan.bound_multipliers, "solved", plan.misses)
    return plan
