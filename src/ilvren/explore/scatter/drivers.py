"""What drives what scatters: shares of each quantity's variance, alone (first) and with all others (total).

The shares are those of the independent numbers behind each scattered name; of names that are correlated each has what
is its own. Of formulas they come from further scenarios, in which one name after the other is exchanged between two
independent sets; of models from the scenarios that there are, by a polynomial fitted to them,

    f(ε) ≈ c_0 + Σ c_j ε_j + Σ d_j (ε_j² − 1)/√2 + Σ e_jk ε_j ε_k                                      (1)

whose terms are orthonormal, so that a share is a sum of squared coefficients.

Sources: I. Sobol', "Sensitivity estimates for nonlinear mathematical models", 1993; (1): B. Sudret, "Global sensitivity
analysis using polynomial chaos expansions", 2008.
"""

from __future__ import annotations

import math
from collections.abc import Mapping
from typing import TYPE_CHECKING

import numpy as np
from numpy.typing import NDArray

from ilvren.explore.sensitivity.shares import first_and_total
from ilvren.scatter import sequence_normals

if TYPE_CHECKING:
    from ilvren.explore.scatter.case import ScatterCase

__all__ = ["Drivers", "by_fit", "by_formulas", "exchanged"]

FloatArray = NDArray[np.float64]
# {output: {scattered name: (first, total)}}
Drivers = dict[str, dict[str, tuple[float, float]]]

# Scenarios of each set, and numbers held at most.
BASE, MOST_NUMBERS = 2048, 40_000_000
# Scenarios that each term of a fit needs; a fit that explains less than this is told.
EACH_TERM, GOOD_FIT = 3, 0.8


def by_formulas(case: ScatterCase, seed: int) -> Drivers:
    """Return the shares by exchanging names between two sets of scenarios."""
    names = case.scattered.dependence.names
    numbers = (len(names) + 2) * (case.wide.size + len(case.outputs))
    values = exchanged(case, 1 << int(math.log2(min(BASE, max(16, MOST_NUMBERS // numbers)))), seed)
    found: Drivers = {}
    for k, output in enumerate(case.outputs):
        table = values[:, :, k]
        table = table[:, np.isfinite(table).all(axis=0)]
        if table.shape[1] < 8 or not np.ptp(table) > 1e-12 * np.abs(table).max():
            continue
        first, total = first_and_total(table)
        found[output.name] = {
            name: (min(max(float(one), 0.0), 1.0), min(max(float(other), 0.0), 1.0))
            for name, one, other in zip(names, first, total, strict=True)
        }
    return found


def exchanged(case: ScatterCase, base: int, seed: int) -> FloatArray:
    """Return the values (names + 2, base, outputs) of two independent sets of scenarios, and of the first with one name
    after the other taken from the second."""
    dependence = case.scattered.dependence
    both = sequence_normals(2 * dependence.dimension, base, seed + 1)
    a, b = both[:, : dependence.dimension], both[:, dependence.dimension :]
    sets = [a, b]
    for name in dependence.names:
        mixed = a.copy()
        place = dependence.slices[name]
        mixed[:, place] = b[:, place]
        sets.append(mixed)
    return np.array([case.seen(own).values for own in sets])


def by_fit(case: ScatterCase, own: FloatArray, values: FloatArray) -> tuple[Drivers, list[str]]:
    """Return the shares by (1) on scenarios (k, dimension) with values (k, outputs), and what is to be said."""
    dependence = case.scattered.dependence
    terms, owners = _terms(own, dependence.slices)
    found: Drivers = {}
    poor: list[str] = []
    if len(own) < EACH_TERM * terms.shape[1]:
        return {}, [f"{len(own)} scenarios are too few to tell what drives what: at least {EACH_TERM * own.shape[1]}"]
    for k, output in enumerate(case.outputs):
        column = values[:, k]
        whole = np.isfinite(column)
        if whole.sum() < EACH_TERM * terms.shape[1] or not np.ptp(column[whole]) > 1e-12 * np.abs(column[whole]).max():
            continue
        design = np.column_stack([np.ones(int(whole.sum())), terms[whole]])
        coefficients, *_ = np.linalg.lstsq(design, column[whole], rcond=None)
        variance = float(column[whole].var())
        rest = column[whole] - design @ coefficients
        told = 1.0 - float(rest @ rest) / (len(rest) - design.shape[1] or 1) / variance
        if told < GOOD_FIT:
            poor.append(f"{output.name} ({100.0 * max(told, 0.0):.0f} %)")
        squares = coefficients[1:] ** 2
        squares /= float(squares.sum()) + float(rest @ rest) / len(rest)
        found[output.name] = {
            name: (
                float(squares[[who == {name} for who in owners]].sum()),
                float(squares[[name in who for who in owners]].sum()),
            )
            for name in dependence.names
        }
    if not poor:
        return found, []
    return found, [
        f"drivers tell only a part of the variance of {', '.join(poor[:6])}: the rest bends more than they can"
    ]


def _terms(own: FloatArray, places: Mapping[str, slice]) -> tuple[FloatArray, list[set[str]]]:
    """Return the terms of (1) that so many scenarios can tell, and which names each is made of."""
    count, dimension = own.shape
    owner = [name for name, place in places.items() for _ in range(place.stop - place.start)]
    columns, owners = [own], [{name} for name in owner]
    pairs = dimension * (dimension - 1) // 2
    if count >= EACH_TERM * 2 * dimension:
        columns.append((own**2 - 1.0) / np.sqrt(2.0))
        owners += [{name} for name in owner]
    if count >= EACH_TERM * (2 * dimension + pairs):
        for j in range(dimension):
            columns.append(own[:, j : j + 1] * own[:, j + 1 :])
            owners += [{owner[j], owner[k]} for k in range(j + 1, dimension)]
    return np.concatenate(columns, axis=1), owners
