"""Run all tests, a process for each module, one more at a time than there are processors (at most four): some wait,
for what they have started or for a moment to pass.

The processes are forked from one that has imported what nearly all of them need and has made one small run: importing
it anew for each would be a tenth of the time.
"""

from __future__ import annotations

import os
import re
import sys
import tempfile
import time
import unittest
from pathlib import Path
from typing import TextIO

ROOT = Path(__file__).parent
# The longest first, so that no processor waits for the other at the end.
LONGEST = (
    "test_programs",
    "test_fronts",
    "test_collocation",
    "methods.test_second_look",
    "test_approximate",
    "test_matrix",
    "test_cli",
    "test_scatter",
    "test_judging_cli",
    "methods.test_fronts",
    "test_draw",
    "test_resuming",
    "test_vectors",
    "test_running",
    "approximate.test_surfaces",
    "test_over_time",
    "test_kills",
)
# What the processes are forked with.
LIBRARIES = (
    "numpy",
    "scipy.linalg",
    "scipy.sparse.linalg",
    "scipy.stats",
    "scipy.special",
    "matplotlib.figure",
    "matplotlib.backends.backend_agg",
    "matplotlib.backends.backend_svg",
    "jinja2",
    "rich.live",
)
# Of the program, what is run when it is imported, or has nothing but files.
NOT_BEFORE = ("ilvren.__main__", "ilvren.demos")
SMALL = (
    "[variables]\nx = { start = 1, lower = 0, upper = 3 }\n[minimize]\nf = 'x^2 - x'\n[constraints]\ng = 'x >= 0.6'\n"
)


def modules() -> list[str]:
    """Return the names of all test modules, the longest first."""
    found = [".".join(path.relative_to(ROOT).with_suffix("").parts) for path in sorted(ROOT.rglob("test_*.py"))]
    return sorted(found, key=lambda name: (LONGEST.index(name) if name in LONGEST else len(LONGEST), name))


def prepare() -> None:
    """Import the program and what nearly all modules need, and make one small run and a figure of it. What is there
    then is never looked through for garbage again."""
    import contextlib
    import gc
    import importlib
    import io
    import pkgutil

    import ilvren as program

    own = [module.name for module in pkgutil.walk_packages(program.__path__, "ilvren.")]
    for name in [*LIBRARIES, *(name for name in own if not name.startswith(NOT_BEFORE))]:
        importlib.import_module(name)
    from ilvren.cli.main import main as ilvren

    before = os.getcwd()
    with tempfile.TemporaryDirectory() as folder, contextlib.redirect_stdout(io.StringIO()):
        os.chdir(folder)
        Path("p.toml").write_text(SMALL)
        for words in ("run p.toml", "verify r1", "run p.toml --method cma-es", "report r1 --output r.html"):
            ilvren([*words.split(), "--quiet"])
        os.chdir(before)
    gc.collect()
    gc.freeze()
    gc.set_threshold(100_000, 50, 100)


def begun(name: str) -> tuple[int, TextIO]:
    """Fork a process that runs a module; return its number and the file that it writes to."""
    output = tempfile.TemporaryFile("w+", errors="replace")  # noqa: SIM115 — closed by who reads it
    sys.stdout.flush()
    process = os.fork()
    if process:
        return process, output
    for stream in (1, 2):
        os.dup2(output.fileno(), stream)
    tests = unittest.defaultTestLoader.loadTestsFromName(f"tests.{name}")
    result = unittest.TextTestRunner(stream=sys.stderr, verbosity=2).run(tests)
    sys.exit(not result.wasSuccessful())


def main() -> int:
    """Run all, print what failed in full, and return the exit status."""
    began, total, failed = time.monotonic(), 0, []
    waiting = modules()[::-1]
    running: dict[int, tuple[str, TextIO, float]] = {}
    prepare()
    while waiting or running:
        if waiting and len(running) < min((os.cpu_count() or 1) + 1, 4):
            name = waiting.pop()
            process, file = begun(name)
            running[process] = name, file, time.monotonic()
            continue
        process, status = os.waitpid(-1, 0)
        name, file, since = running.pop(process)
        file.seek(0)
        output = file.read()
        file.close()
        count = re.search(r"^Ran (\d+) tests?", output, re.M)
        total += int(count[1]) if count else 0
        skipped = re.findall(r"skipped '.*'$", output, re.M)
        word = "ok" if status == 0 and count else "FAILED"
        print(f"{word:6} {time.monotonic() - since:6.1f} s  {name} {' '.join(skipped)}".rstrip(), flush=True)
        if word == "FAILED":
            failed.append(name)
            print(output, flush=True)
    print(f"Ran {total} tests in {time.monotonic() - began:.0f} s")
    print("FAILED: " + ", ".join(failed) if failed else "OK")
    return 1 if failed else 0


if __name__ == "__main__":
    # As many processes as processors: threads of the linear algebra would only wait for each other.
    os.environ.setdefault("OPENBLAS_NUM_THREADS", "1")
    os.environ.setdefault("OMP_NUM_THREADS", "1")
    sys.exit(main())
