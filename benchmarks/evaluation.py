"""One evaluation of objective, constraints and all their gradients against a hand-written Python function.

The hand-written function is what a careful engineer writes for `rising-main`: plain floats, common parts named
once, every derivative by the chain rule, lists out. Ours is timed twice: the compiled code, floats in and out like the
hand-written one, and the whole gate with cache, counts and NumPy arrays, at a new design each time.
"""

from __future__ import annotations

import itertools
import math
from importlib import resources

import numpy as np

from benchmarks.timing import line, ratio
from ilvren.evaluate import AsWritten, Gate
from ilvren.evaluate.scalar_forms import ScalarForms
from ilvren.problem import Problem, loads

CALLS, ROUNDS = 2000, 15

# The parameters of the demo.
LENGTH, LIFT, DAILY, FRICTION = 640.0, 58.0, 900.0, 0.019
TARIFF, EFFICIENCY, DAYS, YEARS = 0.19, 0.68, 110.0, 20.0
MODULUS, DENSITY, GRAVITY = 1.4e9, 1000.0, 9.81


def by_hand(bore: float, wall: float, duty: float) -> tuple[float, list[float], list[float], list[list[float]]]:
    """Return cost, [speed, surge, hoop, hours], the gradient of cost and the Jacobian of the rows."""
    speed = 4.0 * duty / (math.pi * bore * bore)
    speed_b, speed_d = -2.0 * speed / bore, speed / duty
    loss = FRICTION * LENGTH / bore * speed * speed / (2.0 * GRAVITY)
    loss_b = -loss / bore + 2.0 * loss / speed * speed_b
    loss_d = 2.0 * loss / speed * speed_d
    head = LIFT + loss
    weight = DENSITY * GRAVITY / EFFICIENCY / 1000.0
    power = weight * head * duty
    power_b, power_d = weight * duty * loss_b, weight * (head + duty * loss_d)
    hours = DAILY / (3600.0 * duty)
    hours_d = -hours / duty
    inner = DENSITY * (1.0 / 2.1e9 + 1000.0 * bore / (MODULUS * wall))
    wave = 1.0 / math.sqrt(inner)
    wave_i = -0.5 * wave / inner
    wave_b = wave_i * DENSITY * 1000.0 / (MODULUS * wall)
    wave_w = -wave_i * DENSITY * 1000.0 * bore / (MODULUS * wall * wall)
    surge = DENSITY * wave * speed / 1e6
    surge_b = DENSITY / 1e6 * (wave_b * speed + wave * speed_b)
    surge_w = DENSITY / 1e6 * wave_w * speed
    surge_d = DENSITY / 1e6 * wave * speed_d
    lift = DENSITY * GRAVITY / 1e6
    pressure = lift * head + 0.5 * surge
    half = 500.0 / wall
    hoop = pressure * half * bore
    hoop_b = half * (pressure + bore * (lift * loss_b + 0.5 * surge_b))
    hoop_w = half * bore * 0.5 * surge_w - hoop / wall
    hoop_d = half * bore * (lift * loss_d + 0.5 * surge_d)
    metal = LENGTH * 960.0 * math.pi * 6.2 / 1000.0
    pipe = LENGTH * 14.0 + metal * (bore + wall / 1000.0) * wall
    pump = 2600.0 + 520.0 * power**0.85
    pump_p = 520.0 * 0.85 * power**-0.15
    rate = DAYS * YEARS * TARIFF
    energy = power * hours * rate
    gradient = [
        metal * wall + (pump_p + hours * rate) * power_b,
        metal * (bore + wall / 500.0),
        (pump_p + hours * rate) * power_d + power * rate * hours_d,
    ]
    jacobian = [
        [speed_b, 0.0, speed_d],
        [surge_b, surge_w, surge_d],
        [hoop_b, hoop_w, hoop_d],
        [0.0, 0.0, hours_d],
    ]
    return pipe + pump + energy, [speed, surge, hoop, hours], gradient, jacobian


def demo_problem() -> Problem:
    """Return the demo."""
    return loads(resources.files("ilvren.demos").joinpath("rising_main/rising-main.toml").read_text())


def main() -> None:
    """Print the ratios, after checking that both compute the same."""
    problem = demo_problem()
    points = np.random.default_rng(1).uniform([0.1, 3.0, 0.015], [0.3, 15.0, 0.04], size=(CALLS, 3))
    gate = Gate(problem)
    for point in points[:50]:
        ours, hand = gate.evaluate(point, derivatives=True), by_hand(*point.tolist())
        assert ours.gradient is not None
        assert ours.jacobian is not None
        np.testing.assert_allclose(ours.objective, hand[0], rtol=1e-12)
        np.testing.assert_allclose(ours.rows, hand[1], rtol=1e-12)
        np.testing.assert_allclose(ours.gradient, hand[2], rtol=1e-10)
        np.testing.assert_allclose(ours.jacobian, hand[3], rtol=1e-10)
    lists = points.tolist()
    compiled = ScalarForms(AsWritten(problem)).compiled
    offsets = itertools.count(1e-7, 1e-7)

    def through_gate() -> None:
        for point in points + next(offsets):  # designs never seen before: nothing comes from the cache
            gate.evaluate(point, derivatives=True)

    found = ratio(
        lambda: [compiled(*values) for values in lists], lambda: [by_hand(*values) for values in lists], rounds=ROUNDS
    )
    line("objective, 4 rows, all gradients: compiled code  /  by hand", found, 3.0, unit=1e6 / CALLS, name="us")
    found = ratio(through_gate, lambda: [by_hand(*values) for values in lists], rounds=ROUNDS)
    line("the same through the gate (cache, counts, arrays)  /  by hand", found, 3.0, unit=1e6 / CALLS, name="us")


if __name__ == "__main__":
    main()
