"""The program searching: seeds, populations, members, workers, limits; and what it refuses."""

import io
import itertools
import json
import tempfile
import unittest
from contextlib import chdir
from pathlib import Path

import numpy as np

from ilvren import loads, run
from ilvren.cli.main import run_command
from ilvren.cli.progress import Progress
from ilvren.cli.terminal import Terminal
from ilvren.errors import IlvrenError
from ilvren.evaluate import Gate
from ilvren.judge.comparing.generations import generations_of
from ilvren.ledger import Ledger
from ilvren.runs import Incumbent, Iterated, resume
from ilvren.runs.incumbents import Incumbents
from tests.compact import only_in_whole, some
from tests.multimodal import MIXED, MULTIMODAL
from tests.problems import two_variables

WAVES = two_variables("sin(4*x) + cos(3*y) + 0.1*(x^2 + y^2)", bounds=(-4, 4))


class Out(io.StringIO):
    def isatty(self):
        return True


class InAFolder(unittest.TestCase):
    def setUp(self):
        folder = tempfile.TemporaryDirectory()
        self.addCleanup(folder.cleanup)
        self.enterContext(chdir(folder.name))
        Path("waves.toml").write_text(WAVES)
        Path("vessel.toml").write_text(MIXED[0][1])

    def ilvren(self, *words):
        """Run a command in process; return (exit status, output, notes)."""
        terminal = Terminal(io.StringIO(), io.StringIO())
        try:
            code = run_command([str(word) for word in words], terminal)
        except IlvrenError as error:
            return 2, "", f"{error} {getattr(error, 'advice', None)}"
        return code, terminal.out.getvalue(), terminal.err.getvalue()

    def document(self, *words):
        code, out, _ = self.ilvren(*words, "--json")
        return code, json.loads(out)


class Commands(InAFolder):
    def test_repeats_print_seeds_quartiles_and_share(self):
        words = ("run", "waves.toml", "--method", "particle-swarm", "--seed", 7)
        words += ("--option", "particles=12", "--option", "idle=40", "--repeats")
        code, out, err = self.ilvren(*words, 3, "--label", "s")
        self.assertEqual(code, 0)
        for part in ("lower quartile", "median", "3 of 3 reached what was asked (100 %)", "best: r"):
            self.assertIn(part, out)
        self.assertIn("seed 9: settled", err)
        code, again = self.document(*words, 2)
        self.assertEqual((again["seeds"], again["repeats"]), ([7, 8], 2))
        with Ledger("ilvren.ledger") as ledger:
            self.assertEqual([r.label for r in ledger.runs()][:3], [f"s[{k}]" for k in range(3)])
            self.assertEqual(ledger.run("s[1]").result["objectives"], again["runs"][1]["objectives"])

    def test_repeats_that_miss_the_target_end_with_status_1(self):
        words = ("run", "waves.toml", "--method", "particle-swarm", "--repeats", 3, "--evaluations", 45, "--target", -9)
        code, found = self.document(*words)
        self.assertEqual((code, found["success_share"]), (1, 0.0))
        self.assertEqual(found["evaluations"]["median"], 45.0)

    def test_multistart_lists_the_distinct_optima(self):
        code, out, _ = self.ilvren("run", "waves.toml", "--method", "multistart", "--option", "starts=15")
        self.assertEqual(code, 0)
        self.assertIn("distinct optima", out)
        self.assertIn("from starts", out)
        with Ledger("ilvren.ledger", read_only=True) as ledger:
            found = ledger.run("last").result
        self.assertGreater(len(found["optima"]), 4)
        best = found["optima"][0]
        self.assertEqual(best["variables"], found["variables"])
        self.assertLessEqual(sum(item["reached"] for item in found["optima"]), 15)

    def test_bounds_and_gaps_are_told(self):
        code, out, err = self.ilvren("run", "vessel.toml")
        self.assertEqual(code, 0)
        self.assertIn("method branch-and-bound: whole numbers or catalogues in formulas", err)
        self.assertIn("bound 6059.71 (not proved), gap 0 %", out)
        with Ledger("ilvren.ledger", read_only=True) as ledger:
            found = ledger.run("last").result
        self.assertEqual(found["bound"]["proved"], False)
        self.assertEqual(found["variables"]["shell"], 0.8125)
        code, out, _ = self.ilvren("verify", "last")
        self.assertEqual(code, 0)
        self.assertIn("global-proved (holds)", out)

    def test_global_searches_the_box_and_names_its_parts(self):
        code, out, err = self.ilvren("run", "waves.toml", "--method", "global", "--evaluations", 3000)
        self.assertEqual(code, 1)
        self.assertIn("methods multistart, then differential-evolution, then newton", err)
        self.assertIn("3000 evaluations are used up", out)
        x = np.linspace(-4, 4, 1601)
        best = (np.sin(4 * x) + 0.1 * x**2).min() + (np.cos(3 * x) + 0.1 * x**2).min()
        with Ledger("ilvren.ledger") as ledger:
            record = ledger.run("last")
            self.assertEqual((record.method, record.outcome), ("global", "exhausted"))
            self.assertAlmostEqual(record.result["objectives"]["f"], best, places=4)

    def test_generations_are_drawn_and_summed_up(self):
        self.ilvren("run", "waves.toml", "--method", "differential-evolution", "--evaluations", 600)
        words = ("draw", "waves.toml", "--generations", "--run", "last", "--output", "g.svg")
        code, found = self.document(*words)
        self.assertEqual(code, 0)
        self.assertIn("How fast it narrowed", Path("g.svg").read_text())
        with Ledger("ilvren.ledger") as ledger:
            made = generations_of(ledger, ledger.run("last"))
        self.assertEqual(found["generations"], len(made.items))
        bests = [item.objective[item.best(1e-6, 1)] for item in made.items]
        self.assertEqual(bests, sorted(bests, reverse=True))
        self.assertEqual(found["feasible_share"], 1.0)
        self.assertTrue(0.0 < found["way_to_the_best"] <= 1.0)

    def test_requests_without_meaning_are_refused(self):
        self.ilvren("run", "waves.toml", "--method", "sqp")
        for words, part in (
            (("run", "waves.toml", "--repeats", 1), "2 to"),
            (("run", "waves.toml", "--method", "newton", "--repeats", 3), "draws nothing at random"),
            (("run", "waves.toml", "--patience", 0), "--patience must be at least 1"),
            (("run", "waves.toml", "--workers", 0), "expected a number of processes"),
            (("run", "waves.toml", "--method", "globl"), 'did you mean "global"'),
            (("run", "waves.toml", "--method", "global", "--option", "starts=3"), "needs the name of one method"),
            (("run", "waves.toml", "--method", "multistart", "--option", "local=newtn"), "newton"),
            (("run", "waves.toml", "--method", "multistart", "--option", "starts=-1"), "must lie in"),
            (("run", "waves.toml", "--repeats", 3, "--sweep", "a=[1, 2]"), "makes several"),
            (("run", "vessel.toml", "--method", "quadratic-interpolation"), "handles continuous variables only"),
            (("draw", "waves.toml", "--generations", "--output", "g.png"), "needs --run"),
            (("draw", "waves.toml", "--generations", "--run", "r1", "--output", "g.png"), "recorded no generations"),
        ):
            with self.subTest(words=words):
                code, _, told = self.ilvren(*words)
                self.assertEqual(code, 2)
                self.assertIn(part, told)
        with Ledger("ilvren.ledger") as ledger:
            self.assertEqual(len(ledger.runs()), 1)

    def test_workers_are_not_needed_for_formulas(self):
        code, _, err = self.ilvren(
            "run", "waves.toml", "--method", "particle-swarm", "--workers", 2, "--evaluations", 90
        )
        self.assertEqual(code, 1)
        self.assertIn("needs none", err)

    def test_a_long_run_shows_its_best_designs_in_place(self):
        terminal = Terminal(io.StringIO(), Out())
        progress = Progress(terminal, unit="EUR", names=("x", "y"), sign=-1)
        incumbents = tuple(Incumbent(-9.0 + k, 0.0, 10 + k, np.array([0.5, k])) for k in range(3))
        progress._began = progress._next = -1e9
        progress(
            Iterated(
                iteration=3,
                evaluations=40,
                gradients=0,
                seconds=1.0,
                best=9.0,
                violation=0.0,
                stationarity=None,
                note="",
                incumbents=incumbents,
            )
        )
        progress.close()
        shown = terminal.err.getvalue()
        for part in ("objective [EUR]", "9", "12", "Ctrl-C keeps the best design"):
            self.assertIn(part, shown)


class Batches(InAFolder):
    def test_one_vectorised_call_gives_what_single_calls_give(self):
        rng = np.random.default_rng(1)
        for case in (MULTIMODAL[0], MULTIMODAL[15], MULTIMODAL[16]):
            gate = Gate(case.problem())
            points = rng.uniform(case.lower, case.upper, size=(20, case.n))
            objective, _ = gate.batch_values(points)
            alone = [gate.evaluate(point).objective for point in points]
            np.testing.assert_allclose(objective, alone, rtol=1e-12, atol=1e-12)

    def test_limits_inside_a_batch_are_exact_and_resume_on_the_same_path(self):
        problem = MULTIMODAL[1].problem()
        with Ledger("whole.ledger") as ledger:
            whole = run(problem, method="particle-swarm", evaluations=333, ledger=ledger)
            points = [record.point for record in ledger.evaluations(1)]
        self.assertEqual(whole.counts["evaluations"], 333)
        for first in (1, 39, 40, 41, 117, 332):
            with Ledger(f"{first}.ledger") as ledger:
                part = run(problem, method="particle-swarm", evaluations=first, ledger=ledger)
                self.assertEqual((part.outcome, part.counts["evaluations"]), ("exhausted", first))
                rest = resume("last", ledger, evaluations=333)
                self.assertEqual([record.point for record in ledger.evaluations(1)], points)
                self.assertEqual(
                    [r.values for r in ledger.evaluations(1)], [r.values for r in whole.evaluations], first
                )
                self.assertEqual((rest.point, rest.counts), (whole.point, whole.counts))

    @only_in_whole
    def test_a_run_out_of_patience_and_a_global_one_go_on(self):
        problem = MULTIMODAL[1].problem()
        with Ledger("p.ledger") as ledger:
            whole = run(problem, method="simulated-annealing", evaluations=800, patience=100_000, ledger=ledger)
            tired = run(problem, method="simulated-annealing", evaluations=800, patience=60, ledger=ledger)
            self.assertEqual(tired.outcome, "stalled")
            self.assertLess(tired.counts["evaluations"], 800)
            more = resume("last", ledger, patience=100_000)
            self.assertEqual((more.point, more.counts), (whole.point, whole.counts))
            whole = run(problem, method="global", evaluations=900, ledger=ledger)
            run(problem, method="global", evaluations=600, ledger=ledger)
            rest = resume("last", ledger, evaluations=900)
            self.assertEqual((rest.point, rest.counts, rest.method), (whole.point, whole.counts, "global"))

    def test_designs_met_again_are_not_counted_again(self):
        text = "[variables]\nn = { start = 1, lower = 0, upper = 5, spacing = 1 }\n[minimize]\nf = '(n - 3)^2'\n"
        for method in ("genetic-algorithm", "differential-evolution", "particle-swarm"):
            result = run(loads(text), method=method)
            self.assertLessEqual(result.counts["evaluations"], 6)
            self.assertEqual(result.variables["n"], 3.0)

    def test_invalid_members_of_a_batch_spoil_only_themselves(self):
        problem = loads(two_variables("sqrt(x) + (y - 1)^2", bounds=(-2, 2)))
        for method in some(("cma-es", "differential-evolution", "mesh-adaptive-search", "genetic-algorithm")):
            result = run(problem, method=method, evaluations=4000)
            self.assertLess(result.objective, 2e-2, method)
            self.assertTrue(any(not np.isfinite(record.violation) for record in result.evaluations), method)


class Bests(unittest.TestCase):
    def test_leaders_agree_with_a_plain_search_whatever_the_batches(self):
        rng = np.random.default_rng(2)
        for _ in range(40):
            count = int(rng.integers(5, 60))
            f = rng.integers(0, 8, count).astype(float)
            v = rng.choice([0.0, 0.0, 5e-7, 0.3, 2.0], count)
            points = rng.integers(0, 4, size=(count, 2)).astype(float)
            incumbents, at = Incumbents(1e-6, 1e-6), 0
            while at < count:
                size = int(rng.integers(1, 9))
                incumbents.note(points[at : at + size], f[at : at + size], v[at : at + size], at + 1)
                at += size
            feasible = [k for k in range(count) if v[k] <= 1e-6]
            if not feasible:
                self.assertIsNone(incumbents.feasible)
                self.assertEqual(incumbents.least.number, 1 + int(np.argmin(v)))
                continue
            best = min(feasible, key=lambda k: (f[k], v[k], k))
            self.assertEqual((incumbents.feasible.objective, incumbents.feasible.number), (f[best], best + 1))
            self.assertEqual(incumbents.least.violation, v.min())
            tops = [incumbent.objective for incumbent in incumbents.top]
            self.assertEqual(tops, sorted(tops))
            self.assertEqual(len({incumbent.point.tobytes() for incumbent in incumbents.top}), len(tops))

    def test_progress_is_a_gain_beyond_the_tolerance(self):
        incumbents = Incumbents(1e-6, 1e-3)
        marks = []
        for number, (f, v) in enumerate(((9.0, 5.0), (8.0, 1.0), (7.0, 0.0), (6.999, 0.0), (5.0, 0.0), (5.5, 0.0)), 1):
            incumbents.note(np.zeros((1, 1)) + number, np.array([f]), np.array([v]), number)
            marks.append(incumbents.progress_at)
        self.assertEqual(marks, [1, 2, 3, 3, 5, 5])

    @only_in_whole
    def test_gears_of_the_right_ratio_are_found_among_all(self):
        products = np.array([a * b for a, b in itertools.combinations_with_replacement(range(12, 61), 2)])
        best = float(((1 / 6.931 - np.divide.outer(products, products)) ** 2).min())
        found = [
            run(loads(MIXED[2][1]), method="differential-evolution", seed=seed).objective for seed in some(range(3))
        ]
        self.assertGreaterEqual(min(found), best * (1 - 1e-9))
        self.assertLess(np.median(found), 1e-9)


if __name__ == "__main__":
    unittest.main()
