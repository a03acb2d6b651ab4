"""Verdicts on planted optima, planted saddles and traps: right in every one, and never "holds" wrongly."""

import unittest
from dataclasses import replace

import numpy as np

from ilvren import loads, run, verify
from ilvren.judge.optimum.curvature import lagrangian_curvature
from ilvren.judge.standing.verdict import MEANINGS
from tests.compact import WHOLE, only_in_whole, some
from tests.planted import planted
from tests.problems import manufactured, two_variables


def judged_at(text, x, y=None, **options):
    """Return the verdict on a design typed in: a run that was stopped before it could move."""
    start = {"x": x} if y is None else {"x": x, "y": y}
    result = run(loads(text, start=start), method="sqp", evaluations=1)
    return verify(replace(result, evaluations=()), **options)


class Traps(unittest.TestCase):
    def test_every_trap_gets_its_verdict(self):
        corner = "[variables]\nx = { start = 1, lower = 0, upper = 1 }\ny = { start = 0, lower = 0, upper = 1 }\n"
        for what, text, point, verdict in (
            ("bowl", two_variables("(x - 1)^2 + 3 * (y - 2)^2"), (1.0, 2.0), "local-strict"),
            ("bowl, off the optimum", two_variables("(x - 1)^2 + 3 * (y - 2)^2"), (1.1, 2.0), "improvable"),
            ("saddle", two_variables("x^2 - y^2"), (0.0, 0.0), "saddle"),
            ("saddle across the axes", two_variables("x * y"), (0.0, 0.0), "saddle"),
            ("local maximum", two_variables("-(x^2) - y^2"), (0.0, 0.0), "saddle"),
            ("maximum of a maximization", two_variables("-(x^2) - y^2", sense="maximize"), (0.0, 0.0), "local-strict"),
            ("x^2 - y^4", two_variables("x^2 - y^4"), (0.0, 0.0), None),
            ("x^2 + y^4", two_variables("x^2 + y^4"), (0.0, 0.0), "local-weak"),
            ("cubic", two_variables("x^3 + y^2"), (0.0, 0.0), None),
            ("flat valley", two_variables("(x + y)^2"), (0.0, 0.0), "local-weak"),
            ("limit broken", two_variables("x^2", "x >= 1"), (0.9, 0.0), "limits-broken"),
            ("active limit", two_variables("x^2 + y^2", "x >= 1"), (1.0, 0.0), "local-strict"),
            ("wrong side of a limit", two_variables("x^2 + y^2", "x <= 1"), (1.0, 0.0), "improvable"),
            ("wrong end of a bound", corner + '[maximize]\nf = "y - x"\n', (1.0, 1.0), "improvable"),
            ("vertex", corner + '[maximize]\nf = "y - x"\n', (0.0, 1.0), "local-strict"),
            ("vertex, wrong in one direction", corner + '[minimize]\nf = "1e-3 * x - y"\n', (1.0, 1.0), "improvable"),
            ("equality, minimum", two_variables("x + y", "x^2 + y^2 == 2"), (-1.0, -1.0), "local-strict"),
            ("equality, maximum", two_variables("x + y", "x^2 + y^2 == 2"), (1.0, 1.0), "saddle"),
            ("saddle behind a weak limit", two_variables("y^2 - x^2", "x >= 0"), (0.0, 0.0), "saddle"),
            ("curvature closed by a limit", two_variables("y^2 - x^2 + x", "x >= 0"), (0.0, 0.0), "local-strict"),
            ("duplicate limits", two_variables("x^2 + y^2", "x >= 1", "2 * x >= 2"), (1.0, 0.0), "local-strict"),
            ("no qualification", two_variables("-x", "y <= (1 - x)^3", "y >= 0"), (1.0, 0.0), "local-weak"),
            ("no qualification, bent", two_variables("-x - y^2", "y^2 <= (1 - x)^3"), (1.0, 0.0), "local-weak"),
            ("stationary to the tolerance only", two_variables("1 + y^2 + 1e-8 * x"), (0.0, 0.0), "improvable"),
            ("edge of a plateau", two_variables("max(0, x - 1) + y^2"), (1.0, 0.0), "local-weak"),
            ("tip of a cone", two_variables("hypot(x, y)"), (0.0, 0.0), "local-weak"),
            ("tip of a tilted cone", two_variables("hypot(x, y) + 1.2 * x"), (0.0, 0.0), "improvable"),
            ("one feasible design", two_variables("x + y", "x^2 + y^2 == 0"), (0.0, 0.0), "local-weak"),
            ("three planes", two_variables("max(max(x, y - x), -y - 0.5 * x)"), (0.0, 0.0), "local-strict"),
            ("ridge of a minimum", two_variables("min((x - 1)^2, (x + 1)^2) + y^2"), (0.0, 0.0), "improvable"),
            ("x^9", two_variables("x^9 + y^2"), (0.0, 0.0), None),
            ("no qualification, no optimum", two_variables("-x", "y <= (1 - x)^3", "y >= 0"), (0.9, 0.0), "improvable"),
            ("kink", two_variables("abs(x - 0.3) + y^2"), (0.3, 0.0), "local-strict"),
            ("kink, not an optimum", two_variables("abs(x) - 2 * x + y^2"), (0.0, 0.0), "improvable"),
            ("jump", two_variables("x^2 + y^2 + where(x >= 0, 0, -1)"), (0.0, 0.0), "improvable"),
            ("root at its end", two_variables("sqrt(x) + y^2", "x >= 0"), (0.0, 0.0), "local-weak"),
            ("scaled up", two_variables("1e8 * ((x - 1)^2 + y^2) + 7"), (1.0, 0.0), "local-strict"),
            ("scaled up, off by little", two_variables("1e8 * ((x - 1)^2 + y^2) + 7"), (1.001, 0.0), "improvable"),
            ("scaled down", two_variables("1e-8 * ((x - 1)^2 + y^2)"), (1.0, 0.0), "local-strict"),
            ("no objective", two_variables("", "x^2 + y^2 <= 1"), (0.1, 0.2), "global-proved"),
            ("constant objective", two_variables("3", "x >= 0"), (1.0, 0.0), "global-proved"),
        ):  # fmt: skip
            with self.subTest(what=what):
                found = judged_at(text, *point)
                if verdict is None:
                    self.assertFalse(found.holds, found.verdict)
                else:
                    self.assertEqual(found.verdict, verdict, found.reason)
                self.assertEqual(found.holds, found.verdict in ("local-strict", "local-weak", "global-proved"))
                self.assertIn(found.verdict, MEANINGS)

    def test_invalid_designs(self):
        found = judged_at(two_variables("log(x) + y^2"), -1.0, 0.0)
        self.assertEqual(found.verdict, "unverified")
        self.assertIn('no finite value at "log(x)"', found.reason)
        self.assertEqual(judged_at(two_variables("x^2", "log(x) <= 3"), -1.0, 0.0).verdict, "limits-broken")

    def test_where_nothing_can_change_the_design_is_the_only_one(self):
        text = '[variables]\nx = { lower = 2, upper = 2 }\n[minimize]\nf = "x^2"\n[constraints]\nc = "x <= 3"\n'
        self.assertEqual(verify(run(loads(text), method="sqp")).verdict, "local-strict")
        self.assertEqual(verify(run(loads(text.replace("<= 3", "<= 1")), method="sqp")).verdict, "limits-broken")

    def test_a_probe_holds_only_when_accepted(self):
        text = "[variables]\nx = { start = 0, lower = 0, upper = 1, shape = 9 }\n[minimize]\nf = 'sum(sqrt(x))'\n"
        self.assertEqual(verify(loads(text), at={}).verdict, "probe-only")
        self.assertFalse(verify(loads(text), at={}).holds)
        self.assertTrue(verify(loads(text), at={}, accept_probe=True).holds)

    def test_improvable_shows_a_better_feasible_design(self):
        text = two_variables("x^2 + y^2", "x + y >= 2")
        found = judged_at(text, 1.5, 0.6)
        self.assertLess(found.better_objective, found.objective)
        self.assertGreaterEqual(found.better["x"] + found.better["y"], 2.0 - 1e-5)

    def test_the_slack_in_limits_is_no_improvement(self):
        """Exactly on the limit, designs that use up the miss allowed are better by price times miss: no objection."""
        text = two_variables("x + 1e-3", "x >= 1e-3", "y == 0")
        self.assertEqual(judged_at(text, 1e-3, 0.0).verdict, "local-strict")


class Runs(unittest.TestCase):
    @only_in_whole
    def test_a_simplex_stopped_early_does_not_verify_and_one_that_settled_does(self):
        problem, _ = manufactured(2, n=3, inequalities=2, equalities=0)
        verdicts = [verify(run(problem, method="nelder-mead", evaluations=n)) for n in (20, 60, 120, 100_000)]
        self.assertEqual([v.holds for v in verdicts], [False, False, False, True])

    def test_a_record_that_disagrees_is_not_verified(self):
        result = run(loads(two_variables("x^2 + y^2")), method="sqp")
        self.assertEqual(verify(result).verdict, "local-strict")
        self.assertEqual(verify(replace(result, objective=(result.objective or 0.0) + 0.1)).verdict, "unverified")

    def test_a_better_design_on_record_makes_it_improvable(self):
        result = run(loads(two_variables("(x^2 - 1)^2 + 0.3 * x + y^2", start=(1.2, 0.0))), method="sqp")
        other = run(loads(two_variables("(x^2 - 1)^2 + 0.3 * x + y^2", start=(-1.2, 0.0))), method="sqp")
        self.assertTrue(verify(result).holds)
        both = replace(result, evaluations=result.evaluations + other.evaluations)
        self.assertEqual(verify(both).verdict, "improvable")

    def test_manufactured_optima_hold_and_their_neighbours_do_not(self):
        for seed in some(range(25), 5):
            problem, _ = manufactured(seed, n=2 + seed % 5, inequalities=seed % 5, equalities=seed % 2)
            result = run(problem, method="sqp")
            with self.subTest(seed=seed):
                found = verify(result)
                self.assertEqual(found.verdict, "local-strict", found.reason)
                names = [variable.name for variable in problem.variables]
                moved = dict(zip(names, (np.array(result.point) + 0.02).tolist(), strict=True))
                off = run(loads(problem.source.text, start=moved), method="sqp", evaluations=1)
                self.assertFalse(verify(replace(off, evaluations=())).holds)

    def test_planted_designs_of_every_kind(self):
        """Hundreds more are judged in the benchmarks."""
        for item in planted(3 if WHOLE else 2):
            with self.subTest(kind=item.kind, text=item.text):
                found = verify(loads(item.text), at={})
                self.assertEqual(found.holds, item.is_optimum, found.reason)
                if "saddle" in item.kind or "maximum" in item.kind:
                    self.assertEqual(found.verdict, "saddle")

    def test_curvature_is_that_of_the_lagrangian(self):
        """On the circle the linear objective has no curvature; its limit gives all of it: λ = −1/2 a unit."""
        result = run(loads(two_variables("x + y", "x^2 + y^2 == 2", start=(-1.5, -0.5))), method="sqp")
        from ilvren.evaluate import Gate
        from ilvren.problem import Measures
        from ilvren.runs import first_order_conditions

        problem = result.problem
        gate, measures, point = Gate(problem), Measures.of(problem), np.array([-1.0, -1.0])
        conditions = first_order_conditions(
            problem, measures, point, gate.evaluate(point, derivatives=True), objective_size=1.0, feasibility=1e-6
        )
        sizes = measures.variable_sizes(point)
        found = lagrangian_curvature(gate, measures, point, conditions, sizes=sizes, objective_size=1.0)
        tangent = np.array([1.0, -1.0]) / sizes
        tangent /= np.linalg.norm(tangent)
        self.assertAlmostEqual(found.least, float((tangent * sizes) @ (tangent * sizes)), places=6)
        self.assertEqual(found.freedom, 1)

    def test_json_has_the_promised_keys(self):
        document = verify(run(loads(two_variables("x^2 + y^2")), method="sqp")).to_dict()
        self.assertLessEqual({"verdict", "holds", "reason", "checks"}, set(document))
        for check in document["checks"]:
            self.assertEqual(set(check), {"name", "result", "value", "limit", "detail"})
            self.assertIn(check["result"], ("pass", "fail", "unknown"))
