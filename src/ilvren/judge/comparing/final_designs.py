"""Final designs of several runs: which are the same, and where they differ."""

from __future__ import annotations

import string
from collections.abc import Mapping, Sequence
from typing import TYPE_CHECKING

import numpy as np
from numpy.typing import NDArray

from ilvren.problem import Measures, control_shares, objective_size, read_control
from ilvren.records import dataclass

if TYPE_CHECKING:
    from ilvren.judge.comparing.track import Track

__all__ = ["DesignDifference", "FinalOptimum", "final_optima", "sorted_differences"]

FloatArray = NDArray[np.float64]

# Designs within this share of the variables' sizes count as one.
SAME_DESIGN = 1e-2
# Controls whose moments differ are compared at so many, and shown at so few.
MANY_MOMENTS, FEW_MOMENTS = 400, 8
# Objectives within this share of their size count as equal.
SAME_OBJECTIVE = 1e-4


@dataclass(frozen=True)
class FinalOptimum:
    """One of the distinct final designs: a `letter`, the places of the runs that ended there, the best `objective` as
    written among them, and whether an earlier letter has the same objective (`twin_of`, else "")."""

    letter: str
    places: tuple[int, ...]
    objective: float
    twin_of: str = ""


@dataclass(frozen=True)
class DesignDifference:
    """A variable's value in each run (None where a run does not have it), and the `spread` over its size."""

    name: str
    unit: str
    values: tuple[float | None, ...]
    spread: float


def final_optima(tracks: Sequence[Track]) -> tuple[FinalOptimum, ...]:
    """Return the distinct feasible final designs, best first."""
    sign = _sign(tracks)
    feasible = [
        place
        for place, track in enumerate(tracks)
        if track.point is not None and track.final_objective is not None and track.final_violation <= track.feasibility
    ]
    order = sorted(feasible, key=lambda place: (sign * float(tracks[place].final_objective or 0.0), place))
    clusters: list[list[int]] = []
    for place in order:
        for cluster in clusters:
            if _are_same(tracks[cluster[0]], tracks[place]):
                cluster.append(place)
                break
        else:
            clusters.append([place])
    found: list[FinalOptimum] = []
    for number, cluster in enumerate(clusters):
        objective = float(tracks[cluster[0]].final_objective or 0.0)
        size = SAME_OBJECTIVE * _size(tracks[cluster[0]], objective)
        twin = next((item.letter for item in found if abs(item.objective - objective) <= size), "")
        found.append(FinalOptimum(_letter(number), tuple(sorted(cluster)), objective, twin))
    return tuple(found)


def _size(track: Track, objective: float) -> float:
    first = track.objective[np.isfinite(track.objective)][:1]
    magnitude = track.problem.objective.magnitude if track.problem.objective is not None else None
    return objective_size(magnitude, objective, _sign([track]) * float(first[0]) if len(first) else objective)


def _letter(number: int) -> str:
    """Return A … Z, AA, AB …"""
    letters = string.ascii_uppercase
    head = _letter(number // 26 - 1) if number >= 26 else ""
    return head + letters[number % 26]


def _sign(tracks: Sequence[Track]) -> int:
    objective = tracks[0].problem.objective if tracks else None
    return objective.sign if objective is not None else 1


@dataclass(frozen=True)
class _Element:
    """One number of a final design: its `size`, and what it is `of`, a control that is read at moments or itself."""

    name: str
    unit: str
    value: float
    size: float
    of: str


def _elements(track: Track, elsewhere: Mapping[str, FloatArray]) -> dict[str, _Element]:
    """Return the elements of a design by name, without states on a grid, which follow; controls in `elsewhere` are read
    at shares of the time."""
    if track.point is None:
        return {}
    point, found = np.array(track.point), []
    every = Measures.of(track.problem).variable_sizes(point)
    for block in track.problem.blocks:
        own = slice(block.first, block.first + block.size)
        if block.is_grid:
            continue
        if block.name not in elsewhere:
            for variable, value, size in zip(track.problem.variables[own], point[own], every[own], strict=True):
                found.append(_Element(variable.name, variable.unit, float(value), float(size), variable.name))
            continue
        shares = elsewhere[block.name]
        values = read_control(track.problem, block, point[own], shares).reshape(len(shares), -1)
        sizes = every[own].reshape(block.shape[0], -1).max(axis=0)
        for share, each in zip(shares, values, strict=True):
            for place, (value, size) in enumerate(zip(each, sizes, strict=True)):
                what = block.name if len(each) == 1 else f"{block.name}[{place + 1}]"
                name = f"{what} at {100.0 * share:.4g} %"
                found.append(_Element(name, block.unit, float(value), float(size), what))
    return {element.name: element for element in found}


def _elsewhere(tracks: Sequence[Track], count: int) -> dict[str, FloatArray]:
    """Return {control: `count` shares of the time} of controls whose values do not stand at the same moments in all
    runs."""
    known: dict[str, list[FloatArray]] = {}
    for track in tracks:
        controls = track.problem.template.declarations.controls if track.problem.is_over_time else ()
        names = {item.name for item in controls}
        for block in track.problem.blocks:
            if block.name in names:
                known.setdefault(block.name, []).append(control_shares(track.problem, block))
    shares = (np.arange(count) + 0.5) / count
    return {
        name: shares for name, each in known.items() if any(not np.array_equal(each[0], other) for other in each[1:])
    }


def _are_same(one: Track, other: Track) -> bool:
    """Return whether two designs agree in the variables that both have. Of a control between two grids the mean counts:
    where it jumps no two of them agree at every moment."""
    elsewhere = _elsewhere((one, other), MANY_MOMENTS)
    a, b = _elements(one, elsewhere), _elements(other, elsewhere)
    apart: dict[str, list[float]] = {}
    for name, element in a.items():
        if name in b:
            apart.setdefault(element.of, []).append(abs(element.value - b[name].value) / element.size)
    return all(float(np.mean(each)) <= SAME_DESIGN for each in apart.values())


def sorted_differences(tracks: Sequence[Track]) -> tuple[DesignDifference, ...]:
    """Return every variable of any run, those that differ most first."""
    elsewhere = _elsewhere(tracks, FEW_MOMENTS)
    every = [_elements(track, elsewhere) for track in tracks]
    found = []
    first = {name: element for elements in reversed(every) for name, element in elements.items()}
    for name in dict.fromkeys(name for elements in every for name in elements):
        own = tuple(elements[name].value if name in elements else None for elements in every)
        known = [value for value in own if value is not None]
        spread = (max(known) - min(known)) / first[name].size
        found.append(DesignDifference(name, first[name].unit, own, spread))
    return tuple(sorted(found, key=lambda item: -item.spread))
