"""A design evaluated in a new process, which knows nothing of the run but the stored problem."""

from __future__ import annotations

from typing import TYPE_CHECKING

from ilvren.errors import MachineError
from ilvren.evaluate import Evaluation, Job, Recipe

if TYPE_CHECKING:
    from ilvren.judge.optimum.judged import JudgedDesign

__all__ = ["evaluated_afresh"]


def evaluated_afresh(case: JudgedDesign) -> Evaluation | None:
    """Return the evaluation of the case's design by another process; None where that could not be had."""
    from ilvren.evaluate import ProcessPool

    try:
        with ProcessPool(Recipe.of(case.problem, is_sparse=case.gate.is_sparse), 1) as pool:
            for _, answer in pool.answers([Job(case.point)]):
                return answer.evaluation
    except MachineError:
        return None
    return None
