"""What approximations promise: errors against those of a statistics library, how true the told errors are, how
often intervals hold, and what fitting and predicting take.

Needs scikit-learn (`pip install -e ".[benchmarks]"`), here alone. `python -m benchmarks.approximating [--quick]`.
"""

from __future__ import annotations

import sys
import time
import warnings
from collections.abc import Callable

import numpy as np

from ilvren.approximate import approximated
from ilvren.plans.latin import latin_shares

Values = Callable[[np.ndarray], np.ndarray]

# Published test functions on shares of their boxes: (variables, function).
SIX = (
    np.array(
        [[10, 3, 17, 3.5, 1.7, 8], [0.05, 10, 17, 0.1, 8, 14], [3, 3.5, 1.7, 10, 17, 8], [17, 8, 0.05, 10, 0.1, 14]]
    ),
    1e-4
    * np.array(
        [
            [1312, 1696, 5569, 124, 8283, 5886],
            [2329, 4135, 8307, 3736, 1004, 9991],
            [2348, 1451, 3522, 2883, 3047, 6650],
            [4047, 8828, 8732, 5743, 1091, 381],
        ]
    ),
)
THREE = (
    np.array([[3, 10, 30], [0.1, 10, 35], [3, 10, 30], [0.1, 10, 35]]),
    1e-4 * np.array([[3689, 1170, 2673], [4699, 4387, 7470], [1091, 8732, 5547], [381, 5743, 8828]]),
)


def hartmann(matrices: tuple[np.ndarray, np.ndarray]) -> Values:
    a, p = matrices
    return lambda x: -(np.exp(-(a * (x[:, None] - p) ** 2).sum(axis=2)) @ np.array([1.0, 1.2, 3.0, 3.2]))


def branin(x: np.ndarray) -> np.ndarray:
    a, b = 15 * x[:, 0] - 5, 15 * x[:, 1]
    return (b - 5.1 / (4 * np.pi**2) * a**2 + 5 / np.pi * a - 6) ** 2 + 10 * (1 - 1 / (8 * np.pi)) * np.cos(a) + 10


def camel(x: np.ndarray) -> np.ndarray:
    a, b = 4 * x[:, 0] - 2, 2 * x[:, 1] - 1
    return (4 - 2.1 * a * a + a**4 / 3) * a * a + a * b + (4 * b * b - 4) * b * b


def ishigami(x: np.ndarray) -> np.ndarray:
    z = (2 * x - 1) * np.pi
    return np.sin(z[:, 0]) + 7 * np.sin(z[:, 1]) ** 2 + 0.1 * z[:, 2] ** 4 * np.sin(z[:, 0])


def beam(x: np.ndarray) -> np.ndarray:
    length, height, width, stiffness = 1 + x[:, 0], 0.1 + 0.1 * x[:, 1], 0.05 + 0.05 * x[:, 2], 100 + 100 * x[:, 3]
    return 0.012 * length**3 / (3 * stiffness * width * height**3)


def friedman(x: np.ndarray) -> np.ndarray:
    return 10 * np.sin(np.pi * x[:, 0] * x[:, 1]) + 20 * (x[:, 2] - 0.5) ** 2 + 10 * x[:, 3] + 5 * x[:, 4]


def piston(x: np.ndarray) -> np.ndarray:
    low = np.array([30, 0.005, 0.002, 1000, 90000, 290, 340])
    high = np.array([60, 0.02, 0.01, 5000, 110000, 296, 360])
    mass, area, volume, spring, pressure, around, inside = (low + (high - low) * x).T
    a = pressure * area + 19.62 * mass - spring * volume / area
    v = area / (2 * spring) * (np.sqrt(a * a + 4 * spring * pressure * volume / inside * around) - a)
    return 2 * np.pi * np.sqrt(mass / (spring + area**2 * pressure * volume * around / (inside * v * v)))


def borehole(x: np.ndarray) -> np.ndarray:
    low = np.array([0.05, 100, 63070, 990, 63.1, 700, 1120, 9855])
    high = np.array([0.15, 50000, 115600, 1110, 116, 820, 1680, 12045])
    rw, r, tu, hu, tl, hl, length, k = (low + (high - low) * x).T
    ratio = np.log(r / rw)
    return 2 * np.pi * tu * (hu - hl) / (ratio * (1 + 2 * length * tu / (ratio * rw**2 * k) + tu / tl))


def product(x: np.ndarray) -> np.ndarray:
    weights = np.array([0.0, 1.0, 4.5, 9.0, 99.0, 99.0, 99.0, 99.0])
    return np.prod((np.abs(4 * x - 2) + weights) / (1 + weights), axis=1)


def wing(x: np.ndarray) -> np.ndarray:
    low = np.array([150, 220, 6, -10, 16, 0.5, 0.08, 2.5, 1700, 0.025])
    high = np.array([200, 300, 10, 10, 45, 1, 0.18, 6, 2500, 0.08])
    area, fuel, aspect, sweep, q, taper, thick, load, mass, paint = (low + (high - low) * x).T
    slope = np.cos(np.radians(sweep))
    shape = (aspect / slope**2) ** 0.6 * q**0.006 * taper**0.04 * (100 * thick / slope) ** -0.3
    return 0.036 * area**0.758 * fuel**0.0035 * shape * (load * mass) ** 0.49 + area * paint


def bowl(x: np.ndarray) -> np.ndarray:
    z = 2 * x - 1
    return ((np.arange(1, 13) * z) ** 2).sum(axis=1) / 50 + 3 * z[:, 0] * z[:, 1] + 2 * np.sin(3 * z[:, 2])


FUNCTIONS: dict[str, tuple[int, Values]] = {
    "branin": (2, branin),
    "camel": (2, camel),
    "hartmann-3": (3, hartmann(THREE)),
    "ishigami": (3, ishigami),
    "beam": (4, beam),
    "friedman": (5, friedman),
    "hartmann-6": (6, hartmann(SIX)),
    "piston": (7, piston),
    "borehole": (8, borehole),
    "product": (8, product),
    "wing": (10, wing),
    "bowl": (12, bowl),
}
UNSEEN = 3000


def library(x: np.ndarray, y: np.ndarray, new: np.ndarray) -> dict[str, np.ndarray]:
    """What the library's Gaussian processes and polynomials say at new points."""
    from sklearn.gaussian_process import GaussianProcessRegressor
    from sklearn.gaussian_process.kernels import RBF, ConstantKernel, Matern, WhiteKernel
    from sklearn.linear_model import LinearRegression
    from sklearn.pipeline import make_pipeline
    from sklearn.preprocessing import PolynomialFeatures

    found, lengths = {}, [1.0] * x.shape[1]
    with warnings.catch_warnings():
        warnings.simplefilter("ignore")
        for name, kernel in (("gp", RBF(lengths, (1e-2, 1e3))), ("gp-matern", Matern(lengths, (1e-2, 1e3), 2.5))):
            whole = ConstantKernel(1.0, (1e-3, 1e5)) * kernel + WhiteKernel(1e-5, (1e-10, 1.0))
            made = GaussianProcessRegressor(whole, normalize_y=True, n_restarts_optimizer=1, random_state=0)
            found[name] = made.fit(x, y).predict(new)
        for degree in (1, 2, 3):
            made = make_pipeline(PolynomialFeatures(degree), LinearRegression())
            found[f"degree {degree}"] = made.fit(x, y).predict(new)
    return found


def with_slopes() -> None:
    """How much slopes at the points make surfaces better, and whether what is told stays true: 6 n points."""
    ratios, told, covered = [], [], []
    for name, (n, function) in FUNCTIONS.items():
        rng = np.random.default_rng(5)
        x, new = 1e-3 + 0.998 * latin_shares(n, 6 * n, rng), rng.random((UNSEEN, n))
        y, actual = function(x), function(new)
        slopes = np.array([(function(x + step) - function(x - step)) / 2e-6 for step in 1e-6 * np.eye(n)]).T
        errors = []
        for given in (None, slopes):
            made = approximated(x, y, slopes=given)
            said = made.surface.at(new)
            errors.append(float(np.sqrt(np.mean((said - actual) ** 2)) / actual.std()))
        ratios.append(errors[1] / errors[0])
        told.append(made.told.error * y.std() / actual.std() / errors[1])
        covered.append(float(np.mean(np.abs(said - actual) <= made.half_width(new))))
        print(
            f"{name:11s} {6 * n:4d} points  error {errors[0]:.2e}, with slopes {errors[1]:.2e}, told {told[-1]:.2f} of"
            f" the true  90 % holds {covered[-1]:.2f}",
            flush=True,
        )
    within = np.mean((np.array(told) >= 0.5) & (np.array(told) <= 2.0))
    print(f"error with slopes over that without, median: {np.median(ratios):.2f}")
    print(
        f"told error within a factor of two: {100 * within:.0f} %; 90 % intervals hold {100 * np.mean(covered):.0f} %"
    )


def main() -> None:
    if "--slopes" in sys.argv:
        with_slopes()
        return
    sizes = (10, 20) if "--quick" in sys.argv else (10, 20, 40)
    ratios, told, covered = [], [], []
    for name, (n, function) in FUNCTIONS.items():
        for times in sizes:
            rng = np.random.default_rng(times)
            x, new = latin_shares(n, times * n, rng), rng.random((UNSEEN, n))
            y, actual = function(x), function(new)
            made = approximated(x, y)
            said = made.surface.at(new)
            error = float(np.sqrt(np.mean((said - actual) ** 2)))
            others = {key: float(np.sqrt(np.mean((v - actual) ** 2))) for key, v in library(x, y, new).items()}
            best = min(others, key=lambda key: others[key])
            ratios.append(error / others[best])
            told.append(made.told.error * y.std() / error)
            covered.append(float(np.mean(np.abs(said - actual) <= made.half_width(new))))
            print(
                f"{name:11s} {times * n:4d} points  error {error / actual.std():.2e}  of the best of the library's"
                f" ({best}) {ratios[-1]:.2f}  told {told[-1]:.2f} of the true  90 % holds {covered[-1]:.2f}"
                f"  {made.surface.kind}",
                flush=True,
            )
    within = np.mean((np.array(told) >= 0.5) & (np.array(told) <= 2.0))
    print(f"error over the better of the library's, median: {np.median(ratios):.2f} (limit 1.2)")
    print(f"told error within a factor of two: {100 * within:.0f} % (limit 80 %)")
    print(f"90 % intervals hold: {100 * np.mean(covered):.0f} % (85 .. 95 %)")
    rng = np.random.default_rng(0)
    x = latin_shares(10, 500, rng)
    began = time.perf_counter()
    made = approximated(x, wing(x))
    fitting = time.perf_counter() - began
    began = time.perf_counter()
    made.surface.at(rng.random((100_000, 10)))
    predicting = time.perf_counter() - began
    matrix = np.eye(500) + 0.1 * np.ones((500, 500))
    began = time.perf_counter()
    for _ in range(20):
        np.linalg.cholesky(matrix)
    each = (time.perf_counter() - began) / 20
    print(f"500 points of 10 variables, all kinds: {fitting:.1f} s (limit 30 s), {fitting / each:.0f} factorizations")
    print(f"100,000 designs predicted: {predicting:.2f} s (limit 3 s)")
    with_slopes()


if __name__ == "__main__":
    main()
