"""Ledgers that are damaged, deleted or no files at all: found, told, and what is whole is kept."""

import io
import os
import random
import re
import shutil
import sqlite3
import subprocess
import sys
import threading
import unittest
from pathlib import Path

from ilvren import loads, run
from ilvren.cli.main import main
from ilvren.cli.terminal import Terminal
from ilvren.errors import LedgerFileError
from ilvren.ledger import Ledger, damages
from tests.compact import WHOLE, some
from tests.test_cli import InAFolder

COMMANDS = (
    "runs", "runs --json", "verify r1", "compare r1 r2", "designs r2 --json", "export r2 --output e.csv", "resume r2",
    "diagnose r1", "show r1", "run pump.toml --method sqp", "compare g1", "report r1 --output r.md", "apply r1 --starts",
)  # fmt: skip


class Damage(InAFolder):
    def setUp(self):
        super().setUp()
        self.call("run", "pump.toml", "--method", "sqp", "--label", "first")
        self.call("run", "pump.toml", "--method", "nelder-mead", "--evaluations", "60", status=1)
        self.call(
            "contest", "pump.toml", "--method", "sqp", "--method", "interior-point", "--random-starts", "1", "--quiet"
        )
        shutil.copy("ilvren.ledger", "good.ledger")
        self.assertEqual(damages(Path("good.ledger")), [])

    def change(self, statement, *values):
        with sqlite3.connect("ilvren.ledger") as db:
            db.create_function("seal_of", -1, lambda *_: "")
            db.execute(statement, values)
        db.close()

    def test_no_change_to_an_ended_run_goes_unseen(self):
        changes = {
            "result": "UPDATE runs SET result = replace(result, '0.', '1.') WHERE number = 1",
            "settings": "UPDATE runs SET settings = json_set(settings, '$.tolerance', 1.0) WHERE number = 1",
            "problem": "UPDATE problems SET text = replace(text, '0.1', '0.2')",
            "no json": "UPDATE runs SET result = 'x' || result WHERE number = 1",
            "bytes": "UPDATE runs SET overrides = CAST(x'ff7b7d' AS TEXT) WHERE number = 1",
            "a list": "UPDATE runs SET overrides = '[]' WHERE number = 1",
        }
        for name, statement in changes.items():
            shutil.copy("good.ledger", "ilvren.ledger")
            self.change(statement)
            for words in (
                ["verify", "r1"],
                ["compare", "r1", "r2"],
                ["resume", "r1"],
                ["report", "r1", "--output", "r.md"],
            ):
                with self.subTest(change=name, words=words):
                    _, err = self.call(*words, status=2)
                    self.assertRegex(err, r"ilvren\.ledger: is damaged")
                    self.assertIn("--recover", err)
            out, err = self.call("runs")  # what can be read is read
            if name != "problem":
                self.assertIn("r1 is damaged", err)
                self.assertIn("nelder-mead", out)

    def test_what_is_whole_is_recovered(self):
        self.change("UPDATE runs SET result = '{}' WHERE number = 2")
        out, _ = self.call("runs", "--recover", "new.ledger", status=1)
        self.assertIn("r2: what it says is not what was written", out)
        with Ledger("new.ledger") as new, Ledger("good.ledger") as old:
            kept = [number for number in range(1, len(old.runs()) + 1) if number != 2]
            self.assertEqual([record.number for record in new.runs()], kept)
            for number in kept:
                self.assertEqual(new.run(f"r{number}"), old.run(f"r{number}"))
                self.assertEqual(new.evaluations(number), old.evaluations(number))
                self.assertEqual(new.iterations(number), old.iterations(number))
            self.assertEqual(new.group("g1"), old.group("g1"))
        self.call("verify", "first", "--ledger", "new.ledger")
        self.call("run", "pump.toml", "--method", "sqp", "--ledger", "new.ledger")
        self.call("runs", "--recover", "new.ledger", status=2)  # never over something that is there
        self.call("runs", "--recover", "same.ledger", "--ledger", "good.ledger")

    def test_any_damage_ends_in_words_and_is_recovered_from(self):
        chance, data = random.Random(11), Path("good.ledger").read_bytes()
        for trial in range(40 if WHOLE else 7):
            bad = bytearray(data)
            kind, at = chance.choice(("bits", "zeros", "cut", "noise")), chance.randrange(100, len(data))
            if kind == "bits":
                for _ in range(40):
                    bad[chance.randrange(100, len(bad))] ^= 1 << chance.randrange(8)
            elif kind == "cut":
                del bad[at:]
            else:
                bad[at : at + 3000] = bytes(
                    chance.randrange(256) if kind == "noise" else 0 for _ in bad[at : at + 3000]
                )
            for path in Path().glob("bad.ledger*"):
                path.unlink()
            Path("bad.ledger").write_bytes(bytes(bad))
            for command in (*chance.sample(COMMANDS, 3), f"runs --recover new{trial}.ledger"):
                out, err = io.StringIO(), io.StringIO()
                with self.subTest(trial=trial, kind=kind, command=command):
                    status = main([*command.split(), "--ledger", "bad.ledger"], Terminal(out, err, quiet=True))
                    self.assertIn(status, (0, 1, 2, 4), err.getvalue())

    def test_what_is_no_file_is_refused_at_once(self):
        os.mkfifo("pipe.ledger")
        for words in (["runs"], ["run", "pump.toml"], ["resume", "r1"]):
            for path in ("pipe.ledger", "/dev/zero"):
                _, err = self.call(*words, "--ledger", path, status=2)
                self.assertIn("a pipe or a device", err)


class Full(InAFolder):
    def test_a_new_ledger_is_whole_or_none_where_files_cannot_grow(self):
        code = (
            "import resource, signal, sys; signal.signal(signal.SIGXFSZ, signal.SIG_IGN);"
            "resource.setrlimit(resource.RLIMIT_FSIZE, (int(sys.argv[1]), resource.RLIM_INFINITY));"
            "from ilvren.__main__ import main; sys.argv = ['ilvren', 'run', 'pump.toml', '--method', 'sqp']; sys.exit(main())"
        )
        ends = set()
        for most in some((0, 5_000, 40_000, 90_000, 110_000, 10_000_000), 5):
            for own in Path().glob("*ilvren.ledger*"):
                own.unlink()
            done = subprocess.run([sys.executable, "-c", code, str(most)], capture_output=True, text=True, check=False)
            with self.subTest(most=most):
                self.assertNotIn("Traceback", done.stderr)
                ends.add(done.returncode)
                if done.returncode:
                    self.assertEqual(done.returncode, 4)
                    self.assertIn("ilvren.ledger", done.stderr)
                if Path("ilvren.ledger").exists():
                    with Ledger("ilvren.ledger", read_only=True) as ledger:
                        self.assertLessEqual(len(ledger.runs()), 1)
        self.assertEqual(ends, {0, 4})


class Deleted(InAFolder):
    def test_a_ledger_that_goes_away_during_a_run_is_written_anew(self):
        for replaced in (False, True):
            path = Path(f"own{replaced}.ledger")
            with Ledger(path) as ledger:
                run(loads(Path("pump.toml").read_text()), method="sqp", ledger=ledger)

                done = threading.Event()

                def going(event, path=path, replaced=replaced, done=done):
                    if type(event).__name__ == "Iterated" and not done.is_set():
                        done.set()
                        for own in Path().glob(f"{path}*"):
                            own.unlink()
                        if replaced:
                            path.write_text("something else")

                result = run(loads(Path("pump.toml").read_text()), method="sqp", ledger=ledger, listener=going)
            told = re.search(r"all of it is in (\S+) now", " ".join(result.notes))
            assert told is not None
            self.assertEqual(told[1] == str(path), not replaced)
            with Ledger(told[1], read_only=True) as kept:
                self.assertEqual([record.state for record in kept.runs()], ["ended", "ended"])
            if replaced:
                self.assertEqual(path.read_text(), "something else")
                self.assertRaises(LedgerFileError, Ledger, path)

    def test_runs_on_a_new_ledger_of_the_same_name_are_apart_from_the_one_that_goes_on(self):
        """Beside a deleted ledger lie files that a run still writes: a new ledger must not take them for its own."""
        began = []

        def going(event):
            if type(event).__name__ == "Iterated" and not began:
                began.append(event)
                Path("one.ledger").unlink()
                self.assertTrue(Path("one.ledger-wal").exists())
                for _ in range(3):
                    self.call("run", "pump.toml", "--method", "nelder-mead", "--ledger", "one.ledger", "--quiet")

        with Ledger("one.ledger") as ledger:
            old = run(loads(Path("pump.toml").read_text()), method="sqp", ledger=ledger, listener=going)
        self.call("run", "pump.toml", "--method", "nelder-mead", "--ledger", "one.ledger", "--quiet")
        for name, methods in (("one.ledger", ["nelder-mead"] * 4), ("one-rescued.ledger", ["sqp"])):
            with Ledger(name, read_only=True) as kept:
                self.assertEqual([record.method for record in kept.runs()], methods)
                self.assertEqual({record.state for record in kept.runs()}, {"ended"})
        self.assertIn("one-rescued.ledger", " ".join(old.notes))


if __name__ == "__main__":
    unittest.main()
