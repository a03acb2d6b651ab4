"""What evolves, what scatters, what is fitted and what trades off, written in another way, is the same."""

import unittest
from functools import cache

import numpy as np

from ilvren import loads, run
from ilvren.evaluate import Gate
from tests.compact import only_in_whole

DESIGNS = np.random.default_rng(0).uniform([0.3, 0.4], [1.8, 1.6], (3, 2))


@cache
def gate_of(text):
    return Gate(loads(text))


def seen(text, point):
    """Return objective, rows, gradient and Jacobian of the design."""
    found = gate_of(text).evaluate(np.array(point, dtype=float), derivatives=True)
    jacobian = found.jacobian if isinstance(found.jacobian, np.ndarray) else found.jacobian.toarray()
    return found.objective, found.rows, found.gradient, jacobian


def timed(body, *, to="3", steps=24, head=""):
    return f"[time]\nto = {to}\nsteps = {steps}\n{head}" + (
        "[variables]\nk = { start = 0.8, lower = 0.1, upper = 2 }\nb = { start = 1.0, lower = 0.2, upper = 2 }\n" + body
    )


SWING = timed(
    '[states]\nx = { rate = "v", initial = "b" }\nv = { rate = "-k * v - 4 * x + 0.3 * sin(t)", initial = 0 }\n'
    '[minimize]\ncost = "integral(x^2) + 0.5 * last(v)^2 + highest(x) / 10"\n[constraints]\ncap = "highest(v) <= 9"\n'
    'dip = "lowest(x) >= -5"\n'
)


class OverTime(unittest.TestCase):
    def agree(self, text, other=SWING, *, rtol=2e-4, rows=True):
        """Values agree to what is asked of time, and derivatives nearly so."""
        for point in DESIGNS:
            one, two = seen(text, point), seen(other, point)
            np.testing.assert_allclose(one[0], two[0], rtol=rtol)
            np.testing.assert_allclose(one[2], two[2], rtol=20 * rtol, atol=20 * rtol * np.abs(two[2]).max())
            if rows:
                np.testing.assert_allclose(one[1], two[1], rtol=10 * rtol, atol=rtol)

    def test_signals_on_the_way_change_nothing(self):
        text = SWING.replace("[minimize]", '[signals]\npull = "-k * v - 4 * x"\npush = "0.3 * sin(t)"\n[minimize]')
        text = text.replace("-k * v - 4 * x + 0.3 * sin(t)", "pull + push")
        self.agree(text, rtol=1e-9)

    def test_the_order_of_states_means_nothing(self):
        lines = SWING.splitlines()
        at = lines.index("[states]")
        lines[at + 1], lines[at + 2] = lines[at + 2], lines[at + 1]
        self.agree("\n".join(lines) + "\n", rtol=1e-8)

    def test_two_states_may_be_one_vector(self):
        text = SWING.replace('x = { rate = "v", initial = "b" }\n', "").replace(
            'v = { rate = "-k * v - 4 * x + 0.3 * sin(t)", initial = 0 }',
            'z = { rate = "join(z[1], -k * z[1] - 4 * z[0] + 0.3 * sin(t))", initial = "join(b, 0)", shape = 2 }',
        )
        text = text.replace("integral(x^2)", "integral(z[0]^2)").replace("last(v)", "last(z[1])")
        text = text.replace("highest(x)", "highest(z[0])").replace("highest(v)", "highest(z[1])")
        text = text.replace("lowest(x)", "lowest(z[0])")
        self.agree(text, rtol=1e-6)

    def test_an_integral_is_a_state_of_its_own(self):
        text = SWING.replace("[minimize]", 'total = { rate = "x^2", initial = 0 }\n[minimize]')
        self.agree(text.replace("integral(x^2)", "last(total)"))
        average = SWING.replace("integral(x^2)", "3 * average(x^2)")
        self.agree(average, rtol=1e-9)

    def test_time_may_begin_elsewhere(self):
        text = SWING.replace("to = 3", "from = 10\nto = 13").replace("sin(t)", "sin(t - 10)")
        self.agree(text, rtol=1e-6)

    def test_time_may_be_counted_in_other_units(self):
        """Minutes for hours: rates are a sixtieth, integrals sixty times as large."""
        text = SWING.replace("to = 3", "to = 180").replace('rate = "v"', 'rate = "v / 60"')
        text = text.replace("-k * v - 4 * x + 0.3 * sin(t)", "(-k * v - 4 * x + 0.3 * sin(t / 60)) / 60")
        self.agree(text.replace("integral(x^2)", "integral(x^2) / 60"), rtol=1e-6)

    def test_a_state_may_be_measured_in_other_units(self):
        text = SWING.replace('x = { rate = "v", initial = "b" }', 'y = { rate = "1000 * v", initial = "1000 * b" }')
        text = text.replace("[minimize]", '[signals]\nx = "y / 1000"\n[minimize]')
        self.agree(text)

    def test_a_block_is_the_states_it_stands_for(self):
        plain = timed(
            '[states]\ny = { rate = "w", initial = 0 }\nw = { rate = "b - k * w - 3 * y", initial = 0 }\n'
            '[minimize]\ncost = "integral((y - 0.3)^2) + last(y)"\n'
        )
        block = timed(
            '[states]\ny = { transfer = { of = "b", numerator = [1], denominator = [1, "k", 3] } }\n'
            '[minimize]\ncost = "integral((y - 0.3)^2) + last(y)"\n'
        )
        self.agree(block, plain, rows=False)

    def test_a_value_at_the_end_is_the_last_one_and_at_the_beginning_the_first(self):
        self.agree(SWING.replace("last(v)", "at(v, 3)"), rtol=1e-9)
        one = SWING.replace("highest(x) / 10", "first(x) / 10")
        self.agree(SWING.replace("highest(x) / 10", "at(x, 0) / 10"), one, rtol=1e-9)
        self.agree(SWING.replace("highest(x) / 10", "b / 10"), one, rtol=1e-9)

    def test_extremes_turn_with_the_sign(self):
        self.agree(SWING.replace("highest(x)", "(-lowest(-x))"), rtol=1e-9)
        turned = SWING.replace('cap = "highest(v) <= 9"', 'cap = "lowest(-v) >= -9"')
        for point in DESIGNS:
            one, two = seen(turned, point), seen(SWING, point)
            self.assertAlmostEqual(one[0], two[0], places=9)

    def test_what_is_delayed_by_nothing_known_is_a_shift(self):
        """x' = 1: x(t − lag) = x − lag once the lag has passed."""
        plain = timed('[states]\nx = { rate = "1", initial = "b" }\n[minimize]\ncost = "k * at(x, 2.4) + last(x)"\n')
        text = plain.replace("[minimize]", '[signals]\nold = "delayed(x, 0.4)"\n[minimize]').replace(
            "at(x, 2.4)", "(at(old, 2.4) + 0.4)"
        )
        self.agree(text, plain, rtol=1e-9, rows=False)

    def test_more_intervals_to_begin_with_tell_the_same(self):
        self.agree(SWING.replace("steps = 24", "steps = 60"), rows=False)

    @only_in_whole
    def test_both_treatments_find_the_same_optimum(self):
        reach = timed(
            '[controls]\nu = { start = 0.1, lower = -3, upper = 3, pieces = 6 }\n'
            '[states]\nx = { rate = "v", initial = 0 }\nv = { rate = "u - k * v", initial = 0 }\n'
            '[minimize]\ncost = "integral(u^2) + (b - 1)^2 + 0.2 * (k - 1)^2"\n'
            '[constraints]\nthere = "last(x) == 1"\nstill = "last(v) == 0"\n', to="2", steps=12,
        )  # fmt: skip
        ends = [
            run(loads(reach.replace("steps = 12", f'steps = 12\ntreatment = "{way}"')))
            for way in ("simulation", "collocation")
        ]
        self.assertTrue(all(end.holds for end in ends), [end.reason for end in ends])
        self.assertAlmostEqual(ends[0].objective, ends[1].objective, delta=2e-3 * ends[0].objective)


SCATTER = """
[variables]
t = { start = 4, lower = 1, upper = 9 }
w = { start = 2, lower = 1, upper = 5 }
[parameters]
load = 5.0
[scatter]
load = { law = "normal", deviation = 0.5 }
t = { law = "uniform", half_width = 0.3 }
[minimize]
cost = "expected(t * w) + deviation(w * load)"
[constraints]
holds = "chance(t * w >= load) >= 0.95"
high = "quantile(load / (t * w), 0.9) <= 2"
"""


class Scattering(unittest.TestCase):
    def values(self, text, point):
        found = gate_of(text).evaluate(np.array(point, dtype=float))
        return np.concatenate([[found.objective], found.rows])

    def test_another_order_and_derived_names_are_the_same_scenarios(self):
        text = SCATTER.replace("[minimize]", '[derived]\nstrength = "t * w"\n[minimize]').replace(
            "t * w >= load", "strength >= load"
        )
        text = text.replace("load / (t * w)", "load / strength").replace("expected(t * w)", "expected(strength)")
        for point in ([4.0, 2.0], [2.0, 1.5], [8.0, 1.0]):
            np.testing.assert_allclose(self.values(text, point), self.values(SCATTER, point), rtol=1e-12)

    def test_means_are_linear_and_deviations_scale(self):
        for point in ([4.0, 2.0], [2.0, 1.5]):
            base = self.values(SCATTER, point)
            text = SCATTER.replace("expected(t * w)", "expected(3 * t * w - 2) / 3 + 2 / 3")
            text = text.replace("deviation(w * load)", "deviation(-5 * w * load + 7) / 5")
            np.testing.assert_allclose(self.values(text, point), base, rtol=1e-10)

    def test_a_searched_chance_is_never_above_the_true_one_and_its_opposite_never_below(self):
        rng = np.random.default_rng(3)
        load, t = rng.normal(5.0, 0.5, 200_000), rng.uniform(-0.3, 0.3, 200_000)
        for point in ([4.0, 1.3], [2.2, 2.3], [5.0, 2.0]):
            true = float(np.mean((point[0] + t) * point[1] >= load))
            searched = SCATTER.replace("expected(t * w) + deviation(w * load)", "chance(t * w >= load)")
            opposite = SCATTER.replace("expected(t * w) + deviation(w * load)", "1 - chance(t * w < load)")
            self.assertLessEqual(self.values(searched, point)[0], true + 0.01)
            self.assertGreaterEqual(self.values(opposite, point)[0], true - 0.01)

    def test_quantiles_of_what_grows_grow_with_it(self):
        for point in ([4.0, 2.0], [2.0, 1.5]):
            plain = SCATTER.replace("expected(t * w) + deviation(w * load)", "quantile(load, 0.8)")
            grown = SCATTER.replace("expected(t * w) + deviation(w * load)", "log(quantile(exp(load), 0.8))")
            turned = SCATTER.replace("expected(t * w) + deviation(w * load)", "-quantile(-load, 0.2)")
            base = self.values(plain, point)[0]
            self.assertAlmostEqual(self.values(grown, point)[0], base, delta=2e-3)  # interpolated between scenarios
            self.assertAlmostEqual(self.values(turned, point)[0], base, delta=1e-9)

    def test_the_worst_is_beyond_every_quantile_and_moves_as_its_value_does(self):
        def told(formula):
            return self.values(SCATTER.replace("expected(t * w) + deviation(w * load)", formula), [4, 2])[0]

        worst = told("worst(load)")
        self.assertGreater(worst, told("quantile(load, 0.99)"))
        self.assertLess(worst, 5.0 + 6.0 * 0.5)
        self.assertAlmostEqual(told("worst(3 * load + 1)"), 3.0 * worst + 1.0, places=9)
        self.assertLess(-told("worst(-load)"), told("quantile(load, 0.01)"))


class Fits(unittest.TestCase):
    def fit(self, residual, more=""):
        rng = np.random.default_rng(1)
        x = np.linspace(0.0, 2.0, 15)
        y = 1.3 * np.exp(-0.7 * x) + 0.02 * rng.normal(size=15)
        table = f"[parameters]\nx = {x.tolist()}\ny = {y.tolist()}\n"
        text = "[variables]\na = { start = 1, lower = 0, upper = 5 }\nb = { start = 1, lower = 0, upper = 5 }\n" + table
        return run(loads(text + f'{more}[fit]\nline = {{ residual = "{residual}" }}\n'), method="levenberg-marquardt")

    def test_the_sign_and_the_size_of_a_residual_move_nothing(self):
        base = self.fit("a * exp(-b * x) - y")
        for residual in ("y - a * exp(-b * x)", "7 * (a * exp(-b * x) - y)", "0.01 * (y - a * exp(-b * x))"):
            np.testing.assert_allclose(self.fit(residual).point, base.point, rtol=1e-5)

    def test_it_is_the_least_sum_of_squares(self):
        base = self.fit("a * exp(-b * x) - y")
        rng = np.random.default_rng(1)
        x = np.linspace(0.0, 2.0, 15)
        y = 1.3 * np.exp(-0.7 * x) + 0.02 * rng.normal(size=15)
        text = (
            "[variables]\na = { start = 1, lower = 0, upper = 5 }\nb = { start = 1, lower = 0, upper = 5 }\n"
            f'[parameters]\nx = {x.tolist()}\ny = {y.tolist()}\n[minimize]\nf = "sum((a * exp(-b * x) - y)^2)"\n'
        )
        np.testing.assert_allclose(run(loads(text), method="sqp").point, base.point, rtol=1e-5)
        slope = np.array([np.exp(-base.point[1] * x), -base.point[0] * x * np.exp(-base.point[1] * x)])
        rest = base.point[0] * np.exp(-base.point[1] * x) - y
        np.testing.assert_allclose(slope @ rest, 0.0, atol=1e-6)

    def test_data_in_another_order_are_the_same_data(self):
        base = self.fit("a * exp(-b * x) - y")
        turned = self.fit("join(a * exp(-b * x[7:]) - y[7:], a * exp(-b * x[:7]) - y[:7])")
        np.testing.assert_allclose(turned.point, base.point, rtol=1e-6)


class TradingOff(unittest.TestCase):
    TWO = (
        "[variables]\nx = { start = 2, lower = -5, upper = 5 }\ny = { start = 2, lower = -5, upper = 5 }\n"
        '[minimize]\na = "x^2 + y^2"\nb = "(x-3)^2 + (y-1)^2"\n[constraints]\nc = "y + x/4 >= 1.2"\n'
    )

    def front(self, text):
        result = run(loads(text), method="boundary-intersection", points=9)
        return np.array([[member.objectives["a"], member.objectives["b"]] for member in result.front.members])

    def test_other_units_of_an_objective_give_the_same_front(self):
        base = self.front(self.TWO)
        scaled = self.front(self.TWO.replace('"x^2 + y^2"', '"1000 * (x^2 + y^2) + 5"'))
        np.testing.assert_allclose((scaled[:, 0] - 5.0) / 1000.0, base[:, 0], atol=0.02 * np.ptp(base[:, 0]))
        np.testing.assert_allclose(scaled[:, 1], base[:, 1], atol=0.02 * np.ptp(base[:, 1]))

    def test_the_order_of_objectives_turns_the_front_round(self):
        a, b = 'a = "x^2 + y^2"\n', 'b = "(x-3)^2 + (y-1)^2"\n'
        base, turned = self.front(self.TWO), self.front(self.TWO.replace(a + b, b + a))
        for front in (base, turned):
            order = np.argsort(front[:, 0])
            self.assertTrue((np.diff(front[order, 1]) < 0.0).all())
        self.assertAlmostEqual(base[:, 0].min(), turned[:, 0].min(), places=4)
        self.assertAlmostEqual(base[:, 1].min(), turned[:, 1].min(), places=4)


if __name__ == "__main__":
    unittest.main()
