"""Branch and bound over relaxations: whole numbers and catalogues in smooth problems, with a bound and a gap.

A relaxation lets spaced and catalogue variables take any value between two members. Words of a choice, and members that
a formula looks up, have nothing between them: each combination of these is a first node. A node is a relaxation within
bounds; the value f of its optimum bounds every design in it. The node with the least bound is solved next; where a
variable x_j lies between two members a < b, it is branched on:

    x_j <= a   and   x_j >= b                                                                              (1)

of the variables between members the one farthest from both, in shares of b − a, and weighted with what earlier
branchings on it have raised the bound by (2). A relaxation all on members is a design; from the first nodes, and
now and then later, designs are also made by rounding and solving again for the continuous variables (3). A node goes
where its bound is not below the best design's f by more than the accuracy asked for, or its relaxation has no feasible
point. The least bound of the nodes left is a bound on every design:  gap = (f_best − bound) / |f_best|     (4)

It is exact where the relaxations are convex, which is then proved; otherwise a local optimum of a relaxation may lie
above a better one, and the bound is only as good as the local method.

Needs     what its local method needs, usually gradients.   Handles   what that handles, spaced and catalogue variables.
Cost      one local solution for each node.
Stops     when no node is left, or the gap is below the accuracy asked for.
Weak      many combinations of words and looked-up members; models that have no values between members.
Source    A. Land, A. Doig, "An automatic method of solving discrete programming problems", 1960; R. Dakin, 1965; smooth
          problems: O. Gupta, A. Ravindran, "Branch and bound experiments in convex nonlinear integer programming",
          1985; (2): T. Achterberg, T. Koch, A. Martin, "Branching rules revisited", 2005.
Departs   by solving both nodes of a branching at the same time.
"""

from __future__ import annotations

import heapq
import itertools
import math
from collections.abc import Generator
from dataclasses import field, replace
from typing import Any

import numpy as np
from numpy.typing import NDArray

from ilvren.methods.base import Ending, HessianRequest, Iterate, Method, Protocol, Request, Task
from ilvren.methods.pieces.inner import AUTOMATIC, inner_method
from ilvren.methods.pieces.measured import stands
from ilvren.methods.pieces.options import option
from ilvren.methods.pieces.points import evaluated
from ilvren.methods.pieces.restricted import restricted
from ilvren.methods.pieces.together import Child, together
from ilvren.records import dataclass

__all__ = ["METHOD", "BranchAndBoundOptions"]

FloatArray = NDArray[np.float64]

# A value within this share of the distance between two members is on one.
ON_MEMBER = 1e-6
# (3): every design is tried to be rounded in so many first nodes, then in one of so many.
FIRST_ROUNDED, ROUNDED_EVERY = 5, 10
# A node is done when its bound is within this many tolerances of the best design.
GAP_TOLERANCES = 10.0
LEAST_SIZE = 1e-8
# So many first nodes are solved at the same time.
ROOTS_TOGETHER = 8
# A relaxation that has no end after so many requests is left open.
MOST_REQUESTS = 400


@dataclass(frozen=True)
class BranchAndBoundOptions:
    """Options of `branch-and-bound`."""

    local: str = option(
        AUTOMATIC, names_method=True, help="the method that solves relaxations; automatic: what suits them"
    )
    nodes: int = option(20_000, low=1, high=100_000_000, help="most relaxations solved")
    starts: int = option(3, low=1, high=1000, help="starts of each relaxation that is not known to be convex")


@dataclass(order=True)
class _Node:
    """Bounds (n,) of a relaxation, the bound known from its parent, a start; ordered by bound, then age."""

    bound: float
    number: int
    lower: FloatArray = field(compare=False)
    upper: FloatArray = field(compare=False)
    start: FloatArray = field(compare=False)
    parent: float = field(compare=False, default=-math.inf)
    branched: tuple[int, float] = field(compare=False, default=(-1, 0.0))


@dataclass(frozen=True)
class _Solved:
    """The optimum x of a relaxation with its f; `word` is "solved", "empty" (no feasible point), "unbounded",
    "open" (not known) or "invalid"."""

    word: str
    x: FloatArray
    f: float


@dataclass
class _Search:
    """The best design and its f; how often and by how much branching on each variable has raised the bound; `lost` is
    the least bound of nodes that were given up."""

    x: FloatArray | None
    f: float
    gains: FloatArray
    counts: FloatArray
    solved: int = 0
    doubtful: int = 0
    lost: float = math.inf

    def slack(self, task: Task) -> float:
        """Return by how much a bound may lie below the best f and still be done."""
        return GAP_TOLERANCES * task.tolerance * max(abs(self.f), LEAST_SIZE) if math.isfinite(self.f) else 0.0


def branch_and_bound(task: Task, options: BranchAndBoundOptions) -> Protocol:
    """Run the method on `task`; see the head of this file."""
    n, method = len(task.start), inner_method(options.local, task)
    if method.name == "mesh-adaptive-search":  # it would keep to the members
        method = inner_method("quadratic-interpolation", task)
    lower, upper = _member_bounds(task)
    search = _Search(None, math.inf, np.zeros(n), np.zeros(n))
    combinations = math.prod(grid.count for grid in task.grids if grid is not None and grid.is_apart)
    if combinations > options.nodes:
        told = f"{combinations:,} combinations of words and looked-up values, each a relaxation of its own"
        return Ending("stalled", f"{told}, are more than the {options.nodes:,} of the option nodes")
    open_nodes = _first_nodes(task, lower, upper)
    made, is_invalid = len(open_nodes), True
    starts = 1 if task.is_convex else options.starts
    while open_nodes:
        bound = open_nodes[0].bound
        if bound >= search.f - search.slack(task) or search.solved >= options.nodes:
            break
        group = [heapq.heappop(open_nodes)]
        while (
            open_nodes
            and len(group) < (2 if group[0].branched[0] >= 0 else ROOTS_TOGETHER)
            and open_nodes[0].parent == group[0].parent
            and open_nodes[0].branched[0] == group[0].branched[0]
        ):
            group.append(heapq.heappop(open_nodes))
        solutions = yield from _solutions(task, method, group, starts, search.solved)
        for node, solved in zip(group, solutions, strict=True):
            search.solved += 1
            if solved.word == "unbounded":
                return Ending("unbounded", "the objective falls without end in one of the relaxations")
            is_invalid = is_invalid and solved.word == "invalid"
            if solved.word in ("open", "invalid"):
                search.doubtful += 1
            _learn(search, node, solved)
            if solved.word == "empty":
                continue
            if solved.word == "solved" and solved.f >= search.f - search.slack(task):
                search.lost = min(search.lost, solved.f)  # left alone, though it may hold a design better by the slack
                continue
            between = _between(task, solved.x, node.lower, node.upper)
            is_member = not between.any()
            if is_member and solved.word == "solved" and solved.f < search.f:
                yield from _try_design(task, method, solved.x, search)
            if is_member and solved.word == "solved":
                search.lost = min(
                    search.lost, solved.f
                )  # a little below its design, or without one where rounding failed
                continue
            if search.solved <= FIRST_ROUNDED or search.solved % ROUNDED_EVERY == 0:
                yield from _try_design(task, method, solved.x, search)
            children = _branched(task, node, solved, between, search, made)
            if not children and solved.word != "solved":
                search.lost = min(search.lost, node.bound)  # nothing more can be learnt of this node
            for child in children:
                made += 1
                heapq.heappush(open_nodes, child)
        left = min((node.bound for node in open_nodes), default=search.f)
        shown = search.x if search.x is not None else solutions[0].x
        told = f"{search.solved} nodes solved, {len(open_nodes)} open, bound {min(left, search.f):.6g}"
        yield Iterate(shown, math.nan, told)
    return _ending(task, search, open_nodes, is_invalid=is_invalid)


METHOD = Method(
    name="branch-and-bound",
    about="whole numbers and catalogues in smooth problems, by relaxations, with a bound and a gap",
    kind="discrete",
    needs="values",
    handles=frozenset({"bounds", "inequalities", "equalities", "spaced", "catalogue"}),
    options=BranchAndBoundOptions,
    run=branch_and_bound,
    cost="one local solution for each node",
    weak="many combinations of words and looked-up members; relaxations that are not convex",
    inner="local",
    relaxes=True,
)


def _member_bounds(task: Task) -> tuple[FloatArray, FloatArray]:
    """Return the bounds (n,), those of spaced and catalogue variables at their first and last member."""
    lower, upper = task.lower.copy(), task.upper.copy()
    for place, grid in enumerate(task.grids):
        if grid is not None:
            ends = grid.values(np.array([0.0, float(grid.count - 1)]))
            lower[place], upper[place] = ends[0], min(ends[1], upper[place])
    return lower, upper


def _first_nodes(task: Task, lower: FloatArray, upper: FloatArray) -> list[_Node]:
    """Return a node for each combination of values between which nothing is (words, what is looked up), those of the
    start first; a single one where there are none."""
    apart = [(place, grid.all()) for place, grid in enumerate(task.grids) if grid is not None and grid.is_apart]
    members = [sorted(values.tolist(), key=lambda value: abs(value - task.start[place])) for place, values in apart]
    found = []
    for number, values in enumerate(itertools.product(*members)):
        low, high = lower.copy(), upper.copy()
        places = [place for place, _ in apart]
        low[places] = high[places] = values
        found.append(_Node(-math.inf, number, low, high, np.clip(task.start, low, high)))
    return found


def _neighbours(task: Task, place: int, value: float) -> tuple[float, float]:
    """Return the members at or below and at or above a value."""
    grid = task.grids[place]
    assert grid is not None
    nearest = float(grid.indices(np.array([value]))[0])
    member = float(grid.values(np.array([nearest]))[0])
    other = nearest + (1.0 if value > member else -1.0)
    beside = float(grid.values(np.array([other]))[0])
    return (member, beside) if value >= member else (beside, member)


def _between(task: Task, x: FloatArray, lower: FloatArray, upper: FloatArray) -> FloatArray:
    """Return (n,): how far each variable is from both of its neighbouring members, 0 on one, at most ½."""
    found = np.zeros(len(x))
    for place, grid in enumerate(task.grids):
        if grid is None or lower[place] == upper[place]:
            continue
        low, high = _neighbours(task, place, float(x[place]))
        if high > low:
            share = (float(x[place]) - low) / (high - low)
            found[place] = min(share, 1.0 - share)
    return np.where(found > ON_MEMBER, found, 0.0)


def _solutions(
    task: Task, method: Method, group: list[_Node], starts: int, number: int
) -> Generator[Request | HessianRequest | Iterate, Any, list[_Solved]]:
    """Solve the relaxations of some nodes at the same time."""
    rng = np.random.default_rng([task.seed, 30, number])
    children, owners = [], []
    for place, node in enumerate(group):
        for k in range(starts):
            start = node.start
            if k:
                low, high = np.maximum(node.lower, node.start - 1.0), np.minimum(node.upper, node.start + 1.0)
                start = low + (high - low) * rng.random(len(start))
            own = replace(
                task,
                start=start,
                lower=node.lower,
                upper=node.upper,
                grids=(),
                row_multipliers=None,
                bound_multipliers=None,
            )
            children.append(_child(own, method, start))
            owners.append(place)
    yield from _together(children)
    found = []
    for place, node in enumerate(group):
        mine = [child for child, owner in zip(children, owners, strict=True) if owner == place]
        found.append(_best_of([_solved(child, node) for child in mine]))
    return found


def _together(children: list[Child]) -> Generator[Request | HessianRequest | Iterate, Any, None]:
    for child in children:
        if not (child.task.upper > child.task.lower).any():
            point = yield from evaluated(child.task.start, derivatives=False)
            is_met = point.is_finite and child.task.violation(point.c) <= child.task.feasibility
            child.ending = Ending("converged" if is_met else "infeasible", "")
            child.last = Iterate(point.x)
            child.fixed_value = point.f
    rest = [child for child in children if child.ending is None]
    if rest:
        # Iterates are judged here: the bounds of a node are not those that a run is judged by.
        yield from together(rest, judge=lambda child, iterate: stands(child.task, child.seen_at(iterate.point)))


def _child(own: Task, method: Method, start: FloatArray) -> Child:
    def run(small: Task) -> Protocol:
        return method.run(small, method.options())

    return Child(path="relaxation", protocol=restricted(own, start, run), task=own, most_requests=MOST_REQUESTS)


def _solved(child: Child, node: _Node) -> _Solved:
    """Return what the solution of a relaxation tells."""
    ending = child.ending
    assert ending is not None
    if child.fixed_value is not None:
        return _Solved("solved" if ending.claim == "converged" else "empty", child.task.start, child.fixed_value)
    if ending.claim in ("converged", "settled") and child.best is not None and child.worth()[0] == 0.0:
        x = child.last.point if child.last is not None and ending.claim == "converged" else child.best.x
        return _Solved("solved", np.clip(x, node.lower, node.upper), child.best.f)
    if ending.claim == "unbounded":
        return _Solved("unbounded", node.start, -math.inf)
    if ending.claim == "infeasible":
        return _Solved("empty", node.start, math.inf)
    if child.best is None:
        return _Solved("invalid", node.start, node.bound)
    return _Solved("open", np.clip(child.best.x, node.lower, node.upper), node.bound)


def _best_of(found: list[_Solved]) -> _Solved:
    """Return the most telling of several solutions: the least optimum, else one that is not known."""
    for word in ("unbounded", "solved", "open", "invalid"):
        own = [item for item in found if item.word == word]
        if own:
            return min(own, key=lambda item: item.f)
    return found[0]


def _learn(search: _Search, node: _Node, solved: _Solved) -> None:
    """Remember what branching on a variable has raised the bound by, (2)."""
    place, share = node.branched
    if place >= 0 and solved.word == "solved" and math.isfinite(node.parent) and share > 0.0:
        search.gains[place] += max(solved.f - node.parent, 0.0) / share
        search.counts[place] += 1.0


def _branched(task: Task, node: _Node, solved: _Solved, between: FloatArray, search: _Search, made: int) -> list[_Node]:
    """Return the two nodes of (1), fewer where one has no room."""
    bound = max(solved.f, node.bound) if solved.word == "solved" else node.bound
    if between.any():
        known = search.counts > 0.0
        typical = float(search.gains.sum() / search.counts.sum()) if known.any() else 1.0
        worth = np.where(known, search.gains / np.maximum(search.counts, 1.0), typical) + 1e-9 * max(typical, 1e-300)
        place = int(np.argmax(between * worth))
        low, high = _neighbours(task, place, float(solved.x[place]))
    else:  # nothing between members, and not solved: halve the widest
        open_places = [k for k, grid in enumerate(task.grids) if grid is not None and node.upper[k] > node.lower[k]]
        if not open_places:
            return []
        place = max(open_places, key=lambda k: node.upper[k] - node.lower[k])
        low, high = _neighbours(task, place, 0.5 * float(node.lower[place] + node.upper[place]))
        if low == high:
            grid = task.grids[place]
            assert grid is not None
            high = float(grid.values(grid.indices(np.array([low])) + 1.0)[0])
    found = []
    share = (float(solved.x[place]) - low) / (high - low) if high > low else 0.5
    for number, (lower, upper, own) in enumerate(
        ((float(node.lower[place]), low, share), (high, float(node.upper[place]), 1.0 - share))
    ):
        if lower > upper:
            continue
        lowers, uppers = node.lower.copy(), node.upper.copy()
        lowers[place], uppers[place] = lower, upper
        start = np.clip(solved.x, lowers, uppers)
        found.append(_Node(bound, made + number, lowers, uppers, start, bound, (place, own)))
    return found


def _try_design(
    task: Task, method: Method, x: FloatArray, search: _Search
) -> Generator[Request | HessianRequest | Iterate, Any, None]:
    """Round a relaxation's optimum to members, solve for the continuous variables, and keep the design if it is the
    best, (3)."""
    members = task.allowed(x)
    discrete = task.is_discrete
    own = replace(
        task,
        start=members,
        lower=np.where(discrete, members, task.lower),
        upper=np.where(discrete, members, task.upper),
        grids=(),
        row_multipliers=None,
        bound_multipliers=None,
    )
    child = _child(own, method, members)
    yield from _together([child])
    if child.fixed_value is not None:
        value, is_met = child.fixed_value, child.ending is not None and child.ending.claim == "converged"
        point = members
    elif child.best is not None:
        value, is_met, point = child.best.f, child.worth()[0] == 0.0, child.best.x
    else:
        return
    if is_met and value < search.f:
        search.x, search.f = np.where(discrete, members, point), value


def _ending(task: Task, search: _Search, open_nodes: list[_Node], *, is_invalid: bool) -> Ending:
    if search.x is None:
        if is_invalid:
            return Ending("invalid", "no relaxation has finite values: the formulas may have none between members")
        if open_nodes:
            return Ending("stalled", f"no design was found in {search.solved} nodes")
        return Ending("stalled", f"none of {search.solved} nodes holds a design that meets all limits")
    bound = min([search.f, search.lost, *(node.bound for node in open_nodes)])
    is_proved = task.is_convex and not search.doubtful
    gap = (search.f - bound) / max(abs(search.f), LEAST_SIZE)
    told = f"{search.solved} nodes solved, " + (f"gap {100.0 * gap:.2g} %" if math.isfinite(gap) else "no bound known")
    if is_proved:
        told += "; the relaxations are convex, so the bound is exact"
    else:
        told += "; the bound is not exact: the relaxations are not known to be convex"
        if search.doubtful:
            told += f", and {search.doubtful} of them could not be solved"
    is_done = bound >= search.f - search.slack(task)
    return Ending("settled" if is_done else "stalled", told, bound=bound, bound_is_proved=is_proved)
