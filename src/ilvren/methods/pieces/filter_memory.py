"""The filter of an interior point method, and what else a solution of the barrier problem remembers.

Pairs (θ, φ) of violation and barrier function accept trial points that lower either enough (equations 18–22 of the
paper).

Source: A. Wächter, L. T. Biegler, "On the implementation of an interior-point filter line-search algorithm for
large-scale nonlinear programming", Mathematical Programming 106, 2006, pages 25–57; its letters are used.
"""

from __future__ import annotations

import math
from typing import Any

import numpy as np
from numpy.typing import NDArray

from ilvren.methods.pieces.barrier import powered
from ilvren.records import dataclass

__all__ = ["Memory", "accepts", "least_length", "memory_from"]

FloatArray = NDArray[np.float64]
IntArray = NDArray[np.int64]

# Filter and Armijo constants γ_θ, γ_φ, s_θ, s_φ, η, γ_α, and the factors of θ_max and θ_min (paper).
GAMMA_THETA, GAMMA_PHI, POWER_THETA, POWER_PHI, ARMIJO = 1e-5, 1e-5, 1.1, 2.3, 1e-4
GAMMA_ALPHA, MOST_THETA, LEAST_THETA = 0.05, 1e4, 1e-4


@dataclass
class Memory:
    """What one solution of (1) remembers: the filter, δ, quasi-Newton information."""

    filter: list[tuple[float, float]]
    most_theta: float
    least_theta: float
    shift: float = 0.0
    eased: int = 0  # how often in a row the first δ tried was enough
    matrix: Any = None
    is_fresh: bool = True

    def add(self, theta: float, phi: float) -> None:
        """Augment the filter (A-7, equation 22 of the paper)."""
        pair = ((1.0 - GAMMA_THETA) * theta, phi - GAMMA_PHI * theta)
        self.filter[:] = [(t, p) for t, p in self.filter if t < pair[0] or p < pair[1]]
        self.filter.append(pair)

    @property
    def has_curvature(self) -> bool:
        """Return whether a quasi-Newton matrix has learnt anything."""
        return self.matrix is not None and not self.is_fresh

    def forget_curvature(self) -> bool:
        """Begin a quasi-Newton matrix anew; return whether there was anything to forget."""
        if not self.has_curvature:
            return False
        self.matrix, self.is_fresh = None, True
        return True


def memory_from(theta: float) -> Memory:
    """Return what a solution that begins with θ remembers: nothing yet but θ_max and θ_min."""
    return Memory([], MOST_THETA * max(1.0, theta), LEAST_THETA * max(1.0, theta))


def least_length(memory: Memory, theta: float, descent: float) -> float:
    """Return α_min below which feasibility is restored instead."""
    least = GAMMA_THETA
    if descent < 0.0:
        least = min(least, GAMMA_PHI * theta / -descent)
        if theta <= memory.least_theta:
            power = powered(-descent, POWER_PHI)
            least = min(least, powered(theta, POWER_THETA) / power) if power > 0.0 else least
    return GAMMA_ALPHA * max(least, 1e-14)


def accepts(
    memory: Memory,
    theta: float,
    phi: float,
    new_theta: float,
    new_phi: float,
    descent: float,
    alpha: float,
    slack: float,
) -> tuple[bool, bool]:
    """Return whether a trial point is accepted, and whether it is a step for φ, which leaves the filter as it is."""
    if not (math.isfinite(new_theta) and math.isfinite(new_phi)) or new_theta > memory.most_theta:
        return False, False
    if any(new_theta >= (1.0 - GAMMA_THETA) * t and new_phi - slack > p - GAMMA_PHI * t for t, p in memory.filter):
        return False, False
    is_f_type = descent < 0.0 and alpha * powered(-descent, POWER_PHI) > powered(theta, POWER_THETA)
    if is_f_type and theta <= memory.least_theta:
        return new_phi <= phi + ARMIJO * alpha * descent + slack, True
    lowers = new_theta <= (1.0 - GAMMA_THETA) * theta or new_phi - slack <= phi - GAMMA_PHI * theta
    return lowers, False
