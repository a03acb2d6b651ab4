"""Our own array type: each NumPy function's values are NumPy's and its slopes those of differences; the rest is refused."""

import math
import unittest

import numpy as np

from ilvren.models.failures import CannotFollow
from ilvren.models.followed import Followed

U = np.array([0.4, -0.7, 1.3, 0.9])
A = np.array([[0.3, 1.2, -0.5], [0.8, -0.1, 0.6]])
POINTS = np.array([-1.0, 0.0, 0.5, 2.0])

# What a model may write, of a vector u (4), a matrix a (2, 3) and a number x.
WORKS = {
    "arithmetic": lambda u, a, x: 2 * u - u / (3 + x) + -u + u**2 - 2.0**u + x**1.5,
    "reflected": lambda u, a, x: 1 / (u + 3) - (1 - u) * 3,
    "roots": lambda u, a, x: np.sqrt(u + 2) + np.cbrt(u + 4) + np.reciprocal(u + 3) + np.square(u),
    "exponentials": lambda u, a, x: np.exp(u) + np.expm1(x) + np.exp2(u) - np.log(u + 2) - np.log10(u + 3),
    "logarithms": lambda u, a, x: np.log1p(u + 1) + np.log2(x),
    "circular": lambda u, a, x: np.sin(u) * np.cos(x) + np.tan(u / 3) + np.arctan(u) + np.arctan2(u, x),
    "inverse": lambda u, a, x: np.arcsin(u / 3) - np.arccos(u / 3),
    "hyperbolic": lambda u, a, x: np.sinh(u) + np.cosh(u) * np.tanh(x) + np.arcsinh(u),
    "more hyperbolic": lambda u, a, x: np.arctanh(u / 3) + np.arccosh(u + 3),
    "angles": lambda u, a, x: np.radians(u) + np.degrees(x) / 100 + np.deg2rad(u) + np.rad2deg(u),
    "absolute": lambda u, a, x: np.abs(u) + np.fabs(u - x) + np.hypot(u, x),
    "extremes": lambda u, a, x: np.maximum(u, x) + np.minimum(u, 0.5) + np.max(u) - u.min() + np.fmax(u, 0),
    "matrix extremes": lambda u, a, x: np.max(a, axis=1) + a.min(axis=1),
    "clip": lambda u, a, x: np.clip(u, -0.5, x) + np.clip(u, 0.0, 1.0),
    "sums": lambda u, a, x: np.sum(a, axis=0) * x + a.sum() + u.mean() + np.mean(a, axis=0) + sum(u),
    "products": lambda u, a, x: np.prod(u) + np.dot(u, u) + u @ u + np.inner(u, u),
    "matrix products": lambda u, a, x: a @ u[:3] + np.dot(u[:2], a) @ u[1:] + (a.T @ a)[0, 0] + a.dot(u[1:]),
    "outer": lambda u, a, x: np.outer(u, u[:2]) * x,
    "indexing": lambda u, a, x: u[1:] * u[:-1] + a[0, 1] * u[[0, 2, 1]] + a[1][::-1],
    "boolean indexing": lambda u, a, x: u[np.array([True, False, True, False])] * x,
    "shapes": lambda u, a, x: np.reshape(a, (3, 2)).T.ravel() + a.flatten() + np.transpose(a).reshape(-1),
    "axes": lambda u, a, x: u[:, np.newaxis] * np.squeeze(np.expand_dims(u, 0)) + np.atleast_1d(x),
    "rolling": lambda u, a, x: np.roll(u, 1) + np.flip(u) + np.take(u, [3, 2, 1, 0]) * x,
    "joins": lambda u, a, x: np.concatenate([u, a[0], np.zeros(2)]) * np.hstack([x, u, u]),
    "stacks": lambda u, a, x: np.stack([u, u * x]) + np.append(u, 1.0)[:4],
    "differences": lambda u, a, x: np.diff(u, n=2) * x + np.diff(a, axis=1)[0] + np.cumsum(u)[2:],
    "matrix sums": lambda u, a, x: np.cumsum(a, axis=1) + np.broadcast_to(x, (2, 3)) * a,
    "where": lambda u, a, x: np.where(u > x, u**2, np.sin(u)) + np.where(u < 0, 0.0, u),
    "interp": lambda u, a, x: np.interp(u, POINTS, POINTS**2) + np.interp(x, POINTS, np.concatenate([u[:3], [x]])),
    "norms": lambda u, a, x: np.linalg.norm(u) * np.linalg.norm(a, axis=0),
    "diagonals": lambda u, a, x: np.trace(a[:, :2]) * np.diag(a[:, 1:]),
    "constants": lambda u, a, x: np.ones_like(u) * x + np.zeros_like(u) + np.full_like(u, 2.0) * u,
    "branches": lambda u, a, x: u * 2 if x > 0 and np.any(u > 0) and len(u) == 4 else u / 0,
    "loops": lambda u, a, x: Followed.stacked([value * x for value in u]),
    "assignment": lambda u, a, x: _assigned(u, x),
    "steps": lambda u, a, x: u * np.floor(x) + np.sign(u) * x + np.argmax(u) * u + np.isfinite(u) * x,
}
REFUSED = {
    "math": (lambda u, a, x: math.sqrt(x), "math"),
    "storing": (lambda u, a, x: np.zeros(4).__setitem__(0, x), "plain array"),
    "array": (lambda u, a, x: np.array([x, x]), "plain array|numpy.array"),
    "sorting": (lambda u, a, x: np.sort(u), "numpy.sort"),
    "solving": (lambda u, a, x: np.linalg.solve(np.outer(u, u), u), "numpy.solve"),
    "modulo": (lambda u, a, x: u % 2, "numpy.remainder"),
    "other norms": (lambda u, a, x: np.linalg.norm(u, ord=1), "ord=1"),
    "out": (lambda u, a, x: np.add(u, 1.0, out=np.zeros(4)), "out="),
    "rounding": (lambda u, a, x: round(x), "round"),
}


def _assigned(u, x):
    out = u.copy()
    out[1] = x * out[0]
    out[2:] = u[:2]
    return out


class EveryOperation(unittest.TestCase):
    def followed(self):
        parts, at = [], 0
        for value in (U, A, np.float64(0.8)):
            parts.append(Followed.input(np.asarray(value), at, 11))
            at += np.size(value)
        return parts

    def test_values_and_slopes(self):
        flat = np.concatenate([U, A.ravel(), [0.8]])

        def plain(work, moved):
            u, a, x = moved[:4], moved[4:10].reshape(2, 3), moved[10]
            result = work(u, a, np.float64(x))
            return np.asarray(getattr(result, "value", result), dtype=float)

        for name, work in WORKS.items():
            with self.subTest(operation=name):
                found = work(*self.followed())
                np.testing.assert_allclose(found.value, plain(work, flat), rtol=1e-13)
                h = 1e-6
                columns = [
                    np.ravel(plain(work, flat + h * e) - plain(work, flat - h * e)) / (2 * h) for e in np.eye(11)
                ]
                np.testing.assert_allclose(found.slopes.toarray(), np.array(columns).T, atol=2e-8)

    def test_what_is_not_known_is_refused_by_name(self):
        for name, (work, words) in REFUSED.items():
            with self.subTest(operation=name), self.assertRaises((CannotFollow, ValueError)) as caught:
                work(*self.followed())
            error = caught.exception  # NumPy may wrap it
            self.assertRegex(str(error if isinstance(error, CannotFollow) else error.__cause__), words)

    def test_kinks_take_the_average_and_patterns_do_not_depend_on_the_point(self):
        x = Followed.input(np.array([0.0, 0.0]), 0, 2)
        np.testing.assert_allclose(np.abs(x).slopes.toarray(), np.zeros((2, 2)))
        np.testing.assert_allclose(np.maximum(x[0], x[1]).slopes.toarray(), [[0.5, 0.5]])
        self.assertEqual((x[0] * x[1] + x[0]).slopes.nnz, 2)  # the slope by x[1] is 0 here, and not elsewhere
        self.assertEqual(np.where(np.array([True, False]), x, x[::-1]).slopes.nnz, 4)
