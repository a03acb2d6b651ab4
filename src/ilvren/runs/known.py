"""Designs that other runs evaluated, for a method to build on: their values are this problem's only where the problem,
its parameters and the models are the same."""

from __future__ import annotations

from collections.abc import Mapping, Sequence
from dataclasses import replace
from typing import TYPE_CHECKING, Any

import numpy as np
from numpy.typing import NDArray

from ilvren.errors import RequestError
from ilvren.methods import Known, Method, method_named, method_names
from ilvren.runs.stored import problem_of, stored_models

if TYPE_CHECKING:
    from ilvren.ledger import Ledger, RunRecord
    from ilvren.problem import Problem

__all__ = ["known_designs", "known_recorded", "refuse_known"]

FloatArray = NDArray[np.float64]


def refuse_known(method: Method) -> None:
    """Raise RequestError where a method has no use for known designs."""
    if not method.takes_known:
        able = ", ".join(name for name in method_names() if method_named(name).takes_known)
        raise RequestError(
            f'method "{method.name}" begins at one design and does not build on known ones',
            advice=f"--from RUN begins at a run's best design; methods that take --known: {able}",
        )


def known_recorded(ledger: Ledger, references: Sequence[str]) -> dict[str, int]:
    """Return {run: number of its last evaluation}, for the record: what it evaluates later is not known then."""
    records = [ledger.run(reference) for reference in references]
    return {record.id: ledger.evaluation_numbers(record.number)[1] for record in records}


def known_designs(problem: Problem, ledger: Ledger, recorded: Mapping[str, int]) -> Known:
    """Return the designs of runs that have finite values and the fixed variables of this problem, with its internal
    objective and rows. Raises RequestError for a run whose values are not this problem's, and where no design is
    left."""
    points, values = [], []
    is_fixed = np.ones(problem.size, dtype=bool)
    is_fixed[list(problem.free)] = False
    start = np.array(problem.start)
    for reference, last in recorded.items():
        record = ledger.run(reference)
        _refuse_other(problem, record)
        seen = set[bytes]()
        for item in ledger.evaluations(record.number):
            if item.number > last or not item.is_whole or item.point in seen:
                continue
            seen.add(item.point)
            point, own = np.frombuffer(item.point), np.frombuffer(item.values)
            if np.isfinite(own).all() and np.array_equal(point[is_fixed], start[is_fixed]):
                points.append(point)
                values.append(own)
    if not points:
        raise RequestError(f"{', '.join(recorded)}: no design with finite values and this problem's fixed variables")
    matrix = np.array(values)
    return Known(np.array(points), matrix[:, 0], matrix[:, 1:])


def _refuse_other(problem: Problem, record: RunRecord) -> None:
    theirs = problem_of(record)
    differs = next((what for what, one, other in _decisive(problem, theirs, record) if one != other), None)
    if differs is not None:
        raise RequestError(
            f"{record.id}: {differs} differ{'s' if differs.endswith('text') else ''} from this problem's,"
            " so its values are not known for this one",
            advice="known designs come from runs on the same problem; --from RUN takes a design of another one",
        )


def _decisive(problem: Problem, theirs: Problem, record: RunRecord) -> list[tuple[str, object, object]]:
    """Return (what, here, there) of all that decides the values of a design."""
    mine: Mapping[str, Any] = problem.overrides
    return [
        ("the problem's text", problem.source.text, record.problem_text),
        ("parameters", dict(mine), dict(record.overrides["set"])),
        # What is fixed decides which designs are looked at, not their values.
        ("the objectives asked for", replace(problem.aim, fix={}).to_dict(), replace(theirs.aim, fix={}).to_dict()),
        ("table files", problem.stored_texts, dict(record.files)),
        ("files of models", stored_models(problem), {name: dict(files) for name, files in record.models.items()}),
    ]
