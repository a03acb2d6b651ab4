"""Our own array type: each NumPy function's values are NumPy's and its slopes those of differences; the rest is refused."""

import inspect
import math
import unittest

import numpy as np

from ilvren.models.failures import CannotFollow
from ilvren.models.python.called import RULES, called
from ilvren.models.python.traced_functions import Traced

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
    "loops": lambda u, a, x: Traced.stacked([value * x for value in u]),
    "assignment": lambda u, a, x: _assigned(u, x),
    "views": lambda u, a, x: _written_through(u, a, x),
    "in place": lambda u, a, x: _changed(u, a, x),
    "filling": lambda u, a, x: _filled(u, x),
    "remainders": lambda u, a, x: u % 0.37 + np.fmod(u, x) + 2.0 % x,
    "matrix pieces": lambda u, a, x: np.inner(a, a) @ u[:2] + np.outer(a, u)[0, :2],
    "reductions": lambda u, a, x: np.add.reduce(a) + np.multiply.reduce(a, axis=0) + np.add.accumulate(a, axis=1)[0],
    "steps": lambda u, a, x: u * np.floor(x) + np.sign(u) * x + np.argmax(u) * u + np.isfinite(u) * x,
}
# For every argument of every handled function that is implemented, beside the arrays themselves: a call that gives it.
CALLS = {
    "sum": {"axis": lambda u, a, x: np.sum(a, (0, 1)), "keepdims": lambda u, a, x: np.sum(a, 1, keepdims=True) * a},
    "mean": {"axis": lambda u, a, x: np.mean(a, axis=-1), "keepdims": lambda u, a, x: a.mean(0, keepdims=True) - a},
    "prod": {"axis": lambda u, a, x: a.prod(axis=0), "keepdims": lambda u, a, x: np.prod(a, keepdims=1) * a},
    "max": {"axis": lambda u, a, x: np.max(a, axis=(0, 1)), "keepdims": lambda u, a, x: a - a.max(0, keepdims=True)},
    "min": {"axis": lambda u, a, x: np.min(a, -1), "keepdims": lambda u, a, x: a - np.min(a, 1, keepdims=True)},
    "amax": {"axis": lambda u, a, x: np.amax(a, 1), "keepdims": lambda u, a, x: np.amax(a, 0, keepdims=True) * a},
    "amin": {"axis": lambda u, a, x: np.amin(a, 1), "keepdims": lambda u, a, x: np.amin(a, 0, keepdims=True) * a},
    "cumsum": {"axis": lambda u, a, x: np.cumsum(a, 0)},
    "trapezoid": {
        "x": lambda u, a, x: (
            np.trapezoid(a, x=[0.0, 0.5, 2.0]) + np.trapezoid(u * u, u) + np.trapezoid([1.0, 2.0], u[:2])
        ),
        "dx": lambda u, a, x: np.trapezoid(u, dx=x),
        "axis": lambda u, a, x: np.trapezoid(a, [0.0, 0.7], axis=0) + np.trapezoid(a, a, axis=0),
    },
    "where": {"x": lambda u, a, x: np.where(u > 0, u, 1.0), "y": lambda u, a, x: np.where([True, False] * 2, 2.0, u)},
    "concatenate": {"axis": lambda u, a, x: np.concatenate([a, a * a], axis=1) * np.concatenate([a, a], None)[:6]},
    "append": {
        "values": lambda u, a, x: np.append(a, [x, 2.0]),
        "axis": lambda u, a, x: np.append(a, a[:1] * x, axis=0),
    },
    "stack": {"axis": lambda u, a, x: np.stack([u, u * x], axis=1)},
    "diff": {
        "n": lambda u, a, x: np.diff(u, 3),
        "axis": lambda u, a, x: np.diff(a * a, axis=0),
        "prepend": lambda u, a, x: np.diff(u, prepend=x) + np.diff(u, prepend=0.0),
        "append": lambda u, a, x: np.diff(a, append=[[0.0], [1.0]]),
    },
    "interp": {"xp": lambda u, a, x: np.interp(u, POINTS, POINTS**3), "fp": lambda u, a, x: np.interp(0.1, POINTS, u)},
    "clip": {
        "a_min": lambda u, a, x: np.clip(u, x, None),
        "a_max": lambda u, a, x: np.clip(u, None, x),
        "min": lambda u, a, x: np.clip(u, min=0.0),
        "max": lambda u, a, x: u.clip(max=x),
    },
    "reshape": {"shape": lambda u, a, x: np.reshape(a, shape=(3, 2)) * a.reshape(3, -1)},
    "transpose": {"axes": lambda u, a, x: np.transpose(a[np.newaxis], (2, 0, 1)) * a.transpose(1, 0)[:, np.newaxis]},
    "swapaxes": {"axis1": lambda u, a, x: a.swapaxes(0, 1), "axis2": lambda u, a, x: np.swapaxes(a, 1, axis2=0)},
    "moveaxis": {
        "source": lambda u, a, x: np.moveaxis(a, 0, 1),
        "destination": lambda u, a, x: np.moveaxis(a, 0, destination=-1),
    },
    "squeeze": {"axis": lambda u, a, x: np.squeeze(a[np.newaxis], axis=0)},
    "flip": {"axis": lambda u, a, x: np.flip(a, 1)},
    "roll": {"shift": lambda u, a, x: np.roll(a, 2), "axis": lambda u, a, x: np.roll(a, 1, axis=1)},
    "expand_dims": {"axis": lambda u, a, x: np.expand_dims(a, (0, 2)) * x},
    "broadcast_to": {"shape": lambda u, a, x: np.broadcast_to(u, (2, 4)) * x},
    "take": {
        "indices": lambda u, a, x: np.take(indices=[0, 2], a=u),
        "axis": lambda u, a, x: a.take([2, 0], axis=1),
        "mode": lambda u, a, x: np.take(u, [5, -1], mode="wrap"),
    },
    "repeat": {"repeats": lambda u, a, x: np.repeat(u, 2), "axis": lambda u, a, x: np.repeat(a, [1, 2], axis=0)},
    "tile": {"reps": lambda u, a, x: np.tile(a, (2, 1))},
    "diagonal": {
        "offset": lambda u, a, x: a.diagonal(1),
        "axis1": lambda u, a, x: np.diagonal(a, axis1=1, axis2=0),
        "axis2": lambda u, a, x: np.diagonal(a[np.newaxis], 0, 1, axis2=2),
    },
    "trace": {
        "offset": lambda u, a, x: np.trace(a, offset=1),
        "axis1": lambda u, a, x: np.trace(a, -1, axis1=1, axis2=0),
        "axis2": lambda u, a, x: a[np.newaxis].trace(0, 1, 2),
    },
    "diag": {"k": lambda u, a, x: np.diag(u, k=-1) * x + np.diag(np.diag(a, k=1), 3)[:5, :5]},
    "zeros_like": {
        "dtype": lambda u, a, x: np.zeros_like(u, dtype=int) + u,
        "shape": lambda u, a, x: np.zeros_like(u, shape=(2, 3)) + a,
    },
    "ones_like": {
        "dtype": lambda u, a, x: np.ones_like(u, float) * x,
        "shape": lambda u, a, x: np.ones_like(a, shape=2) * x,
    },
    "empty_like": {
        "dtype": lambda u, a, x: np.multiply(0, np.empty_like(u, dtype=int)) + u,
        "shape": lambda u, a, x: 0.0 * x + np.empty_like(u, shape=5).size,
    },
    "full_like": {
        "fill_value": lambda u, a, x: np.full_like(u, x) * u,
        "dtype": lambda u, a, x: np.full_like(u, 2.7, dtype=int) * u,
        "shape": lambda u, a, x: np.full_like(u, 2.0, shape=3) * x,
    },
    "size": {"axis": lambda u, a, x: np.size(a, 1) * x},
    "any": {
        "axis": lambda u, a, x: np.any(a > 1, axis=1) * x,
        "keepdims": lambda u, a, x: (a > 1).any(0, keepdims=True) * a,
    },
    "all": {"axis": lambda u, a, x: np.all(a, axis=1) * x, "keepdims": lambda u, a, x: a.all(0, keepdims=True) * a},
    "argmax": {
        "axis": lambda u, a, x: a.argmax(axis=1) * x,
        "keepdims": lambda u, a, x: np.argmax(a, 1, keepdims=True) * a,
    },
    "argmin": {
        "axis": lambda u, a, x: a.argmin(axis=1) * x,
        "keepdims": lambda u, a, x: np.argmin(a, 0, keepdims=True) * a,
    },
    "argsort": {
        "axis": lambda u, a, x: np.argsort(a, axis=0) * x,
        "kind": lambda u, a, x: u[np.argsort(u, kind="stable")],
    },
    "count_nonzero": {
        "axis": lambda u, a, x: np.count_nonzero(a > 0, axis=1) * x,
        "keepdims": lambda u, a, x: np.count_nonzero(a, axis=1, keepdims=True) * a,
    },
    "searchsorted": {
        "v": lambda u, a, x: np.searchsorted(POINTS, x) * u,
        "side": lambda u, a, x: np.searchsorted(POINTS, u, side="right") * x,
        "sorter": lambda u, a, x: np.searchsorted(u, 0.5, sorter=np.argsort(u)) * x,
    },
    "isclose": {
        "rtol": lambda u, a, x: np.isclose(u, 0.5, rtol=0.9) * x,
        "atol": lambda u, a, x: np.isclose(u, 0.5, atol=0.9) * x,
        "equal_nan": lambda u, a, x: np.isclose(u, np.nan, equal_nan=True) * x,
    },
    "allclose": {
        "rtol": lambda u, a, x: np.allclose(u, 0.5, rtol=9.0) * x,
        "atol": lambda u, a, x: np.allclose(u, 0.5, atol=9.0) * x,
        "equal_nan": lambda u, a, x: np.allclose(u, u, equal_nan=True) * x,
    },
    "array_equal": {"equal_nan": lambda u, a, x: np.array_equal(u, u, equal_nan=True) * x},
    "norm": {
        "ord": lambda u, a, x: np.linalg.norm(u, 1) + np.linalg.norm(u, np.inf) + np.linalg.norm(a, "fro"),
        "axis": lambda u, a, x: np.linalg.norm(a, ord=2, axis=1),
        "keepdims": lambda u, a, x: a / np.linalg.norm(a, axis=1, keepdims=True),
    },
}
# Arguments that are arrays themselves, and stand in every call.
ARRAYS = {"a", "b", "y", "m", "A", "v", "x", "arr", "arrays", "array", "tup", "condition", "prototype", "a1", "a2"}
REFUSED = {
    "math": (lambda u, a, x: math.sqrt(x), "math"),
    "storing": (lambda u, a, x: np.zeros(4).__setitem__(0, x), "plain array"),
    "array": (lambda u, a, x: np.array([x, x]), "plain array|numpy.array"),
    "sorting": (lambda u, a, x: np.sort(u), "numpy.sort"),
    "solving": (lambda u, a, x: np.linalg.solve(np.outer(u, u), u), "numpy.linalg.solve"),
    "matrix norms": (lambda u, a, x: np.linalg.norm(a, ord=2), "ord=2"),
    "out": (lambda u, a, x: np.add(u, 1.0, out=np.zeros(4)), "out="),
    "in place": (lambda u, a, x: np.zeros(4).__iadd__(u), "in place"),
    "rounding": (lambda u, a, x: round(x), "round"),
    "parts": (lambda u, a, x: np.add(u, 1.0, where=[True, False, True, True]), "where="),
    "parts of sums": (lambda u, a, x: u.sum(where=np.array([True, False, True, True])), "where="),
    "other ends": (lambda u, a, x: np.interp(u, POINTS, POINTS, left=7.0), "left="),
    "other orders": (lambda u, a, x: a.ravel(order="F"), "order="),
    "complex": (lambda u, a, x: u * 1j, "complex"),
    "other methods": (lambda u, a, x: u.std(), ".std"),
    "other dimensions": (lambda u, a, x: np.dot(a, np.zeros((2, 3, 4))), "more than two axes"),
}


def _written_through(u, a, x):
    y = u[1:]
    y[0] = x  # u[1], too
    b = a.T.reshape(3, 2)
    b[0, 1] = u[1] * u[0]
    c = a.copy()
    c[0] = 7.0  # a stays
    u[[0, 3]] = y[:2] * x
    return np.concatenate([u, y, a.ravel(), b.ravel(), c.ravel(), u[u > 0.0] * 1.0])


def _changed(u, a, x):
    y, z = u[:2], x
    u += x
    u[1:] *= 2.0
    a[0] -= u[:3] ** 2
    z += u[0]  # x stays
    return np.concatenate([u, y * x, a.ravel(), [z, x]])


def _filled(u, x):
    out, other = np.zeros_like(u), np.empty_like(u)
    out[0] = x
    for k in range(1, 4):
        out[k] = out[k - 1] * u[k]
    other.fill(2.0)
    other[::2] = u[1::2]
    return out + other


def _assigned(u, x):
    out = u.copy()
    out[1] = x * out[0]
    out[2:] = u[:2]
    return out


class EveryOperation(unittest.TestCase):
    def followed(self):
        parts, at = [], 0
        for value in (U, A, np.float64(0.8)):
            parts.append(Traced.input(np.asarray(value), at, 11))
            at += np.size(value)
        return parts

    def test_values_and_slopes(self):
        flat = np.concatenate([U, A.ravel(), [0.8]])

        def plain(work, moved):
            u, a, x = moved[:4], moved[4:10].reshape(2, 3), moved[10]
            result = work(u.copy(), a.copy(), np.float64(x))
            return np.asarray(getattr(result, "value", result), dtype=float)

        calls = {f"{name} {word}": call for name, own in CALLS.items() for word, call in own.items()}
        for name, work in (WORKS | calls).items():
            with self.subTest(operation=name):
                found = work(*self.followed())
                np.testing.assert_allclose(found.value, plain(work, flat), rtol=1e-13)
                h = 1e-6
                columns = [
                    np.ravel(plain(work, flat + h * e) - plain(work, flat - h * e)) / (2 * h) for e in np.eye(11)
                ]
                np.testing.assert_allclose(found.slopes.toarray(), np.array(columns).T, atol=2e-8)

    def test_every_argument_of_every_function_is_right_or_refused_by_name(self):
        for function, rule in RULES.items():
            name = function.__name__
            own = [p for p in inspect.signature(function).parameters.values() if p.kind != p.VAR_KEYWORD]
            if name in ("amax", "amin", "trapz") and not hasattr(np, "amax"):
                continue
            for word in (p.name for p in own if p.kind != p.VAR_POSITIONAL):
                with self.subTest(function=name, argument=word):
                    if word in rule.implemented:
                        self.assertTrue(word in ARRAYS or word in CALLS.get(name, {}), "no call tries it")
                        continue
                    with self.assertRaisesRegex(CannotFollow, f"{word}="):
                        called(function, (), {word: np.array([7])})

    def test_what_is_not_known_is_refused_by_name(self):
        for name, (work, words) in REFUSED.items():
            with self.subTest(operation=name), self.assertRaises((CannotFollow, ValueError)) as caught:
                work(*self.followed())
            error = caught.exception  # NumPy may wrap it
            self.assertRegex(str(error if isinstance(error, CannotFollow) else error.__cause__), words)

    def test_kinks_take_the_average_and_patterns_do_not_depend_on_the_point(self):
        x = Traced.input(np.array([0.0, 0.0]), 0, 2)
        np.testing.assert_allclose(np.abs(x).slopes.toarray(), np.zeros((2, 2)))
        np.testing.assert_allclose(np.maximum(x[0], x[1]).slopes.toarray(), [[0.5, 0.5]])
        np.testing.assert_allclose(np.hypot(x[0], x[1]).slopes.toarray(), [[0.0, 0.0]])
        np.testing.assert_allclose(np.linalg.norm(x).slopes.toarray(), [[0.0, 0.0]])
        np.testing.assert_allclose(np.interp(x, [-1.0, 0.0, 2.0], [1.0, 0.0, 4.0]).slopes.toarray(), 0.5 * np.eye(2))
        self.assertEqual((x[0] * x[1] + x[0]).slopes.nnz, 2)  # the slope by x[1] is 0 here, and not elsewhere
        self.assertEqual(np.where(np.array([True, False]), x, x[::-1]).slopes.nnz, 4)
