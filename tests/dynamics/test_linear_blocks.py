"""Linear blocks at random against another simulation of transfer functions, and feedback against the closed loop."""

import unittest

import numpy as np
from scipy import signal

from ilvren.evaluate import Gate
from ilvren.problem import loads
from tests.compact import only_in_whole, tries

DRIVEN = {
    "sin(2 * t)": lambda t: np.sin(2.0 * t),
    "where(t < 1, 1, 0.3)": lambda t: np.where(t < 1.0, 1.0, 0.3),
    "1 + 0.2 * t": lambda t: 1.0 + 0.2 * t,
    "min(t, 1.2)": lambda t: np.minimum(t, 1.2),
}
TEXT = """
[variables]
k = {{ start = 1.3, lower = 0.1, upper = 3 }}
[time]
to = 5
steps = 50
[states]
{states}
[minimize]
f = "last(y) + integral(y)"
"""
FINE = np.linspace(0.0, 5.0, 20_001)


def polynomials(rng):
    """Return a numerator and a denominator of a stable block, as a file would have them."""
    order, poles = int(rng.integers(1, 5)), []
    while len(poles) < order:
        if order - len(poles) >= 2 and rng.random() < 0.5:
            pole = complex(-rng.uniform(0.05, 3.0), rng.uniform(0.2, 4.0))
            poles += [pole, pole.conjugate()]
        else:
            poles.append(-rng.uniform(0.0, 3.0))
    denominator = np.real(np.poly(poles)) * rng.choice([1.0, 0.5, 2.5])
    return rng.normal(size=rng.integers(1, order + 2)).round(3).tolist(), denominator.round(4).tolist()


class Blocks(unittest.TestCase):
    def check(self, states, numerator, denominator, driven, gain=1.3):
        problem = loads(TEXT.format(states=states))
        here = Gate(problem).evaluate(np.array([1.3]), derivatives=True)
        _, y, _ = signal.lsim((numerator, denominator), gain * driven(FINE), FINE)
        told = problem.signals(np.array([1.3]))[0]["y"]
        size = 1.0 + np.abs(y).max()
        np.testing.assert_allclose(told, np.interp(np.linspace(0.0, 5.0, 51), FINE, y), atol=2e-3 * size)
        self.assertAlmostEqual(here.objective, y[-1] + np.trapezoid(y, FINE), delta=2e-3 * size)
        return here

    def test_random_blocks_driven_by_what_turns_jumps_and_bends(self):
        rng = np.random.default_rng(5)
        for number in range(tries(8)):
            numerator, denominator = polynomials(rng)
            text, driven = list(DRIVEN.items())[number % len(DRIVEN)]
            with self.subTest(numerator=numerator, denominator=denominator, driven=text):
                block = f'y = {{ transfer = {{ of = "k * ({text})", numerator = {numerator}, denominator = {denominator} }} }}'
                here = self.check(block, numerator, denominator, driven)
                # it is linear in what drives it
                self.assertAlmostEqual(here.gradient[0], here.objective / 1.3, delta=1e-7 * (1.0 + abs(here.objective)))

    @only_in_whole
    def test_blocks_in_a_row_and_fed_back_are_one(self):
        rng = np.random.default_rng(6)
        for _ in range(2):
            (n1, d1), (n2, d2) = ([1.0], [0.5, 1.0]), ([1.0, 2.0], [1.0, round(float(rng.uniform(1, 3)), 2), 2.0])
            first = f'x = {{ transfer = {{ of = "k * sin(2 * t)", numerator = {n1}, denominator = {d1} }} }}'
            second = f'y = {{ transfer = {{ of = "x", numerator = {n2}, denominator = {d2} }} }}'
            self.check(f"{first}\n{second}", np.polymul(n1, n2), np.polymul(d1, d2), DRIVEN["sin(2 * t)"])
            # y = G (k u − 0.4 y): the closed loop is G / (1 + 0.4 G)
            loop = f'y = {{ transfer = {{ of = "k * sin(2 * t) - 0.4 * y", numerator = {n2}, denominator = {d2} }} }}'
            self.check(loop, n2, np.polyadd(d2, 0.4 * np.array(n2)), DRIVEN["sin(2 * t)"])


if __name__ == "__main__":
    unittest.main()
