"""A run's history as rows: for export, comparison and drawing."""

from __future__ import annotations

import json
import math
from collections.abc import Sequence
from pathlib import Path
from typing import TYPE_CHECKING, Any

import numpy as np

from ilvren.ledger import EvaluationRecord, GroupRecord, IterationRecord, Ledger, RunRecord
from ilvren.printable import CellWriter, apart_from
from ilvren.runs import problem_of

if TYPE_CHECKING:
    from ilvren.problem import Problem, VariableBlock

__all__ = ["group_table", "history_table", "write_history", "write_rows"]


# Columns of the runs of a group beside counts, objectives, variables and what a sweep is over.
TAKEN = ("run", "problem", "method", "start", "seed", "outcome", "violation", "seconds")


def history_table(ledger: Ledger, record: RunRecord, *, every: str) -> list[dict[str, object]]:
    """Return one mapping per iteration, or per evaluated design with `every` "evaluation".

    Columns: the number, what the step was (`note`, of iterations), the variables as `variable:NAME`, the objective by
    its name (`objective:NAME` where that is another column's), violation, of iterations stationarity, step and the best
    so far; then the counts and seconds spent.
    """
    problem = problem_of(record)
    words = [variable if variable.words else None for variable in problem.variables[: problem.own_size]]
    of = ledger.iterations if every == "iteration" else ledger.evaluations
    kept: Sequence[IterationRecord | EvaluationRecord] = of(record.number, every_stage=True)
    stages = ledger.stages(record.number)
    columns = _columns(problem, every, has_stages=bool(stages))
    firsts = [stage.first_iteration if every == "iteration" else stage.first_evaluation for stage in stages]
    rows: list[dict[str, object]] = []
    for item in kept:
        point: Sequence[float | None] = [None] * len(words)  # thinned, or on another grid
        if item.is_whole and len(item.point) == 8 * problem.size:
            point = np.frombuffer(item.point).tolist()
        values: list[object] = [
            item.number,
            *([sum(first <= item.number for first in firsts)] if stages else []),
            *([item.note] if isinstance(item, IterationRecord) else []),
            *(own.shown(x) if own and x is not None else x for own, x in zip(words, point, strict=False)),
            item.objective,
            item.violation if math.isfinite(item.violation) else None,
            *([item.stationarity, item.step, item.best] if isinstance(item, IterationRecord) else []),
            item.evaluations,
            item.gradients,
            round(item.seconds, 6),
        ]
        rows.append(dict(zip(columns, values, strict=True)))
    return rows


def _columns(problem: Problem, every: str, *, has_stages: bool) -> list[str]:
    is_iteration = every == "iteration"
    first = [every, *(["stage"] if has_stages else []), *(["note"] if is_iteration else [])]
    last = ["violation", *(["stationarity", "step", "best"] if is_iteration else [])]
    last += ["evaluations", "gradients", "seconds"]
    objective = apart_from((*first, *last), [problem.objective.name if problem.objective else "objective"], "objective")
    return [*first, *(f"variable:{own.name}" for own in problem.variables[: problem.own_size]), *objective, *last]


def write_history(rows: Sequence[dict[str, object]], record: RunRecord, path: str, *, every: str) -> None:
    """Write rows as CSV or JSON, by the suffix of `path`. Not-a-number is an empty cell or null; of a run that made no
    iteration a CSV file has the columns alone."""
    head: dict[str, object] = {"run": record.id, "method": record.method, "problem": record.problem_title}
    columns = () if rows else _columns(problem_of(record), every, has_stages=False)
    write_rows(rows, path, head, f"{every}s", columns)


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
        (head,) = apart_from(
            (*TAKEN, *counts), [over], "variable" if over.partition("[")[0] in variables else "parameter"
        )
        row: dict[str, object] = {
            "run": record.id,
            "problem": group.plan["problems"][member["problem"]]["name"],
            "method": group.plan["contenders"][member["contender"]]["name"],
            **({head: told(place_of, over, member["value"])} if group.is_sweep else {}),
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


def write_rows(
    rows: Sequence[dict[str, object]], path: str, head: dict[str, object], name: str, columns: Sequence[str] = ()
) -> None:
    """Write rows as CSV, or as JSON behind `head`, by the suffix of `path`; `columns` stand for none."""
    if path.lower().endswith(".json"):
        document = {**head, name: list(rows)}
        Path(path).write_text(json.dumps(document, indent=1) + "\n", encoding="utf-8")
        return
    with Path(path).open("w", newline="", encoding="utf-8") as file:
        if rows or columns:
            writer = CellWriter(file)
            writer.writerow(rows[0] if rows else columns)
            writer.writerows(row.values() for row in rows)
