"""What a plain run does after it has converged: where it looks, what it says, and that it can be followed again."""

from __future__ import annotations

import tempfile
import unittest
from pathlib import Path

import ilvren
from ilvren.ledger import Ledger
from ilvren.methods.base import Looked
from ilvren.problem import loads
from ilvren.proofs import nothing_below
from ilvren.runs import Settings, no_second_look, resume, run
from ilvren.runs.second_look import told
from tests.compact import WHOLE, only_in_whole, some
from tests.multimodal import MULTIMODAL

WAVES = "[variables]\nx = { start = -4, lower = -6, upper = 6 }\ny = { start = 3, lower = -6, upper = 6 }\n[minimize]\n"
WAVES += "f = '(x-1)^2/20 + y^2/10 + sin(3*x)*cos(2*y)'\n"


class SecondLook(unittest.TestCase):
    def test_it_finds_the_published_optima_that_the_first_search_misses(self) -> None:
        for case in some(MULTIMODAL, 3):
            if (case.name, case.n) not in {("Schwefel", 5), ("Goldstein and Price", 2), ("Griewank", 2), ("Levy", 10)}:
                continue
            problem = case.problem()
            first, found = ilvren.run(problem, second_look=0), ilvren.run(problem)
            with self.subTest(function=case.name):
                assert first.objective is not None
                assert found.objective is not None
                self.assertIsNone(first.second_look)
                self.assertGreater(first.objective, case.best + 1e-3)
                self.assertAlmostEqual(found.objective, case.best, delta=1e-6)
                assert found.second_look is not None
                self.assertTrue(found.second_look["found_better"])
                self.assertEqual(found.outcome, "converged")

    @only_in_whole
    def test_under_limits_and_in_a_fit(self) -> None:
        if WHOLE:
            text = WAVES + "[constraints]\nring = 'x^2 + y^2 >= 9'\nline = 'x + y <= 1'\n"
            one, found = ilvren.run(loads(text), second_look=0), ilvren.run(loads(text))
            assert one.objective is not None
            assert found.objective is not None
            self.assertLess(found.objective, one.objective - 0.1)
            self.assertEqual((found.outcome, found.violation <= 1e-6), ("converged", True))
        fit = loads(
            "[variables]\nrate = { start = 9, lower = 0.1, upper = 20 }\n[parameters]\nt = 'evenly(0, 3, 40)'\n"
            "[fit]\nwave = { residual = 'sin(rate*t) - sin(2.5*t)' }\n"
        )
        self.assertAlmostEqual(ilvren.run(fit).point[0], 2.5, delta=1e-5)

    def test_no_better_design_that_was_evaluated_is_passed_over(self) -> None:
        text = "[variables]\nx = { start = 2, lower = -9, upper = 9 }\ny = { start = 1, lower = -9, upper = 9 }\n[minimize]\n"
        text += "f = 'y^2 + where(x > 5, -2 - 0.01*abs(sin(1000*x)), (x - 1)^2)'\n"
        found = ilvren.run(loads(text))
        best = min(item.objective for item in found.evaluations if item.objective is not None)
        assert found.objective is not None
        self.assertLessEqual(best, -1.5)
        self.assertLessEqual(found.objective, best + 1e-6)

    @only_in_whole
    def test_what_is_proved_holds_and_is_said(self) -> None:
        found = ilvren.run(loads(WAVES)).second_look
        assert found is not None
        self.assertTrue(found["proved"])
        self.assertIn("proved: no feasible design is better", str(found["told"]))
        # Where something is better by more than the tolerance, nothing is proved.
        best = ilvren.run(loads(WAVES)).objective
        assert best is not None
        self.assertTrue(nothing_below(loads(WAVES), best - 1e-5, 2000)[0])
        self.assertFalse(nothing_below(loads(WAVES), best + 1e-5, 2000)[0])

    def test_where_the_problem_is_convex_there_is_nothing_to_look_for(self) -> None:
        problem = loads("[variables]\nx = { start = 3 }\ny = { start = 2 }\n[minimize]\nf = 'exp(x) + (x - y)^2 - x'\n")
        found, without = ilvren.run(problem), ilvren.run(problem, second_look=0)
        assert found.second_look is not None
        self.assertTrue(found.second_look["convex"])
        self.assertEqual(found.counts["evaluations"], without.counts["evaluations"])

    def test_with_one_optimum_few_searches_are_enough(self) -> None:
        problem = loads(
            "[variables]\nx = { start = -1.2 }\ny = { start = 1 }\n[minimize]\nf = '100*(y-x^2)^2+(1-x)^2'\n"
        )
        found = ilvren.run(problem).second_look
        assert found is not None
        self.assertEqual(found["ended_here"], found["starts"])
        self.assertLessEqual(int(str(found["starts"])), 8)
        self.assertEqual(found["population"], 0)

    def test_a_fall_without_end_elsewhere_is_found(self) -> None:
        problem = loads("[variables]\nx = { start = 1.5 }\n[minimize]\nf = 'x^3 - 3*x'\n")
        self.assertEqual(ilvren.run(problem, second_look=0).outcome, "converged")
        self.assertEqual(ilvren.run(problem).outcome, "unbounded")

    def test_it_is_usual_only_where_no_method_is_named(self) -> None:
        problem = loads(WAVES)
        self.assertIsNone(ilvren.run(problem, method="newton").second_look)
        self.assertIsNotNone(ilvren.run(problem, method="newton", second_look=1).second_look)
        wide = next(case for case in MULTIMODAL if (case.name, case.n) == ("Schwefel", 10 if WHOLE else 5)).problem()
        more, less = (ilvren.run(wide, second_look=scale).counts["evaluations"] for scale in (1, 0.1))
        self.assertGreater(more, 2 * less)

    @only_in_whole
    def test_runs_repeat_themselves_and_resume_on_their_path(self) -> None:
        whole = ilvren.run(loads(WAVES))
        if WHOLE:
            again = ilvren.run(loads(WAVES))
            self.assertEqual((whole.point, whole.counts), (again.point, again.counts))
        with tempfile.TemporaryDirectory() as folder:
            ledger = Ledger(Path(folder) / "one.ledger")
            self.addCleanup(ledger.close)
            first = ilvren.run(loads(WAVES), ledger=ledger, iterations=3)
            self.assertEqual(first.outcome, "exhausted")
            resumed = resume("last", ledger, iterations=1000)
            self.assertEqual((whole.point, whole.counts), (resumed.point, resumed.counts))

    @only_in_whole
    def test_a_limit_within_it_hides_nothing_that_was_seen(self) -> None:
        for most in (60, 400, 1000, 1500):
            found = ilvren.run(loads(WAVES), evaluations=most)
            best = min(item.objective for item in found.evaluations if item.objective is not None)
            with self.subTest(evaluations=most):
                self.assertLessEqual(found.counts["evaluations"], most)
                assert found.objective is not None
                self.assertLessEqual(found.objective, best + 1e-6)
                self.assertEqual(
                    found.outcome == "converged", found.stationarity is not None and found.design == "final"
                )

    def test_models_look_as_long_as_they_are_quick(self) -> None:
        with tempfile.TemporaryDirectory() as folder:
            path = Path(folder)
            (path / "m.py").write_text(
                "import math, time\ndef quick(x, y):\n    return (x-1)**2/20 + y*y/10 + math.sin(3*x)*math.cos(2*y)\n"
                "def slow(x, y):\n    time.sleep(0.05)\n    return quick(x, y)\n"
            )
            for name, looks in (("quick", True), ("slow", False)):
                text = WAVES.replace("f = '(x-1)^2/20 + y^2/10 + sin(3*x)*cos(2*y)'", "f = 'h'")
                text += f"[models.wave]\npython = 'm.py:{name}'\ninputs = {{ x = 'x', y = 'y' }}\noutputs = ['h']\n"
                (path / "p.toml").write_text(text)
                ledger = Ledger(path / f"{name}.ledger")
                self.addCleanup(ledger.close)
                found = ilvren.run(path / "p.toml", ledger=ledger)
                with self.subTest(model=name):
                    self.assertEqual(found.second_look is not None, looks)
                    kept = ledger.run("last").settings["model_seconds"]
                    self.assertEqual(kept, found.settings["model_seconds"])
                    self.assertIn(kept, {1e-4, 1e-3, 1e-2} if looks else {0.01, 0.1, 1.0})

    def test_why_none_is_taken_is_known_wherever_none_is(self) -> None:
        grid = "[variables]\nx = { start = 2, lower = 0, upper = 9, spacing = 1 }\n[minimize]\nf = '(x - 3)^2'\n"
        free = grid.replace(", spacing = 1", "")
        for text, given in (
            (grid, {}),
            (free, {"target": 1.0}),
            (free, {"method": "nelder-mead"}),
            (
                free.replace("[minimize]", "y = { shape = 61, start = 0 }\n[minimize]").replace("(x", "sum(y^2) + (x"),
                {},
            ),
            (free, {}),
            (free, {"method": "bfgs"}),
        ):
            problem, settings = loads(text), Settings(**{"method": "automatic", "second_look": 1.0, **given})
            with self.subTest(text=text, given=given):
                is_taken = run(problem, settings).second_look is not None
                self.assertEqual(bool(no_second_look(problem, settings)), not is_taken)

    def test_what_is_said(self) -> None:
        self.assertEqual(
            told(Looked(8, 5, 3, 0, 100)),
            "8 other starts: 5 ended here, 3 at worse designs; nothing better was found, which proves nothing",
        )
        self.assertIn(
            "a better one was found (3 other starts: 1 at better ones, 2 at none)", told(Looked(3, 0, 0, 2, found=True))
        )


if __name__ == "__main__":
    unittest.main()
