"""What happened: problems, runs, iterations and evaluations in one SQLite file, safe against crashes.

All SQL lives here. Knows records; never problems' formulas, methods or terminals.
"""

from ilvren.doors import door

TYPE_CHECKING = False
if TYPE_CHECKING:
    from ilvren.ledger.calls import CallRecord as CallRecord
    from ilvren.ledger.damage import Recovered as Recovered, damages as damages, recover as recover
    from ilvren.ledger.opening import last_opened as last_opened
    from ilvren.ledger.records import (
        ApproximationRecord as ApproximationRecord,
        EvaluationRecord as EvaluationRecord,
        ForetoldRecord as ForetoldRecord,
        GroupRecord as GroupRecord,
        IterationRecord as IterationRecord,
        RequestRecord as RequestRecord,
        RunRecord as RunRecord,
        StageRecord as StageRecord,
    )
    from ilvren.ledger.store import Ledger as Ledger

__getattr__, __all__ = door(
    __name__,
    {
        "calls": "CallRecord",
        "opening": "last_opened",
        "damage": "Recovered damages recover",
        "records": (
            "ApproximationRecord EvaluationRecord ForetoldRecord GroupRecord IterationRecord RequestRecord "
            "RunRecord StageRecord"
        ),
        "store": "Ledger",
    },
)
