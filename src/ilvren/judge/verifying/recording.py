"""A better design that a verification found, kept as a run of its own."""

from __future__ import annotations

from dataclasses import replace
from typing import TYPE_CHECKING

from ilvren.judge.standing.design_report import point_at
from ilvren.runs import AUTOMATIC, Settings, begun_at, run

if TYPE_CHECKING:
    from ilvren.judge.standing.verdict import Verdict
    from ilvren.ledger import Ledger

__all__ = ["ASKED_FOR", "record_better"]

# The searches of a verification that are worth a run when they find something better.
ASKED_FOR = frozenset({"proof", "random-starts", "other-method"})


def record_better(verdict: Verdict, ledger: Ledger) -> Verdict:
    """Run the method that suits the problem from the better design, recorded; return the verdict naming that run."""
    import numpy as np

    point = np.array(point_at(verdict.problem, verdict.better))
    result = run(begun_at(verdict.problem, point), Settings(method=AUTOMATIC, second_look=0.0), ledger=ledger)
    return replace(verdict, better_run=result.id)
