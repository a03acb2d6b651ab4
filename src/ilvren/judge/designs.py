"""Final designs of several runs: which are the same, and where they differ."""

from __future__ import annotations

import string
from collections.abc import Sequence
from dataclasses import dataclass

import numpy as np

from ilvren.judge.track import Track
from ilvren.problem import Measures, objective_size

__all__ = ["DesignDifference", "FinalOptimum", "final_optima", "sorted_differences"]

# Designs within this share of the variables' sizes count as one.
SAME_DESIGN = 1e-2
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


def _by_name(track: Track) -> dict[str, float]:
    if track.point is None:
        return {}
    return {variable.name: value for variable, value in zip(track.problem.variables, track.point, strict=True)}


def _are_same(one: Track, other: Track) -> bool:
    """Return whether two designs agree in the variables that both have."""
    assert one.point is not None
    a, b = _by_name(one), _by_name(other)
    sizes = dict(zip(a, Measures.of(one.problem).variable_sizes(np.array(one.point)).tolist(), strict=True))
    shared = [name for name in a if name in b]
    return all(abs(a[name] - b[name]) <= SAME_DESIGN * sizes[name] for name in shared)


def sorted_differences(tracks: Sequence[Track]) -> tuple[DesignDifference, ...]:
    """Return every variable of any run, those that differ most first."""
    values = [_by_name(track) for track in tracks]
    found = []
    seen: set[str] = set()
    for track in tracks:
        if track.point is None:
            continue
        sizes = Measures.of(track.problem).variable_sizes(np.array(track.point)).tolist()
        own_variables = track.problem.variables[: track.problem.own_size]  # without unknowns on a grid
        for variable, size in zip(own_variables, sizes, strict=False):
            if variable.name in seen:
                continue
            seen.add(variable.name)
            own = tuple(item.get(variable.name) for item in values)
            known = [value for value in own if value is not None]
            spread = (max(known) - min(known)) / size
            found.append(DesignDifference(variable.name, variable.unit, own, spread))
    return tuple(sorted(found, key=lambda item: -item.spread))
