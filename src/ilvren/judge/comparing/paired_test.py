"""Paired comparison of two methods on the same problems, starts and seeds: Wilcoxon's signed-rank test, with an effect.

The differences are those of the logarithm of the evaluations to the target (a method that did not arrive counts as
slower than any that did; pairs in which neither arrived say nothing), or of the gaps at the end. The effect is the
matched-pairs rank-biserial correlation, from −1 (the first always better) to 1; p-values of several pairs of methods
are corrected by Holm's procedure.

Sources: F. Wilcoxon, "Individual comparisons by ranking methods", 1945; D. S. Kerby, "The simple difference formula",
2014; S. Holm, "A simple sequentially rejective multiple test procedure", 1979.
"""

from __future__ import annotations

import itertools
import math
from collections.abc import Mapping, Sequence
from dataclasses import replace

import numpy as np
from numpy.typing import NDArray

from ilvren.records import dataclass
from ilvren.runs import plain

__all__ = ["PairTest", "paired_tests"]

FloatArray = NDArray[np.float64]

# Below this many pairs that differ no two-sided test can reach 5 %.
LEAST_PAIRS = 6
SIGNIFICANT = 0.05
# Up to so many pairs that differ the distribution of the sum of ranks is worked out.
MOST_EXACT = 100
# What stands for "never arrived", as a ratio to the slowest that did.
NEVER = 1e6


@dataclass(frozen=True)
class PairTest:
    """`first` against `second` over `pairs` pairs, of which `differ` differ; `ratio` the median of first over second
    (NaN where one often never arrives); `wins` how often each was better; `p` corrected, None below LEAST_PAIRS;
    `effect` negative when the first is better."""

    first: str
    second: str
    pairs: int
    differ: int
    wins: tuple[int, int]
    ratio: float
    effect: float
    p: float | None

    @property
    def sentence(self) -> str:
        """Return in plain words what the data support."""
        better, worse = (self.first, self.second) if self.effect < 0.0 else (self.second, self.first)
        count = f"{self.pairs} pair{'' if self.pairs == 1 else 's'}"
        if self.differ == 0:
            return f"{self.first} and {self.second}: no difference in {count}"
        won = max(self.wins)
        seen = (
            f"{better} was better in {won} of {self.pairs}"
            if self.effect
            else f"each was better in {won} of {self.pairs}"
        )
        if self.p is None:
            own = "1 pair that differs is" if self.differ == 1 else f"{self.differ} pairs that differ are"
            few = f"{own} too few to tell, {LEAST_PAIRS} are the least"
            return f"{seen} against {worse}: {few}"
        size = abs(self.effect)
        word = "large" if size >= 0.5 else "medium" if size >= 0.3 else "small"
        if self.p > SIGNIFICANT:
            return f"{seen} against {worse} (p = {self.p:.2g}): the data do not tell them apart"
        ratio = self.ratio if better == self.first else 1.0 / self.ratio if self.ratio else math.nan
        often = f", at {ratio:.2g} times its cost (median)" if math.isfinite(ratio) else ""
        return f"{seen} against {worse}{often} (p = {self.p:.2g}, effect {size:.2f}, {word}): the data support it"

    def to_dict(self) -> dict[str, object]:
        """Return the plain values of the JSON document."""
        return {
            "first": self.first,
            "second": self.second,
            "pairs": self.pairs,
            "differ": self.differ,
            "wins": list(self.wins),
            "ratio": plain(self.ratio),
            "effect": plain(self.effect),
            "p": self.p,
            "words": self.sentence,
        }


def paired_tests(costs: Mapping[str, Mapping[tuple[int, ...], float]], order: Sequence[str]) -> list[PairTest]:
    """Test every pair of methods. `costs` {method: {key: cost}}, infinite where it never arrived; the key (problem,
    start, seed) pairs runs of different methods; what has no partner is left out."""
    found = [_tested(a, b, costs[a], costs[b]) for a, b in itertools.combinations(order, 2)]
    return _corrected([item for item in found if item is not None])


def _tested(
    first: str, second: str, one: Mapping[tuple[int, ...], float], other: Mapping[tuple[int, ...], float]
) -> PairTest | None:
    keys = sorted(set(one) & set(other))
    if not keys:
        return None
    a, b = np.array([one[key] for key in keys]), np.array([other[key] for key in keys])
    finite = np.concatenate([a[np.isfinite(a)], b[np.isfinite(b)]])
    never = NEVER * max(float(finite.max(initial=1.0)), 1.0)
    a, b = (np.where(np.isfinite(own), np.maximum(own, 1e-300), never) for own in (a, b))
    with np.errstate(over="ignore", under="ignore", divide="ignore", invalid="ignore"):
        logs = np.where(a == b, 0.0, np.log(a / b))  # of the quotients: equal ones have equal ranks
    differ = logs[logs != 0.0]
    wins = (int((logs < 0.0).sum()), int((logs > 0.0).sum()))
    ratio = float(np.exp(np.median(logs)))
    ratio = ratio if 1.0 / math.sqrt(NEVER) < ratio < math.sqrt(NEVER) else math.nan
    effect, p = 0.0, None
    if len(differ):
        from scipy.stats import rankdata

        ranks = rankdata(np.abs(differ))
        effect = float((ranks[differ > 0.0].sum() - ranks[differ < 0.0].sum()) / ranks.sum())
        if len(differ) >= LEAST_PAIRS:
            p = _two_sided(ranks, differ)
    return PairTest(first, second, len(keys), len(differ), wins, ratio, effect, p)


def _two_sided(ranks: FloatArray, differ: FloatArray) -> float:
    """Return the p-value of differences (k,) with ranks (k,): exact up to MOST_EXACT, equal ranks (halves) included, as
    each of the 2^k choices of signs is as likely as any other; beyond that by the normal distribution."""
    if len(differ) > MOST_EXACT:
        from scipy.stats import wilcoxon

        return float(wilcoxon(differ).pvalue)
    halves = np.rint(2.0 * ranks).astype(int)
    chances = np.ones(1)  # of each sum of the ranks of those above zero
    for rank in halves:
        alone = np.zeros(rank)
        chances = 0.5 * (np.concatenate([chances, alone]) + np.concatenate([alone, chances]))
    seen = int(halves[differ > 0.0].sum())
    return float(min(1.0, 2.0 * min(chances[: seen + 1].sum(), chances[seen:].sum())))


def _corrected(tests: list[PairTest]) -> list[PairTest]:
    """Return the tests with their p-values corrected for how many they are."""
    known = sorted((test.p, place) for place, test in enumerate(tests) if test.p is not None)
    corrected, worst = list(tests), 0.0
    for rank, (p, place) in enumerate(known):
        worst = max(worst, min(1.0, p * (len(known) - rank)))
        corrected[place] = replace(tests[place], p=worst)
    return corrected
