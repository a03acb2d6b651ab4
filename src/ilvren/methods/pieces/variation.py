"""How populations make new designs from old ones: crossover and mutation of real and whole-number codes.

    c = ½ (p + q) ∓ ½ β |p − q| ,   β = (2r)^(1/(η+1)) for r <= ½, else (1/(2(1 − r)))^(1/(η+1))            (1)
    δ (u − l) ,   δ = (2r)^(1/(η_m+1)) − 1 for r <= ½, else 1 − (2(1 − r))^(1/(η_m+1))                      (2)

Sources: (1): K. Deb, R. Agrawal, "Simulated binary crossover for continuous search space", 1995; (2): K. Deb, M. Goyal,
"A combined genetic adaptive search for engineering design", 1996.
"""

from __future__ import annotations

from typing import TYPE_CHECKING

import numpy as np
from numpy.typing import NDArray

if TYPE_CHECKING:
    from ilvren.methods.pieces.coding import Coding

__all__ = ["crossed", "mutated"]

FloatArray = NDArray[np.float64]


def crossed(
    coding: Coding, p: FloatArray, q: FloatArray, share: float, index: float, rng: np.random.Generator
) -> tuple[FloatArray, FloatArray]:
    """Return the two children of each pair of codes p, q (k, n), (1), crossed with the chance `share`; η is `index`."""
    is_crossed = rng.random((len(p), 1)) < share
    draws = rng.random(p.shape)
    # Below ½ a variable is taken from a parent, its own in half of these; above, it is blended.
    is_swapped = (draws < 0.25) & is_crossed
    is_blended = (draws >= 0.5) & is_crossed & ~coding.is_discrete
    is_swapped |= (draws >= 0.75) & is_crossed & coding.is_discrete
    one, two = np.where(is_swapped, q, p), np.where(is_swapped, p, q)
    a, b = p[is_blended], q[is_blended]
    r = rng.random(len(a))
    power = 1.0 / (index + 1.0)
    beta = np.where(r <= 0.5, 2.0 * r, 0.5 / np.maximum(1.0 - r, 1e-300)) ** power
    sign = np.where(rng.random(len(a)) < 0.5, -0.5, 0.5)
    middle, half = 0.5 * (a + b), sign * beta * np.abs(a - b)
    one[is_blended], two[is_blended] = middle - half, middle + half
    return one, two


def mutated(coding: Coding, codes: FloatArray, chance: float, index: float, rng: np.random.Generator) -> FloatArray:
    """Return the codes (k, n) with some variables changed, each with this `chance`, (2); η_m is `index`."""
    rows, columns = np.nonzero(rng.random(codes.shape) < chance)
    old, r = codes[rows, columns], rng.random(len(rows))
    power = 1.0 / (index + 1.0)
    delta = np.where(r <= 0.5, (2.0 * r) ** power - 1.0, 1.0 - (2.0 * (1.0 - r)) ** power)
    new = old + delta * coding.widths[columns]
    is_member = coding.is_discrete[columns]
    if is_member.any():
        steps = old + np.where(rng.random(len(rows)) < 0.5, -1.0, 1.0)
        anywhere = coding.box_lower[columns] + np.floor(rng.random(len(rows)) * (coding.widths[columns] + 1.0))
        new = np.where(is_member, np.where(rng.random(len(rows)) < 0.5, steps, anywhere), new)
    is_choice = coding.is_unordered[columns]
    if is_choice.any():
        new = np.where(is_choice, coding.elsewhere(old, columns, rng), new)
    codes[rows, columns] = new
    return codes
