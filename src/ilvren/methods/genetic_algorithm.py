"""A genetic algorithm with real and whole-number coding.

Parents are chosen by tournaments of `tournament` designs. Two parents p, q have two children,

    c = ½ (p + q) ∓ ½ β |p − q| ,   β = (2r)^(1/(η+1)) for r <= ½, else (1/(2(1 − r)))^(1/(η+1))            (1)

variable by variable, every other one being taken from a parent as it is; members of spaced and catalogue variables
are crossed whole. Then each variable is changed with probability `mutation`: continuous ones by

    δ (u − l) ,   δ = (2r)^(1/(η_m+1)) − 1 for r <= ½, else 1 − (2(1 − r))^(1/(η_m+1))                      (2)

members to a neighbour, or to any, in equal parts. The best `elites` live on; children take the other places. η_m grows
with the generations without gain, so that changes become smaller (3).

Needs     values.   Handles   bounds, inequalities, equalities (weakly), spaced and catalogue variables.
Cost      one batch a generation; arithmetic and memory N·n.
Stops     when nothing better was found in `idle` generations.
Weak      exact optima of continuous variables: polish them with a method that descends.
Source    J. Holland, "Adaptation in natural and artificial systems", 1975; D. Goldberg, "Genetic algorithms", 1989;
          (1): K. Deb, R. Agrawal, "Simulated binary crossover for continuous search space", 1995; (2): K. Deb,
          M. Goyal, "A combined genetic adaptive search for engineering design", 1996; limits: K. Deb, 2000.
Departs   by (3).
"""

from __future__ import annotations

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
from ilvren.methods.pieces.variation import crossed, mutated
from ilvren.records import dataclass

__all__ = ["METHOD", "GeneticAlgorithmOptions"]

FloatArray = NDArray[np.float64]

# N where it is not given: per variable, at least, at most.
PER_VARIABLE, LEAST_POPULATION, MOST_POPULATION = 10, 60, 300
# η of (1); η_m of (2) at first and at most, and its growth for every generation without gain.
CROSSOVER_INDEX, FIRST_INDEX, MOST_INDEX, INDEX_GROWTH = 15.0, 20.0, 1e6, 1.15
# The level of the ranking is zero from this generation on.
LEVEL_GENERATIONS = 60.0
# A gain below so many tolerances, relative to the size of f, is none.
GAIN_SHARE = 10.0
# A population that is not at rest after so many designs will not come to rest.
MOST_DESIGNS, MOST_DESIGNS_PER_VARIABLE = 30_000, 10_000


@dataclass(frozen=True)
class GeneticAlgorithmOptions:
    """Options of `genetic-algorithm`."""

    population: int = option(
        0, low=0, high=100_000, help="designs in each generation; 0: 10 for each variable, 60 to 300"
    )
    first_generation: int = option(
        0, low=0, high=1_000_000, help="designs in the first generation; 0: as many as later"
    )
    tournament: int = option(2, low=2, high=50, help="designs of which the best becomes a parent")
    crossover: float = option(0.9, low=0.0, high=1.0, help="share of the pairs that are crossed")
    mutation: float = option(0.0, low=0.0, high=1.0, help="chance of each variable to be changed; 0: one in a design")
    elites: int = option(2, low=1, high=1000, help="best designs that live on unchanged")
    idle: int = option(80, low=5, high=100_000, help="generations without a better design after which the search ends")
    finish: bool = option(True, help="a local search from the best design now and then, and at the end")


def genetic_algorithm(task: Task, options: GeneticAlgorithmOptions) -> Protocol:
    """Run the method on `task`; see the head of this file."""
    n = len(task.start)
    coding, rng = Coding.of(task), np.random.default_rng([task.seed, 25])
    count = options.population or min(max(PER_VARIABLE * n, LEAST_POPULATION), MOST_POPULATION)
    count = max(count, options.elites + 2)
    now = yield from first_population(task, coding, spread(coding, max(options.first_generation, count), rng))
    if now is None:
        return Ending("invalid", "no design of the first generation has finite values")
    level, rest = Level.of(now.v, LEVEL_GENERATIONS), rest_of(task, now)
    chance = options.mutation or 1.0 / n
    generation, idle, index, finish = 0, 0, FIRST_INDEX, Finish(task, is_on=options.finish)
    best_f, best_v = now.f[now.best], now.v[now.best]
    while True:
        epsilon = level.at(generation)
        now = now.sorted(epsilon)
        yield Iterate(now.x[now.best], now.extent, f"generation {generation}", population=now.x)
        away = rest.runaway(now)
        if away is not None:
            return away
        is_over = epsilon == 0.0 and (idle >= options.idle or rest.is_reached(now))
        if finish.is_due((generation + 1) * count) or (is_over and finish.is_due_at_end(now)):
            now = yield from finish.joined(now)
            best_f, best_v = now.f[now.best], now.v[now.best]
            if is_over:
                yield Iterate(now.x[now.best], now.extent, "a local search at the end", population=now.x)
        if is_over:
            if best_v > 0.0:
                return Ending("stalled", f"no design meets all limits, and none came nearer in {idle} generations")
            return Ending("settled", f"nothing better in {idle} generations, which is no proof that there is nothing")
        if (generation + 1) * count > MOST_DESIGNS + MOST_DESIGNS_PER_VARIABLE * n:
            return Ending("stalled", f"{generation} generations have not brought the population to rest")
        children = yield from _children(task, coding, now, count, chance, index, epsilon, options, rng)
        now = now.taken(order(now.f, now.v, epsilon)[: options.elites]).joined(children)
        place, generation = now.best, generation + 1
        gain = GAIN_SHARE * task.tolerance * max(abs(best_f), rest.least_size) if np.isfinite(best_f) else 0.0
        if better(now.f[place : place + 1] + gain, now.v[place : place + 1], np.array([best_f]), np.array([best_v]))[0]:
            idle = 0
            index = max(index / INDEX_GROWTH**2, FIRST_INDEX)
        else:
            idle, index = idle + 1, min(index * INDEX_GROWTH, MOST_INDEX)  # (3)
        if better(now.f[place : place + 1], now.v[place : place + 1], np.array([best_f]), np.array([best_v]))[0]:
            best_f, best_v = now.f[place], now.v[place]


METHOD = Method(
    name="genetic-algorithm",
    about="tournaments, crossover and mutation: catalogues, whole numbers, many local optima",
    kind="global",
    needs="values",
    handles=frozenset({"bounds", "inequalities", "equalities", "spaced", "catalogue"}),
    options=GeneticAlgorithmOptions,
    run=genetic_algorithm,
    cost="one batch of 10 values for each variable a generation",
    weak="exact optima of continuous variables; equalities",
    is_random=True,
    takes_known=True,
)


def _children(
    task: Task,
    coding: Coding,
    now: Population,
    count: int,
    chance: float,
    index: float,
    epsilon: float,
    options: GeneticAlgorithmOptions,
    rng: np.random.Generator,
) -> Generator[Request, Any, Population]:
    """Make and evaluate the children of one generation; `now` is sorted, best first."""
    pairs = (count - options.elites + 1) // 2
    # Sorted by worth, the best of a tournament is the first.
    parents = rng.integers(0, len(now.f), size=(2 * pairs, options.tournament)).min(axis=1)
    p, q = now.codes[parents[:pairs]], now.codes[parents[pairs:]]
    codes = np.vstack(crossed(coding, p, q, options.crossover, CROSSOVER_INDEX, rng))[: count - options.elites]
    codes = coding.rounded(mutated(coding, codes, chance, index, rng))
    points = coding.decoded(codes)
    reply = yield Request(points)
    f, v = judged(task, reply)
    return Population(codes, points, f, v)
