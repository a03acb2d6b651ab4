"""What a whole solution costs: own time of the methods against the evaluations they use, on the demo."""

from __future__ import annotations

import time

from benchmarks.evaluation import demo_problem
from ilvren import run, verify


def main() -> None:
    """Print counts, seconds and verdicts: figures to watch, without a limit."""
    problem = demo_problem()
    for method in ("sqp", "nelder-mead"):
        run(problem, method=method)
        began = time.perf_counter()
        result = run(problem, method=method)
        solved = time.perf_counter() - began
        began = time.perf_counter()
        verdict = verify(result)
        judged = time.perf_counter() - began
        what = f"rising-main by {method}: {result.outcome}, {verdict.verdict}"
        counts = f"{result.counts['evaluations']} evaluations, {result.counts['gradients']} gradients"
        print(f"{what:<74} {counts}, {solved * 1e3:.1f} ms, verified in {judged * 1e3:.1f} ms")


if __name__ == "__main__":
    main()
