"""A problem written in another way is the same problem: values, derivatives, optima and verdicts agree."""

import itertools
import re
import unittest

import numpy as np

from ilvren import loads, run, verify
from ilvren.evaluate import Gate

BEAM = """
title = "Beam"
[variables]
height = { start = 0.4, lower = 0.1, upper = 1.2 }
breadth = { start = 0.3, lower = 0.05, upper = 0.9 }
fill = { start = 0.5, lower = 0, upper = 1 }
[parameters]
load = 12.0
span = 4.0
[derived]
area = "height * breadth * (1 - 0.4 * fill)"
stiff = "breadth * height^3 / 12 * (1 - 0.3 * fill^2)"
[minimize]
cost = "50 * area + 4 * exp(-fill) + 3 * height"
[constraints]
sag = "load * span^3 / (2e7 * stiff) <= 0.02"
slender = "height <= 6 * breadth"
room = "0.02 <= area - 0.01 * fill"
"""


def gate_of(text):
    return Gate(loads(text))


def at(text, point):
    """Return (objective, rows, gradient, Jacobian) as they are evaluated internally."""
    found = gate_of(text).evaluate(np.array(point, dtype=float), derivatives=True)
    return found.objective, found.rows, found.gradient, found.jacobian


def points(count=12, seed=0):
    rng = np.random.default_rng(seed)
    return rng.uniform([0.1, 0.05, 0.0], [1.2, 0.9, 1.0], (count, 3))


class Rewritten(unittest.TestCase):
    def agree(self, text, other=BEAM, *, names=("cost",), rtol=1e-12):
        """Values and derivatives agree at random designs, and what a run ends with."""
        self.values_agree(text, other, rtol=rtol)
        one, two = (run(loads(own), method="sqp") for own in (text, other))
        self.assertEqual(one.outcome, two.outcome)
        for name in names:
            self.assertAlmostEqual(one.objectives[name], two.objectives[name], delta=1e-7 * abs(two.objectives[name]))
        np.testing.assert_allclose(one.point, two.point, atol=1e-5)

    def values_agree(self, text, other, *, rtol=1e-12):
        for point in points():
            for one, two in zip(at(text, point), at(other, point), strict=True):
                np.testing.assert_allclose(one, two, rtol=rtol, atol=rtol * (1.0 + np.abs(two).max(initial=0.0)))

    def test_the_order_of_entries_and_sections_means_nothing(self):
        sections = re.split(r"(?m)^(?=\[)", BEAM)
        head, parts = sections[0], sections[1:]
        rng = np.random.default_rng(1)
        for _ in range(6):
            turned = []
            for part in (parts[k] for k in rng.permutation(len(parts))):
                name, *lines = part.strip().splitlines()
                if name in ("[derived]", "[parameters]"):  # rows and variables are told in the file's order
                    lines = [lines[k] for k in rng.permutation(len(lines))]
                turned.append("\n".join([name, *lines]))
            self.values_agree(head + "\n".join(turned), BEAM)

    def test_steps_on_the_way_may_be_written_out_or_taken_apart(self):
        written = BEAM.replace("area - 0.01", "(height * breadth * (1 - 0.4 * fill)) - 0.01").replace("50 * area",
                               "50 * (height * breadth * (1 - 0.4 * fill))")  # fmt: skip
        written = re.sub(r'area = ".*\n', "", written)
        self.agree(written)
        apart = BEAM.replace("[derived]", '[derived]\nshare = "1 - 0.4 * fill"\nface = "height * breadth"\n')
        apart = apart.replace('area = "height * breadth * (1 - 0.4 * fill)"', 'area = "face * share"')
        self.agree(apart)

    def test_what_is_maximized_is_less_of_what_is_minimized(self):
        turned = BEAM.replace("[minimize]", "[maximize]").replace(
            'cost = "50 * area + 4 * exp(-fill) + 3 * height"', 'gain = "-(50 * area + 4 * exp(-fill) + 3 * height)"'
        )
        self.values_agree(turned, BEAM)
        one, other = run(loads(turned), method="sqp"), run(loads(BEAM), method="sqp")
        self.assertAlmostEqual(one.objectives["gain"], -other.objectives["cost"], places=8)
        self.assertEqual(verify(one).verdict, verify(other).verdict)
        # What relaxing a limit is worth is told as written: a gain that rises is a cost that falls.
        prices = [{s.name: s.price for s in r.constraints if s.price} for r in (one, other)]
        self.assertEqual(set(prices[0]), set(prices[1]))
        for name, price in prices[0].items():
            self.assertAlmostEqual(price, -prices[1][name], delta=1e-5 * abs(price))

    def test_a_limit_may_be_written_from_either_side_or_as_a_band(self):
        sag = 'sag = "load * span^3 / (2e7 * stiff) <= 0.02"'
        plain = run(loads(BEAM), method="sqp")
        for text in (
            'sag = "0.02 >= load * span^3 / (2e7 * stiff)"',
            'sag = "-1 <= load * span^3 / (2e7 * stiff) <= 0.02"',
            'sag = { formula = "load * span^3 / (2e7 * stiff) <= 0.02", magnitude = 0.02 }',
            'sag = "load * span^3 / (2e7 * stiff) - 0.02 <= 0"',
        ):
            found = run(loads(BEAM.replace(sag, text)), method="sqp")
            self.assertAlmostEqual(found.objective, plain.objective, delta=1e-7 * plain.objective)
            states = [next(s for s in r.constraints if s.name == "sag") for r in (found, plain)]
            self.assertEqual(states[0].is_active, states[1].is_active)
            self.assertAlmostEqual(states[0].price, states[1].price, delta=1e-4 * abs(states[1].price))

    def test_a_bound_may_be_a_limit_and_a_limit_twice_is_one(self):
        bounded = run(loads(BEAM.replace("height = { start = 0.4, lower = 0.1, upper = 1.2 }",
                                         "height = { start = 0.4, lower = 0.1, upper = 0.45 }")), method="sqp")  # fmt: skip
        limited = run(loads(BEAM + 'low = "height <= 0.45"\n'), method="sqp")
        twice = run(loads(BEAM + 'low = "height <= 0.45"\nlower = "2 * height <= 0.9"\n'), method="sqp")
        self.assertAlmostEqual(bounded.objective, limited.objective, delta=1e-7 * bounded.objective)
        self.assertAlmostEqual(twice.objective, limited.objective, delta=1e-7 * bounded.objective)
        self.assertTrue(all(verify(result).holds for result in (bounded, limited, twice)))

    def test_numbers_may_be_parameters_set_for_a_run_or_formulas(self):
        written = BEAM.replace("load = 12.0", "load = 30.0")
        self.values_agree(BEAM.replace("load = 12.0", 'load = "2.5 * 12"'), written)
        for point in points(4):
            changed = Gate(loads(BEAM, set={"load": 30.0})).evaluate(point, derivatives=True)
            own = gate_of(written).evaluate(point, derivatives=True)
            self.assertEqual(changed.rows.tolist(), own.rows.tolist())
            self.assertEqual(changed.gradient.tolist(), own.gradient.tolist())
        again = loads(written).with_parameters(load=12.0)
        self.assertEqual(
            Gate(again).evaluate(points(1)[0]).rows.tolist(), gate_of(BEAM).evaluate(points(1)[0]).rows.tolist()
        )

    def test_scalars_may_be_a_vector(self):
        text = (
            BEAM.replace("height = { start = 0.4, lower = 0.1, upper = 1.2 }\n", "")
            .replace("breadth = { start = 0.3, lower = 0.05, upper = 0.9 }\n", "")
            .replace(
                "fill = { start = 0.5, lower = 0, upper = 1 }",
                "size = { start = [0.4, 0.3, 0.5], lower = [0.1, 0.05, 0], upper = [1.2, 0.9, 1], shape = 3 }",
            )
            .replace("[derived]", '[derived]\nheight = "size[0]"\nbreadth = "size[1]"\nfill = "size[2]"')
        )
        self.agree(text)

    def test_another_unit_of_a_variable_is_the_same_design(self):
        """Millimetres for metres: the same optimum, the same verdict, slopes a thousandth."""
        text = BEAM.replace(
            "height = { start = 0.4, lower = 0.1, upper = 1.2 }", "tall = { start = 400, lower = 100, upper = 1200 }"
        )
        text = text.replace("[derived]", '[derived]\nheight = "tall / 1000"')
        for point in points(6):
            other = point * [1000.0, 1.0, 1.0]
            one, two = at(BEAM, point), at(text, other)
            np.testing.assert_allclose(two[1], one[1], rtol=1e-12)
            np.testing.assert_allclose(two[2] * [1000.0, 1.0, 1.0], one[2], rtol=1e-11)
        one, two = run(loads(BEAM), method="sqp"), run(loads(text), method="sqp")
        self.assertEqual(one.counts["iterations"], two.counts["iterations"])  # bounds scale it
        self.assertAlmostEqual(one.objective, two.objective, delta=1e-8 * one.objective)
        self.assertEqual(verify(one).verdict, verify(two).verdict)

    def test_a_constant_more_moves_nothing(self):
        for offset in ("1000", "-7.5", "1e-3 * span"):
            text = BEAM.replace("4 * exp(-fill)", f"({offset}) + 4 * exp(-fill)")
            one, two = run(loads(BEAM), method="sqp"), run(loads(text), method="sqp")
            np.testing.assert_allclose(one.point, two.point, atol=2e-4)

    def test_a_monotonic_objective_has_the_same_optimum(self):
        for wrapped in ("log({})", "({})^3", "sqrt({})", "exp(0.1 * ({}))"):
            text = BEAM.replace(
                "50 * area + 4 * exp(-fill) + 3 * height", wrapped.format("50 * area + 4 * exp(-fill) + 3 * height")
            )
            one, two = run(loads(BEAM), method="sqp"), run(loads(text), method="sqp")
            np.testing.assert_allclose(one.point, two.point, atol=1e-4, err_msg=wrapped)

    def test_cases_of_nothing_are_the_problem_itself(self):
        text = (
            BEAM.replace("load = 12.0", "load = 12.0")
            + "[cases.calm]\nset = { load = 12.0 }\n[cases.storm]\nset = { load = 12.0 }\n"
        )
        one, two = run(loads(BEAM), method="sqp"), run(loads(text), method="sqp")
        self.assertAlmostEqual(one.objective, two.objective, delta=1e-7 * one.objective)
        heavy = text.replace("[cases.storm]\nset = { load = 12.0 }", "[cases.storm]\nset = { load = 20.0 }")
        worst = run(loads(BEAM.replace("load = 12.0", "load = 20.0")), method="sqp")
        self.assertAlmostEqual(run(loads(heavy), method="sqp").objective, worst.objective, delta=1e-7 * worst.objective)


class Written(unittest.TestCase):
    """Formulas that are equal in mathematics agree in numbers, alone and over arrays."""

    PAIRS = (
        ("x + y", "y + x"),
        ("x - y", "-(y - x)"),
        ("(x + y)^2", "x^2 + 2*x*y + y^2"),
        ("x / y", "x * y^-1"),
        ("exp(x + y)", "exp(x) * exp(y)"),
        ("log(x * y)", "log(x) + log(y)"),
        ("sqrt(x)", "x^0.5"),
        ("x^3", "x * x * x"),
        ("sin(x)^2 + cos(x)^2", "1 + 0 * x"),
        ("tan(x)", "sin(x) / cos(x)"),
        ("sinh(x)", "(exp(x) - exp(-x)) / 2"),
        ("cosh(x)", "(exp(x) + exp(-x)) / 2"),
        ("tanh(x)", "sinh(x) / cosh(x)"),
        ("abs(x - y)", "max(x - y, y - x)"),
        ("max(x, y)", "-min(-x, -y)"),
        ("max(x, y)", "where(x > y, x, y)"),
        ("min(x, y)", "(x + y - abs(x - y)) / 2"),
        ("atan(x)", "asin(x / sqrt(1 + x^2))"),
        ("log10(x)", "log(x) / log(10)"),
    )

    def test_values_and_derivatives_agree(self):
        rng = np.random.default_rng(2)
        designs = rng.uniform(0.2, 1.3, (10, 2))
        head = "[variables]\nx = { start = 0.7 }\ny = { start = 0.9 }\n[minimize]\nf = "
        for one, other in self.PAIRS:
            gates = [Gate(loads(f'{head}"{text}"\n')) for text in (one, other)]
            for design in designs:
                found = [gate.evaluate(design, derivatives=True) for gate in gates]
                np.testing.assert_allclose(found[0].objective, found[1].objective, rtol=1e-12, atol=1e-14, err_msg=one)
                np.testing.assert_allclose(found[0].gradient, found[1].gradient, rtol=1e-9, atol=1e-12, err_msg=one)
                curves = [gate.curvature(design, np.zeros(0), 1.0) for gate in gates]
                curves = [c if isinstance(c, np.ndarray) else c.toarray() for c in curves]
                np.testing.assert_allclose(curves[0], curves[1], rtol=1e-7, atol=1e-10, err_msg=one)

    def test_vectors_are_their_elements(self):
        head = "[variables]\nu = { start = [0.4, 0.7, 1.1, 0.2], shape = 4 }\n[minimize]\nf = "
        for vector, elements in (
            ("sum(u^2)", "u[0]^2 + u[1]^2 + u[2]^2 + u[3]^2"),
            ("sum(u[1:] * u[:-1])", "u[1]*u[0] + u[2]*u[1] + u[3]*u[2]"),
            ("sum(diff(u)^2)", "(u[1]-u[0])^2 + (u[2]-u[1])^2 + (u[3]-u[2])^2"),
            ("max(u)", "max(max(u[0], u[1]), max(u[2], u[3]))"),
            ("min(u)", "min(min(u[0], u[1]), min(u[2], u[3]))"),
            ("sum(cumsum(u))", "4*u[0] + 3*u[1] + 2*u[2] + u[3]"),
            ("sum(u - 1)", "u[0] + u[1] + u[2] + u[3] - 4"),
            ("mean(u)", "(u[0] + u[1] + u[2] + u[3]) / 4"),
            ("sum(join(u, 2*u[:2]))", "3*u[0] + 3*u[1] + u[2] + u[3]"),
            ("prod(u)", "u[0] * u[1] * u[2] * u[3]"),
        ):
            gates = [Gate(loads(f'{head}"{text}"\n')) for text in (vector, elements)]
            for design in np.random.default_rng(3).uniform(0.2, 1.4, (6, 4)):
                found = [gate.evaluate(design, derivatives=True) for gate in gates]
                np.testing.assert_allclose(found[0].objective, found[1].objective, rtol=1e-13, err_msg=vector)
                np.testing.assert_allclose(found[0].gradient, found[1].gradient, rtol=1e-12, atol=1e-14, err_msg=vector)

    def test_a_row_of_a_vector_is_as_many_rows(self):
        head = "[variables]\nu = { start = 0.5, lower = 0, upper = 2, shape = 4 }\n[minimize]\nf = 'sum((u - 1)^2)'\n[constraints]\n"
        whole = loads(head + "c = 'u^2 + 0.1 <= join(0.3, 0.5, 0.7, 9)'\n")
        apart = loads(head + "".join(f"c{k} = 'u[{k}]^2 + 0.1 <= {v}'\n" for k, v in enumerate((0.3, 0.5, 0.7, 9))))
        self.assertEqual(whole.row_count, apart.row_count)
        for design in np.random.default_rng(4).uniform(0, 2, (6, 4)):
            one, two = (Gate(p).evaluate(design, derivatives=True) for p in (whole, apart))
            np.testing.assert_allclose(one.rows, two.rows, rtol=1e-14)
            jacobians = [own if isinstance(own, np.ndarray) else own.toarray() for own in (one.jacobian, two.jacobian)]
            np.testing.assert_allclose(*jacobians, rtol=1e-13)
        ends = [run(p, method="sqp") for p in (whole, apart)]
        np.testing.assert_allclose(ends[0].point, ends[1].point, atol=1e-7)
        for method in ("interior-point", "augmented-lagrangian"):
            np.testing.assert_allclose(run(whole, method=method).point, ends[0].point, atol=1e-4)


class Methods(unittest.TestCase):
    def test_every_method_of_derivatives_ends_at_the_same_design(self):
        found = {
            method: run(loads(BEAM), method=method) for method in ("sqp", "interior-point", "augmented-lagrangian")
        }
        for (_, one), (name, other) in itertools.pairwise(found.items()):
            self.assertAlmostEqual(one.objective, other.objective, delta=1e-5 * one.objective, msg=name)

    def test_the_start_decides_nothing_of_what_is_convex(self):
        text = BEAM.replace("4 * exp(-fill)", "4 * (fill - 0.6)^2").replace("(1 - 0.4 * fill)", "1")
        ends = []
        for start in points(5, seed=7):
            ends.append(run(loads(text).with_starts(start), method="sqp").point)
        for end in ends[1:]:
            np.testing.assert_allclose(end, ends[0], atol=1e-4)


if __name__ == "__main__":
    unittest.main()
