"""Our own array type: values with their exact derivatives by a model's inputs, through NumPy's protocols.

A `Traced` array holds a value and a sparse matrix of slopes (elements, inputs). NumPy's functions are told
what to do with it by `__array_ufunc__` and `__array_function__`; what is not known here is refused by name, never
computed without its derivative, and so is every argument that is not implemented (`followed_functions` has the rules).
Comparisons look at values alone, so a function may branch on them.

As with NumPy's own arrays a slice, a transpose or a reshaped array is a view: what is written into one is seen in the
other. A number (an array without axes) is never changed in place, as Python's floats are not.

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
from ilvren.models.python.called import called

__all__ = ["Traced", "added", "binary", "broadcast", "gathered", "moved", "only_value", "raised"]

Array = NDArray[Any]
# NumPy, which hands arrays of ours to us and returns what we make of them.
_numpy: Any = np


class _Store:
    """What views share: the slopes of all elements, a CSR array (size, inputs), and how often they were changed."""

    __slots__ = ("changes", "slopes")

    def __init__(self, slopes: Any) -> None:
        self.slopes = slopes
        self.changes = 0

    def replace(self, places: Array, rows: Any) -> None:
        """Put `rows` at `places`; of places that occur twice the last counts, as with NumPy."""
        from scipy.sparse import vstack

        order = np.arange(self.slopes.shape[0])
        order[places] = np.arange(len(places)) + len(order)
        self.slopes = vstack([self.slopes, rows], format="csr")[order]
        self.changes += 1


class Traced(NDArrayOperatorsMixin):
    """An array that carries its slopes, a CSR array (size, inputs)."""

    def __init__(self, value: Array, slopes: Any) -> None:
        self.value = np.asarray(value, dtype=float)
        self._store = _Store(slopes)
        self._places: Array | None = None  # which elements of the store these are; None for all, in order
        self._seen: tuple[int, Any] = (0, slopes)

    @classmethod
    def input(cls, value: Array, first: int, count: int) -> Traced:
        """Return an input, whose elements are the inputs from `first` on, of `count`. `value` has the shape of the
        input."""
        from scipy.sparse import csr_array

        n = value.size
        value = np.array(value, dtype=float)  # a copy: a function may write into its inputs
        return cls(value, csr_array((np.ones(n), np.arange(first, first + n), np.arange(n + 1)), shape=(n, count)))

    @classmethod
    def stacked(cls, parts: Sequence[Any]) -> Any:
        """Return a list of numbers and followed arrays of one shape as one array."""
        first = next((part for part in parts if isinstance(part, Traced)), None)
        return np.asarray(parts) if first is None else _numpy.stack(parts)

    @property
    def slopes(self) -> Any:
        """Return the slopes of the elements, row by row."""
        if self._places is None:
            return self._store.slopes
        if self._seen[0] != self._store.changes:
            self._seen = (self._store.changes, self._store.slopes[self._places.ravel()])
        return self._seen[1]

    @property
    def places(self) -> Array:
        """Return the numbers of the elements in what views share, in the shape of the array. It has the shape of the
        array."""
        return np.arange(self.size).reshape(self.shape) if self._places is None else self._places

    def viewed(self, value: Array, places: Array) -> Traced:
        """Return a view of this array: `value` looks at the same memory, `places` says at which elements. Both have the
        shape of the view."""
        view = Traced.__new__(Traced)
        view.value, view._store, view._places, view._seen = value, self._store, places, (-1, None)
        return view

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
    def T(self) -> Traced:
        """Return the transpose."""
        return moved(self, lambda a: a.T)

    def __len__(self) -> int:
        return len(self.value)

    def __iter__(self) -> Any:
        return (self[place] for place in range(len(self)))

    def __getitem__(self, key: Any) -> Traced:
        key = only_value(key)
        return moved(self, lambda a: a[key])

    def __setitem__(self, key: Any, new: Any) -> None:
        if not self.ndim:
            raise TypeError("a number is not changed in place")
        key = only_value(key)
        aimed = np.asarray(self.places[key])
        own = raised(new, self)
        source = np.empty(aimed.shape, dtype=np.int64)
        source[...] = np.arange(own.size).reshape(own.shape)
        rows = own.slopes[source.ravel()]
        self.value[key] = own.value.copy()
        self._store.replace(aimed.ravel(), rows)

    def __bool__(self) -> bool:
        return bool(self.value)

    def __float__(self) -> NoReturn:
        raise CannotFollow("float(), a function of `math`, or storing into a plain array drops the derivative")

    __int__ = __index__ = __complex__ = __float__

    def __array__(self, *_: Any, **__: Any) -> NoReturn:
        raise CannotFollow("numpy.array() or asarray() of a value, or storing it into a plain array (use numpy.stack)")

    def __round__(self, *_: Any) -> NoReturn:
        raise CannotFollow("round()")

    def __getattr__(self, name: str) -> Any:
        if not name.startswith("_") and hasattr(np.ndarray, name):
            raise CannotFollow(f"the array's .{name}")
        raise AttributeError(f"'Traced' has no attribute {name!r}")

    def copy(self, order: str = "C") -> Traced:
        """Return a copy."""
        return Traced(self.value.copy(), self.slopes)

    def astype(self, dtype: Any, **options: Any) -> Traced:
        """Return a copy as floats; other types are refused."""
        if options or np.dtype(dtype) != np.dtype(float):
            raise CannotFollow(f"astype({dtype})")
        return self.copy()

    def fill(self, value: Any) -> None:
        """Set all elements to a number."""
        self[...] = value

    def flatten(self, order: str = "C") -> Traced:
        """Return a copy of the elements in a row."""
        return self.reshape(-1, order=order).copy()

    def reshape(self, *shape: Any, order: str = "C") -> Traced:
        """Return the same elements in another shape."""
        return _numpy.reshape(self, shape[0] if len(shape) == 1 else shape, order=order)

    def transpose(self, *axes: Any) -> Traced:
        """Return the array with its axes in another order."""
        return _numpy.transpose(self, (axes[0] if len(axes) == 1 else axes) or None)

    def __array_ufunc__(self, ufunc: Any, method: str, *inputs: Any, out: Any = None, **options: Any) -> Any:
        if out is not None:
            return self._in_place(ufunc, method, inputs, out, options)
        if method != "__call__":
            return _along_axis(ufunc, method, inputs, options)
        for name, value in options.items():
            if not (name == "where" and value is True):
                raise CannotFollow(f"numpy.{ufunc.__name__} with {name}=")
        if ufunc in _VALUES_ONLY:
            return ufunc(*(only_value(item) for item in inputs))
        if ufunc is np.matmul:
            return np.dot(*inputs)
        if ufunc in _UNARY:
            a = inputs[0]
            value = ufunc(a.value)
            with np.errstate(all="ignore"):
                return Traced(value, _scaled(a.slopes, np.ravel(_UNARY[ufunc](a.value, value))))
        if ufunc in _BINARY:
            return binary(ufunc, *inputs)
        raise CannotFollow(f"numpy.{ufunc.__name__}")

    def _in_place(self, ufunc: Any, method: str, inputs: Any, out: Any, options: Any) -> Any:
        """Compute into an array of ours: `u += 1` writes through views, a number becomes a new one."""
        target = out[0]
        if len(out) != 1 or not isinstance(target, Traced) or method != "__call__":
            raise CannotFollow(f"numpy.{ufunc.__name__} with out=, or an operation in place on a plain array")
        result = getattr(ufunc, method)(*inputs, **options)
        if not target.ndim:
            return result
        if np.shape(result) != target.shape:
            raise ValueError(f"the result of shape {np.shape(result)} does not fit into an array of {target.shape}")
        target[...] = result
        return target

    def __array_function__(self, function: Any, types: Any, args: Any, options: Any) -> Any:
        return called(function, args, options)


def _method(name: str) -> Callable[..., Any]:
    function = getattr(np, name)

    def method(self: Traced, *args: Any, **options: Any) -> Any:
        return function(self, *args, **options)

    method.__doc__ = f"The array's `{name}`, as the function of that name."
    return method


# Methods whose arguments are those of the function of the same name.
_METHODS = "all any argmax argmin clip cumsum diagonal dot max mean min prod ravel squeeze sum swapaxes take trace"
for _name in _METHODS.split():
    setattr(Traced, _name, _method(_name))


def only_value(item: Any) -> Any:
    """Return the values of what may hold followed arrays: an item, or a list, tuple or mapping of such."""
    if isinstance(item, Traced):
        return item.value
    if isinstance(item, (list, tuple)) and any(isinstance(part, (Traced, list, tuple)) for part in item):
        return type(item)(only_value(part) for part in item)
    return item


def _real(item: Any) -> Array:
    value = np.asarray(only_value(item))
    if np.iscomplexobj(value):
        raise CannotFollow("complex numbers")
    return value.astype(float, copy=False)


def raised(item: Any, like: Traced) -> Traced:
    """Return an item as a followed array; plain numbers do not depend on the inputs of `like`."""
    if isinstance(item, Traced):
        return item
    if isinstance(item, (list, tuple)) and any(isinstance(part, (Traced, list, tuple)) for part in item):
        return _numpy.stack([raised(part, like) for part in item])
    from scipy.sparse import csr_array

    value = _real(item)
    return Traced(value, csr_array((value.size, like.slopes.shape[1])))


def _scaled(slopes: Any, factors: Array) -> Any:
    """Return the slopes with each row times a factor; a row without entries stays empty whatever its factor."""
    made = slopes.copy()
    made.data = made.data * np.repeat(factors, np.diff(slopes.indptr))
    return made


def moved(a: Traced, move: Callable[[Array], Any]) -> Traced:
    """Return a rearrangement: each element of the result is one of `a`; a view of it where NumPy gives one. The result
    has the shape that `move` makes."""
    value, places = move(a.value), move(a.places)
    if isinstance(value, np.ndarray) and value.ndim and np.may_share_memory(value, a.value):
        return a.viewed(value, np.asarray(places))
    own = np.arange(a.size).reshape(a.shape)
    return Traced(np.asarray(value), a.slopes[np.ravel(move(own))])


def broadcast(a: Traced, shape: tuple[int, ...]) -> Traced:
    """Return an array stretched to a shape."""
    return a if a.shape == shape else moved(a, lambda v: np.broadcast_to(v, shape))


def gathered(a: Traced, target: Array, value: Array) -> Traced:
    """Return sums: element i of `a` is added to element `target`[i] of a result of these values.
    Shapes: `target` that of `a`, `value` that of the result."""
    from scipy.sparse import csr_array

    gather = csr_array((np.ones(a.size), (np.ravel(target), np.arange(a.size))), shape=(value.size, a.size))
    return Traced(value, csr_array(gather @ a.slopes))


def _along_axis(ufunc: Any, method: str, inputs: Any, options: dict[str, Any]) -> Any:
    """numpy.add.reduce and its like, whose axis is 0 where none is named."""
    name = {
        (np.add, "reduce"): "sum",
        (np.multiply, "reduce"): "prod",
        (np.maximum, "reduce"): "max",
        (np.minimum, "reduce"): "min",
        (np.add, "accumulate"): "cumsum",
    }.get((ufunc, method))
    if name is None or len(inputs) > 1:
        raise CannotFollow(f"numpy.{ufunc.__name__}.{method}")
    return getattr(np, name)(inputs[0], **{"axis": 0, **options})


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


def _per_length(a: Any, length: Array) -> Array:
    # At the tip of a cone the average of all sides.
    return np.where(np.equal(length, 0.0), 0.0, np.divide(a, length))


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
    np.hypot: lambda a, b, y: (_per_length(a, y), _per_length(b, y)),
    np.remainder: lambda a, b, y: (1.0, -np.floor(a / b)),
    np.fmod: lambda a, b, y: (1.0, -np.trunc(a / b)),
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


def binary(ufunc: Any, a: Any, b: Any) -> Traced:
    """Return a ufunc of two operands, of which one at least is followed."""
    like = a if isinstance(a, Traced) else b
    a, b = (raised(item, like) if isinstance(item, (list, tuple)) else item for item in (a, b))
    with np.errstate(all="ignore"):
        first, second = _real(a), _real(b)
        value = np.asarray(ufunc(first, second))
        by_first, by_second = _BINARY[ufunc](first, second, value)
    slopes = None
    for item, factor in ((a, by_first), (b, by_second)):
        if isinstance(item, Traced):
            part = _scaled(broadcast(item, value.shape).slopes, np.ravel(np.broadcast_to(factor, value.shape)))
            slopes = part if slopes is None else added(slopes, part)
    return Traced(value, slopes)


def added(one: Any, other: Any) -> Any:
    """Return the sum of slopes; entries that cancel are kept, so that the pattern is the same at every point."""
    from scipy.sparse import csr_array

    one, other = one.tocoo(), other.tocoo()
    rows, columns = (np.concatenate([one.coords[k], other.coords[k]]) for k in (0, 1))
    return csr_array((np.concatenate([one.data, other.data]), (rows, columns)), shape=one.shape)
