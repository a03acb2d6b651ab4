"""What is told of things over time: how much evolves, and every name with what it is made of."""

from __future__ import annotations

import math
from typing import TYPE_CHECKING

from ilvren.formula import names_in
from ilvren.problem.entries import EntryDeclaration, formula_text
from ilvren.records import dataclass

if TYPE_CHECKING:
    from ilvren.problem.over_time import Axis
    from ilvren.problem.time_declarations import StateDeclaration

__all__ = ["TimeFacts", "ToldName", "names_told", "operations_over_time", "time_facts"]

# Seven stages of a step, and what is around them.
OPERATIONS_STAGES = 20


@dataclass(frozen=True)
class TimeFacts:
    """From when to when (`end` None where the design gives it), in `moments`; how many numbers evolve, jump at samples,
    are added up, are chosen at every moment; and from how long ago something is taken."""

    begin: float
    end: float | None
    unit: str
    moments: int
    states: int
    samples: int
    integrals: int
    controls: int
    lags: int


@dataclass(frozen=True)
class ToldName:
    """A name over time: what it is, its rate or formula, and the names that uses."""

    name: str
    kind: str
    unit: str
    about: str
    text: str
    uses: tuple[str, ...]


def time_facts(axis: Axis) -> TimeFacts:
    """Return from when to when, and how much evolves."""
    sizes = [math.prod(state.shape) for state in axis.states]
    sampled = [size for state, size in zip(axis.states, sizes, strict=True) if state.rate is None]
    own = sum(sizes[: len(axis.state_declarations)])
    return TimeFacts(
        axis.horizon.begin_value,
        None if axis.horizon.is_free_end else axis.horizon.begin_value + axis.horizon.duration_value,
        axis.time.unit,
        len(axis.taus),
        own - sum(sampled),
        sum(sampled),
        sum(sizes) - own,
        sum(math.prod(control.shape) for control in axis.controls),
        len(axis.lag_nodes),
    )


def operations_over_time(axis: Axis) -> float:
    """Return about how many operations one simulation takes: every state's rate at every stage of a step for each
    moment of the grid."""
    roots = [node for state in axis.states for node in (state.rate, state.next) if node is not None]
    size = sum(math.prod(state.shape) for state in axis.states)
    each = len(axis.graph.reachable(roots)) * max(1, size // max(len(axis.states), 1)) + 8 * size + 30
    return float(OPERATIONS_STAGES * each * len(axis.taus))


def names_told(axis: Axis) -> list[ToldName]:
    """Return what there is over time, in the order of the file."""
    template = axis.template
    found = []
    for state in axis.state_declarations:
        kind = "sampled state" if state.next is not None else "linear block" if state.transfer is not None else "state"
        text = state.rate or state.next or (state.transfer.of if state.transfer is not None else "")
        found.append(ToldName(state.name, kind, state.unit, state.about, text, _used(axis, state)))
    for control in axis.control_declarations.values():
        place = axis.controls[axis.control_places[control.name]]
        text = f"{place.pieces} pieces, {control.form}" if control.form != "pointwise" else "pointwise"
        found.append(ToldName(control.name, "control", control.unit, control.about, text, ()))
    for name, entry in axis.signals.items():
        used = tuple(dict.fromkeys(word.name for word in names_in(axis.trees[name])))
        found.append(ToldName(name, "signal", entry.unit, entry.about, formula_text(entry.formula), used))
    for name in template.names_over_time(axis):
        tree, own = template.derived_over_time(name)
        assert tree is not None and own is not None
        used = tuple(dict.fromkeys(word.name for word in names_in(tree)))
        found.append(ToldName(name, "derived", own.unit, own.about, formula_text(own.formula), used))
    return found


def _used(axis: Axis, state: StateDeclaration) -> tuple[str, ...]:
    texts = [state.rate, state.next, state.transfer.of if state.transfer is not None else None]
    trees = [axis.template.parse(EntryDeclaration("states", state.name, text)) for text in texts if text is not None]
    return tuple(dict.fromkeys(word.name for tree in trees for word in names_in(tree)))
