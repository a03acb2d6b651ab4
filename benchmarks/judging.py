"""Verdicts on hundreds of planted designs, proofs on published functions, what a verification costs beside a run."""

from __future__ import annotations

import tempfile
import time
from collections import Counter
from pathlib import Path
from typing import Any

from tests.multimodal import MULTIMODAL
from tests.planted import KINDS, planted
from tests.published import PUBLISHED

from ilvren import load, loads, run, verify
from ilvren.judge.verifying.verification import VerifyOptions

COUNT = 40
PROVE_SECONDS = 60.0
DEMOS = (
    "rising_main/rising-main",
    "valley/valley",
    "hum/hum",
    "pump_test/pump-test",
    "trench/trench",
    "terrace_pipes/terrace-pipes",
    "level_loop/level-loop",
)


def verdicts(count: int = COUNT) -> None:
    """Print the verdicts on planted designs. None that holds may be wrong."""
    words: dict[str, Counter[str]] = {kind: Counter() for kind in KINDS}
    wrong = held = optima = 0
    for item in planted(count):
        found = verify(loads(item.text), at={})
        words[item.kind][found.verdict] += 1
        wrong += found.holds and not item.is_optimum
        optima += item.is_optimum
        held += found.holds and item.is_optimum
    for kind, counts in words.items():
        told = ", ".join(f"{word} {n}" for word, n in counts.most_common())
        print(f"  {kind:32s} {'optimum' if KINDS[kind][1] else 'none':8s} {told}")
    print(f"  of {optima} optima {held} hold; of {count * len(KINDS) - optima} others {wrong} hold (limit 0)")


def proofs(seconds: float = PROVE_SECONDS) -> None:
    """Print the share of published functions of two to four variables whose best known optimum is proved."""
    proved, slowest, open_ = 0, 0.0, []
    known: list[Any] = [*PUBLISHED, *MULTIMODAL]
    problems = [(item.name, item.problem(), item.best) for item in known]
    problems = [item for item in problems if 2 <= len(item[1].free) <= 4]
    for name, problem, best in problems:
        result = run(problem)
        if result.objective is None or abs(result.objective - best) > 1e-4 * max(1.0, abs(best)):
            result = run(problem, method="global", evaluations=50_000)
        began = time.perf_counter()
        found = verify(result, extra=VerifyOptions(prove=True, prove_seconds=seconds))
        slowest = max(slowest, time.perf_counter() - began)
        proved += found.verdict == "global-proved"
        if found.verdict != "global-proved":
            open_.append(f"{name}: {found.verdict}")
    print(
        f"  proved within {seconds:g} s: {proved} of {len(problems)} ({100 * proved / len(problems):.1f} %, limit 80)"
    )
    print(f"  slowest {slowest:.1f} s; open: {'; '.join(open_) or 'none'}")


def cost() -> None:
    """Print the time of `verify` on the demos, beside that of the run."""
    import ilvren

    folder = Path(ilvren.__file__).parent / "demos"
    for name in DEMOS:
        problem = load(folder / f"{name}.toml")
        with tempfile.TemporaryDirectory() as at:
            ledger = Path(at) / "l"
            began = time.perf_counter()
            result = run(problem, ledger=ledger)
            middle = time.perf_counter()
            found = verify(result.id, ledger=ledger)
            ended = time.perf_counter()
        allowed = middle - began + 1.0
        print(
            f"  {name.split('/')[1]:14s} run {middle - began:6.2f} s, verify {ended - middle:6.2f} s"
            f" = {(ended - middle) / allowed:4.2f} of what is allowed (run + 1 s)  {found.verdict}"
        )


def main() -> None:
    """Run all."""
    print("verdicts on planted designs")
    verdicts()
    print("proofs")
    proofs()
    print("what verification costs")
    cost()
