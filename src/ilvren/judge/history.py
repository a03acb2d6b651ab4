"""A run's history as rows: for export, comparison and drawing."""

from __future__ import annotations

import csv
import json
import math
from collections.abc import Sequence
from pathlib import Path

import numpy as np

from ilvren.ledger import EvaluationRecord, IterationRecord, Ledger, RunRecord
from ilvren.runs.stored import problem_of

__all__ = ["history_table", "write_history"]


def history_table(ledger: Ledger, record: RunRecord, *, every: str) -> list[dict[str, object]]:
    """Return one mapping per iteration, or per evaluated design with `every` "evaluation".

    Columns: number, evaluations, gradients, seconds, the objective by its name, violation; for iterations
    also best, stationarity, step and note; then the variables, named `variable:NAME`.
    """
    problem = problem_of(record)
    names = [variable.name for variable in problem.variables]
    objective = problem.objective.name if problem.objective else "objective"
    kept: Sequence[IterationRecord | EvaluationRecord]
    kept = ledger.iterations(record.number) if every == "iteration" else ledger.evaluations(record.number)
    rows = []
    for item in kept:
        row: dict[str, object] = {
            every: item.number,
            "evaluations": item.evaluations,
            "gradients": item.gradients,
            "seconds": round(item.seconds, 6),
            objective: item.objective,
            "violation": item.violation if math.isfinite(item.violation) else None,
        }
        if isinstance(item, IterationRecord):
            row |= {"best": item.best, "stationarity": item.stationarity, "step": item.step, "note": item.note}
        point = np.frombuffer(item.point)
        row |= {f"variable:{name}": float(value) for name, value in zip(names, point, strict=True)}
        rows.append(row)
    return rows


def write_history(rows: Sequence[dict[str, object]], record: RunRecord, path: str, *, every: str) -> None:
    """Write rows as CSV or JSON, by the suffix of `path`. Not-a-number is an empty cell or null."""
    if path.lower().endswith(".json"):
        document = {"run": record.id, "method": record.method, "problem": record.problem_title, f"{every}s": list(rows)}
        Path(path).write_text(json.dumps(document, indent=1) + "\n", encoding="utf-8")
        return
    with Path(path).open("w", newline="", encoding="utf-8") as file:
        if rows:
            writer = csv.DictWriter(file, list(rows[0]))
            writer.writeheader()
            writer.writerows(rows)
