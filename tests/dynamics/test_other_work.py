"""Courses through time against a general integrator at tight tolerances: random systems, jumps, delays, free ends."""

import math
import unittest

import numpy as np
from scipy.integrate import solve_ivp

from ilvren import loads, run, verify
from ilvren.evaluate import Gate
from ilvren.judge import design_report_at, response_at
from tests.compact import WHOLE, some, tries

ONE = ("sin({})", "tanh({})", "({}) / (1 + ({})^2)", "cos({}) - 1", "-0.4 * ({})", "exp(-({})^2)")


def python_of(text):
    """Return a formula as Python."""
    return compile(text.replace("^", "**"), "<rate>", "eval")


SPACE = {"sin": math.sin, "cos": math.cos, "tanh": math.tanh, "exp": math.exp, "abs": abs, "max": max, "min": min,
         "log": math.log, "sqrt": math.sqrt}  # fmt: skip


def random_rates(rng, n):
    """Return n formulas of t, k and the states, which stay bounded."""
    names = [f"x{i}" for i in range(n)]
    rates = []
    for i in range(n):
        other = names[int(rng.integers(n))]
        inner = f"{rng.normal():.3f} * {other} + {rng.normal():.3f} * k + {rng.normal():.3f} * t"
        shape = ONE[int(rng.integers(len(ONE)))]
        bent = shape.format(*[inner] * shape.count("{}"))
        rates.append(f"{bent} - {0.2 + rng.random():.3f} * x{i} + {rng.normal():.3f} * x{(i + 1) % n}")
    return rates


def problem_of(rates, starts, *, to=2.0, ends=()):
    n = len(rates)
    lines = [
        "[time]",
        f"to = {to}",
        "steps = 16",
        "[variables]",
        "k = { start = 0.7, lower = -2, upper = 2 }",
        "[states]",
    ]
    lines += [f'x{i} = {{ rate = "{rates[i]}", initial = {starts[i]} }}' for i in range(n)]
    lines += ["[minimize]", 'f = "' + " + ".join(f"last(x{i})" for i in range(n)) + '"', "[constraints]"]
    lines += [f'end{i} = "last(x{i}) >= -100"' for i in range(n)] + list(ends)
    return loads("\n".join(lines))


def reference(rates, starts, k, to, **more):
    codes = [python_of(rate) for rate in rates]

    def slope(t, x):
        names = {**SPACE, **{f"x{i}": float(v) for i, v in enumerate(x)}, "t": float(t), "k": k}
        return [eval(code, {"__builtins__": {}}, names) for code in codes]  # noqa: S307 — formulas made above

    return solve_ivp(slope, (0.0, to), starts, rtol=1e-10, atol=1e-12, method="DOP853", dense_output=True, **more)


class AgainstAGeneralIntegrator(unittest.TestCase):
    def test_states_at_the_end_agree_to_what_is_asked_of_time(self):
        rng = np.random.default_rng(1)
        for trial in range(tries(12)):
            n = 1 + trial % 4
            rates, starts = random_rates(rng, n), rng.normal(size=n).round(3).tolist()
            problem = problem_of(rates, starts)
            gate = Gate(problem)
            for k in (0.7, -1.3):
                found = gate.evaluate(np.array([k]), derivatives=True)
                course = reference(rates, starts, k, 2.0)
                size = max(1.0, float(np.abs(course.y).max()))
                np.testing.assert_allclose(found.rows, course.y[:, -1], atol=3e-4 * size, err_msg=str(rates))
                ahead, behind = (reference(rates, starts, k + s * 1e-5, 2.0).y[:, -1].sum() for s in (1, -1))
                slope = (ahead - behind) / 2e-5
                self.assertAlmostEqual(found.gradient[0], slope, delta=2e-3 * max(1.0, abs(slope), size))

    def test_what_is_told_on_the_way_agrees(self):
        rng = np.random.default_rng(2)
        for _ in range(6):
            rates, starts = random_rates(rng, 2), rng.normal(size=2).round(3).tolist()
            ends = [
                'middle = "at(x0, 0.77) >= -100"',
                'whole = "integral(x0 * x1) >= -100"',
                'level = "average(x1) >= -100"',
                'top = "last(x0) - at(x1, 1.5) >= -100"',
            ]
            problem = problem_of(rates, starts, ends=ends)
            rows = Gate(problem).evaluate(np.array([0.7])).rows[2:]
            course = reference(rates, starts, 0.7, 2.0)
            fine = np.linspace(0.0, 2.0, 4001)
            x0, x1 = course.sol(fine)
            step = fine[1]

            def simpson(y, step=step):
                return step / 3.0 * (y[0] + y[-1] + 4.0 * y[1:-1:2].sum() + 2.0 * y[2:-1:2].sum())

            expected = [
                course.sol(0.77)[0],
                simpson(x0 * x1),
                simpson(x1) / 2.0,
                x0[-1] - course.sol(1.5)[1],
            ]
            np.testing.assert_allclose(rows, expected, atol=1e-3 * max(1.0, float(np.abs(course.y).max()) ** 2))

    def test_extremes_are_those_of_the_course_and_not_of_its_grid(self):
        """Seven intervals over two to three swings: a run, its verdict and a simulation tell the peak all the same."""
        for frequency in some((9.1, 1.7, 23.0), 3):
            text = (
                "[time]\nto = 2\nsteps = 7\n[variables]\nk = { start = 0.5, lower = 0, upper = 2 }\n[states]\n"
                f'x = {{ rate = "v", initial = 0 }}\nv = {{ rate = "-{frequency**2} * x - k * v", initial = 1 }}\n'
                '[minimize]\nf = "highest(x)"\n[constraints]\nlow = "lowest(x) + 1 >= 0"\n'
            )
            problem = loads(text)

            def peak(k, frequency=frequency):
                w = math.sqrt(frequency**2 - k * k / 4.0)
                t = np.linspace(0.0, 2.0, 200_001)
                return float((np.exp(-0.5 * k * t) * np.sin(w * t) / w).max())

            with self.subTest(frequency=frequency):
                told = response_at(problem, [0.5], "here").values["f"]
                self.assertAlmostEqual(told, peak(0.5), delta=3e-4 * peak(0.5))
                result = run(problem)
                self.assertAlmostEqual(result.variables["k"], 2.0, places=4)
                self.assertAlmostEqual(result.objective, peak(2.0), delta=3e-4 * peak(2.0))
                self.assertTrue(verify(result).holds)
                coarse = verify(problem, at={"k": 2.0})
                if frequency > 6.0:
                    self.assertEqual(coarse.verdict, "unverified", coarse.reason)
                    self.assertIn("by the moments of the grid", coarse.reason)
                    found = design_report_at(problem).findings
                    self.assertTrue(any("by the moments of the grid" in item for item in found), found)

    def test_what_swings_faster_than_the_states_is_looked_at_too(self):
        """e^(−kt) sin 40t on five intervals of states that hardly move: a cubic through them tells three times the peak."""
        t = np.linspace(0.0, 2.0, 400_001)
        best = float((np.exp(-2.0 * t) * np.sin(40.0 * t)).max()) + 0.01
        for treatment in ("simulation", "collocation") if WHOLE else ("simulation",):
            text = (
                f'[time]\nto = 2\nsteps = 5\ntreatment = "{treatment}"\n'
                "[variables]\nk = { start = 0.5, lower = 0, upper = 2 }\n"
                '[states]\nx = { rate = "-k * x", initial = 1 }\n[signals]\ns = "x * sin(40 * t)"\n'
                '[minimize]\nf = "highest(s) + 0.01 * (k - 1)^2"\n'
            )
            with self.subTest(treatment=treatment):
                result = run(loads(text))
                self.assertAlmostEqual(result.objective, best, delta=3e-4)
                self.assertTrue(verify(result).holds)
                coarse = verify(loads(text), at={"k": 2.0})
                self.assertEqual(coarse.verdict, "unverified", coarse.reason)

    def test_measures_on_a_coarse_grid_of_unknowns_are_those_of_the_course(self):
        """An overshoot and a rise within a tenth of an interval, of a signal of states that hardly move."""
        t = np.linspace(0.0, 2.0, 400_001)

        def overshoot(w):
            return float(((w - 1.0) / (1.0 - w[0])).max())

        def rise(w):
            return float(t[np.argmax(w >= 0.9)] - t[np.argmax(w >= 0.2)])

        for formula, measured in some((("overshoot(w, 1)", overshoot), ("rise_time(w, 0.2, 0.9)", rise)), 2, 1):
            text = (
                '[time]\nto = 2\nsteps = 4\ntreatment = "collocation"\n'
                "[variables]\nk = { start = 0.9, lower = 0.5, upper = 1.5 }\n"
                '[states]\nx = { rate = "-k * x", initial = 1 }\n[signals]\nw = "1 - x * cos(12 * t)"\n'
                f'[minimize]\nf = "{formula} + (k - 1)^2"\n'
            )
            with self.subTest(formula=formula):
                result = run(loads(text))
                k = result.variables["k"]
                exact = measured(1.0 - np.exp(-k * t) * np.cos(12.0 * t)) + (k - 1.0) ** 2
                self.assertAlmostEqual(result.objective, exact, delta=2e-4)
                self.assertEqual(verify(loads(text), at={"k": k}).verdict, "unverified")

    def test_a_branch_changes_where_the_course_crosses(self):
        """x' = 1 up to a level, then −k x: the switch is met exactly, whatever the steps."""
        for level in (0.31, 0.77, 1.21):
            text = (
                "[time]\nto = 2\nsteps = 5\n[variables]\nk = { start = 0.8, lower = 0.1, upper = 2 }\n"
                f'[states]\ndone = {{ rate = "where(t < {level}, 1, 0)", initial = 0 }}\n'
                f'x = {{ rate = "where(t < {level}, 1, -k * x)", initial = 0 }}\n[minimize]\nf = "last(x)"\n'
                '[constraints]\nc = "last(done) >= 0"\n'
            )
            found = Gate(loads(text)).evaluate(np.array([0.8]), derivatives=True)
            self.assertAlmostEqual(found.rows[0], level, places=9)
            exact = level * math.exp(-0.8 * (2.0 - level))
            self.assertAlmostEqual(found.objective, exact, delta=1e-5)
            self.assertAlmostEqual(found.gradient[0], -(2.0 - level) * exact, delta=1e-4)

    def test_delays_by_the_method_of_steps(self):
        """x' = −k x(t − 0.5), x = 1 before: a cubic by the third interval."""
        text = (
            "[time]\nto = 1.5\nsteps = 9\n[variables]\nk = { start = 1.1, lower = 0.1, upper = 3 }\n"
            '[states]\nx = { rate = "-k * delayed(x, 0.5)", initial = 1 }\n[minimize]\nf = "last(x)"\n'
        )
        for k in (0.6, 1.1, 2.4):
            found = Gate(loads(text)).evaluate(np.array([k]), derivatives=True)
            exact = 1.0 - 1.5 * k + k**2 / 2.0 - k**3 * 0.5**3 / 6.0
            self.assertAlmostEqual(found.objective, exact, delta=2e-5 * max(1.0, abs(exact)))
            self.assertAlmostEqual(found.gradient[0], -1.5 + k - 0.5**3 * k**2 / 2.0, delta=2e-3)

    def test_a_free_end_has_the_rate_there_as_its_slope(self):
        text = (
            '[time]\nto = "span"\nsteps = 10\n[variables]\nspan = { start = 1.2, lower = 0.3, upper = 3 }\n'
            '[states]\nx = { rate = "cos(t) - 0.3 * x", initial = 0.5 }\n[minimize]\nf = "last(x)"\n'
        )
        for span in (0.8, 1.2, 2.5):
            found = Gate(loads(text)).evaluate(np.array([span]), derivatives=True)
            course = reference(["cos(t) - 0.3 * x0"], [0.5], 0.0, span)
            self.assertAlmostEqual(found.objective, course.y[0, -1], delta=1e-4)
            self.assertAlmostEqual(found.gradient[0], math.cos(span) - 0.3 * course.y[0, -1], delta=1e-3)

    def test_stiff_systems_are_followed_too(self):
        for k in (50.0, 2000.0):
            text = (
                f"[time]\nto = 2\nsteps = 10\n[variables]\nk = {{ start = {k}, lower = 1, upper = 5000 }}\n"
                '[states]\nx = { rate = "-k * (x - cos(t))", initial = 0 }\n[minimize]\nf = "last(x)"\n'
            )
            found = Gate(loads(text)).evaluate(np.array([k]))
            exact = (k * k * math.cos(2.0) + k * math.sin(2.0)) / (k * k + 1.0)
            self.assertAlmostEqual(found.objective, exact, delta=2e-4)


if __name__ == "__main__":
    unittest.main()
