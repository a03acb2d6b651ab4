"""Whole processes: `ilvren run` against importing NumPy, `ilvren --help` against a bare interpreter; and a small
problem, from its text to its result, against importing NumPy."""

from __future__ import annotations

import subprocess
import sys
import tempfile
import time
from importlib import resources
from pathlib import Path

from benchmarks.timing import line, ratio
from ilvren import loads, run

ROUNDS = 15


def main() -> None:
    """Print the ratios."""
    command = str(Path(sys.executable).with_name("ilvren"))
    source = resources.files("ilvren.demos").joinpath("rising_main/rising-main.toml").read_text()
    with tempfile.TemporaryDirectory() as folder:
        (Path(folder) / "rising-main.toml").write_text(source)

        def start(*words: str) -> None:
            subprocess.run(words, cwd=folder, capture_output=True, check=True)

        found = ratio(
            lambda: start(command, "run", "rising-main.toml", "--method", "sqp"),
            lambda: start(sys.executable, "-c", "import numpy"),
            rounds=ROUNDS,
        )
        line("ilvren run rising-main.toml --method sqp  /  python -c 'import numpy'", found, 2.2)
        found = ratio(lambda: start(command, "--help"), lambda: start(sys.executable, "-c", "pass"), rounds=ROUNDS)
        line("ilvren --help  /  python -c pass", found, 2.0)
        run(loads(source), method="sqp")
        found = ratio(
            lambda: run(loads(source), method="sqp"),
            lambda: start(sys.executable, "-c", "import numpy"),
            rounds=ROUNDS,
        )
        line("load and run rising-main in process  /  python -c 'import numpy'", found, 0.15)
        began = time.perf_counter()
        start(command, "demo")
        seconds = time.perf_counter() - began
        print(f"{'ilvren demo, the whole example with two figures':<74} {seconds:.1f} s   limit 10 s")
    code = "import sys, ilvren.cli.main as m; m.main(['--help']); sys.exit('numpy' in sys.modules)"
    has_numpy = subprocess.run([sys.executable, "-c", code], capture_output=True, check=False).returncode
    print(f"{'ilvren --help imports NumPy':<74} {'yes   MISSED' if has_numpy else 'no   ok'}")


if __name__ == "__main__":
    main()
