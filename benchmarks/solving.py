"""Whole solutions: the share solved, counts, own time, and how time grows, on manufactured and published problems."""

from __future__ import annotations

import statistics
import time
from collections import deque
from pathlib import Path

import numpy as np
from tests.families import FAMILIES, made
from tests.published import PUBLISHED

import ilvren
from benchmarks.evaluation import demo_problem
from ilvren import run, verify
from ilvren.algebra import KktSystem
from ilvren.methods.base import Reply, Task, method_named
from ilvren.methods.l_bfgs import Pair, two_loops
from ilvren.problem import Problem, load

TRENCH = Path(ilvren.__file__).parent / "demos" / "trench" / "trench.toml"
SEEDS = range(12)
EVALUATIONS = 3000


def cases() -> list[tuple[str, Problem, float]]:
    """Return (name, problem, best objective known) of all manufactured and published problems."""
    found = [(case.name, case.problem(), case.best) for case in PUBLISHED]
    for family in FAMILIES:
        for seed in SEEDS:
            case = made(family, seed)
            found.append((case.name, case.problem, case.best))
    return found


def shares() -> None:
    """Print the share solved by each method, and counts and own time on small problems."""
    for method, limit in (("sqp", 0.98), ("interior-point", 0.98), (None, 0.995)):
        hits = certain = false = 0
        evaluations, iterations, seconds, unsolved = [], [], [], []
        for name, problem, best in cases():
            began = time.perf_counter()
            result = run(problem, method=method, evaluations=EVALUATIONS)
            seconds.append(time.perf_counter() - began)
            evaluations.append(result.counts["evaluations"])
            iterations.append(result.counts["iterations"])
            gap = (result.objective - best) / max(abs(best), 1e-300 if best else 1.0)
            is_feasible = result.violation <= 1e-6
            known = is_feasible and abs(gap) <= 1e-6
            strict = known or (is_feasible and verify(result).holds)
            hits += known
            certain += strict
            if not strict:
                unsolved.append(name)
                false += result.outcome == "converged" and (not is_feasible or not result.stationarity <= 1e-6)
        count = len(seconds)
        print(
            f"{method or 'default':<15} known optimum {hits / count:6.1%}, or local-strict {certain / count:6.1%}"
            f" (least {limit:.1%}) of {count}; median {statistics.median(evaluations):g} evaluations,"
            f" {statistics.median(iterations):g} iterations, {1e3 * statistics.median(seconds):.1f} ms;"
            f" false converged {false}; unsolved: {', '.join(unsolved) or 'none'}"
        )


def trench() -> None:
    """Print how iterations and time grow with the size of the trench, and an iteration against its factorization."""
    for stations in (2_000, 20_000, 200_000):
        problem = load(TRENCH, set={"stations": stations})
        factor = _factorization(problem) if stations == 20_000 else 0.0
        began = time.perf_counter()
        result = run(problem)
        took = time.perf_counter() - began
        count = max(result.counts["iterations"], 1)
        print(
            f"trench {stations:>7} stations: {result.outcome} by {result.method}, {count} iterations, {took:.1f} s"
            f" in all, {1e6 * took / stations / count:.1f} µs per station and iteration"
        )
        if stations == 20_000:
            factor = min(factor, _factorization(problem))  # before and after: the machine's pace changes
            ratio = took / result.counts["iterations"] / factor
            print(f"  an iteration, all told, is {ratio:.1f} times one factorization of its KKT matrix (at most 2.2)")


def _factorization(problem: Problem) -> float:
    """Return the seconds of one sparse factorization of the full KKT matrix at the start."""
    from ilvren.evaluate import Gate

    gate = Gate(problem, is_sparse=True)
    point = np.array(problem.start)
    jacobian, hessian = gate.written.jacobian(point), gate.written.hessian(point)
    m, n = jacobian.shape
    system = KktSystem(n, m, is_sparse=True)
    best = np.inf
    for _ in range(4):
        began = time.perf_counter()
        system.factored(hessian, np.ones(n), jacobian, np.full(m, 1e-2))
        best = min(best, time.perf_counter() - began)
    return best


def limited_memory(n: int = 100_000, iterations: int = 60) -> None:
    """Print the own time of an l-bfgs iteration against a bare two-loop recursion with the same memory."""
    method = method_named("l-bfgs")
    empty_rows = dict.fromkeys(("row_lower", "row_upper", "row_sizes"), np.zeros(0))
    task = Task(start=np.zeros(n), lower=np.full(n, -np.inf), upper=np.full(n, np.inf), **empty_rows)
    weights = np.linspace(1.0, 50.0, n)
    none, empty = np.zeros((1, 0)), np.zeros((0, n))
    rng = np.random.default_rng(0)
    pairs: deque[Pair] = deque(maxlen=method.options().memory)
    for _ in range(method.options().memory):
        s = rng.normal(size=n)
        pairs.append((s, weights * s, 1.0 / float(s @ (weights * s))))
    bare, loops = 0.0, 0
    generator = method.run(task, method.options())
    message, own, count, model = next(generator), 0.0, 0, 0.0
    from ilvren.methods.base import Assessment, Iterate

    while count < iterations:
        if isinstance(message, Iterate):
            count += 1
            answer: object = Assessment(0.0, 1.0, False)
        else:
            began = time.perf_counter()
            x = message.points[0]
            g = weights * (x - 1.0) + 0.1 * x**3
            f = float(0.5 * weights @ (x - 1.0) ** 2 + 0.025 * np.sum(x**4))
            answer = Reply(np.array([f]), none, g[np.newaxis], [empty])
            model += time.perf_counter() - began
        began = time.perf_counter()
        try:
            message = generator.send(answer)
        except StopIteration:
            break
        own += time.perf_counter() - began
        began = time.perf_counter()
        two_loops(weights, pairs)  # beside it, so that both meet the same machine
        bare += time.perf_counter() - began
        loops += 1
    print(
        f"l-bfgs, {n} variables: an iteration is {own / count / (bare / loops):.2f} bare two-loop recursions"
        " (at most 1.5)"
    )


def demo() -> None:
    """Print what the first demo costs, by method."""
    problem = demo_problem()
    for method in ("sqp", "interior-point", "augmented-lagrangian", "nelder-mead"):
        run(problem, method=method)
        began = time.perf_counter()
        result = run(problem, method=method)
        solved = time.perf_counter() - began
        counts = f"{result.counts['evaluations']} evaluations, {result.counts['gradients']} gradients"
        print(f"rising-main by {method}: {result.outcome}, {counts}, {solved * 1e3:.1f} ms")


def main() -> None:
    """Print everything."""
    demo()
    limited_memory()
    shares()
    trench()


if __name__ == "__main__":
    main()
