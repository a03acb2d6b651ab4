"""Differential evolution that learns its own parameters and narrows its population.

Each generation every design x_i makes one trial from others of the population, r and s drawn apart, s also from an
archive of designs that were replaced; best_p is one of the best share p:

    v = x_i + F (best_p − x_i) + F (x_r − x_s)                                                       (1)
    u_j = v_j with probability C, and for one j at least, else x_ij                                  (2)
    x_i ← u where u is not worse                                                                     (3)

F and C are drawn for each trial, F from a Cauchy and C from a normal distribution around one of H remembered means;
the means are renewed by what has succeeded, weighted by the gain, F by the Lehmer mean Σ w F² / Σ w F        (4)
The population falls linearly with the evaluations t, from N to LEAST_POPULATION at the horizon T:

    N_t = N + (LEAST_POPULATION − N) t / T                                                           (5)

A trial beyond a bound goes halfway between it and its parent. Spaced and catalogue variables are numbers of members,
rounded where they are evaluated. Limits are met by the ranking with a shrinking level (`pieces.ranking`).

Needs     values.   Handles   bounds, inequalities, equalities (weakly), spaced and catalogue variables.
Cost      one batch of N_t values a generation; arithmetic and memory N·n.
Stops     when the population has come to rest: the spread of f and of the designs below the accuracy asked for.
Weak      many variables (beyond about fifty); equalities among nonlinear rows: many evaluations.
Source    R. Storn, K. Price, Journal of Global Optimization 11, 1997, pages 341–359; J. Zhang, A. Sanderson, IEEE
          Transactions on Evolutionary Computation 13, 2009, pages 945–958; R. Tanabe, A. Fukunaga, IEEE Congress on
          Evolutionary Computation, 2014, pages 1658–1665;
          whole numbers: J. Lampinen, I. Zelinka, "Mixed integer-discrete-continuous optimization", 1999.
Departs   by stopping at rest, and by a horizon of its own instead of the limit of the run.
"""

from __future__ import annotations

import math
from collections.abc import Generator
from typing import Any

import numpy as np
from numpy.typing import NDArray

from ilvren.methods.base import Ending, Iterate, Method, Protocol, Request, Task
from ilvren.methods.pieces.coding import Coding, spread
from ilvren.methods.pieces.finish import Finish
from ilvren.methods.pieces.options import option
from ilvren.methods.pieces.population import Population, first_population, rest_of
from ilvren.methods.pieces.ranking import Level, better, judged, order
from ilvren.records import dataclass

__all__ = ["METHOD", "DifferentialEvolutionOptions"]

FloatArray = NDArray[np.float64]

# N for a population that is not given: per variable, at least, at most. T likewise.
PER_VARIABLE, LEAST_FIRST, MOST_FIRST = 18, 100, 400
HORIZON_PER_VARIABLE, LEAST_HORIZON = 3500, 18_000
LEAST_POPULATION = 4
# Members make a landscape of terraces, each with its own optimum: both are so much larger there.
MEMBER_FACTOR = 2.5
# (1), (4): the best share, the archive's size over the population's, H, the spread of F and C around their means.
BEST_SHARE, ARCHIVE_SHARE, MEMORY, PARAMETER_SPREAD = 0.11, 2.0, 6, 0.1
# The level of the ranking is zero from this share of the horizon on.
LEVEL_SHARE = 0.4
# A population that is not at rest after so many horizons will not come to rest.
MOST_HORIZONS = 2.0


@dataclass(frozen=True)
class DifferentialEvolutionOptions:
    """Options of `differential-evolution`."""

    population: int = option(
        0,
        low=0,
        high=100_000,
        help="designs in the first generation; 0: 18 for each variable (45 with whole numbers), 100 to 400",
    )
    horizon: int = option(
        0,
        low=0,
        high=100_000_000,
        help="evaluations over which the population narrows; 0: 3500 for each variable (8750), at least 18000",
    )
    finish: bool = option(True, help="a local search from the best design now and then, and at the end")


@dataclass
class _Memory:
    """The remembered means of F and C of (4), (MEMORY,) each, and which is renewed next."""

    f: FloatArray
    c: FloatArray
    place: int = 0

    def drawn(self, count: int, rng: np.random.Generator) -> tuple[FloatArray, FloatArray]:
        """Return F and C (count,) for one generation."""
        slots = rng.integers(0, MEMORY, count)
        c = np.clip(self.c[slots] + PARAMETER_SPREAD * rng.standard_normal(count), 0.0, 1.0)
        means = self.f[slots]
        f = means + PARAMETER_SPREAD * rng.standard_cauchy(count)
        while not (f > 0.0).all():
            low = np.flatnonzero(~(f > 0.0))
            f[low] = means[low] + PARAMETER_SPREAD * rng.standard_cauchy(len(low))
        return np.minimum(f, 1.0), c

    def renew(self, f: FloatArray, c: FloatArray, gains: FloatArray) -> None:
        """Take what succeeded into the means, (4)."""
        total = float(gains.sum())
        weights = gains / total if math.isfinite(total) and total > 0.0 else np.full(len(f), 1.0 / len(f))
        self.f[self.place] = float(weights @ f**2) / float(weights @ f)
        largest = float(c.max())
        self.c[self.place] = float(weights @ c**2) / float(weights @ c) if largest > 0.0 else 0.0
        self.place = (self.place + 1) % MEMORY


def differential_evolution(task: Task, options: DifferentialEvolutionOptions) -> Protocol:
    """Run the method on `task`; see the head of this file."""
    n = len(task.start)
    coding, rng = Coding.of(task), np.random.default_rng([task.seed, 21])
    factor = MEMBER_FACTOR if task.is_discrete.any() else 1.0
    first = options.population or min(max(int(factor * PER_VARIABLE * n), LEAST_FIRST), MOST_FIRST)
    first = max(first, LEAST_POPULATION)
    horizon = options.horizon or max(int(factor * HORIZON_PER_VARIABLE) * n, LEAST_HORIZON)
    now = yield from first_population(task, coding, spread(coding, first, rng))
    if now is None:
        return Ending("invalid", "no design of the first generation has finite values")
    level, rest = Level.of(now.v, LEVEL_SHARE * horizon), rest_of(task, now)
    memory, archive = _Memory(np.full(MEMORY, 0.5), np.full(MEMORY, 0.5)), np.zeros((0, n))
    made, generation, finish = first, 0, Finish(task, is_on=options.finish)
    while True:
        epsilon = level.at(made)
        now = now.sorted(epsilon)
        yield Iterate(now.x[now.best], now.extent, f"generation {generation}", population=now.x)
        away = rest.runaway(now)
        if away is not None:
            return away
        if finish.is_due(made):
            now = yield from finish.joined(now)
        if epsilon == 0.0 and rest.is_reached(now):
            if finish.is_due_at_end(now):
                now = yield from finish.joined(now)
                yield Iterate(now.x[now.best], now.extent, "a local search at the end", population=now.x)
            return rest.ending(now)
        if made > MOST_HORIZONS * horizon:
            return Ending("stalled", "the population has not come to rest; a longer `horizon` gives it more time")
        now, archive = yield from _next(task, coding, now, archive, memory, epsilon, rng)
        made, generation = made + len(now.f), generation + 1
        wanted = max(round(first + (LEAST_POPULATION - first) * made / horizon), LEAST_POPULATION)  # (5)
        if wanted < len(now.f):
            now = now.taken(order(now.f, now.v, epsilon)[:wanted])
            archive = archive[: int(ARCHIVE_SHARE * wanted)]


METHOD = Method(
    name="differential-evolution",
    about="a population that moves by its own differences and narrows: many local optima, rough values",
    kind="global",
    needs="values",
    handles=frozenset({"bounds", "inequalities", "equalities", "spaced", "catalogue"}),
    options=DifferentialEvolutionOptions,
    run=differential_evolution,
    cost="one batch a generation, 18 values for each variable at first, fewer and fewer",
    weak="many variables; nonlinear equalities",
    is_random=True,
    takes_known=True,
)


def _next(
    task: Task,
    coding: Coding,
    now: Population,
    archive: FloatArray,
    memory: _Memory,
    epsilon: float,
    rng: np.random.Generator,
) -> Generator[Request, Any, tuple[Population, FloatArray]]:
    """Make and judge one generation of trials; return the population after it, and the archive."""
    f, c = memory.drawn(len(now.f), rng)
    trials = _trials(coding, now.codes, archive, f, c, rng)
    points = coding.decoded(trials)
    reply = yield Request(points)
    trial_f, trial_v = judged(task, reply)
    is_gain = better(trial_f, trial_v, now.f, now.v, epsilon)
    is_kept = is_gain | ((trial_f == now.f) & (trial_v == now.v))  # (3): moving along a plateau is progress
    if is_gain.any():
        by_objective = np.maximum(trial_v, now.v) <= epsilon
        with np.errstate(invalid="ignore"):
            gains = np.where(by_objective, now.f - trial_f, now.v - trial_v)[is_gain]
        memory.renew(f[is_gain], c[is_gain], np.where(np.isfinite(gains), gains, 0.0))
        archive = _archived(archive, now.codes[is_gain], int(ARCHIVE_SHARE * len(now.f)), rng)
    return now.replaced(is_kept, trials, points, trial_f, trial_v), archive


def _archived(archive: FloatArray, fresh: FloatArray, most: int, rng: np.random.Generator) -> FloatArray:
    """Return the archive with fresh codes: behind the last while there is room, then in place of any."""
    room = max(most - len(archive), 0)
    if room:
        archive = np.concatenate([archive, fresh[:room]])
    rest = fresh[room:]
    if len(rest) and len(archive):
        archive[rng.integers(0, len(archive), size=len(rest))] = rest
    return archive


def _trials(
    coding: Coding, codes: FloatArray, archive: FloatArray, f: FloatArray, c: FloatArray, rng: np.random.Generator
) -> FloatArray:
    """Return the trials (N, n) of (1) and (2); `codes` (N, n) are sorted, best first."""
    count, n = codes.shape
    own: Any = np.arange(count)
    pool = np.concatenate([codes, archive])
    draws = rng.random((4, count))
    best = (draws[0] * max(2, round(BEST_SHARE * count))).astype(np.int64)
    r = (draws[1] * (count - 1)).astype(np.int64)
    r = r + (r >= own)  # any but itself
    s: Any = (draws[2] * (len(pool) - 2)).astype(np.int64)
    s = s + (s >= np.minimum(own, r))
    s = s + (s >= np.maximum(own, r))  # any but these two
    mutants = codes[best] - codes
    mutants += codes[r]
    mutants -= pool[s]
    mutants *= f[:, np.newaxis]
    mutants += codes  # (1)
    for bound, is_out in ((coding.lower, mutants < coding.lower), (coding.upper, mutants > coding.upper)):
        if is_out.any():
            mutants = np.where(is_out, 0.5 * (bound + codes), mutants)
    crossed = rng.random((count, n)) < c[:, np.newaxis]
    crossed[own, (draws[3] * n).astype(np.int64)] = True
    return np.where(crossed, mutants, codes)  # (2)
