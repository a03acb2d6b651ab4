"""How finely a problem over time is looked at: moments added to the grid, the design that steps are chosen along, and
the tolerance. A run adds to it from stage to stage, and records it, so that what it found can be looked at again."""

from __future__ import annotations

from collections.abc import Mapping
from dataclasses import dataclass, field, replace
from typing import Any

from ilvren.dynamics.schemes import SCHEMES
from ilvren.errors import RequestError, nearest
from ilvren.problem.entries import Declarations, TimeDeclaration

__all__ = ["AS_DECLARED", "Refinement", "checked_scheme", "refined"]


@dataclass(frozen=True)
class Refinement:
    """`scheme`: the states are unknowns on a grid, of that collocation scheme, "" where they are simulated; `grids`
    {case: the grid, as shares of the time} in place of the file's; with `pieces` controls have so many, joined by
    lines, whatever the file says. `more` {case ("" for all): moments added, as shares
    of the time}; `anchor` the full design that steps are chosen
    along, the baseline without; `tolerance` of what is computed over time, the usual one without; steps are made for
    errors smaller by ten, `tighter` times."""

    more: Mapping[str, tuple[float, ...]] = field(default_factory=dict)
    anchor: tuple[float, ...] | None = None
    tolerance: float | None = None
    tighter: int = 0
    scheme: str = ""
    grids: Mapping[str, tuple[float, ...]] = field(default_factory=dict)
    pieces: int = 0

    def __bool__(self) -> bool:
        return self != AS_DECLARED

    def with_more(self, more: Mapping[str, tuple[float, ...]], anchor: tuple[float, ...] | None) -> Refinement:
        """Return it with further moments, and another design to choose steps along."""
        names = {*self.more, *more}
        joined = {name: tuple(sorted({*self.more.get(name, ()), *more.get(name, ())})) for name in names}
        return replace(self, more={name: own for name, own in joined.items() if own}, anchor=anchor)

    def to_dict(self) -> dict[str, Any]:
        """Return plain values; nothing for what is as declared."""
        found: dict[str, Any] = {}
        if self.more:
            found["more"] = {name: list(own) for name, own in self.more.items()}
        if self.anchor is not None:
            found["anchor"] = list(self.anchor)
        if self.tolerance is not None:
            found["tolerance"] = self.tolerance
        if self.tighter:
            found["tighter"] = self.tighter
        if self.scheme:
            found["scheme"] = self.scheme
        if self.pieces:
            found["pieces"] = self.pieces
        if self.grids:
            found["grids"] = {name: list(own) for name, own in self.grids.items()}
        return found

    @classmethod
    def from_dict(cls, values: Mapping[str, Any]) -> Refinement:
        """Return it from `to_dict`'s values."""
        anchor = values.get("anchor")
        more = {name: tuple(own) for name, own in values.get("more", {}).items()}
        own = None if anchor is None else tuple(anchor)
        grids = {name: tuple(grid) for name, grid in values.get("grids", {}).items()}
        return cls(
            more,
            own,
            values.get("tolerance"),
            values.get("tighter", 0),
            values.get("scheme", ""),
            grids,
            values.get("pieces", 0),
        )


AS_DECLARED = Refinement()


def checked_scheme(name: str | None) -> str:
    """Return the name of a collocation scheme, "" for None. Raises RequestError for an unknown one."""
    if name is None or name in SCHEMES:
        return name or ""
    close = nearest(name, SCHEMES)
    advice = f'did you mean "{close}"?' if close else "schemes: " + ", ".join(SCHEMES)
    raise RequestError(f'--scheme {name}: no collocation scheme is named "{name}"', advice=advice)


def refined(declarations: Declarations, refinement: Refinement) -> Declarations:
    """Return the declarations with further moments and another tolerance. Raises RequestError."""
    if declarations.time is None:
        if refinement.scheme:
            raise RequestError("--scheme is for problems over time, and this file has no [time]")
        if refinement.tolerance is not None:
            raise RequestError("--time-tolerance is for problems over time, and this file has no [time]")
        return declarations
    tolerance = refinement.tolerance
    if tolerance is not None and not 1e-10 <= tolerance <= 0.1:
        raise RequestError(f"--time-tolerance must lie between 1e-10 and 0.1, not {tolerance:g}")
    own = declarations if tolerance is None else replace(declarations, time_tolerance=tolerance)
    own = replace(own, time_tighter=refinement.tighter, time_scheme=refinement.scheme)

    if refinement.pieces:
        controls = [replace(item, pieces=refinement.pieces, form="linear", before=None) for item in own.controls]
        own = replace(own, controls=tuple(controls), whole=declarations.whole or declarations)

    def looked_at(time: TimeDeclaration, case: str) -> TimeDeclaration:
        return replace(time, more=refinement.more.get(case, ()), grid=refinement.grids.get(case, ()))

    return replace(
        own,
        time=looked_at(declarations.time, ""),
        time_cases=tuple(replace(item, time=looked_at(item.time, item.case)) for item in own.time_cases),
    )
