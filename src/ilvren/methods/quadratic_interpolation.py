"""A trust region on quadratic models that pass through the values: smooth, expensive problems without derivatives.

Models of f and of every row pass through a set of designs Y around the best one, x; where Y is too small to fix a
quadratic, they change as little as possible (`pieces.quadratics`). Each iteration

    minimizes the model of f within the limits on the models of the rows, the bounds and |x⁺ − x| <= Δ      (1)
    compares what came of it with what was promised, in the merit   φ = f + Σ μ_i · miss_i                  (2)
    moves x to x⁺ where φ fell; Δ grows where the promise was kept, shrinks where it was not                (3)
    puts x⁺ into Y in place of the design whose Lagrange polynomial ℓ_t(x⁺), weighted with its distance, is largest (4)

μ_i stays above twice the multiplier of its row and makes every step promise a fall. Where a step is short or has
failed, the design of Y farthest away, if it is too far, is replaced by the one that makes |ℓ_t| large (5); else the
resolution ρ, below which Δ never falls, is divided by ten (6).

Needs     values.   Handles   bounds, inequalities, equalities.
Cost      1 value an iteration, 2n + 1 at first, in one batch; arithmetic n^4 an iteration.
Stops     when ρ has reached the accuracy asked for.
Weak      kinks, jumps and noise above the accuracy asked for; more than some thirty variables.
Source    M. J. D. Powell, Mathematical Programming 92, 2002, pages 555–582; in G. Di Pillo, M. Roma (editors),
          "Large-Scale Nonlinear Optimization", 2006, pages 255–297; report NA2009/06, University of Cambridge, 2009;
          rows: A. Conn, K. Scheinberg, P. Toint, "A derivative free optimization algorithm in practice", 1998;
          (2): S.-P. Han, Journal of Optimization Theory and Applications 22, 1977, pages 297–309; M. J. D. Powell, in
          G. A. Watson (editor), "Numerical Analysis", 1978, pages 144–157.
Departs   by solving for the models anew each time instead of updating their inverse; the trust region is a box.
"""

from __future__ import annotations

import math
from collections.abc import Generator, Mapping
from typing import Any

import numpy as np
from numpy.typing import NDArray

from ilvren.methods.base import Checkpoint, Ending, Iterate, Method, Protocol, Reply, Request, Task
from ilvren.methods.pieces.descent import RUNS_AWAY
from ilvren.methods.pieces.merit import MULTIPLIER_FACTOR, least_weights, merits, promised
from ilvren.methods.pieces.options import option
from ilvren.methods.pieces.packing import packed_generator, packed_models, unpacked_generator, unpacked_models
from ilvren.methods.pieces.quadratics import Quadratics, fitted, minimizer_of
from ilvren.records import dataclass

__all__ = ["METHOD", "QuadraticInterpolationOptions"]

FloatArray = NDArray[np.float64]

# (3): shares of the promise that count as kept and as broken, and what Δ is multiplied by.
KEPT, BROKEN, GROWTH, SHRINK = 0.7, 0.1, 2.0, 0.5
# (6): ρ is divided by this; a step shorter than this share of ρ is short; a design farther than so many Δ and ρ is far.
REFINEMENT, SHORT, FAR, FAR_RESOLUTIONS = 10.0, 0.5, 2.0, 10.0
# A radius beyond which a falling objective has no end.
MOST_RADIUS = 1e9
# Far out, by so many times the start, a search that gains less than this share of all it has gained in WINDOW · (n + 1)
# steps runs away.
FAR_OUT, LITTLE_GAIN, WINDOW = 1e3, 0.05, 40
# A search that is not at rest after so many steps will not come to rest.
MOST_STEPS, MOST_STEPS_PER_VARIABLE = 1000, 400
# Tries to find finite values around the start, each halfway nearer.
MOST_TRIES = 6
# Where the search narrows at a design that misses a limit, μ grows by this, so many times.
STIFFENING, MOST_STIFFENED = 10.0, 12
# At designs that meet the limits, weights so much larger than the multipliers ask for are lowered to this share, so
# many times.
MUCH, SOFTENING, MOST_SOFTENED = 10.0, 0.1, 30
# (7): steps, the share of the miss that each must leave at most, the share of what is feasible to reach, and singular
# values of J that are noise.
RESTORING_STEPS, RESTORING_SHARE, RESTORED, LEAST_SLOPE = 12, 0.7, 0.1, 1e-8
# Where a step is short the models are minimized from so many other designs, too; what is gained by less is rounding.
SADDLE_STARTS, ROUNDING = 2, 1e-12
# Steps from one checkpoint to the next.
CHECKPOINT_STEPS = 10
# Random designs tried for a better place in (5), for each variable.
TRIED = 10


@dataclass(frozen=True)
class QuadraticInterpolationOptions:
    """Options of `quadratic-interpolation`."""

    first_radius: float = option(
        0.1, low=1e-8, high=1.0, help="first distance between designs, as a share of each variable's size"
    )
    last_radius: float = option(
        1e-6, low=1e-12, high=0.1, help="distance between designs at which the search ends, as a share of the size"
    )
    designs: int = option(
        0, low=0, high=10_000, help="designs that the models pass through; 0: up to a full quadratic, 3n + 1 at most"
    )


@dataclass
class _Set:
    """The designs Y (p, n) with f (p,) and rows (p, m), all finite; `best` is the place of x."""

    x: FloatArray
    f: FloatArray
    c: FloatArray
    best: int = 0

    @property
    def values(self) -> FloatArray:
        """Return f and the rows (p, 1 + m)."""
        return np.column_stack([self.f, self.c])

    def packed(self) -> dict[str, FloatArray]:
        """Return copies of the arrays by name."""
        return {"x": self.x.copy(), "f": self.f.copy(), "c": self.c.copy(), "best": np.array(float(self.best))}

    @classmethod
    def unpacked(cls, state: Mapping[str, NDArray[Any]]) -> _Set:
        """Return the set of such arrays."""
        return cls(state["x"], state["f"], state["c"], int(state["best"]))

    def put(self, place: int, x: FloatArray, f: float, c: FloatArray) -> None:
        """Put a design in a place, behind the last to make Y larger."""
        if place == len(self.f):
            self.x, self.f, self.c = np.vstack([self.x, x]), np.append(self.f, f), np.vstack([self.c, c])
        else:
            self.x[place], self.f[place], self.c[place] = x, f, c


def quadratic_interpolation(task: Task, options: QuadraticInterpolationOptions) -> Protocol:
    """Run the method on `task`; see the head of this file."""
    n = len(task.start)
    rng, elsewhere = np.random.default_rng([task.seed, 23]), np.random.default_rng([task.seed, 29])
    rho = delta = first = _first_radius(task, options.first_radius)
    last, stiffened, softened = min(options.last_radius, rho), 0, 0
    designs = (yield from _first_set(task, delta)) if task.checkpoint is None else _Set.unpacked(task.checkpoint)
    if designs is None:
        return Ending("invalid", "no finite values were found around the start")
    most = options.designs or min((n + 1) * (n + 2) // 2, max(3 * n + 1, 2 * n + 1))
    mu = np.zeros(len(task.row_lower))
    if task.checkpoint is None:
        designs.best = int(np.argmin(merits(task, designs.f, designs.c, mu)))
    models: Quadratics | None = None
    multipliers = np.zeros(len(task.row_lower))
    note, step = "first designs", math.nan
    asked, window = 0, WINDOW * (n + 1)
    f_first = f_before = float(designs.f[0])
    if task.checkpoint is not None:
        kept = task.checkpoint
        models, mu, multipliers, note = unpacked_models(kept), kept["mu"], kept["multipliers"], str(kept["note"])
        rng, elsewhere = unpacked_generator(kept["rng"]), unpacked_generator(kept["elsewhere"])
        rho, delta, step, f_first, f_before = kept["numbers"].tolist()
        stiffened, softened, asked = kept["counts"].tolist()
    kept_at = asked
    while True:
        if task.takes_checkpoints and asked >= kept_at + CHECKPOINT_STEPS:
            kept_at = asked
            yield Checkpoint(
                {
                    **designs.packed(),
                    **packed_models(models),
                    "mu": mu,
                    "multipliers": multipliers,
                    "note": np.array(note),
                    "rng": packed_generator(rng),
                    "elsewhere": packed_generator(elsewhere),
                    "numbers": np.array([rho, delta, step, f_first, f_before]),
                    "counts": np.array([stiffened, softened, asked]),
                }
            )
        x = designs.x[designs.best].copy()
        yield Iterate(x, step, note)
        models = _models(designs, models, np.full(n, delta))
        if models is None:
            return Ending("stalled", "the designs do not tell a model any more")
        lower, upper = np.maximum(task.lower, x - delta), np.minimum(task.upper, x + delta)
        trial, multipliers = minimizer_of(models, task, lower, upper, x, multipliers)  # (1)
        step = float(np.abs(trial - x).max())
        if step < SHORT * rho:
            trial, multipliers = _past_saddle(task, models, (lower, upper), (trial, multipliers), mu, elsewhere)
            step = float(np.abs(trial - x).max())
        is_at_rest = task.violation(designs.c[designs.best]) <= task.feasibility
        if is_at_rest and softened < MOST_SOFTENED:  # weights of designs long left behind
            wanted = MULTIPLIER_FACTOR * max(float(np.abs(multipliers * task.row_sizes).max(initial=0.0)), 1e-12)
            is_much = mu * task.row_sizes > MUCH * wanted
            softened += bool(is_much.any())
            mu = np.where(is_much, SOFTENING * mu, mu)
        mu = np.maximum(mu, MULTIPLIER_FACTOR * np.abs(multipliers))
        is_short, ratio = step < SHORT * rho, math.nan
        if not is_short:
            best = designs.best
            told = models.values(trial[np.newaxis])[0]
            mu, hoped = promised(task, float(designs.f[best]), designs.c[best], told, mu)
            worths = merits(task, designs.f, designs.c, mu)
            if worths.min() < worths[designs.best]:  # with other weights another design is the best one
                designs.best = int(np.argmin(worths))
                continue
            reply: Reply = yield Request(trial[np.newaxis])
            f, c = float(reply.objective[0]), reply.rows[0]
            if math.isfinite(f) and np.isfinite(c).all():
                before = merits(
                    task, designs.f[designs.best : designs.best + 1], designs.c[designs.best][np.newaxis], mu
                )
                gain = float(before[0] - merits(task, np.array([f]), c[np.newaxis], mu)[0])
                ratio = gain / hoped if hoped > 0.0 else -1.0
                place = _place_for(designs, trial, delta, most, is_better=gain > 0.0)
                if place is not None:
                    designs.put(place, trial, f, c)
                    if gain > 0.0:
                        designs.best = place
            note = f"radius {delta:.1e}"
            if ratio >= KEPT:
                delta = max(delta, GROWTH * step)  # (3)
            elif not ratio >= BROKEN:
                delta = max(SHRINK * min(delta, step), rho)
            if delta > MOST_RADIUS:
                return Ending("unbounded", "the objective falls without end at feasible designs")
            asked += 1
            if asked > MOST_STEPS + MOST_STEPS_PER_VARIABLE * n:
                return Ending("stalled", f"{asked - 1} steps have not brought the search to rest")
            if asked % window == 0:
                f_now = float(designs.f[designs.best])
                is_far = float(np.abs(x).max()) > FAR_OUT * max(1.0, float(np.abs(task.start).max()))
                if is_far and f_before - f_now < LITTLE_GAIN * (f_first - f_now):
                    return Ending("stalled", RUNS_AWAY)
                f_before = f_now
            if ratio >= BROKEN:
                continue
        elif delta > rho:  # a short step within a wide region: the models are trusted no farther than needed
            delta = max(SHRINK * delta, rho)
        x = designs.x[designs.best]
        distances = np.abs(designs.x - x).max(axis=1)
        far = int(np.argmax(distances))
        if distances[far] > max(FAR * delta, FAR_RESOLUTIONS * rho):
            step, note = yield from _improved(task, designs, far, max(min(delta, 0.5 * distances[far]), rho), mu, rng)
            continue
        if delta > rho:
            continue
        if task.violation(designs.c[designs.best]) > task.feasibility and stiffened < MOST_STIFFENED:
            stiffened += 1  # f still outweighs a miss: the weights were too small, or the models of the rows too crude
            mu = STIFFENING * np.maximum(mu, least_weights(task, designs.f))
            moved = yield from _restored(task, designs, models)
            if moved > 0.0:
                delta = rho = float(np.clip(moved, min(FAR_RESOLUTIONS * last, first), first))
                step, note = moved, "brought back to the limits"
                continue
            best = int(np.argmin(merits(task, designs.f, designs.c, mu)))
            if best != designs.best or rho <= last:
                designs.best, rho = best, min(max(FAR_RESOLUTIONS * rho, last), first)
                delta = max(delta, rho)
                continue
        if rho <= last:
            break
        rho = max(rho / REFINEMENT, last)  # (6)
        delta = max(SHRINK * delta, rho)
    best = designs.best
    if task.violation(designs.c[best]) > task.feasibility:
        return Ending("stalled", "the search has narrowed to its last radius at a design that misses a limit")
    return Ending("settled", "the models promise nothing more at the last radius")


METHOD = Method(
    name="quadratic-interpolation",
    about="a trust region on models through the values: smooth, expensive, without derivatives",
    kind="derivative-free",
    needs="values",
    handles=frozenset({"bounds", "inequalities", "equalities"}),
    options=QuadraticInterpolationOptions,
    run=quadratic_interpolation,
    most_variables=60,
    keeps_checkpoints=True,
    cost="1 value per iteration, 2n + 1 at first",
    weak="kinks, jumps, noise; more than some thirty variables",
)


def _first_radius(task: Task, share: float) -> float:
    """Return Δ at first: less where bounds leave less room."""
    room = np.min(task.upper - task.lower, initial=math.inf)
    return min(share, 0.5 * float(room)) if room > 0.0 else share


def _restored(task: Task, designs: _Set, models: Quadratics) -> Generator[Request, Any, float]:
    """Bring the best design back to the limits it misses by steps d of least length,

        J d = −v ,   J ← J + (v⁺ − v − J d) d'/d'd ,                                                      (7)

    v the misses with their signs, J at first the slopes of the models of the rows. Return how far it was moved, 0 where
    the limits are not met in the end; what was tried goes into Y in place of the worst designs."""
    first = designs.x[designs.best].copy()
    x, c = first, designs.c[designs.best].copy()
    slopes = models.local((x - models.centre) / models.radius)[1][1:] / models.radius
    tried: list[tuple[FloatArray, float, FloatArray]] = []
    for _ in range(RESTORING_STEPS):
        v = (c - np.clip(c, task.row_lower, task.row_upper)) / task.row_sizes
        if float(np.abs(v).max()) <= RESTORED * task.feasibility:
            break
        open_ = np.flatnonzero((v != 0.0) | (task.row_lower == task.row_upper))
        rows = slopes[open_] / task.row_sizes[open_, np.newaxis]
        d = np.linalg.lstsq(rows, -v[open_], rcond=LEAST_SLOPE)[0]
        there = np.clip(x + d, task.lower, task.upper)
        d = there - x
        if not d.any():
            return 0.0
        reply: Reply = yield Request(there[np.newaxis])
        f, reached = float(reply.objective[0]), reply.rows[0]
        if not (math.isfinite(f) and np.isfinite(reached).all()):
            return 0.0
        tried.append((there, f, reached))
        slopes = slopes + np.outer(reached - c - slopes @ d, d) / float(d @ d)
        if not task.violation(reached) < RESTORING_SHARE * task.violation(c):
            return 0.0
        x, c = there, reached
    if task.violation(c) > task.feasibility or not tried:
        return 0.0
    for there, f, reached in tried:
        distances = np.abs(designs.x - x).max(axis=1)
        designs.put(int(np.argmax(distances)), there, f, reached)
    designs.best = int(np.argmin(np.abs(designs.x - x).max(axis=1)))
    return float(np.abs(x - first).max())


def _first_set(task: Task, delta: float) -> Generator[Request, Any, _Set | None]:
    """Evaluate the start and both neighbours in every variable; a neighbour that is not finite is tried nearer."""
    n = len(task.start)
    ahead = np.where(task.start + delta <= task.upper, delta, -delta)
    behind = np.where((task.start - delta >= task.lower) & (ahead > 0.0), -delta, 2.0 * ahead)
    points = np.vstack([task.start, task.start + np.diag(ahead), task.start + np.diag(behind)])
    points = np.clip(points, task.lower, task.upper)
    reply: Reply = yield Request(points)
    f, c = reply.objective.copy(), reply.rows.copy()
    for _ in range(MOST_TRIES):
        bad = np.flatnonzero(~(np.isfinite(f) & np.isfinite(c).all(axis=1)))
        if not len(bad):
            break
        if bad[0] == 0:
            return None
        points[bad] = points[0] + 0.5 * (points[bad] - points[0])
        again: Reply = yield Request(points[bad])
        f[bad], c[bad] = again.objective, again.rows
    finite = np.isfinite(f) & np.isfinite(c).all(axis=1)
    return _Set(points[finite], f[finite], c[finite]) if finite[0] and finite.sum() > n else None


def _models(designs: _Set, before: Quadratics | None, radius: FloatArray) -> Quadratics | None:
    """Return the models through Y nearest to those `before`."""
    x = designs.x[designs.best]
    if before is None:
        return fitted(designs.x, designs.values, x, radius)
    moved = before.moved(x, radius)
    change = fitted(designs.x, designs.values - moved.values(designs.x), x, radius)
    return None if change is None else moved.plus(change)


def _past_saddle(
    task: Task,
    models: Quadratics,
    box: tuple[FloatArray, FloatArray],
    found: tuple[FloatArray, FloatArray],
    mu: FloatArray,
    rng: np.random.Generator,
) -> tuple[FloatArray, FloatArray]:
    """Return the point within the box where the models are least, with its multipliers: what was `found` from x, which
    may be a saddle of theirs, or what is found from elsewhere in the box."""
    lower, upper = box
    starts = lower + (upper - lower) * rng.uniform(size=(SADDLE_STARTS, len(lower)))
    each = [found, *(minimizer_of(models, task, lower, upper, start, found[1]) for start in starts)]
    values = models.values(np.array([point for point, _ in each]))
    worths = merits(task, values[:, 0], values[:, 1:], mu)
    return each[int(np.argmin(np.where(worths < worths[0] - ROUNDING * abs(worths[0]), worths, np.inf)))]


def _lagrange(designs: _Set, x: FloatArray, delta: float) -> FloatArray:
    """Return ℓ_t(x) (k, p) of all designs at points x (k, n): what a change of one value changes in a model there."""
    centre = designs.x[designs.best]
    y, at = (designs.x - centre) / delta, (x - centre) / delta
    p, n = y.shape
    matrix = np.zeros((p + n + 1, p + n + 1))
    matrix[:p, :p] = 0.5 * (y @ y.T) ** 2
    matrix[:p, p] = matrix[p, :p] = 1.0
    matrix[:p, p + 1 :], matrix[p + 1 :, :p] = y, y.T
    target = np.vstack([0.5 * (y @ at.T) ** 2, np.ones((1, len(at))), at.T])
    found: FloatArray = np.linalg.lstsq(matrix, target, rcond=1e-14)[0]
    return found[:p].T


def _place_for(designs: _Set, trial: FloatArray, delta: float, most: int, *, is_better: bool) -> int | None:
    """Return the place in Y that a design takes, (4); None where it would spoil Y."""
    distances = np.abs(designs.x - trial).max(axis=1)
    if float(distances.min()) < 1e-12 * max(1.0, float(np.abs(trial).max())):
        return None
    if len(designs.f) < most:
        return len(designs.f)
    weight = np.abs(_lagrange(designs, trial[np.newaxis], delta)[0])
    from_best = np.abs(designs.x - (trial if is_better else designs.x[designs.best])).max(axis=1)
    score = weight * np.maximum(1.0, from_best / delta) ** 3
    if not is_better:
        score[designs.best] = -1.0
    return int(np.argmax(score))


def _improved(
    task: Task, designs: _Set, far: int, radius: float, mu: FloatArray, rng: np.random.Generator
) -> Generator[Request, Any, tuple[float, str]]:
    """Replace the design in place `far` by one within `radius` of x that its Lagrange polynomial is large at, (5)."""
    x, n = designs.x[designs.best].copy(), len(task.start)
    lower, upper = np.maximum(task.lower, x - radius), np.minimum(task.upper, x + radius)
    towards = designs.x[far] - x
    towards = radius * towards / max(float(np.abs(towards).max()), 1e-300)
    tried = [x + towards, x - towards, *(x + radius * np.eye(n)), *(x - radius * np.eye(n))]
    tried += list(x + radius * rng.uniform(-1.0, 1.0, size=(TRIED * n, n)))
    points = np.clip(np.array(tried), lower, upper)
    chosen = points[int(np.argmax(np.abs(_lagrange(designs, points, radius)[:, far])))]
    reply: Reply = yield Request(chosen[np.newaxis])
    f, c = float(reply.objective[0]), reply.rows[0]
    if math.isfinite(f) and np.isfinite(c).all():
        designs.put(far, chosen, f, c)
    else:  # the far one goes all the same, or this would be asked for ever
        keep = np.arange(len(designs.f)) != far
        if keep.sum() > n + 1:
            designs.best -= far < designs.best
            designs.x, designs.f, designs.c = designs.x[keep], designs.f[keep], designs.c[keep]
        else:
            designs.x[far] = x + 0.5 * (designs.x[far] - x)
            again: Reply = yield Request(designs.x[far][np.newaxis])
            designs.f[far], designs.c[far] = again.objective[0], again.rows[0]
    worths = merits(task, designs.f, designs.c, mu)
    if worths.min() < worths[designs.best]:
        designs.best = int(np.argmin(worths))
    return float(np.abs(chosen - x).max()), "a better spread of designs"
