"""The loop: limits, targets, reported designs, interrupts, and resuming on the same path."""

import contextlib
import math
import os
import sqlite3
import tempfile
import unittest
from dataclasses import replace
from pathlib import Path

import numpy as np

import ilvren
from ilvren import loads, resume, run, verify
from ilvren.errors import LedgerFileError, RequestError
from ilvren.evaluate import Gate
from ilvren.ledger import Ledger
from ilvren.methods.base import SLOPES, Ending, Iterate, Request, method_named
from ilvren.problem import Measures
from ilvren.runs import Iterated, Settings, first_order_conditions
from ilvren.runs.loop import Loop
from tests.compact import chosen, only_in_whole, parted
from tests.driving import single_names
from tests.problems import manufactured, two_variables

ROSENBROCK = two_variables("100 * (y - x^2)^2 + (1 - x)^2", "x + y <= 3", start=(-1.2, 1.0))


def path_of(ledger, number):
    """Return all that a path consists of; times may differ."""
    evaluations = [record._replace(seconds=0.0) for record in ledger.evaluations(number)]
    return evaluations, [replace(record, seconds=0.0) for record in ledger.iterations(number)], ledger.requests(number)


METHODS = [name for name in single_names() if not method_named(name).only_members]
CONSTRAINED = [name for name in METHODS if {"inequalities", "equalities"} <= method_named(name).handles]


class InterruptAt:
    """A listener that behaves like Ctrl-C at an iteration."""

    def __init__(self, iteration):
        self.iteration = iteration

    def __call__(self, event):
        if isinstance(event, Iterated) and event.iteration == self.iteration:
            raise KeyboardInterrupt


class Stops(unittest.TestCase):
    def test_limits_end_a_run_at_the_number_given(self):
        for method in parted(CONSTRAINED, self._testMethodName):
            for limits, key, most in (({"evaluations": 7}, "evaluations", 7), ({"iterations": 4}, "iterations", 4)):
                with self.subTest(method=method, **limits):
                    result = run(loads(ROSENBROCK), method=method, **limits)
                    if result.outcome == "settled":  # in fewer iterations than allowed
                        self.assertLess(result.counts[key], most)
                        continue
                    self.assertEqual((result.outcome, result.counts[key]), ("exhausted", most))
                    self.assertNotEqual(result.design, "final")

    def test_seconds_are_counted_by_the_clock_given(self):
        ticks = iter(np.arange(0.0, 1e6, 0.25))
        settings = Settings(method="sqp", seconds=5.0)
        method = method_named("sqp")
        loop = Loop(
            loads(ROSENBROCK), method, options=method.options(), settings=settings, clock=lambda: float(next(ticks))
        )
        self.assertEqual(loop.drive().outcome, "exhausted")

    def test_target_is_as_written(self):
        result = run(
            loads(two_variables("4 - x^2 - y^2", start=(2.0, 1.0), sense="maximize")), method="sqp", target=3.0
        )
        self.assertEqual(result.outcome, "target")
        self.assertGreaterEqual(result.objective, 3.0)
        self.assertTrue(result.holds)

    def test_the_best_feasible_design_is_reported_when_nothing_converged(self):
        result = run(
            loads(two_variables("x + y", "x^2 + y^2 <= 2", start=(0.5, 0.5))), method="nelder-mead", evaluations=60
        )
        feasible = [e.objective for e in result.evaluations if e.violation <= 1e-6]
        self.assertEqual((result.design, result.objective), ("best-feasible", min(feasible)))

    def test_counts_are_distinct_points_and_a_cache_hit_is_none(self):
        result = run(loads(ROSENBROCK), method="sqp")
        points = {e.point for e in result.evaluations}
        self.assertEqual(result.counts["evaluations"], len(points))
        self.assertEqual(result.counts["gradients"], sum(e.derivatives is not None for e in result.evaluations))

    @only_in_whole
    def test_unused_and_fixed_variables_are_left_alone(self):
        text = '[variables]\nx = 3.0\nidle = 7.0\nstuck = { lower = 2, upper = 2 }\n[minimize]\nf = "(x - stuck)^2"\n'
        for method in parted(CONSTRAINED, self._testMethodName):
            result = run(loads(text), method=method)
            self.assertEqual(result.point[1:], (7.0, 2.0))
            self.assertAlmostEqual(result.point[0], 2.0, places=3)

    def test_discrete_variables_are_refused_with_the_line(self):
        text = '[variables]\nx = { catalogue = [1, 2, 3] }\ny = 1.0\n[minimize]\nf = "x + y^2"\n'
        with self.assertRaises(RequestError) as caught:
            run(loads(text), method="sqp")
        self.assertEqual(caught.exception.line, 2)
        self.assertIn("catalogue", caught.exception.message)

    def test_settings_without_meaning(self):
        for wrong in (
            {"tolerance": 2.0},
            {"feasibility": 0.0},
            {"evaluations": 0},
            {"seconds": -1.0},
            {"seed": -1},
            {"colour": 1},
        ):
            with self.subTest(**wrong), self.assertRaises(RequestError):
                run(loads(ROSENBROCK), method="sqp", **wrong)

    def test_a_methods_word_is_only_a_claim(self):
        def boaster(task, options):
            yield Request(task.start[np.newaxis, :], SLOPES)
            yield Iterate(task.start)
            return Ending(claim, "so it says")

        method = replace(method_named("sqp"), run=boaster)
        problem = loads(two_variables("x^2 + y^2", "x + y >= 1", start=(3.0, 0.0)))
        # At least 2, which intervals do not see.
        hopeless = loads(two_variables("x^2", "exp(x - y) + exp(y - x) <= 1", start=(3.0, 0.0)))
        for claim, subject, expected in (
            ("converged", problem, "stalled"),
            ("infeasible", problem, "stalled"),
            ("settled", hopeless, "no-feasible"),
            ("infeasible", hopeless, "no-feasible"),
        ):
            loop = Loop(subject, method, options=method.options(), settings=Settings(method="sqp"))
            self.assertEqual(loop.drive().outcome, expected, claim)

    def test_a_method_going_in_circles_is_stopped(self):
        def circles(task, options):
            while True:
                yield Request(task.start[np.newaxis, :])
                yield Iterate(task.start)

        method = replace(method_named("sqp"), run=circles)
        self.assertEqual(
            Loop(loads(ROSENBROCK), method, options=None, settings=Settings(method="sqp")).drive().outcome, "stalled"
        )

    def test_methods_that_break_the_protocol_are_named_with_their_line(self):
        def wrong_shape(task, options):
            yield Request(np.zeros((1, 99)))

        def nonsense(task, options):
            yield "a word"

        def no_end(task, options):
            yield Request(task.start[np.newaxis, :])

        for broken, word in ((wrong_shape, "(1, 99)"), (nonsense, "yielded str"), (no_end, "without an Ending")):
            method = replace(method_named("sqp"), run=broken)
            with self.subTest(word=word), self.assertRaises(TypeError) as caught:
                Loop(loads(ROSENBROCK), method, options=None, settings=Settings(method="sqp")).drive()
            self.assertIn(word, str(caught.exception))

    def test_infinite_derivatives_are_no_place_to_go_on_from(self):
        # The full step lands on x = 0, where the root has no slope.
        text = '[variables]\nx = { start = 1, lower = 0 }\n[minimize]\nf = "sqrt(x) + (x - 0.02)^2 * 50"\n'
        result = run(loads(text), method="sqp")
        self.assertIn(result.outcome, ("converged", "stalled"))
        self.assertLess(result.objective, 0.2)

    def test_invalid_starts_are_located(self):
        for text, words in (
            (two_variables("x + log(y - 2)"), ('"f" (some.toml:5)', '"log(y - 2)"', "(given -1)")),
            (two_variables("x", "1 / (y - 1) <= 2"), ('"c0" (some.toml:7)', "division by zero")),
            (two_variables("x + sqrt(y - 1)"), ('the derivative of "f" by "y" is',)),
        ):
            result = run(loads(text, file="some.toml"), method="sqp")
            self.assertEqual(result.outcome, "invalid")
            for word in words:
                self.assertIn(word, result.reason)

    def test_nothing_is_minimized(self):
        for text in (two_variables("", "x^2 + y^2 == 4"), two_variables("3", "x * y == 2", "x <= 0.5")):
            for method in parted(CONSTRAINED, self._testMethodName):
                is_search = method_named(method).kind in ("global", "discrete")  # equalities cost these a great deal
                result = run(loads(text), method=method, evaluations=4000 if is_search else 100_000)
                self.assertTrue(result.holds or (is_search and result.outcome in ("exhausted", "no-feasible")), method)
                self.assertEqual(result.holds, result.violation <= 1e-6)


class Conditions(unittest.TestCase):
    def test_prices_have_one_sign_rule(self):
        """Each limit moved up a little: the objective as written changes by price times the move."""
        for sense in ("minimize", "maximize"):
            sign = "" if sense == "minimize" else "-"
            for limit, start in (("x >= {}", 2.0), ("x + 0*y >= {}", 2.0), ("y - 3*x <= -3*{}", 2.0), ("x == {}", 2.0)):

                def solve(value, sense=sense, sign=sign, limit=limit, start=start):
                    text = two_variables(
                        f"{sign}((x + 1)^2 + y^2)", limit.format(value), "y >= 0", start=(start, 0.5), sense=sense
                    )
                    return run(loads(text), method="sqp")

                with self.subTest(sense=sense, limit=limit):
                    price = solve(1.0).constraints[0].price
                    factor = -3.0 if "-3*" in limit else 1.0
                    change = (solve(1.001).objective - solve(1.0).objective) / (0.001 * factor)
                    self.assertAlmostEqual(price, change, delta=5e-3 * abs(change))

    def test_no_prices_far_from_an_optimum_or_where_limits_are_missed(self):
        far = run(loads(two_variables("x^2 + y^2", "x >= 1", start=(1.0, 3.0))), method="sqp", evaluations=1)
        broken = run(loads(two_variables("x + y", "x^2 + y^2 <= 1", "x + y >= 3")), method="sqp")
        for result in (far, broken):
            self.assertTrue(any(state.is_active for state in result.constraints))
            self.assertEqual([state.price for state in result.constraints if state.price is not None], [])

    def test_bounds_have_prices_and_dependent_limits_say_so(self):
        text = '[variables]\nx = { start = 2, lower = 1, upper = 3 }\n[minimize]\nf = "x^2"\n[constraints]\nc = "2 * x >= 2"\n'
        result = run(loads(text), method="sqp")
        self.assertTrue(result.bounds[0].is_active and result.constraints[0].is_active)
        self.assertFalse(result.bounds[0].is_unique)
        result = run(loads(text.replace("2 * x >= 2", "x <= 9")), method="sqp")
        self.assertAlmostEqual(result.bounds[0].price, 2.0, places=6)
        self.assertIsNone(result.constraints[0].price)

    def test_stationarity_is_measured_in_sizes(self):
        problem = loads('[variables]\nx = { start = 3, lower = 0, upper = 100 }\n[minimize]\nf = "(x - 2)^2 + 50"\n')
        gate, measures = Gate(problem), Measures.of(problem)
        point = np.array([2.5])
        conditions = first_order_conditions(
            problem, measures, point, gate.evaluate(point, derivatives=True), objective_size=50.25, feasibility=1e-6
        )
        self.assertAlmostEqual(conditions.stationarity, 1.0 * 100.0 / 50.25)

    def test_pulling_away_from_a_bound_counts_and_pushing_into_it_does_not(self):
        for sense, expected in (("minimize", 0.0), ("maximize", 1.0)):
            text = f'[variables]\nx = {{ start = 0, lower = 0, upper = 1 }}\n[{sense}]\nf = "x + 1"\n'
            problem = loads(text)
            found = first_order_conditions(
                problem, Measures.of(problem), np.zeros(1), Gate(problem).evaluate(np.zeros(1), derivatives=True),
                objective_size=1.0, feasibility=1e-6,
            )  # fmt: skip
            self.assertAlmostEqual(found.stationarity, expected)


class Resuming(unittest.TestCase):
    def setUp(self):
        folder = tempfile.TemporaryDirectory()
        self.addCleanup(folder.cleanup)
        self.path = Path(folder.name) / "runs.ledger"

    def test_any_stop_resumes_on_the_path_of_a_run_never_stopped(self):
        problem, _ = manufactured(4, n=3, inequalities=2, equalities=1)
        for number, method in enumerate(parted(CONSTRAINED, self._testMethodName)):
            with Ledger(self.path) as ledger:
                whole = run(problem, method=method, ledger=ledger, seed=3, evaluations=300)
                number = int(whole.id[1:])
                expected = path_of(ledger, number)
                last = len(whole.iterations) - 1
                for place, stop in enumerate(sorted({0, last // 2, last})):
                    if not chosen(number, place, 7):
                        continue
                    with self.subTest(method=method, stop=stop):
                        given = {"method": method, "seed": 3, "evaluations": 300}
                        broken = run(problem, ledger=ledger, listener=InterruptAt(stop), **given)
                        self.assertEqual(broken.outcome, "interrupted")
                        mended = resume(broken.id, ledger)
                        self.assertEqual((mended.outcome, mended.point), (whole.outcome, whole.point))
                        self.assertEqual(mended.counts, whole.counts)
                        self.assertEqual(path_of(ledger, int(broken.id[1:])), expected)

    def test_exhausted_runs_go_on_with_the_limit_granted_once_more_or_a_new_one(self):
        with Ledger(self.path) as ledger:
            whole = run(loads(ROSENBROCK), method="nelder-mead", ledger=ledger)
            short = run(loads(ROSENBROCK), method="nelder-mead", ledger=ledger, evaluations=20)
            self.assertEqual(resume(short.id, ledger).counts["evaluations"], 40)
            mended = resume(short.id, ledger, evaluations=100_000)
            self.assertEqual((mended.outcome, mended.point), (whole.outcome, whole.point))
            self.assertEqual(path_of(ledger, 2), path_of(ledger, 1))
            with self.assertRaises(RequestError):
                resume(short.id, ledger)  # it has ended well

    def test_a_path_that_has_changed_is_noticed_and_nothing_is_lost(self):
        with Ledger(self.path) as ledger:
            short = run(loads(ROSENBROCK), method="sqp", ledger=ledger, iterations=5)
            ledger._db.execute("UPDATE requests SET hash = 'other' WHERE number = 3")
            before = path_of(ledger, 1)
            with self.assertRaises(RequestError) as caught:
                resume(short.id, ledger)
            self.assertIn("request 3", caught.exception.message)
            self.assertIn("ilvren run", caught.exception.advice)
            self.assertIn("--start x=", caught.exception.advice)
            self.assertEqual(path_of(ledger, 1), before)
            self.assertEqual(ledger.run("r1").outcome, "exhausted")

    def test_a_run_that_can_no_longer_be_read_is_left_as_it_was(self):
        with Ledger(self.path) as ledger:
            run(loads(ROSENBROCK), method="sqp", ledger=ledger, iterations=2)
            ledger._db.execute(
                "UPDATE runs SET settings = json_set(settings, '$.options', json('{\"gone\": 1}')), seal = NULL"
            )
            with self.assertRaises(RequestError):
                resume("r1", ledger)
            self.assertEqual((ledger.run("r1").state, ledger.run("r1").outcome), ("ended", "exhausted"))

    def test_a_target_met_at_once_still_tells_that_scaling_was_on(self):
        text = two_variables("x + y", start=(1.0, 1.0))
        self.assertIs(run(loads(text), method="sqp", target=5.0).settings["scaling"], True)

    def test_overrides_are_part_of_the_run(self):
        text = '[variables]\nx = { start = 1, lower = 0 }\n[parameters]\np = 2\n[minimize]\nf = "(x - p)^2 + x^4"\n'
        with Ledger(self.path) as ledger:
            problem = loads(text, set={"p": 30.0}, start={"x": 4.0})
            whole = run(problem, method="sqp", ledger=ledger)
            short = run(problem, method="sqp", ledger=ledger, iterations=2)
            self.assertEqual(resume(short.id, ledger, iterations=999).point, whole.point)


class TheLedger(unittest.TestCase):
    def setUp(self):
        folder = tempfile.TemporaryDirectory()
        self.addCleanup(folder.cleanup)
        self.folder = Path(folder.name)
        self.path = self.folder / "runs.ledger"

    def record(self, **settings):
        return run(loads(ROSENBROCK), method="sqp", ledger=self.path, **settings)

    def test_files_that_cannot_serve_are_refused_and_left_alone(self):
        self.record()
        newer, foreign, text, locked = (self.folder / name for name in ("newer", "foreign", "text", "locked"))
        newer.write_bytes(self.path.read_bytes())
        for path, statement in ((newer, "PRAGMA user_version = 99"), (foreign, "CREATE TABLE a (b)")):
            import sqlite3

            with sqlite3.connect(path) as db:
                db.execute(statement)
            db.close()
        text.write_text("no database at all, but longer than sixteen bytes")
        locked.write_bytes(self.path.read_bytes())
        locked.chmod(0o444)
        for path, word in (
            (newer, "newer"),
            (foreign, "another program"),
            (text, "not a ledger"),
            (locked, "read-only"),
        ):
            before = path.read_bytes()
            with self.subTest(path=path.name), self.assertRaises(LedgerFileError) as caught:
                run(loads(ROSENBROCK), method="sqp", ledger=path)
            with self.subTest(path=path.name):
                self.assertIn(word, caught.exception.message)
                self.assertEqual(path.read_bytes(), before)
        with Ledger(locked, read_only=True) as ledger:
            self.assertEqual(len(ledger.runs()), 1)
        with self.assertRaises(LedgerFileError):
            Ledger(self.folder / "none", read_only=True)
        self.assertFalse((self.folder / "none").exists())

    def test_runs_are_found_by_id_label_and_last(self):
        self.record(label="first")
        self.record()
        with Ledger(self.path) as ledger:
            self.assertEqual([ledger.run(name).id for name in ("r1", "first", "last")], ["r1", "r1", "r2"])
            with self.assertRaises(RequestError) as caught:
                ledger.run("frist")
            self.assertIn('"first"', caught.exception.advice)
        for label in ("first", "r7", "last"):
            with self.subTest(label=label), self.assertRaises(RequestError):
                self.record(label=label)

    def test_a_ledger_of_an_earlier_version_is_brought_up_to_date_by_its_first_reader(self):
        from ilvren.ledger.schema import APPLICATION_ID, STEPS

        path = self.folder / "old.ledger"
        with contextlib.closing(sqlite3.connect(path)) as db:
            for statement in STEPS[1][1]:
                db.execute(statement)
            db.execute(f"PRAGMA application_id = {APPLICATION_ID}")
            db.execute("PRAGMA user_version = 1")
            db.commit()
        with Ledger(path, read_only=True) as ledger:
            self.assertEqual(ledger.runs(), [])
        run(loads(ROSENBROCK), method="sqp", ledger=path)
        self.assertTrue(verify("last", ledger=path).holds)

    def test_tables_are_stored_with_the_run(self):
        folder = self.folder / "data"
        folder.mkdir()
        (folder / "r.csv").write_text("x,y\n1,2\n2,4.1\n3,5.9\n")
        (folder / "fit.toml").write_text(
            '[tables.r]\nfile = "r.csv"\n[variables]\na = 1.0\n[fit]\nline = "r.y - a * r.x"\n'
        )
        first = run(folder / "fit.toml", method="sqp", ledger=self.folder / "l.ledger")
        (folder / "r.csv").unlink()
        self.assertTrue(verify("last", ledger=self.folder / "l.ledger").holds)
        self.assertAlmostEqual(first.point[0], (2 + 8.2 + 17.7) / 14, places=6)

    def test_two_runs_share_a_ledger_and_one_that_runs_is_not_resumed(self):
        with Ledger(self.path) as one, Ledger(self.path) as two:
            a = run(loads(ROSENBROCK), method="sqp", ledger=one, iterations=3)
            b = run(loads(ROSENBROCK), method="sqp", ledger=two)
            self.assertEqual((a.id, b.id), ("r1", "r2"))
            other = f"{os.getppid()}:{Path(f'/proc/{os.getppid()}/stat').read_text().rsplit(')', 1)[1].split()[19]}:{os.uname().nodename}"
            one._db.execute("UPDATE runs SET state = 'running', process = ? WHERE number = 1", (other,))
            with self.assertRaises(RequestError):
                resume("r1", two)

    def test_rows_written_twice_after_an_interrupt_are_one(self):
        with Ledger(self.path) as ledger:
            run(loads(ROSENBROCK), method="sqp", ledger=ledger, iterations=3)
            before = path_of(ledger, 1)
            for record in before[0]:
                ledger.add_evaluation(1, record, took=0.0)
            for iteration in before[1]:
                ledger.add_iteration(1, iteration)
            for request in before[2]:
                ledger.add_request(1, request)
            ledger.flush()
            self.assertEqual(path_of(ledger, 1), before)

    def test_a_full_disk_keeps_the_best_design(self):
        with Ledger(self.path) as ledger:
            pages = ledger._db.execute("PRAGMA page_count").fetchone()[0]
            ledger._db.execute(f"PRAGMA max_page_count = {pages + 6}")
            result = run(loads(ROSENBROCK), method="nelder-mead", ledger=ledger)
            self.assertEqual(result.outcome, "interrupted")
            self.assertIn("full", result.machine_trouble)
            self.assertTrue(math.isfinite(result.objective))
            ledger._pending.clear()
        with Ledger(self.path) as ledger:
            self.assertEqual(ledger._db.execute("PRAGMA integrity_check").fetchone()[0], "ok")
            self.assertEqual(resume("r1", ledger).outcome, "settled")

    def test_what_is_stored_says_everything(self):
        result = self.record(tolerance=1e-5)
        with Ledger(self.path) as ledger:
            record = ledger.run("r1")
            self.assertEqual(record.problem_text, ROSENBROCK)
            self.assertEqual(record.settings["tolerance"], 1e-5)
            self.assertEqual(set(record.versions), {"ilvren", "python", "numpy"})
            self.assertEqual(record.result, result.to_dict())
            self.assertEqual(len(ledger.iterations(1)), result.counts["iterations"] + 1)
        self.assertEqual(record.versions["ilvren"], ilvren.__version__)
