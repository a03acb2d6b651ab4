"""A time and what evolves along it, as far as a template asks."""

from __future__ import annotations

from collections.abc import Sequence
from typing import TYPE_CHECKING, Any, Protocol

if TYPE_CHECKING:
    from ilvren.dynamics import Simulation
    from ilvren.formula import Call, Node
    from ilvren.problem.entries import EntryDeclaration
    from ilvren.problem.time_declarations import ControlDeclaration, StateDeclaration

__all__ = ["AlongTime"]


class AlongTime(Protocol):
    """A time and what evolves along it, as far as a template asks (`problem.over_time` has the rest)."""

    key: str
    t_name: str
    suffix: str
    trees: dict[str, Node]
    signals: dict[str, EntryDeclaration]
    state_names: dict[str, int]
    state_declarations: list[StateDeclaration]
    control_declarations: dict[str, ControlDeclaration]
    structural: list[int]

    @property
    def pointwise(self) -> frozenset[str]: ...

    def is_over_time(self, name: str) -> bool: ...

    def free_names(self, tree: Node) -> list[str]: ...

    def own_trees(self) -> list[Node]: ...

    def takes(self, call: Call) -> bool: ...

    def bounds_of(self, state: StateDeclaration) -> bool: ...

    def build(self, trees: Sequence[tuple[EntryDeclaration, Node]]) -> None: ...

    def has_same_moments(self, values: list[Any]) -> bool: ...

    def told(self) -> list[tuple[str, str, int]]: ...

    def simulation(self, values: Sequence[Any], anchor: Sequence[Any] | None) -> Simulation: ...
