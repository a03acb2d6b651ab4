"""Branch and bound over boxes: until every box is shown to hold nothing better than a cutoff, or time is up.

Source: R. E. Moore, R. B. Kearfott, M. J. Cloud, "Introduction to Interval Analysis", 2009, chapter 11 (global search);
the choice of the variable to split by smears: R. B. Kearfott, "Rigorous Global Search", 1996.
"""

from __future__ import annotations

import math
import time
from collections.abc import Callable
from typing import TYPE_CHECKING

import numpy as np
from numpy.typing import NDArray

from ilvren.records import dataclass

if TYPE_CHECKING:
    from ilvren.proofs.bounding import Bounder

__all__ = ["Search", "search_boxes"]

FloatArray = NDArray[np.float64]

# Boxes bounded together; boxes kept at most.
BATCH, LEAST_BATCH, MOST_OPEN = 512, 32, 400_000
LONG_ROUND = 0.5
# A box this narrow, relative to its numbers, is not split any more.
NARROWEST = 1e-13
# How often convexity is tried where it seldom helps: every so many rounds.
SELDOM, WORTHWHILE = 6, 0.03
# Rounds between two searches from the lowest box, growing by this factor.
FIRST_SEARCH, SEARCH_GROWTH = 4, 3


@dataclass(frozen=True)
class Search:
    """`bound`: no feasible design within the boxes searched has a lower internal objective (a proved statement);
    `is_complete` where that is the cutoff; else `low`, `high` (n_free,) are the ends of the box with the lowest bound.
    `better` is a design whose value beat the cutoff. `boxes` were bounded, in `seconds`."""

    bound: float
    is_complete: bool
    boxes: int
    seconds: float
    low: FloatArray
    high: FloatArray
    better: FloatArray | None = None
    why: str = ""


def search_boxes(
    bounder: Bounder,
    lows: FloatArray,
    highs: FloatArray,
    cutoff: float,
    *,
    seconds: float,
    try_points: Callable[[FloatArray], FloatArray | None],
    search_from: Callable[[FloatArray], FloatArray | None],
    told: Callable[[int, int, float], None] | None = None,
    most: int | None = None,
) -> Search:
    """Search the box with ends (n_free,). `try_points` is given designs (k, n_free) and returns a better one or None;
    `search_from` may search from one. `told` hears of boxes done, boxes open and the bound. At `most` so many boxes are
    bounded; without a limit on `seconds` no clock has a part in it."""
    began = time.monotonic()
    root = np.where(np.isfinite(highs - lows), highs - lows, np.inf)
    with np.errstate(all="ignore"):
        first = bounder.bound(lows[np.newaxis], highs[np.newaxis], cutoff)
        keep = first.bound < cutoff
        box_low, box_high, bounds, smear = (part[keep] for part in (first.lows, first.highs, first.bound, first.smear))
        done, rounds, next_search, hit_rate, batch = 1, 0, FIRST_SEARCH, 1.0, BATCH
        floor = cutoff  # the lowest bound of boxes that could not be split any further

        def ended(why: str, better: FloatArray | None = None) -> Search:
            lowest = int(np.argmin(bounds)) if len(bounds) else -1
            bound = min(floor, float(bounds[lowest]) if len(bounds) else math.inf)
            at = (box_low[lowest], box_high[lowest]) if len(bounds) else (lows, highs)
            complete = not len(bounds) and floor >= cutoff and better is None
            spent = time.monotonic() - began
            return Search(bound, complete, done, spent, at[0], at[1], better, why)

        while len(bounds):
            if time.monotonic() - began > seconds:
                return ended("the time is up")
            if most is not None and done >= most:
                return ended("the boxes allowed are used up")
            if len(bounds) > MOST_OPEN:
                return ended("too many boxes are open")
            round_began = time.monotonic()
            take = min(batch, len(bounds))
            chosen = np.argpartition(bounds, take - 1)[:take]
            rest = np.ones(len(bounds), dtype=bool)
            rest[chosen] = False
            parts = _split(box_low[chosen], box_high[chosen], smear[chosen], root)
            if parts is None:
                floor = min(floor, float(bounds[chosen].min()))
                halves = box_low[:0], box_high[:0]
            else:
                halves = parts[0], parts[1]
                if len(parts[2]):
                    floor = min(floor, float(bounds[chosen][parts[2]].min()))
            found = bounder.bound(*halves, cutoff)
            done += len(halves[0])
            # A half cannot be worse than the whole.
            alive = np.flatnonzero(found.bound < cutoff)
            new = [found.lows[alive], found.highs[alive], found.bound[alive], found.smear[alive]]
            rounds += 1
            if len(alive):
                better = try_points(0.5 * (new[0] + new[1]))
                if better is not None:
                    return ended("a better design was found", better)
                if hit_rate > WORTHWHILE or rounds % SELDOM == 0:
                    convex = bounder.convex_bound(new[0], new[1])
                    new[2] = np.fmax(new[2], convex)
                    hit_rate = float((convex >= cutoff).mean())
                    new = [part[new[2] < cutoff] for part in new]
            box_low, box_high, bounds, smear = (
                np.concatenate([old[rest], fresh])
                for old, fresh in zip((box_low, box_high, bounds, smear), new, strict=True)
            )
            if rounds >= next_search and len(bounds):
                next_search *= SEARCH_GROWTH
                lowest = int(np.argmin(bounds))
                better = search_from(0.5 * (box_low[lowest] + box_high[lowest]))
                if better is not None:
                    return ended("a better design was found", better)
            # So many boxes at once that a round takes a fraction of a second: then the time asked for is kept.
            spent = time.monotonic() - round_began
            if math.isfinite(seconds):
                batch = max(batch // 2, LEAST_BATCH) if spent > LONG_ROUND else min(2 * batch, BATCH)
            if told is not None:
                told(done, len(bounds), float(bounds.min()) if len(bounds) else cutoff)
        return ended("")


def _split(
    lows: FloatArray, highs: FloatArray, smear: FloatArray, root: FloatArray
) -> tuple[FloatArray, FloatArray, NDArray[np.int64]] | None:
    """Return the halves of boxes, and the places of those that are too narrow to be split; None where all are."""
    width = highs - lows
    with np.errstate(all="ignore"):
        share = np.where(np.isfinite(root), width / np.where(root > 0.0, root, 1.0), np.isinf(width) * 10.0 + 1e-3)
        score = smear + 0.1 * share / np.maximum(share.max(axis=1, keepdims=True), 1e-300)
    narrow = width <= NARROWEST * np.maximum(np.maximum(np.abs(lows), np.abs(highs)), 1e-200)
    score = np.where(narrow, -1.0, np.nan_to_num(score, nan=0.0))
    score = np.where(np.isinf(width), 1e6, score)
    column = np.argmax(score, axis=1)
    rows = np.arange(len(lows))
    stuck = np.flatnonzero(score[rows, column] < 0.0)
    open_ = np.setdiff1d(rows, stuck)
    if not len(open_):
        return None
    lows, highs, column = lows[open_], highs[open_], column[open_]
    rows = np.arange(len(open_))
    low, high = lows[rows, column], highs[rows, column]
    far = np.maximum(4.0 * np.abs(np.where(np.isfinite(low), low, high)), 1.0)
    middle = np.where(
        np.isfinite(low) & np.isfinite(high),
        0.5 * (low + high),
        np.where(np.isfinite(low), low + far, np.where(np.isfinite(high), high - far, 0.0)),
    )
    left_high, right_low = highs.copy(), lows.copy()
    left_high[rows, column], right_low[rows, column] = middle, middle
    return np.concatenate([lows, right_low]), np.concatenate([left_high, highs]), stuck
