"""What several methods share: evaluated points, line searches, second-order checks. Knows the protocol and arrays."""

from ilvren.doors import door

TYPE_CHECKING = False
if TYPE_CHECKING:
    from ilvren.methods.pieces.descent import LOW as LOW, RUNS_AWAY as RUNS_AWAY, far_out as far_out
    from ilvren.methods.pieces.first_look import looking_first as looking_first
    from ilvren.methods.pieces.given import SAMPLE as SAMPLE, evaluating as evaluating
    from ilvren.methods.pieces.lifted import can_lift as can_lift, lifting as lifting
    from ilvren.methods.pieces.looking_on import looking as looking
    from ilvren.methods.pieces.priorities import by_priority as by_priority
    from ilvren.methods.pieces.scouting import from_ends as from_ends, front_in_turn as front_in_turn
    from ilvren.methods.pieces.second_look import Effort as Effort, looking_again as looking_again
    from ilvren.methods.pieces.trade_offs import compromise as compromise
    from ilvren.methods.pieces.turns import all_of as all_of, in_turn as in_turn
    from ilvren.methods.pieces.watching import watched as watched

__getattr__, __all__ = door(
    __name__,
    {
        "descent": "LOW RUNS_AWAY far_out",
        "first_look": "looking_first",
        "given": "SAMPLE evaluating",
        "lifted": "can_lift lifting",
        "looking_on": "looking",
        "priorities": "by_priority",
        "scouting": "from_ends front_in_turn",
        "second_look": "Effort looking_again",
        "trade_offs": "compromise",
        "turns": "all_of in_turn",
        "watching": "watched",
    },
)
