"""Programs as models, run for real: what they are given and leave, how they fail, and what stays behind."""

import dataclasses
import json
import os
import signal
import subprocess
import sys
import time
import unittest
from pathlib import Path
from unittest import mock

import numpy as np

from ilvren import load, run
from ilvren.evaluate import Gate, Job, Recipe
from ilvren.evaluate.workers import ProcessPool
from ilvren.ledger import Ledger
from ilvren.models import Calls, ModelFailure, Question
from ilvren.models.program import Reading, read_values
from ilvren.models.program.shown import cells
from ilvren.models.slopes import choose_steps, jacobian
from ilvren.runs.stored import problem_of
from ilvren.runs.trust import refusal_of
from tests.compact import WHOLE, only_in_whole, some
from tests.kinds_of_problems import written
from tests.test_cli import InAFolder

# A tube: reads a deck, writes a listing with few digits; fails, hangs or stammers where it is told to.
TUBE = r"""#!/bin/sh
echo "$PPID" > /dev/null
echo x >> "$COUNT"
awk '
/WIDTH/  { w = $3 }
/DEPTH/  { d = $3; sub("D", "E", d); d += 0 }
END {
  if (w > 8)   { print "no convergence"; exit 3 }
  if (w > 7)   { print "LISTING\n MASS ****"; exit 0 }
  if (w > 6.5) { print "LISTING"; exit 0 }
  if (w > 6)   { print "DIVERGED\n MASS 1.0\n SAG 1.0"; exit 0 }
  if (w > 5.5) { system("sleep 60 & sleep 60"); exit 0 }
  printf "LISTING\n MASS   %.4f KG\n SAG    %.4f MM\n", w * d + 0.1 * w * w, 20 / (w * d * d)
}' "$1" | tee listing.txt
test "$(tail -n 1 listing.txt)" = "no convergence" && exit 3
exit 0
"""
DECK = "* TUBE\nWIDTH  =   2.0000\nDEPTH  = 1.500000D+00   (of the tube)\nLAST CARD\n"
PROBLEM = """
[variables]
w = { start = 2.0, lower = 0.5, upper = 9, unit = "m" }
d = { start = 1.5, lower = 0.5, upper = 9, unit = "m" }
[models.tube]
command = ["./tube", "tube.dat"]
files = ["tube"]
timeout = 0.6
failed = { file = "listing.txt", pattern = "DIVERGED" }
environment = { COUNT = "COUNTER" }
[models.tube.write."tube.dat"]
base = "tube.dat"
put = { w = { after = "WIDTH" }, d = { line = 3, field = 3 } }
[models.tube.read]
mass = { file = "listing.txt", after = "MASS", unit = "kg" }
sag = { file = "stdout", pattern = 'SAG +(\\S+)', unit = "mm" }
[minimize]
m = { formula = "tube.mass", unit = "kg" }
[constraints]
stiff = { formula = "tube.sag <= 4", unit = "mm" }
"""


class WithTube(InAFolder):
    def setUp(self):
        super().setUp()
        Path("tube").write_text(TUBE)
        Path("tube").chmod(0o755)
        Path("tube.dat").write_text(DECK)
        self.write()

    def write(self, *changes):
        text = PROBLEM.replace("COUNTER", str(self.folder / "count"))
        for old, new in changes:
            assert old in text, old
            text = text.replace(old, new)
        Path("tube.toml").write_text(text)

    def count(self):
        return Path("count").read_text().count("x") if Path("count").exists() else 0

    def source(self):
        return load("tube.toml").sources[0]

    def asked(self, w, d=1.5):
        return self.source().asked(Question("values", (np.array(w), np.array(d))))


class Calling(WithTube):
    def test_values_and_what_a_call_is_given(self):
        found = self.asked(2.00004, 1.5)
        self.assertEqual([float(value) for value in found.answer], [3.4, 4.4444])
        self.assertEqual(Path("tube.dat").read_text(), DECK)
        self.assertEqual(sorted(path.name for path in Path().iterdir() if path.is_dir()), [])

    def test_every_failure_is_an_outcome_with_its_reason_and_its_folder(self):
        for w, status, told in (
            (8.5, "failed", "ended with status 3; its last words: no convergence"),
            (7.5, "unread", 'no number follows "MASS" in line 2, but ****'),
            (6.7, "unread", '"MASS" is not there'),
            (6.2, "failed", "listing.txt:1 says that it failed: DIVERGED"),
            (5.7, "slow", "took longer than its timeout of 0.6 s"),
            (float("nan"), "failed", "which no deck takes"),
        ):
            with self.subTest(w=w):
                found = self.asked(w)
                self.assertEqual(found.status, status, found.trouble)
                self.assertIn(told, found.trouble)
                self.assertIn(f"w = {w:.6g}", found.trouble)
                if found.folder:
                    self.assertIn(found.folder, found.trouble)
                    self.assertIn("outcome", (Path(found.folder) / "call.log").read_text())
        self.assertEqual(len(list(Path("tube.calls/tube").iterdir())), 5)

    def test_whatever_fails_in_a_call_is_tried_again_and_a_folder_that_is_not_kept_is_said(self):
        self.write(("timeout = 0.6", "timeout = 0.6\nretries = 1"))
        for w, status in ((8.5, "failed"), (7.5, "unread"), (5.7, "slow")):
            with self.subTest(w=w):
                before = self.count()
                calls = Calls(self.source())
                calls.made = []
                calls.refuses_unread = False
                with self.assertRaisesRegex(ModelFailure, ", twice; folder: /"):
                    calls.values([np.array(w), np.array(1.5)])
                self.assertEqual(self.count() - before, 2)
                self.assertEqual(calls.made[0][1].status, status)
                self.assertTrue(Path(calls.made[0][1].folder).is_dir())
        with mock.patch("ilvren.models.program.source.MOST_FOLDERS", 6):
            self.assertIn("folder not kept: 6 are in", self.asked(8.5).trouble)

    def test_a_value_read_from_a_file_that_was_only_copied_is_none(self):
        Path("listing.txt").write_text("MASS 99\n")
        Path("lazy").write_text("#!/bin/sh\necho SAG 1\n")
        Path("lazy").chmod(0o755)
        self.write(('"./tube"', '"./lazy"'), ('files = ["tube"]', 'files = ["lazy", "listing.txt"]'))
        found = self.asked(2.0)
        self.assertEqual(found.status, "unread")
        self.assertIn("listing.txt is as it was before the call", found.trouble)

    def test_no_shell_sees_a_path_an_argument_or_a_value(self):
        Path("echo args").write_text(
            '#!/bin/sh\nprintf "MASS 1\\nSAG 2\\n" > listing.txt; echo SAG 2; printf "%s|" "$@"; echo\n'
        )
        Path("echo args").chmod(0o755)
        self.write(
            ('["./tube", "tube.dat"]', '["./echo args", "; touch /tmp/never $(id)", "{w}", "{d:.2f}", "{{w}}"]'),
            ('files = ["tube"]', 'files = ["echo args"]\nkeep = "all"'),
        )
        found = self.asked(0.1, 1.23456)
        self.assertEqual(found.status, "done", found.trouble)
        told = (Path(found.folder) / "call.stdout").read_text()
        self.assertEqual(told.split("\n")[1], "; touch /tmp/never $(id)|0.1|1.23|{w}|")
        self.assertFalse(Path("/tmp/never").exists())

    def test_a_link_leads_to_a_copy_that_may_be_spoilt(self):
        Path("big.bin").write_text("precious")
        Path("vandal").write_text(
            "#!/bin/sh\ncat big.bin\necho gone > big.bin\nprintf 'MASS 1\\n' > listing.txt\necho SAG 2\n"
        )
        Path("vandal").chmod(0o755)
        self.write(('"./tube"', '"./vandal"'), ('files = ["tube"]', 'files = ["vandal"]\nlink = ["big.bin"]'))
        self.assertEqual(self.asked(2.0).status, "done")
        self.assertEqual(Path("big.bin").read_text(), "precious")

    def test_many_calls_leave_nothing_behind(self):
        script = (
            "import sys, os, numpy as np, ilvren\n"
            "from ilvren.models import Question\n"
            "from ilvren.models.program.wardens import warden\n"
            "source = ilvren.load('tube.toml').sources[0]\n"
            "ask = lambda w: source.asked(Question('values', (np.array(w), np.array(1.5)))).status\n"
            "ask(2.0); handles = len(os.listdir('/proc/self/fd'))\n"
            "assert [ask(2 + k / 50) for k in range(150)] == ['done'] * 150\n"
            "assert len(os.listdir('/proc/self/fd')) == handles\n"
            "assert os.listdir(warden().root) == [], os.listdir(warden().root)\n"
            "print(warden().root)\n"
        )
        done = subprocess.run([sys.executable, "-c", script], capture_output=True, text=True, check=True)
        self.assertFalse(Path(done.stdout.strip()).exists())

    @only_in_whole
    def test_places_for_calls_are_shared_by_processes(self):
        Path("tube").write_text(TUBE.replace("awk '", 'echo $(date +%s%N) >> "$COUNT.t"\nsleep 0.2\nawk \'', 1))
        self.write(("timeout = 0.6", "parallel = 1"))
        with ProcessPool(Recipe.of(load("tube.toml"), is_sparse=False), 2) as pool:
            jobs = [Job(point=np.array([w, 1.5])) for w in (2.0, 2.5, 3.0, 3.5)]
            answers = list(pool.answers(jobs))
        self.assertEqual(len(answers), 4)
        times = sorted(int(line) for line in Path("count.t").read_text().split())
        self.assertGreater(min(np.diff(times)), 0.19e9)


class Differences(WithTube):
    def test_cells_are_what_a_format_cannot_tell_apart(self):
        def key(inputs):
            return f"{float(inputs[0]):.3f} {inputs[1][1]:.6g} {inputs[1][0]!r}".encode()

        found = cells(key, [np.array(1.23449), np.array([0.1, 123456.7, 5.0])], [0, 1, 2, 3])
        np.testing.assert_allclose(found[:, 1], [1e-3, 0.0, 1.0, np.inf], rtol=2e-3)
        np.testing.assert_allclose(found[:3, 0], [1.234, 0.1, 123457.0], rtol=1e-6)

    def test_steps_are_a_thousand_of_a_decks_last_places_and_slopes_are_true(self):
        problem = load("tube.toml")
        calls = Calls(problem.sources[0])
        inputs = [np.array(2.00003), np.array(1.5)]
        outputs = calls.values(inputs)
        steps = choose_steps(calls, inputs, outputs)
        lengths = steps.lengths(np.array([2.00003, 1.5]))
        self.assertTrue((lengths >= 1000 * np.array([1e-4, 1e-6]) * 0.999).all(), lengths)
        found = jacobian(calls, inputs, outputs)
        exact = [[1.5 + 0.2 * 2.0, 2.0], [-20 / (4 * 1.5**2), -40 / (2 * 1.5**3)]]
        np.testing.assert_allclose(found, exact, rtol=5e-3)

    def test_an_input_that_no_deck_shows_is_never_moved(self):
        self.write(
            ('["./tube", "tube.dat"]', '["./tube", "tube.dat", "{kind}"]'),
            ("[models.tube]", "[parameters]\nkind = 3\n[models.tube]"),
        )
        problem = load("tube.toml")
        self.assertEqual(problem.sources[0].still, {"kind"})
        gate = Gate(problem)
        gate.evaluate(np.array([2.0, 1.5]), derivatives=True)
        self.assertLessEqual(self.count(), 8 + 2 + 2 * 4)

    def test_slopes_that_are_read_are_derivatives_without_further_calls(self):
        text = TUBE.replace('exit 0\n"""', "").replace(
            "awk '", "echo 'BY WIDTH 1.9 -2.2222 BY DEPTH 2 -5.9259' > slopes.txt\nawk '", 1
        )
        Path("tube").write_text(text)
        read = '{{ file = "slopes.txt", after = "BY {}", field = {} }}'
        self.write(
            (
                "[minimize]",
                "[models.tube.slopes]\n"
                + "".join(
                    f"{out} = {{ w = {read.format('WIDTH', k)}, d = {read.format('DEPTH', k)} }}\n"
                    for k, out in ((1, "mass"), (2, "sag"))
                )
                + "[minimize]",
            )
        )
        problem = load("tube.toml")
        found = Gate(problem).evaluate(np.array([2.0, 1.5]), derivatives=True)
        np.testing.assert_array_equal(found.gradient, [1.9, 2.0])
        np.testing.assert_array_equal(found.jacobian, [[-2.2222, -5.9259]])
        self.assertEqual(self.count(), 1)
        self.assertNotIn("slopes ", self.call("check", "tube.toml")[0].replace("slopes of", ""))
        Path("tube").write_text(text.replace("1.9 ", "2.9 "))
        self.assertIn("is read as 2.9", self.call("check", "tube.toml", status=1)[0])


class Running(WithTube):
    def test_the_default_goes_around_failures_and_what_it_found_is_shared(self):
        out, err = self.call("run", "tube.toml", "--json")
        found = json.loads(out)
        self.assertEqual(found["outcome"], "settled", err)
        w, d = found["variables"]["w"], found["variables"]["d"]
        self.assertLess(found["objectives"]["m"], 3.1)
        calls = self.count()
        again = json.loads(self.call("run", "tube.toml", "--json")[0])
        self.assertEqual(again["variables"], found["variables"])
        self.assertEqual(self.count(), calls)
        self.assertEqual(again["counts"]["evaluations"], found["counts"]["evaluations"])
        del w, d

    def test_failed_designs_are_listed_with_their_reasons(self):
        self.call("run", "tube.toml", "--start", "w=8.5", "--method", "mesh-adaptive-search", "--evaluations", "12",
                  "--quiet", status=1)  # fmt: skip
        designs = json.loads(self.call("designs", "r1", "--json")[0])["designs"]
        start = next(item for item in designs if item["design"] == "r1:1")
        self.assertIn("ended with status 3", start["trouble"])
        self.assertIn("tube.calls", start["trouble"])

    def test_diagnose_says_where_designs_fail_and_calls_nothing_to_say_it(self):
        self.call("run", "tube.toml", "--method", "differential-evolution", "--evaluations", "90", "--quiet", status=1)
        calls = self.count()
        out, _ = self.call("diagnose", "r1", status=1)
        self.assertRegex(out, r"lie where w >= [56]\.\d+ \(no design there has values\): the upper bound [456]")
        self.assertEqual(self.count(), calls)

    @only_in_whole
    def test_workers_change_nothing_and_resuming_calls_nothing_twice(self):
        problem = load("tube.toml")
        with Ledger("a.ledger") as ledger:
            whole = run(problem, ledger=ledger, evaluations=25, fresh=True)
            calls = self.count()
            shared = run(problem, ledger=ledger, evaluations=25, workers=2, fresh=True)
            self.assertEqual(shared.point, whole.point)
            self.assertEqual(self.count(), 2 * calls)
        self.call("run", "tube.toml", "--evaluations", "12", "--quiet", "--ledger", "b.ledger", status=1)
        before = self.count()
        self.call("resume", "r1", "--evaluations", "25", "--quiet", "--ledger", "b.ledger", status=1)
        with Ledger("b.ledger") as ledger:
            self.assertEqual(tuple(np.ravel(list(ledger.run("r1").result["variables"].values()))), whole.point)
        self.assertLess(self.count() - before, calls)

    def test_a_killed_run_leaves_no_process_and_no_folder(self):
        Path("tube").write_text('#!/bin/sh\necho $$ > pid.txt\npwd > "$COUNT.where"\nsleep 300 & sleep 300\n')
        self.write(("timeout = 0.6", "timeout = 100"))
        for way in some((signal.SIGKILL, signal.SIGTERM)):
            where = Path("count.where")
            where.unlink(missing_ok=True)
            words = [sys.executable, "-m", "ilvren", "run", "tube.toml", "--quiet"]
            process = subprocess.Popen(words, stdout=subprocess.DEVNULL, stderr=subprocess.DEVNULL)
            for _ in range(300):
                if where.exists() and where.read_text().strip():
                    break
                time.sleep(0.05)
            folder = Path(where.read_text().strip())
            os.kill(process.pid, way)
            process.wait(20)
            for _ in range(100):
                if not folder.parent.exists() and not _running_in(folder):
                    break
                time.sleep(0.05)
            self.assertEqual(_running_in(folder), [], way)
            self.assertFalse(folder.parent.exists(), way)


def _running_in(folder):
    found = []
    for name in os.listdir("/proc"):
        if name.isdigit():
            try:
                if os.readlink(f"/proc/{name}/cwd").split(" ")[0] == str(folder):
                    found.append(int(name))
            except OSError:
                continue
    return found


class Elsewhere(WithTube):
    def test_a_machine_without_the_files_gets_them_and_leaves_none(self):
        problem = load("tube.toml")
        recipe = Recipe.of(problem, is_sparse=False, ships=True)
        own = self.folder / "tmp"
        own.mkdir()
        with mock.patch.dict(os.environ, TMPDIR=str(own)), ProcessPool(recipe, 1) as pool:
            Path("tube").rename("gone")  # as on another machine
            answers = dict(pool.answers([Job(point=np.array([2.0, 1.5]))]))
        self.assertEqual(answers[0].evaluation.objective, 3.4)
        for _ in range(100):
            if not list(own.iterdir()):
                break
            time.sleep(0.05)
        self.assertEqual(list(own.iterdir()), [])


class Trusting(WithTube):
    def test_models_of_somebody_elses_run_are_not_run_unless_trusted(self):
        self.call("run", "tube.toml", "--quiet", "--evaluations", "15", status=1)
        self.call("show", "r1")  # one's own
        calls, other = self.count(), self.folder / "other"
        with mock.patch.dict(os.environ, XDG_CONFIG_HOME=str(other)):
            for words in (("verify", "r1"), ("apply", "r1"), ("resume", "r1", "--evaluations", "30"), ("show", "r1")):
                err = self.call(*words, status=2)[1]
                self.assertIn("was not recorded by you, and this would run ./tube tube.dat", err)
            self.call("designs", "r1")
            self.call("compare", "r1")
            self.assertEqual(self.count(), calls)
            self.call("resume", "r1", "--evaluations", "16", "--quiet", "--trust", status=1)
            self.call("show", "r1", "--trust")
        with Ledger("ilvren.ledger") as ledger:
            record = ledger.run("r1")
            self.assertEqual(refusal_of(record, problem_of(record)), "")
            changed = dataclasses.replace(record, problem_text=record.problem_text.replace("9", "8"))
            self.assertIn("not recorded by you", refusal_of(changed, problem_of(record)))


class Locating(WithTube):
    LISTING = """\
 TUBE LISTING 12.5
 STATION   SAG MM
   1        0.50
   2        0.75
 WALL  = 12.5     DEPTH OF BED  -1.250D-02 M
 MASS OF TUBE 1 IS  99.12KG  OF 150.0
 1450.0   3.75
12.34567890.12
"""

    def test_every_entry_finds_its_number_again(self):
        Path("list.txt").write_text(self.LISTING)
        for number, line, facts in (
            ("12.5", 1, {"after": "TUBE LISTING"}),
            ("12.5", 5, {"after": "WALL"}),
            ("-0.0125", 5, {"after": "DEPTH OF BED"}),
            ("0.75", 4, {"line": 4, "field": 2}),
            ("99.1", 6, {"after": "MASS OF TUBE", "field": 2}),
            ("3.75", 7, {"line": 7, "field": 2}),
            ("150", 6, {"after": "KG OF"}),
        ):
            with self.subTest(number=number, line=line):
                places = json.loads(self.call("locate", "list.txt", number, "--json")[0])["numbers"][0]["places"]
                place = next(item for item in places if item["line"] == line)
                self.assertEqual(place["read"], {"file": "list.txt", **facts})
                reading = Reading(name="x", **place["read"])
                found = read_values([reading], Path(), {})["x"]
                self.assertEqual(found.line, line)
                self.assertAlmostEqual(float(found.value), float(number), delta=0.051)
        out, _ = self.call("locate", "list.txt", "7", status=1)
        self.assertIn("7 stands nowhere in list.txt; nearest there: 3.75", out)

    def test_a_block_written_from_deck_and_listing_runs(self):
        subprocess.run(
            ["./tube", "tube.dat"], env={**os.environ, "COUNT": "/dev/null"}, stdout=subprocess.DEVNULL, check=True
        )
        out, _ = self.call("locate", "--deck", "tube.dat", "--listing", "listing.txt", "--model", "tube",
                           "w=2.0", "d=1.5", "mass=3.4", "sag=4.444")  # fmt: skip
        head, rest = PROBLEM.split("[models.tube]")
        environment = 'environment = { COUNT = "/dev/null" }\n'
        block = out.replace("\n\n[models.tube.write", "\n" + environment + "\n[models.tube.write", 1)
        Path("tube.toml").write_text(head + block + "[minimize]" + rest.split("[minimize]")[1])
        self.call("check", "tube.toml", "--only", "programs", "--expect", "mass=3.4", "--expect", "sag=4.444")


class Applying(WithTube):
    def test_decks_and_starts_get_the_design_and_keep_the_rest(self):
        self.call("run", "tube.toml", "--quiet", "--evaluations", "20", status=1)
        deck, problem = Path("tube.dat").read_text(), Path("tube.toml").read_text()
        calls = self.count()
        self.call("apply", "r1", "--dry-run", "--starts")
        self.assertEqual((Path("tube.dat").read_text(), Path("tube.toml").read_text()), (deck, problem))
        self.assertEqual(self.count(), calls)
        found = json.loads(self.call("apply", "r1", "--starts", "--json")[0])
        self.assertEqual(set(found["deviation"].values()), {0.0})
        self.assertEqual(Path("tube.dat.1").read_text(), deck)
        self.assertEqual(Path("tube.toml.1").read_text(), problem)
        lines = list(zip(deck.splitlines(), Path("tube.dat").read_text().splitlines(), strict=True))
        self.assertEqual([place for place, (old, new) in enumerate(lines) if old != new], [1, 2])
        self.assertTrue(lines[2][1].endswith("(of the tube)") and "D+0" in lines[2][1], lines[2])
        with Ledger("ilvren.ledger") as ledger:
            variables = ledger.run("r1").result["variables"]
        self.assertEqual(load("tube.toml").baseline, tuple(variables.values()))
        self.assertIn("w,2.0,", Path("tube.dat.changes.csv").read_text())
        self.call("resume", "r1", "--evaluations", "22", "--quiet", status=1)  # the decks of r1 are stored with it
        self.call("apply", "r1:1", "--into", "chosen/first")
        self.assertEqual(Path("chosen/first/tube.dat").read_text(), deck)
        self.assertTrue(os.access("chosen/first/tube", os.X_OK))


LIFE = """
[parameters]
least = 3
[derived]
wear = { formula = "fatigue.life / 2", unit = "h" }
[models.fatigue]
command = ["./fatigue", "{m:.3f}"]
files = ["fatigue"]
[models.fatigue.read]
life = { file = "stdout", after = "LIFE", unit = "h" }
[confirm]
lasts = { formula = "fatigue.life >= least", unit = "h", about = "until the first crack" }
half = { formula = "wear", unit = "h" }
"""


class Confirming(WithTube):
    def setUp(self):
        super().setUp()
        Path("fatigue").write_text("#!/bin/sh\necho x >> life_count\necho x >> " + str(self.folder / "lives")
                                   + "\ntest $1 = 0.000 && exit 1\nawk \"BEGIN { print \\\"LIFE\\\", 2 * $1 }\"\n")  # fmt: skip
        Path("fatigue").chmod(0o755)
        Path("tube.toml").write_text(Path("tube.toml").read_text() + LIFE)

    def lives(self):
        return Path("lives").read_text().count("x") if Path("lives").exists() else 0

    def test_the_chosen_design_alone_is_confirmed_once_by_each_that_needs_it(self):
        self.call("show", "tube.toml")
        self.call("check", "tube.toml", "--only", "programs")
        self.assertEqual(self.lives(), 0)
        found = json.loads(self.call("run", "tube.toml", "--json")[0])
        self.assertEqual(self.lives(), 1)
        self.assertEqual(found["confirmation"]["confirmed"], "confirmed")
        self.assertAlmostEqual(found["confirmation"]["values"]["half"], found["objectives"]["m"], places=3)
        self.assertNotIn("wear", found["derived"])
        if WHOLE:  # a probe of some 400 calls
            verdict = json.loads(self.call("verify", "r1", "--accept-probe", "--json")[0])
            self.assertEqual(verdict["checks"][-1]["name"], "confirmation")
        before = self.lives()
        self.call("apply", "r1")
        self.assertEqual(self.lives(), before + 1)

    def test_a_verdict_that_would_hold_is_broken_by_a_broken_confirmation(self):
        written("confirmed")
        Path("p.toml").write_text(Path("p.toml").read_text().replace("dig.area >= 1", "dig.area >= 2.5"))
        self.call("run", "p.toml", "--quiet", status=1)
        verdict = json.loads(self.call("verify", "r1", "--json", status=1)[0])
        self.assertEqual((verdict["verdict"], verdict["holds"]), ("confirmation-broken", False))
        self.assertIn("its limit is 2.5", verdict["reason"])

    def test_a_broken_confirmation_is_said_and_carried_into_the_next_run(self):
        found = json.loads(self.call("run", "tube.toml", "--set", "least=3.4", "--json", status=1)[0])
        self.assertEqual((found["outcome"], found["confirmation"]["confirmed"]), ("settled", "broken"))
        if WHOLE:
            verdict = json.loads(self.call("verify", "r1", "--accept-probe", "--json", status=1)[0])
            self.assertEqual((verdict["verdict"], verdict["holds"]), ("confirmation-broken", False))
            self.assertIn("its limit is 3.4", verdict["reason"])
        found = json.loads(
            self.call("run", "tube.toml", "--set", "least=3.4", "--from", "r1", "--add", "lasts", "--json")[0]
        )
        self.assertGreaterEqual(found["constraints"]["lasts"]["value"], 3.4 * (1 - 1e-6))
        self.assertGreater(self.lives(), 5)
        self.assertIn('did you mean "lasts"', self.call("run", "tube.toml", "--add", "last", status=2)[1].lower())

    def test_a_confirmation_that_fails_leaves_a_design_unverified(self):
        Path("fatigue").write_text("#!/bin/sh\necho broken pipe >&2; exit 1\n")
        found = json.loads(self.call("run", "tube.toml", "--json", "--evaluations", "60", status=None)[0])
        self.assertIn("broken pipe", found["confirmation"]["trouble"])
        if WHOLE:
            verdict = json.loads(self.call("verify", "r1", "--accept-probe", "--json", status=1)[0])
            self.assertEqual(verdict["verdict"], "unverified")


class Refusing(WithTube):
    def test_mistakes_are_refused_before_anything_runs(self):
        for old, new, told in (
            ('base = "tube.dat"', 'base = "tub.dat"', "is not there"),
            ('after = "WIDTH"', 'after = "WIDHT"', "Nearest lines: WIDTH  =   2.0000"),
            ("line = 3, field = 3", "line = 3, field = 3, which = 2", '"which" does not go with "line"'),
            ('put = { w = { after = "WIDTH" },', "put = {", '"w" is used by no formula and stands in no deck'),
            ("put = { w =", "put = { width =", '"width", which is the name of nothing in this file'),
            ("'SAG +(\\S+)'", "'SAG +\\S+'", "has 0 groups, one is needed"),
            ('write."tube.dat"', 'write."../tube.dat"', "outside the folder of a call"),
            ('["./tube", "tube.dat"]', '"./tube tube.dat"', "There is no shell"),
            ('["tube"]', '["tune"]', "needs a file that is not there"),
            ("timeout = 0.6", "timeuot = 0.6", 'Did you mean "timeout"?'),
            ('sag = { file = "stdout"', 'sag = { fiel = "stdout"', 'unknown key "fiel"'),
        ):
            with self.subTest(new=new):
                self.write((old, new))
                err = self.call("run", "tube.toml", status=2)[1]
                self.assertIn(told, err)
                self.assertRegex(err, r"tube.toml:\d+")
        self.assertEqual(self.count(), 0)

    def test_what_the_baseline_does_not_leave_and_programs_that_are_not_there(self):
        self.write(('after = "MASS"', 'after = "MAS OF TUBE"'))
        for command in ("check", "run"):
            err = self.call(command, "tube.toml", status=2)[1]
            self.assertIn('"MAS OF TUBE" is not there; nearest: MASS   3.4000 KG', err)
        self.write(('"./tube"', '"tubular"'))
        self.assertIn('"tubular" of model "tube" is neither among its files nor on the path',
                      self.call("run", "tube.toml", status=2)[1])  # fmt: skip
        self.assertFalse(self.call("runs")[0].count("tube.toml"))

    def test_check_shows_places_and_compares_what_is_expected(self):
        out, _ = self.call("check", "tube.toml", "--expect", "mass=3.40", "--expect", "tube.sag=4.44")
        self.assertIn("listing.txt:2", out)
        self.assertIn("MASS   ‹3.4000› KG", out)
        self.assertIn(
            "sag is 4.4444, 4.5 is expected", self.call("check", "tube.toml", "--expect", "sag=4.5", status=1)[0]
        )


if __name__ == "__main__":
    unittest.main()
