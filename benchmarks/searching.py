"""Searches without derivatives: shares solved, own cost for an evaluation, what workers and the ledger cost."""

from __future__ import annotations

import statistics
import tempfile
import time
from pathlib import Path

import numpy as np
from tests.multimodal import MIXED, MULTIMODAL
from tests.published import PUBLISHED

from ilvren import loads, run
from ilvren.methods.base import Assessment, Iterate, Reply, Task, method_named
from ilvren.methods.pieces.options import options_from

SEEDS = 20
MOST = 50_000
# An optimum is reached within this share of the larger of 1 and its size, or of what there was to gain.
CLOSE = 1e-4


def local(maximum: dict[str, int] | None = None) -> None:
    """Print the share of the published smooth problems that local methods solve within their evaluations."""
    for method, each, most, least in (
        ("quadratic-interpolation", 40, 10, 0.9),
        ("mesh-adaptive-search", 300, 10, 0.8),
        ("nelder-mead", 2000, 5, 0.9),
    ):
        hits, count, unsolved = 0, 0, []
        for case in PUBLISHED:
            n = len(case.starts)
            if n > most:
                continue
            result = run(case.problem(), method=method, evaluations=each * (n + 1))
            gain = abs((result.baseline_objective or 0.0) - case.best)
            is_close = result.objective is not None and result.objective - case.best <= CLOSE * max(
                abs(case.best), gain
            )
            count += 1
            if is_close and result.violation <= 1e-6:
                hits += 1
            else:
                unsolved.append(case.name)
        print(
            f"{method:<24} {hits / count:6.1%} (least {least:.0%}) of {count} published problems of up to"
            f" {most} variables in {each}(n + 1) evaluations; not: {', '.join(unsolved) or 'none'}"
        )


def multimodal(seeds: int = SEEDS) -> None:
    """Print the share of seeds that find the published optimum of multimodal functions."""
    for method, least in (("global", 0.95), ("cma-es", 0.8), ("differential-evolution", 0.8)):
        shares: dict[str, float] = {}
        for case in MULTIMODAL:
            problem, hits = case.problem(), 0
            for seed in range(seeds):
                result = run(problem, method=method, seed=seed, evaluations=MOST)
                assert result.objective is not None
                hits += result.objective - case.best <= CLOSE * max(1.0, abs(case.best))
            shares[f"{case.name} {case.n}"] = hits / seeds
        weak = ", ".join(f"{name} {share:.0%}" for name, share in shares.items() if share < 1.0)
        mean = statistics.mean(shares.values())
        print(
            f"{method:<24} {mean:6.1%} (least {least:.0%}) of {seeds} seeds on {len(shares)} functions;"
            f" below all: {weak}"
        )


def mixed(seeds: int = SEEDS) -> None:
    """Print the share of seeds that find the best known mixed discrete designs."""
    for method in (None, "differential-evolution", "genetic-algorithm"):
        told = []
        for name, text, best in MIXED:
            problem, hits = loads(text, file=name), 0
            for seed in range(seeds if method else 1):
                result = run(problem, method=method, seed=seed)
                is_met = result.objective is not None and result.violation <= 1e-6
                hits += is_met and result.objective <= best * (1.0 + CLOSE) + 1e-13
            told.append(f"{name} {hits / (seeds if method else 1):.0%}")
        print(f"{method or 'default':<24} {', '.join(told)} (least 90%)")


def own_cost() -> None:
    """Print what population methods take for themselves, for each evaluation of a function of ten variables."""
    for method, options, most in (
        ("differential-evolution", {"population": 100, "horizon": 10_000_000}, 5.0),
        ("genetic-algorithm", {"population": 100}, 5.0),
        ("particle-swarm", {"particles": 100}, 5.0),
        ("cma-es", {"restarts": 0}, 40.0),
        ("cma-es", {"population": 100, "restarts": 0}, 5.0),
    ):
        own, evaluation, count = _driven(method, options)
        size = f" of {options['population']}" if "population" in options else ""
        print(
            f"{method + size:<30} {1e6 * own / count:6.2f} µs (most {most:g}) for each evaluation,"
            f" {own / evaluation:.1f} times the evaluation itself"
        )


def _driven(method: str, options: dict[str, float], most: int = 20_000) -> tuple[float, float, int]:
    """Drive a method on a vectorised function; return its own seconds, those of the function, and the evaluations."""
    declared, n = method_named(method), 10
    task = Task(
        start=np.full(n, 0.3),
        lower=np.full(n, -0.5),
        upper=np.full(n, 0.5),
        row_lower=np.zeros(0),
        row_upper=np.zeros(0),
        row_sizes=np.zeros(0),
    )
    generator = declared.run(task, options_from(declared, options))
    message, count, evaluation = next(generator), 0, 0.0
    began = time.perf_counter()
    try:
        while count < most:
            if isinstance(message, Iterate):
                message = generator.send(Assessment(0.0, None, False))
                continue
            start = time.perf_counter()
            x = message.points * 10.24
            values = 100.0 + (x * x - 10.0 * np.cos(6.283185307179586 * x)).sum(axis=1)
            evaluation += time.perf_counter() - start
            count += len(x)
            message = generator.send(Reply(values, np.zeros((len(x), 0))))
    except StopIteration:
        pass
    return time.perf_counter() - began - evaluation, evaluation, count


MODEL = """import time

def value(x, y):
    until = time.perf_counter() + {seconds}
    if {sleeps}:
        time.sleep({seconds})
    while time.perf_counter() < until:
        pass
    return {{"z": (x - 1.0) ** 2 + (y + 0.5) ** 2}}
"""
PROBLEM = """[variables]
x = { start = 0.2, lower = -2, upper = 2 }
y = { start = 0.3, lower = -2, upper = 2 }
[models.m]
python = "model.py:value"
outputs = ["z"]
[minimize]
f = "m.z"
"""


def workers() -> None:
    """Print what two workers gain on a model of 50 ms, their start included, and what the ledger costs."""
    with tempfile.TemporaryDirectory() as folder:
        (Path(folder) / "model.py").write_text(MODEL.format(seconds=0.05, sleeps=True))
        path = Path(folder) / "problem.toml"
        path.write_text(PROBLEM)
        options = {"population": 16}
        given = {"method": "differential-evolution", "options": options, "evaluations": 320}
        one = _timed(path, given, workers=1)
        two = _timed(path, given, workers=2)
        alone = _timed(path, given)
        recorded = _timed(path, given, ledger=Path(folder) / "a.ledger")
    print(f"two workers {one / two:5.2f} times as fast as one, {alone / two:.2f} times as none (least 1.85)")
    print(f"the ledger costs {recorded / alone - 1.0:6.2%} of a run with a model of 50 ms (most 3%)")


def _timed(path: Path, given: dict[str, object], **more: object) -> float:
    began = time.perf_counter()
    run(path, **given, **more)
    return time.perf_counter() - began


def main() -> None:
    """Print all."""
    local()
    multimodal()
    mixed()
    own_cost()
    workers()
