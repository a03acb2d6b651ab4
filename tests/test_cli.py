"""The commands as a user meets them: in process with their own streams, a few as the real program."""

import contextlib
import io
import json
import os
import signal
import sqlite3
import subprocess
import sys
import tempfile
import time
import unittest
from pathlib import Path

from ilvren.cli.commands import COMMANDS
from ilvren.cli.main import main
from ilvren.cli.tables.table import number
from ilvren.cli.terminal import Terminal
from tests.compact import only_in_whole, some

PUMP = """title = "Pump"
[variables]
x = { start = 1.5, lower = 0, upper = 4, unit = "m" }
y = { start = 1.0, lower = 0, upper = 4, unit = "m" }
idle = 3.0
[parameters]
p = { value = 2.0, unit = "m" }
[derived]
area = { formula = "x * y", unit = "m^2" }
[maximize]
gain = { formula = "area - 0.1 * x^2", unit = "EUR" }
[constraints]
cap = { formula = "x + y <= p", unit = "m" }
"""
SLOW = "\n".join(
    ["[variables]"]
    + [f"x{i} = {{ start = {1 + i % 3}.5, lower = -5, upper = 5 }}" for i in range(8)]
    + ["[minimize]", 'f = "' + " + ".join(f"100*(x{i + 1} - x{i}^2)^2 + (1 - x{i})^2" for i in range(7)) + '"']
)


class InAFolder(unittest.TestCase):
    def setUp(self):
        folder = tempfile.TemporaryDirectory()
        self.addCleanup(folder.cleanup)
        before = Path.cwd()
        self.addCleanup(os.chdir, before)
        os.chdir(folder.name)
        self.folder = Path(folder.name)
        os.environ.pop("ILVREN_LEDGER", None)
        Path("pump.toml").write_text(PUMP)

    def call(self, *words, status=0):
        """Run a command in process and return (standard output, standard error); a `status` of None may be any."""
        out, err = io.StringIO(), io.StringIO()
        found = main([str(word) for word in words], Terminal(out, err))
        if status is not None:
            self.assertEqual(found, status, err.getvalue() + out.getvalue())
        return out.getvalue(), err.getvalue()


class Commands(InAFolder):
    def test_histories_go_into_pipes_and_sweeps_show_what_changes_most(self):
        self.call("run", "pump.toml", "--method", "sqp", "--quiet")
        out, err = self.call("export", "r1", "--output", "-")
        self.call("export", "r1", "--output", "history.csv")
        self.assertEqual(out, Path("history.csv").read_text())
        self.assertEqual(err, "")
        text = '[variables]\nx = { start = 1, shape = 6 }\n[parameters]\np = 1\n[minimize]\nf = "sum((x - p*cumsum(0*x + 1)^2)^2) + 9*(x[0]-1)^2"\n'
        Path("six.toml").write_text(text)
        out, _ = self.call("run", "six.toml", "--sweep", "p=[1,2]", "--output", "all.csv")
        self.assertIn("x[5]", out)
        self.assertRegex(out, r"left out, as they change less: x\[0\], x\[1\]")
        self.assertIn("x[0]", Path("all.csv").read_text().splitlines()[0])

    def test_show_says_what_is_asked_and_what_is_missed(self):
        out, err = self.call("show", "pump.toml")
        for word in ("Pump", "idle", "nothing depends on it", "area", "gain", "missed: upper limit"):
            self.assertIn(word, out)
        self.assertEqual(err, "")
        document = json.loads(self.call("show", "pump.toml", "--json", "--at", "x=1", "--set", "p=2")[0])
        self.assertEqual(document["derived"], {"area": 1.0})
        self.assertEqual(document["unused"], ["idle"])
        self.assertAlmostEqual(document["objectives"]["gain"], 0.9)

    def test_show_locates_invalid_values(self):
        Path("bad.toml").write_text('[variables]\nx = 0.0\n[derived]\nd = "2 + 1 / x"\n[minimize]\nf = "d * x"\n')
        out, _ = self.call("show", "bad.toml")
        self.assertIn('no finite value at "1 / x" in derived.d: division by zero (given 1, 0)', out)

    def test_run_json_has_every_promised_key(self):
        out, _ = self.call("run", "pump.toml", "--method", "sqp", "--json")
        document = json.loads(out)
        self.assertEqual(
            " ".join(sorted(document)),
            "bounds constraints counts derived design method objectives outcome problem reason run seconds seed settings"
            " stationarity variables violation",
        )
        self.assertEqual((document["run"], document["outcome"], document["design"]), ("r1", "converged", "final"))
        self.assertEqual(set(document["counts"]), {"iterations", "evaluations", "gradients", "hessians"})
        cap = document["constraints"]["cap"]
        self.assertEqual(set(cap), {"value", "lower", "upper", "margin", "violation", "price", "active"})
        self.assertIsNone(cap["lower"])
        self.assertTrue(cap["active"])
        self.assertGreater(cap["price"], 0.0)  # raising the cap raises what is maximized

    def test_tables_tell_what_to_do_and_have_no_escape_codes(self):
        out, _ = self.call("run", "pump.toml", "--method", "sqp")
        for word in (
            "converged",
            "baseline",
            "which misses a limit",
            "active: upper limit",
            "EUR/m",
            "next: ilvren verify r1",
        ):
            self.assertIn(word, out)
        self.assertIn("raising cap's upper limit by 0.02 m raises gain by", out)
        self.assertNotIn("\x1b", out)
        self.assertTrue(all(line == line.rstrip() for line in out.split("\n")))

    @only_in_whole
    def test_the_whole_way_by_hand(self):
        self.call("run", "pump.toml", "--method", "sqp", "--label", "smooth")
        self.call("run", "pump.toml", "--method", "nelder-mead", "--set", "p=3", "--start", "x=0.5")
        out, _ = self.call("runs")
        self.assertIn("2 runs in ilvren.ledger", out)
        out, err = self.call("compare", "smooth", "r2", "--output", "h.png")
        self.assertIn("parameters set", out)
        self.assertIn("h.png", err)
        self.assertIn("local-strict (holds)", self.call("verify", "smooth")[0])
        self.assertTrue(json.loads(self.call("verify", "last", "--json")[0])["holds"])
        self.call("export", "r1", "--output", "h.csv", "--every", "evaluation")
        for words in some((("--variables", "x,y", "--run", "r1", "r2"), ("--variables", "x"), ()), 3):
            self.call("draw", "pump.toml", *words, "--output", "d.svg")
            self.assertIn("cap", Path("d.svg").read_text())
        self.assertIn(
            "r2 ran with other parameters", self.call("draw", "pump.toml", "--run", "r2", "--output", "d.svg")[1]
        )
        with Path("h.png").open("rb") as file:
            head = file.read(24)
        self.assertEqual((int.from_bytes(head[16:20]), int.from_bytes(head[20:24])), (1280, 800))

    def test_many_rows_are_summarised_unless_all_are_asked_for(self):
        rows = "\n".join(f'c{i} = "x + y >= {i / 1000 - 1}"' for i in range(1200))
        Path("many.toml").write_text(
            f'[variables]\nx = 1.5\ny = 0.5\n[minimize]\nf = "x^2 + y^2"\n[constraints]\n{rows}\n'
        )
        words = ("run", "many.toml", "--method", "nelder-mead", "--evaluations", "50")
        out, _ = self.call(*words, status=1)
        self.assertIn("the worst 20 of 1200 rows; --full shows all", out)
        document = json.loads(self.call(*words, "--json", status=1)[0])
        self.assertEqual(document["constraints_summary"], {"rows": 1200, "shown": 20})
        self.assertEqual((len(document["constraints"]), "c1199" in document["constraints"]), (20, True))
        document = json.loads(self.call("resume", "last", "--json", "--full", "--evaluations", "60", status=1)[0])
        self.assertEqual(len(document["constraints"]), 1200)

    def test_labels_ids_and_environment_choose_the_run_and_the_ledger(self):
        os.environ["ILVREN_LEDGER"] = "other.ledger"
        self.addCleanup(os.environ.pop, "ILVREN_LEDGER", None)
        self.call("run", "pump.toml", "--method", "sqp", "--label", "one")
        self.call("run", "pump.toml", "--method", "sqp", "--ledger", "third.ledger")
        self.assertTrue(Path("other.ledger").exists() and Path("third.ledger").exists())
        self.assertFalse(Path("ilvren.ledger").exists())
        runs = json.loads(self.call("runs", "--json")[0])["runs"]
        self.assertEqual([(run["run"], run["label"], run["outcome"]) for run in runs], [("r1", "one", "converged")])
        out, _ = self.call("run", "pump.toml", "--method", "sqp", "--ledger", "third.ledger")
        self.assertIn("next: ilvren verify r2 --ledger third.ledger", out)  # it can be pasted as it is
        for path in Path().glob("*-wal"):
            self.fail(f"{path} was left behind")

    def test_statuses_follow_the_outcome(self):
        out, _ = self.call("run", "pump.toml", "--method", "nelder-mead", "--evaluations", "9", status=1)
        self.assertIn("next: ilvren resume r1", out)
        self.call("verify", "r1", status=1)
        self.call("resume", "r1", "--evaluations", "5000")
        self.call("resume", "r1", status=2)

    def test_a_changed_file_is_noticed_and_the_stored_one_used(self):
        self.call("run", "pump.toml", "--method", "sqp")
        Path("pump.toml").write_text(PUMP.replace("value = 2.0", "value = 3.0"))
        out, err = self.call("verify", "r1")
        self.assertIn("has changed since r1", err)
        self.assertIn("holds", out)

    def test_a_demo_is_never_put_over_something_and_the_starter_runs_as_it_is(self):
        Path("rising-main").mkdir()
        Path("rising-main", "mine.toml").write_text("")
        self.assertIn("exists already", self.call("demo", status=2)[1])
        self.assertEqual([path.name for path in Path("rising-main").iterdir()], ["mine.toml"])
        self.call("new", "tank.toml")
        self.call("new", "tank.toml", status=2)
        self.call("run", "tank.toml", "--method", "sqp", "--quiet")
        self.call("verify", "last")

    def test_wrong_requests_get_one_message_and_the_nearest_choice(self):
        self.call("run", "pump.toml", "--method", "sqp")
        for words, expected in (
            (("rum",), '"run"'),
            (("run", "pomp.toml", "--method", "sqp"), "pump.toml"),
            (("run", "pump.toml", "--method", "spq"), '"sqp"'),
            (("run", "pump.toml", "--method", "sqp", "--evalution", "3"), '"--evaluations"'),
            (("run", "pump.toml", "--method", "sqp", "--option", "halving=8"), '"halvings"'),
            (("run", "pump.toml", "--method", "sqp", "--start", "z=1"), "variables: x, y, idle"),
            (("run", "pump.toml", "--method", "sqp", "--set", "p"), "NAME=VALUE"),
            (("run", "pump.toml", "--option", "corrections=no"), "--option needs --method"),
            (("show", "pump.toml", "--at", "idel=1"), '"idle"'),
            (("verify", "r9"), "r1"),
            (("verify", "r" + "9" * 40), "holds no run"),
            (("verify", "r²"), "holds no run"),
            (("run", "pump.toml", "--method", "sqp", "--target", "inf"), "finite"),
            (("run", "pump.toml", "--method", "sqp", "--seconds", "inf"), "above 0"),
            (("compare", "r1", "--reference", "cost=1"), '"gain"'),
            (("export", "r1", "--output", "h.xls"), ".csv"),
            (("draw", "pump.toml", "--output", "nowhere/x.png"), "does not exist"),
            (("draw", "pump.toml", "--variables", "x,x", "--output", "x.png"), "given twice"),
            (("methods", "sqp2"), '"sqp"'),
            (("demo", "rising"), "rising-main"),
        ):
            with self.subTest(words=words):
                out, err = self.call(*words, status=2)
                self.assertEqual(out, "")
                self.assertIn(expected, err)
                self.assertNotIn("Traceback", err)

    def test_faults_in_formulas_are_underlined(self):
        Path("bad.toml").write_text(PUMP.replace("x * y", "x * yy + 1"))
        _, err = self.call("show", "bad.toml", status=2)
        lines = err.splitlines()
        self.assertEqual(lines[0], 'bad.toml:9: derived.area: unknown name "yy"')
        self.assertEqual(lines[1][lines[2].index("^") : lines[2].rindex("^") + 1], "yy")

    def test_vectors_are_lists_in_json_and_lines_in_tables(self):
        Path("chain.toml").write_text(
            '[parameters]\nn = 20\n[variables]\nu = { start = 0.5, lower = 0, upper = 1, shape = "n" }\nk = 1.0\n'
            '[minimize]\nf = "sum((u - 0.3)^2) + (k - u[0])^2"\n[constraints]\nrise = "diff(u) >= 0.01"\n'
        )
        document = json.loads(self.call("run", "chain.toml", "--method", "sqp", "--set", "n=13", "--json")[0])
        self.assertEqual(len(document["variables"]["u"]), 13)
        self.assertEqual(len(document["constraints"]["rise"]["price"]), 12)
        self.assertEqual(len(document["bounds"]["u"]["active"]), 13)
        self.assertIsInstance(document["bounds"]["k"]["value"], float)
        start = json.dumps([0.1] * 20)
        out, _ = self.call("run", "chain.toml", "--method", "sqp", "--start", f"u={start}")
        for word in ("u [20]", "rise [19]", "19 active"):
            self.assertIn(word, out)
        self.assertIn("rise[18]", self.call("run", "chain.toml", "--method", "sqp", "--full")[0])
        self.assertIn("holds", self.call("verify", "r2")[0])
        document = json.loads(self.call("show", "chain.toml", "--json", "--at", "u[3]=0.9", "--at", "k=2")[0])
        self.assertEqual((document["variables"]["u"][3], document["pattern"]["jacobian"]["nonzeros"]), (0.9, 38))
        self.call("show", "chain.toml", "--output", "pattern.png")
        self.assertTrue(Path("pattern.png").stat().st_size)
        err = self.call("run", "chain.toml", "--method", "sqp", "--start", "u=[1, 2]", status=2)[1]
        self.assertIn("length 2", err)
        err = self.call("run", "chain.toml", "--method", "sqp", "--set", "n=3000", status=2)[1]
        self.assertIn("dense matrices", err)

    def test_check_says_what_is_wrong_and_exits_by_it(self):
        self.assertIn("declared is EUR", self.call("check", "pump.toml", "--units", status=1)[0])
        out, _ = self.call("check", "pump.toml")
        for word in ("16 of 16 elements agree", "effect", "conflicts between limits: nothing found", "check: passed"):
            self.assertIn(word, out)
        Path("clash.toml").write_text(PUMP + 'more = "x * y >= 5"\n')
        out, _ = self.call("check", "clash.toml", status=1)
        self.assertIn("cap and more exclude each other", out)
        Path("units.toml").write_text(PUMP.replace('"x * y"', '"x * y + x"'))
        document = json.loads(self.call("check", "units.toml", "--units", "--only", "domain", "--json", status=1)[0])
        (finding,) = [item for item in document["findings"] if item["about"] == ["derived.area"]]
        self.assertEqual((finding["about"], finding["line"]), (["derived.area"], 9))
        self.assertIn("no check", self.call("check", "pump.toml", "--only", "magic", status=2)[1])

    def test_draw_lists_extremes_as_starts(self):
        Path("wave.toml").write_text(
            '[variables]\nx = { start = 1, lower = 0, upper = 9 }\n[minimize]\nf = "cos(x) + 0.01 * x"\n'
        )
        out, err = self.call("draw", "wave.toml", "--tangent", "--at", "x=2", "--output", "c.png")
        self.assertIn("--start x=3.13", out)
        self.assertIn("curve of f", err)
        document = json.loads(self.call("draw", "pump.toml", "--surface", "--output", "s.png", "--json")[0])
        self.assertEqual(document["kind"], "surface")
        self.call("draw", "pump.toml", "--slices", "--of", "area", "--output", "s.svg")
        self.assertIn("area", Path("s.svg").read_text())

    def test_every_command_has_help_with_two_examples(self):
        for name in COMMANDS:
            with self.subTest(command=name):
                out = io.StringIO()
                with contextlib.redirect_stdout(out):
                    self.assertEqual(main([name, "--help"], Terminal(out, out)), 0)
                self.assertGreaterEqual(out.getvalue().count(f"  ilvren {name}"), 2)

    def test_our_own_bugs_keep_their_traceback(self):
        import ilvren.problem

        original, ilvren.problem.load = ilvren.problem.load, None
        self.addCleanup(setattr, ilvren.problem, "load", original)
        _, err = self.call("show", "pump.toml", status=3)
        self.assertIn("Traceback", err)


class Numbers(unittest.TestCase):
    def test_sensible_digits(self):
        for value, text in {
            0.0: "0", 1.0: "1", 123456.789: "123457", 0.000123456: "0.000123456", 1e-7: "1e-7", -2.5e12: "-2.5e12",
            9999999.4: "9999999", 0.1 + 0.2: "0.3", float("nan"): "-", float("inf"): "inf",
        }.items():  # fmt: skip
            self.assertEqual(number(value), text)


class RealProgram(InAFolder):
    def program(self, *words, **options):
        command = [sys.executable, "-m", "ilvren", *words]
        return subprocess.run(command, capture_output=True, text=True, timeout=60, check=False, **options)

    def test_help_imports_no_numpy_and_a_closed_pipe_is_quiet(self):
        code = "import sys; sys.argv = ['ilvren', '--help']; from ilvren.__main__ import main; main(); sys.exit('numpy' in sys.modules)"
        self.assertEqual(subprocess.run([sys.executable, "-c", code], capture_output=True, check=False).returncode, 0)
        shell = f"{sys.executable} -m ilvren show pump.toml | head -1; exit ${{PIPESTATUS[0]}}"
        found = subprocess.run(["bash", "-c", shell], capture_output=True, text=True, timeout=60, check=False)
        self.assertEqual((found.stderr, found.returncode), ("", 0))

    def test_killed_terminated_and_interrupted_runs_resume_on_the_same_path(self):
        Path("slow.toml").write_text(SLOW)
        words = ("run", "slow.toml", "--method", "nelder-mead", "--evaluations", "1200", "--quiet")
        self.assertEqual(self.program(*words).returncode, 1)

        def path(run):
            with contextlib.closing(sqlite3.connect("ilvren.ledger")) as db:
                return db.execute(
                    "SELECT number, point, reply FROM evaluations WHERE run = ? ORDER BY number", (run,)
                ).fetchall()

        ends = some(((signal.SIGKILL, -9), (signal.SIGTERM, 143), (signal.SIGINT, 130)), 2, 1)
        for attempt, (kind, status) in enumerate(ends, start=2):
            with self.subTest(signal=kind):
                process = subprocess.Popen(
                    [sys.executable, "-m", "ilvren", *words],
                    stdout=subprocess.PIPE,
                    stderr=subprocess.PIPE,
                    # What runs in the background begins with the signal ignored.
                    preexec_fn=lambda: signal.signal(signal.SIGINT, signal.default_int_handler),
                )
                deadline = time.monotonic() + 30
                while time.monotonic() < deadline and not path(attempt):
                    time.sleep(0.01)
                process.send_signal(kind)
                _, err = process.communicate(timeout=30)
                self.assertEqual(process.returncode, status, err)
                reached = len(path(attempt))
                self.assertTrue(0 < reached < 1200)
                self.assertEqual(self.program("resume", "last", "--quiet").returncode, 1)
                self.assertEqual(path(attempt), path(1))

    def test_results_and_progress_keep_to_their_streams(self):
        found = self.program("run", "pump.toml", "--method", "sqp", "--json", "--quiet")
        self.assertEqual((found.returncode, found.stderr), (0, ""))
        json.loads(found.stdout)
