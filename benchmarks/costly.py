"""What methods for costly models promise: how near they come to known optima with few evaluations, against a search
without surfaces. `python -m benchmarks.costly [--quick]`."""

from __future__ import annotations

import math
import sys
import time
from collections.abc import Callable, Sequence
from dataclasses import dataclass

import numpy as np

from benchmarks.approximating import SIX, THREE, branin, camel, hartmann
from ilvren.methods.base import Iterate, Reply, Request, Task, method_named

Values = Callable[[np.ndarray], np.ndarray]


@dataclass(frozen=True)
class Case:
    """A published function on shares of its box, with limits g <= 0, its optimum, and its range over the box."""

    name: str
    n: int
    f: Values
    optimum: float
    limits: Sequence[Values] = ()


def goldstein(x: np.ndarray) -> np.ndarray:
    a, b = (4 * x - 2).T
    one = 1 + (a + b + 1) ** 2 * (19 - 14 * a + 3 * a**2 - 14 * b + 6 * a * b + 3 * b**2)
    other = 30 + (2 * a - 3 * b) ** 2 * (18 - 32 * a + 12 * a**2 + 48 * b - 36 * a * b + 27 * b**2)
    return one * other


def levy(x: np.ndarray) -> np.ndarray:
    w = 1 + (20 * x - 11) / 4
    inner = ((w[:, :-1] - 1) ** 2 * (1 + 10 * np.sin(np.pi * w[:, :-1] + 1) ** 2)).sum(axis=1)
    last = (w[:, -1] - 1) ** 2 * (1 + np.sin(2 * np.pi * w[:, -1]) ** 2)
    return np.sin(np.pi * w[:, 0]) ** 2 + inner + last


def rosenbrock(x: np.ndarray) -> np.ndarray:
    z = 4 * x - 2
    return (100 * (z[:, 1:] - z[:, :-1] ** 2) ** 2 + (1 - z[:, :-1]) ** 2).sum(axis=1)


def styblinski(x: np.ndarray) -> np.ndarray:
    z = 10 * x - 5
    return 0.5 * (z**4 - 16 * z**2 + 5 * z).sum(axis=1)


def shekel(x: np.ndarray) -> np.ndarray:
    a = np.array([[4, 4, 4, 4], [1, 1, 1, 1], [8, 8, 8, 8], [6, 6, 6, 6], [3, 7, 3, 7], [2, 9, 2, 9], [5, 5, 3, 3]])
    c = np.array([0.1, 0.2, 0.2, 0.4, 0.4, 0.6, 0.3])
    return -(1.0 / (((10 * x[:, None] - a) ** 2).sum(axis=2) + c)).sum(axis=1)


def ackley(x: np.ndarray) -> np.ndarray:
    z = 40 * x - 15
    near = -20 * np.exp(-0.2 * np.sqrt((z**2).mean(axis=1)))
    return near - np.exp(np.cos(2 * np.pi * z).mean(axis=1)) + 20 + math.e


def beam_cost(x: np.ndarray) -> np.ndarray:
    h, length, t, b = beam_sizes(x)
    return 1.10471 * h**2 * length + 0.04811 * t * b * (14 + length)


def beam_sizes(x: np.ndarray) -> tuple[np.ndarray, ...]:
    low, high = np.array([0.1, 0.1, 0.1, 0.1]), np.array([2.0, 10.0, 10.0, 2.0])
    return tuple((low + (high - low) * x).T)


def beam_shear(x: np.ndarray) -> np.ndarray:
    h, length, t, _ = beam_sizes(x)
    one = 6000 / (math.sqrt(2) * h * length)
    r = np.sqrt(length**2 / 4 + ((h + t) / 2) ** 2)
    j = 2 * (math.sqrt(2) * h * length * (length**2 / 12 + ((h + t) / 2) ** 2))
    two = 6000 * (14 + length / 2) * r / j
    return np.log(np.sqrt(one**2 + one * two * length / r + two**2) / 13600)


def beam_buckling(x: np.ndarray) -> np.ndarray:
    _, _, t, b = beam_sizes(x)
    return 64746.022 * (1 - 0.0282346 * t) * t * b**3


CASES = [
    Case("branin", 2, branin, 0.397887),
    Case("camel", 2, camel, -1.031628),
    Case("goldstein-price", 2, goldstein, 3.0),
    Case("ackley", 2, ackley, 0.0),
    Case("hartmann-3", 3, hartmann(THREE), -3.86278),
    Case("rosenbrock", 4, rosenbrock, 0.0),
    Case("shekel", 4, shekel, -10.4029),
    Case("styblinski-tang", 5, styblinski, -39.16617 * 5),
    Case("hartmann-6", 6, hartmann(SIX), -3.32237),
    Case("levy", 8, levy, 0.0),
]
LIMITED = [
    Case("branin, in a disc", 2, branin, 0.397887, [lambda x: ((x - [0.54, 0.15]) ** 2).sum(axis=1) - 0.04]),
    Case("a sum above waves", 2, lambda x: x.sum(axis=1), 0.599788, [
        lambda x: 1.5 - x[:, 0] - 2 * x[:, 1] - 0.5 * np.sin(2 * np.pi * (x[:, 0] ** 2 - 2 * x[:, 1])),
        lambda x: x[:, 0] ** 2 + x[:, 1] ** 2 - 1.5,
    ]),
    Case("welded beam", 4, beam_cost, 1.724852, [
        beam_shear,
        lambda x: np.log(504000 / (beam_sizes(x)[2] ** 2 * beam_sizes(x)[3]) / 30000),
        lambda x: beam_sizes(x)[0] - beam_sizes(x)[3],
        lambda x: np.log(2.1952 / (beam_sizes(x)[2] ** 3 * beam_sizes(x)[3]) / 0.25),
        lambda x: np.log(6000 / beam_buckling(x)),
    ]),
]  # fmt: skip


def best_after(case: Case, method: str, most: int, seed: int) -> float:
    """The best feasible value of so many evaluations."""
    rng, m = np.random.default_rng([seed, 7]), len(case.limits)
    task = Task(
        start=rng.random(case.n),
        lower=np.zeros(case.n),
        upper=np.ones(case.n),
        row_lower=np.full(m, -np.inf),
        row_upper=np.zeros(m),
        row_sizes=np.ones(m),
        seed=seed,
    )
    own = method_named(method)
    generator, answer, made, best = own.run(task, own.options()), None, 0, math.inf
    try:
        while made < most:
            message = generator.send(answer)
            answer = None
            if isinstance(message, Request):
                x = message.points[: most - made]
                f = case.f(x)
                rows = np.array([limit(x) for limit in case.limits]).T.reshape(len(x), m)
                made += len(x)
                best = min([best, *f[(rows <= 1e-6).all(axis=1)].tolist()])
                if len(x) < len(message.points):
                    break
                answer = Reply(f, rows)
            elif isinstance(message, Iterate):
                from ilvren.methods.base import Assessment

                answer = Assessment(0.0, None, False)
    except StopIteration:
        pass
    return best


def main() -> None:
    seeds = range(3) if "--quick" in sys.argv else range(10)
    for cases, times, told in ((CASES, 15, "bounds alone"), (LIMITED, 20, "with limits")):
        reached = []
        for case in cases:
            sample = case.f(np.random.default_rng(0).random((20_000, case.n)))
            size = float(sample.max() - case.optimum)
            began = time.perf_counter()
            best = [best_after(case, "expected-improvement", times * case.n, seed) for seed in seeds]
            took = (time.perf_counter() - began) / len(seeds)
            other = [best_after(case, "mesh-adaptive-search", times * case.n, seed) for seed in seeds]
            own = [value <= case.optimum + 0.01 * size for value in best]
            reached += own
            share = np.mean([value <= case.optimum + 0.01 * size for value in other])
            print(
                f"{case.name:18s} {case.n} variables, {times * case.n:3d} evaluations: within 1 % of the range"
                f" {100 * np.mean(own):3.0f} % (mesh-adaptive-search {100 * share:3.0f} %), median miss"
                f" {(np.median(best) - case.optimum) / size:.1e}, {took:.1f} s",
                flush=True,
            )
        print(f"{told}: {100 * np.mean(reached):.0f} % (limit 80 %)")


if __name__ == "__main__":
    main()
