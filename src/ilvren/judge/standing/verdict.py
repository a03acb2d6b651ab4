"""The verdict on a design, and the checks it rests on."""

from __future__ import annotations

import math
from collections.abc import Mapping
from dataclasses import field
from typing import TYPE_CHECKING

from ilvren.notebooks import InNotebooks
from ilvren.records import dataclass
from ilvren.runs import LimitState, plain

if TYPE_CHECKING:
    from ilvren.judge.standing.findings import Rounding, Worth
    from ilvren.judge.standing.reference import Agreement
    from ilvren.problem import Problem
    from ilvren.runs import Confirmation

__all__ = ["HOLDING", "MEANINGS", "Check", "Proof", "Verdict"]

# Verdict → what it means for the reader, in the order in which they are tried.
MEANINGS = {
    "limits-broken": "the design misses a bound or a constraint",
    "confirmation-broken": "the design misses a limit of [confirm]",
    "improvable": "a feasible better design was evaluated",
    "global-proved": "no feasible design can be better",
    "saddle": "a stationary design with a direction in which the objective improves",
    "local-strict": "a strict local optimum: second-order sufficient conditions hold",
    "local-weak": "a local optimum by convexity or an interval bound, perhaps one of several beside each other",
    "probe-only": "none of the designs tried nearby is better, and nothing shows more than that",
    "first-order-only": "first-order conditions hold; the curvature does not decide",
    "unverified": "the checks do not show an optimum",
}
# The verdicts that hold by themselves.
HOLDING = frozenset({"global-proved", "local-strict", "local-weak"})


@dataclass(frozen=True)
class Check:
    """One independent check: `result` is "pass", "fail" or "unknown"; `value` against `limit` (None where a
    number says nothing); `detail` is one sentence."""

    name: str
    result: str
    value: float | None
    limit: float | None
    detail: str

    def to_dict(self) -> dict[str, object]:
        """Return the plain values of the JSON document."""
        return {
            "name": self.name,
            "result": self.result,
            "value": None if self.value is None else plain(self.value),
            "limit": None if self.limit is None else plain(self.limit),
            "detail": self.detail,
        }


@dataclass(frozen=True)
class Proof:
    """What intervals showed: no feasible design has an objective, as written, better than `bound` (None: nothing); the
    `gap` to the design judged, relative to the objective's size; the `box` (name → ends) where a better design may hide
    when the proof was not completed; `assumed` the ends taken for variables without bounds."""

    bound: float | None
    gap: float
    boxes: int
    seconds: float
    box: Mapping[str, tuple[float, float]] = field(default_factory=dict)
    assumed: Mapping[str, tuple[float, float]] = field(default_factory=dict)

    def to_dict(self) -> dict[str, object]:
        """Return the plain values of the JSON document."""
        return {
            "complete": not self.box,
            "bound": None if self.bound is None else plain(self.bound),
            "gap": plain(self.gap),
            "boxes": self.boxes,
            "seconds": round(self.seconds, 3),
            "box": {name: [plain(end) for end in ends] for name, ends in self.box.items()} or None,
            "assumed": {name: list(ends) for name, ends in self.assumed.items()},
        }


@dataclass(frozen=True, kw_only=True)
class Verdict(InNotebooks):
    """`better` is the better design that was evaluated, by name, when the verdict is "improvable";
    `active` are the active limits with their margins and prices;
    `freedom` the degrees of freedom they leave: free variables less independent
    active limits."""

    run: str
    problem: Problem
    verdict: str
    reason: str
    checks: tuple[Check, ...]
    objective: float | None
    active: tuple[LimitState, ...] = ()
    freedom: int | None = None
    better: Mapping[str, float] = field(default_factory=dict)
    better_objective: float | None = None
    accept_probe: bool = False
    proof: Proof | None = None
    worth: Worth | None = None
    rounding: Rounding | None = None
    agreements: tuple[Agreement, ...] = ()
    better_run: str = ""
    confirmation: Confirmation | None = None

    @property
    def holds(self) -> bool:
        """Return whether the design is shown to be an optimum (or to have passed the probe, where accepted)."""
        return self.verdict in HOLDING or (self.verdict == "probe-only" and self.accept_probe)

    def better_design(self) -> dict[str, float | str]:
        """Return the better design by name, the words of choices instead of their numbers."""
        shown = {variable.name: variable.shown for variable in self.problem.variables if variable.name in self.better}
        return {name: shown[name](value) for name, value in self.better.items()}

    def to_dict(self) -> dict[str, object]:
        """Return the JSON document of `verify`."""
        name = self.problem.objective.name if self.problem.objective else "objective"
        document: dict[str, object] = {
            "run": self.run or None,
            "verdict": self.verdict,
            "holds": self.holds,
            "reason": self.reason,
            "checks": [check.to_dict() for check in self.checks],
            "active": {state.name: state.to_dict() for state in self.active},
            "freedom": self.freedom,
        }
        if self.proof is not None:
            document["proof"] = self.proof.to_dict()
        if self.worth is not None:
            document["worth"] = self.worth.to_dict()
        if self.rounding is not None:
            document["makeable"] = self.rounding.to_dict()
        if self.confirmation is not None:
            document["confirmation"] = self.confirmation.to_dict()
        if self.agreements:
            document["reference"] = [item.to_dict() for item in self.agreements]
        if self.better:
            document["better"] = {
                "variables": self.better_design(),
                "objectives": {name: plain(self.better_objective if self.better_objective is not None else math.nan)},
                "run": self.better_run or None,
            }
        return document
