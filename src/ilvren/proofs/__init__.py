"""What intervals and rules prove of a problem without a run: conflicts of its limits, convexity, that nothing lies
below a value. Knows formulas and problems; never runs, methods or designs that were tried."""

from ilvren.proofs.below import nothing_below
from ilvren.proofs.conflicts import Conflict, proved_conflict
from ilvren.proofs.convexity import is_convex

__all__ = ["Conflict", "is_convex", "nothing_below", "proved_conflict"]
