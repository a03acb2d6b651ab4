"""Plans for surfaces of second degree: three or five levels, far fewer designs than three levels combined.

`central-composite`: the corners of the box (or a fraction of resolution V), two designs on each axis, the middle.
`box-behnken`: for every block of two or three variables their corners, all others at the middle; no corner of the box.

Sources: G. Box, K. Wilson, "On the experimental attainment of optimum conditions", 1951; G. Box, D. Behnken, "Some new
three level designs for the study of quantitative variables", 1960.
"""

from __future__ import annotations

import itertools

import numpy as np
from numpy.typing import NDArray

from ilvren.plans.base import Plan, PlanError, Sampled, Space, option
from ilvren.plans.fractional import fraction
from ilvren.records import dataclass

__all__ = ["BOX_BEHNKEN", "CENTRAL", "BoxBehnkenOptions", "CentralOptions"]

FloatArray = NDArray[np.float64]

# Up to so many variables all corners are taken.
ALL_CORNERS = 4
# Blocks of three for as many variables as are cyclic sets of them: {0, 1, 3} and its shifts.
TRIPLES = {6: (0, 1, 3), 7: (0, 1, 3)}
MOST_DESIGNS = 100_000


@dataclass(frozen=True)
class CentralOptions:
    """Options of `central-composite`."""

    reach: float = option(
        1.0, low=0.0, high=10.0, help="axis designs over the corners' distance; 1: on the faces, 0: rotatable"
    )
    centres: int = option(1, low=0, high=100, help="designs at the middle; models that do not repeat want several")


@dataclass(frozen=True)
class BoxBehnkenOptions:
    """Options of `box-behnken`."""

    centres: int = option(1, low=0, high=100, help="designs at the middle; models that do not repeat want several")


def central_composite(space: Space, points: int | None, rng: np.random.Generator, options: CentralOptions) -> Sampled:
    """Return corners, axes and middle; axes beyond the corners put the corners inside the box."""
    n = space.size
    corners = _corners(n)
    reach = options.reach or float(len(corners)) ** 0.25
    axes = np.vstack([reach * np.eye(n), -reach * np.eye(n)])
    levels = np.vstack([corners, axes, np.zeros((options.centres, n))]) / max(reach, 1.0)
    _check_points("central composite", points, len(levels))
    notes = [
        f"{len(corners)} corners, {2 * n} on the axes at {reach:.3g} times their distance, {options.centres} centre"
    ]
    if reach > 1.0:
        notes.append(f"corners at {1.0 / reach:.3g} of the half ranges, so that the axes end at the bounds")
    return Sampled(space.at_levels(levels), (*notes, *space.skipped(3)))


def _corners(n: int) -> FloatArray:
    if n <= ALL_CORNERS:
        return np.array(list(itertools.product((-1.0, 1.0), repeat=n)))
    for base in range(ALL_CORNERS, 13):
        found = fraction(n, base, 5)
        if found is not None:
            return found
    raise PlanError(f"no fraction of resolution V for {n} variables", "latin-hypercube or d-optimal take any number")


def box_behnken(space: Space, points: int | None, rng: np.random.Generator, options: BoxBehnkenOptions) -> Sampled:
    """Return the corners of every block, with all else at the middle."""
    n = space.size
    if n < 3:
        raise PlanError(f"a Box-Behnken plan needs three variables, not {n}", "central-composite")
    blocks: list[tuple[int, ...]] = list(itertools.combinations(range(n), 2))
    if n in TRIPLES:
        blocks = [tuple(sorted((place + shift) % n for place in TRIPLES[n])) for shift in range(n)]
    if len(blocks) * 2 ** len(blocks[0]) > MOST_DESIGNS:
        raise PlanError(f"too many designs for {n} variables", "latin-hypercube or d-optimal take any number")
    rows = []
    for block in blocks:
        for signs in itertools.product((-1.0, 1.0), repeat=len(block)):
            row = np.zeros(n)
            row[list(block)] = signs
            rows.append(row)
    levels = np.vstack([*rows, np.zeros((options.centres, n))])
    _check_points("Box-Behnken plan", points, len(levels))
    notes = (f"{len(blocks)} blocks of {len(blocks[0])} variables, {options.centres} centre; no corner of the box",)
    return Sampled(space.at_levels(levels), notes + space.skipped(3))


def _check_points(name: str, points: int | None, count: int) -> None:
    if points is not None and points != count:
        raise PlanError(f"the {name} of so many variables has {count} designs, not {points}", "leave --points out")


CENTRAL = Plan(
    "central-composite",
    "corners, axes and the middle of the box",
    "a surface of second degree, up to about ten variables",
    CentralOptions,
    central_composite,
)
BOX_BEHNKEN = Plan(
    "box-behnken",
    "corners of two or three variables at a time, the others at the middle",
    "a surface of second degree where corners of the box cannot be evaluated",
    BoxBehnkenOptions,
    box_behnken,
)
