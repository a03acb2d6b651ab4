"""Latin hypercubes that fill the space: every variable in as many even strata as there are designs, each taken once.

Of all of them one is sought, by exchanges of two designs' strata in one variable, that makes

    φ = ( Σ_{i<j} |x_i − x_j|^{−p} )^{1/p}                                                          (1)

small: then the least distance is large, and few are as small. Worse exchanges are accepted below a threshold that rises
while many are and falls while few are. More designs are added one by one, each the one of many candidates, in strata
that are still empty as far as there are, that is farthest from all others.

Sources: M. McKay, R. Beckman, W. Conover, "A comparison of three methods for selecting values of input variables",
1979; (1): M. Morris, T. Mitchell, "Exploratory designs for computational experiments", 1995; the search: R. Jin,
W. Chen, A. Sudjianto, "An efficient algorithm for constructing optimal design of computer experiments", 2005; more
designs: W. Müller, "Coffee-house designs", 2000.
"""

from __future__ import annotations

import numpy as np
from numpy.typing import NDArray

from ilvren.plans.base import Plan, PlanError, Sampled, Space, option
from ilvren.records import dataclass

__all__ = ["LATIN", "LatinOptions", "farthest", "latin_shares"]

FloatArray = NDArray[np.float64]

# p of (1); exchanges tried in all, in numbers of distances looked at, and at most; the first threshold, its factors.
POWER, WORK, MOST_EXCHANGES = 15, 3_000_000, 8_000
# No squared distance counts as less: two designs at one place would be infinitely near.
LEAST_SQUARED = 1e-300
# So often, on average, each of the exchanges that there are is tried.
EACH_TRIED = 60
FIRST_THRESHOLD, RAISE, LOWER, LEAST_TAKEN, MOST_TAKEN, ROUND = 0.005, 0.8, 0.9, 0.1, 0.8, 100
# After so many exchanges distances are found afresh: each adds its rounding.
AFRESH = 1_000
# More designs than this are left as they fell: they are everywhere.
MOST_SPREAD = 2_000
# Candidates for each further design.
CANDIDATES = 300


@dataclass(frozen=True)
class LatinOptions:
    """Options of `latin-hypercube`."""

    centred: bool = option(False, help="designs in the middle of their strata, not anywhere in them")


def latin_shares(n: int, count: int, rng: np.random.Generator, *, is_centred: bool = False) -> FloatArray:
    """Return shares of the box (count, n) of a Latin hypercube with (1) made small."""
    strata = np.stack([rng.permutation(count) for _ in range(n)], axis=1).astype(float)
    x = (strata + (0.5 if is_centred else rng.random((count, n)))) / count
    if count < 3 or n < 2 or count > MOST_SPREAD:
        return x
    exchanges = int(min(MOST_EXCHANGES, WORK / (2 * count), EACH_TRIED * n * count * (count - 1) / 2))
    squared, terms, sums = _all_terms(x)
    total = float(sums.sum()) / 2.0
    best, best_total = x.copy(), total
    threshold = FIRST_THRESHOLD * total ** (1.0 / POWER)
    taken = 0
    firsts = rng.integers(count, size=exchanges)
    seconds = (firsts + rng.integers(1, count, size=exchanges)) % count
    luck = rng.random(exchanges).tolist()
    rows, add = np.empty((2, count)), np.add.reduce
    for turn, i, j in zip(range(1, exchanges + 1), firsts.tolist(), seconds.tolist(), strict=True):
        column = x[:, turn % n]
        one, other = column.item(i), column.item(j)
        # (x_j − x_k)² − (x_i − x_k)² of the column that is exchanged; the distance from i to j stays as it is.
        change = (other - one) * (one + other - 2.0 * column)
        np.add(squared[i], change, out=rows[0])
        np.subtract(squared[j], change, out=rows[1])
        rows[0, j] = rows[1, i] = squared[i, j]
        new = _terms(np.maximum(rows, LEAST_SQUARED, out=rows))
        change_of_total = (add(new[0]) + add(new[1]) - sums.item(i) - sums.item(j)).item()
        if max(total + change_of_total, 0.0) ** (1.0 / POWER) - total ** (1.0 / POWER) <= threshold * luck[turn - 1]:
            column[i], column[j] = other, one
            sums += new[0] + new[1] - terms[i] - terms[j]
            for place, row, own in ((i, rows[0], new[0]), (j, rows[1], new[1])):
                squared[place], terms[place] = row, own
                squared[:, place], terms[:, place] = row, own
                sums[place] = add(own)
            total = max(total + change_of_total, 1e-300)
            taken += 1
            if total < best_total:
                best, best_total = x.copy(), total
        if turn % ROUND == 0:
            if turn % AFRESH == 0:
                squared, terms, sums = _all_terms(x)
            total = float(sums.sum()) / 2.0
            share, taken = taken / ROUND, 0
            threshold *= LOWER if share > MOST_TAKEN else RAISE if share > LEAST_TAKEN else 1.0 / LOWER
    return best


def _all_terms(x: FloatArray) -> tuple[FloatArray, FloatArray, FloatArray]:
    """Return the squared distances of all pairs (count, count), their terms of (1), and the sums of its rows."""
    squared = _squared(x, x)
    np.fill_diagonal(squared, np.inf)
    terms = _terms(squared)
    return squared, terms, terms.sum(axis=1)


def _terms(squared: FloatArray) -> FloatArray:
    """Return the terms of (1) from squared distances."""
    return np.asarray(squared ** (-0.5 * POWER))


def _squared(a: FloatArray, b: FloatArray) -> FloatArray:
    """Return the squared distances of all pairs (len(a), len(b))."""
    return np.asarray(((a[:, None] - b[None]) ** 2).sum(axis=2))


def farthest(candidates: FloatArray, existing: FloatArray, count: int) -> NDArray[np.int64]:
    """Return which `count` of some candidates (m, n) to take, one by one, each the farthest from those that are there
    (k, n) and those taken before."""
    distance = np.full(len(candidates), np.inf)
    for point in existing:
        distance = np.minimum(distance, ((candidates - point) ** 2).sum(axis=1))
    if not len(existing):
        distance = -((candidates - 0.5) ** 2).sum(axis=1)  # begin near the middle
    chosen: list[int] = []
    for _ in range(min(count, len(candidates))):
        place = int(np.argmax(distance))
        chosen.append(place)
        own = ((candidates - candidates[place]) ** 2).sum(axis=1)
        distance = own if len(chosen) == 1 and not len(existing) else np.minimum(distance, own)
        distance[chosen] = -np.inf
    return np.array(chosen, dtype=np.int64)


def latin_hypercube(space: Space, points: int | None, rng: np.random.Generator, options: LatinOptions) -> Sampled:
    """Return a Latin hypercube of `points` designs."""
    if points is None:
        points = 10 * space.size
    if points < 1:
        raise PlanError(f"a plan has at least one design, not {points}")
    shares = latin_shares(space.size, points, rng, is_centred=options.centred)
    return Sampled(space.designs(shares), _strata_told(space, points))


def more_of_it(
    space: Space, existing: FloatArray, points: int, rng: np.random.Generator, options: LatinOptions
) -> Sampled:
    """Return further designs: in strata of all of them together that are empty, far from all others."""
    there = space.shares(existing)
    total = len(existing) + points
    empty = []
    for place in range(space.size):
        full = set(np.minimum((there[:, place] * total).astype(int), total - 1).tolist())
        empty.append(rng.permutation([stratum for stratum in range(total) if stratum not in full]))
    found: list[FloatArray] = []
    for turn in range(points):
        candidates = np.empty((CANDIDATES, space.size))
        for place, own in enumerate(empty):
            left = own[own >= 0]
            strata = rng.choice(left, CANDIDATES) if len(left) else rng.integers(0, total, CANDIDATES)
            candidates[:, place] = (strata + rng.random(CANDIDATES)) / total
        taken = candidates[farthest(candidates, np.vstack([there, *found]) if turn or len(there) else there, 1)[0]]
        for place, own in enumerate(empty):
            own[own == int(taken[place] * total)] = -1
        found.append(taken[None])
    return Sampled(space.designs(np.vstack(found)), ())


def _strata_told(space: Space, points: int) -> tuple[str, ...]:
    short = [
        name for name, count in zip(space.names, space.counts, strict=True) if count is not None and count < points
    ]
    if not short:
        return ()
    return (f"members are taken about equally often: {', '.join(short[:6])}",)


LATIN = Plan(
    "latin-hypercube",
    "every variable in as many strata as there are designs, spread to fill the space",
    "approximations, and whenever nothing else is known: any number of designs",
    LatinOptions,
    latin_hypercube,
    more_of_it,
    is_random=True,
)
