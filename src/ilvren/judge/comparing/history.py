"""A run's history as rows: for export, comparison and drawing."""

from __future__ import annotations

import json
import math
from collections.abc import Sequence
from pathlib import Path
from typing import TYPE_CHECKING, Any

import numpy as np

from ilvren.ledger import EvaluationRecord, GroupRecord, IterationRecord, Ledger, RunRecord
from ilvren.printable import CellWriter
from ilvren.runs import problem_of

if TYPE_CHECKING:
    from ilvren.problem import VariableBlock

__all__ = ["group_table", "history_table", "write_history", "write_rows"]


def history_table(ledger: Ledger, record: RunRecord, *, every: str) -> list[dict[str, object]]:
    """Return one mapping per iteration, or per evaluated design with `every` "evaluation".

    Columns: the number, what the step was (`note`, of iterations), the variables as `variable:NAME`, the objective by
    its name, violation, of iterations stationarity, step and the best so far; then the counts and seconds spent.
    """
    problem = problem_of(record)
    names = [variable.name for variable in problem.variables]
    words = {variable.name: variable for variable in problem.variables if variable.words}
    objective = problem.objective.name if problem.objective else "objective"
    kept: Sequence[IterationRecord | EvaluationRecord]
    of = ledger.iterations if every == "iteration" else ledger.evaluations
    kept = of(record.number, every_stage=True)
    stages = ledger.stages(record.number)
    rows = []
    for item in kept:
        row: dict[str, object] = {every: item.number}
        if stages:
            firsts = [s.first_iteration if every == "iteration" else s.first_evaluation for s in stages]
            row["stage"] = sum(first <= item.number for first in firsts)
        if isinstance(item, IterationRecord):
            row["note"] = item.note
        point: Sequence[float | None] = [None] * len(names)  # thinned, or on another grid
        if item.is_whole and len(item.point) == 8 * problem.size:
            point = np.frombuffer(item.point).tolist()
        row |= {
            f"variable:{name}": words[name].shown(value) if name in words and value is not None else value
            for name, value in zip(names[: problem.own_size], point, strict=False)
        }
        row[objective] = item.objective
        row["violation"] = item.violation if math.isfinite(item.violation) else None
        if isinstance(item, IterationRecord):
            row |= {"stationarity": item.stationarity, "step": item.step, "best": item.best}
        row |= {"evaluations": item.evaluations, "gradients": item.gradients, "seconds": round(item.seconds, 6)}
        rows.append(row)
    return rows


def write_history(rows: Sequence[dict[str, object]], record: RunRecord, path: str, *, every: str) -> None:
    """Write rows as CSV or JSON, by the suffix of `path`. Not-a-number is an empty cell or null."""
    write_rows(rows, path, {"run": record.id, "method": record.method, "problem": record.problem_title}, f"{every}s")


def group_table(ledger: Ledger, group: GroupRecord) -> list[dict[str, object]]:
    """Return one mapping per run of a group: problem, method, start, seed, how it ended, counts, design."""
    rows, over = [], str(group.plan.get("parameter", ""))
    words: dict[int, dict[str, VariableBlock]] = {}

    def told(problem: int, name: str, value: Any) -> Any:
        """Return a value, the word of a choice instead of its number."""
        return words[problem][name].shown(float(value)) if name in words[problem] else value

    for place, record in sorted(ledger.group_runs(group).items()):
        member = group.plan["members"][place]
        place_of = member["problem"]
        if place_of not in words:
            blocks = problem_of(record).blocks
            words[place_of] = {block.name: block for block in blocks if block.words}
        result = record.result or {}
        objectives, counts, variables = (result.get(key) or {} for key in ("objectives", "counts", "variables"))
        assert isinstance(objectives, dict)
        assert isinstance(counts, dict)
        assert isinstance(variables, dict)
        row: dict[str, object] = {
            "run": record.id,
            "problem": group.plan["problems"][member["problem"]]["name"],
            "method": group.plan["contenders"][member["contender"]]["name"],
            **({over: told(place_of, over, member["value"])} if group.is_sweep else {}),
            "start": member["start"],
            "seed": member["seed"],
            "outcome": record.outcome or "",
            "violation": result.get("violation"),
            "seconds": record.seconds,
        }
        rows.append(
            row
            | {f"objective:{name}": value for name, value in objectives.items()}
            | dict(counts)
            | {f"variable:{name}": told(place_of, name, value) for name, value in variables.items()}
        )
    names = list(dict.fromkeys(name for row in rows for name in row))
    return [{name: row.get(name) for name in names} for row in rows]


def write_rows(rows: Sequence[dict[str, object]], path: str, head: dict[str, object], name: str) -> None:
    """Write rows as CSV, or as JSON behind `head`, by the suffix of `path`."""
    if path.lower().endswith(".json"):
        document = {**head, name: list(rows)}
        Path(path).write_text(json.dumps(document, indent=1) + "\n", encoding="utf-8")
        return
    with Path(path).open("w", newline="", encoding="utf-8") as file:
        if rows:
            writer = CellWriter(file)
            writer.writerow(rows[0])
            writer.writerows(row.values() for row in rows)
