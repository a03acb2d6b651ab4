"""What simulating costs, against one plain simulation, and rates against a right-hand side written by hand."""

from __future__ import annotations

import numpy as np

from benchmarks.timing import line, ratio
from ilvren.dynamics import Simulation
from ilvren.problem import loads

CHAIN = """
[time]
to = 10
steps = 20
[variables]
k1 = { start = 0.3, lower = 0.1, upper = 3 }
k2 = { start = 2.0, lower = 0.1, upper = 3 }
k3 = { start = 0.2, lower = 0.1, upper = 3 }
k4 = { start = 0.5, lower = 0.1, upper = 3 }
k5 = { start = 1.0, lower = 0.1, upper = 3 }
[states]
a = { rate = "-k1 * a + k2 * b", initial = 1 }
b = { rate = "k1 * a - k2 * b - k3 * b * c", initial = 0 }
c = { rate = "-k3 * b * c + k4 * d", initial = 0.8 }
d = { rate = "k3 * b * c - k4 * d - k5 * d", initial = 0 }
e = { rate = "k5 * d", initial = 0 }
[minimize]
cost = "last(e)"
"""
LOOP = """
[time]
to = 10
steps = 20
[variables]
gain = { start = 1.2, lower = 0.5, upper = 2 }
reset = { start = 3.0, lower = 2, upper = 5 }
[states]
x = { rate = "gain * (1 - x) + s - x", initial = 0 }
s = { rate = "(1 - x) / reset", initial = 0 }
[minimize]
cost = "integral((1 - x)^2)"
"""


def by_hand(t: float, x: np.ndarray, k: np.ndarray) -> np.ndarray:
    """The rates of CHAIN as one would write them."""
    flow, back, meet = k[0] * x[0], k[1] * x[1], k[2] * x[1] * x[2]
    split, out = k[3] * x[3], k[4] * x[3]
    return np.array([-flow + back, flow - back - meet, -meet + split, meet - split - out, out])


def main() -> None:
    """Print all ratios."""
    problem = loads(CHAIN)
    simulation: Simulation = problem.simulations[0]
    inputs = problem.simulation_inputs(problem.start)[0]

    def fresh() -> object:
        simulation._kept.clear()
        return simulation.point(inputs)

    weights = np.ones(sum(int(np.prod(shape)) for shape in simulation.output_shapes))
    point = fresh()
    point.jacobian, point.hessian(weights)  # type: ignore[attr-defined]  # compiled once
    plain = lambda: fresh().outputs  # type: ignore[attr-defined]  # noqa: E731
    found = ratio(lambda: fresh().jacobian, plain, rounds=15)  # type: ignore[attr-defined]
    line("values and sensitivities of 5 states by 5 parameters / a plain simulation", found, 4.0)
    found = ratio(lambda: fresh().hessian(weights), plain, rounds=15)  # type: ignore[attr-defined]
    line("values, sensitivities and second derivatives / a plain simulation", found, 8.0)

    system = simulation.system
    moment = point.linear.moments[0, 0].tolist()  # type: ignore[attr-defined]
    x, k = np.array([1.0, 0.1, 0.8, 0.1, 0.0]), np.array(problem.start)

    def ours() -> None:
        for _ in range(2000):
            system.rates(*moment)

    def theirs() -> None:
        for _ in range(2000):
            by_hand(0.0, x, k)

    line("rates as compiled code / written by hand with NumPy", ratio(ours, theirs, rounds=15), 1.5)

    loop = loads(LOOP)
    own: Simulation = loop.simulations[0]
    base = loop.simulation_inputs(loop.start)[0]
    rng = np.random.default_rng(1)
    count = 1000
    many = [np.broadcast_to(np.asarray(value), (count, *np.shape(value))) for value in base]
    for place in range(2):
        many[place] = many[place] * rng.uniform(0.8, 1.2, count)
    flags = [True] * len(many)

    def together() -> None:
        own(None, flags, many).output(0)

    def alone() -> None:
        own._kept.clear()
        _ = own.point(base).outputs

    together()
    line("1,000 designs of a small loop together / one of them alone", ratio(together, alone, rounds=9), 40.0)


if __name__ == "__main__":
    main()
