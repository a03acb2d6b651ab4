"""Our own array type: values with their exact derivatives by a model's inputs, through NumPy's protocols.

A `Followed` array holds a value and a sparse matrix of slopes (elements, inputs). NumPy's functions are told
what to do with it by `__array_ufunc__` and `__array_function__`; what is not known here is refused by name, never
computed without its derivative. Comparisons look at values alone, so a function may branch on them.

Source: A. Griewank, A. Walther, "Evaluating Derivatives", 2nd ed., 2008, chapter 6 (operator overloading, forward).
"""

from __future__ import annotations

import math
from collections.abc import Callable, Sequence
from typing import Any, NoReturn

import numpy as np
from numpy.lib.mixins import NDArrayOperatorsMixin
from numpy.typing import NDArray

from ilvren.models.failures import CannotFollow

__all__ = ["Followed"]

Array = NDArray[Any]


class Followed(NDArrayOperatorsMixin):
    """An array that carries its slopes, a CSR array (size, inputs)."""

    def __init__(self, value: Array, slopes: Any) -> None:
        self.value = np.asarray(value, dtype=float)
        self.slopes = slopes

    @classmethod
    def input(cls, value: Array, first: int, count: int) -> Followed:
        """Return an input, whose elements are the inputs from `first` on, of `count`."""
        from scipy.sparse import csr_array

        n = value.size
        return cls(value, csr_array((np.ones(n), np.arange(first, first + n), np.arange(n + 1)), shape=(n, count)))

    @classmethod
    def stacked(cls, parts: Sequence[Any]) -> Any:
        """Return a list of numbers and followed arrays of one shape as one array."""
        first = next((part for part in parts if isinstance(part, Followed)), None)
        return np.asarray(parts) if first is None else _stack(parts)

    @property
    def shape(self) -> tuple[int, ...]:
        """Return the shape, as of any array."""
        return self.value.shape

    @property
    def size(self) -> int:
        """Return the number of elements."""
        return self.value.size

    @property
    def ndim(self) -> int:
        """Return the number of axes."""
        return self.value.ndim

    @property
    def dtype(self) -> Any:
        """Return the type of the elements."""
        return self.value.dtype

    @property
    def T(self) -> Followed:
        """Return the transpose."""
        return _moved(self, lambda a: a.T)

    def __len__(self) -> int:
        return len(self.value)

    def __iter__(self) -> Any:
        return (self[place] for place in range(len(self)))

    def __getitem__(self, key: Any) -> Followed:
        return _moved(self, lambda a: a[key])

    def __setitem__(self, key: Any, new: Any) -> None:
        places = np.arange(self.size).reshape(self.shape)[key]
        slopes = self.slopes.tolil()
        spread = _spread(_followed(new, self), np.shape(places))
        slopes[np.ravel(places)] = spread.slopes
        self.value = self.value.copy()
        self.value[key] = spread.value
        self.slopes = slopes.tocsr()

    def __bool__(self) -> bool:
        return bool(self.value)

    def __float__(self) -> NoReturn:
        raise CannotFollow("float(), a function of `math`, or storing into a plain array drops the derivative")

    __int__ = __index__ = __complex__ = __float__

    def __array__(self, *_: Any, **__: Any) -> NoReturn:
        raise CannotFollow("numpy.array() or asarray() of a value, or storing it into a plain array (use numpy.stack)")

    def __round__(self, *_: Any) -> NoReturn:
        raise CannotFollow("round()")

    def copy(self) -> Followed:
        """Return a copy."""
        return Followed(self.value.copy(), self.slopes)

    def sum(self, axis: Any = None, **_: Any) -> Followed:
        """Return the sum."""
        return _sum(self, axis)

    def mean(self, axis: Any = None, **_: Any) -> Any:
        """Return the mean."""
        return _mean(self, axis)

    def dot(self, other: Any) -> Any:
        """Return the product."""
        return _dot(self, other)

    def reshape(self, *shape: Any) -> Followed:
        """Return the same elements in another shape."""
        return _moved(self, lambda a: a.reshape(*shape))

    def ravel(self) -> Followed:
        """Return the elements in a row."""
        return _moved(self, lambda a: a.ravel())

    flatten = ravel

    def max(self, axis: Any = None, **_: Any) -> Followed:
        """Return the largest."""
        return _extreme(self, axis, np.maximum)

    def min(self, axis: Any = None, **_: Any) -> Followed:
        """Return the smallest."""
        return _extreme(self, axis, np.minimum)

    def __array_ufunc__(self, ufunc: Any, method: str, *inputs: Any, out: Any = None, **options: Any) -> Any:
        if out is not None:
            raise CannotFollow(f"numpy.{ufunc.__name__} with out=, or an operation in place on a plain array")
        if method == "reduce" and ufunc in (np.add, np.maximum, np.minimum):
            axis = options.get("axis", 0)
            return _sum(inputs[0], axis) if ufunc is np.add else _extreme(inputs[0], axis, ufunc)
        if method != "__call__":
            raise CannotFollow(f"numpy.{ufunc.__name__}.{method}")
        if ufunc in _VALUES_ONLY:
            return ufunc(*(_value(item) for item in inputs))
        if ufunc is np.matmul:
            return _dot(*inputs)
        if ufunc in _UNARY:
            a = inputs[0]
            value = ufunc(a.value)
            with np.errstate(all="ignore"):
                return Followed(value, _scaled(a.slopes, np.ravel(_UNARY[ufunc](a.value, value))))
        if ufunc in _BINARY:
            return _binary(ufunc, *inputs)
        raise CannotFollow(f"numpy.{ufunc.__name__}")

    def __array_function__(self, function: Any, types: Any, args: Any, options: Any) -> Any:
        handler = _FUNCTIONS.get(function)
        if handler is None:
            raise CannotFollow(f"numpy.{getattr(function, '__name__', function)}")
        return handler(*args, **options)


def _value(item: Any) -> Any:
    return item.value if isinstance(item, Followed) else item


def _followed(item: Any, like: Followed) -> Followed:
    if isinstance(item, Followed):
        return item
    if isinstance(item, (list, tuple)) and any(isinstance(part, Followed) for part in item):
        return _stack(item)
    from scipy.sparse import csr_array

    value = np.asarray(item, dtype=float)
    return Followed(value, csr_array((value.size, like.slopes.shape[1])))


def _scaled(slopes: Any, factors: Array) -> Any:
    """Return the slopes with each row times a factor; a row without entries stays empty whatever its factor."""
    made = slopes.copy()
    made.data = made.data * np.repeat(factors, np.diff(slopes.indptr))
    return made


def _moved(a: Followed, move: Callable[[Array], Array]) -> Followed:
    """Return a rearrangement: each element of the result is one of `a`."""
    places = move(np.arange(a.size).reshape(a.shape))
    return Followed(np.asarray(move(a.value)), a.slopes[np.ravel(places)])


def _picked(a: Followed, places: Any, axis: int) -> Followed:
    return _moved(a, lambda v: np.take(v, places, axis=axis))


def _spread(a: Followed, shape: tuple[int, ...]) -> Followed:
    return a if a.shape == shape else _moved(a, lambda v: np.broadcast_to(v, shape))


_UNARY: dict[Any, Callable[[Array, Array], Array]] = {
    np.negative: lambda a, y: np.full(a.shape, -1.0),
    np.positive: lambda a, y: np.ones(a.shape),
    np.square: lambda a, y: 2.0 * a,
    np.sqrt: lambda a, y: 0.5 / y,
    np.cbrt: lambda a, y: 1.0 / (3.0 * y * y),
    np.reciprocal: lambda a, y: -y * y,
    np.exp: lambda a, y: y,
    np.exp2: lambda a, y: y * math.log(2.0),
    np.expm1: lambda a, y: y + 1.0,
    np.log: lambda a, y: 1.0 / a,
    np.log2: lambda a, y: 1.0 / (a * math.log(2.0)),
    np.log10: lambda a, y: 1.0 / (a * math.log(10.0)),
    np.log1p: lambda a, y: 1.0 / (1.0 + a),
    np.sin: lambda a, y: np.cos(a),
    np.cos: lambda a, y: -np.sin(a),
    np.tan: lambda a, y: 1.0 + y * y,
    np.arcsin: lambda a, y: 1.0 / np.sqrt((1.0 - a) * (1.0 + a)),
    np.arccos: lambda a, y: -1.0 / np.sqrt((1.0 - a) * (1.0 + a)),
    np.arctan: lambda a, y: 1.0 / (1.0 + a * a),
    np.sinh: lambda a, y: np.cosh(a),
    np.cosh: lambda a, y: np.sinh(a),
    np.tanh: lambda a, y: 1.0 - y * y,
    np.arcsinh: lambda a, y: 1.0 / np.sqrt(a * a + 1.0),
    np.arccosh: lambda a, y: 1.0 / np.sqrt((a - 1.0) * (a + 1.0)),
    np.arctanh: lambda a, y: 1.0 / ((1.0 - a) * (1.0 + a)),
    np.absolute: lambda a, y: np.sign(a),
    np.fabs: lambda a, y: np.sign(a),
    np.deg2rad: lambda a, y: np.full(a.shape, math.pi / 180.0),
    np.radians: lambda a, y: np.full(a.shape, math.pi / 180.0),
    np.rad2deg: lambda a, y: np.full(a.shape, 180.0 / math.pi),
    np.degrees: lambda a, y: np.full(a.shape, 180.0 / math.pi),
}


def _share(a: Any, b: Any) -> Array:
    return 0.5 + 0.5 * np.sign(np.subtract(a, b))


def _power_by_exponent(a: Any, b: Any, y: Array) -> Array:
    with np.errstate(all="ignore"):
        return np.where(np.equal(a, 0.0) & np.greater(b, 0.0), 0.0, y * np.log(a))


def _power_by_base(a: Any, b: Any) -> Array:
    with np.errstate(all="ignore"):
        return np.where(np.equal(b, 0.0), 0.0, b * np.power(np.asarray(a, dtype=float), np.subtract(b, 1.0)))


# ufunc → the slopes by both operands.
_BINARY: dict[Any, Callable[[Any, Any, Array], tuple[Any, Any]]] = {
    np.add: lambda a, b, y: (1.0, 1.0),
    np.subtract: lambda a, b, y: (1.0, -1.0),
    np.multiply: lambda a, b, y: (b, a),
    np.true_divide: lambda a, b, y: (1.0 / b, -y / b),
    np.power: lambda a, b, y: (_power_by_base(a, b), _power_by_exponent(a, b, y)),
    np.float_power: lambda a, b, y: (_power_by_base(a, b), _power_by_exponent(a, b, y)),
    np.maximum: lambda a, b, y: (_share(a, b), _share(b, a)),
    np.minimum: lambda a, b, y: (_share(b, a), _share(a, b)),
    np.fmax: lambda a, b, y: (_share(a, b), _share(b, a)),
    np.fmin: lambda a, b, y: (_share(b, a), _share(a, b)),
    np.arctan2: lambda a, b, y: (b / (a * a + b * b), -a / (a * a + b * b)),
    np.hypot: lambda a, b, y: (a / y, b / y),
}

_VALUES_ONLY = {
    np.less,
    np.less_equal,
    np.greater,
    np.greater_equal,
    np.equal,
    np.not_equal,
    np.isfinite,
    np.isnan,
    np.isinf,
    np.sign,
    np.floor,
    np.ceil,
    np.rint,
    np.trunc,
    np.logical_and,
    np.logical_or,
    np.logical_not,
    np.signbit,
    np.floor_divide,
}


def _binary(ufunc: Any, a: Any, b: Any) -> Followed:
    with np.errstate(all="ignore"):
        first, second = (np.asarray(_value(item), dtype=float) for item in (a, b))
        value = np.asarray(ufunc(first, second))
        by_first, by_second = _BINARY[ufunc](first, second, value)
    slopes = None
    for item, factor in ((a, by_first), (b, by_second)):
        if isinstance(item, Followed):
            part = _scaled(_spread(item, value.shape).slopes, np.ravel(np.broadcast_to(factor, value.shape)))
            slopes = part if slopes is None else _plus(slopes, part)
    return Followed(value, slopes)


def _plus(one: Any, other: Any) -> Any:
    """Return the sum; entries that cancel are kept, so that the pattern is the same at every point."""
    from scipy.sparse import csr_array

    one, other = one.tocoo(), other.tocoo()
    rows, columns = (np.concatenate([one.coords[k], other.coords[k]]) for k in (0, 1))
    return csr_array((np.concatenate([one.data, other.data]), (rows, columns)), shape=one.shape)


def _sum(a: Any, axis: Any = None, **_: Any) -> Followed:
    from scipy.sparse import csr_array

    value = np.asarray(np.sum(a.value, axis=axis))
    if axis is None:
        target = np.zeros(a.shape, dtype=np.int64)
    else:
        target = np.broadcast_to(np.expand_dims(np.arange(value.size).reshape(value.shape), axis), a.shape)
    gather = csr_array((np.ones(a.size), (np.ravel(target), np.arange(a.size))), shape=(value.size, a.size))
    return Followed(value, csr_array(gather @ a.slopes))


def _mean(a: Any, axis: Any = None, **_: Any) -> Any:
    return _sum(a, axis) / (a.size / max(np.sum(a.value, axis=axis).size, 1))


def _extreme(a: Followed, axis: Any, ufunc: Any) -> Followed:
    if axis is None:
        a, axis = _moved(a, lambda v: v.ravel()), 0
    parts = [_picked(a, k, axis) for k in range(a.shape[axis])]
    result = parts[0]
    for part in parts[1:]:
        result = _binary(ufunc, result, part)
    return result


def _prod(a: Followed, axis: Any = None, **_: Any) -> Followed:
    return _extreme(a, axis, np.multiply)


def _dot(a: Any, b: Any) -> Any:
    one, other = np.ndim(_value(a)), np.ndim(_value(b))
    if one == 0 or other == 0:
        return a * b
    if one == 1 and other == 1:
        return _sum(_binary(np.multiply, a, b))
    if one == 2 and other == 1:
        return _sum(_binary(np.multiply, a, b), axis=1)
    if one == 1 and other == 2:
        return _sum(_binary(np.multiply, _columns(a), b), axis=0)
    return _stack([_dot(row, b) for row in a])


def _columns(a: Any) -> Any:
    return a[:, np.newaxis]


def _stack(parts: Sequence[Any], axis: int = 0, **_: Any) -> Followed:
    return _concatenate([_widened(part, axis) for part in parts], axis=axis)


def _widened(part: Any, axis: int) -> Any:
    return _moved(part, lambda v: np.expand_dims(v, axis)) if isinstance(part, Followed) else np.expand_dims(part, axis)


def _concatenate(parts: Sequence[Any], axis: int = 0, **_: Any) -> Followed:
    from scipy.sparse import vstack

    parts = [Followed.stacked(part) if isinstance(part, (list, tuple)) else part for part in parts]
    like = next(part for part in parts if isinstance(part, Followed))
    own = [_followed(part, like) for part in parts]
    value = np.concatenate([part.value for part in own], axis=axis)
    starts = np.cumsum([0, *(part.size for part in own)])
    places = np.concatenate(
        [np.arange(part.size).reshape(part.shape) + start for part, start in zip(own, starts, strict=False)], axis=axis
    )
    slopes = vstack([part.slopes for part in own], format="csr")[np.ravel(places)]
    return Followed(value, slopes)


def _where(condition: Any, *both: Any) -> Any:
    if not both:
        return np.where(_value(condition))
    like = next((item for item in both if isinstance(item, Followed)), None)
    chosen = np.asarray(_value(condition), dtype=bool)
    if like is None:
        return np.where(chosen, *both)
    shape = np.broadcast_shapes(chosen.shape, *(np.shape(_value(item)) for item in both))
    a, b = (_spread(_followed(item, like), shape) for item in both)
    mask = np.ravel(np.broadcast_to(chosen, shape))
    # Both branches stay in the pattern, the other one with zeros, so that the pattern is the same at every point.
    parts = []
    for item, mine in ((a, mask), (b, ~mask)):
        part = item.slopes.copy()
        part.data = np.where(np.repeat(mine, np.diff(part.indptr)), part.data, 0.0)
        parts.append(part)
    return Followed(np.where(np.reshape(mask, shape), a.value, b.value), _plus(*parts))


def _diff(a: Followed, n: int = 1, axis: int = -1, **_: Any) -> Any:
    for _step in range(n):
        ahead = _moved(a, lambda v: np.take(v, np.arange(1, v.shape[axis]), axis=axis))
        behind = _moved(a, lambda v: np.take(v, np.arange(v.shape[axis] - 1), axis=axis))
        a = _binary(np.subtract, ahead, behind)
    return a


def _cumsum(a: Followed, axis: Any = None, **_: Any) -> Followed:
    from scipy.sparse import csr_array

    if axis is None:
        a, axis = _moved(a, lambda v: v.ravel()), 0
    n = a.shape[axis]
    lines = np.moveaxis(np.arange(a.size).reshape(a.shape), axis, -1).reshape(-1, n)
    low, high = np.tril_indices(n)
    gather = csr_array(
        (np.ones(lines[:, low].size), (lines[:, low].ravel(), lines[:, high].ravel())), shape=(a.size,) * 2
    )
    return Followed(np.cumsum(a.value, axis=axis), csr_array(gather @ a.slopes))


def _interp(x: Any, xp: Any, fp: Any, *_: Any, **__: Any) -> Any:
    if isinstance(xp, Followed):
        raise CannotFollow("numpy.interp with points that vary")
    like = next(item for item in (x, fp) if isinstance(item, Followed))
    xp = np.asarray(xp, dtype=float)
    at = _value(x)
    j = np.clip(np.searchsorted(xp, at, side="right") - 1, 0, len(xp) - 2)
    values = _followed(fp, like)
    low, high = _picked(values, j, 0), _picked(values, j + 1, 0)
    share = np.minimum(np.maximum((x - xp[j]) / (xp[j + 1] - xp[j]), 0.0), 1.0)
    return low + share * (high - low)


def _norm(a: Followed, ord: Any = None, axis: Any = None, **_: Any) -> Any:
    if ord not in (None, 2):
        raise CannotFollow(f"numpy.linalg.norm with ord={ord}")
    return np.sqrt(_sum(a * a, axis))


def _clip(a: Any, a_min: Any = None, a_max: Any = None, **options: Any) -> Any:
    low, high = options.get("min", a_min), options.get("max", a_max)
    a = a if low is None else np.maximum(a, low)
    return a if high is None else np.minimum(a, high)


def _full_like(fill: float) -> Callable[..., Array]:
    return lambda a, *_, **__: np.full(np.shape(_value(a)), fill)


def _plain(function: Any) -> Callable[..., Any]:
    return lambda *items, **options: function(*(_value(item) for item in items), **options)


_FUNCTIONS: dict[Any, Callable[..., Any]] = {
    np.sum: _sum,
    np.mean: _mean,
    np.prod: _prod,
    np.max: lambda a, axis=None, **_: _extreme(a, axis, np.maximum),
    np.min: lambda a, axis=None, **_: _extreme(a, axis, np.minimum),
    np.dot: _dot,
    np.inner: _dot,
    np.outer: lambda a, b: a[:, np.newaxis] * b,
    np.where: _where,
    np.concatenate: _concatenate,
    np.append: lambda a, b, axis=None: _concatenate([np.atleast_1d(a), np.atleast_1d(b)]),
    np.hstack: lambda parts, **_: _concatenate([np.atleast_1d(part) for part in parts]),
    np.stack: _stack,
    np.atleast_1d: lambda a: a if np.ndim(_value(a)) else _moved(a, np.atleast_1d),
    np.diff: _diff,
    np.cumsum: _cumsum,
    np.interp: _interp,
    np.linalg.norm: _norm,
    np.clip: _clip,
    np.reshape: lambda a, *shape, **_: a.reshape(*shape),
    np.ravel: lambda a, **_: a.ravel(),
    np.transpose: lambda a, axes=None: _moved(a, lambda v: np.transpose(v, axes)),
    np.squeeze: lambda a, axis=None: _moved(a, lambda v: np.squeeze(v, axis)),
    np.flip: lambda a, axis=None: _moved(a, lambda v: np.flip(v, axis)),
    np.roll: lambda a, shift, axis=None: _moved(a, lambda v: np.roll(v, shift, axis)),
    np.expand_dims: lambda a, axis: _moved(a, lambda v: np.expand_dims(v, axis)),
    np.broadcast_to: lambda a, shape, **_: _spread(a, tuple(np.atleast_1d(shape))),
    np.take: lambda a, places, axis=None, **_: _moved(a, lambda v: np.take(v, places, axis)),
    np.trace: lambda a, **_: _sum(_moved(a, lambda v: np.diagonal(v))),
    np.diag: lambda a, k=0: _moved(a, lambda v: np.diagonal(v, k)),
    np.zeros_like: _full_like(0.0),
    np.ones_like: _full_like(1.0),
    np.full_like: lambda a, fill, **_: np.full(np.shape(_value(a)), fill),
    np.shape: lambda a: a.shape,
    np.size: lambda a, axis=None: a.size,
    np.ndim: lambda a: a.ndim,
    np.any: _plain(np.any),
    np.all: _plain(np.all),
    np.argmax: _plain(np.argmax),
    np.argmin: _plain(np.argmin),
    np.searchsorted: _plain(np.searchsorted),
    np.isclose: _plain(np.isclose),
    np.allclose: _plain(np.allclose),
}
if hasattr(np, "trapezoid"):  # since NumPy 2
    _FUNCTIONS[np.trapezoid] = lambda y, x=None, dx=1.0, axis=-1: _sum(
        (y[1:] + y[:-1]) * 0.5 * (dx if x is None else np.diff(x))
    )
