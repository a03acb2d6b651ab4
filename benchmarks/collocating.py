"""The best control at every moment: published problems from constant guesses, the error told, large grids, receding."""

from __future__ import annotations

import statistics
import sys
import time
from typing import Any

import numpy as np

from benchmarks.control_problems import PROBLEMS, ControlProblem
from benchmarks.timing import line
from ilvren.problem import Refinement, loads
from ilvren.problem.courses import courses_of
from ilvren.runs import RunResult, run
from ilvren.runs.receding import Receding, receded
from ilvren.runs.settings import Settings

LARGE = """
[time]
to = 100
steps = {steps}
[states]
a = {{ rate = "-0.5 * a + u", initial = 1 }}
b = {{ rate = "a - 0.3 * b * b", initial = 0.5 }}
c = {{ rate = "b - 0.4 * c", initial = 0 }}
d = {{ rate = "c - 0.2 * d", initial = 0, upper = 9 }}
[controls]
u = {{ start = 0.2, lower = 0, upper = 1, form = "pointwise" }}
[minimize]
cost = "integral((d - 2)^2 + 0.1 * u^2)"
"""
SMALL = """
[time]
to = 5
steps = 20
[states]
x = { rate = "v", initial = 1 }
v = { rate = "-x - 0.2 * v + u + 0.1 * sin(t)", initial = 0 }
[controls]
u = { start = 0, lower = -1, upper = 1, pieces = 20 }
[minimize]
cost = "integral(x^2 + 0.1 * u^2)"
"""
# Seconds that one problem may take.
MOST_SECONDS = 60.0


class _Watch:
    """Notes the iterations of the first grid, and the seconds of every iteration."""

    def __init__(self) -> None:
        self.first: int | None = None
        self.last = 0
        self.seconds: list[float] = []
        self._at = time.perf_counter()

    def __call__(self, event: Any) -> None:
        name = type(event).__name__
        if name == "Iterated":
            now = time.perf_counter()
            self.seconds.append(now - self._at)
            self._at, self.last = now, event.iteration
        elif name in ("Finer", "Ended") and self.first is None:
            self.first = self.last


def true_error(result: RunResult) -> float:
    """Return the largest error of a state over its size, against one integration from the first values on."""
    from scipy.integrate import solve_ivp

    assert result.whole is not None
    worst = 0.0
    for course in courses_of(result.whole, np.array(result.full_point)):
        x = course.flat[0]
        for k in range(course.intervals):
            low, high = float(course.taus[k]), float(course.taus[k + 1])

            def rates(tau: float, y: Any, low: float = low, high: float = high, course: Any = course) -> Any:
                at = np.array([tau])
                return course.code.values(course.inputs(at, np.array([tau > 0.5 * (low + high)]), y[np.newaxis]))[0]

            moments = low + (high - low) * course.scheme.points[1:]
            found = solve_ivp(rates, (low, high), x, method="DOP853", rtol=1e-11, atol=1e-12, t_eval=moments)
            own = course.flat[k * course.scheme.width + 1 : (k + 1) * course.scheme.width + 1]
            worst = max(worst, float((np.abs(found.y.T - own) / course.sizes).max()))
            x = found.y[:, -1]
    return worst


def published(*, quick: bool = False) -> None:
    """Solve the published problems as files with no flag."""
    solved, first, told, count = 0, list[int](), list[bool](), 0
    for item in PROBLEMS[:: 3 if quick else 1]:
        count += 1
        watch = _Watch()
        began = time.perf_counter()
        result = run(loads(item.text), listener=watch, seconds=MOST_SECONDS)
        off = _off(result, item)
        is_solved = result.outcome == "converged" and off <= 1e-4
        solved += is_solved
        first.append(watch.first or 0)
        error = ""
        if result.outcome == "converged" and result.time_error is not None:
            true, said = true_error(result), result.time_error.estimate
            is_told = true / 5.0 <= said <= 5.0 * true or max(true, said) < 1e-9
            told.append(is_told)
            error = f"error told {said:.1e}, true {true:.1e}"
        print(
            f"  {item.name:<24} {'ok    ' if is_solved else 'MISSED'} off {off:.1e}, {watch.first:4d} iterations on the"
            f" first grid, {len(result.stages) + 1} stages, {time.perf_counter() - began:5.1f} s  {error}"
        )
    share, of_told = solved / count, sum(told) / max(len(told), 1)
    print(f"published problems solved to 1e-4: {solved} of {count} (limit 90 %)  {'ok' if share >= 0.9 else 'MISSED'}")
    print(f"time error told within a factor of 5: {of_told:.0%} (limit 80 %)  {'ok' if of_told >= 0.8 else 'MISSED'}")
    median = statistics.median(first)
    print(f"iterations on the first grid, median: {median:g} (limit 15)  {'ok' if median <= 15 else 'MISSED'}")


def _off(result: RunResult, item: ControlProblem) -> float:
    return abs((result.objective or np.inf) - item.optimum) / abs(item.optimum)


def large() -> None:
    """Solve grids of 2,500 to 10,000 intervals: an iteration against a factorization, and how memory grows."""
    import scipy.sparse.linalg as sparse

    from ilvren.algebra import kkt

    del kkt
    original, factored = sparse.splu, list[float]()

    def timed(*given: Any, **more: Any) -> Any:
        began = time.perf_counter()
        found = original(*given, **more)
        factored.append(time.perf_counter() - began)
        return found

    for scheme in ("trapezoid", "radau"):
        for steps in (2500, 10_000):
            factored.clear()
            watch = _Watch()
            sparse.splu = timed
            began = time.perf_counter()
            try:
                result = run(loads(LARGE.format(steps=steps), refinement=Refinement(scheme=scheme)), listener=watch)
            finally:
                sparse.splu = original
            whole = time.perf_counter() - began
            each, one = statistics.median(watch.seconds[1:]), statistics.median(factored)
            what = f"{steps} intervals, 4 states, {scheme}: an iteration / a factorization"
            line(what, (each, one, each / one), 2.5)
            print(f"  {result.outcome} in {whole:.1f} s (limit 60)  {'ok' if whole <= 60 else 'MISSED'}")


def receding() -> None:
    """Time the windows of a small problem."""
    loop = receded(loads(SMALL), Receding(5.0, 0.25, 10.0), Settings(method="interior-point"))
    seconds = [step.seconds for step in loop.steps[1:]]
    median = 1e3 * statistics.median(seconds)
    verdict = "ok" if median < 30.0 and not loop.failed else "MISSED"
    print(f"a receding step of a small problem, median: {median:.1f} ms (limit 30)  {verdict}")


def main() -> None:
    """Print all figures."""
    receding()
    large()
    published(quick="--quick" in sys.argv)


if __name__ == "__main__":
    main()
