"""Simulated annealing with steps that adapt to the landscape.

At a temperature T each variable in turn is moved by r·s_j, r uniform in [−1, 1]; a worse design is accepted with the
probability

    exp(−(f' − f)/T)                                                                                     (1)

After `sweeps` rounds s_j grows where more than 60 % were accepted and shrinks where fewer than 40 % were, by

    1 + 2 (a − 0.6)/0.4   or   1/(1 + 2 (0.4 − a)/0.4)                                                    (2)

and after `steps` such adaptations T falls by `cooling`, and the search goes on from the best design. Members of spaced
and catalogue variables move by whole steps. Among designs that miss limits the violation takes the place of f, with a
temperature of its own; within a level ε that falls with T a design counts as feasible (3).

Needs     values.   Handles   bounds, inequalities, equalities (very weakly), spaced and catalogue variables.
Cost      1 value a step; arithmetic and memory n.
Stops     when the best value has not changed over some temperatures and the steps are small.
Weak      slow: it sees one design at a time. Equalities. Last digits.
Source    S. Kirkpatrick, C. Gelatt, M. Vecchi, "Optimization by simulated annealing", 1983; (1): N. Metropolis and
          others, 1953; (2): A. Corana, M. Marchesi, C. Martini, S. Ridella, "Minimizing multimodal functions of
          continuous variables with the simulated annealing algorithm", 1987.
Departs   by (3), and by a first temperature measured on a few designs.
"""

from __future__ import annotations

import math
from collections import deque

import numpy as np
from numpy.typing import NDArray

from ilvren.methods.base import Ending, Iterate, Method, Protocol, Request, Task
from ilvren.methods.pieces.coding import Coding, spread
from ilvren.methods.pieces.options import option
from ilvren.methods.pieces.population import first_population, rest_of
from ilvren.records import dataclass

__all__ = ["METHOD", "SimulatedAnnealingOptions"]

FloatArray = NDArray[np.float64]

# (2): more accepted than this lengthens a step, fewer shortens it, by this factor at most and more.
HIGH, LOW, VARIATION = 0.6, 0.4, 2.0
# The first designs measure the values' spread; the first temperature is this share of it.
FIRST_DESIGNS, FIRST_SHARE = 20, 1.0
# The search rests when the best values of so many temperatures agree.
RESTING = 4
# A temperature below this share of the first can tell nothing apart any more.
LEAST_TEMPERATURE = 1e-16


@dataclass(frozen=True)
class SimulatedAnnealingOptions:
    """Options of `simulated-annealing`."""

    cooling: float = option(0.85, low=0.01, high=0.999, help="what the temperature is multiplied by")
    sweeps: int = option(10, low=1, high=1000, help="moves of every variable between adaptations of the steps")
    steps: int = option(5, low=1, high=1000, help="adaptations of the steps at one temperature")


@dataclass
class _Here:
    """A code (n,) with its design, f and violation."""

    code: FloatArray
    x: FloatArray
    f: float
    v: float

    def is_better_than(self, other: _Here) -> bool:
        """Return whether it has less violation, or as much and less f."""
        return (self.v, self.f) < (other.v, other.f)


def simulated_annealing(task: Task, options: SimulatedAnnealingOptions) -> Protocol:
    """Run the method on `task`; see the head of this file."""
    n = len(task.start)
    coding, rng = Coding.of(task), np.random.default_rng([task.seed, 27])
    first = yield from first_population(task, coding, spread(coding, FIRST_DESIGNS, rng))
    if first is None:
        return Ending("invalid", "no design of the first ones has finite values")
    rest = rest_of(task, first)
    place = first.best
    best = _Here(first.codes[place].copy(), first.x[place], float(first.f[place]), float(first.v[place]))
    temperature = first_temperature = FIRST_SHARE * max(_spread(first.f), rest.least_size)
    level = first_level = _spread(np.append(first.v, 0.0))
    lengths = np.where(coding.is_discrete, np.maximum(coding.widths, 1.0), coding.widths)
    recent: deque[float] = deque(maxlen=RESTING)
    round_number = 0
    while True:
        here = best
        for _ in range(options.steps):
            accepted = np.zeros(n)
            for _ in range(options.sweeps):
                for j in range(n):
                    code = here.code.copy()
                    code[j] = _moved(coding, code[j], lengths[j], j, rng)
                    point = coding.decoded(code[np.newaxis])
                    reply = yield Request(point)
                    misses = task.misses(reply.rows[0]) / task.row_sizes
                    v = float(np.where(misses <= task.feasibility, 0.0, misses).sum())
                    f = float(reply.objective[0])
                    if not (math.isfinite(f) and math.isfinite(v)):
                        continue
                    trial = _Here(code, point[0], f, v)
                    if _is_accepted(trial, here, temperature, level, first_level, rng.random()):
                        here, accepted[j] = trial, accepted[j] + 1.0
                    if trial.is_better_than(best):
                        best = trial
            share = accepted / options.sweeps
            lengths = np.where(share > HIGH, lengths * (1.0 + VARIATION * (share - HIGH) / (1.0 - HIGH)), lengths)
            lengths = np.where(share < LOW, lengths / (1.0 + VARIATION * (LOW - share) / LOW), lengths)  # (2)
            lengths = np.minimum(lengths, coding.widths)
            lengths = np.where(coding.is_discrete, np.maximum(lengths, 1.0), lengths)
            yield Iterate(best.x, float(lengths.max()), f"temperature {temperature:.2e}")
        recent.append(best.f)
        round_number += 1
        size = max(abs(best.f), rest.least_size)
        is_level = len(recent) == RESTING and max(recent) - min(recent) <= task.tolerance * size
        if is_level and temperature <= task.tolerance * size * 0.1:
            break
        if temperature <= LEAST_TEMPERATURE * first_temperature:
            break
        temperature *= options.cooling
        level = first_level * (temperature / first_temperature)  # (3)
        if level <= task.feasibility:
            level = 0.0
    if best.v > 0.0:
        return Ending("stalled", "the search has cooled down at a design that misses a limit")
    return Ending("settled", "the search has cooled down, which is no proof that nothing better exists")


METHOD = Method(
    name="simulated-annealing",
    about="single steps, worse ones accepted by a falling temperature: rough landscapes, whole numbers",
    kind="global",
    needs="values",
    handles=frozenset({"bounds", "inequalities", "equalities", "spaced", "catalogue"}),
    options=SimulatedAnnealingOptions,
    run=simulated_annealing,
    cost="1 value per step",
    weak="slow; equalities; last digits",
    is_random=True,
    takes_known=True,
)


def _spread(values: FloatArray) -> float:
    finite = values[np.isfinite(values)]
    return float(np.subtract(*np.percentile(finite, [75, 25]))) if len(finite) > 1 else 0.0


def _moved(coding: Coding, value: float, length: float, j: int, rng: np.random.Generator) -> float:
    """Return one code moved within its bounds; that of a choice anywhere."""
    if coding.is_unordered[j]:
        return float(coding.elsewhere(np.array([value]), np.array([j]), rng)[0])
    low, high = float(coding.lower[j]), float(coding.upper[j])
    step = length * rng.uniform(-1.0, 1.0)
    if coding.is_discrete[j]:
        step = math.copysign(max(round(abs(step)), 1.0), step)
    moved = value + step
    if not low <= moved <= high:  # anywhere within reach instead
        moved = rng.uniform(max(low, value - length), min(high, value + length))
        moved = round(moved) if coding.is_discrete[j] else moved
    return float(min(max(moved, low), high))


def _is_accepted(
    trial: _Here, here: _Here, temperature: float, level: float, first_level: float, chance: float
) -> bool:
    """Return whether a move is made, (1) with (3)."""
    if max(trial.v, here.v) <= level:
        change, scale = trial.f - here.f, temperature
    else:
        change, scale = trial.v - here.v, max(level, 1e-3 * first_level)
    if change <= 0.0:
        return True
    return scale > 0.0 and chance < math.exp(-min(change / scale, 700.0))
