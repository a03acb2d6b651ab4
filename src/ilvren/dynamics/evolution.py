"""What evolves, as formulas: the inputs of one moment and what the states do there."""

from __future__ import annotations

from dataclasses import field
from typing import TYPE_CHECKING, Any

from ilvren.records import dataclass

if TYPE_CHECKING:
    from ilvren.formula import Graph, Shape

__all__ = ["Control", "Evolution", "Input", "Probe", "State"]


@dataclass(frozen=True)
class Input:
    """One variable of the graph of a moment, by its number there.

    `kind` is "tau" (the share of the time that has passed), "state", "outer" (a value that no time changes), of a
    control "value" (form constant), or "low", "high" and "theta" (form linear: from low to high as theta goes from 0
    to 1), or "sigma" (the share at a time some lag ago). `of` is the number of the state, outer value or control;
    `lag` that of the lag for what is taken some time ago, −1 for now."""

    kind: str
    of: int
    shape: Shape
    lag: int = -1


@dataclass(frozen=True)
class State:
    """What evolves: by its `rate` per share of the time (a node), or at samples to `next`, `every` so many units of
    time. `size` is its declared magnitude, None without; `name` as messages tell it."""

    name: str
    shape: Shape
    rate: int | None
    next: int | None = None
    every: Any = None
    size: Any = None


@dataclass(frozen=True)
class Control:
    """What may be chosen: so many equal `pieces` of the time; with `is_linear` values at their ends, joined by
    lines."""

    name: str
    shape: Shape
    pieces: int
    is_linear: bool = False


@dataclass(frozen=True)
class Probe:
    """Moments at which states are told: at shares of the time `taus`, from the left or the right (`is_left`) where a
    state jumps; or `moving`: given by the design, so many at an operand of the call."""

    taus: tuple[float, ...] = ()
    is_left: tuple[bool, ...] = ()
    moving: int = -1
    count: int = 0


@dataclass(frozen=True, kw_only=True)
class Evolution:
    """All of it. `graph` has `inputs` as variables and values that no design changes as parameters.

    A call is given, in this order: the outer values, each control's pieces, each state's first value, each lag and the
    moments of each moving probe (as shares of the time), when the time begins and how long it is. It tells for each
    probe each state: (moments, *shape)."""

    graph: Graph
    inputs: tuple[Input, ...]
    states: tuple[State, ...]
    controls: tuple[Control, ...]
    outers: tuple[Shape, ...]
    lag_count: int
    probes: tuple[Probe, ...]
    grid: tuple[float, ...]
    tolerance: float = 1e-4
    tighter: int = 0
    notes: tuple[str, ...] = field(default=())
