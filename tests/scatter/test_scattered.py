"""What scatters of a problem at a design, and the wider problem whose designs are scenarios: against sampled moments,
differences, and the same problem with the scenario's numbers written in."""

import unittest

import numpy as np

from ilvren import loads
from ilvren.errors import IlvrenError, ProblemError, RequestError
from ilvren.evaluate import Gate
from ilvren.problem import scatter_of, wide_designs, wide_nominal, widened_problem
from ilvren.scatter import scenario_normals

TEXT = """
[variables]
x = { start = 2.0, lower = 0.5, upper = 4.0, unit = "mm" }
u = { start = [1.0, 2.0, 3.0], lower = 0.0, upper = [5.0, 6.0, 7.0] }
[parameters]
load = { value = 5.0, unit = "kN" }
w = [1.0, 4.0, 2.0]
twice = "2 * load"
dw = [0.1, 0.3, 0.2]
k = 3.0
[scatter]
x = { law = "uniform", half_width = 0.25 }
u = { law = "normal", deviation = 0.1, relative = true }
load = { law = "lognormal", deviation = 0.5 }
w = { law = "gumbel", deviation = "dw", common = true }
together = [["x", "load", 0.6]]
[derived]
total = "dot(u, w) + twice"
[minimize]
f = "total * x + k"
[constraints]
g = "total <= 40"
h = "u - x <= 3"
"""


def plain(text, point, values):
    """Return a file without [scatter], with these starts and parameters written in."""
    before, rest = text.split("[scatter]")
    after = rest[rest.index("[derived]") :]
    x, u = float(point[0]), [float(v) for v in point[1:4]]
    before = before.replace("start = 2.0", f"start = {x!r}").replace("start = [1.0, 2.0, 3.0]", f"start = {u!r}")
    before = before.replace("value = 5.0", f"value = {float(values['load'])!r}")
    return before.replace("w = [1.0, 4.0, 2.0]", f"w = {values['w'].tolist()!r}") + after


class AtADesign(unittest.TestCase):
    def setUp(self):
        self.problem = loads(TEXT)
        self.scattered = scatter_of(self.problem, self.problem.start)

    def test_scenarios_have_the_moments_and_correlations_that_are_told(self):
        scattered = self.scattered
        self.assertEqual([item.size for item in scattered.quantities], [1, 3, 1, 1])
        self.assertEqual(scattered.dependence.dimension, 6)
        found = scattered.scenarios(scenario_normals(6, 20_000, 3))
        for item in scattered.quantities:
            values = found[item.name]
            self.assertEqual(values.shape, (20_000, *item.shape))
            np.testing.assert_allclose(values.mean(axis=0), item.mean, atol=0.01 * item.deviation.max())
            np.testing.assert_allclose(values.std(axis=0), item.deviation, rtol=0.02)
        # relative: a tenth of each place's own value; common: all places by the same normal number
        np.testing.assert_allclose(scattered.quantities[1].deviation, [0.1, 0.2, 0.3])
        between = np.corrcoef(found["w"].T), np.corrcoef(found["u"].T)
        np.testing.assert_allclose(between[0], 1.0, atol=1e-9)
        np.testing.assert_allclose(between[1], np.eye(3), atol=0.02)
        ranks = [np.argsort(np.argsort(found[name])) for name in ("x", "load")]
        self.assertAlmostEqual(np.corrcoef(ranks)[0, 1], 0.6, delta=0.02)

    def test_a_design_elsewhere_scatters_around_itself(self):
        there = scatter_of(self.problem, [3.0, 2.0, 2.0, 0.5])
        np.testing.assert_allclose(there.quantities[1].deviation, [0.2, 0.2, 0.05])
        self.assertEqual(there.quantities[0].mean, 3.0)
        rows = there.rows({"load": "kN", "x": "mm"})
        self.assertEqual([row[0] for row in rows], ["x", "u", "load", "w"])
        self.assertEqual(rows[0][4], "mm")
        # of a vector the place that scatters most
        np.testing.assert_allclose([row[2:4] for row in rows], [(3, 0.25 / 3**0.5), (2, 0.2), (5, 0.5), (4, 0.3)])

    def test_slopes_by_independent_numbers_are_those_that_differences_see(self):
        rng = np.random.default_rng(5)
        own = rng.normal(size=(4, 6))
        weights = {name: rng.normal(size=(4, size)) for name, size in (("x", 1), ("u", 3), ("load", 1), ("w", 3))}

        def total(at):
            found = self.scattered.scenarios(at)
            return sum((weights[name] * found[name].reshape(4, -1)).sum(axis=1) for name in weights)

        slopes = self.scattered.vjp(own, weights)
        for k in range(6):
            step = np.zeros(6)
            step[k] = 1e-6
            seen = (total(own + step) - total(own - step)) / 2e-6
            np.testing.assert_allclose(slopes[:, k], seen, rtol=1e-6, atol=1e-7)

    def test_neighbours_within_reach_are_alike(self):
        text = TEXT.replace("relative = true }", "relative = true, reach = 1.5 }")
        scattered = scatter_of(loads(text), self.problem.start)
        found = scattered.scenarios(scenario_normals(6, 20_000, 3))["u"]
        gaps = np.subtract.outer(np.arange(3), np.arange(3))
        np.testing.assert_allclose(np.corrcoef(found.T), np.exp(-((gaps / 1.5) ** 2)), atol=0.02)


class Wider(unittest.TestCase):
    def setUp(self):
        self.problem = loads(TEXT)
        self.wide = widened_problem(self.problem)

    def test_a_scenario_is_a_design_of_it_with_the_values_of_the_file_that_has_its_numbers(self):
        point = np.array([2.5, 1.5, 0.5, 2.0])
        scattered = scatter_of(self.problem, point)
        nominal = wide_nominal(self.problem, self.wide, point)
        own = scenario_normals(6, 20, 1)
        designs = wide_designs(self.wide, scattered, nominal, own)
        told = Gate(self.wide).written.batch(designs)
        values = scattered.scenarios(own)
        for k in range(0, 20, 5):
            moved = np.concatenate([[values["x"][k]], values["u"][k]])
            text = plain(TEXT, moved, {"load": values["load"][k], "w": values["w"][k]})
            same = loads(text.replace("lower = 0.5, upper = 4.0, ", "").replace("lower = 0.0, ", ""))
            gate = Gate(same)
            there = gate.written.batch(np.array([same.start]))
            self.assertAlmostEqual(told.objective[k], there.objective[0], places=10)
            np.testing.assert_allclose(told.rows[k], there.rows[0], atol=1e-12)

    def test_nothing_scattered_is_the_design_itself(self):
        here = wide_nominal(self.problem, self.wide, self.problem.start)
        self.assertAlmostEqual(
            Gate(self.wide).written.batch(np.array([here])).objective[0],
            Gate(self.problem).written.batch(np.array([self.problem.start])).objective[0],
            places=12,
        )
        self.assertFalse(np.isfinite([self.wide.joined("lower"), self.wide.joined("upper")]).any())
        self.assertEqual([block.name for block in self.wide.blocks], ["x", "u", "load", "w"])
        self.assertEqual([item.name for item in self.wide.parameters], ["dw", "k"])  # `twice` follows what scatters

    def test_parameters_that_were_set_keep_their_values(self):
        other = loads(TEXT, set={"k": 7.0, "load": 6.0})
        wide = widened_problem(other)
        here = wide_nominal(other, wide, other.start)
        self.assertEqual(here[4], 6.0)
        one, two = (
            Gate(p).written.batch(np.array([at])).objective[0] for p, at in ((wide, here), (other, other.start))
        )
        self.assertAlmostEqual(one, two, places=12)


class Refused(unittest.TestCase):
    def test_what_cannot_scatter_so_says_where(self):
        for old, new, told in (
            ('"lognormal", deviation = 0.5', '"lognormal", deviation = -0.5', "deviation = -0.5"),
            ("value = 5.0", "value = -5.0", "is not above 0"),
            ('"uniform", half_width = 0.25', '"uniform", half_width = "dw"', '"half_width" is one number'),
            ('"uniform", half_width = 0.25', '"uniform", half_width = "x / 4"', "may not depend on a variable"),
            ('"uniform", half_width = 0.25', '"uniform", half_width = 0.25, reach = 2', "no places to reach along"),
            ("relative = true }", "relative = true, reach = 0 }", "a number of places above 0"),
            ('["x", "load", 0.6]', '["x", "u", 0.6]', "equally many are correlated"),
            (
                '[["x", "load", 0.6]]',
                '[["x", "load", 0.95], ["load", "w", 0.95], ["x", "w", -0.9]]',
                "no quantities are correlated so",
            ),
        ):
            with self.subTest(new=new):
                text = TEXT.replace(old, new)
                self.assertNotEqual(text, TEXT)
                with self.assertRaises(IlvrenError) as caught:
                    problem = loads(text)
                    scatter_of(problem, problem.start)
                message = str(caught.exception)
                self.assertIn(told, message)
                wrong = text.index("load = { law" if "value" in new else new)
                self.assertEqual(caught.exception.line, 1 + text[:wrong].count("\n"))

    def test_a_problem_that_does_not_say_how_anything_scatters(self):
        problem = loads("[variables]\nx = { start = 1 }\n[minimize]\nf = 'x^2'\n")
        with self.assertRaises(RequestError):
            scatter_of(problem, problem.start)

    def test_a_matrix_made_of_what_scatters(self):
        text = TEXT.replace("k = 3.0", 'k = 3.0\nm = [["load", 1.0], [0.0, 1.0]]').replace("+ k", "+ k + sum(m)")
        with self.assertRaises(ProblemError) as caught:
            widened_problem(loads(text))
        self.assertIn("m, a matrix, is made of what scatters", str(caught.exception))


if __name__ == "__main__":
    unittest.main()
