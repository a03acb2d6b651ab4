"""What NumPy's functions do with followed arrays: one rule each, with the arguments it implements.

A call is bound to the names of NumPy's own arguments. An argument that a rule does not implement is refused by name
unless it is given its default; nothing is swallowed.
"""

from __future__ import annotations

import inspect
from collections.abc import Callable, Sequence
from typing import Any

import numpy as np
from numpy.typing import NDArray

from ilvren.models.failures import CannotFollow
from ilvren.models.python.called import RULES, Rule
from ilvren.models.python.traced import Traced, added, binary, broadcast, gathered, moved, only_value, raised

# Whoever makes followed arrays takes them from here, so that the rules are known.
__all__ = ["Traced"]

Array = NDArray[Any]

# Arguments of functions whose signature NumPy does not tell.
_UNTOLD = {
    "concatenate": ("arrays", "axis", "out", "dtype", "casting"),
    "where": ("condition", "x", "y"),
    "dot": ("a", "b", "out"),
    "inner": ("a", "b"),
}


def _arguments(function: Any) -> tuple[tuple[str, ...], dict[str, Any]]:
    """Return the names of a function's arguments in order, and their defaults."""
    if function.__name__ in _UNTOLD:
        return _UNTOLD[function.__name__], {"out": None, "dtype": None, "casting": "same_kind"}
    parameters = [p for p in inspect.signature(function).parameters.values() if p.kind is not p.VAR_KEYWORD]
    return tuple(p.name for p in parameters), {p.name: p.default for p in parameters}


# ---- reductions -----------------------------------------------------------------------------------


def _groups(a: Traced, axis: Any, keepdims: Any) -> tuple[Array, tuple[int, ...]]:
    """Return to which element of a reduction each element goes, and the shape of the result."""
    shape = np.sum(a.value, axis=axis, keepdims=bool(keepdims)).shape
    kept = np.sum(a.value, axis=axis, keepdims=True).shape
    return np.broadcast_to(np.arange(int(np.prod(kept))).reshape(kept), a.shape), shape


def _sum(a: Traced, axis: Any = None, keepdims: Any = False) -> Traced:
    target, _ = _groups(a, axis, keepdims)
    return gathered(a, target, np.asarray(np.sum(a.value, axis=axis, keepdims=bool(keepdims))))


def _mean(a: Traced, axis: Any = None, keepdims: Any = False) -> Any:
    total = _sum(a, axis, keepdims)
    return total / (a.size / max(total.size, 1))


def _folded(ufunc: Any) -> Callable[..., Traced]:
    """Return a reduction by a ufunc of two operands, one element of each group after the other."""

    def fold(a: Traced, axis: Any = None, keepdims: Any = False) -> Traced:
        target, shape = _groups(a, axis, keepdims)
        count = a.size // max(int(np.prod(shape)), 1)
        if not count:
            raise ValueError("a reduction of nothing")
        rows = np.argsort(target.ravel(), kind="stable").reshape(-1, count)
        flat = moved(a, lambda v: v.ravel())
        result = flat[rows[:, 0]]
        for column in rows.T[1:]:
            result = binary(ufunc, result, flat[column])
        return moved(result, lambda v: v.reshape(shape))

    return fold


def _norm(x: Any, ord: Any = None, axis: Any = None, keepdims: Any = False) -> Any:
    is_vector = isinstance(axis, int) or (axis is None and x.ndim == 1)
    if ord is None or (ord == 2 and is_vector) or (ord == "fro" and x.ndim == 2 and axis is None):
        target, shape = _groups(x, axis, keepdims)
        value = np.asarray(np.linalg.norm(x.value, axis=axis, keepdims=bool(keepdims)))
        lengths = value.ravel()[target]
        share = np.where(lengths == 0.0, 0.0, np.divide(x.value, np.where(lengths == 0.0, 1.0, lengths)))
        weighted = share * x
        return gathered(weighted, target, value.reshape(shape))
    if ord == 1 and is_vector:
        return _sum(np.abs(x), axis, keepdims)
    if ord == np.inf and is_vector:
        return _folded(np.maximum)(np.abs(x), axis, keepdims)
    raise CannotFollow(f"numpy.linalg.norm with ord={ord}{'' if is_vector else ' of a matrix'}")


def _cumsum(a: Traced, axis: Any = None) -> Traced:
    from scipy.sparse import csr_array

    if axis is None:
        a, axis = moved(a, lambda v: v.ravel()), 0
    n = a.shape[axis]
    lines = np.moveaxis(np.arange(a.size).reshape(a.shape), axis, -1).reshape(-1, n)
    low, high = np.tril_indices(n)
    gather = csr_array(
        (np.ones(lines[:, low].size), (lines[:, low].ravel(), lines[:, high].ravel())), shape=(a.size,) * 2
    )
    return Traced(np.cumsum(a.value, axis=axis), csr_array(gather @ a.slopes))


def _trapezoid(y: Any, x: Any = None, dx: Any = 1.0, axis: int = -1) -> Any:
    like = next(item for item in (y, x, dx) if isinstance(item, Traced))
    y = raised(y, like)
    if x is not None:
        widths = _diff(raised(x, like), axis=axis if np.ndim(x) > 1 else -1)
        if widths.ndim == 1 and y.ndim > 1:
            shape = [1] * y.ndim
            shape[axis] = widths.size
            widths = widths.reshape(tuple(shape))
    else:
        widths = dx
    n = y.shape[axis]
    ahead, behind = _picked(y, np.arange(1, n), axis), _picked(y, np.arange(n - 1), axis)
    return np.sum((ahead + behind) * 0.5 * widths, axis=axis)


# ---- products -------------------------------------------------------------------------------------


def _dot(a: Any, b: Any) -> Any:
    one, other = np.ndim(only_value(a)), np.ndim(only_value(b))
    if one == 0 or other == 0:
        return np.multiply(a, b)
    if one > 2 or other > 2:
        raise CannotFollow("products of arrays with more than two axes")
    if np.shape(only_value(a))[-1] != np.shape(only_value(b))[0]:
        raise ValueError(f"shapes {np.shape(only_value(a))} and {np.shape(only_value(b))} do not go together")
    if one == 1 and other == 1:
        return _sum(binary(np.multiply, a, b))
    if one == 2 and other == 1:
        return _sum(binary(np.multiply, a, b), axis=1)
    if one == 1:
        return _sum(binary(np.multiply, _column(a), b), axis=0)
    return _stack([_dot(row, b) for row in a])


def _column(a: Any) -> Any:
    return a[:, np.newaxis] if isinstance(a, Traced) else np.asarray(a)[:, np.newaxis]


def _inner(a: Any, b: Any) -> Any:
    if np.ndim(only_value(b)) == 2:
        b = b.T if isinstance(b, Traced) else np.asarray(b).T
    return _dot(a, b)


def _outer(a: Any, b: Any) -> Any:
    return _column(np.ravel(_as_one(a))) * np.ravel(_as_one(b))


# ---- joining --------------------------------------------------------------------------------------


def _stack(arrays: Sequence[Any], axis: int = 0) -> Traced:
    parts = [_as_one(part) for part in arrays]
    if len({np.shape(only_value(part)) for part in parts}) > 1:
        raise ValueError("all input arrays must have the same shape")
    return _concatenate([_widened(part, axis) for part in parts], axis)


def _as_one(part: Any) -> Any:
    return Traced.stacked(part) if isinstance(part, (list, tuple)) else part


def _widened(part: Any, axis: int) -> Any:
    return moved(part, lambda v: np.expand_dims(v, axis)) if isinstance(part, Traced) else np.expand_dims(part, axis)


def _concatenate(arrays: Sequence[Any], axis: int | None = 0) -> Traced:
    from scipy.sparse import vstack

    parts = [_as_one(part) for part in arrays]
    like = next(part for part in parts if isinstance(part, Traced))
    own = [raised(part, like) for part in parts]
    if axis is None:
        own, axis = [moved(part, lambda v: v.ravel()) for part in own], 0
    value = np.concatenate([part.value for part in own], axis=axis)
    starts = np.cumsum([0, *(part.size for part in own)])
    places = np.concatenate(
        [np.arange(part.size).reshape(part.shape) + start for part, start in zip(own, starts, strict=False)], axis=axis
    )
    return Traced(value, vstack([part.slopes for part in own], format="csr")[np.ravel(places)])


def _at_least(axes: int) -> Callable[..., Any]:
    widen = np.atleast_1d if axes == 1 else np.atleast_2d

    def widened(*arrays: Any) -> Any:
        found = [moved(a, widen) if isinstance(a, Traced) else widen(_as_one(a)) for a in arrays]
        return found[0] if len(found) == 1 else tuple(found)

    return widened


def _hstack(tup: Sequence[Any]) -> Traced:
    parts = [np.atleast_1d(_as_one(part)) for part in tup]
    return _concatenate(parts, 0 if np.ndim(only_value(parts[0])) == 1 else 1)


def _vstack(tup: Sequence[Any]) -> Traced:
    return _concatenate([np.atleast_2d(_as_one(part)) for part in tup], 0)


def _column_stack(tup: Sequence[Any]) -> Traced:
    parts = [_as_one(part) for part in tup]
    return _concatenate([_column(np.atleast_1d(p)) if np.ndim(only_value(p)) < 2 else p for p in parts], 1)


def _append(arr: Any, values: Any, axis: int | None = None) -> Traced:
    return _concatenate([_as_one(arr), _as_one(values)], axis)


def _where(condition: Any, x: Any = None, y: Any = None) -> Any:
    if x is None and y is None:
        return np.where(only_value(condition))
    like = next((item for item in (x, y) if isinstance(item, Traced)), None)
    chosen = np.asarray(only_value(condition), dtype=bool)
    if like is None:
        return np.where(chosen, x, y)
    shape = np.broadcast_shapes(chosen.shape, *(np.shape(only_value(item)) for item in (x, y)))
    a, b = (broadcast(raised(item, like), shape) for item in (x, y))
    mask = np.ravel(np.broadcast_to(chosen, shape))
    # Both branches stay in the pattern, the other one with zeros, so that the pattern is the same at every point.
    parts = []
    for item, mine in ((a, mask), (b, ~mask)):
        part = item.slopes.copy()
        part.data = np.where(np.repeat(mine, np.diff(part.indptr)), part.data, 0.0)
        parts.append(part)
    return Traced(np.where(np.reshape(mask, shape), a.value, b.value), added(*parts))


# ---- differences and curves -----------------------------------------------------------------------


def _picked(a: Traced, places: Any, axis: int) -> Traced:
    return moved(a, lambda v: np.take(v, places, axis=axis))


def _diff(a: Any, n: int = 1, axis: int = -1, prepend: Any = None, append: Any = None) -> Any:
    ends = [prepend, append]
    like = next(item for item in (a, *ends) if isinstance(item, Traced))
    a = raised(a, like)
    parts = []
    for end in (ends[0], a, ends[1]):
        if end is None:
            continue
        part = raised(end, like)
        if part.ndim == 0:
            shape = list(a.shape)
            shape[axis] = 1
            part = broadcast(part, tuple(shape))
        parts.append(part)
    a = _concatenate(parts, axis) if len(parts) > 1 else a
    for _ in range(n):
        size = a.shape[axis]
        a = binary(np.subtract, _picked(a, np.arange(1, size), axis), _picked(a, np.arange(size - 1), axis))
    return a


def _interp(x: Any, xp: Any, fp: Any) -> Any:
    """Piecewise linear; at a knot the slope is the average of both sides, beyond the ends 0."""
    if isinstance(xp, Traced):
        raise CannotFollow("numpy.interp with points that vary")
    like = next(item for item in (x, fp) if isinstance(item, Traced))
    xp, at, values = np.asarray(xp, dtype=float), np.asarray(only_value(x), dtype=float), raised(fp, like)
    if len(xp) == 1:
        return broadcast(values[0] + 0.0 * raised(x, like) if isinstance(x, Traced) else values[0], at.shape)
    j = np.clip(np.searchsorted(xp, at, side="right") - 1, 0, len(xp) - 2)
    low, high = _picked(values, j, 0), _picked(values, j + 1, 0)
    share = np.clip((at - xp[j]) / (xp[j + 1] - xp[j]), 0.0, 1.0)
    found = low + share * (high - low)
    if not isinstance(x, Traced):
        return found
    rises = np.diff(values.value) / np.diff(xp)
    before = np.clip(np.searchsorted(xp, at, side="left") - 1, 0, len(xp) - 2)
    right = np.where((at >= xp[0]) & (at < xp[-1]), rises[j], 0.0)
    left = np.where((at > xp[0]) & (at <= xp[-1]), rises[before], 0.0)
    return found + np.where(np.isnan(at), np.nan, 0.5 * (left + right)) * (x - at)


def _clip(a: Any, a_min: Any = None, a_max: Any = None, min: Any = None, max: Any = None) -> Any:
    low, high = (next((end for end in ends if end is not None), None) for ends in ((min, a_min), (max, a_max)))
    a = a if low is None else np.maximum(a, low)
    return a if high is None else np.minimum(a, high)


# ---- rearrangements -------------------------------------------------------------------------------


def _moves(function: Any) -> Callable[..., Any]:
    """Return a rule that moves elements as a function does, whatever its arguments."""
    array = _arguments(function)[0][0]

    def move(**options: Any) -> Traced:
        first = options.pop(array)
        if not isinstance(first, Traced):
            raise CannotFollow(f"numpy.{function.__name__} with a value among its other arguments")
        given = {word: only_value(value) for word, value in options.items()}
        return moved(first, lambda v: function(v, **given))

    return move


def _trace(a: Traced, offset: int = 0, axis1: int = 0, axis2: int = 1) -> Traced:
    return _sum(moved(a, lambda v: np.diagonal(v, offset, axis1, axis2)), axis=-1)


def _diag(v: Traced, k: int = 0) -> Traced:
    if v.ndim == 2:
        return moved(v, lambda a: np.diagonal(a, k))
    padded = _concatenate([v, np.zeros(1)])
    places = np.diag(np.arange(1, v.size + 1), k) - 1  # −1, the zero put behind, off the diagonal
    return padded[places]


def _made_like(function: Any) -> Callable[..., Any]:
    """Arrays made in the shape of another can be filled with values that vary: they are followed, too."""

    array = _arguments(function)[0][0]

    def make(**options: Any) -> Any:
        fill = options.get("fill_value")
        like = next(item for item in options.values() if isinstance(item, Traced))
        given = {word: only_value(value) for word, value in options.items()}
        value = function(given.pop(array), **given)
        if value.dtype != np.dtype(float):
            return value
        made = raised(np.zeros(value.shape) if function is np.empty_like else value, like)
        made.value = made.value.copy()
        return broadcast(fill, value.shape).copy() if isinstance(fill, Traced) else made

    return make


def _plain(function: Any) -> Callable[..., Any]:
    """Functions whose results have no slope: of values alone, with all their arguments."""
    return lambda **options: function(**{word: only_value(value) for word, value in options.items()})


# Function → (handler, implemented arguments; None for all that NumPy has).
_HANDLERS: dict[str, tuple[Callable[..., Any], str | None]] = {
    "sum": (_sum, "a axis keepdims"),
    "mean": (_mean, "a axis keepdims"),
    "prod": (_folded(np.multiply), "a axis keepdims"),
    "max": (_folded(np.maximum), "a axis keepdims"),
    "min": (_folded(np.minimum), "a axis keepdims"),
    "amax": (_folded(np.maximum), "a axis keepdims"),
    "amin": (_folded(np.minimum), "a axis keepdims"),
    "cumsum": (_cumsum, "a axis"),
    "trapezoid": (_trapezoid, "y x dx axis"),
    "trapz": (_trapezoid, "y x dx axis"),
    "dot": (_dot, "a b"),
    "inner": (_inner, "a b"),
    "outer": (_outer, "a b"),
    "where": (_where, "condition x y"),
    "concatenate": (_concatenate, "arrays axis"),
    "append": (_append, "arr values axis"),
    "hstack": (_hstack, "tup"),
    "vstack": (_vstack, "tup"),
    "column_stack": (_column_stack, "tup"),
    "stack": (_stack, "arrays axis"),
    "diff": (_diff, "a n axis prepend append"),
    "interp": (_interp, "x xp fp"),
    "clip": (_clip, "a a_min a_max min max"),
    "reshape": (_moves(np.reshape), "a shape newshape"),
    "ravel": (_moves(np.ravel), "a"),
    "transpose": (_moves(np.transpose), "a axes"),
    "swapaxes": (_moves(np.swapaxes), "a axis1 axis2"),
    "moveaxis": (_moves(np.moveaxis), "a source destination"),
    "squeeze": (_moves(np.squeeze), "a axis"),
    "flip": (_moves(np.flip), "m axis"),
    "roll": (_moves(np.roll), "a shift axis"),
    "expand_dims": (_moves(np.expand_dims), "a axis"),
    "broadcast_to": (_moves(np.broadcast_to), "array shape"),
    "take": (_moves(np.take), "a indices axis mode"),
    "repeat": (_moves(np.repeat), "a repeats axis"),
    "tile": (_moves(np.tile), "A reps"),
    "diagonal": (_moves(np.diagonal), "a offset axis1 axis2"),
    "trace": (_trace, "a offset axis1 axis2"),
    "diag": (_diag, "v k"),
    "copy": (lambda a: a.copy(), "a"),
    "zeros_like": (_made_like(np.zeros_like), "a dtype shape"),
    "ones_like": (_made_like(np.ones_like), "a dtype shape"),
    "empty_like": (_made_like(np.empty_like), "prototype dtype shape"),
    "full_like": (_made_like(np.full_like), "a fill_value dtype shape"),
    "shape": (_plain(np.shape), None),
    "size": (_plain(np.size), None),
    "ndim": (_plain(np.ndim), None),
    "any": (_plain(np.any), "a axis keepdims"),
    "all": (_plain(np.all), "a axis keepdims"),
    "argmax": (_plain(np.argmax), "a axis keepdims"),
    "argmin": (_plain(np.argmin), "a axis keepdims"),
    "argsort": (_plain(np.argsort), "a axis kind"),
    "count_nonzero": (_plain(np.count_nonzero), None),
    "searchsorted": (_plain(np.searchsorted), None),
    "isclose": (_plain(np.isclose), None),
    "allclose": (_plain(np.allclose), None),
    "array_equal": (_plain(np.array_equal), None),
}


def _rules() -> dict[Any, Rule]:
    found: dict[Any, Rule] = {}
    for name, (handler, words) in _HANDLERS.items():
        if not hasattr(np, name):  # not in every version of NumPy
            continue
        function = getattr(np, name)
        names, defaults = _arguments(function)
        # NumPy has renamed some first arguments; what it does not know of is not ours to offer.
        implemented = names if words is None else tuple(word for word in words.split() if word in names)
        found[function] = Rule(function, handler, names, defaults, implemented)
    names, defaults = _arguments(np.linalg.norm)
    found[np.linalg.norm] = Rule(np.linalg.norm, _norm, names, defaults, ("x", "ord", "axis", "keepdims"))
    for function, handler in ((np.atleast_1d, _at_least(1)), (np.atleast_2d, _at_least(2))):
        found[function] = Rule(function, handler, (), {}, (), takes_any=True)
    return found


RULES.update(_rules())
