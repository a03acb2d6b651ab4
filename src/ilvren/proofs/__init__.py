"""What intervals and rules prove of a problem without a run: conflicts of its limits, convexity, that nothing lies
below a value. Knows formulas and problems; never runs, methods or designs that were tried."""

from ilvren.doors import door

TYPE_CHECKING = False
if TYPE_CHECKING:
    from ilvren.proofs.below import nothing_below as nothing_below
    from ilvren.proofs.bounding import Bounder as Bounder
    from ilvren.proofs.branching import Search as Search, search_boxes as search_boxes
    from ilvren.proofs.conflicts import (
        Conflict as Conflict,
        least_conflict as least_conflict,
        limit_boxes as limit_boxes,
        never_met as never_met,
        proved_conflict as proved_conflict,
        reach_of as reach_of,
        variable_boxes as variable_boxes,
    )
    from ilvren.proofs.convexity import is_convex as is_convex

__getattr__, __all__ = door(
    __name__,
    {
        "below": "nothing_below",
        "bounding": "Bounder",
        "branching": "Search search_boxes",
        "conflicts": "Conflict least_conflict limit_boxes never_met proved_conflict reach_of variable_boxes",
        "convexity": "is_convex",
    },
)
