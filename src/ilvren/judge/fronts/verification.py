"""Is a front one? Every member judged as an optimum of its own, against all that was evaluated, and what lies between.

Nothing a method said is used. A member is `dominated` where a feasible design that is better in one objective and worse
in none was evaluated, by the run or in judging it; else the verdict on problem (1) of `members`.
"""

from __future__ import annotations

from collections.abc import Callable, Mapping
from dataclasses import field, replace
from functools import partial
from typing import TYPE_CHECKING, Any

import numpy as np
from numpy.typing import NDArray

from ilvren.errors import RequestError
from ilvren.evaluate import Gate, measured
from ilvren.judge.fronts.members import Weights, member_problem, weights_at
from ilvren.judge.fronts.proof import FrontBound, proved_front
from ilvren.judge.optimum.judged import JudgedDesign
from ilvren.judge.standing.verdict import HOLDING, Verdict
from ilvren.judge.verifying.verification import VerifyOptions, judge
from ilvren.problem import Problem, Sense, sense_of
from ilvren.records import dataclass
from ilvren.runs import addressed, by_block, flat_design, is_large, objective_sizes, plain, problem_of, refuse_changed

if TYPE_CHECKING:
    from ilvren.ledger import Ledger, RunRecord

__all__ = [
    "DOMINATED",
    "FRONT_MEANINGS",
    "PROVED",
    "FrontVerdict",
    "Hole",
    "JudgedTradeOff",
    "front_documents",
    "verify_front",
]

FloatArray = NDArray[np.float64]

DOMINATED = "dominated"
PROVED = "front-proved"
# Verdicts on fronts that single designs do not have.
FRONT_MEANINGS = {
    DOMINATED: "a feasible design that is better in one objective and worse in none was evaluated",
    PROVED: "no feasible design lies below the front by more than the tolerance",
}
# The share of the members that must hold.
SHARE = 0.95
# A gap so many times wider than those of an even front is a hole.
HOLE = 3.0
# From the weakest to the strongest, of members that hold.
STRENGTH = ("probe-only", "local-weak", "local-strict", "global-proved")


@dataclass(frozen=True, kw_only=True)
class JudgedTradeOff:
    """The verdict on one member: its `address`, its objectives as written, the `weights` of the objectives there, over
    their sizes, `rates`: what one unit more of the first objective changes of each other one (None where a weight is
    zero), and the objectives of the `better` design that was evaluated, where there is one, with its design."""

    address: str
    objectives: Mapping[str, float]
    verdict: str
    holds: bool
    reason: str
    weights: Mapping[str, float]
    rates: Mapping[str, float | None]
    better: Mapping[str, float] = field(default_factory=dict)
    better_design: str = ""
    better_point: tuple[float, ...] = ()
    checks: tuple[Any, ...] = ()

    def to_dict(self) -> dict[str, object]:
        """Return the JSON document."""
        found: dict[str, object] = {
            "design": self.address,
            "objectives": {name: plain(value) for name, value in self.objectives.items()},
            "verdict": self.verdict,
            "holds": self.holds,
            "reason": self.reason,
            "weights": {name: plain(value) for name, value in self.weights.items()},
            "rates": {name: None if value is None else plain(value) for name, value in self.rates.items()},
            "checks": [check.to_dict() for check in self.checks],
        }
        if self.better:
            found["better"] = {
                "design": self.better_design or None,
                "objectives": {name: plain(value) for name, value in self.better.items()},
            }
        return found


@dataclass(frozen=True)
class Hole:
    """Two neighbours between which the front has no member: their addresses, and how far they lie apart, over the
    ranges."""

    left: str
    right: str
    width: float


@dataclass(frozen=True, kw_only=True)
class FrontVerdict:
    """The verdict on a front: `verdict` is that of its worst member where it does not hold, of its weakest holding one
    where it does, or "front-proved"; `share` of the members hold; `holes`, the widest first; `bound` is a lower bound
    of the whole front where one was proved."""

    run: str
    problem: Problem
    sense: Sense
    verdict: str
    holds: bool
    reason: str
    members: tuple[JudgedTradeOff, ...]
    share: float
    least_share: float
    holes: tuple[Hole, ...]
    widest_gap: float
    bound: FrontBound | None = None

    def to_dict(self) -> dict[str, object]:
        """Return the JSON document of `verify`."""
        found: dict[str, object] = {
            "run": self.run,
            "verdict": self.verdict,
            "holds": self.holds,
            "reason": self.reason,
            "share": plain(self.share),
            "members": [member.to_dict() for member in self.members],
            "holes": [{"from": hole.left, "to": hole.right, "width": plain(hole.width)} for hole in self.holes],
            "widest_gap": plain(self.widest_gap),
        }
        if self.bound is not None:
            found["bound"] = self.bound.to_dict()
        return found


def verify_front(
    ledger: Ledger,
    record: RunRecord,
    *,
    tolerance: float | None = None,
    feasibility: float | None = None,
    accept_probe: bool = False,
    as_now: bool = False,
    share: float = SHARE,
    number: int | None = None,
    prove_seconds: float | None = None,
    told: Callable[[str, int, int], None] | None = None,
) -> FrontVerdict:
    """Judge the front of a run, or with `number` that one of its designs, against what the run evaluated. With
    `prove_seconds` the whole front is bounded from below by intervals, too. `told` hears what is done, and of how many.
    Raises RequestError where the run has not ended or has no front, and where it cannot be bounded."""
    problem = problem_of(record)
    sense = sense_of(problem)
    if sense is None:
        raise RequestError(f"{record.id} has no front: its problem has one objective")
    if number is not None:
        design = addressed(ledger, f"{record.id}:{number}")
        documents = [{"design": design.address, "variables": by_block(problem.blocks, list(design.point))}]
    else:
        documents = front_documents(record)
    refuse_changed(record, problem, as_now=as_now)
    own = record.settings
    tolerance = float(str(own["tolerance"])) if tolerance is None else tolerance
    feasibility = float(str(own["feasibility"])) if feasibility is None else feasibility
    with np.errstate(all="ignore"):
        bench = _Bench(problem, sense, ledger, record, documents, tolerance, feasibility, accept_probe)
        members = []
        for place in range(len(documents)):
            members.append(bench.judged(place))
            if told is not None:
                told("members judged", place + 1, len(documents))
        found = _summed_up(record.id, problem, sense, members, share)
        if prove_seconds is None:
            return found
        hears = None if told is None else partial(told, "steps of the bound")
        bound = proved_front(problem, sense, bench.points, bench.values, feasibility, seconds=prove_seconds, told=hears)
    return _with_bound(found, bound, bench)


def front_documents(record: RunRecord) -> list[Any]:
    """Return the members of a run's front as they are on record. Raises RequestError where there is none."""
    if record.result is None or record.state != "ended":
        raise RequestError(f"{record.id} has not ended", advice=f"`ilvren resume {record.id}` brings it to an end")
    documents = record.result.get("front")
    if not isinstance(documents, list):
        raise RequestError(f"{record.id} has no front: its problem has one objective")
    if not documents:
        raise RequestError(f"{record.id} found no design that meets all limits: there is no front to judge")
    return documents


def _with_bound(found: FrontVerdict, bound: FrontBound, bench: _Bench) -> FrontVerdict:
    """Return the verdict with what the bound shows: a member below which a design was found is dominated."""
    order = np.lexsort((bench.values[:, 1], bench.values[:, 0])).tolist()
    members = list(found.members)
    for place, step in zip(order, bound.steps, strict=True):
        if not step.better or members[place].verdict in ("limits-broken", DOMINATED):
            continue
        rows = bench.gate.evaluate(np.array(step.better)).rows
        better = bench.named(bench.sense.as_written(bench.sense.minimized(rows)))
        members[place] = replace(
            members[place],
            verdict=DOMINATED,
            holds=False,
            reason="the search for a bound found a design that is no worse and better",
            better=better,
            better_point=step.better,
        )
    again = _summed_up(found.run, found.problem, found.sense, members, found.least_share)
    again = replace(again, bound=bound)
    if bound.is_complete and again.verdict not in ("limits-broken", DOMINATED):
        told = f"intervals prove that nothing lies below it by more than {bound.tolerance:g} of the ranges"
        return replace(again, verdict=PROVED, holds=True, reason=f"{again.reason}; {told}")
    proved = sum(step.is_proved for step in bound.steps)
    return replace(again, reason=f"{again.reason}; {proved} of {len(bound.steps)} steps of the bound are proved")


class _Bench:
    """What all members of a front are judged with."""

    def __init__(
        self,
        problem: Problem,
        sense: Sense,
        ledger: Ledger,
        record: RunRecord,
        documents: list[Any],
        tolerance: float,
        feasibility: float,
        accept_probe: bool,
    ) -> None:
        self.problem, self.sense, self.run = problem, sense, record.id
        self.tolerance, self.feasibility, self.accept_probe = tolerance, feasibility, accept_probe
        self.documents = documents
        self.gate = Gate(problem, is_sparse=is_large(problem))
        self.measures = measured(problem, self.gate)
        self.points = np.array([flat_design(document["variables"], problem.blocks) for document in documents])
        self.evaluations = [self.gate.evaluate(point, derivatives=True) for point in self.points]
        values = np.array([sense.minimized(item.rows) for item in self.evaluations])
        start = self.gate.evaluate(np.array(problem.start))
        starts = sense.minimized(start.rows) if start.is_finite else values[0]
        extent = np.ptp(values, axis=0)
        sizes = objective_sizes(sense, values, starts)
        is_traded = np.isin(np.arange(len(sizes)), sense.levels[-1])  # what comes first is the same in all members
        self.values, self.sizes = values, np.where(is_traded & (extent > 0.0), extent, sizes)
        self._read(ledger, record)

    def _read(self, ledger: Ledger, record: RunRecord) -> None:
        """Read all feasible designs that the run evaluated."""
        kept = [r for r in ledger.evaluations(record.number) if r.is_whole and r.violation <= self.feasibility]
        rows = np.array([np.frombuffer(r.values)[1:] for r in kept]).reshape(len(kept), self.problem.row_count)
        self.logged = self.sense.minimized(rows)
        self.numbers = [r.number for r in kept]
        self.logged_points = [r.point for r in kept]

    def judged(self, place: int) -> JudgedTradeOff:
        """Return the verdict on a member."""
        document, point, evaluation = self.documents[place], self.points[place], self.evaluations[place]
        written = self.sense.as_written(self.values[place])
        first: list[int] = []
        for level in self.sense.levels[:-1]:  # what comes first is judged alone, before what it leaves to the others
            found = self._case(document, point, written, level[0], first)
            if found.verdict in ("limits-broken", "improvable", "saddle"):  # it is held to a tolerance, not exactly
                break
            first += level
        else:
            traded = self.sense.levels[-1]
            weights = weights_at(
                self.problem, self.sense, self.measures, point, evaluation, self.sizes, self.feasibility, traded
            )
            counts = [k for k in traded if self.values[place, k] > self.sense.goals[k]]
            found = self._case(document, point, written, weights.main if counts else traded[0], None)
            return self._judged(document, place, weights, found, is_met=not counts)
        nothing = Weights(np.zeros(len(self.sense.names)), np.nan)
        return self._judged(document, place, nothing, found, is_met=False)

    def _case(
        self, document: Any, point: FloatArray, written: FloatArray, main: int, capped: list[int] | None
    ) -> Verdict:
        """Return the verdict on a member as an optimum of one objective."""
        problem = member_problem(self.problem, self.sense, written, main, self.sizes, capped)
        case = JudgedDesign(
            problem=replace(problem, confirmation=None),
            point=point,
            tolerance=self.tolerance,
            feasibility=self.feasibility,
            run=str(document["design"]),
            accept_probe=self.accept_probe,
        )
        case.size = float(self.sizes[main])
        return judge(case, VerifyOptions())

    def _judged(self, document: Any, place: int, weights: Weights, found: Verdict, *, is_met: bool) -> JudgedTradeOff:
        """Return the verdict on a member, from that on problem (1); `is_met`: every goal is reached."""
        told = self._told(document, place, weights, found)
        beaten = self._beaten(place)
        if found.verdict == "limits-broken":
            return told
        if is_met:
            reason = "every goal is reached, and better counts for nothing"
            return replace(told, verdict="global-proved", holds=True, reason=reason)
        if beaten is not None:
            better = self.sense.as_written(self.logged[beaten])
            number = self.numbers[beaten]
            return replace(
                told,
                verdict=DOMINATED,
                holds=False,
                reason=f"{self.run}:{number} is better by {self._gain(place, beaten)}, and no worse where that counts",
                better=self.named(better),
                better_design=f"{self.run}:{number}",
                better_point=tuple(np.frombuffer(self.logged_points[beaten]).tolist()),
            )
        if found.verdict == "improvable" and found.better:
            names = [variable.name for variable in self.problem.variables]
            there = np.array([found.better[name] for name in names])
            rows = self.gate.evaluate(there).rows
            better = self.sense.as_written(self.sense.minimized(rows))
            return replace(
                told,
                verdict=DOMINATED,
                holds=False,
                reason="judging it found a design that is no worse in any objective, and better in one",
                better=self.named(better),
                better_point=tuple(there.tolist()),
            )
        return told

    def _told(self, document: Any, place: int, weights: Weights, found: Verdict) -> JudgedTradeOff:
        slopes = weights.weights / self.sizes * self.sense.signs
        first = slopes[0]
        rates: dict[str, float | None] = {}
        for name, slope in zip(self.sense.names[1:], slopes[1:], strict=True):
            is_known = abs(slope) > 1e-9 * float(np.abs(slopes).max()) and np.isfinite(weights.rest)
            rates[name] = float(-first / slope) if is_known and weights.weights[0] > 1e-9 else None
        return JudgedTradeOff(
            address=str(document["design"]),
            objectives=self.named(self.sense.as_written(self.values[place])),
            verdict=found.verdict,
            holds=found.holds,
            reason=found.reason,
            weights=dict(zip(self.sense.names, weights.weights.tolist(), strict=True)),
            rates=rates,
            checks=found.checks,
        )

    def named(self, written: FloatArray) -> dict[str, float]:
        """Return objectives (p,) by name."""
        return dict(zip(self.sense.names, written.tolist(), strict=True))

    def _beaten(self, place: int) -> int | None:
        """Return the place of the feasible design on record that dominates a member most, by more than the tolerance
        in one objective."""
        if not len(self.logged):
            return None
        foremost = self.sense.foremost(np.vstack([self.logged, self.values[[place]]]))
        if not foremost[-1]:  # another one is better in what comes first
            left = np.flatnonzero(foremost[:-1])
            return int(left[np.argmin(self.logged[left, self.sense.levels[-1][0]])])
        gain = (self.values[place] - self.logged) / self.sizes
        # What limits may be missed by is worth something: no objective may be worse by more than rounding, none of the
        # gain may come from a miss.
        beats = (gain >= 0.0).all(axis=1) & (gain.max(axis=1) > max(self.tolerance, 10.0 * self.feasibility))
        if not beats.any():
            return None
        return int(np.argmax(np.where(beats, gain.max(axis=1), -np.inf)))

    def _gain(self, place: int, beaten: int) -> str:
        gain = (self.values[place] - self.logged[beaten]) / self.sizes
        k = int(np.argmax(gain))
        return f"{gain[k]:.2g} of the range of {self.sense.names[k]}"


def _summed_up(run: str, problem: Problem, sense: Sense, members: list[JudgedTradeOff], least: float) -> FrontVerdict:
    """Return the verdict on the whole."""
    good = [member for member in members if member.holds]
    share = len(good) / len(members)
    words = [member.verdict for member in members]
    bad = next((word for word in ("limits-broken", DOMINATED) if word in words), "")
    holds = not bad and share >= least
    told = f"{len(good)} of {len(members)} members hold"
    if bad:
        word = bad
        what = "miss a limit" if bad == "limits-broken" else "are dominated by designs that were evaluated"
        told += f"; {words.count(bad)} {what}"
    elif holds:
        word = next(word for word in STRENGTH if word in [member.verdict for member in good])
        told += f", at least as {word}"
    else:
        others = [word for word in words if word not in HOLDING]
        word = max(set(others), key=others.count)
        told += f", fewer than {100.0 * least:.3g} %; of the others most are {word}"
    values = np.array([[member.objectives[name] for name in sense.names] for member in members]) * sense.signs
    holes, widest = _holes(values, [member.address for member in members])
    return FrontVerdict(
        run=run,
        problem=problem,
        sense=sense,
        verdict=word,
        holds=holds,
        reason=told,
        members=tuple(members),
        share=share,
        least_share=least,
        holes=holes,
        widest_gap=widest,
    )


def _holes(values: FloatArray, addresses: list[str]) -> tuple[tuple[Hole, ...], float]:
    """Return the gaps that are far wider than those of an even front, and the widest gap: between neighbours of two
    objectives, else from each member to the nearest other one."""
    low, high = values.min(axis=0), values.max(axis=0)
    scaled = (values - low) / np.where(high > low, high - low, 1.0)
    if len(values) < 3:
        return (), float("nan")
    if values.shape[1] == 2:
        order = np.lexsort((scaled[:, 1], scaled[:, 0]))
        widths = np.linalg.norm(np.diff(scaled[order], axis=0), axis=1)
        least = HOLE * float(widths.sum()) / len(widths)
        wide = [k for k in np.argsort(-widths) if widths[k] > least]
        holes = tuple(Hole(addresses[order[k]], addresses[order[k + 1]], float(widths[k])) for k in wide)
        return holes, float(widths.max())
    distance = np.linalg.norm(scaled[:, np.newaxis] - scaled[np.newaxis], axis=2)
    np.fill_diagonal(distance, np.inf)
    nearest = distance.min(axis=1)
    least = HOLE * float(np.median(nearest))
    lonely = [int(k) for k in np.argsort(-nearest) if nearest[k] > least]
    holes = tuple(Hole(addresses[k], addresses[int(np.argmin(distance[k]))], float(nearest[k])) for k in lonely)
    return holes, float(nearest.max())
