"""A trust region on surfaces through all near designs: models that take long, with any limits, from where one stands.

Surfaces of f and of every row are fitted to all designs near the best one, x (`pieces.near_surfaces`). Each iteration

    minimizes the surface of f within the limits on those of the rows, the bounds and |x⁺ − x| <= Δ         (1)
    compares what came of it with what was promised, in the merit   φ = f + Σ μ_i · miss_i                  (2)
    moves x to the design where φ is least; Δ grows where the promise was kept, shrinks where it was not    (3)

Surfaces tell slopes only where designs lie in all directions from x. Before Δ falls below the resolution ρ, a direction
without a design within FAR · Δ gets one (4); then ρ is divided by four (5). Several designs at a time (`batch`): the
others are those farthest from all known ones among the better half of random designs of the region (6).

Needs     values.   Handles   bounds, inequalities, equalities; known designs.
Cost      n + 1 values at first, in one batch; then 1 an iteration, or `batch`; arithmetic k³ for k near designs.
Stops     when ρ has reached the accuracy asked for.
Weak      other valleys: the nearest one is found; kinks and jumps; cheap models: others are quicker.
Source    N. Alexandrov, J. Dennis, R. Lewis, V. Torczon, "A trust-region framework for managing the use of
          approximation models in optimization", 1998; S. M. Wild, R. Regis, C. Shoemaker, "ORBIT: optimization by
          radial basis function interpolation in trust-regions", 2008; S. M. Wild, C. Shoemaker, "Global convergence of
          radial basis function trust-region algorithms for derivative-free optimization", 2013; (2): see
          `pieces.merit`.
Departs   by the surfaces that are taken, chosen by designs left out; by the merit for rows; the region is a box.
"""

from __future__ import annotations

import math
from collections.abc import Generator
from typing import Any

import numpy as np
from numpy.typing import NDArray

from ilvren.methods.base import Ending, Foretold, Iterate, Method, Protocol, Reply, Request, Task
from ilvren.methods.pieces.beliefs import Designs
from ilvren.methods.pieces.merit import MULTIPLIER_FACTOR, least_weights, merits, promised
from ilvren.methods.pieces.near_surfaces import NearSurfaces, Surfaces
from ilvren.methods.pieces.options import option
from ilvren.methods.pieces.quadratics import minimizer_of
from ilvren.records import dataclass

__all__ = ["METHOD", "SurfaceTrustRegionOptions"]

FloatArray = NDArray[np.float64]

# (3): shares of the promise that count as kept and as broken, and what Δ is multiplied by.
KEPT, BROKEN, GROWTH, SHRINK = 0.7, 0.1, 2.0, 0.5
# (5): ρ is divided by this; a step shorter than this share of ρ is short.
REFINEMENT, SHORT = 4.0, 0.3
# (4): designs so many radii, or resolutions, away still tell of a direction, whose share of them must be at least this.
FAR, FAR_RESOLUTIONS, LEAST_SHARE = 2.5, 5.0, 0.15
# Other starts of (1), within the region; a start is better by more than rounding.
OTHER_STARTS, ROUNDING = 2, 1e-12
# Random designs of (6), for each variable.
TRIED = 60
# A radius beyond which a falling objective has no end.
MOST_RADIUS = 1e9
# Where the search narrows at a design that misses a limit, μ grows by this, so many times.
STIFFENING, MOST_STIFFENED = 10.0, 8
# Weights so much larger than the multipliers ask for are lowered, to this share of them at least, so many times.
MUCH, SOFTENING, MOST_SOFTENED = 10.0, 1e-3, 40
# At the last resolution short steps are taken, too, that promise to leave no more than this share of a miss: so many.
RESTORING, MOST_RESTORED = 0.5, 12
# Tries to find finite values around the start, each halfway nearer.
MOST_TRIES = 6
# Steps in a row without values, each half as long, before the search ends.
MOST_FAILED = 30
# Steps after which a search that is not at rest ends: so many, and so many for each variable.
MOST_STEPS, MOST_STEPS_PER_VARIABLE = 500, 100


@dataclass(frozen=True)
class SurfaceTrustRegionOptions:
    """Options of `surface-trust-region`."""

    first_radius: float = option(
        0.2, low=1e-8, high=10.0, help="first distance between designs, as a share of each variable's size"
    )
    last_radius: float = option(
        1e-5, low=1e-12, high=0.1, help="distance between designs at which the search ends, as a share of the size"
    )
    batch: int = option(1, low=1, high=64, help="designs proposed at a time, for as many workers")


@dataclass
class _Search:
    """Where a search stands: the designs so far, the place of the best one, μ (m,), Δ and ρ, both times `size` (n,);
    the first `hints` designs are known from elsewhere, and never the best: only what was asked for counts."""

    task: Task
    size: FloatArray
    designs: Designs
    delta: float
    rho: float
    mu: FloatArray
    multipliers: FloatArray
    best: int = 0
    hints: int = 0

    @property
    def x(self) -> FloatArray:
        """Return the best design (n,)."""
        return np.asarray(self.designs.codes[self.best])

    @property
    def misses(self) -> bool:
        """Return whether the best design misses a limit by more than is allowed."""
        return self.task.violation(self.designs.rows[self.best]) > self.task.feasibility

    def choose(self, since: int) -> None:
        """Find the best of the designs with values, by (2): of those that miss the limits no more than the best one so
        far, or than one evaluated `since` that is better. With other weights a design far out could seem the best."""
        worths = np.where(self.designs.valid, self._worths(), np.inf)
        worths[: self.hints] = np.inf
        misses = self.task.violations(self.designs.rows)
        most = max(float(misses[self.best]), self.task.feasibility)
        latest = since + int(np.argmin(worths[since:])) if since < len(worths) else self.best
        if worths[latest] < worths[self.best]:
            most = max(most, float(misses[latest]))
        self.best = int(np.argmin(np.where(misses <= most, worths, np.inf)))

    def worth(self, place: int) -> float:
        """Return φ of a design."""
        return float(self._worths()[place])

    def _worths(self) -> FloatArray:
        worths = merits(self.task, self.designs.f, self.designs.rows, self.mu)
        return np.where(np.isfinite(worths), worths, np.inf)

    def weigh(self, said: FloatArray, *, may_soften: bool) -> tuple[bool, float]:
        """Make μ as large as the multipliers, and a promise of what is `said` (1 + m,) of a step, ask for; where it is
        much larger, from designs long left behind, less. Return whether it is, and the fall of φ that is promised."""
        f, rows = float(self.designs.f[self.best]), self.designs.rows[self.best]
        least, _ = promised(self.task, f, rows, said, MULTIPLIER_FACTOR * np.abs(self.multipliers))
        most = MUCH * float((least * self.task.row_sizes).max(initial=0.0))
        is_much = self.mu * self.task.row_sizes > max(most, 1e-12)
        is_softened = bool(is_much.any()) and may_soften
        if is_softened:
            self.mu = np.where(is_much, np.maximum(least, SOFTENING * self.mu), self.mu)
        self.mu, hoped = promised(self.task, f, rows, said, np.maximum(self.mu, least))
        return is_softened, hoped

    def may_restore(self, trial: FloatArray, said: FloatArray) -> bool:
        """Return whether a step, however short, is said to lessen what the best design misses by much."""
        missed = self.task.violation(self.designs.rows[self.best])
        is_less = self.task.violation(said[1:]) < RESTORING * missed
        return self.misses and is_less and bool((trial != self.x).any())

    def take(self, points: FloatArray, reply: Reply) -> None:
        """Take in designs that were evaluated."""
        self.designs = self.designs.added(points, reply.objective, reply.rows)

    def region(self, radius: float) -> tuple[FloatArray, FloatArray]:
        """Return the box around the best design."""
        reach = radius * self.size
        return np.maximum(self.task.lower, self.x - reach), np.minimum(self.task.upper, self.x + reach)


def surface_trust_region(task: Task, options: SurfaceTrustRegionOptions) -> Protocol:
    """Run the method on `task`; see the head of this file."""
    n = len(task.start)
    search = yield from _begun(task, options)
    if search is None:
        return Ending("invalid", "no finite values were found around the start")
    rng, surfaces = np.random.default_rng([task.seed, 67]), Surfaces(task)
    last, note, step = min(options.last_radius, search.rho), "the best of the first designs", math.nan
    stiffened, softened, restored, failed, barren = 0, 0, 0, 0, 0
    yield Iterate(search.x.copy(), step, note)
    for _ in range(MOST_STEPS + MOST_STEPS_PER_VARIABLE * n):
        missing = _missing_direction(search, search.delta, rng)
        models = _models(search, surfaces)
        if models is None or (missing is not None and search.delta > search.rho and failed):
            if missing is None or barren > n:
                return Ending("stalled", "the designs do not tell a surface any more")
            barren = 0 if (yield from _spread(search, missing)) else barren + 1
            yield Iterate(search.x.copy(), math.nan, "a design in a direction that had none")
            continue
        trial, search.multipliers = _least(search, models, rng)  # (1)
        step = float((np.abs(trial - search.x) / search.size).max())
        said = models.values(trial[np.newaxis])[0]
        is_restoring = search.rho <= last and restored < MOST_RESTORED and search.may_restore(trial, said)
        restored += is_restoring
        if step >= SHORT * search.rho or is_restoring:
            before, place = search.best, len(search.designs.f)
            is_softened, hoped = search.weigh(said, may_soften=softened < MOST_SOFTENED)
            softened += is_softened
            points = np.vstack([trial, _others(search, models, trial, options.batch - 1, rng)])
            reply: Reply = yield Request(points)
            search.take(points, reply)
            gain = search.worth(before) - search.worth(place)
            kept = gain / hoped if hoped > 0.0 and math.isfinite(gain) else -1.0
            told = Foretold(float(said[0]), float(models.said[0]), float(reply.objective[0]), models.told)
            note = f"radius {search.delta:.1e}"
            failed = failed + 1 if not search.designs.valid[place] else 0
            search.choose(place)
            if kept >= KEPT:
                search.delta = max(search.delta, GROWTH * step)  # (3)
            elif not kept >= BROKEN:
                search.delta = max(SHRINK * min(search.delta, step), search.rho)
            yield Iterate(search.x.copy(), step, note, kept if hoped > 0.0 else math.nan, foretold=told)
            if search.delta > MOST_RADIUS:
                return Ending("unbounded", "the objective falls without end at feasible designs")
            if failed >= MOST_FAILED:
                return Ending("stalled", f"{failed} steps in a row had no values")
            if kept >= BROKEN:
                continue
        elif search.delta > search.rho:
            search.delta = max(SHRINK * search.delta, search.rho)
        missing = _missing_direction(search, search.delta, rng)
        if missing is not None and barren <= n:  # where nothing has values in a direction, none can be had
            barren = 0 if (yield from _spread(search, missing)) else barren + 1  # (4)
            yield Iterate(search.x.copy(), math.nan, "a design in a direction that had none")
            continue
        if search.delta > search.rho:
            continue
        if search.misses and stiffened < MOST_STIFFENED:
            stiffened += 1  # f still outweighs a miss
            search.mu = STIFFENING * np.maximum(search.mu, least_weights(task, search.designs.f[search.designs.valid]))
            before = search.best
            search.choose(len(search.designs.f))
            if search.best != before or search.rho <= last:
                search.rho = max(min(REFINEMENT * search.rho, options.first_radius), last)
                search.delta = max(search.delta, search.rho)
                continue
        if search.rho <= last:
            break
        search.rho = max(search.rho / REFINEMENT, last)  # (5)
        search.delta = max(SHRINK * search.delta, search.rho)
    else:
        return Ending("stalled", "so many steps have not brought the search to rest")
    if search.misses:
        return Ending("stalled", "the search has narrowed to its last radius at a design that misses a limit")
    return Ending("settled", "the surfaces promise nothing more at the last radius")


def _begun(task: Task, options: SurfaceTrustRegionOptions) -> Generator[Request, Any, _Search | None]:
    """Evaluate the start, the best of what is known, and a neighbour of it in every variable; one that is not finite
    is tried nearer."""
    n, m = len(task.start), len(task.row_lower)
    width = task.upper - task.lower
    size = np.where(width > 0.0, np.minimum(1.0, width), 1.0)
    delta = options.first_radius
    designs = Designs(np.zeros((0, n)), np.zeros(0), np.zeros((0, m)))
    centre = np.clip(task.start, task.lower, task.upper)
    asked = [centre]
    if task.known is not None and len(task.known.points):
        designs = designs.added(task.known.points, task.known.objective, task.known.rows)
        worths = merits(task, task.known.objective, task.known.rows, np.zeros(m))
        best = task.known.points[int(np.argmin(worths))]
        if (best != centre).any():
            asked.append(best)
            centre = best
    ahead = np.where(centre + delta * size <= task.upper, delta * size, -delta * size)
    ahead = np.where(centre + ahead >= task.lower, ahead, np.minimum(task.upper - centre, delta * size))
    points = np.clip(np.vstack([*asked, centre + np.diag(ahead)]), task.lower, task.upper)
    search = _Search(task, size, designs, delta, delta, np.zeros(m), np.zeros(m))
    reply: Reply = yield Request(points)
    search.take(points, reply)
    own = search.designs.valid[-len(points) :]
    first = len(asked)
    for _ in range(MOST_TRIES):
        bad = np.flatnonzero(~own[first:]) + first
        if not len(bad) or not own.any():
            break
        points[bad] = centre + 0.5 * (points[bad] - centre)
        again: Reply = yield Request(points[bad])
        search.take(points[bad], again)
        own[bad] = search.designs.valid[-len(bad) :]
    if not own.any():
        return None
    search.hints = len(designs.f)
    worths = np.where(search.designs.valid, search._worths(), np.inf)
    worths[: search.hints] = np.inf
    search.best = int(np.argmin(worths))
    return search


def _models(search: _Search, surfaces: Surfaces) -> NearSurfaces | None:
    """Return the surfaces through the designs with values near the best one."""
    valid = np.flatnonzero(search.designs.valid)
    points, radius = search.designs.codes[valid], search.delta * search.size
    near = valid[surfaces.near(points, search.x, radius)]
    if len(near) <= len(search.x):
        return None
    values = np.column_stack([search.designs.f[near], search.designs.rows[near]])
    return surfaces.fitted(search.designs.codes[near], values, search.x, radius)


def _least(search: _Search, models: NearSurfaces, rng: np.random.Generator) -> tuple[FloatArray, FloatArray]:
    """Return where (1) is least, of what is found from x and some other starts, and the multipliers there."""
    lower, upper = search.region(search.delta)
    starts = [search.x, *(lower + (upper - lower) * rng.random((OTHER_STARTS, len(lower))))]
    each = [minimizer_of(models, search.task, lower, upper, start, search.multipliers) for start in starts]
    values = models.values(np.array([point for point, _ in each]))
    worths = merits(search.task, values[:, 0], values[:, 1:], search.mu)
    better = np.where(worths < worths[0] - ROUNDING * abs(worths[0]), worths, np.inf)
    return each[int(np.argmin(better)) if np.isfinite(better).any() else 0]


def _missing_direction(search: _Search, radius: float, rng: np.random.Generator) -> FloatArray | None:
    """Return a design of the region in a direction in which there is none near enough; None where all have one."""
    lower, upper = search.region(radius)
    free = np.flatnonzero(upper > lower)
    scale = radius * search.size[free]
    y = (search.designs.codes[search.designs.valid][:, free] - search.x[free]) / scale
    distances = np.abs(y).max(axis=1, initial=0.0)
    is_near = (distances <= max(FAR, FAR_RESOLUTIONS * search.rho / radius)) & (distances > 0.0)
    y = y[is_near] / np.maximum(distances[is_near], 1.0)[:, None]
    basis = np.zeros((len(free), 0))
    while len(y) and basis.shape[1] < len(free):
        left = y - (y @ basis) @ basis.T
        lengths = np.linalg.norm(left, axis=1)
        place = int(np.argmax(lengths))
        if lengths[place] < LEAST_SHARE:
            break
        basis = np.column_stack([basis, left[place] / lengths[place]])
    if basis.shape[1] == len(free):
        return None
    tried = np.vstack([np.eye(len(free)), -np.eye(len(free)), rng.uniform(-1.0, 1.0, (4, len(free)))])
    points = np.repeat(search.x[np.newaxis], len(tried), axis=0)
    points[:, free] = np.clip(points[:, free] + scale * tried, lower[free], upper[free])
    steps = (points[:, free] - search.x[free]) / scale
    lengths = np.linalg.norm(steps - (steps @ basis) @ basis.T, axis=1)
    place = int(np.argmax(lengths))
    # Beside a bound there may be no room for more.
    return points[place] if lengths[place] >= LEAST_SHARE else None


def _spread(search: _Search, point: FloatArray) -> Generator[Request, Any, bool]:
    """Evaluate a design in a direction that has none; where it has no values, halfway nearer. Return whether one
    has."""
    since = len(search.designs.f)
    for _ in range(MOST_TRIES):
        reply: Reply = yield Request(point[np.newaxis])
        search.take(point[np.newaxis], reply)
        if search.designs.valid[-1]:
            break
        point = search.x + 0.5 * (point - search.x)
    search.choose(since)
    return bool(search.designs.valid[-1])


def _others(
    search: _Search, models: NearSurfaces, trial: FloatArray, count: int, rng: np.random.Generator
) -> FloatArray:
    """Return further designs (count, n) of the region, (6)."""
    n = len(trial)
    if count <= 0:
        return np.zeros((0, n))
    lower, upper = search.region(search.delta)
    points = lower + (upper - lower) * rng.random((TRIED * n, n))
    values = models.values(points)
    worths = merits(search.task, values[:, 0], values[:, 1:], search.mu)
    points = points[worths <= np.median(worths)]
    chosen: list[FloatArray] = []
    known = np.vstack([search.designs.codes, trial])
    for _ in range(count):
        distances = np.array([np.abs((known - point) / search.size).max(axis=1).min() for point in points])
        chosen.append(points[int(np.argmax(distances))])
        known = np.vstack([known, chosen[-1]])
    return np.array(chosen)


METHOD = Method(
    name="surface-trust-region",
    about="a trust region on surfaces through all near designs: models that take long, any limits",
    kind="derivative-free",
    needs="values",
    handles=frozenset({"bounds", "inequalities", "equalities"}),
    options=SurfaceTrustRegionOptions,
    run=surface_trust_region,
    cost="1 value an iteration, or a batch; n + 1 at first",
    weak="other valleys; kinks and jumps; cheap models",
    most_variables=60,
    takes_known=True,
)
