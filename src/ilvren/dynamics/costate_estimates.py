"""What a state is worth at every moment of the grid: costates, from the prices of a scheme's equations.

With π_ki the price of equation i of interval k (what the objective gains per unit by which its right-hand side is
raised), a change of the state at the beginning of interval k, all before being as it was, is worth

    λ_k = − Σ_i π_ki (C_i0 − h_k B_i0 ∂f/∂x(X_k0))' + h_k b_0 ∂g/∂x(X_k0)'                           (1)

g being all that is integrated, each as much as it is worth; and at the end of the last interval
λ_N = Σ_i π_Ni (C_ip − h_N B_ip ∂f/∂x(X_Np))' − h_N b_p ∂g/∂x(X_Np)'. These are exact for the equations on
the grid, whatever the scheme, and go to the costates of Pontryagin's principle as the grid becomes fine.

Sources: L. Pontryagin et al., "The Mathematical Theory of Optimal Processes", 1962; W. Hager, "Runge–Kutta methods in
optimal control and the transformed adjoint system", Numerische Mathematik 87, 2000.
"""

from __future__ import annotations

from typing import TYPE_CHECKING

import numpy as np
from numpy.typing import NDArray

if TYPE_CHECKING:
    from ilvren.dynamics.gridded import GriddedCourse

__all__ = ["costates"]

FloatArray = NDArray[np.float64]


def costates(course: GriddedCourse, prices: FloatArray, worth: FloatArray) -> FloatArray:
    """Return λ (intervals + 1, n) from the prices (intervals, equations, n) of the equations of all states, and what
    each of the course's integrals is worth (integrals,)."""
    scheme, n = course.scheme, course.intervals
    h = np.diff(course.taus)
    found = np.zeros((n + 1, course.flat.shape[1]))
    found[:-1] = -np.einsum("kis,i->ks", prices, scheme.states[:, 0])
    found[-1] = np.einsum("is,i->s", prices[-1], scheme.states[:, -1])
    first, last = scheme.rates[:, 0], scheme.rates[:, -1]
    begins = np.arange(n) * scheme.width
    if first.any():
        slopes = _slopes(course, course.taus[:-1], course.flat[begins], is_left=False)
        found[:-1] += np.einsum("kis,i,kst,k->kt", prices, first, slopes, h)
    if last.any():
        slopes = _slopes(course, course.taus[-1:], course.flat[-1:], is_left=True)
        found[-1] -= np.einsum("is,i,st->t", prices[-1], last, slopes[0]) * h[-1]
    code, b = course.integrand_code, scheme.weights
    if code is not None and len(worth):
        if b[0]:
            inputs = course.inputs(course.taus[:-1], np.zeros(n, dtype=bool), course.flat[begins])
            found[:-1] += b[0] * h[:, np.newaxis] * np.einsum("i,kis->ks", worth, code.slopes(inputs))
        if b[-1]:
            inputs = course.inputs(course.taus[-1:], np.ones(1, dtype=bool), course.flat[-1:])
            found[-1] -= b[-1] * h[-1] * (worth @ code.slopes(inputs)[0])
    return found


def _slopes(course: GriddedCourse, at: FloatArray, states: FloatArray, *, is_left: bool) -> FloatArray:
    return course.code.slopes(course.inputs(at, np.full(len(at), is_left), states))
