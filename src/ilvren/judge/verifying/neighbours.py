"""The neighbours of a design among the members of its spaced and catalogue variables, and all of them where few.

Neighbours are `singles` (one variable at the next member, either way), `pairs` (two at once), and moves along
equalities: up to three variables that an equality holds together, by as many members as bring it back. Where there are
continuous variables besides, these are solved for again at every neighbour, from several starts; that a neighbour holds
nothing better is proved where the problem is convex, or by intervals.
"""

from __future__ import annotations

import itertools
from dataclasses import replace
from typing import TYPE_CHECKING

import numpy as np
from numpy.typing import NDArray

from ilvren.algebra import AllowedValues
from ilvren.evaluate import Gate
from ilvren.judge.optimum.search_around import better_at
from ilvren.problem import Problem, allowed_values_of
from ilvren.proofs import is_convex
from ilvren.records import dataclass
from ilvren.runs import AUTOMATIC, Settings, can_be_enumerated, design_count, run

if TYPE_CHECKING:
    from ilvren.judge.optimum.judged import JudgedDesign
    from ilvren.judge.optimum.probe import Better

__all__ = ["Neighbours", "all_designs", "neighbours_of"]

FloatArray = NDArray[np.float64]
IntArray = NDArray[np.int64]

# Neighbours of formulas evaluated at once, of models called for, and solved for continuous variables, at most.
MOST_EVALUATED, MOST_CALLED, MOST_SOLVED, MOST_SOLVED_MODELS = 200_000, 200, 60, 20
# Evaluations for the continuous variables of one neighbour, and starts where it is not known to be convex.
EVALUATIONS, STARTS = 500, 3
# How many members a move along an equality may take, and how many variables an equality may hold for all to be tried.
REACH_OF_TWO, REACH_OF_THREE, MOST_HELD = 12, 4, 12
# Boxes with which intervals may settle one neighbour, and all of them.
PROOF_BOXES, ALL_PROOF_BOXES, MOST_PROVED_VARIABLES = 1000, 6000, 6
# Designs evaluated at once.
BATCH = 50_000


@dataclass(frozen=True)
class Neighbours:
    """How many neighbours there are of the kinds `what`, how many were tried; how many of these tie with the design,
    could not be settled, or were settled by local searches alone; and the best that beats it."""

    count: int
    tried: int
    what: str
    ties: int
    open: int
    only_searched: int
    better: Better | None

    @property
    def are_all_worse(self) -> bool:
        """Return whether every neighbour was tried and is known to be worse or no better."""
        return self.tried == self.count and not (self.open or self.only_searched or self.better)

    @property
    def told(self) -> str:
        """Return what was tried, in words."""
        if self.tried < self.count:
            return f"{self.tried:,} of {self.count:,} neighbours ({self.what}) were tried"
        if self.count == 1:
            return f"the one neighbour ({self.what}) was tried"
        return f"all {self.count:,} neighbours ({self.what}) were tried"


def all_designs(case: JudgedDesign) -> tuple[int, Better | None] | None:
    """Evaluate every design where all variables are spaced or from catalogues and there are few designs of formulas;
    return how many there are and the best that beats the case's, or None where that cannot be."""
    problem = case.problem
    count = design_count(problem)
    if count is None or not can_be_enumerated(problem, count):
        return None
    places, members = _discrete(problem)
    sizes = [own.count for own in members]
    best: Better | None = None
    for first in range(0, count, BATCH):
        numbers = np.unravel_index(np.arange(first, min(first + BATCH, count)), sizes)
        points = np.repeat(case.point[np.newaxis], len(numbers[0]), axis=0)
        for place, own, indices in zip(places, members, numbers, strict=True):
            points[:, place] = own.values(indices)
        best = _best(best, _evaluated(case, points)[0])
    return count, best


def neighbours_of(case: JudgedDesign) -> Neighbours:
    """Try the neighbours of the case's design."""
    problem = case.problem
    places, members = _discrete(problem)
    numbers = [own.indices(case.point[place]) for place, own in zip(places, members, strict=True)]
    here = np.array(numbers, dtype=np.int64)
    moves, what = _moves(case, places, members, here)
    kinds = " and ".join([", ".join(what[:-1]), what[-1]]) if len(what) > 1 else what[0]
    has_continuous = bool(len(problem.continuous_places))
    most = MOST_CALLED if problem.sources else MOST_EVALUATED
    if has_continuous:
        most = MOST_SOLVED_MODELS if problem.sources else MOST_SOLVED
    chosen = moves[:most]
    points = np.repeat(case.point[np.newaxis], len(chosen), axis=0)
    for column, (place, own) in enumerate(zip(places, members, strict=True)):
        points[:, place] = own.values(here[column] + chosen[:, column])
    if not has_continuous:
        best, ties = _evaluated(case, points)
        return Neighbours(len(moves), len(chosen), kinds, ties, 0, 0, best)
    return _solved(case, points, len(moves), kinds)


def _best(one: Better | None, other: Better | None) -> Better | None:
    if one is None or (other is not None and other.gain > one.gain):
        return other
    return one


def _discrete(problem: Problem) -> tuple[list[int], list[AllowedValues]]:
    free = set(problem.free)
    found = [(place, allowed_values_of(variable)) for place, variable in problem.grid if place in free]
    return [place for place, _ in found], [own for _, own in found]


# ---- which ----------------------------------------------------------------------------------------


def _moves(
    case: JudgedDesign, places: list[int], members: list[AllowedValues], here: IntArray
) -> tuple[NDArray[np.int64], tuple[str, ...]]:
    """Return the moves (k, number of variables) in member numbers, singles first, and what they are."""
    n = len(places)
    found: list[IntArray] = []
    unit = np.eye(n, dtype=np.int64)
    # Every other word of a choice is a neighbour.
    grid = dict(case.problem.grid)
    steps = [
        [k - int(here[i]) for k in range(own.count) if k != here[i]] if grid[place].words else [1, -1]
        for i, (place, own) in enumerate(zip(places, members, strict=True))
    ]
    found += [step * unit[i] for i in range(n) for step in steps[i]]
    what = ["singles"]
    pairs = sum(len(steps[i]) * len(steps[j]) for i, j in itertools.combinations(range(n), 2))
    if 0 < pairs <= MOST_EVALUATED:
        for i, j in itertools.combinations(range(n), 2):
            found += [a * unit[i] + b * unit[j] for a in steps[i] for b in steps[j]]
        what.append("pairs")
    along = _along_equalities(case, places, members, here)
    if len(along):
        found += list(along)
        what.append("moves along equalities")
    moves = np.array(found, dtype=np.int64).reshape(-1, n)
    counts = np.array([own.count for own in members])
    inside = ((here + moves >= 0) & (here + moves < counts)).all(axis=1)
    moves = moves[inside]
    _, first = np.unique(moves, axis=0, return_index=True)
    return moves[np.sort(first)], tuple(what)


def _along_equalities(
    case: JudgedDesign, places: list[int], members: list[AllowedValues], here: IntArray
) -> list[IntArray]:
    """Return moves of two or three variables by several members that keep an equality of those variables alone."""
    evaluation = case.evaluation
    equal = np.flatnonzero(case.measures.row_lower == case.measures.row_upper)
    if not len(equal) or evaluation.jacobian is None or case.gate.is_sparse or case.problem.sources:
        return []
    jacobian = np.nan_to_num(evaluation.jacobian[equal])
    held = np.flatnonzero((jacobian[:, places] != 0.0).any(axis=0))
    if not 2 <= len(held) <= MOST_HELD:
        return []
    n, found = len(places), []
    for size, reach in ((2, REACH_OF_TWO), (3, REACH_OF_THREE)):
        steps = np.array(list(itertools.product(range(-reach, reach + 1), repeat=size)), dtype=np.int64)
        steps = steps[(steps != 0).all(axis=1)]
        for group in itertools.combinations(held.tolist(), size):
            moves = np.zeros((len(steps), n), dtype=np.int64)
            moves[:, group] = steps
            counts = np.array([own.count for own in members])
            moves = moves[((here + moves >= 0) & (here + moves < counts)).all(axis=1)]
            if not len(moves):
                continue
            points = np.repeat(case.point[np.newaxis], len(moves), axis=0)
            for column in group:
                points[:, places[column]] = members[column].values(here[column] + moves[:, column])
            _, rows = case.gate.batch_values(points)
            off = np.abs(rows[:, equal] - case.measures.row_lower[equal]) / case.measures.row_sizes[equal]
            if len(case.problem.continuous_places):  # they may take up what is left
                own = (jacobian[:, case.problem.continuous_places] != 0.0).any(axis=1)
                off = off[:, ~own]
            found += list(moves[(off <= case.feasibility).all(axis=1)])
            if len(found) > MOST_EVALUATED:
                return found
    return found


# ---- how they fare --------------------------------------------------------------------------------


def _evaluated(case: JudgedDesign, points: FloatArray) -> tuple[Better | None, int]:
    """Return the best of designs (k, n) that beats the case's, and how many tie with it."""
    if not len(points):
        return None, 0
    if case.problem.sources:
        evaluations = [case.gate.evaluate(point) for point in points]
        objective = np.array([e.objective if e.is_finite else np.nan for e in evaluations])
        rows = np.array([e.rows for e in evaluations]).reshape(len(points), -1)
    else:
        parts = [case.gate.batch_values(points[k : k + BATCH]) for k in range(0, len(points), BATCH)]
        objective, rows = (np.concatenate([part[side] for part in parts]) for side in (0, 1))
    violation = case.measures.violations(points, rows)
    valid = np.isfinite(objective) & np.isfinite(rows).all(axis=1) & (violation <= case.feasibility)
    valid &= (points != case.point).any(axis=1)
    slack = case.tolerance * case.size
    gain = np.where(valid, case.evaluation.objective - objective, -np.inf)
    for place in np.argsort(-gain)[:20]:
        if gain[place] <= slack:
            break
        better = better_at(case, points[place])
        if better is not None:
            return better, 0
    return None, int((valid & (np.abs(gain) <= slack)).sum())


def _solved(case: JudgedDesign, points: FloatArray, count: int, kinds: str) -> Neighbours:
    """Solve for the continuous variables at every neighbour (k, n)."""
    convex = is_convex(case.problem)
    best: Better | None = None
    ties = unsettled = only_searched = 0
    left = ALL_PROOF_BOXES
    for number, neighbour in enumerate(points):
        held = _held(case.problem, neighbour)
        found, is_settled, is_tie = _searched(case, held, number, 1 if convex or case.problem.sources else STARTS)
        best = _best(best, found)
        ties += is_tie
        if found is not None or is_tie:
            continue
        if convex and is_settled:
            continue
        proved, left = _proved_worse(case, held, left)
        if proved:
            continue
        only_searched += is_settled
        unsettled += not is_settled
    return Neighbours(count, len(points), kinds, ties, unsettled, only_searched, best)


def _searched(case: JudgedDesign, held: Problem, number: int, starts: int) -> tuple[Better | None, bool, bool]:
    """Return the best design found, whether the searches came to an end, and whether it ties with the case's."""
    best: Better | None = None
    settled = tied = False
    rng = np.random.default_rng([number, 17])
    lower, upper = held.joined("lower"), held.joined("upper")
    reach = np.where(np.isfinite(upper - lower), 0.0, 3.0 * case.sizes)
    low = np.where(np.isfinite(lower), lower, np.array(held.start) - reach)
    high = np.where(np.isfinite(upper), upper, np.array(held.start) + reach)
    for start in range(starts if held.free else 1):
        problem = held
        if start:
            problem = held.with_starts(low + rng.uniform(size=len(low)) * (high - low))
        if held.free:
            settings = Settings(
                method=AUTOMATIC,
                second_look=0.0,
                evaluations=EVALUATIONS,
                feasibility=case.feasibility,
                tolerance=case.tolerance,
            )
            result = run(problem, settings)
            there, done = np.array(result.point), result.holds or result.outcome == "infeasible"
        else:
            there, done = np.array(held.start), True
        settled = settled or done
        evaluation = Gate(case.problem).evaluate(there)
        if not evaluation.is_finite or not case.measures.violation(there, evaluation.rows) <= case.feasibility:
            continue
        best = _best(best, better_at(case, there))
        tied = tied or abs(case.evaluation.objective - evaluation.objective) <= case.tolerance * case.size
    return best, settled, tied and best is None


def _proved_worse(case: JudgedDesign, held: Problem, left: int) -> tuple[bool, int]:
    """Return whether intervals show that nothing at a neighbour is better, and how many boxes are left."""
    if left <= 0 or len(held.free) > MOST_PROVED_VARIABLES:
        return False, left
    from ilvren.judge.proof.bound import MOST_SECONDS
    from ilvren.proofs import nothing_below

    cutoff = case.evaluation.objective - case.tolerance * case.size
    done, spent = nothing_below(held, cutoff, min(PROOF_BOXES, left), MOST_SECONDS)
    return done, left - spent


def _held(problem: Problem, point: FloatArray) -> Problem:
    """Return the problem with its spaced and catalogue variables fixed where `point` has them."""
    blocks = []
    for block in problem.blocks:
        part = point[block.first : block.first + block.size]
        if block.kind == "continuous":
            blocks.append(replace(block, start=np.clip(part, block.lower, block.upper)))
        else:
            blocks.append(replace(block, start=part, lower=part, upper=part, spacing=None, catalogue=None))
    return replace(problem, blocks=tuple(blocks))
