"""Rates that decide: comparisons of what rests, branches that change together, at the end of a step, at a moment of the
grid; values against sums by hand and small steps, derivatives against differences on both sides."""

import operator
import re
import unittest

import numpy as np

from ilvren import run, verify
from ilvren.evaluate import Gate
from ilvren.problem import loads
from tests.compact import WHOLE, some

SIGNS = {">=": operator.ge, ">": operator.gt, "==": operator.eq, "<=": operator.le, "<": operator.lt, "!=": operator.ne}
PIECES = [0.213, 0.787, -0.531]
FORMULAS = {
    "interp": lambda x, xs, ys: float(np.interp(x, xs, ys)), "join": lambda *a: a, "min": min, "max": max, "abs": abs,
    "where": lambda c, a, b: a if c else b, "sin": np.sin,
}  # fmt: skip


def problem(states, cost, *, variables="k = { start = 1.0, lower = 0, upper = 2 }", controls="", to="3"):
    text = f"[variables]\n{variables}\n[time]\nto = {to}\nsteps = 12\n{controls}[states]\n"
    return loads(text + "\n".join(states) + f'\n[minimize]\nf = "{cost}"\n')


def rate(name, formula, initial="0"):
    return f'{name} = {{ rate = "{formula}", initial = "{initial}" }}'


class Resting(unittest.TestCase):
    """y grows at 1 where a condition holds and at 0.1 where it does not."""

    def total(self, sign, right, parts):
        """Return the sum over (value, time) of what is compared."""
        return sum((1.0 if SIGNS[sign](value, float(right)) else 0.1) * time for value, time in parts)

    def expect(self, sign, right, parts, states, compared, **more):
        y = rate("y", f"where({compared} {sign} {right}, 1, 0.1)")
        found = problem([*states, y], "last(y)", **more)
        gate, start = Gate(found), np.array(found.start)
        wanted = self.total(sign, right, parts)
        self.assertAlmostEqual(gate.evaluate(start).objective, wanted, places=9, msg=f"{compared} {sign} {right}")
        many = Gate(found).written.batch(np.repeat(start[None], 12, axis=0)).objective  # all at once
        np.testing.assert_allclose(many, wanted, rtol=1e-9)

    def test_of_what_the_design_alone_decides(self):
        for sign in SIGNS:
            for k in (0.5, 1.0, 1.5):
                self.expect(sign, "1", [(k, 3.0)], [], "k", variables=f"k = {{ start = {k}, lower = 0, upper = 2 }}")

    def test_of_what_is_counted(self):
        for sign in SIGNS:
            parts = [(n, 0.5) for n in range(1, 7)]
            self.expect(sign, "2", parts, ['n = { every = 0.5, next = "n + 1", initial = 0 }'], "n")

    def test_of_what_is_chosen_in_pieces(self):
        controls = "[controls]\nu = { start = [0.5, 0.2, 0.8], lower = -1, upper = 1, pieces = 3 }\n"
        for sign in SIGNS:
            self.expect(sign, "0.5", [(0.5, 1.0), (0.2, 1.0), (0.8, 1.0)], [], "u", controls=controls)

    def test_of_what_arrives_and_stays(self):
        for sign in SIGNS:
            self.expect(sign, "1", [(0.5, 1.0), (1.0, 2.0)], [rate("x", "where(x < 1, k, 0)")], "x")

    def test_of_what_stays_and_leaves(self):
        for sign in SIGNS:
            own = [rate("x", "where(t < 2, 0, k)", "1")]
            self.expect(sign, "1", [(1.0, 2.0), (1.5, 1.0)], own, "x")
            own = [rate("z", "1"), rate("x", "where(z < 1.7 * k, 0, 1)", "1")]  # because another branch changes
            self.expect(sign, "1", [(1.0, 1.7), (1.5, 1.3)], own, "x")

    def test_a_tank_that_is_empty_until_it_is_filled(self):
        for begin in ("0", "0.15 * k"):
            own = rate("x", "where(t < 1, 0, 0.5) - where(x > 0, 0.3, 0)", begin)
            found = problem([own], "last(x)")
            self.assertAlmostEqual(Gate(found).evaluate(np.array(found.start)).objective, 0.4, places=9)


class Together(unittest.TestCase):
    def both_sides(self, found, step=1e-5, most=2e-4):
        """Check the gradient at the start against differences to either side, and return the objective there."""
        gate, start = Gate(found), np.array(found.start)
        here = gate.evaluate(start, derivatives=True)
        for k, slope in enumerate(here.gradient.tolist()):
            for sign in (1.0, -1.0):
                there = start.copy()
                there[k] += sign * step
                seen = sign * (gate.evaluate(there).objective - here.objective) / step
                self.assertAlmostEqual(slope, seen, delta=most * (1.0 + abs(slope)))
        return here.objective

    def test_a_branch_that_changes_at_a_moment_of_the_grid(self):
        level = "l = { start = 0.5, lower = 0.1, upper = 2 }"
        for formula in (
            "where(x < l, 1, 0.3)",
            "where(delayed(x, 0.45) < l, 1, -0.7 * x)",
            "where(delayed(x, 0.5) < l, 1, -0.7 * x)",  # where what is delayed is not smooth, either
            "where(t < 0.5, 1, 0.3) * where(x < l, 1, 2)",  # and another one of the time alone
            "where(x < l, 1, 0.3) * where(2 * x < 2 * l, 1, 2)",  # and another with it
        ):
            with self.subTest(formula=formula):
                self.both_sides(problem([rate("x", formula)], "integral(x^2) + last(x)", variables=level))
        stiff = [rate("x", "1"), rate("y", "900 * (where(x < l, 1, 0.2) - y)")]
        self.both_sides(problem(stiff, "integral(y^2)", variables=level))

    def test_moments_of_the_design_that_are_those_of_the_grid(self):
        free = {"variables": "end = { start = 2.2, lower = 1, upper = 5 }", "to": '"end"'}
        self.both_sides(problem([rate("x", "where(t < 1.1, 1, 0.3)")], "integral(x^2) + last(x)", **free))
        lag = {"variables": "lag = { start = 0.5, lower = 0.1, upper = 1 }"}
        own = rate("x", "-1.2 * delayed(x, lag) + where(t < 0.5, 1, 0)", "1")
        self.both_sides(problem([own], "integral(x^2) + last(x)", **lag))

    def test_pieces_of_a_table_of_a_state_end_where_others_begin(self):
        """At every knot two comparisons change at once; x = k t, so that y is known by quadrature."""
        knots, values = [0.0, 0.5, 1.0, 2.0], [0.0, 1.0, 0.2, 0.0]
        own = [rate("x", "k"), rate("y", "interp(x, join(0, 0.5, 1, 2), join(0, 1, 0.2, 0))")]
        t = np.linspace(0.0, 3.0, 30_001)

        def known(k):
            r = np.interp(k * t, knots, values)
            y = np.concatenate([[0.0], np.cumsum(0.5 * (r[1:] + r[:-1]) * np.diff(t))])
            return np.trapezoid(y**2, t) + y[-1]

        found = problem(own, "integral(y^2) + last(y)")
        gate = Gate(found)
        for k in (0.31, 0.4, 0.49, 0.499999, 0.5, 0.500001, 0.8, 1.0):
            here = gate.evaluate(np.array([k]), derivatives=True)
            self.assertAlmostEqual(here.objective, known(k), delta=1e-6)
            self.assertAlmostEqual(here.gradient[0], (known(k + 1e-3) - known(k - 1e-3)) / 2e-3, delta=2e-2)

    def test_what_changes_without_end_is_no_answer(self):
        for formula in some(
            ("where(x < k, 1, -0.3)", "where(x <= 0.5, 1, -1)", "where(x == 0.5, -1, where(x < 0.5, 1, -1))")
        ):
            found = problem([rate("x", formula)], "last(x)")
            gate = Gate(found)
            self.assertTrue(np.isnan(gate.evaluate(np.array([0.5])).objective), formula)
            design = found.simulations[0].point(found.simulation_inputs([0.5])[0])
            self.assertIn("on and off without end", design.reason)


class Measured(unittest.TestCase):
    def test_an_extreme_that_no_moments_find_is_said_to_be_open(self):
        """Just before a state passes a level the signal is at its highest: moments come ever nearer to that."""
        text = (
            "[variables]\nk = { start = 1.0, lower = 0.5, upper = 3 }\n[time]\nto = 3\nsteps = 12\n[states]\n"
            'x = { rate = "k", initial = 0 }\n[signals]\ns = "where(x < 1.37, x, 0.2 * x)"\n'
            '[minimize]\nf = "(k - 2.2)^2 + highest(s)"\n'
        )
        result = run(loads(text), method="nelder-mead")
        (note,) = (note for note in result.notes if "moments" in note)
        self.assertIn("are not enough to tell", note)
        self.assertLessEqual(len(result.problem.template.built_axes[0].taus), 800)
        self.assertFalse(verify(result).holds)
        early = run(loads(text), method="nelder-mead", evaluations=25)
        self.assertIn("the run ended before it looked there", " ".join(early.notes))
        smooth = run(loads(text.replace("highest(s)", "highest(x)")), method="nelder-mead", evaluations=25)
        self.assertFalse([note for note in smooth.notes if "moments" in note])


class AtRandom(unittest.TestCase):
    """Random systems that decide, delay and are sampled, against very small steps and differences."""

    TIMES = 6000

    def atom(self, rng):
        names = "x|y|a|t|x - y|x + y|sin(3 * t)|b * t|delayed(x, 0.4)|delayed(y, 0.3)|delayed(x, 0.4) - y|u|s"
        return str(rng.choice(names.split("|")))

    def term(self, rng, depth=0):
        def v():
            return self.atom(rng)

        def c():
            return repr(round(float(rng.uniform(0.1, 2.0)), 3))

        match int(rng.integers(0, 9)):
            case 0:
                knots = np.sort(rng.choice(np.arange(-4, 9) * 0.25, 4, replace=False)).tolist()
                heights = rng.uniform(-1, 1, 4).round(2).tolist()
                listed = (", ".join(map(repr, numbers)) for numbers in (knots, heights))
                return f"interp({v()}, {', '.join(f'join({own})' for own in listed)})"
            case 1:
                return f"min(max({v()}, -{c()}), {c()})"
            case 2:
                return f"max({v()}, {c()} - {v()})"
            case 3:
                return f"abs({v()} - {c()})"
            case 4:
                return f"where({v()} < {c()}, {c()}, {c()})"
            case 5:
                return f"where(s == {rng.integers(0, 4)}, {c()}, {v()})"
            case 6 if depth < 2:
                return f"({self.term(rng, depth + 1)}) * ({self.term(rng, depth + 1)})"
        return v()

    def stepped(self, rates, a, b, pieces, begin):
        """Return last(x) + 2 last(y) + integral(x) by steps of Heun's midpoint rule."""
        count = self.TIMES
        h = 3.0 / count
        x, y, total = *begin, 0.0
        behind = {"x": round(0.4 / h), "y": round(0.3 / h)}
        past = np.empty((count, 2))
        for i in range(count):
            past[i] = x, y
            before = past[max(i - behind["x"], 0), 0], past[max(i - behind["y"], 0), 1]
            rest = a, b, pieces[min(int(i * h + 1e-9), 2)], int(i * h / 0.75 + 1e-9) + 1, *before
            first = [own(i * h, x, y, *rest) for own in rates]
            at = x + 0.5 * h * first[0], y + 0.5 * h * first[1]
            second = [own((i + 0.5) * h, *at, *rest) for own in rates]
            total += h * at[0]
            x, y = x + h * second[0], y + h * second[1]
        return x + 2.0 * y + total

    def systems(self, seed, count):
        """Yield problems that have a course from their start on, their formulas and (a, b)."""
        rng = np.random.default_rng(seed)
        controls = f"[controls]\nu = {{ start = {PIECES}, lower = -1, upper = 1, pieces = 3 }}\n"
        while count:
            formulas = (f"{self.term(rng)} - 0.5 * x", f"{self.term(rng)} * a + {self.term(rng)} - 0.7 * y")
            a, b = rng.uniform(0.3, 1.2, 2).round(3).tolist()
            variables = "\n".join(f"{n} = {{ start = {v}, lower = 0.1, upper = 3 }}" for n, v in (("a", a), ("b", b)))
            sampled = 's = { every = 0.75, next = "s + 1", initial = 0 }'
            found = problem(
                [rate("x", formulas[0], "0.25"), rate("y", formulas[1], "-0.5"), sampled],
                "last(x) + 2 * last(y) + integral(x)", variables=variables, controls=controls,
            )  # fmt: skip
            if found.simulations[0].point(found.simulation_inputs(found.start)[0]).reason:
                continue  # sides that are left again at once: said so
            count -= 1
            yield found, formulas, (a, b)

    def test_values_and_gradients(self):
        for found, formulas, (a, b) in self.systems(12, 6):
            gate, start = Gate(found), np.array(found.start)
            here = gate.evaluate(start, derivatives=True)
            names = "lambda t, x, y, a, b, u, s, xd, yd: "
            plain = [names + re.sub(r"delayed\((\w), [0-9.]+\)", r"\1d", text) for text in formulas]
            own = [eval(text, FORMULAS) for text in plain]  # noqa: S307
            known = self.stepped(own, a, b, PIECES, (0.25, -0.5))
            with self.subTest(formulas=formulas):
                self.assertAlmostEqual(here.objective, known, delta=4e-3 * (1.0 + abs(known)))
                for k in range(2):
                    step = np.zeros(len(start))
                    step[k] = 1e-5
                    ends = [gate.evaluate(start + sign * step).objective for sign in (1.0, -1.0)]
                    slope = (ends[0] - ends[1]) / 2e-5
                    self.assertAlmostEqual(here.gradient[k], slope, delta=1e-5 * (1.0 + abs(slope)))

    def test_second_derivatives_and_the_sweep_backwards(self):
        for found, formulas, _ in self.systems(21, 4 if WHOLE else 2):
            gate, start = Gate(found), np.array(found.start)
            with self.subTest(formulas=formulas):
                hessian = gate.written.hessian(start).toarray()
                for k in range(len(start)):
                    step = np.zeros(len(start))
                    step[k] = 1e-5
                    seen = (gate.written.gradient(start + step) - gate.written.gradient(start - step)) / 2e-5
                    np.testing.assert_allclose(hessian[k], seen, atol=2e-4 * (1.0 + np.abs(hessian).max()))
                design = found.simulations[0].point(found.simulation_inputs(start)[0])
                weights = np.random.default_rng(2).normal(size=design.jacobian.shape[0])
                pulled, direct = design.adjoints(weights).given, weights @ design.jacobian
                away = np.abs(pulled - direct)[design.moving].max(initial=0.0)
                self.assertLessEqual(away, 1e-10 * (1.0 + np.abs(direct).max()))

    def test_many_designs_at_once_are_each_alone(self):
        rng = np.random.default_rng(5)
        for found, formulas, _ in self.systems(33, 4):
            start = np.array(found.start)
            designs = np.tile(start, (24, 1))
            designs[:, :2] = np.vstack([rng.uniform(0.2, 1.5, (12, 2)), rng.choice([0.25, 0.5, 1.0, 1.5], (12, 2))])
            together = Gate(found).written.batch(designs).objective
            gate = Gate(found)
            alone = [gate.evaluate(design).objective for design in designs]
            np.testing.assert_allclose(together, alone, rtol=1e-9, atol=1e-10, err_msg=str(formulas))


if __name__ == "__main__":
    unittest.main()
