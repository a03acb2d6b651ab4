"""A recorded run's problem: rebuilt from what the ledger stored, its models compared with the files on disk."""

from __future__ import annotations

from collections.abc import Iterable, Mapping
from dataclasses import replace
from typing import TYPE_CHECKING, Any

import numpy as np

from ilvren.errors import RequestError
from ilvren.problem import Aim, Problem, Refinement, VariableBlock, loads

if TYPE_CHECKING:
    from ilvren.ledger import RunRecord

__all__ = [
    "changed_files",
    "flat_design",
    "problem_of",
    "problem_of_stage",
    "refuse_changed",
    "stored_files",
    "stored_models",
]


def stored_files(problem: Problem) -> dict[str, str]:
    """Return {name: text} of the table files and model files a problem names: what rebuilds it without the disk."""
    return problem.stored_texts


def stored_models(problem: Problem) -> dict[str, dict[str, str]]:
    """Return {model: {file: hash}} of all files that decide what a model returns."""
    sources = [*problem.sources, *(problem.confirmation.sources if problem.confirmation is not None else ())]
    return {source.name: source.hashes() for source in sources}


def problem_of(record: RunRecord) -> Problem:
    """Return the problem as the run stored it. Models run from the files on disk, which may have changed; those of a
    run that somebody else recorded only where that is trusted."""
    from ilvren.problem import fronted
    from ilvren.runs.trust import refusal_of

    problem = fronted(
        loads(
            record.problem_text,
            file=record.problem_file,
            set=record.overrides["set"],
            start=record.overrides["start"],
            files=record.files,
            aim=Aim.from_dict(record.overrides.get("aim", {})),
            refinement=Refinement.from_dict(record.overrides.get("time", {})),
        )
    )
    refusal = refusal_of(record, problem)
    if not refusal:
        return problem
    own = problem.confirmation
    return replace(problem, refusal=refusal, confirmation=None if own is None else replace(own, refusal=refusal))


def problem_of_stage(record: RunRecord, stage: int) -> Problem:
    """Return the problem of one stage of a run over time, which may be on another grid than the last one's."""
    finely = record.overrides.get("time_stages", {})
    first = record.overrides.get("time_first", record.overrides.get("time", {}))
    return problem_of(replace(record, overrides={**record.overrides, "time": finely.get(str(stage), first)}))


def changed_files(record: RunRecord, problem: Problem) -> list[str]:
    """Return which files of models are no longer what they were when the run began, as "upper: hydraulics.py"."""
    now = stored_models(problem)
    return [
        f"{model}: {file}"
        for model, files in record.models.items()
        for file, digest in files.items()
        if now.get(model, {}).get(file) != digest
    ]


def refuse_changed(record: RunRecord, problem: Problem, *, as_now: bool) -> None:
    """Raise RequestError when a model's file has changed since the run, unless it is to be taken as it is now."""
    changed = changed_files(record, problem)
    if changed and not as_now:
        raise RequestError(
            f"{record.id}: files of its models have changed since ({', '.join(changed)})",
            advice="put them back, or add --as-now to use the models as they are now",
        )


def flat_design(variables: Mapping[str, Any], blocks: Iterable[VariableBlock] = ()) -> tuple[float, ...]:
    """Return the design in a JSON document's `variables` (name → number, word or list) as one row of numbers; words are
    those of the `blocks` of its problem."""
    words = {block.name: block.words for block in blocks if block.words}
    parts: list[Any] = []
    for name, value in variables.items():
        items = np.ravel(np.array(value, dtype=object if name in words else float))
        if name in words:
            items = np.array([words[name].index(x) + 1.0 if isinstance(x, str) else x for x in items], dtype=float)
        parts.append(items)
    return tuple(np.concatenate(parts).tolist()) if parts else ()
