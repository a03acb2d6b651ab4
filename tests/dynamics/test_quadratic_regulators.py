"""Linear systems with quadratic costs on grids of every scheme: against the Riccati equation, which has the whole answer."""

import unittest

import numpy as np
from scipy.integrate import solve_ivp

from ilvren import run
from ilvren.problem import Refinement, loads
from tests.compact import some

TEXT = """[time]
to = {end}
steps = 12
[states]
x = {{ rate = "{a[0]} * x + {a[1]} * y + {b[0]} * u", initial = {begin[0]} }}
y = {{ rate = "{a[2]} * x + {a[3]} * y + {b[1]} * u", initial = {begin[1]} }}
[controls]
u = {{ start = 0, lower = -50, upper = 50, form = "pointwise" }}
[minimize]
f = "integral({q[0]} * x^2 + {q[1]} * y^2 + {r} * u^2) + {last[0]} * last(x)^2 + {last[1]} * last(y)^2"
"""


class Regulators(unittest.TestCase):
    def given(self, rng):
        """Return the numbers of a system that is controllable but perhaps not stable."""
        return {
            "a": rng.normal(size=4).round(2).tolist(), "b": (rng.normal(size=2).round(2) + 0.1).tolist(),
            "begin": rng.normal(size=2).round(2).tolist(), "q": rng.uniform(0.2, 2.0, 2).round(2).tolist(),
            "r": round(float(rng.uniform(0.3, 2.0)), 2), "last": rng.uniform(0.0, 2.0, 2).round(2).tolist(),
            "end": round(float(rng.uniform(0.7, 2.0)), 2),
        }  # fmt: skip

    def test_costs_controls_and_courses_are_those_of_the_riccati_equation(self):
        rng = np.random.default_rng(3)
        for number in some(range(2)):
            own = self.given(rng)
            a, b, begin = np.reshape(own["a"], (2, 2)), np.array(own["b"]), np.array(own["begin"])

            def back(_, flat, a=a, b=b, own=own):
                p = flat.reshape(2, 2)
                return -(a.T @ p + p @ a - np.outer(p @ b, b @ p) / own["r"] + np.diag(own["q"])).ravel()

            riccati = solve_ivp(
                back, (own["end"], 0.0), np.diag(own["last"]).ravel(), rtol=1e-10, atol=1e-12, dense_output=True
            )
            cost = begin @ riccati.y[:, -1].reshape(2, 2) @ begin

            def control(t, x, b=b, r=own["r"], riccati=riccati):
                return -b @ riccati.sol(t).reshape(2, 2) @ x / r

            course = solve_ivp(
                lambda t, x, a=a, b=b, control=control: a @ x + b * control(t, x), (0.0, own["end"]), begin, rtol=1e-10,
                atol=1e-12, dense_output=True,
            )  # fmt: skip
            for scheme in some(("trapezoid", "hermite-simpson", "radau", "gauss-legendre"), 2, number):
                with self.subTest(scheme=scheme, **own):
                    result = run(loads(TEXT.format(**own), refinement=Refinement(scheme=scheme)))
                    self.assertEqual(result.outcome, "converged")
                    self.assertAlmostEqual(result.objective, cost, delta=1e-4 * cost)
                    told = result.whole.signals(np.array(result.full_point))[0]
                    size = np.abs(told["u"]).max()
                    inside = slice(1, -1)  # at the ends a control weighs half or nothing in some schemes
                    known = [control(t, course.sol(t)) for t in told["t"]]
                    np.testing.assert_allclose(told["u"][inside], known[inside], atol=5e-3 * size)
                    for k, name in enumerate("xy"):
                        np.testing.assert_allclose(told[name], course.sol(told["t"])[k], atol=1e-3)


if __name__ == "__main__":
    unittest.main()
