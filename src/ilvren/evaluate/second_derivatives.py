"""Which second derivatives a problem has."""

from __future__ import annotations

from typing import TYPE_CHECKING

from ilvren.models import MOST_HESSIAN_INPUTS

if TYPE_CHECKING:
    from ilvren.problem import Problem

__all__ = ["has_second_derivatives"]


def has_second_derivatives(problem: Problem) -> bool:
    """Return whether second derivatives can be had of the formulas alone: exact ones, to which those of the models are
    added. Where a model has too many inputs, all of the gradient is differenced."""
    return all(source.input_size <= MOST_HESSIAN_INPUTS for source in problem.sources)
