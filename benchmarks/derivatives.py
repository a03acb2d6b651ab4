"""Derivatives against values, batches against hand-written NumPy, loading: all ratios within one run.

gradient       of a formula objective by its own value, 10 to 100,000 variables
Jacobian       of a banded system with 100,000 rows by its value (pattern and colours found before)
Hessian        of the Lagrangian of the same system by the value of objective and rows
batch          100,000 designs of a ten-variable problem by the same in NumPy
scalar values  by hand-written Python (their gradients: see `evaluation`)
loading        1,000 scalar formulas, in seconds; a vector problem of ten times the length
"""

from __future__ import annotations

import time
from typing import Any

import numpy as np
from numpy.typing import NDArray

from benchmarks.evaluation import by_hand, demo_problem
from benchmarks.timing import line, ratio
from ilvren.evaluate import Gate
from ilvren.evaluate.forms import form_of
from ilvren.formula import gradient
from ilvren.problem import Problem, loads

FloatArray = NDArray[np.float64]

GRADIENT_SIZES = (10, 100, 1_000, 10_000, 100_000)
ROWS, DESIGNS = 100_000, 100_000

CHAIN = """
[parameters]
n = 1000
[variables]
u = {{ start = "0.3 + 0.4 * sin(evenly(0, 30, n))", shape = "n" }}
[minimize]
f = "{objective}"
"""
OBJECTIVES = {
    "sum of squares and a product": "sum((u[1:] - u[:-1]^2)^2) + sum((1 - u)^2)",
    "transcendental": "sum(exp(-u^2) * sin(3 * u)) + log(1 + sum(u^2))",
}
BANDED = """
[parameters]
n = 100002
[variables]
u = { start = "0.3 + 0.4 * sin(evenly(0, 30, n))", shape = "n" }
[minimize]
f = "sum((u - 1)^2) + sum(exp(u[1:] * u[:-1]) / 10)"
[constraints]
c = "(3 - 2 * u[1:-1]) * u[1:-1] - u[:-2] - 2 * u[2:] + 1 <= 4"
"""
TEN = (
    """
[variables]
"""
    + "\n".join(f"x{i} = {{ start = {0.1 * i + 0.2}, lower = 0.01, upper = 3 }}" for i in range(10))
    + """
[derived]
load  = "x0 * x1 + 2 * x2^2 - sqrt(x3 * x4)"
heat  = "exp(-0.3 * x5) * sin(x6) + x7 / (1 + x8^2)"
[minimize]
f = "load^2 + 3 * heat + log(1 + x9) + hypot(x0, x9)"
[constraints]
c0 = "x0 + x1 + x2 + x3 <= 5"
c1 = "load - heat * x9 >= -4"
c2 = "max(x4, x5) * tanh(x6) <= 2"
"""
)


def ten_by_hand(x: FloatArray) -> tuple[FloatArray, FloatArray]:
    """Return what the ten-variable problem says at designs (k, 10), as one writes it in NumPy."""
    x0, x1, x2, x3, x4, x5, x6, x7, x8, x9 = x.T
    load = x0 * x1 + 2 * x2**2 - np.sqrt(x3 * x4)
    heat = np.exp(-0.3 * x5) * np.sin(x6) + x7 / (1 + x8**2)
    f = load**2 + 3 * heat + np.log(1 + x9) + np.hypot(x0, x9)
    rows = np.column_stack([x0 + x1 + x2 + x3, load - heat * x9, np.maximum(x4, x5) * np.tanh(x6)])
    return f, rows


def gradients() -> None:
    """Gradient of an objective by its value, compiled code both."""
    for name, objective in OBJECTIVES.items():
        for n in GRADIENT_SIZES:
            problem = loads(CHAIN.format(objective=objective), set={"n": n})
            assert problem.objective is not None
            node = problem.objective.node
            slopes = gradient(problem.graph, node)
            value, slope = form_of(problem, [node]), form_of(problem, list(slopes.values()))
            point = problem.split(problem.start)
            repeats = max(1, 20_000 // n)

            def of_value(value: Any = value, point: Any = point, repeats: int = repeats) -> None:
                for _ in range(repeats):
                    value(point)

            def of_slope(slope: Any = slope, point: Any = point, repeats: int = repeats) -> None:
                for _ in range(repeats):
                    slope(point)

            found = ratio(of_slope, of_value, rounds=25)
            line(f"gradient / value, n = {n}: {name}", found, 5.0, unit=1e6 / repeats, name="us")


def matrices() -> None:
    """Sparse Jacobian and Hessian by the values they belong to."""
    problem = loads(BANDED)
    gate = Gate(problem)
    point = np.array(problem.start)
    variables = problem.split(point)
    rows = form_of(problem, [block.node for block in problem.row_blocks])
    assert problem.objective is not None
    both = form_of(problem, [problem.objective.node, *(block.node for block in problem.row_blocks)])
    gate.written.jacobian(point)
    found = ratio(lambda: gate.written.jacobian(point), lambda: rows(variables), rounds=25)
    line(f"Jacobian / value, banded, {ROWS} rows", found, 15.0)
    multipliers = np.linspace(-1.0, 1.0, problem.row_count)
    gate.written.hessian(point, multipliers)
    found = ratio(lambda: gate.written.hessian(point, multipliers), lambda: both(variables), rounds=15)
    line("Hessian of the Lagrangian / value of objective and rows", found, 60.0)


def batches() -> None:
    """100,000 designs at once."""
    problem = loads(TEN)
    gate = Gate(problem)
    points = np.random.default_rng(3).uniform(0.05, 2.5, size=(DESIGNS, 10))
    ours, hand = gate.written.batch(points), ten_by_hand(points)
    np.testing.assert_allclose(ours.objective, hand[0], rtol=1e-12)
    np.testing.assert_allclose(ours.rows, hand[1], rtol=1e-12)
    found = ratio(lambda: gate.written.batch(points), lambda: ten_by_hand(points), rounds=25)
    line(f"batch of {DESIGNS} designs / NumPy by hand", found, 1.5)


def scalars() -> None:
    """Values of the small demo by plain Python."""
    problem = demo_problem()
    form = form_of(problem, [problem.objective.node, *(b.node for b in problem.row_blocks)])
    points = np.random.default_rng(1).uniform([0.1, 3.0, 0.015], [0.3, 15.0, 0.04], size=(2000, 3)).tolist()

    def hand(bore: float, wall: float, duty: float) -> tuple[float, ...]:
        speed = 4.0 * duty / (3.141592653589793 * bore * bore)
        head = 58.0 + 0.019 * 640.0 / bore * speed * speed / 19.62
        power = 1000.0 * 9.81 * head * duty / 0.68 / 1000.0
        hours = 900.0 / (3600.0 * duty)
        wave = 1.0 / (1000.0 * (1.0 / 2.1e9 + 1000.0 * bore / (1.4e9 * wall))) ** 0.5
        surge = 1000.0 * wave * speed / 1e6
        hoop = (1000.0 * 9.81 * head / 1e6 + 0.5 * surge) * 1000.0 * bore / (2.0 * wall)
        pipe = 640.0 * (14.0 + 960.0 * 3.141592653589793 * (bore + wall / 1000.0) * wall / 1000.0 * 6.2)
        return pipe + 2600.0 + 520.0 * power**0.85 + power * hours * 110.0 * 20.0 * 0.19, speed, surge, hoop, hours

    np.testing.assert_allclose(form(points[0]), hand(*points[0]), rtol=1e-12)
    np.testing.assert_allclose(hand(*points[0])[0], by_hand(*points[0])[0], rtol=1e-12)
    found = ratio(lambda: [form(p) for p in points], lambda: [hand(*p) for p in points], rounds=25)
    line("objective and 4 rows: values / by hand", found, 2.0, unit=1e6 / 2000, name="us")


def many_formulas(count: int) -> str:
    """Return a problem of `count` scalar formulas, each of two others, over 20 variables."""
    lines = ["[variables]", *(f"x{i} = {{ start = {0.1 * i + 0.5}, lower = 0.1, upper = 5 }}" for i in range(20))]
    lines.append("[derived]")
    for i in range(count):
        a = f"d{i - 1}" if i % 7 else f"x{i % 20}"
        lines.append(f'd{i} = "sqrt(1 + ({a} * 0.3 + x{(3 * i) % 20})^2) - 0.1 * sin(x{(5 * i + 1) % 20})"')
    lines += ["[minimize]", f'f = "{" + ".join(f"d{i}" for i in range(0, count, 10))}"', "[constraints]"]
    lines += [f'c{i} = "d{i} + x{i % 20} <= 50"' for i in range(0, count, 5)]
    return "\n".join(lines)


def loading() -> None:
    """Seconds to load and compile, and growth with length."""
    text = many_formulas(1000)
    best = min(_seconds_to_evaluate(text, {}) for _ in range(3))
    verdict = "ok" if best <= 1.0 else "MISSED"
    print(
        f"{'load, compile, first value and derivatives: 1,000 scalar formulas':<74} {best:9.3f} s   limit 1  {verdict}"
    )
    chain = CHAIN.format(objective=OBJECTIVES["transcendental"])
    found = ratio(lambda: loads(chain, set={"n": 100_000}), lambda: loads(chain, set={"n": 10_000}), rounds=9)
    line("loading a vector problem: 100,000 / 10,000 elements", found, 12.0)


def _seconds_to_evaluate(text: str, values: dict[str, float]) -> float:
    began = time.perf_counter()
    problem: Problem = loads(text, set=values)
    Gate(problem).evaluate(np.array(problem.start), derivatives=True)
    return time.perf_counter() - began


def main() -> None:
    """Print all ratios."""
    gradients()
    matrices()
    batches()
    scalars()
    loading()


if __name__ == "__main__":
    main()
