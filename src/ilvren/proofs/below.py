"""That no feasible design lies below a value, by a number of boxes: intervals, without any design being evaluated."""

from __future__ import annotations

import math

import numpy as np

from ilvren.problem import Problem, scalar_problem
from ilvren.proofs.bounding import Bounder
from ilvren.proofs.branching import search_boxes

__all__ = ["nothing_below"]


def nothing_below(problem: Problem, cutoff: float, most: int, seconds: float = math.inf) -> tuple[bool, int]:
    """Return whether `most` boxes suffice to show that no feasible design of `problem`, whose bounds are finite, has an
    internal objective below `cutoff`, and how many were bounded; without `seconds` the same on every machine."""
    written = scalar_problem(problem)
    if written is None or written.objective is None:
        return False, 0
    bounder = Bounder(written)
    low, high = bounder.domain
    if not np.isfinite(high - low).all():
        return False, 0
    found = search_boxes(
        bounder,
        low,
        high,
        cutoff,
        seconds=seconds,
        try_points=lambda _: None,
        search_from=lambda _: None,
        most=most,
    )
    return found.is_complete, found.boxes
