"""Going on from a checkpoint: what is on record up to it is taken as done, the method begins with its state there."""

from __future__ import annotations

from collections.abc import Mapping
from typing import TYPE_CHECKING, Any

import numpy as np
from numpy.typing import NDArray

from ilvren.evaluate import Evaluation
from ilvren.methods import Assessment, Checkpoint

if TYPE_CHECKING:
    from ilvren.ledger import IterationRecord
    from ilvren.runs.assessing import Assessing
    from ilvren.runs.checkpoints import RunCheckpoint
    from ilvren.runs.recording import Recorder
    from ilvren.runs.stage import Stage

__all__ = ["gone_ahead", "keep_checkpoint"]


def keep_checkpoint(checkpoint: Checkpoint, stage: Stage, recorder: Recorder, assessing: Assessing) -> None:
    """Record where a replay may begin; nothing while what is on record is followed."""
    from ilvren.runs.checkpoints import RunCheckpoint

    if stage.ledger is None or stage.requests < len(stage.replay.requests):
        return
    kept = RunCheckpoint(
        checkpoint.state,
        requests=stage.requests,
        evaluations=len(recorder.evaluations),
        iterations=len(recorder.iterations),
        hessians=stage.counts.hessians,
        idle=assessing.idle,
        progress=recorder.incumbents.progress,
        calls=RunCheckpoint.of_calls(stage.gate.calls),
    )
    stage.ledger.keep_checkpoint(stage.number, kept.packed())


def gone_ahead(
    checkpoint: RunCheckpoint, stage: Stage, recorder: Recorder, assessing: Assessing
) -> Mapping[str, NDArray[Any]] | None:
    """Take what is on record up to a checkpoint as done, and return the method's state there; None where the record
    does not reach so far, or vectors that are needed were thinned. Arrays have the shapes of the method's own."""
    from ilvren.runs.checkpoints import restore_calls

    evaluations, iterations = stage.replay.recorded
    done = evaluations[len(recorder.evaluations) : checkpoint.evaluations]
    shown = iterations[len(recorder.iterations) : checkpoint.iterations]
    is_whole = all(record.is_whole for record in done) and all(record.is_whole for record in shown[-1:])
    if len(evaluations) < checkpoint.evaluations or len(iterations) < checkpoint.iterations or not is_whole:
        return None
    restore_calls(stage.gate.calls, checkpoint.calls)
    left = list(shown)
    for record in done:
        while left and left[0].evaluations < record.evaluations:
            _shown_again(left.pop(0), recorder, assessing)
        point, values = np.frombuffer(record.point), np.frombuffer(record.values)
        evaluation = Evaluation(float(values[0]), values[1:].copy())
        stage.gate.adopt(point, evaluation, evaluations=record.evaluations - stage.base.counts.evaluations)
        stage.clock.follow(record.seconds)
        recorder.add(point, evaluation, record.request, is_recorded=True, number=record.number)
    for item in left:
        _shown_again(item, recorder, assessing)
    recorder.incumbents.progress = checkpoint.progress
    stage.requests = checkpoint.requests
    assessing.go_on_from(checkpoint.idle)
    return checkpoint.state


def _shown_again(record: IterationRecord, recorder: Recorder, assessing: Assessing) -> None:
    """Take an iteration on record as shown."""
    recorder.history.add_iteration(record)
    assessing.last = np.frombuffer(record.point), Assessment(record.violation, record.stationarity, False)
    assessing.check_conflict_meanwhile()
