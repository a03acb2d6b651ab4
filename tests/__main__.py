"""Run all tests, a process for each module, as many at a time as there are processors (at most four)."""

from __future__ import annotations

import os
import re
import subprocess
import sys
import time
from concurrent.futures import ThreadPoolExecutor
from pathlib import Path

ROOT = Path(__file__).parent
# The longest first, so that no processor waits for the other at the end.
LONGEST = (
    "methods.test_fronts",
    "test_approximate",
    "test_fronts",
    "test_matrix",
    "methods.test_conformance",
    "test_collocation",
    "test_resuming",
    "test_scatter",
    "test_surveys",
    "test_programs",
)


def modules() -> list[str]:
    """Return the names of all test modules, the longest first."""
    found = [".".join(path.relative_to(ROOT).with_suffix("").parts) for path in sorted(ROOT.rglob("test_*.py"))]
    return sorted(found, key=lambda name: (LONGEST.index(name) if name in LONGEST else len(LONGEST), name))


def ran(name: str) -> tuple[str, int, str, float]:
    """Run a module; return its name, exit status, output and seconds."""
    began = time.monotonic()
    command = [sys.executable, "-m", "unittest", "-v", f"tests.{name}"]
    # As many processes as processors: threads of the linear algebra would only wait for each other.
    environment = {"OPENBLAS_NUM_THREADS": "1", "OMP_NUM_THREADS": "1", **os.environ}
    done = subprocess.run(
        command, cwd=ROOT.parent, capture_output=True, text=True, errors="replace", check=False, env=environment
    )
    return name, done.returncode, done.stdout + done.stderr, time.monotonic() - began


def main() -> int:
    """Run all, print what failed in full, and return the exit status."""
    began, total, failed = time.monotonic(), 0, []
    with ThreadPoolExecutor(min(os.cpu_count() or 1, 4)) as pool:
        for name, status, output, seconds in pool.map(ran, modules()):
            count = re.search(r"^Ran (\d+) tests?", output, re.M)
            total += int(count[1]) if count else 0
            skipped = re.findall(r"skipped '.*'$", output, re.M)
            word = "ok" if status == 0 and count else "FAILED"
            print(f"{word:6} {seconds:6.1f} s  {name} {' '.join(skipped)}".rstrip(), flush=True)
            if word == "FAILED":
                failed.append(name)
                print(output, flush=True)
    print(f"Ran {total} tests in {time.monotonic() - began:.0f} s")
    print("FAILED: " + ", ".join(failed) if failed else "OK")
    return 1 if failed else 0


if __name__ == "__main__":
    sys.exit(main())
