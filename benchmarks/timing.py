"""Two things timed in turn, so that a slow moment of the machine hits both."""

from __future__ import annotations

import statistics
import time
from collections.abc import Callable

__all__ = ["line", "ratio"]


def ratio(ours: Callable[[], object], other: Callable[[], object], *, rounds: int) -> tuple[float, float, float]:
    """Return (median of ours, median of the other, median ratio of neighbouring rounds), in seconds."""
    mine, theirs = [], []
    for _ in range(rounds):
        for work, kept in ((ours, mine), (other, theirs)):
            began = time.perf_counter()
            work()
            kept.append(time.perf_counter() - began)
    ratios = [a / b for a, b in zip(mine, theirs, strict=True)]
    return statistics.median(mine), statistics.median(theirs), statistics.median(ratios)


def line(what: str, found: tuple[float, float, float], limit: float, *, unit: float = 1e3, name: str = "ms") -> None:
    """Print one ratio with its limit."""
    ours, other, times = found
    verdict = "ok" if times <= limit else "MISSED"
    print(f"{what:<74} {ours * unit:9.3f} / {other * unit:9.3f} {name} = {times:5.2f}   limit {limit:g}  {verdict}")
