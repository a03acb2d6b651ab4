"""Programs as models: the own cost of a call, what workers gain, and how few calls the default needs.

The cost is held against a bare `subprocess.run` of the same program with the same files in a fresh folder; the designs
problems are made up here, with rounded listings and regions in which the program fails.
"""

from __future__ import annotations

import math
import os
import shutil
import statistics
import subprocess
import tempfile
import time
from pathlib import Path

import numpy as np

from ilvren import load, loads, run
from ilvren.models import Question
from ilvren.runs.choice import choose

CALLS = 120
SLEEP = 0.05
SEEDS = 20

PROGRAM = """#!/bin/sh
{pause}awk '/X/ {{ x = $3 }} /Y/ {{ y = $3 }}
END {{ printf " VALUE %.5f\\n", (x - 1) ^ 2 + (y - 2) ^ 2 }}' "$1" > listing.txt
"""
DECK = "* A DECK\nX = 0.50000\nY = 0.50000\n"
PROBLEM = """
[variables]
x = { start = 0.5, lower = -4, upper = 4 }
y = { start = 0.5, lower = -4, upper = 4 }
[models.own]
command = ["./own", "own.dat"]
files = ["own"]
keep = "none"
[models.own.write."own.dat"]
base = "own.dat"
put = { x = { after = "X" }, y = { after = "Y" } }
[models.own.read]
value = { file = "listing.txt", after = "VALUE" }
[minimize]
f = "own.value"
"""


def _folder(pause: str) -> Path:
    folder = Path(tempfile.mkdtemp(prefix="bench-"))
    (folder / "own").write_text(PROGRAM.format(pause=pause))
    (folder / "own").chmod(0o755)
    (folder / "own.dat").write_text(DECK)
    (folder / "own.toml").write_text(PROBLEM)
    return folder


def own_cost() -> None:
    """Print the time of a call beyond a bare run of the same program with the same files."""
    folder = _folder("")
    source = load(folder / "own.toml").sources[0]
    bare, ours = [], []
    for k in range(CALLS):
        began = time.perf_counter()
        fresh = Path(tempfile.mkdtemp(prefix="bare-"))
        shutil.copy(folder / "own", fresh)
        (fresh / "own.dat").write_text(DECK)
        subprocess.run(["./own", "own.dat"], cwd=fresh, check=True, capture_output=True)
        (fresh / "listing.txt").read_text()
        shutil.rmtree(fresh)
        bare.append(time.perf_counter() - began)
        began = time.perf_counter()
        assert source.asked(Question("values", (np.array(0.1 + k / 999), np.array(0.2)))).is_done
        ours.append(time.perf_counter() - began)
    cost, own = statistics.median(bare), statistics.median(ours) - statistics.median(bare)
    limit = max(0.005, 0.3 * cost)
    print(f"  a call: {own * 1e3:.2f} ms beyond a bare run of {cost * 1e3:.2f} ms (limit {limit * 1e3:.2f} ms)")
    shutil.rmtree(folder)


def workers() -> None:
    """Print how much sooner two workers are done with a program of 50 ms."""
    folder = _folder(f"sleep {SLEEP}\n")
    seconds = []
    for count in (None, 2):
        problem = load(folder / "own.toml")
        began = time.perf_counter()
        run(
            problem,
            method="differential-evolution",
            options={"population": 24, "finish": False},
            evaluations=480,
            workers=count,
        )
        seconds.append(time.perf_counter() - began)
    print(f"  two workers: {seconds[0] / seconds[1]:.2f} times sooner (limit 1.85)")
    shutil.rmtree(folder)


def _problem(n: int, seed: int) -> tuple[str, str, float]:
    """Return (problem, model, best objective) of a bowl, bent and with two limits, whose values have five digits; it
    fails in about a tenth of the box, away from the best design."""
    rng = np.random.default_rng([n, seed])
    best = rng.uniform(-0.6, 0.6, n)
    scales = 10.0 ** rng.uniform(-0.5, 0.5, n)
    side = rng.normal(size=n)
    side /= np.linalg.norm(side)
    # The plane through which designs fail: a tenth of the box is beyond it.
    sample = rng.uniform(-2.0, 2.0, (4000, n)) @ side
    bar = float(np.quantile(sample, 0.9))
    if float(best @ side) > bar - 0.2:
        side, bar = -side, float(np.quantile(-sample, 0.9))
    start = rng.uniform(-1.5, 1.5, n)
    while float(start @ side) > bar:
        start = rng.uniform(-1.5, 1.5, n)
    names = [f"x{k}" for k in range(n)]
    listed = [f"{name} = {{ start = {start[k]:.4f}, lower = -2, upper = 2 }}" for k, name in enumerate(names)]
    normal = rng.normal(size=n)
    normal /= np.linalg.norm(normal)
    text = "\n".join(
        [
            "[variables]",
            *listed,
            "[models.m]",
            'python = "m.py:value"',
            'outputs = ["f", "c"]',
            'derivatives = "differences"',
            "[minimize]",
            'f = "m.f"',
            "[constraints]",
            'c = "m.c <= 1"',
        ]
    )
    model = f"""import math
BEST, SCALES, SIDE, NORMAL, BAR = {best.tolist()}, {scales.tolist()}, {side.tolist()}, {normal.tolist()}, {bar}

def value({", ".join(names)}):
    x = [{", ".join(names)}]
    x = [round(v, 5) for v in x]
    if sum(s * v for s, v in zip(SIDE, x)) > BAR:
        raise RuntimeError("no convergence")
    d = [v - b for v, b in zip(x, BEST)]
    f = 10 + sum(s * e * e for s, e in zip(SCALES, d)) + 0.5 * sum((a - b * b) ** 2 for a, b in zip(d, d[1:]))
    c = 1 + sum(v * e for v, e in zip(NORMAL, d))
    return {{"f": float(f"{{f:.5g}}"), "c": float(f"{{c:.5g}}")}}
"""
    return text, model, 10.0


def default_reach() -> None:
    """Print how often the default reaches 1 % of what can be gained within 60 (n + 1) calls."""
    for n in (2, 4, 8):
        reached, calls = 0, []
        for seed in range(SEEDS):
            text, model, best = _problem(n, seed)
            with tempfile.TemporaryDirectory() as folder:
                (Path(folder) / "m.py").write_text(model)
                (Path(folder) / "m.toml").write_text(text)
                problem = load(Path(folder) / "m.toml")
                method = _default_of_programs(n)
                result = run(problem, method=method, evaluations=60 * (n + 1))
                feasible = [e for e in result.evaluations if e.violation <= 1e-6 and e.objective is not None]
                first = feasible[0].objective if feasible else math.inf
                goal = best + 0.01 * max(abs(best), abs((first or 0.0) - best))
                hits = [e.evaluations for e in feasible if e.objective is not None and e.objective <= goal]
                reached += bool(hits)
                calls += hits[:1]
        told = f"{statistics.median(calls) / (n + 1):.0f} (n + 1)" if calls else "never"
        print(f"  {n} variables, rounded, failing: 1 % in {reached} of {SEEDS} (limit 80 %), median {told} calls")


def _default_of_programs(n: int) -> str:
    """Return the method that a program of so many variables gets."""
    folder = _folder("")
    names = [f"x{k}" for k in range(n)]
    variables = "\n".join(f"{name} = {{ start = 0, lower = -2, upper = 2 }}" for name in names)
    text = f"""[variables]
{variables}
[models.own]
command = ["./own", {", ".join(f'"{{{name}}}"' for name in names)}]
files = ["own"]
[models.own.read]
value = {{ file = "stdout", after = "VALUE" }}
[minimize]
f = "own.value"
"""
    try:
        return choose(loads(text, file=os.fspath(folder / "own.toml"))).names[0]
    finally:
        shutil.rmtree(folder)


def main() -> None:
    """Run all of them."""
    print("programs")
    own_cost()
    workers()
    default_reach()


if __name__ == "__main__":
    main()
