"""Derivatives of models that are on record beside their values: nothing is called."""

from __future__ import annotations

import math
from collections.abc import Mapping, Sequence
from typing import TYPE_CHECKING, Any

import numpy as np
from numpy.typing import NDArray

from ilvren.explore.designs import DesignTable, recorded_calls
from ilvren.models import CannotFollow, ModelFailure, NotOnRecord, Question, is_differenced
from ilvren.problem import element_name

if TYPE_CHECKING:
    from ilvren.ledger import Ledger

__all__ = ["model_slopes"]

FloatArray = NDArray[np.float64]


def model_slopes(
    ledger: Ledger, table: DesignTable, model: str, inputs: Mapping[str, FloatArray]
) -> dict[str, FloatArray]:
    """Return {output's element: its derivatives (k, inputs) at a table's designs}, rows of NaN where none are on
    record; empty where a model has no slopes of its own, or takes words, which have none. `inputs` {element: (k,)} are
    what it took."""
    number = next(k for k, source in enumerate(table.problem.sources) if source.name == model)
    source = table.problem.sources[number]
    sizes = [(name, shape, math.prod(shape)) for name, shape in source.inputs]
    count = sum(size for *_, size in sizes)
    if is_differenced(source.derivatives) or len(inputs) != count or any("=" in name for name in inputs):
        return {}
    taken = np.array([inputs[element_name(name, shape, k)] for name, shape, size in sizes for k in range(size)]).T
    rows = sum(math.prod(shape) for _, shape in source.outputs)
    found = np.full((len(table.designs), rows, count), np.nan)
    runs = [design.address.partition(":")[0] for design in table.designs]
    for run in dict.fromkeys(runs):
        own = recorded_calls(table.problem, ledger, ledger.run(run))[number]
        for place in (place for place, name in enumerate(runs) if name == run):
            if not np.isfinite(taken[place]).all():
                continue
            arrays, first = [], 0
            for _, shape, size in sizes:
                arrays.append(taken[place, first : first + size].reshape(shape))
                first += size
            jacobian = _recorded(own, arrays)
            if jacobian is not None and jacobian.shape == (rows, count):
                found[place] = jacobian
    if not np.isfinite(found).any():
        return {}
    names = [element_name(name, shape, k) for name, shape in source.outputs for k in range(math.prod(shape))]
    return {name: found[:, k] for k, name in enumerate(names)}


def _recorded(calls: Any, inputs: Sequence[FloatArray]) -> FloatArray | None:
    """Return the Jacobian on record at some inputs: asked for by itself, or come along with the values."""
    try:
        found = calls.slopes(inputs)
        return np.asarray(found if isinstance(found, np.ndarray) else found.toarray(), dtype=float)
    except (NotOnRecord, CannotFollow, ModelFailure):
        pass
    outcome = calls.shelf.find(calls.source, Question("values", tuple(inputs)))
    if outcome is None or not outcome.is_done or len(outcome.answer) <= len(calls.source.outputs):
        return None
    last = outcome.answer[-1]
    return np.asarray(last if isinstance(last, np.ndarray) else last.toarray(), dtype=float)
