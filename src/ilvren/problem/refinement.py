"""How finely a problem over time is looked at: moments added to the grid, the design that steps are chosen along, and
the tolerance. A run adds to it from stage to stage, and records it, so that what it found can be looked at again."""

from __future__ import annotations

from collections.abc import Mapping
from dataclasses import field, replace
from typing import TYPE_CHECKING, Any

from ilvren.errors import RequestError, nearest
from ilvren.problem.scatter_plan import ScatterPlan
from ilvren.records import dataclass

if TYPE_CHECKING:
    from ilvren.problem.entries import Declarations
    from ilvren.problem.time_declarations import TimeDeclaration

__all__ = [
    "AS_DECLARED",
    "SIMULATED",
    "Refinement",
    "checked_scheme",
    "checked_steps",
    "refined",
]

# In place of a scheme: states are simulated, whatever the file says.
SIMULATED = "simulation"


@dataclass(frozen=True, kw_only=True)
class Refinement:
    """`scheme`: the states are unknowns on a grid, of that collocation scheme, "simulation" where they must be
    simulated, "" where nothing is said; `grids` {case: the grid, as shares of the time} in place of the file's; `steps`
    intervals to begin with in place of the file's; with `pieces` controls have so many, joined by lines, whatever the
    file says. `scatter` says how functions of what scatters are looked at, as usual without; `scales` {name: factor}
    of widths. `more` {case ("" for all): moments added, as shares of the time}; `anchor` the full design that steps are
    chosen along, the baseline without; `tolerance` of what is computed over time, the usual one without; steps are made
    for errors smaller by ten, `tighter` times."""

    more: Mapping[str, tuple[float, ...]] = field(default_factory=dict)
    anchor: tuple[float, ...] | None = None
    tolerance: float | None = None
    tighter: int = 0
    scheme: str = ""
    grids: Mapping[str, tuple[float, ...]] = field(default_factory=dict)
    pieces: int = 0
    steps: int = 0
    scatter: ScatterPlan | None = None
    scales: Mapping[str, float] = field(default_factory=dict)

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
        if self.steps:
            found["steps"] = self.steps
        if self.grids:
            found["grids"] = {name: list(own) for name, own in self.grids.items()}
        if self.scatter is not None:
            found["scatter"] = self.scatter.to_dict()
        if self.scales:
            found["scales"] = dict(self.scales)
        return found

    @classmethod
    def from_dict(cls, values: Mapping[str, Any]) -> Refinement:
        """Return it from `to_dict`'s values."""
        anchor = values.get("anchor")
        more = {name: tuple(own) for name, own in values.get("more", {}).items()}
        own = None if anchor is None else tuple(anchor)
        grids = {name: tuple(grid) for name, grid in values.get("grids", {}).items()}
        return cls(
            more=more,
            anchor=own,
            tolerance=values.get("tolerance"),
            tighter=values.get("tighter", 0),
            scheme=values.get("scheme", ""),
            grids=grids,
            pieces=values.get("pieces", 0),
            steps=values.get("steps", 0),
            scatter=ScatterPlan.from_dict(values["scatter"]) if "scatter" in values else None,
            scales=values.get("scales", {}),
        )


AS_DECLARED = Refinement()


def checked_scheme(name: str | None) -> str:
    """Return the name of a collocation scheme or "simulation", "" for None. Raises RequestError for an unknown one."""
    if name is None:
        return ""
    from ilvren.dynamics.schemes import SCHEMES

    known = (*SCHEMES, SIMULATED)
    if name in known:
        return name
    close = nearest(name, known)
    advice = f'did you mean "{close}"?' if close else "schemes: " + ", ".join(known)
    raise RequestError(f'--scheme {name}: no collocation scheme is named "{name}"', advice=advice)


def checked_steps(flag: str, given: str | int | None) -> int:
    """Return a number of intervals to begin with, 0 for None. Raises RequestError naming the `flag` for nonsense."""
    if given is None:
        return 0
    from ilvren.dynamics import MOST_STEPS

    text = str(given)
    if not text.isdecimal() or not 1 <= int(text) <= MOST_STEPS:
        raise RequestError(f"{flag}: {text} steps; a whole number from 1 to {MOST_STEPS} is needed")
    return int(text)


def refined(declarations: Declarations, refinement: Refinement) -> Declarations:
    """Return the declarations with further moments and another tolerance, scenarios looked at otherwise. Raises
    RequestError."""
    if refinement.scatter is not None:
        declarations = replace(declarations, scatter_plan=refinement.scatter)
    if refinement.scales:
        own_scatter = (replace(item, scale=refinement.scales.get(item.name, 1.0)) for item in declarations.scatter)
        declarations = replace(declarations, scatter=tuple(own_scatter))
    if declarations.time is None:
        if refinement.scheme:
            raise RequestError("--scheme is for problems over time, and this file has no [time]")
        if refinement.tolerance is not None:
            raise RequestError("--time-tolerance is for problems over time, and this file has no [time]")
        if refinement.steps:
            raise RequestError("--steps is for problems over time, and this file has no [time]")
        return declarations
    tolerance = refinement.tolerance
    if tolerance is not None and not 1e-10 <= tolerance <= 0.1:
        raise RequestError(f"--time-tolerance must lie between 1e-10 and 0.1, not {tolerance:g}")
    own = declarations if tolerance is None else replace(declarations, time_tolerance=tolerance)
    is_simulated = refinement.scheme == SIMULATED
    own = replace(own, time_tighter=refinement.tighter, time_scheme="" if is_simulated else refinement.scheme)

    if refinement.pieces:
        controls = [replace(item, pieces=refinement.pieces, form="linear", before=None) for item in own.controls]
        own = replace(own, controls=tuple(controls), whole=declarations.whole or declarations)

    def looked_at(time: TimeDeclaration, case: str) -> TimeDeclaration:
        found = replace(time, more=refinement.more.get(case, ()), grid=refinement.grids.get(case, ()))
        if refinement.steps:
            if time.at is not None:
                raise RequestError('--steps: the moments of this file are given, by "at" in [time]')
            found = replace(found, steps=float(refinement.steps))
        return replace(found, treatment=SIMULATED) if is_simulated else found

    return replace(
        own,
        time=looked_at(declarations.time, ""),
        time_cases=tuple(replace(item, time=looked_at(item.time, item.case)) for item in own.time_cases),
    )
