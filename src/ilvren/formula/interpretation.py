"""What a node-by-node evaluation met: values, troubles and kinks."""

from __future__ import annotations

from typing import TYPE_CHECKING, Any

from ilvren.records import dataclass

if TYPE_CHECKING:
    from ilvren.formula.graph import Origin

__all__ = ["Interpretation", "Kink", "Trouble"]


@dataclass(frozen=True)
class Trouble:
    """The first operation on the way to a result that gave no finite number. `element` says where in an array;
    `is_fixed` that it depends on no variable."""

    operation: str
    arguments: tuple[float, ...]
    value: float
    reason: str
    origin: Origin | None
    element: tuple[int, ...] = ()
    is_fixed: bool = False


@dataclass(frozen=True)
class Kink:
    """An operation that changes its branch where `gap` changes its sign; `node` tells it from others. The gap of an
    operation on arrays is an array."""

    node: int
    operation: str
    gap: Any
    origin: Origin | None


@dataclass(frozen=True)
class Interpretation:
    """What an evaluation met. `values` (floats, or arrays of the roots' shapes) and `troubles` have one entry per
    root; values are NaN where a non-finite intermediate was used."""

    values: tuple[Any, ...]
    troubles: tuple[Trouble | None, ...]
    kinks: tuple[Kink, ...]
