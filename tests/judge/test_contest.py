"""Contests: shares, costs, profiles and tests against numbers worked out by hand; groups in the ledger and on resume."""

import itertools
import json
import math
import tempfile
import unittest
from pathlib import Path

import numpy as np

from ilvren import loads, run
from ilvren.errors import RequestError
from ilvren.judge.comparing.contest import contest_summary
from ilvren.judge.comparing.final_designs import final_optima, sorted_differences
from ilvren.judge.comparing.paired_test import paired_tests
from ilvren.judge.comparing.profiles import data_profile, performance_profile
from ilvren.judge.comparing.track import track_of_result
from ilvren.ledger import Ledger
from ilvren.runs import Settings
from ilvren.runs.contest import contender_of, hold_contest, plan_contest, resume_contest
from tests.compact import only_in_whole
from tests.problems import two_variables

TWO_WELLS = two_variables("(x^2 - 1)^2 + 0.3 * x + y^2", start=(0.5, 1.0), bounds=(-2, 2))
BOWL = two_variables("(x - 1)^2 + 3 * (y - 0.5)^2", start=(0.0, 0.0), bounds=(-2, 2))


class Pairs(unittest.TestCase):
    def test_a_clear_difference_and_none(self):
        rng = np.random.default_rng(1)
        one = {(0, k, 0): float(v) for k, v in enumerate(rng.uniform(50, 100, 12))}
        twice = {key: 2.0 * value for key, value in one.items()}
        mixed = {key: value * (1.5 if key[1] % 2 else 1 / 1.5) for key, value in one.items()}
        (found,) = paired_tests({"a": one, "b": twice}, ["a", "b"])
        self.assertEqual((found.wins, found.effect), ((12, 0), -1.0))
        self.assertAlmostEqual(found.ratio, 0.5)
        self.assertAlmostEqual(found.p, 2 * 0.5**12)  # every sign the same, of 2^12
        self.assertIn("a was better in 12 of 12 against b, at 0.5 times", found.sentence)
        (found,) = paired_tests({"a": one, "b": mixed}, ["a", "b"])
        self.assertGreater(found.p, 0.5)
        self.assertIn("do not tell them apart", found.sentence)

    def test_of_equal_differences_every_choice_of_signs_is_counted(self):
        factors, ranks = (2.0, 2.0, 4.0, 0.25, 8.0, 0.5, 4.0), (2.0, 2.0, 5.0, 5.0, 7.0, 2.0, 5.0)
        one = {(0, k, 0): 64.0 for k in range(7)}
        other = {(0, k, 0): 64.0 * factor for k, factor in enumerate(factors)}
        (found,) = paired_tests({"a": one, "b": other}, ["a", "b"])
        sums = [sum(itertools.compress(ranks, signs)) for signs in itertools.product((0, 1), repeat=7)]
        seen = sum(rank for rank, factor in zip(ranks, factors, strict=True) if factor < 1.0)
        self.assertAlmostEqual(found.p, 2.0 * np.mean(np.array(sums) <= seen))

    def test_never_arriving_is_worse_than_any_cost_and_few_pairs_tell_nothing(self):
        one = {(0, k, 0): 1e5 for k in range(4)}
        never = {(0, k, 0): math.inf for k in range(4)}
        (found,) = paired_tests({"a": one, "b": never}, ["a", "b"])
        self.assertEqual((found.effect, found.p), (-1.0, None))
        self.assertIn("too few", found.sentence)
        self.assertEqual(paired_tests({"a": never, "b": never}, ["a", "b"])[0].differ, 0)

    def test_several_pairs_are_corrected(self):
        base = {(0, k, 0): 10.0 + k for k in range(8)}
        costs = {
            name: {key: value * factor for key, value in base.items()}
            for name, factor in zip("abc", (1, 2, 4), strict=True)
        }
        self.assertEqual([round(t.p / (2 * 0.5**8), 6) for t in paired_tests(costs, "abc")], [3.0, 3.0, 3.0])


class Profiles(unittest.TestCase):
    def test_the_shares_worked_out_by_hand(self):
        costs = {"a": {(0, 0, 0): 10.0, (1, 0, 0): 40.0}, "b": {(0, 0, 0): 30.0, (1, 0, 0): math.inf}}
        a, b = performance_profile(costs, ["a", "b"])
        self.assertEqual((a.at(1.0), b.at(2.9), b.at(3.0), b.solved), (1.0, 0.0, 0.5, 0.5))
        a, b = data_profile(costs, {0: 1, 1: 3}, ["a", "b"])
        self.assertEqual((a.costs.tolist(), b.costs.tolist()), ([5.0, 10.0], [15.0]))


class Designs(unittest.TestCase):
    def test_equal_objectives_at_different_designs_are_seen(self):
        text = two_variables("(x^2 - 1)^2 + y^2")
        tracks = [track_of_result(run(loads(text, start={"x": x, "y": 0.3}), method="bfgs")) for x in (-1.4, 1.3, 0.8)]
        one, other = final_optima(tracks)
        self.assertEqual({one.places, other.places}, {(0,), (1, 2)})
        self.assertEqual(other.twin_of, "A")
        differences = sorted_differences(tracks)
        self.assertEqual([item.name for item in differences], ["x", "y"])
        self.assertGreater(differences[0].spread, 1.0)

    def test_variables_that_a_run_does_not_have(self):
        small = run(loads("[variables]\nx = { start = 1.0 }\n[minimize]\nf = 'x^2'\n"), method="bfgs")
        large = run(loads(two_variables("x^2 + y^2")), method="bfgs")
        found = {
            item.name: item.values for item in sorted_differences([track_of_result(small), track_of_result(large)])
        }
        self.assertIsNone(found["y"][0])
        self.assertEqual(len(final_optima([track_of_result(small), track_of_result(large)])), 1)


class Contests(unittest.TestCase):
    def setUp(self):
        folder = tempfile.TemporaryDirectory()
        self.addCleanup(folder.cleanup)
        self.path = Path(folder.name) / "contest.ledger"

    def plan(self, texts, methods, **more):
        problems = [loads(text, file=f"p{k}.toml") for k, text in enumerate(texts)]
        settings = Settings(method="automatic", evaluations=400)
        return plan_contest(problems, [contender_of(name) for name in methods], settings, **more)

    def test_methods_by_starts_by_seeds(self):
        plan = self.plan([TWO_WELLS], ["bfgs", "differential-evolution:population=12"], random_starts=3, repeats=2)
        self.assertEqual(len(plan["members"]), 3 + 3 * 2)  # bfgs would only do the same again
        with Ledger(self.path) as ledger:
            group = ledger.begin_group(plan, label="wells")
            self.assertTrue(hold_contest(ledger, group, workers=1))
            found = contest_summary(["wells"], ledger)
            by_name = {item.series: item for item in found.methods}
            self.assertEqual(
                {name: item.runs for name, item in by_name.items()},
                {plan["contenders"][0]["name"]: 3, plan["contenders"][1]["name"]: 6},
            )
            best = found.comparisons[0].best
            self.assertAlmostEqual(best, min(case.track.final_objective for case in found.cases[0]))
            finals = [case.track.final_objective for case in found.cases[0] if case.series == "bfgs"]
            scale = found.comparisons[0].scale
            self.assertEqual(by_name["bfgs"].solved, sum(value - best <= 1e-4 * scale for value in finals))
            self.assertEqual(ledger.run("wells").id, ledger.run(group.id).id)  # wherever a run is
            self.assertAlmostEqual(ledger.run("wells").result["objectives"]["f"], best)
            json.dumps(found.to_dict(), allow_nan=False)
            with self.assertRaises(RequestError):
                resume_contest(ledger, group.id)

    def test_processes_change_nothing_and_what_is_missing_is_made_up(self):
        plan = self.plan([TWO_WELLS, BOWL], ["bfgs", "nelder-mead"], random_starts=2)
        with Ledger(self.path) as ledger:
            alone, together = ledger.begin_group(plan), ledger.begin_group(plan)
            seen = []

            def stop_after_three(one):
                seen.append(one.place)
                if len(seen) == 3:
                    raise KeyboardInterrupt

            with self.assertRaises(KeyboardInterrupt):
                hold_contest(ledger, alone, workers=1, finished=stop_after_three)
            self.assertEqual(contest_summary([alone.id], ledger).missing, 5)
            self.assertTrue(resume_contest(ledger, alone.id, workers=1))
            self.assertTrue(hold_contest(ledger, together, workers=2))
            one, other = (contest_summary([name], ledger) for name in (alone.id, together.id))
            for a, b in zip(one.cases, other.cases, strict=True):
                self.assertEqual([case.key for case in a], [case.key for case in b])
                for case, twin in zip(a, b, strict=True):
                    np.testing.assert_array_equal(case.track.objective, twin.track.objective)
            self.assertEqual(len(one.performance), 2)
            self.assertEqual(one.missing, 0)

    def test_the_ledger_knows_its_groups(self):
        plan = self.plan([TWO_WELLS], ["bfgs"], random_starts=2)
        with Ledger(self.path) as ledger:
            group = ledger.begin_group(plan, label="wells")
            self.assertEqual((group.id, group.plan, dict(group.runs)), ("g1", plan, {}))
            with self.assertRaises(RequestError) as caught:
                ledger.run("g1")
            self.assertIn("no run with a feasible design", str(caught.exception))
            for taken in (
                lambda: ledger.begin_group(plan, label="wells"),
                lambda: run(loads(BOWL), ledger=ledger, label="wells"),
            ):
                with self.assertRaises(RequestError):
                    taken()
            with self.assertRaises(RequestError) as caught:
                ledger.group("well")
            self.assertIn('"wells"', caught.exception.advice)
            self.assertTrue(ledger.is_group("wells") and ledger.is_group("g7") and not ledger.is_group("r1"))
            hold_contest(ledger, group, workers=1)
            again = ledger.group("wells")
            self.assertEqual(list(again.runs), [0, 1])
            self.assertEqual([record.id for record in ledger.group_runs(again).values()], ["r1", "r2"])
        with Ledger(self.path, read_only=True) as ledger:
            self.assertEqual([item.id for item in ledger.groups()], ["g1"])

    def test_the_best_of_a_maximization_is_the_largest(self):
        text = two_variables("5 - (x^2 - 1)^2 + 0.3 * x - y^2", bounds=(-2, 2), sense="maximize")
        with Ledger(self.path) as ledger:
            group = ledger.begin_group(self.plan([text], ["bfgs"], random_starts=5))
            hold_contest(ledger, group, workers=1)
            values = [r.result["objectives"]["f"] for r in ledger.group_runs(ledger.group("g1")).values()]
            self.assertGreater(max(values) - min(values), 0.1)
            self.assertEqual(ledger.run("g1").result["objectives"]["f"], max(values))
            summary = contest_summary(["g1"], ledger)
            self.assertAlmostEqual(summary.comparisons[0].best, max(values))
            self.assertEqual(summary.methods[0].solved, sum(max(values) - v < 1e-4 for v in values))

    def test_starts_are_spread_and_the_same_for_all(self):
        plan = self.plan([TWO_WELLS], ["bfgs", "nelder-mead"], random_starts=8)
        starts = np.array([[start["x"], start["y"]] for start in plan["problems"][0]["starts"]])
        for column in starts.T:  # one in each eighth of the range
            self.assertEqual(sorted(np.floor((column + 2.0) / 4.0 * 8).astype(int)), list(range(8)))
        self.assertEqual(plan, self.plan([TWO_WELLS], ["bfgs", "nelder-mead"], random_starts=8))

    @only_in_whole
    def test_seeds_of_one_start_are_one_pair(self):
        with Ledger(self.path) as ledger:
            plan = self.plan([BOWL], ["differential-evolution", "simulated-annealing"], random_starts=2, repeats=3)
            hold_contest(ledger, ledger.begin_group(plan), workers=1)
            (test,) = contest_summary(["g1"], ledger).tests
            self.assertEqual(test.pairs, 2)
            plan = self.plan([BOWL], ["differential-evolution", "simulated-annealing"], repeats=3)
            hold_contest(ledger, ledger.begin_group(plan), workers=1)
            (test,) = contest_summary(["g2"], ledger).tests
            self.assertEqual(test.pairs, 3)

    def test_a_ledger_of_before_groups_is_brought_up_to_date(self):
        with Ledger(self.path) as ledger:
            run(loads(BOWL), ledger=ledger, label="old")
            ledger._db.execute("ALTER TABLE runs DROP COLUMN seal")
            ledger._db.execute("DROP TABLE group_runs")
            ledger._db.execute("DROP TABLE groups")
            ledger._db.execute("DROP TABLE calls")
            ledger._db.execute("DROP TABLE approximations")
            ledger._db.execute("DROP TABLE foretold")
            for table in ("checkpoints", "arrivals", "stages"):
                ledger._db.execute(f"DROP TABLE {table}")
            ledger._db.execute("DELETE FROM schema_steps WHERE number >= 4")
            ledger._db.execute("PRAGMA user_version = 3")
        with Ledger(self.path, read_only=True) as ledger:
            self.assertEqual((ledger.groups(), ledger.run("old").id), ([], "r1"))

    def test_a_model_that_has_changed_ends_the_contest(self):
        model = self.path.with_name("m.py")
        model.write_text("def bowl(x):\n    return (x - 0.3) ** 2\n")
        text = '[variables]\nx = { start = 1, lower = -2, upper = 2 }\n[models.m]\npython = "m.py:bowl"\noutputs = ["f"]\n[minimize]\nc = "m.f"\n'
        problem = loads(text, file=str(self.path.with_name("p.toml")))
        plan = plan_contest([problem], [contender_of("nelder-mead")], Settings(method="automatic"), random_starts=2)
        with Ledger(self.path) as ledger:
            group = ledger.begin_group(plan)
            model.write_text("def bowl(x):\n    return (x - 0.5) ** 2\n")
            with self.assertRaises(RequestError) as caught:
                resume_contest(ledger, group.id, workers=1)
            self.assertIn("have changed since it began", str(caught.exception))
            self.assertEqual(len(ledger.group("g1").runs), 0)
            self.assertTrue(resume_contest(ledger, group.id, workers=1, as_now=True))

    def test_plans_that_make_no_sense(self):
        for methods, more, word in (
            (["sqpp"], {}, "sqp"),
            (["sqp:stepz=3"], {}, "option"),
            (["sqp:steps=3"], {}, "[time]"),
            (["sqp:steps"], {}, "colon"),
            (["sqp"], {"repeats": 0}, "repeat"),
        ):
            with self.subTest(methods=methods), self.assertRaises(RequestError) as caught:
                self.plan([BOWL], methods, **more)
            self.assertIn(word, f"{caught.exception} {caught.exception.advice}")
