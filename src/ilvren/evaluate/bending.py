"""Which second derivatives a problem has."""

from __future__ import annotations

from ilvren.models import MOST_BENT
from ilvren.problem import Problem

__all__ = ["can_bend"]


def can_bend(problem: Problem) -> bool:
    """Return whether second derivatives can be had of the formulas alone: exact ones, to which those of the models are
    added. Where a model has too many inputs, all of the gradient is differenced."""
    return all(source.input_size <= MOST_BENT for source in problem.sources)
