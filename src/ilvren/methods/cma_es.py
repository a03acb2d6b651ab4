"""Covariance matrix adaptation with restarts of growing population.

Designs are drawn from a normal distribution, which is then moved to the better half of them:

    x_k ~ m + σ N(0, C)                                                                              (1)
    m ← Σ w_i x_(i)   over the best μ of λ                                                           (2)
    p_σ ← (1 − c_σ) p_σ + √(c_σ (2 − c_σ) μ_w) C^(−1/2) (m' − m)/σ ,   σ ← σ exp(c_σ/d_σ (|p_σ|/χ − 1))   (3)
    p_c ← (1 − c_c) p_c + h √(c_c (2 − c_c) μ_w) (m' − m)/σ                                           (4)
    C ← (1 − c_1 − c_μ Σw) C + c_1 p_c p_c' + c_μ Σ w_i y_i y_i' ,  y = (x − m)/σ, negative w for the worst  (5)

Beyond a bound a design is evaluated at the nearest one within, and pays for the distance, with weights that grow
while the mean is outside (6). Rows enter through an augmented Lagrangian (`pieces.lagrangian`) whose multipliers and
weights follow the mean, which is evaluated with each generation (7). When a search has come to rest, the next begins
anywhere: with three times the population of the last large one, or, while small ones have had fewer values, a smaller
population and a smaller spread, both drawn (8).

Needs     values.   Handles   bounds, inequalities, equalities, spaced and catalogue variables (rounded).
Cost      one batch of λ = 4 + 3 ln n values a generation; arithmetic n² λ and now and then n³, memory n².
Stops     when as many searches as `agreeing` came to rest at the best value, or all restarts are used.
Weak      more than some hundred variables; many distant optima of nearly the same value; catalogues.
Source    N. Hansen, A. Ostermeier, "Completely derandomized self-adaptation in evolution strategies", 2001; N. Hansen,
          "The CMA evolution strategy: a tutorial", 2016; (6): N. Hansen, A. Niederberger, L. Guzzella,
          P. Koumoutsakos, "A method for handling uncertainty in evolutionary optimization", 2009; (7): A. Atamna,
          A. Auger, N. Hansen, "Augmented Lagrangian constraint handling for CMA-ES", 2016; (8): A. Auger, N. Hansen,
          "A restart CMA evolution strategy with increasing population size", 2005, and N. Hansen,
          "Benchmarking a BI-population CMA-ES", 2009; whole numbers: N. Hansen,
          "A CMA-ES for mixed-integer nonlinear optimization", 2011.
Departs   by ending when several searches agree.
"""

from __future__ import annotations

import math
from collections import deque
from collections.abc import Generator
from dataclasses import field, replace
from typing import Any

import numpy as np
from numpy.typing import NDArray

from ilvren.methods.base import Ending, Iterate, Method, Protocol, Request, Task
from ilvren.methods.pieces.coding import Coding
from ilvren.methods.pieces.finish import Finish
from ilvren.methods.pieces.lagrangian import Lagrangian
from ilvren.methods.pieces.options import option
from ilvren.methods.pieces.ranking import MET_SHARE, judged, order
from ilvren.records import dataclass

__all__ = ["METHOD", "CmaEsOptions"]

FloatArray = NDArray[np.float64]

# The first spread over the width of a variable; a variable without both bounds counts as at most so wide.
FIRST_SPREAD, MOST_WIDTH = 0.3, 4.0
# A search rests when values have not differed by this share of the tolerance for some generations, relative to their
# size (at least this share of the spread of the first generation), or when its steps are below rounding.
VALUE_SHARE, LEAST_SIZE_SHARE = 1e-3, 1e-6
SMALLEST_STEP, MOST_CONDITION, MOST_GROWTH = 1e-12, 1e14, 1e8
# A search that has not gained for so many generations (and some for each n/λ) has stagnated.
STAGNANT_GENERATIONS, STAGNANT_PER_RATIO = 120, 30
# Two searches agree when their best values differ by so many tolerances, and the designs by this share of the box:
# the same value elsewhere speaks of many optima.
AGREEMENT, SAME_DESIGN = 10.0, 1e-3
# (7): damping of the multipliers, and when a row's weight grows.
DAMPING, VALUE_FACTOR, CHANGE_FACTOR = 5.0, 3.0, 5.0
MOST_WEIGHT = 1e12
# What a large population is multiplied by for the next one.
GROWTH = 3.0
# Small populations get one value in so many (and one). A search is given up when what it has lately gained is so small
# a share of what it is worse by than the best one.
SMALL_SHARE, HOPELESS = 6.0, 0.3
# A search after the first begins at the best of so many designs drawn, and so many for each variable.
DRAWN_STARTS, DRAWN_PER_VARIABLE = 10, 5
# A feasible value so many times the first one below zero is no end, but a fall without one.
UNBOUNDED_FACTOR = 1e14
# So many searches may begin where nothing is finite.
MOST_INVALID = 2
# A whole number keeps at least this spread, so that its neighbours are still tried.
LEAST_MEMBER_SPREAD = 0.25


@dataclass(frozen=True)
class CmaEsOptions:
    """Options of `cma-es`."""

    population: int = option(
        0, low=0, high=100_000, help="designs in each generation of the first search; 0: 4 + 3 ln n"
    )
    restarts: int = option(
        5, low=0, high=100, help="most large searches after the first, each with three times the population"
    )
    agreeing: int = option(3, low=1, high=100, help="searches that must come to the best value before it is believed")
    finish: bool = option(True, help="a local search from the best design now and then")


@dataclass(frozen=True, kw_only=True)
class _Rates:
    """The constants of (2) to (5) for a population; `weights` (λ,) in the order of rank, the last ones negative."""

    count: int
    weights: FloatArray
    mu: int
    mu_w: float
    c_sigma: float
    d_sigma: float
    c_c: float
    c_1: float
    c_mu: float
    chi: float

    @classmethod
    def of(cls, n: int, count: int) -> _Rates:
        """Return the tutorial's constants (its table 1)."""
        raw = math.log((count + 1) / 2) - np.log(np.arange(1, count + 1))
        mu = count // 2
        mu_w = float(raw[:mu].sum() ** 2 / (raw[:mu] ** 2).sum())
        mu_minus = float(raw[mu:].sum() ** 2 / (raw[mu:] ** 2).sum()) if count > mu else 0.0
        c_c = (4 + mu_w / n) / (n + 4 + 2 * mu_w / n)
        c_sigma = (mu_w + 2) / (n + mu_w + 5)
        c_1 = 2 / ((n + 1.3) ** 2 + mu_w)
        c_mu = min(1 - c_1, 2 * (0.25 + mu_w + 1 / mu_w - 2) / ((n + 2) ** 2 + mu_w))
        d_sigma = 1 + 2 * max(0.0, math.sqrt((mu_w - 1) / (n + 1)) - 1) + c_sigma
        least = min(1 + c_1 / c_mu, 1 + 2 * mu_minus / (mu_w + 2), (1 - c_1 - c_mu) / (n * c_mu))
        negative = raw[mu:] < 0.0
        weights = np.where(raw > 0.0, raw / raw[:mu].sum(), 0.0)
        total = -float(raw[mu:][negative].sum())
        weights[mu:] = np.where(negative, max(least, 0.0) * raw[mu:] / max(total, 1e-300), 0.0)
        chi = math.sqrt(n) * (1 - 1 / (4 * n) + 1 / (21 * n**2))
        return cls(
            count=count,
            weights=weights,
            mu=mu,
            mu_w=mu_w,
            c_sigma=c_sigma,
            d_sigma=d_sigma,
            c_c=c_c,
            c_1=c_1,
            c_mu=c_mu,
            chi=chi,
        )


@dataclass
class _Search:
    """One search: m, p_σ, p_c (n,), C, its axes B and lengths D (C = B D² B'), σ, and its age. `size` is that of f."""

    mean: FloatArray
    sigma: float
    c: FloatArray
    axes: FloatArray
    lengths: FloatArray
    p_sigma: FloatArray
    p_c: FloatArray
    generation: int = 0
    decomposed: int = 0

    def move(self, rates: _Rates, y: FloatArray) -> None:
        """Take the sorted steps y (λ, n) in: (2) to (5)."""
        n = len(self.mean)
        step = rates.weights[: rates.mu] @ y[: rates.mu]
        self.mean = self.mean + self.sigma * step  # (2)
        self.generation += 1
        root = self.axes @ ((self.axes.T @ step) / self.lengths)
        c_sigma = rates.c_sigma
        self.p_sigma = (1 - c_sigma) * self.p_sigma + math.sqrt(c_sigma * (2 - c_sigma) * rates.mu_w) * root
        length = math.sqrt(float(self.p_sigma @ self.p_sigma))
        fade = math.sqrt(1 - (1 - c_sigma) ** (2 * self.generation))
        h = 1.0 if length / fade < (1.4 + 2 / (n + 1)) * rates.chi else 0.0
        self.p_c = (1 - rates.c_c) * self.p_c + h * math.sqrt(rates.c_c * (2 - rates.c_c) * rates.mu_w) * step  # (4)
        weights = rates.weights.copy()
        if (weights[rates.mu :] < 0.0).any():  # steps of the worst count as if they had length √n
            worst = y[rates.mu :] @ self.axes / self.lengths
            weights[rates.mu :] *= n / np.maximum((worst**2).sum(axis=1), 1e-300)
        kept = (
            1 - rates.c_1 - rates.c_mu * float(rates.weights.sum()) + (1 - h) * rates.c_1 * rates.c_c * (2 - rates.c_c)
        )
        self.c = kept * self.c + rates.c_1 * np.outer(self.p_c, self.p_c) + rates.c_mu * (y.T * weights) @ y  # (5)
        self.sigma *= math.exp(min(1.0, c_sigma / rates.d_sigma * (length / rates.chi - 1)))  # (3)

    def decompose(self, rates: _Rates) -> bool:
        """Renew B and D when C has changed enough; return whether C is still sound."""
        if self.generation - self.decomposed < 0.1 / (len(self.mean) * (rates.c_1 + rates.c_mu)):
            return True
        self.decomposed = self.generation
        self.c = 0.5 * (self.c + self.c.T)
        if not np.isfinite(self.c).all():
            return False
        values, self.axes = np.linalg.eigh(self.c)
        self.lengths = np.sqrt(np.maximum(values, 1e-300))
        return bool(values[0] > 0.0 and values[-1] <= MOST_CONDITION * values[0])


def cma_es(task: Task, options: CmaEsOptions) -> Protocol:
    """Run the method on `task`; see the head of this file."""
    n = len(task.start)
    coding, rng = Coding.of(task), np.random.default_rng([task.seed, 22])
    count = max(options.population or 4 + int(3 * math.log(n)), 4)
    ends: list[_End] = []
    first, number, grown, spent = count, 0, 0, {True: 0, False: 0}
    finish = Finish(task, is_on=options.finish)
    while grown <= options.restarts:
        start = coding.start
        if number:
            start, own_values = yield from _drawn_start(task, coding, rng)
            spent[number > 1 and SMALL_SHARE * spent[True] < spent[False]] += own_values
        is_small = number > 1 and SMALL_SHARE * spent[True] < spent[False]
        own, spread = count, 1.0
        if is_small:
            own = max(int(first * (0.5 * count / first) ** (rng.random() ** 2)), 4)
            spread = 10.0 ** (-2.0 * rng.random())
        known = min((item.value for item in ends), default=math.inf)
        end: _End = yield from _search(
            task, coding, start, own, number, rng, spread, known, (finish, sum(spent.values()))
        )
        number += 1
        spent[is_small] += end.evaluations
        if end.word == "invalid" and not ends:
            if number > MOST_INVALID or number > options.restarts:
                return Ending("invalid", "no design of the first generations has finite values")
            continue
        if end.word == "unbounded":
            return Ending("unbounded", "the objective falls without end at feasible designs")
        ends.append(end)
        feasible = sorted(item.value for item in ends if item.word == "rest")
        if feasible:
            reach = feasible[0] + AGREEMENT * task.tolerance * max(abs(feasible[0]), end.size)
            near = SAME_DESIGN * np.maximum(coding.widths, 1.0)
            top = min((item for item in ends if item.word == "rest"), key=lambda item: item.value)
            agreeing = sum(
                item.word == "rest" and item.value <= reach and bool((np.abs(item.x - top.x) <= near).all())
                for item in ends
            )
            if agreeing >= min(options.agreeing, options.restarts + 1):
                told = f"{agreeing} searches agree" if agreeing > 1 else "the search has come to rest"
                return Ending("settled", f"{told}, which is no proof that nothing better exists")
        if not is_small:
            grown += 1
            count = int(first * GROWTH**grown)
    if any(item.word == "rest" for item in ends):
        return Ending("settled", f"{len(ends)} searches came to rest, without agreement: better designs may well exist")
    return Ending("stalled", "no search has come to rest at a feasible design")


METHOD = Method(
    name="cma-es",
    about="a normal distribution that learns the shape of the objective, with restarts: rough, ill-conditioned, noisy",
    kind="global",
    needs="values",
    handles=frozenset({"bounds", "inequalities", "equalities", "spaced", "catalogue"}),
    options=CmaEsOptions,
    run=cma_es,
    most_variables=1000,
    cost="one batch of about 4 + 3 ln n values a generation",
    weak="many variables; many distant optima of nearly the same value",
    is_random=True,
)


def _drawn_start(
    task: Task, coding: Coding, rng: np.random.Generator
) -> Generator[Request, Any, tuple[FloatArray, int]]:
    """Return the best of some designs drawn in the box, and how many these were."""
    n = len(coding.start)
    codes = coding.box_lower + coding.widths * rng.random((DRAWN_STARTS + DRAWN_PER_VARIABLE * n, n))
    reply = yield Request(coding.decoded(codes))
    f, v = judged(task, reply)
    return codes[int(order(f, v)[0])], len(codes)


@dataclass(frozen=True)
class _End:
    """How a search ended: "rest" at a feasible `value`, "missed", "stagnant", "invalid" or "unbounded"; the `size` of
    its values, the evaluations it took, and its best design x (n,)."""

    word: str
    value: float = math.inf
    size: float = 0.0
    evaluations: int = 0
    x: FloatArray = field(default_factory=lambda: np.zeros(0))


def _search(
    task: Task,
    coding: Coding,
    start: FloatArray,
    count: int,
    number: int,
    rng: np.random.Generator,
    spread: float,
    known: float,
    finishing: tuple[Finish, int],
) -> Generator[Request | Iterate, Any, _End]:
    """Run one search to its end. `finishing`: when a local search is due, and the evaluations before this search."""
    n = len(start)
    finish, spent = finishing
    rates, widths = _Rates.of(n, count), np.minimum(coding.widths, MOST_WIDTH)
    widths = np.where(coding.is_discrete, coding.widths, widths)
    spreads = spread * FIRST_SPREAD * np.where(np.isfinite(coding.upper - coding.lower), coding.widths, widths)
    search = _Search(start.copy(), 1.0, np.diag(spreads**2), np.eye(n), spreads.copy(), np.zeros(n), np.zeros(n))
    outside = _Outside(coding, n, rates.mu_w)
    lagrangian: Lagrangian | None = None
    history: deque[float] = deque(maxlen=10 + math.ceil(30 * n / count))
    best, best_at, size, mean_before = math.inf, 0, 0.0, (math.nan, np.zeros(0))
    m, used, floor = len(task.row_lower), 0, math.nan
    while True:
        y = (rng.standard_normal((count, n)) * search.lengths) @ search.axes.T  # (1)
        codes = search.mean + search.sigma * y
        within = np.clip(codes, coding.lower, coding.upper)
        points = coding.decoded(within)
        asked = np.vstack([points, coding.decoded(search.mean[np.newaxis])]) if m else points
        reply = yield Request(asked)
        used += len(asked)
        is_finite = np.isfinite(reply.objective)
        f = np.where(is_finite, reply.objective, np.inf)
        if not is_finite.any():
            return _End("invalid") if search.generation == 0 else _End("stagnant", evaluations=used)
        if lagrangian is None:
            lagrangian, size = _first_lagrangian(task, f, reply.rows), _least_size(f)
        values = lagrangian.values(f, reply.rows) if m else f
        paid = values[:count] + outside.price(search, codes, within, values[:count])
        ranks = np.argsort(paid, kind="stable")
        extent = search.sigma * float(search.lengths[-1])
        shown = points[ranks[0]]
        if m and task.violation(reply.rows[-1]) < task.violation(reply.rows[ranks[0]]):
            shown = asked[-1]
        path = f"cma-es[{number}]" if number else ""
        yield Iterate(shown, extent, f"search {number}, {count} designs", path=path, population=points)
        if finish.is_due(spent + used):
            yield from finish.searched(shown)
        v = task.violations(reply.rows[ranks[:1]])[0] if m else 0.0
        if math.isnan(floor):
            floor = min(-UNBOUNDED_FACTOR * max(abs(float(f[ranks[0]])), size, 1e-12), task.low)
        if f[ranks[0]] < floor and v <= task.feasibility:
            return _End("unbounded")
        if m:
            lagrangian = _followed(task, lagrangian, f[-1], reply.rows[-1], mean_before, n)
            mean_before = (float(values[-1]), reply.rows[-1])
        lowest = float(paid[ranks[0]])
        history.append(lowest)
        if lowest < best - task.tolerance * max(abs(lowest), size):
            best, best_at = lowest, search.generation
        word = _rest_word(task, search, coding, history, paid, size, reply.rows[-1] if m else None)
        if word:
            return _End(word, float(f[ranks[0]]), size, used, points[ranks[0]])
        if not m and len(history) == history.maxlen and max(history) - min(history) < HOPELESS * (lowest - known):
            return _End(
                "rest", float(f[ranks[0]]), size, used, points[ranks[0]]
            )  # what it still gains will not make it the best
        patience = STAGNANT_GENERATIONS + STAGNANT_PER_RATIO * n / count
        if search.generation - best_at > patience:
            return _End(
                "stagnant" if m and v > task.feasibility else "rest", float(f[ranks[0]]), size, used, points[ranks[0]]
            )
        search.move(rates, (codes[ranks] - search.mean) / search.sigma)
        _keep_spread(search, coding)
        if not search.decompose(rates):
            return _End(
                "rest" if v <= task.feasibility else "stagnant", float(f[ranks[0]]), size, used, points[ranks[0]]
            )


def _least_size(f: FloatArray) -> float:
    finite = f[np.isfinite(f)]
    return max(LEAST_SIZE_SHARE * float(finite.max() - finite.min()), 1e-12)


def _rest_word(
    task: Task,
    search: _Search,
    coding: Coding,
    history: deque[float],
    paid: FloatArray,
    size: float,
    rows_at_mean: FloatArray | None,
) -> str:
    """Return "rest" or "missed" when the search has come to rest, else ""."""
    longest = search.sigma * float(search.lengths[-1])
    if longest > MOST_GROWTH and longest > MOST_GROWTH * float(np.maximum(np.abs(search.mean), coding.widths).max()):
        return "missed"
    is_small = False
    if longest <= SMALLEST_STEP * max(1.0, float(np.abs(search.mean).max())):
        steps = search.sigma * np.sqrt(np.diag(search.c))
        free = ~coding.is_discrete
        sizes = np.maximum(1.0, np.abs(search.mean))
        is_small = bool((steps[free] <= SMALLEST_STEP * sizes[free]).all()) and bool(free.any())
    is_level = False
    if len(history) == history.maxlen:
        low, high = min(history), max(max(history), float(paid.max()))
        is_level = high - low <= VALUE_SHARE * task.tolerance * max(abs(history[-1]), size)
    if not (is_small or is_level):
        return ""
    if rows_at_mean is not None and task.violation(rows_at_mean) > task.feasibility:
        return "missed" if is_small else ""
    return "rest"


def _keep_spread(search: _Search, coding: Coding) -> None:
    """Widen members whose spread has fallen below what still reaches a neighbour."""
    if not coding.is_discrete.any():
        return
    spread = search.sigma * np.sqrt(np.diag(search.c))
    low = coding.is_discrete & (spread < LEAST_MEMBER_SPREAD)
    if low.any():
        stretch = np.where(low, LEAST_MEMBER_SPREAD / np.maximum(spread, 1e-300), 1.0)
        search.c = search.c * np.outer(stretch, stretch)
        search.decomposed = -(10**9)  # B and D must follow


def _middle_spread(values: FloatArray) -> float:
    """Return the range of the middle half of the finite values."""
    finite = values[np.isfinite(values)]
    return float(np.subtract(*np.percentile(finite, [75, 25]))) if len(finite) else 1.0


class _Outside:
    """What designs pay for lying beyond a bound, (6)."""

    def __init__(self, coding: Coding, n: int, mu_w: float) -> None:
        self._coding = coding
        self._weights = np.zeros(n)
        self._growth = 1.1 ** max(1.0, mu_w / (10 * n))
        self._room = 3.0 * max(1.0, math.sqrt(n) / mu_w)
        self._is_paid = False

    def price(self, search: _Search, codes: FloatArray, within: FloatArray, values: FloatArray) -> FloatArray | float:
        """Return what is added to the values (λ,)."""
        distance = np.maximum(self._coding.lower - search.mean, search.mean - self._coding.upper)
        is_out = distance > 0.0
        if not is_out.any() and not self._is_paid:
            return 0.0
        variances = np.diag(search.c)
        if is_out.any():
            if not self._is_paid:
                self._is_paid = True
                spread = _middle_spread(values)
                self._weights[:] = 2.0 * spread / max(search.sigma**2 * float(variances.mean()), 1e-300)
            is_far = is_out & (distance > self._room * search.sigma * np.sqrt(variances))
            self._weights[is_far] *= self._growth
        logs = np.log(np.maximum(variances, 1e-300))
        stretch = np.exp(0.9 * (logs - logs.mean()))
        return np.asarray(((within - codes) ** 2 @ (self._weights / stretch)) / len(stretch), dtype=np.float64)


def _first_lagrangian(task: Task, f: FloatArray, rows: FloatArray) -> Lagrangian:
    """Start with multipliers 0 and weights that make a usual miss weigh like a usual difference of values."""
    finite = f[np.isfinite(f)]
    spread = max(float(np.subtract(*np.percentile(finite, [75, 25]))), 1e-12)
    finite_rows = rows[np.isfinite(rows).all(axis=1)]
    m = len(task.row_lower)
    if not m or not len(finite_rows):
        return Lagrangian(task, np.zeros(m), np.full(m, 1.0))
    ranges = np.subtract(*np.percentile(finite_rows, [75, 25], axis=0))
    return Lagrangian(task, np.zeros(m), np.clip(spread / np.maximum(ranges**2, 1e-24), 1e-10, 1e10))


def _followed(
    task: Task, lagrangian: Lagrangian, f: float, rows: FloatArray, before: tuple[float, FloatArray], n: int
) -> Lagrangian:
    """Return the Lagrangian with multipliers and weights moved by what the mean shows, (7)."""
    if not (math.isfinite(f) and np.isfinite(rows).all()):
        return lagrangian
    renewed = lagrangian.renewed_multipliers(rows)
    multipliers = lagrangian.multipliers + (renewed - lagrangian.multipliers) / DAMPING
    weights = lagrangian.weights
    if len(before[1]):
        miss = lagrangian.misses(rows)
        change = abs(float(lagrangian.values(np.array([f]), rows[np.newaxis])[0]) - before[0])
        is_live = (renewed != 0.0) | (lagrangian.multipliers != 0.0)
        low = (weights * miss**2 < VALUE_FACTOR * change / n) | (CHANGE_FACTOR * np.abs(rows - before[1]) < miss)
        is_missed = miss > MET_SHARE * task.feasibility * task.row_sizes
        root = 2.0 ** (1.0 / n)
        grown = np.minimum(weights * root**0.25, MOST_WEIGHT)
        weights = np.where(is_live & low & is_missed, grown, np.where(is_live & ~low, weights / root, weights))
    return replace(lagrangian, multipliers=multipliers, weights=np.maximum(weights, 1e-10))
