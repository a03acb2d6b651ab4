"""What is shown while a run works, and how messages and tables read."""

import io
import unittest
from pathlib import Path
from unittest import mock

from ilvren.cli import progress as module
from ilvren.cli.complaint import complaint
from ilvren.cli.progress import Progress
from ilvren.cli.tables.table import change_percent, count, limits_text, margin_text, seconds_text, small, table
from ilvren.cli.terminal import Terminal
from ilvren.errors import FormulaError, MachineError, ProblemError, nearest
from ilvren.runs import Iterated, Sampled
from ilvren.runs.archive import FrontNow
from ilvren.runs.events import LookedOn
from tests.test_cli import PUMP, InAFolder

INF = float("inf")


class Screen(io.StringIO):
    def isatty(self):
        return True


def iterated(number, best, **changes):
    facts = {"gradients": 0, "seconds": 0.1, "violation": 1e-3, "stationarity": None, "note": ""} | changes
    return Iterated(iteration=number, evaluations=10 * number, best=best, **facts)


class ShowingProgress(unittest.TestCase):
    def shown(self, stream, events, seconds):
        """Return what a listener writes for `events`, one every so many seconds."""
        clock = iter(float(seconds) * i for i in range(1000))
        with mock.patch.object(module.time, "monotonic", lambda: next(clock)):
            progress = Progress(Terminal(io.StringIO(), stream), unit="EUR")
            for event in events:
                progress(event)
            progress.close()
        return stream.getvalue()

    def test_a_line_in_place_on_a_terminal_that_is_gone_at_the_end(self):
        text = self.shown(Screen(), [iterated(1, None), iterated(2, 200.0), iterated(3, 150.0, stationarity=0.5)], 0.2)
        self.assertIn("\r10 evaluations  nothing feasible so far", text)
        self.assertIn("30 evaluations  best 150 EUR", text)
        self.assertIn("stationarity 5.0e-01", text)
        self.assertTrue(text.endswith(" \r"))
        self.assertNotIn("\n", text)

    def test_few_plain_lines_elsewhere(self):
        text = self.shown(io.StringIO(), [iterated(i, 100.0 / i) for i in range(1, 100)], 1.0)
        self.assertLess(text.count("\n"), 8)
        self.assertGreater(text.count("\n"), 2)
        self.assertNotIn("\r", text)
        self.assertIn("(-", text)

    def lines(self, events, **more):
        """Return the lines that are written elsewhere than on a terminal, for events a minute apart."""
        stream, clock = io.StringIO(), iter(60.0 * i for i in range(1000))
        with mock.patch.object(module.time, "monotonic", lambda: next(clock)):
            progress = Progress(Terminal(io.StringIO(), stream), **more)
            for event in events:
                progress(event)
            progress.close()
        return stream.getvalue().splitlines()

    def test_how_long_the_limits_leave_is_told_at_the_most(self):
        event = iterated(3, 5.0, seconds=60.0)  # 30 evaluations in a minute
        for limits, left in (((90, None), "2 min 0 s"), ((None, 90.0), "30 s"), ((90, 70.0), "10 s"), ((30, None), "")):
            (*_, line) = self.lines([event], limits=limits, has_models=False, unit="kg")
            self.assertTrue(line.endswith(f"at most {left} left") if left else "left" not in line, line)

    def test_what_a_design_costs_is_told_once_where_one_waits_for_it(self):
        events = [iterated(k, 5.0, seconds=40.0 * k) for k in (1, 2, 3)]  # ten evaluations take 40 s
        for limits, told in (
            ((50, None), "50 evaluations take up to"),
            ((None, 120.0), "about 30 designs in"),
            ((None, None), "limit the run"),
        ):
            found = [line for line in self.lines(events, limits=limits, has_models=True) if "a design takes" in line]
            self.assertEqual(len(found), 1)
            self.assertIn("about 4 s (measured)", found[0])
            self.assertIn(told, found[0])
        self.assertFalse(any("a design takes" in line for line in self.lines(events, has_models=False)))

    def test_samples_fronts_and_looks_elsewhere_have_lines_of_their_own(self):
        sampled = [Sampled(evaluations=k, best=None if k < 2 else 7.25, seconds=30.0 * k) for k in (1, 2, 5)]
        told = self.lines(sampled, limits=(20, None), unit="m")
        self.assertEqual(told[0].split("  ")[0], "1 of 20 designs")
        self.assertIn("nothing feasible so far", told[0])
        self.assertIn("2 of 20 designs  best 7.25 m  about 9 min 0 s left", told[1])
        front = [Sampled(evaluations=3, best=None, seconds=1.0, front=k) for k in (1, 2)]
        self.assertIn("front 1 design", self.lines(front[:1])[0])
        self.assertIn("3 designs  front 2 designs", self.lines(front[1:])[0])
        now = iterated(4, None, front=FrontNow(12, 0.3456, 0.21))
        (line,) = self.lines([now])
        self.assertIn(
            "40 evaluations  front 12 designs, 34.6 % of the box dominated, widest gap 21 % of the range", line
        )
        (line,) = self.lines([iterated(4, None, front=FrontNow(1, float("nan"), float("nan")), is_replay=True)])
        self.assertTrue(line.startswith("replaying, 40 evaluations  front 1 design  iteration 4"), line)
        (line,) = self.lines([LookedOn(evaluations=80, best=3.5)], unit="EUR")
        self.assertEqual(line, "converged, looking elsewhere: 80 evaluations  best 3.5 EUR")

    def test_quick_runs_and_quiet_ones_show_nothing(self):
        self.assertEqual(self.shown(io.StringIO(), [iterated(i, 1.0) for i in range(50)], 0.01), "")
        stream = Screen()
        progress = Progress(Terminal(io.StringIO(), stream, quiet=True))
        progress(iterated(1, 1.0))
        progress.close()
        self.assertEqual(stream.getvalue(), "")


class Messages(unittest.TestCase):
    def test_four_moves(self):
        error = FormulaError(
            "unknown name",
            file="a.toml",
            line=3,
            where="derived.d",
            text="x +\n yy",
            span=(5, 7),
            advice="did you mean x?",
        )
        self.assertEqual(
            complaint(error), "a.toml:3: derived.d: unknown name\n        x +  yy\n             ^^\n    Did you mean x?"
        )
        self.assertEqual(complaint(ProblemError("wrong", file="a.toml")), "a.toml: wrong")
        self.assertEqual(complaint(MachineError("no space")), "ilvren: no space")

    def test_long_formulas_are_shown_around_the_fault(self):
        text = "a + " * 2000 + "oops" + " + b" * 2000
        lines = complaint(FormulaError("bad", text=text, span=(8000, 8004))).splitlines()
        self.assertLess(max(map(len, lines)), 130)
        start = lines[2].index("^")
        self.assertEqual(lines[1][start : start + 4], "oops")

    def test_nearest_names(self):
        for name, found in (("boer", "bore"), ("BORE", "bore"), ("wal", "wall"), ("qqqq", None)):
            self.assertEqual(nearest(name, ["bore", "wall", "duty"]), found)


class Tables(unittest.TestCase):
    def test_words_for_numbers(self):
        self.assertEqual(
            [limits_text(*pair) for pair in ((-INF, 2.5), (0.6, INF), (0.6, 2.5), (64.0, 64.0), (-INF, INF))],
            ["<= 2.5", ">= 0.6", "0.6 .. 2.5", "== 64", "none"],
        )
        self.assertEqual([small(v) for v in (0.0, 1.234e-7, None, INF)], ["0", "1.2e-07", "-", "inf"])
        self.assertEqual(
            [seconds_text(s) for s in (0.0123, 59.6, 61.0, 7300.0)], ["0.012 s", "60 s", "1 min 1 s", "2 h 1 min"]
        )
        self.assertEqual([count(n, "row") for n in (0, 1, 2)], ["0 rows", "1 row", "2 rows"])
        self.assertEqual(
            [margin_text(*pair) for pair in ((-1e-10, 8.0), (-3e-6, 8.0), (0.5, 1.0))], ["0", "-3e-6", "0.5"]
        )
        self.assertEqual(
            [change_percent(*pair) for pair in ((75.0, 100.0), (-50.0, -100.0), (1.0, 0.0), (None, 1.0))],
            ["-25 %", "+50 %", "", ""],
        )

    def test_empty_columns_are_left_out_and_lines_end_clean(self):
        out = io.StringIO()
        Terminal(out, out).show(table(("a", ">b", "note"), [("x", "1.5", ""), ("y", "10", "")]), "after")
        lines = out.getvalue().split("\n")
        self.assertNotIn("note", out.getvalue())
        self.assertEqual(lines[3:6], [" x   1.5", " y    10", ""])
        self.assertTrue(all(line == line.rstrip() for line in lines))

    def test_narrow_terminals_break_lines_but_cut_nothing(self):
        out = Screen()
        with mock.patch.dict("os.environ", {"COLUMNS": "30", "TERM": "xterm"}):
            row = ("a_long_name", "123456.789", "MPa", "0.25 .. 1.75", "words that may be broken into several lines")
            Terminal(out, out, color=False).show(table(("name", ">value", "unit", "limit", "note"), [row]))
        for cell in row[:4]:
            self.assertIn(cell, out.getvalue())

    def test_colours_only_where_they_belong(self):
        for stream, color, has_codes in (
            (Screen(), True, True),
            (Screen(), False, False),
            (io.StringIO(), True, False),
        ):
            with mock.patch.dict("os.environ", {"TERM": "xterm-256color"}):
                Terminal(stream, stream, color=color).show(table(("a",), [("missed: x",)]))
            self.assertEqual("\x1b[" in stream.getvalue() and "31m" in stream.getvalue(), has_codes)


class Widths(InAFolder):
    def test_no_line_is_wider_than_the_columns_that_are_there(self):
        long = "a very long title of a pump that lifts water to a terrace far above the river, and more of it"
        Path("pump.toml").write_text(PUMP.replace('"Pump"', f'"{long}"'))
        commands = "show pump.toml", "check pump.toml", "run pump.toml", "verify r1", "runs", "compare r1", "designs r1"
        for columns in (80, 60):
            with mock.patch.dict("os.environ", {"COLUMNS": str(columns)}):
                for words in (*commands, "methods", "diagnose r1", "--help"):
                    out = self.call(*words.split())[0]
                    wide = [line for line in out.splitlines() if len(line) > columns]
                    with self.subTest(words=words, columns=columns):
                        self.assertEqual([line for line in wide if not line.startswith("next: ")], [])
                        self.assertNotRegex(out, r"\d\n *\d\d\d\d\d")  # no number is broken

    def test_the_widest_text_gives_way_first_and_numbers_never(self):
        made = table(("name", ">value", "note"), [("a" * 12, "123456.789", "one two three four five six seven")] * 2)
        for width in (200, 50, 40, 30, 20):
            out = io.StringIO()
            with mock.patch.dict("os.environ", {"COLUMNS": str(width)}):
                Terminal(out, out).show(made)
            with self.subTest(width=width):
                self.assertIn("123456.789", out.getvalue())
                self.assertEqual(" ".join(out.getvalue().split()).count("seven"), 2)
                self.assertLessEqual(max(map(len, out.getvalue().splitlines())), max(width, 21))
