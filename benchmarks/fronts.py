"""What fronts promise: how much of the best hypervolume that so many points can attain is found, with how many
evaluations. `python -m benchmarks.fronts [METHOD …] [--only NAME …]`; without a method the default."""

from __future__ import annotations

import sys
import time
from dataclasses import dataclass

import numpy as np

from ilvren import run
from ilvren.algebra import hypervolume, spread_subset
from tests.front_problems import FRONTS, FrontProblem

# Points asked for: of two objectives, of three.
POINTS = {2: 100, 3: 150}
# A gradient counts as so many evaluations.
EXCHANGE = 3


@dataclass(frozen=True)
class Attained:
    """The share of the attainable hypervolume found, and what it took."""

    share: float
    evaluations: int
    gradients: int
    points: int
    seconds: float
    outcome: str


def attainable(front: np.ndarray, points: int) -> tuple[float, np.ndarray]:
    """Return the hypervolume of the best known choice of so many points of a dense front, each objective over its
    range, and (low, extent)."""
    low, high = front.min(axis=0), front.max(axis=0)
    scaled = (front - low) / (high - low)
    chosen = scaled[spread_subset(scaled, points)]
    return hypervolume(chosen, np.full(front.shape[1], 1.1)), np.array([low, high - low])


def attained(item: FrontProblem, method: str | None, **settings: object) -> Attained:
    """Run a method and measure what it found."""
    front = item.front()
    count = POINTS[front.shape[1]]
    best, (low, extent) = attainable(front, count)
    began = time.perf_counter()
    result = run(item.problem(), method=method, points=count, **settings)  # type: ignore[arg-type]
    seconds = time.perf_counter() - began
    assert result.front is not None
    values = (result.front.values - low) / extent
    share = hypervolume(values, np.full(front.shape[1], 1.1)) / best
    counts = result.counts
    return Attained(share, counts["evaluations"], counts["gradients"], len(values), seconds, result.outcome)


def main(arguments: list[str]) -> None:
    """Print a table."""
    only = arguments[arguments.index("--only") + 1 :] if "--only" in arguments else []
    methods = arguments[: arguments.index("--only")] if "--only" in arguments else arguments
    for method in methods or [""]:
        print(f"{method or 'default'}:  share of the attainable hypervolume, evaluations (gradients as {EXCHANGE})")
        shares: dict[str, list[float]] = {"two": [], "three": [], "smooth": []}
        for item in FRONTS:
            if only and item.name not in only:
                continue
            found = attained(item, method or None)
            kind = "two" if "f3" not in item.text else "three"
            shares[kind].append(found.share)
            if item.is_smooth and kind == "two":
                shares["smooth"].append(found.share)
            work = found.evaluations + EXCHANGE * found.gradients
            print(
                f"  {item.name:16} {found.share:7.4f} {work:8d}   {found.points:4d} points"
                f" {found.seconds:6.1f} s  {found.outcome}"
            )
        for kind, least in (("smooth", 0.99), ("two", 0.99), ("three", 0.95)):
            own = shares[kind]
            if own:
                good = sum(share >= least for share in own)
                print(f"  {kind:6} {good} of {len(own)} at {least:g} and above ({100 * good / len(own):.0f} %)")


if __name__ == "__main__":
    main(sys.argv[1:])
