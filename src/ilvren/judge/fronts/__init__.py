"""Whether the trade-offs that a run reports are ones: each member as a problem of its own, and the front as a whole.

Knows fronts on record; never how they were found.
"""

from ilvren.doors import door

TYPE_CHECKING = False
if TYPE_CHECKING:
    from ilvren.judge.fronts.comparison import (
        FrontComparison as FrontComparison,
        FrontTrack as FrontTrack,
        attained as attained,
        compare_fronts as compare_fronts,
        have_fronts as have_fronts,
        track_of_front as track_of_front,
    )
    from ilvren.judge.fronts.conflict import (
        Conflict as Conflict,
        conflicts_of as conflicts_of,
        payoff_table as payoff_table,
    )
    from ilvren.judge.fronts.contest import FrontContest as FrontContest, contest_of_fronts as contest_of_fronts
    from ilvren.judge.fronts.mending import mended as mended
    from ilvren.judge.fronts.proof import FrontBound as FrontBound
    from ilvren.judge.fronts.verification import (
        FRONT_MEANINGS as FRONT_MEANINGS,
        FrontVerdict as FrontVerdict,
        JudgedTradeOff as JudgedTradeOff,
        front_documents as front_documents,
        verify_front as verify_front,
    )

__getattr__, __all__ = door(
    __name__,
    {
        "comparison": "FrontComparison FrontTrack attained compare_fronts have_fronts track_of_front",
        "conflict": "Conflict conflicts_of payoff_table",
        "contest": "FrontContest contest_of_fronts",
        "mending": "mended",
        "proof": "FrontBound",
        "verification": "FRONT_MEANINGS FrontVerdict JudgedTradeOff front_documents verify_front",
    },
)
