"""Whose code runs: that of a problem's own folder and of the one a user stands in, and of runs and groups of their own."""

import os
import shutil
import sqlite3
import unittest
from pathlib import Path

from ilvren.models import trusting
from ilvren.problem import load
from ilvren.runs import run
from tests.test_cli import InAFolder

MODEL = "from pathlib import Path\n\ndef f(x):\n    Path({0!r}).touch()\n    return {{'f': (x - 1) ** 2}}\n"
PROBLEM = """[variables]
x = {{ start = 2, lower = -1, upper = 3 }}
[parameters]
p = 1
[models.m]
python = "{0}:f"
outputs = ["f"]
[minimize]
g = "p * m.f"
"""
COMMANDS = (
    "show {0}", "check {0}", "run {0}", "run {0} --workers 2", "sample {0} --points 3", "sensitivity {0}",
    "draw {0} --output d.png", "contest {0} --method sqp --method newton", "run {0} --sweep p=[1,2]", "propose {0} --change g=-10%",
)  # fmt: skip


class WhoseCode(InAFolder):
    def setUp(self):
        super().setUp()
        self.mark = self.folder / "ran"
        for name in ("own", "else", "desk"):
            Path(name).mkdir()
        for name in ("own", "else"):
            (self.folder / name / "model.py").write_text(MODEL.format(str(self.mark)))
        Path("own/in.toml").write_text(PROBLEM.format("model.py"))
        Path("own/out.toml").write_text(PROBLEM.format("../else/model.py"))
        os.symlink(self.folder / "else" / "model.py", "own/link.py")
        Path("own/link.toml").write_text(PROBLEM.format("link.py"))
        os.chdir("desk")

    def has_run(self):
        found = self.mark.exists()
        self.mark.unlink(missing_ok=True)
        return found

    def test_code_outside_the_folder_of_a_problem_needs_a_word(self):
        for file in ("../own/out.toml", "../own/link.toml"):
            for command in COMMANDS:
                with self.subTest(command=command.format(file)):
                    _, err = self.call(*command.format(file).split(), status=2)
                    self.assertIn("else/model.py", err)
                    self.assertIn("--trust", err)
                    self.assertFalse(self.has_run())
        for command in (f"{COMMANDS[0]} --trust", f"{COMMANDS[2]} --trust", f"{COMMANDS[7]} --workers 2 --trust"):
            self.call(*command.format("../own/out.toml").split())
            self.assertTrue(self.has_run(), command)
        self.call("run", "../own/in.toml", "--ledger", "fresh.ledger")  # which knows no answer yet
        self.assertTrue(self.has_run())
        os.chdir("..")
        self.call("show", "own/out.toml")  # below where one stands
        self.assertTrue(self.has_run())

    def test_from_python_too(self):
        with self.assertRaises(Exception) as caught:
            run(load("../own/out.toml"))
        self.assertIn("lies outside", str(caught.exception))
        self.assertFalse(self.has_run())
        with trusting():
            self.assertTrue(run(load("../own/out.toml")).holds)

    def test_groups_of_strangers_are_not_gone_on_with(self):
        self.call("contest", "../own/in.toml", "--method", "sqp", "--method", "newton", "--quiet")
        self.assertTrue(self.has_run())
        kept = os.environ.get("XDG_CONFIG_HOME")
        self.addCleanup(
            lambda: os.environ.pop("XDG_CONFIG_HOME") if kept is None else os.environ.update(XDG_CONFIG_HOME=kept)
        )
        os.environ["XDG_CONFIG_HOME"] = str(self.folder / "stranger")
        shutil.copy("ilvren.ledger", "given.ledger")
        with sqlite3.connect("given.ledger") as db:  # as if it had been stopped before its last member
            db.execute("DELETE FROM group_runs WHERE place = 1")
        db.close()
        _, err = self.call("resume", "g1", "--ledger", "given.ledger", status=2)
        self.assertIn("g1 was not recorded by you", err)
        self.assertFalse(self.has_run())
        self.call("resume", "g1", "--ledger", "given.ledger", "--trust", "--quiet")


if __name__ == "__main__":
    unittest.main()
