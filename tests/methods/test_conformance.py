"""What every method must do, whichever it is. A new method is found here by itself."""

import math
import unittest
from dataclasses import fields

import numpy as np

from ilvren import loads, run
from ilvren.errors import RequestError
from ilvren.methods.base import Assessment, Ending, Iterate, Reply, Request, Task, method_named
from ilvren.methods.pieces.options import describe, options_from
from tests.compact import WHOLE, chosen, parted
from tests.driving import FITTING, affordable, judged, single_names
from tests.problems import manufactured, two_variables


def methods():
    """Return all that take continuous variables; see test_enumeration for the other one."""
    return [method for method in map(method_named, single_names()) if not method.only_members]


def drive(method, objective, start, *, lower=None, upper=None, rows=None, limits=None, replies=None, most=4000):
    """Drive a method on plain functions; return (ending, requests made). `objective` gives (f, g)."""
    start = np.array(start, dtype=float)
    n = len(start)
    low, high = limits if limits else (np.zeros(0), np.zeros(0))
    task = Task(
        start=start,
        lower=np.full(n, -np.inf) if lower is None else np.array(lower, float),
        upper=np.full(n, np.inf) if upper is None else np.array(upper, float),
        row_lower=np.array(low, float),
        row_upper=np.array(high, float),
        row_sizes=np.ones(len(low)),
    )
    generator = method.run(task, method.options())
    made = []
    np.seterr(all="ignore")  # as the loop does: methods judge what is not finite
    try:
        message = next(generator)
        while len(made) < most:
            if isinstance(message, Iterate):
                f, g = objective(np.asarray(message.point))
                c, j = rows(message.point) if rows else (np.zeros(0), np.zeros((0, n)))
                is_smooth = np.isfinite(f) and np.isfinite(g).all() and method.needs != "values"
                seen = judged(task, message, f, g, c, j) if is_smooth else Assessment(0.0, None, False)
                message = generator.send(seen)
                continue
            assert isinstance(message, Request)
            made.append(message.points.copy())
            answers = [objective(x) for x in message.points]
            row_answers = [rows(x) if rows else (np.zeros(0), np.zeros((0, n))) for x in message.points]
            reply = Reply(np.array([a[0] for a in answers]), np.array([r[0] for r in row_answers]))
            if message.derivatives:
                reply = Reply(
                    reply.objective,
                    reply.rows,
                    np.array([a[1] for a in answers]),
                    np.array([r[1] for r in row_answers]),
                )
            message = generator.send(reply)
    except StopIteration as end:
        return end.value, made
    generator.close()
    return None, made


def bowl(x):
    return float(((x - 1.0) ** 2).sum()), 2.0 * (x - 1.0)


class EveryMethod(unittest.TestCase):
    def each(self, *handled):
        """Return the methods that handle all of `handled` and take any objective."""
        able = [method for method in methods() if method.kind not in ("global", "discrete")]
        able = [method for method in able if method.needs != "residuals" and method.handles.issuperset(handled)]
        return parted(able, self._testMethodName)

    def searches(self):
        """Return the methods that search a whole box, or members: fewer tests, each of them longer."""
        return parted([method for method in methods() if method.kind in ("global", "discrete")], self._testMethodName)

    def test_declarations_are_complete(self):
        for method in methods():
            with self.subTest(method=method.name):
                self.assertIn(method.needs, ("values", "gradients", "residuals"))
                self.assertTrue(method.about and method.cost and method.weak)
                for item in fields(method.options):
                    self.assertTrue(item.metadata["option"].help)
                self.assertEqual(
                    {o["name"] for o in describe(method)["options"]}, {f.name for f in fields(method.options)}
                )

    def test_options_are_read_and_refused(self):
        for method in methods():
            with self.subTest(method=method.name):
                self.assertEqual(options_from(method, {}), method.options())
                with self.assertRaises(RequestError):
                    options_from(method, {"no_such_option": "1"})
                for item in fields(method.options):
                    with self.assertRaises(RequestError):
                        options_from(method, {item.name: "rubbish"})

    def test_what_a_method_does_not_handle_is_refused_by_name(self):
        for method in methods():
            with self.subTest(method=method.name):
                for kind, row in (("inequalities", "x <= y"), ("equalities", "x == y")):
                    if kind not in method.handles:
                        with self.assertRaises(RequestError) as caught:
                            run(loads(two_variables("x^2 + y^2", row)), method=method.name)
                        self.assertIn("sqp", caught.exception.advice)

    def test_points_asked_for_lie_within_bounds_and_the_same_seed_takes_the_same_path(self):
        for method in self.each():
            with self.subTest(method=method.name):
                paths = [drive(method, bowl, [0.5, 0.2], lower=[0, 0], upper=[0.8, 3])[1] for _ in range(2)]
                for points in paths[0]:
                    self.assertTrue((points >= 0.0).all() and (points <= [0.8, 3.0]).all())
                self.assertEqual([p.tobytes() for p in paths[0]], [p.tobytes() for p in paths[1]])

    def test_methods_with_gradients_converge_on_plain_arrays(self):
        """Without problem, gate or loop: to the known design, on bounds, on a row and on an equality."""

        def plane(x):
            return np.array([x.sum()]), np.ones((1, len(x)))

        inside, outside, half = np.ones(2), np.array([0.5, 1.0]), np.full(2, 0.5)
        cases = [({}, inside, ()), ({"lower": [-1, -1], "upper": [0.5, 3]}, outside, ("bounds",))]
        cases += [({"rows": plane, "limits": ([-np.inf], [1.0])}, half, ("inequalities",))]
        cases += [({"rows": plane, "limits": ([1.0], [1.0])}, half, ("equalities",))]
        seen = 0
        for method in self.each():
            for given, answer, handled in cases:
                if method.needs != "gradients" or not method.handles.issuperset(handled):
                    continue
                with self.subTest(method=method.name, handled=handled):
                    ending, made = drive(method, bowl, [-0.3, 0.4], **given)
                    self.assertIsNotNone(ending, "no end")
                    self.assertEqual(ending.claim, "converged", ending.reason)
                    np.testing.assert_allclose(made[-1][-1], answer, atol=1e-5)
                    seen += 1
        self.assertGreater(seen, 20 if WHOLE else 5)

    def test_nonsense_ends_without_a_false_claim(self):
        def never(x):
            return float("nan"), np.full(len(x), np.nan)

        def endless(x):
            return float("inf"), np.full(len(x), np.inf)

        for method in self.each():
            with self.subTest(method=method.name):
                for nonsense in (never, endless):
                    ending, made = drive(method, nonsense, [1.0, 2.0])
                    self.assertIsInstance(ending, Ending)
                    self.assertEqual(ending.claim, "invalid")
                    self.assertLess(len(made), 50)

    def test_flat_objective_one_variable_and_a_half_invalid_domain(self):
        def half(x):
            return (
                (float((x - 1.0) @ (x - 1.0)), 2.0 * (x - 1.0))
                if x[0] > 0.0
                else (float("nan"), np.full(len(x), np.nan))
            )

        for method in self.each():
            with self.subTest(method=method.name):
                ending, _ = drive(method, lambda x: (3.0, np.zeros(1)), [1.0])
                self.assertIsNotNone(ending, "a flat objective must end")
                _, made = drive(method, half, [0.05, 4.0])
                self.assertLess(min(half(x)[0] for batch in made for x in batch if x[0] > 0.0), 1e-5)

    def test_known_answers(self):
        cases = [
            (two_variables("(x-1)^2 + 10*(y-x^2)^2", start=(-1.0, 1.0)), 0.0),
            (two_variables("x + 2*y", "x^2 + y^2 <= 5"), -5.0),
            (two_variables("x*y", "2*x + y <= 10", "x >= 0", "y >= 0", sense="maximize"), 12.5),
            (two_variables("x^2 + y^2", "x + y == 2"), 2.0),
            ('[variables]\nx = { start = 3, lower = 1, upper = 5 }\n[minimize]\nf = "x^2"\n', 1.0),
            ('[variables]\nx = { start = 3e-7, lower = 1e-7 }\n[minimize]\nf = "1e12 * (x - 2e-7)^2 + 4"\n', 4.0),
        ]
        for number, method in enumerate(self.each("bounds")):
            with self.subTest(method=method.name):
                for place, (text, best) in enumerate(cases):
                    if not chosen(number, place, 3) or ("c0 =" in text and "inequalities" not in method.handles):
                        continue
                    with self.subTest(text=text):
                        result = run(loads(text), method=method.name)
                        self.assertTrue(result.holds, f"{result.outcome}: {result.reason}")
                        self.assertLessEqual(result.violation, 1e-6)
                        self.assertLess(abs(result.objective - best), 1e-5 * max(1.0, abs(best)))

    def test_searches_find_known_answers_and_claim_no_more(self):
        cases = [
            (two_variables("(x-1)^2 + 2*(y-x^2)^2", bounds=(-2, 3)), 0.0),
            (two_variables("x + 2*y", "x^2 + y^2 <= 5", bounds=(-5, 5)), -5.0),
            (two_variables("sin(5*x) + (x-1)^2 + abs(y)", "x + y <= 3", bounds=(-4, 4)), -0.99694),
            ('[variables]\nx = { start = 3, lower = 1, upper = 5 }\n[minimize]\nf = "x^2"\n', 1.0),
        ]
        for number, method in enumerate(self.searches()):
            with self.subTest(method=method.name):
                for place, (text, best) in enumerate(cases):
                    if not chosen(number, place, 3) or (method.kind == "discrete" and "abs" in text):
                        continue  # the relaxations of the discrete ones are for methods with gradients
                    if "abs" in text and method.name in FITTING and not WHOLE:
                        continue  # whose surfaces take ten seconds for it
                    with self.subTest(text=text):
                        # Annealing is slow where the best design lies in a kink: it says that it was cut short.
                        most = 10_000 if "abs" in text and method.name == "simulated-annealing" else 2500
                        result = run(loads(text), method=method.name, evaluations=most)
                        self.assertIn(result.outcome, ("settled", "converged", "exhausted"), result.reason)
                        self.assertLessEqual(result.violation, 1e-6)
                        self.assertLess(result.objective - best, 2e-3 * max(1.0, abs(best)))

    def test_searches_take_members_only_and_are_the_same_with_the_same_seed(self):
        text = (
            "[variables]\na = { start = 2, lower = 0, upper = 9, spacing = 0.5 }\n"
            "b = { start = 7, catalogue = [-3, 1.5, 4, 7] }\nc = { start = 0.5, lower = 0, upper = 9 }\n"
            '[minimize]\nf = "(a - 2.4)^2 + (b - 3)^2 + (c - 1.2)^2 + 0.3*a*c"\n[constraints]\nk = "a + b + c <= 7"\n'
        )
        able = [m for m in methods() if {"spaced", "catalogue"} <= m.handles]
        self.assertGreaterEqual(len(able), 8)
        for number, method in enumerate(parted(able, self._testMethodName)):
            with self.subTest(method=method.name):
                given = {"method": method.name, "seed": 4, "evaluations": affordable(method.name, 900)}
                one = run(loads(text), **given)
                if chosen(number, 0, 2):
                    two = run(loads(text), **given)
                    self.assertEqual((one.point, one.counts), (two.point, two.counts))
                self.assertIn(one.variables["b"], (-3, 1.5, 4, 7))
                self.assertEqual(one.variables["a"] % 0.5, 0.0)
                self.assertLess(one.objective, 1.79 + 0.1)

    def test_searches_of_nonsense_and_of_conflicts_claim_nothing(self):
        conflict = two_variables("x + y", "x^2 + y^2 <= 1", "x + y >= 3", bounds=(-5, 5))
        for method in self.searches():
            with self.subTest(method=method.name):
                nonsense = two_variables("sqrt(-1 - x^2) + y", bounds=(-5, 5))
                result = run(loads(nonsense), method=method.name, evaluations=3000)
                self.assertEqual(result.outcome, "invalid", result.reason)
                result = run(loads(conflict), method=method.name, evaluations=3000)
                self.assertFalse(result.holds)
                self.assertEqual(result.design, "least-violation")

    def test_conflicting_limits_never_hold(self):
        for method in self.each("inequalities", "equalities"):
            with self.subTest(method=method.name):
                for text in (
                    two_variables("x + y", "x^2 + y^2 <= 1", "x + y >= 3"),
                    two_variables("x^2", "x >= 2", "x <= 1"),
                    two_variables("", "x^2 + y^2 == -1"),
                ):
                    result = run(loads(text), method=method.name, evaluations=4000)
                    self.assertFalse(result.holds)
                    self.assertEqual(result.design, "least-violation")

    def test_unbounded_objectives_are_called_so(self):
        for method in self.each("inequalities"):
            with self.subTest(method=method.name):
                result = run(loads(two_variables("x + y", "x <= y")), method=method.name)
                self.assertFalse(result.holds)
                if method.name != "augmented-lagrangian":  # whose subproblems may be unbounded where the problem is not
                    self.assertEqual(result.outcome, "unbounded")

    def test_nothing_to_change(self):
        for method in self.each("inequalities"):
            with self.subTest(method=method.name):
                for bound, outcome in ((1.0, "converged"), (3.0, "infeasible")):
                    text = f'[variables]\nx = {{ lower = {bound}, upper = {bound} }}\n[minimize]\nf = "x"\n[constraints]\nc = "x <= 2"\n'
                    result = run(loads(text), method=method.name)
                    self.assertEqual((result.outcome, result.counts["evaluations"]), (outcome, 1))

    def test_a_hundred_constraints(self):
        text = two_variables(
            "x^2 + y^2", *(f"x * ({math.cos(a)!r}) + y * ({math.sin(a)!r}) <= 3" for a in np.linspace(0, 6.2, 100))
        )
        for method in self.each("inequalities"):
            with self.subTest(method=method.name):
                result = run(loads(text), method=method.name)
                self.assertLess(abs(result.objective), 1e-6)

    def test_manufactured_problems(self):
        for method in self.each("inequalities", "equalities"):
            with self.subTest(method=method.name):
                for seed in range((4, 20)[method.needs != "values"] if WHOLE else (2, 8)[method.needs != "values"]):
                    n = 2 + seed % (2 if method.needs == "values" else 7)
                    problem, optimum = manufactured(seed, n=n, inequalities=seed % 4, equalities=seed % 2)
                    with self.subTest(seed=seed, n=n):
                        result = run(problem, method=method.name)
                        self.assertTrue(result.holds, f"{result.outcome}: {result.reason}")
                        best = problem.named_values(tuple(optimum))["f"][0]
                        self.assertLess(result.objective - best, 1e-5 * max(1.0, abs(best)))
