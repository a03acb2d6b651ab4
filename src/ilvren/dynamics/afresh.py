"""A course integrated afresh: each interval of the grid from the course's own states, by another integrator.

With δ_n what interval n comes to otherwise and Φ_n what its start does to its end, deviations add up as

    e_{n+1} = Φ_n e_n + δ_n                                                                          (1)

so that the error at every moment of the grid is estimated without following the whole course twice; and the growth of
an unstable system, Π Φ, tells where no integrator could do better.
"""

from __future__ import annotations

import math
from itertools import pairwise
from typing import TYPE_CHECKING, Any

import numpy as np
from numpy.typing import NDArray

from ilvren.dynamics.forward_sweep import transitions
from ilvren.dynamics.walker import walker_along
from ilvren.records import dataclass

if TYPE_CHECKING:
    from ilvren.dynamics.course import Course
    from ilvren.dynamics.simulation import Simulation

__all__ = ["Afresh", "integrated_afresh"]

FloatArray = NDArray[np.float64]

# The other integrator's own tolerances, over the states' sizes.
RELATIVE, ABSOLUTE = 1e-9, 1e-10


@dataclass(frozen=True)
class Afresh:
    """`error`: the largest estimated error of a state over its size; `tau` and `state` (flat) where; `growth` the most
    that a deviation grows from one moment of the grid to a later one; `is_told` whether the other integrator came
    through."""

    error: float
    tau: float
    state: int
    growth: float
    is_told: bool = True


def integrated_afresh(simulation: Simulation, inputs: Any) -> Afresh | None:
    """Return how a design's course compares with integrating its intervals afresh; None where it has no course."""
    from scipy.integrate import solve_ivp  # heavy, and for this alone

    point = simulation.point(inputs)
    course = point.course
    if course is None:
        return None
    mesh, system = simulation.mesh(point.halvings), simulation.system
    walker = walker_along(simulation.march, point.given, mesh, course)
    sizes = mesh.sizes_of(course.largest)
    across = transitions(point.linear)
    steps = _intervals(course, mesh.grid.tolist())
    error, growth = np.zeros(system.size), np.zeros((system.size, system.size))
    worst, at, state, most = 0.0, 0.0, -1, 1.0
    is_flow = ~system.is_sampled
    for first, last in steps:
        begin = course.first[first]
        low, high = course.tau0[first], course.tau0[last] + course.h[last]

        def rates(tau: float, x: FloatArray) -> FloatArray:
            return walker.natural_rates(tau, x, low, high)  # noqa: B023

        own = np.where(np.abs(begin) > sizes, np.abs(begin), sizes)
        found = solve_ivp(rates, (low, high), begin, method="LSODA", rtol=RELATIVE, atol=ABSOLUTE * own)
        if not found.success or not np.isfinite(found.y[:, -1]).all():
            return Afresh(math.inf, float(high), -1, most, is_told=False)
        phi = np.eye(system.size)
        for place in range(first, last + 1):
            phi = across[place] @ phi
        delta = np.where(is_flow, found.y[:, -1] - course.last[last], 0.0)
        error = phi @ error + delta  # (1)
        growth = phi @ growth if growth.any() else phi
        scaled = np.abs(growth) * sizes[None, :] / sizes[:, None]
        most = max(most, float(scaled.max(initial=0.0)))
        share = np.abs(error) / sizes
        if float(share.max(initial=0.0)) > worst:
            worst, at, state = float(share.max()), float(high), int(np.argmax(share))
    return Afresh(worst, at, state, most)


def _intervals(course: Course, grid: list[int]) -> list[tuple[int, int]]:
    """Return (first, last segment) of every interval of the grid."""
    found = []
    for low, high in pairwise(grid):
        first, last = course.step_first[low], course.step_first[high] - 1
        if last >= first:
            found.append((first, last))
    return found
