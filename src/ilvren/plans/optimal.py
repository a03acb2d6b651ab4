"""D-optimal plans: of many candidates those that tell the coefficients of a polynomial most sharply.

With the terms of the polynomial at the chosen designs as rows of X, log |X'X| is made large: begun with designs taken
one by one, each adding most, then exchanging a chosen design for a candidate while that gains,

    |X'X| after / before = (1 + d(x)) (1 − d(y)) + d(x, y)²,    d(x, y) = x' (X'X)^{-1} y              (1)

for x in and y out. Candidates are the corners, edges and middle of the box where these are few, else designs at their
levels drawn at random; all members of variables that have some. No design is taken twice: what is computed repeats.

Sources: V. Fedorov, "Theory of Optimal Experiments", 1972 (1); R. Cook, C. Nachtsheim, "A comparison of algorithms for
constructing exact D-optimal designs", 1980.
"""

from __future__ import annotations

import itertools

import numpy as np
from numpy.typing import NDArray

from ilvren.plans.base import Plan, PlanError, Sampled, Space, option
from ilvren.records import dataclass

__all__ = ["D_OPTIMAL", "OptimalOptions", "polynomial_terms"]

FloatArray = NDArray[np.float64]

# Candidates at most; rounds of exchanges; starts; a gain below this is none; what makes X'X regular at first.
MOST_CANDIDATES, MOST_ROUNDS, STARTS, LEAST_GAIN, RIDGE = 3000, 60, 3, 1e-6, 1e-8
# Candidates for each design that is taken, at least, where levels can be added.
LEAST_TIMES = 3
TERMS = ("linear", "interactions", "quadratic")


@dataclass(frozen=True)
class OptimalOptions:
    """Options of `d-optimal`."""

    terms: str = option("quadratic", help="the polynomial: linear, interactions (and pairs), quadratic (and squares)")


def polynomial_terms(levels: FloatArray, terms: str) -> FloatArray:
    """Return the terms (k, t) of a polynomial at levels (k, n) between −1 and 1."""
    n = levels.shape[1]
    columns = [np.ones(len(levels)), *levels.T]
    if terms != "linear":
        columns += [levels[:, i] * levels[:, j] for i, j in itertools.combinations(range(n), 2)]
    if terms == "quadratic":
        columns += [levels[:, i] ** 2 for i in range(n)]
    return np.stack(columns, axis=1)


def d_optimal(space: Space, points: int | None, rng: np.random.Generator, options: OptimalOptions) -> Sampled:
    """Return `points` designs, or one and a half times as many as there are terms."""
    return more_optimal(space, np.zeros((0, space.size)), points or 0, rng, options)


def more_optimal(
    space: Space, existing: FloatArray, points: int, rng: np.random.Generator, options: OptimalOptions
) -> Sampled:
    """Return designs that together with those that are there tell the terms most sharply."""
    if options.terms not in TERMS:
        raise PlanError(f'terms "{options.terms}" are none of {", ".join(TERMS)}')
    n, quadratic = space.size, options.terms == "quadratic"
    two = [count == 2 for count in space.counts]
    count = polynomial_terms(np.zeros((1, n)), options.terms).shape[1] - (sum(two) if quadratic else 0)
    points = points or int(np.ceil(1.5 * count))
    candidates = _candidates(space, quadratic, points + len(existing), rng)
    if points + len(existing) < count:
        raise PlanError(
            f"{points + len(existing)} designs cannot tell {count} coefficients", f"--points {count} at least"
        )
    designs = np.unique(space.at_levels(candidates), axis=0)
    if len(existing):
        designs = designs[~(designs[:, None] == existing[None]).all(axis=2).any(axis=1)]
    if len(designs) < points:
        raise PlanError(f"there are only {len(designs)} designs to choose from, not {points}", "fewer --points")
    levels = _levels(space, designs)
    x, there = polynomial_terms(levels, options.terms), polynomial_terms(_levels(space, existing), options.terms)
    best, best_value = None, -np.inf
    for _ in range(STARTS):
        chosen, value = _exchanged(x, there, points, rng)
        if value > best_value:
            best, best_value = chosen, value
    assert best is not None
    sharp = np.exp(best_value / x.shape[1]) / (points + len(existing)) if np.isfinite(best_value) else 0.0
    notes = (
        f"{options.terms}: {count} coefficients; |X'X|^(1/{x.shape[1]}) / {points + len(existing)} = {sharp:.3g}"
        " (1 the most a linear one can have)",
    )
    return Sampled(designs[np.sort(best)], notes)


def _levels(space: Space, designs: FloatArray) -> FloatArray:
    width = np.where(space.upper > space.lower, space.upper - space.lower, 1.0)
    return np.asarray(2.0 * (designs - space.lower) / width - 1.0)


def _candidates(space: Space, quadratic: bool, points: int, rng: np.random.Generator) -> FloatArray:
    """Return levels (k, n) of candidates, several times as many as points where there can be."""
    fine = 3 if quadratic else 2
    while True:
        own = []
        for count in space.counts:
            if count is not None:
                own.append(np.linspace(-1.0, 1.0, count) if count > 1 else np.zeros(1))
            else:
                own.append(np.linspace(-1.0, 1.0, fine))
        total = float(np.prod([float(len(item)) for item in own]))
        if total >= LEAST_TIMES * points or fine > 2 * points or all(count is not None for count in space.counts):
            break
        fine = 2 * fine - 1
    if total <= MOST_CANDIDATES:
        return np.array(list(itertools.product(*own)))
    return np.stack([rng.choice(item, MOST_CANDIDATES + points) for item in own], axis=1)


def _exchanged(
    x: FloatArray, there: FloatArray, points: int, rng: np.random.Generator
) -> tuple[NDArray[np.int64], float]:
    """Return which candidates to take, and log |X'X|."""
    t = x.shape[1]
    fixed = there.T @ there + RIDGE * np.eye(t)
    chosen: list[int] = [int(rng.integers(len(x)))]
    is_taken = np.zeros(len(x), dtype=bool)
    is_taken[chosen[0]] = True
    information = fixed + np.outer(x[chosen[0]], x[chosen[0]])
    inverse = np.asarray(np.linalg.inv(information), dtype=np.float64)
    while len(chosen) < points:
        place = int(np.argmax(np.where(is_taken, -np.inf, _spread(x, inverse))))
        chosen.append(place)
        is_taken[place] = True
        inverse = _updated(inverse, x[place], 1.0)
    for turn in range(MOST_ROUNDS):
        gained = False
        for k in range(points):
            y = x[chosen[k]]
            d = _spread(x, inverse)
            cross = x @ inverse @ y
            own = float(y @ inverse @ y)
            ratio = (1.0 + d) * (1.0 - own) + cross**2  # (1)
            place = int(np.argmax(np.where(is_taken, -np.inf, ratio)))
            if not is_taken[place] and ratio[place] > 1.0 + LEAST_GAIN:
                is_taken[place], is_taken[chosen[k]] = True, False
                inverse = _updated(_updated(inverse, x[place], 1.0), y, -1.0)
                chosen[k], gained = place, True
        information = fixed + x[chosen].T @ x[chosen]
        inverse = np.asarray(np.linalg.inv(information), dtype=np.float64)  # rounding of many updates
        if not gained or turn == MOST_ROUNDS - 1:
            break
    sign, value = np.linalg.slogdet(information)
    return np.array(chosen), float(value) if sign > 0 else -np.inf


def _spread(x: FloatArray, inverse: FloatArray) -> FloatArray:
    """Return d(x) of (1) of many candidates (k,)."""
    return np.asarray(((x @ inverse) * x).sum(axis=1))


def _updated(inverse: FloatArray, x: FloatArray, sign: float) -> FloatArray:
    """Return (M ± x x')^{-1}."""
    along = inverse @ x
    bottom = 1.0 + sign * float(x @ along)
    return np.asarray(inverse - sign * np.outer(along, along) / (bottom if abs(bottom) > 1e-12 else 1e-12))


D_OPTIMAL = Plan(
    "d-optimal",
    "the designs that tell the coefficients of a polynomial most sharply",
    "polynomials with any number of designs, members, or limits",
    OptimalOptions,
    d_optimal,
    more_optimal,
    is_random=True,
)
