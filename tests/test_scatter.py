"""Designs as they will be made: how they fare, runs about scatter, and what is refused."""

import json
import math
import unittest
from pathlib import Path

import numpy as np
from scipy import stats

from ilvren import run, verify
from ilvren.errors import ProblemError, RequestError
from ilvren.evaluate import Gate
from ilvren.explore.scatter import scatter, scatter_case
from ilvren.judge.standing.design_report import design_report_at
from ilvren.judge.verifying.verification import VerifyOptions
from ilvren.problem import Aim, Refinement, loads
from ilvren.problem.scatter_plan import ScatterPlan
from ilvren.runs.scatter_stages import counted_problem
from ilvren.scatter import scenario_normals
from tests.compact import WHOLE
from tests.drawing import unpainted
from tests.test_cli import InAFolder

# Everything linear: x1 + 2 x2 + b is normal.
LINEAR = """
[variables]
x1 = {{ start = 1, lower = -10, upper = 10 }}
x2 = {{ start = 2, lower = -10, upper = 10 }}
[parameters]
b = 3.0
c = "2 * b"
most = 12.0
[derived]
total = "x1 + 2 * x2 + b"
{more}
[minimize]
cost = "{cost}"
[constraints]
{limits}
[scatter]
x1 = {{ law = "normal", deviation = 0.3 }}
x2 = {{ law = "normal", deviation = 0.2 }}
b = {{ law = "normal", deviation = 0.1, relative = true }}
{together}
"""
SIGMA = math.sqrt(0.3**2 + 0.4**2 + 0.3**2)


def linear(cost="x1 + x2", limits='top = "total <= 9"', more="", together=""):
    return loads(LINEAR.format(cost=cost, limits=limits, more=more, together=together))


class Designs(unittest.TestCase):
    def test_every_way_tells_what_is_known(self):
        problem = linear(together='together = [["x1", "b", 0.5]]')
        rho = 2.0 * math.sin(math.pi * 0.5 / 6.0)
        sigma = math.sqrt(SIGMA**2 + 2.0 * rho * 0.3 * 0.3)
        told = scatter(problem, problem.start, scenarios=4000, ways=("sampling", "linear", "reliability"))
        top = next(item for item in told.of if item.output.name == "top")
        share = stats.norm.sf(1.0 / sigma)
        self.assertAlmostEqual(top.mean.value, 8.0, delta=0.01)
        self.assertAlmostEqual(top.deviation.value, sigma, delta=0.02)
        self.assertAlmostEqual(top.quantiles["0.95"], 8.0 + 1.645 * sigma, delta=0.05)
        self.assertAlmostEqual(top.reserve, 1.0 / sigma, delta=0.05)
        self.assertAlmostEqual(top.linear["misses"], share, places=9)
        self.assertAlmostEqual(top.rare.share, share, places=9)
        for interval in (top.misses, top.rare.sampled, told.works):
            self.assertTrue(
                interval.low - 0.01 <= (1 - share if interval is told.works else share) <= interval.high + 0.01
            )
        self.assertTrue(told.worst[0].miss > 0.0)
        self.assertEqual({name for name, _, _, _ in told.worst[0].causes}, {"x1", "x2", "b"})

    def test_drivers_are_shares_of_the_variance(self):
        told = scatter(linear(), (1.0, 2.0), scenarios=2000)
        for name, part in (("x1", 0.09), ("x2", 0.16), ("b", 0.09)):
            first, total = told.drivers["top"][name]
            self.assertAlmostEqual(first, part / SIGMA**2, delta=0.02)
            self.assertAlmostEqual(total, part / SIGMA**2, delta=0.02)

    def test_what_is_made_of_scattered_parameters_moves(self):
        problem = linear(limits='top = "c <= most"')
        told = scatter(problem, problem.start, scenarios=1000)
        top = next(item for item in told.of if item.output.name == "top")
        self.assertAlmostEqual(top.deviation.value, 0.6, delta=0.02)
        fixed = loads(problem.source.text, set={"c": 7.0})
        told = scatter(fixed, fixed.start, scenarios=1000)
        self.assertEqual(next(item for item in told.of if item.output.name == "top").deviation.value, 0.0)

    def test_variables_alone_scatter_beyond_their_bounds(self):
        text = """
        [variables]
        x = { start = 1, lower = 0, upper = 1 }
        [minimize]
        cost = "-x"
        [constraints]
        often = "chance(x <= 1.2) >= 0.5"
        [confirm]
        life = "quantile(x, 0.9) <= 1.3"
        [scatter]
        x = { law = "normal", deviation = 0.2 }
        """
        case = scatter_case(loads(text), (1.0,))
        self.assertEqual(case.wide.joined("upper").tolist(), [math.inf])
        told = scatter(loads(text), (1.0,))
        often = next(item for item in told.of if item.output.name == "often")
        self.assertEqual(often.output.upper, 1.2)  # of one scenario
        self.assertAlmostEqual(often.misses.value, stats.norm.sf(1.0), delta=0.02)
        self.assertEqual(Aim.from_dict(case.wide.aim.to_dict()), case.wide.aim)
        self.assertEqual(run(loads(text), second_look=0.0).confirmation.word, "confirmed")
        held = loads(text, aim=Aim(hold=("quantile(x, 0.9) <= 2",)))
        told = scatter(held, (1.0,), of=["held"])  # as the file's own limits
        self.assertAlmostEqual(told.of[0].misses.value, 0.0, delta=0.01)

    def test_what_cannot_scatter_is_refused(self):
        for old, new, word in (
            ('x1 = { law = "normal", deviation = 0.3 }', 'x1 = { law = "norml", deviation = 0.3 }', "normal"),
            ('x1 = { law = "normal", deviation = 0.3 }', 'x1 = { law = "normal", half_width = 0.3 }', "half_width"),
            ('x1 = { law = "normal", deviation = 0.3 }', 'x1 = { law = "normal", deviation = -0.3 }', "from 0"),
            ('x1 = { law = "normal", deviation = 0.3 }', 'x1 = { law = "normal", deviation = "x2" }', "variable"),
            ('x1 = { law = "normal", deviation = 0.3 }', 'x7 = { law = "normal", deviation = 0.3 }', "x1"),
            ('x1 = { law = "normal", deviation = 0.3 }', 'total = { law = "normal", deviation = 0.3 }', "given by others"),
            ('x1 = { law = "normal", deviation = 0.3 }', 'x1 = { law = "normal", deviation = 0.3, reach = 2 }', "places"),
            ('cost = "x1 + x2"', 'cost = "expected(deviation(x1))"', "side by side"),
            ('cost = "x1 + x2"', 'cost = "quantile(x1, 1.2)"', "between 0 and 1"),
            ('cost = "x1 + x2"', 'cost = "chance(x1 == 2)"', "says nothing"),
        ):  # fmt: skip
            text = linear().source.text
            self.assertIn(old, text)
            with self.subTest(new=new), self.assertRaises((ProblemError, RequestError)) as caught:
                problem = loads(text.replace(old, new))
                scatter(problem, problem.start, scenarios=10)
            self.assertIn(word, f"{caught.exception} {caught.exception.advice}")
        text = linear().source.text + "[cases.wet]\nset = { b = 4 }\n"
        with self.assertRaisesRegex(ProblemError, "the case wet sets it"):
            loads(text)
        text = linear(together='together = [["x1", "x2", 0.9], ["x2", "b", 0.9], ["x1", "b", -0.9]]').source.text
        with self.assertRaisesRegex(ProblemError, "contradicts itself"):
            scatter(loads(text), (1.0, 2.0), scenarios=10)
        sized = linear(more='many = "sum(evenly(0, 1, b) * x1)"')
        with self.assertRaisesRegex(ProblemError, "before any run"):
            scatter(sized, sized.start, scenarios=10)


class Runs(unittest.TestCase):
    def test_functions_are_what_they_are_called(self):
        more = """
middle = "expected(total)"
wide = "deviation(total)"
level = "quantile(total, 0.9)"
most_of_all = "worst(total)"
holds = "chance(7 <= total <= 9)"
either = "chance(total <= 7 or not (total <= 9))"
"""
        problem = linear(more=more)
        smooth, counted = (Gate(own).written.values(problem.start) for own in (problem, counted_problem(problem)))
        within = stats.norm.cdf(1.0 / SIGMA) - stats.norm.cdf(-1.0 / SIGMA)
        for name, value in (("middle", 8.0), ("wide", SIGMA), ("level", 8.0 + 1.2816 * SIGMA), ("holds", within)):
            self.assertAlmostEqual(counted[name], value, delta=0.02)
        self.assertAlmostEqual(counted["either"], 1.0 - counted["holds"], places=12)
        self.assertGreater(counted["most_of_all"], 8.0 + 2.5 * SIGMA)
        for name in ("holds", "either"):  # from inside
            self.assertTrue(counted[name] - 0.2 < smooth[name] <= counted[name])
        own = linear(more='middle = "expected(total)"\nbeyond = "expected(max(total - middle, 0))"')
        beyond = Gate(own).written.values(own.start)["beyond"]  # of a mean: not of each scenario's own
        self.assertAlmostEqual(beyond, SIGMA / math.sqrt(2.0 * math.pi), delta=0.01)
        self.assertAlmostEqual(smooth["level"], counted["level"], delta=0.05 * SIGMA)

    def test_formulas_and_scenarios_scatter_alike(self):
        laws = {
            "normal": "deviation = 0.5",
            "lognormal": "deviation = 0.5",
            "weibull": "deviation = 0.5",
            "gumbel": 'deviation = "w"',
            "uniform": "half_width = 0.2, relative = true",
            "triangular": "low = -0.1, high = 0.3, relative = true",
        }
        lines = {
            "variables": [f"{law} = {{ start = 2, lower = 1, upper = 5 }}" for law in laws],
            "scatter": [f'{law} = {{ law = "{law}", {widths} }}' for law, widths in laws.items()],
            "derived": [f'{law}_{f} = "{f}({law})"' for law in laws for f in ("expected", "deviation")],
        }
        lines["variables"].append("line = { shape = 4, start = 2, lower = 1, upper = 5 }")
        lines["scatter"].append('line = { law = "weibull", deviation = 0.4, reach = 2 }')
        lines["scatter"].append('together = [["normal", "gumbel", 0.5], ["weibull", "uniform", -0.3]]')
        lines["derived"].append('line_expected = "expected(line)"')
        text = '[parameters]\nw = 0.4\n[minimize]\ncost = "norm(line)"\n'
        text += "\n".join(f"[{section}]\n" + "\n".join(own) for section, own in lines.items())
        problem = loads(text)
        at = np.linspace(1.5, 4.0, problem.size)
        values = Gate(counted_problem(problem)).written.values(at)
        inputs = scatter(problem, at, scenarios=1000).inputs
        for law in laws:
            self.assertAlmostEqual(values[f"{law}_expected"], inputs[law].mean(), places=8, msg=law)
            self.assertAlmostEqual(values[f"{law}_deviation"], inputs[law].std(ddof=1), places=8, msg=law)
        for k in range(4):
            self.assertAlmostEqual(values["line_expected"][k], inputs[f"line[{k}]"].mean(), places=8)
        gate = Gate(problem)
        for law in laws:  # the law itself follows the design
            slope, h, far = gate.written.gradient(at, f"{law}_deviation"), 1e-5, np.zeros(problem.size)
            far[list(laws).index(law)] = h
            change = (
                gate.written.values(at + far)[f"{law}_deviation"] - gate.written.values(at - far)[f"{law}_deviation"]
            )
            self.assertAlmostEqual(slope[list(laws).index(law)], change / (2.0 * h), places=6, msg=law)

    def test_every_operation_on_arrays_is_written_over_scenarios(self):
        told = (
            "sum(v^2); v[1:] - v[:-1]; dot(A, v); dot(v, A); dot(v, w); cumsum(v); norm(v); max(v); min(v, w); prod(v);"
            " join(v, w, p); interp(p, xs, ys); interp(v, xs, ys); where(v > 1, v, w); where(p > 2 and v[0] < 1, p, 0);"
            " mean(v); diff(v); transpose(M); dot(M, v); dot(M, M); dot(transpose(M), M); M * p; sum(M, 0); M[1];"
            " M[:, 2]; norm(M, 1); cumsum(M, 0); atan2(p, v); hypot(p, 1); evenly(0, p, 4); p^v; abs(v - 1); erf(v);"
            " exp(-v) * p + w[2]; max(M); dot(B, M); sum(dot(M, A))"
        )
        formulas = [formula.strip() for formula in told.split(";")]
        derived = [f'e{k} = "{f}"\nm{k} = "expected({f})"\nq{k} = "quantile({f}, 0.8)"' for k, f in enumerate(formulas)]
        text = """
        [variables]
        v = { shape = 3, start = 1, lower = -5, upper = 5 }
        w = { shape = 3, start = 1.2, lower = -5, upper = 5 }
        M = { shape = [3, 3], start = 0.7, lower = -5, upper = 5 }
        [parameters]
        p = 2
        xs = [0, 1, 2, 4]
        ys = [1, 3, 2, 5]
        A = [[1, 2, 3], [4, 5, 6], [7, 8, 10]]
        B = [[1, 2, 3], [0, 1, 0]]
        [minimize]
        cost = "sum(v)"
        [scatter]
        v = { law = "normal", deviation = 0.2, reach = 1 }
        p = { law = "lognormal", deviation = 0.3 }
        M = { law = "uniform", half_width = 0.3 }
        [derived]
        """
        problem = loads(text + "\n".join(derived))
        at = np.random.default_rng(0).uniform(0.5, 1.5, problem.size)
        counted, case = Gate(counted_problem(problem)).written.values(at), scatter_case(problem, at)
        designs = case.designs(scenario_normals(case.scattered.dependence.dimension, 1000, 0))
        for k, formula in enumerate(formulas):
            (values,) = case.gate.written.node_batch([case.gate.written.entry_node(f"e{k}")], designs)
            np.testing.assert_allclose(np.ravel(counted[f"m{k}"]), values.mean(axis=0), rtol=1e-9, err_msg=formula)
            exact = np.quantile(values, 0.8, axis=0)
            np.testing.assert_allclose(np.ravel(counted[f"q{k}"]), exact, rtol=1e-9, err_msg=formula)

    def test_a_known_robust_optimum_counted_and_on_fresh_scenarios(self):
        # The least x1 + x2 with x1 + 2 x2 + b >= 4 in 95 of 100: x2 as small as it may be is dearer than x1 in total.
        limits = 'low = "quantile(-total, 0.95) <= -4"\nside = "x1 <= 3"'
        result = run(linear(cost="x1 + 3 * x2", limits=limits))
        self.assertEqual(result.outcome, "converged")
        truth = 3.0 + 3.0 * 0.5 * (4.0 + 1.645 * SIGMA - 3.0 - 3.0)
        self.assertAlmostEqual(result.objective, truth, delta=0.05)
        self.assertLessEqual(result.violation, 1e-6)
        self.assertGreater(len(result.stages), 1)
        worth = {item.name: item for item in verify(result, extra=VerifyOptions(worth=True)).worth.scatter}["x2"]
        first = -0.5 * 1.5 * 1.645 * 0.16 / SIGMA
        self.assertAlmostEqual(worth.predicted, first, delta=0.05)
        again = 1.5 * 1.645 * (math.sqrt(SIGMA**2 - 0.75 * 0.16) - SIGMA)
        self.assertAlmostEqual(worth.found, again, delta=0.05)
        self.assertAlmostEqual(worth.wider, -0.2 * worth.predicted)
        fresh = result.scatter.fresh["low"]
        self.assertTrue(fresh.low - 0.03 < -4.0 < fresh.high + 0.03)

    def test_a_chance_is_searched_from_inside(self):
        result = run(linear(cost="x1 + x2", limits='safe = "chance(total >= 4 and x1 <= 3) >= 0.9"\nside = "x2 <= 1"'))
        self.assertEqual(result.outcome, "converged")
        searched, counted = result.scatter.searched["safe"]
        self.assertAlmostEqual(searched, 0.9, places=6)
        self.assertGreaterEqual(counted, 0.9)
        self.assertLess(counted, 0.92)
        at = dict(zip(("x1", "x2"), result.point, strict=True))
        shown = design_report_at(result.problem, at)  # what is shown of any design is counted
        self.assertAlmostEqual(float(shown.values["safe"]), counted, places=9)
        given = verify(loads(result.problem.source.text), at=at)
        self.assertIn(given.verdict, ("improvable", "unverified"))  # which the run's margin allows, counted or not
        if given.verdict == "improvable":
            better = np.array([given.better["x1"], given.better["x2"]])
            self.assertGreaterEqual(Gate(counted_problem(result.problem)).written.values(better)["safe"], 0.9 - 1e-6)
        checks = {check.name: check.result for check in verify(result).checks}
        self.assertNotEqual(checks["fresh-scenarios"], "fail")

    def test_a_reliability_index_is_that_of_the_nearest_miss(self):
        more = 'bent = "total + 0.1 * x1^2"'
        result = run(
            linear(cost="x1 + 3 * x2", more=more, limits='far = "reliability_index(bent >= 4) >= 3"\nside = "x1 <= 3"')
        )
        self.assertEqual(result.outcome, "converged")
        self.assertAlmostEqual(result.constraints[0].value, 3.0, places=6)
        told = scatter(result.problem, result.point, ways=("reliability",))
        rare = next(item for item in told.of if item.output.name == "far").rare
        self.assertAlmostEqual(rare.index, 3.0, places=5)
        with self.assertRaisesRegex(ProblemError, "one comparison"):
            linear(limits='far = "reliability_index(x1 <= 2 and x2 <= 3) >= 3"')


class Program(InAFolder):
    def test_scatter_run_resume_and_verify(self):
        limits = 'low = "chance(total >= 4) >= 0.9"'
        Path("p.toml").write_text(linear(cost="x1 + 3 * x2", limits=limits + '\nside = "x1 <= 3"').source.text)
        document = json.loads(self.call("run", "p.toml", "--scenarios", "50", "--json")[0])
        self.assertEqual(document["scatter"]["scenarios"], 50)
        self.assertGreaterEqual(document["constraints"]["low"]["value"], 0.9)
        told = json.loads(self.call("scatter", "r1", "--json", "--output", "s.csv")[0])
        self.assertEqual(told["scenarios"], 1000)
        self.assertAlmostEqual(told["of"]["low"]["misses"]["share"], 0.1, delta=0.06)
        self.assertEqual(set(told["drivers"]["low"]), {"x1", "x2", "b"})
        self.assertEqual(len(Path("s.csv").read_text().splitlines()), 1001)
        self.call("run", "p.toml", "--scenarios", "50", "--evaluations", "6", "--quiet", status=1)
        again = json.loads(self.call("resume", "r2", "--evaluations", "5000", "--json")[0])
        self.assertEqual(again["variables"], document["variables"])
        if WHOLE:
            checks = json.loads(self.call("verify", "r1", "--json")[0])["checks"]
            self.assertIn("fresh-scenarios", [check["name"] for check in checks])
            shares = json.loads(self.call("sensitivity", "p.toml", "--by", "scatter", "--of", "total", "--json")[0])
            self.assertAlmostEqual(shares["of"]["total"]["x2"]["first"], 0.16 / SIGMA**2, delta=0.03)
            told = self.call("scatter", "r1", "p.toml", "--output", "both.svg")[0]
            self.assertRegex(told, "everything holds +[0-9.]+ %")
        unpainted(self)
        self.call("report", "r1", "--output", "r.md", "--quiet")
        self.assertIn("| low | ", Path("r.md").read_text().partition("## As it will be made")[2])
        _, err = self.call("scatter", "r1", "--way", "lineer", status=2)
        self.assertIn("linear", err)

    def test_scenarios_of_models_are_a_run(self):
        Path("m.py").write_text("def total(a, b):\n    return a * b\n")
        text = """
        [variables]
        a = { start = 2, lower = 0, upper = 5 }
        [parameters]
        b = 3.0
        [models.m]
        python = "m.py:total"
        inputs = { a = "a", b = "b" }
        outputs = ["v"]
        [minimize]
        cost = "a"
        [constraints]
        top = "m.v <= 7"
        [scatter]
        a = { law = "uniform", half_width = 0.1 }
        b = { law = "lognormal", deviation = 0.3 }
        """
        Path("p.toml").write_text(text)
        told = json.loads(self.call("scatter", "p.toml", "--scenarios", "200", "--trust", "--json")[0])
        self.assertEqual(told["run"], "r1")
        self.assertAlmostEqual(told["of"]["m.v"]["deviation"], math.hypot(2 * 0.3, 3 * 0.1 / math.sqrt(3)), delta=0.04)
        self.assertGreater(told["drivers"]["top"]["b"], 0.8)
        Path("wide.toml").write_text(text.replace("b = 3.0", "").replace("a =", "b = { start = 3, lower = 1, upper = 5 }\n        a =", 1))  # fmt: skip
        self.call("sample", "wide.toml", "--points", "30", "--trust", "--quiet")
        self.call("approximate", "r2", "--quiet")
        on = json.loads(self.call("scatter", "wide.toml", "--on", "a1", "--json")[0])
        self.assertIsNone(on["run"])
        top, true = on["of"]["top"], told["of"]["top"]
        self.assertAlmostEqual(top["mean"], true["mean"], delta=0.05)
        self.assertGreaterEqual(top["misses"]["high"] - top["misses"]["low"], 0.0)

    def test_what_evolves_over_time_scatters(self):
        text = """
        [variables]
        gain = { start = 0.5, lower = 0.1, upper = 3 }
        [parameters]
        draw = 1.0
        [time]
        to = 10
        [states]
        level = { rate = "gain * (3 - level) - draw", initial = 1 }
        [minimize]
        cost = "gain"
        [constraints]
        enough = "expected(last(level)) >= 1.2"
        [scatter]
        draw = { law = "uniform", half_width = 0.2 }
        """
        with self.assertRaisesRegex(ProblemError, "every scenario"):
            loads(text, refinement=Refinement(scheme="radau"))
        plan = Refinement(scatter=ScatterPlan(10))
        result = run(loads(text, refinement=plan), second_look=0.0)
        # level ends at 3 − draw/gain, draw being 1 in the mean
        self.assertAlmostEqual(result.variables["gain"], 1.0 / 1.8, delta=0.02)


if __name__ == "__main__":
    unittest.main()
