"""Models on a real cluster of separate processes on this machine, one of which is lost on the way."""

import contextlib
import os
import re
import signal
import subprocess
import sys
import tempfile
import time
import unittest
from pathlib import Path
from unittest import mock

from ilvren import load, run
from ilvren.errors import MachineError, RequestError
from ilvren.evaluate import cluster as cluster_module

MODEL = """import os, pathlib, time

def value(x, y):
    folder = pathlib.Path(__file__).parent
    with (folder / "calls").open("a") as stream:
        stream.write("x")
    time.sleep(0.02)
    return {"z": (x - 1.0) ** 2 + (y + 0.5) ** 2}
"""
PROBLEM = """[variables]
x = { start = 0.2, lower = -2, upper = 2 }
y = { start = 0.3, lower = -2, upper = 2 }
[models.m]
python = "model.py:value"
outputs = ["z"]
timeout = 5
[minimize]
f = "m.z"
"""


@contextlib.contextmanager
def cluster(folder, workers):
    """Give the address of a scheduler and the processes of its workers."""
    environment = {**os.environ, "PYTHONPATH": os.pathsep.join(sys.path)}
    quiet = {"env": environment, "cwd": folder, "stdout": subprocess.DEVNULL, "start_new_session": True}
    scheduler = subprocess.Popen(
        [sys.executable, "-m", "distributed.cli.dask_scheduler", "--port", "0", "--host", "127.0.0.1", "--no-dashboard"],
        stderr=subprocess.PIPE, text=True, **quiet,
    )  # fmt: skip
    processes = [scheduler]
    try:
        address = ""
        for line in scheduler.stderr:
            found = re.search(r"tcp://(127\.0\.0\.1:\d+)", line)
            if found:
                address = found[1]
                break
        processes.append(subprocess.Popen(["cat"], stdin=scheduler.stderr, stdout=subprocess.DEVNULL))
        members = [
            subprocess.Popen(
                [sys.executable, "-m", "distributed.cli.dask_worker", address, "--nthreads", "1", "--no-nanny", "--no-dashboard"],
                stderr=subprocess.DEVNULL, **quiet,
            )
            for _ in range(workers)
        ]  # fmt: skip
        processes += members
        yield address, members
    finally:
        for process in processes:
            with contextlib.suppress(ProcessLookupError):
                process.kill()
            process.wait()
        scheduler.stderr.close()


class OnACluster(unittest.TestCase):
    def setUp(self):
        folder = tempfile.TemporaryDirectory()
        self.addCleanup(folder.cleanup)
        self.folder = Path(folder.name)
        (self.folder / "model.py").write_text(MODEL)
        (self.folder / "p.toml").write_text(PROBLEM)

    def test_a_run_loses_nothing_with_a_worker(self):
        path = self.folder / "p.toml"
        given = {"method": "particle-swarm", "options": {"particles": 16}, "evaluations": 64, "seed": 3}
        alone = run(path, **given)
        with cluster(self.folder, 2) as (address, members):
            killed = []

            def lose_one(event):
                if not killed and getattr(event, "evaluations", 0) >= 32:
                    os.kill(members[0].pid, signal.SIGKILL)
                    killed.append(time.monotonic())

            there = run(load(path), workers=f"dask://{address}", listener=lose_one, **given)
        self.assertTrue(killed)
        self.assertEqual((there.point, there.counts, there.outcome), (alone.point, alone.counts, alone.outcome))
        self.assertEqual([e.point for e in there.evaluations], [e.point for e in alone.evaluations])

    def test_addresses_that_answer_nothing_are_told(self):
        with (
            mock.patch.object(cluster_module, "CONNECT_SECONDS", 1),
            self.assertRaisesRegex(MachineError, "no Dask scheduler answers at 127.0.0.1:1"),
        ):
            run(self.folder / "p.toml", method="sqp", workers="dask://127.0.0.1:1")
        with self.assertRaisesRegex(RequestError, "expected a number of processes"):
            run(self.folder / "p.toml", method="sqp", workers="many")
