"""Fractional factorials of two levels: a part of all combinations in which effects are mixed up as late as can be.

With 2^p designs each variable gets a column of the 2^p − 1 products of p base columns. As vectors over the field of two
elements, columns of which no R − 1 are dependent mix no effect of order i with one of order below R − i: the plan has
resolution R. Columns are found by taking, in turn, every vector that is no sum of R − 2 or fewer of those before.

Sources: G. Box, J. Hunter, "The 2^(k−p) fractional factorial designs", 1961; greedy codes: J. Conway, N. Sloane,
"Lexicographic codes: error-correcting codes from game theory", 1986.
"""

from __future__ import annotations

import itertools

import numpy as np
from numpy.typing import NDArray

from ilvren.plans.base import Plan, PlanError, Sampled, Space, option
from ilvren.records import dataclass

__all__ = ["FRACTIONAL", "FractionalOptions", "fraction", "resolution_of", "two_level_columns"]

FloatArray = NDArray[np.float64]

# Base columns at most: 2^12 designs.
MOST_BASE = 12
# Resolutions told; beyond, a plan of so few variables is a full factorial.
RESOLUTIONS = {3: "III", 4: "IV", 5: "V", 6: "VI", 7: "VII", 8: "VIII"}
MEANS = {
    3: "effects are mixed with pairs of others: fit for finding the few that matter",
    4: "effects are clear of pairs; pairs are mixed with each other",
    5: "effects and pairs are clear of each other",
}
# Orders in which vectors are offered, tried until one gives enough columns.
TRIES = 30


@dataclass(frozen=True)
class FractionalOptions:
    """Options of `fractional-factorial`."""

    resolution: int = option(0, low=0, high=8, help="the least resolution (3 to 8); 0: what --points gives, else 4")


def two_level_columns(n: int, base: int, resolution: int) -> list[int] | None:
    """Return n columns as bit masks over `base` base columns with a resolution, the base ones first; None if the search
    finds none."""
    if n <= base:
        return [1 << k for k in range(n)]
    everything = [v for v in range(1, 1 << base) if v & (v - 1)]
    for attempt in range(TRIES):
        rng = np.random.default_rng(attempt)
        # Words of many letters first: they are what other sums come to last.
        weights = [v.bit_count() for v in everything]
        keys = rng.random(len(everything))
        wanted = base if resolution % 2 else (base - 1) | 1
        order = sorted(range(len(everything)), key=lambda i: (abs(weights[i] - wanted) if attempt else 0, keys[i]))
        if not attempt:
            order = list(range(len(everything)))
        found = [1 << k for k in range(base)]
        sums = _sums(found, resolution - 2)
        for place in order:
            vector = everything[place]
            if vector in sums:
                continue
            found.append(vector)
            if len(found) == n:
                return found
            sums = _sums(found, resolution - 2)
    return None


def _sums(columns: list[int], most: int) -> set[int]:
    """Return all sums of up to `most` columns."""
    found = {0}
    for _ in range(most):
        found |= {a ^ b for a in found for b in columns}
    return found


def resolution_of(columns: list[int]) -> int:
    """Return the resolution of columns: the fewest whose sum is 0, looked for up to 8; 9 where there are none."""
    if len(set(columns)) < len(columns):
        return 2
    for count in range(3, 9):
        half = count // 2
        seen: dict[int, list[frozenset[int]]] = {}
        for chosen in itertools.combinations(range(len(columns)), half):
            seen.setdefault(_sum_of(columns, chosen), []).append(frozenset(chosen))
        for chosen in itertools.combinations(range(len(columns)), count - half):
            own = frozenset(chosen)
            if any(not own & other for other in seen.get(_sum_of(columns, chosen), ())):
                return count
    return 9


def _sum_of(columns: list[int], chosen: tuple[int, ...]) -> int:
    total = 0
    for place in chosen:
        total ^= columns[place]
    return total


def fraction(n: int, base: int, resolution: int) -> FloatArray | None:
    """Return levels −1 and 1 (2^base, n) of a fraction of some resolution, None if none is found. Levels are (2^base,
    n)."""
    columns = two_level_columns(n, base, resolution)
    return None if columns is None else _levels(columns, base)


def _levels(columns: list[int], base: int) -> FloatArray:
    rows = np.arange(1 << base)
    found = np.empty((len(rows), len(columns)))
    for place, column in enumerate(columns):
        bits = np.array([(int(row) & column).bit_count() % 2 for row in rows])
        # The product of −1 for a bit that is 0 and 1 for one that is 1.
        found[:, place] = np.where((column.bit_count() - bits) % 2 == 0, 1.0, -1.0)
    return found


def fractional_factorial(
    space: Space, points: int | None, rng: np.random.Generator, options: FractionalOptions
) -> Sampled:
    """Return the fraction of best resolution for the points asked for, else the smallest of the resolution."""
    n = space.size
    if n < 3:
        raise PlanError(f"{n} variable{'s have' if n > 1 else ' has'} no fraction", "full-factorial takes them all")
    least = options.resolution or (3 if points is not None else 4)
    if least not in range(3, 9):
        raise PlanError(f"a resolution is 3 to 8, not {least}")
    if points is None:
        for base in range(2, min(n, MOST_BASE) + 1):
            columns = two_level_columns(n, base, least) if base < n else [1 << k for k in range(n)]
            if columns is not None:
                break
        else:
            raise PlanError(f"no fraction of resolution {least} with 4,096 designs or fewer", "a lower resolution")
    else:
        base = max(int(points).bit_length() - 1, 0)
        if points != 1 << base or base < 2:
            near = 1 << max(base, 2)
            raise PlanError(f"a fraction has a power of two of designs, not {points}", f"--points {near} or {2 * near}")
        if base > MOST_BASE:
            raise PlanError(f"a fraction has 4,096 designs at most, not {points:,}", "latin-hypercube takes any number")
        base = min(base, n)
        columns = None
        for resolution in range(8, least - 1, -1):
            columns = two_level_columns(n, base, resolution)
            if columns is not None:
                break
        if columns is None:
            raise PlanError(
                f"{points} designs are too few for {n} variables at resolution {least}", f"--points {2 * points}"
            )
    return Sampled(space.at_levels(_levels(columns, base)), _told(space, columns, base) + space.skipped(2))


def _told(space: Space, columns: list[int], base: int) -> tuple[str, ...]:
    n = space.size
    if n <= base:
        return ("a full factorial: no effect is mixed with another",)
    resolution = resolution_of(columns)
    meaning = MEANS.get(resolution, MEANS[5])
    made = []
    for name, column in zip(space.names[base:], columns[base:], strict=True):
        made.append(f"{name} = " + " * ".join(space.names[k] for k in range(base) if column >> k & 1))
    shown = "; ".join(made[:4]) + (f"; {len(made) - 4} more" if len(made) > 4 else "")
    part = f"1/{1 << (n - base)} of all combinations"
    return (f"resolution {RESOLUTIONS.get(resolution, resolution)}, {part}: {meaning}", f"levels: {shown}")


FRACTIONAL = Plan(
    "fractional-factorial",
    "a part of all combinations of the ends of the ranges, its resolution told",
    "many variables, to find those that matter",
    FractionalOptions,
    fractional_factorial,
)
