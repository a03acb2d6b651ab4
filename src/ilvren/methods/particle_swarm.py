"""A particle swarm with constriction and neighbourhoods that are drawn anew when nothing improves.

Each particle remembers its best design p and knows the best one l among those that inform it:

    v ← χ (v + c r₁ (p − x) + c r₂ (l − x)) ,   x ← x + v ,   χ = 0.7298, c = 2.05                          (1)

Each informs itself and some others, drawn again after a generation without a better design (2). At a bound a particle
stops and turns back half as fast. Spaced and catalogue variables are numbers of members, rounded where they are
evaluated. Limits are met by the ranking with a shrinking level (`pieces.ranking`).

Needs     values.   Handles   bounds, inequalities, equalities (weakly), spaced and catalogue variables.
Cost      one batch of `particles` values a generation; arithmetic and memory N·n.
Stops     when the swarm has come to rest, or nothing better was found in `idle` generations.
Weak      ill-conditioned valleys; equalities.
Source    J. Kennedy, R. Eberhart, "Particle swarm optimization", 1995; (1): M. Clerc, J. Kennedy, "The particle swarm:
          explosion, stability, and convergence in a multidimensional complex space", 2002; (2): M. Clerc, "Beyond
          standard particle swarm optimisation", 2010.
"""

from __future__ import annotations

import numpy as np
from numpy.typing import NDArray

from ilvren.methods.base import Ending, Iterate, Method, Protocol, Request, Task
from ilvren.methods.pieces.coding import Coding, spread
from ilvren.methods.pieces.finish import Finish
from ilvren.methods.pieces.options import option
from ilvren.methods.pieces.population import Population, first_population, rest_of
from ilvren.methods.pieces.ranking import Level, better, judged
from ilvren.records import dataclass

__all__ = ["METHOD", "ParticleSwarmOptions"]

FloatArray = NDArray[np.float64]

CONSTRICTION, ATTRACTION = 0.7298, 2.05
# How many a particle informs beside itself.
INFORMED = 3
# The first speed, as a share of the box.
FIRST_SPEED = 0.25
# The level of the ranking is zero from this generation on.
LEVEL_GENERATIONS = 100.0
# A gain below so many tolerances, relative to the size of f, is none.
GAIN_SHARE = 1.0


@dataclass(frozen=True)
class ParticleSwarmOptions:
    """Options of `particle-swarm`."""

    particles: int = option(
        0, low=0, high=100_000, help="designs in the swarm; 0: 40, with more than 10 variables 4 for each"
    )
    idle: int = option(150, low=5, high=100_000, help="generations without a better design after which the search ends")
    finish: bool = option(True, help="a local search from the best design now and then, and at the end")


def particle_swarm(task: Task, options: ParticleSwarmOptions) -> Protocol:
    """Run the method on `task`; see the head of this file."""
    n = len(task.start)
    coding, rng = Coding.of(task), np.random.default_rng([task.seed, 26])
    count = max(options.particles or max(40, 4 * n), 2)
    own = yield from first_population(task, coding, spread(coding, count, rng))
    if own is None:
        return Ending("invalid", "no design of the first generation has finite values")
    level, rest = Level.of(own.v, LEVEL_GENERATIONS), rest_of(task, own)
    x, now_x = own.codes.copy(), own.x
    velocity = FIRST_SPEED * coding.widths * rng.uniform(-1.0, 1.0, size=x.shape)
    informs = _drawn(count, rng)
    generation, idle, finish = 0, 0, Finish(task, is_on=options.finish)
    best_f, best_v = own.f[own.best], own.v[own.best]
    while True:
        epsilon = level.at(generation)
        best = own.best
        yield Iterate(own.x[best], own.extent, f"generation {generation}", population=now_x)
        away = rest.runaway(own)
        if away is not None:
            return away
        is_over = epsilon == 0.0 and (idle >= options.idle or rest.is_reached(own))
        if finish.is_due((generation + 1) * count) or (is_over and finish.is_due_at_end(own)):
            own = yield from finish.joined(own)
            best_f, best_v = own.f[own.best], own.v[own.best]
            if is_over:
                yield Iterate(own.x[own.best], own.extent, "a local search at the end", population=own.x)
        if is_over and idle < options.idle:
            return rest.ending(own)
        if is_over:
            if best_v > 0.0:
                return Ending("stalled", f"no design meets all limits, and none came nearer in {idle} generations")
            return Ending("settled", f"nothing better in {idle} generations, which is no proof that there is nothing")
        leaders = own.codes[_leaders(own, informs, epsilon)]
        r1, r2 = rng.random(x.shape), rng.random(x.shape)
        velocity = CONSTRICTION * (
            velocity + ATTRACTION * r1 * (own.codes - x) + ATTRACTION * r2 * (leaders - x)
        )  # (1)
        x = x + velocity
        is_out = (x < coding.lower) | (x > coding.upper)
        x, velocity = np.clip(x, coding.lower, coding.upper), np.where(is_out, -0.5 * velocity, velocity)
        now_x = coding.decoded(x)
        reply = yield Request(now_x)
        f, v = judged(task, reply)
        own = own.replaced(better(f, v, own.f, own.v, epsilon), x, now_x, f, v)
        best, generation = own.best, generation + 1
        gain = GAIN_SHARE * task.tolerance * max(abs(best_f), rest.least_size) if np.isfinite(best_f) else 0.0
        found = own.f[best : best + 1], own.v[best : best + 1]
        if better(found[0] + gain, found[1], np.array([best_f]), np.array([best_v]))[0]:
            idle = 0
        else:
            idle += 1
            informs = _drawn(count, rng)  # (2)
        best_f, best_v = own.f[best], own.v[best]


METHOD = Method(
    name="particle-swarm",
    about="particles drawn to their own and their neighbours' best designs: many local optima",
    kind="global",
    needs="values",
    handles=frozenset({"bounds", "inequalities", "equalities", "spaced", "catalogue"}),
    options=ParticleSwarmOptions,
    run=particle_swarm,
    cost="one batch of 40 values a generation",
    weak="ill-conditioned valleys; equalities",
    is_random=True,
    takes_known=True,
)


def _drawn(count: int, rng: np.random.Generator) -> NDArray[np.int64]:
    """Return (count, INFORMED + 1): whom each particle informs, itself first."""
    return np.column_stack([np.arange(count), rng.integers(0, count, size=(count, INFORMED))])


def _leaders(own: Population, informs: NDArray[np.int64], epsilon: float) -> NDArray[np.int64]:
    """Return the place of the best design among those that inform each particle."""
    rank = np.empty(len(own.f), dtype=np.int64)
    order = np.lexsort((own.f, np.where(own.v <= epsilon, 0.0, own.v)))
    rank[order] = np.arange(len(order))
    best = np.full(len(rank), len(rank))
    np.minimum.at(best, informs.ravel(), np.repeat(rank, informs.shape[1]))
    return np.asarray(order[best], dtype=np.int64)
