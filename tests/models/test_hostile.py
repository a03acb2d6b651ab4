"""Models that raise, return and start what no model should: an invalid point with words, never more than that."""

import os
import subprocess
import sys
import time
import unittest
from pathlib import Path

from ilvren.ledger import Ledger
from tests.compact import pairs
from tests.test_cli import InAFolder

MODELS = """
import os, subprocess, sys

class Mute(Exception):
    def __str__(self):
        raise RuntimeError("no words")

class Key(str):
    __hash__ = str.__hash__
    def __eq__(self, other):
        raise Mute

class Lazy:
    def __float__(self):
        raise Mute

def vast(x): return {"f": 10**400}
def mute(x): raise Mute
def deep(x): return deep(x)
def odd_key(x): return {Key("f"): x}
def lazy(x): return {"f": Lazy()}
def escape(x): raise ValueError("\\udc80\\x1b[2J")
def words(x): return {"f": "3.0"}
def masked(x):
    import numpy
    return {"f": numpy.ma.masked}
def leave(x): sys.exit(3)
def vanish(x): os._exit(0)
def unfinished(x): raise GeneratorExit

def shallow(x):
    sys.setrecursionlimit(120)
    return {"f": (x - 2) ** 2}
def twins(x):
    os.fork()
    return {"f": (x - 2) ** 2}
def parent(x):
    child = subprocess.Popen(["sleep", "300"])
    with open("children", "a") as file:
        file.write(f"{child.pid}\\n")
    return {"f": (x - 2) ** 2}
"""
FAILING = ("vast", "mute", "deep", "odd_key", "lazy", "escape", "words", "masked", "leave", "vanish", "unfinished")
PROBLEM = """[variables]
x = {{ start = 1, lower = 0, upper = 3 }}
[models.m]
python = "models.py:{0}"
outputs = ["f"]
[minimize]
g = "m.f"
"""


def is_alive(process):
    try:
        return Path(f"/proc/{process}/stat").read_text().split()[2] != "Z"
    except OSError:
        return False


class Hostile(InAFolder):
    def run_with(self, name, *more):
        """Run the real program on a model; return (status, standard output, standard error, evaluations on record)."""
        for path in Path().glob("own.ledger*"):
            path.unlink()
        Path("models.py").write_text(MODELS)
        Path("p.toml").write_text(PROBLEM.format(name))
        words = ["run", "p.toml", "--method", "nelder-mead", "--evaluations", "12", "--ledger", "own.ledger", *more]
        done = subprocess.run([sys.executable, "-m", "ilvren", *words], capture_output=True, text=True, check=False)
        with Ledger("own.ledger") as ledger:
            record = ledger.run("last")
            self.assertEqual(record.state, "ended")
            return done.returncode, done.stdout, done.stderr, ledger.evaluations(record.number)

    def test_what_fails_is_an_invalid_point_in_words(self):
        for name, more in pairs(FAILING, ((), ("--workers", "2")), 8):
            with self.subTest(model=name, more=more):
                status, out, err, evaluations = self.run_with(name, *more)
                self.assertEqual(status, 1, err)
                self.assertRegex(out, "model-failed")
                self.assertNotIn("Traceback", out + err)
                self.assertNotIn("hung", out + err)
                self.assertNotIn("\x1b", out + err)
                self.assertGreaterEqual(len(evaluations), 1)

    def test_copies_of_its_process_answer_once(self):
        for name, more in pairs(("shallow", "twins"), ((), ("--workers", "2"))):
            with self.subTest(model=name, more=more):
                _, out, err, evaluations = self.run_with(name, *more)
                self.assertEqual(out.count("nelder-mead on p.toml"), 1, out)
                self.assertEqual(len(evaluations), 12, err)

    @unittest.skipUnless(os.path.isdir("/proc/self"), "without /proc")
    def test_what_it_starts_ends_with_the_run(self):
        for more in ((), ("--workers", "2")):
            Path("children").unlink(missing_ok=True)
            self.run_with("parent", *more)
            children = Path("children").read_text().split()
            self.assertGreaterEqual(len(children), 12)
            until = time.monotonic() + 5.0
            while any(map(is_alive, children)) and time.monotonic() < until:
                time.sleep(0.05)
            self.assertEqual([child for child in children if is_alive(child)], [])


class Streams(InAFolder):
    def test_closed_and_full_streams_are_no_reason_to_fall_over(self):
        commands = ("run pump.toml --json", "--help", "show pump.toml", "runs", "no-such-command")
        for words, closed in pairs(
            commands, (">&-", "2>&-", "<&- >&- 2>&-", ">/dev/full", ">/dev/full 2>/dev/full"), 5
        ):
            with self.subTest(words=words, closed=closed):
                command = f'"{sys.executable}" -m ilvren {words} {closed}'
                done = subprocess.run(["sh", "-c", command], capture_output=True, text=True, check=False)
                self.assertIn(done.returncode, (0, 2, 4), done.stderr)
                self.assertNotRegex(done.stdout + done.stderr, "Traceback|Exception ignored")
        with Ledger("ilvren.ledger") as ledger:  # nothing was written into it in place of a stream
            self.assertEqual({record.state for record in ledger.runs()}, {"ended"})


if __name__ == "__main__":
    unittest.main()
