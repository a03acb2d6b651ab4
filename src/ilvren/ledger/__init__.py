"""What happened: problems, runs, iterations and evaluations in one SQLite file, safe against crashes.

All SQL lives here. Knows records; never problems' formulas, methods or terminals.
"""

from ilvren.ledger.calls import CallRecord
from ilvren.ledger.records import (
    ApproximationRecord,
    EvaluationRecord,
    ForetoldRecord,
    GroupRecord,
    IterationRecord,
    RequestRecord,
    RunRecord,
    StageRecord,
)
from ilvren.ledger.store import Ledger

__all__ = [
    "ApproximationRecord",
    "CallRecord",
    "EvaluationRecord",
    "ForetoldRecord",
    "GroupRecord",
    "IterationRecord",
    "Ledger",
    "RequestRecord",
    "RunRecord",
    "StageRecord",
]
