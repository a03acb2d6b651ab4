"""What plans and sensitivities promise: spread against chance, shares against known ones, and a page of designs."""

from __future__ import annotations

import tempfile
import time
from pathlib import Path

import numpy as np

from ilvren.explore import designs_of
from ilvren.explore.sampling import planned, sample
from ilvren.explore.sensitivity.shares import pair_designs, variance_shares
from ilvren.ledger import Ledger
from ilvren.plans import Space, plan_named, quality
from ilvren.problem import loads

# A function of three variables whose shares are known (T. Ishigami, T. Homma 1990), and one of eight, a product
# (I. Sobol' 1993).
FIRST, TOTAL = np.array([0.3139, 0.4424, 0.0]), np.array([0.5576, 0.4424, 0.2437])
WEIGHTS = np.array([0.0, 1.0, 4.5, 9.0, 99.0, 99.0, 99.0, 99.0])
PLATE = """
[variables]
a = { start = 1, lower = 0.1, upper = 2 }
b = { start = 1, lower = 0.1, upper = 2 }
c = { start = 1, lower = 0.1, upper = 2 }
d = { start = 1, lower = 0.1, upper = 2 }
[derived]
mass = "7.8 * a * b + c * d"
stiff = "a^3 / (b + c) + sqrt(d)"
warm = "exp(-a) + b * d"
[minimize]
cost = "mass + 0.3 * warm"
[constraints]
least = "stiff >= 0.8"
"""


def waves(shares: np.ndarray) -> np.ndarray:
    """The first function, on shares of its box."""
    x = np.pi * (2 * shares - 1)
    return np.sin(x[:, 0]) + 7 * np.sin(x[:, 1]) ** 2 + 0.1 * x[:, 2] ** 4 * np.sin(x[:, 0])


def product(shares: np.ndarray) -> np.ndarray:
    """The second one."""
    return np.prod((np.abs(4 * shares - 2) + WEIGHTS) / (1 + WEIGHTS), axis=1)


def shares_found(seeds: int = 60) -> tuple[float, float]:
    """Return in which share of repeats all variance shares are within 0.02 for 20,000 designs, and in which share of
    intervals the known ones lie."""
    own = 1.0 / 3.0 / (1.0 + WEIGHTS) ** 2
    whole = np.prod(1.0 + own) - 1.0
    cases = (
        (waves, FIRST, TOTAL),
        (product, own / whole, own * np.prod(1.0 + own) / (1.0 + own) / whole),
    )
    near, covered = [], []
    for function, first, total in cases:
        for seed in range(seeds):
            rng = np.random.default_rng(seed)
            found = variance_shares(function(pair_designs(len(first), 20_000, rng)), len(first), rng)
            near.append(max(np.abs(found.first - first).max(), np.abs(found.total - total).max()) <= 0.02)
            covered += ((found.first_low <= first) & (first <= found.first_high)).tolist()
            covered += ((found.total_low <= total) & (total <= found.total_high)).tolist()
    return float(np.mean(near)), float(np.mean(covered))


def spread() -> float:
    """Return the least distance of a Latin hypercube over the largest one of 50 unsought ones (median of sizes)."""
    found = []
    for n, count in ((2, 20), (4, 40), (8, 80)):
        space = Space(tuple(map(str, range(n))), np.zeros(n), np.ones(n), (None,) * n, np.zeros(n))
        plan = plan_named("latin-hypercube")
        own = quality(space, plan.make(space, count, np.random.default_rng(0), plan.options()).designs).least
        best = 0.0
        for seed in range(50):
            rng = np.random.default_rng(seed)
            strata = np.stack([rng.permutation(count) for _ in range(n)], axis=1)
            best = max(best, quality(space, (strata + rng.random((count, n))) / count).least)
        found.append(own / best)
    return float(np.median(found))


def page_seconds(count: int = 4000) -> float:
    """Return the seconds that filtering so many designs on record and writing them as a page takes."""
    from ilvren.draw.designs import write_designs_page

    with tempfile.TemporaryDirectory() as folder, Ledger(Path(folder) / "l.ledger") as ledger:
        sample(planned(loads(PLATE), "random", count), ledger=ledger)
        ledger.flush()
        began = time.perf_counter()
        table = designs_of(ledger, ["r1"], keep=["stiff >= 0.7"])
        write_designs_page(table, str(Path(folder) / "page.html"), table.names)
        return time.perf_counter() - began


def main() -> None:
    """Print all figures."""
    near, covered = shares_found()
    print(f"variance shares within 0.02 for 20,000 designs: {100 * near:.0f} % of repeats")
    print(f"intervals of variance shares cover the known ones: {100 * covered:.0f} %, limit 90")
    print(f"least distance of a Latin hypercube over the best of 50 unsought ones: {spread():.2f}, limit 1")
    print(f"4,000 designs filtered and written as a page: {page_seconds():.1f} s, limit 5")


if __name__ == "__main__":
    main()
