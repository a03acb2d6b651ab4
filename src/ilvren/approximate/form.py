"""Surfaces as plain values, to be stored, read elsewhere and evaluated in thirty lines (see docs/approximations.md)."""

from __future__ import annotations

import math
from collections.abc import Mapping, Sequence
from typing import Any

import numpy as np
from numpy.typing import NDArray

from ilvren.approximate.failing import Failing
from ilvren.approximate.kernels import KERNELS
from ilvren.approximate.spread import FieldSpread, LeverSpread, Spread
from ilvren.approximate.surface import Expansion, Part, Surface, Trend

__all__ = ["FormError", "failing_from", "failing_to", "surface_from", "surface_to"]

FloatArray = NDArray[np.float64]

# Powers beyond this are a mistake.
MOST_POWER = 12


class FormError(Exception):
    """Plain values that are no surface: `where` they stand, and what is wrong."""

    def __init__(self, where: str, message: str) -> None:
        super().__init__(f"{where}: {message}" if where else message)


def surface_to(surface: Surface) -> dict[str, Any]:
    """Return a surface as plain values."""
    parts = []
    for part in surface.parts:
        own: dict[str, Any] = {
            "kind": part.kind,
            "weight": part.weight,
            "transform": part.transform,
            "middle": part.middle,
            "deviation": part.deviation,
            "powers": part.trend.powers.tolist(),
            "coefficients": part.trend.coefficients.tolist(),
        }
        if part.expansion is not None:
            own["kernel"] = part.expansion.kernel
            own["lengths"] = part.expansion.lengths.tolist()
            own["centres"] = part.expansion.centres.tolist()
            own["weights"] = part.expansion.weights.tolist()
        if isinstance(part.spread, LeverSpread):
            own["spread"] = {"factor": part.spread.factor.tolist(), "size": part.spread.size}
        if isinstance(part.spread, FieldSpread):
            own["spread"] = {"noise": part.spread.noise, "size": part.spread.size}
            if part.spread.owners is not None:
                own["spread"]["owners"] = part.spread.owners.tolist()
        parts.append(own)
    return {"centre": surface.centre.tolist(), "half": surface.half.tolist(), "parts": parts}


def surface_from(given: Any, n: int, where: str = "") -> Surface:
    """Return the surface of n inputs that plain values are. Raises FormError."""
    given = _mapping(given, where)
    centre, half = (_numbers(given, key, where, (n,)) for key in ("centre", "half"))
    if not (half > 0.0).all():
        raise FormError(f"{where}.half", "must be above 0")
    listed = given.get("parts")
    if not isinstance(listed, Sequence) or isinstance(listed, str) or not listed:
        raise FormError(f"{where}.parts", "a list of at least one part is expected")
    return Surface(centre, half, tuple(_part(own, n, f"{where}.parts[{k}]") for k, own in enumerate(listed)))


def failing_to(failing: Failing) -> dict[str, Any]:
    """Return a chance of failure as plain values."""
    arrays = {name: getattr(failing, name).tolist() for name in ("centre", "half", "lengths", "centres", "failed")}
    return {**arrays, "share": failing.share}


def failing_from(given: Any, n: int, where: str = "") -> Failing:
    """Return the chance of failure over n inputs that plain values are. Raises FormError."""
    given = _mapping(given, where)
    centre, half, lengths = (_numbers(given, key, where, (n,)) for key in ("centre", "half", "lengths"))
    if not ((half > 0.0).all() and (lengths > 0.0).all()):
        raise FormError(where, '"half" and "lengths" must be above 0')
    centres = _numbers(given, "centres", where, (None, n))
    failed = _numbers(given, "failed", where, (len(centres),))
    return Failing(centre, half, lengths, centres, failed, _number(given, "share", where, 0.0))


def _part(given: Any, n: int, where: str) -> Part:
    given = _mapping(given, where)
    powers = _numbers(given, "powers", where, (None, n))
    if not ((powers >= 0) & (powers <= MOST_POWER) & (powers == np.round(powers))).all():
        raise FormError(f"{where}.powers", f"whole numbers from 0 to {MOST_POWER} are expected")
    trend = Trend(powers.astype(np.int64), _numbers(given, "coefficients", where, (len(powers),)))
    transform = given.get("transform", "none")
    if transform not in ("none", "log"):
        raise FormError(f"{where}.transform", '"none" or "log" is expected')
    expansion = None
    if "kernel" in given:
        if given["kernel"] not in KERNELS:
            raise FormError(f"{where}.kernel", f"one of {', '.join(KERNELS)} is expected")
        centres = _numbers(given, "centres", where, (None, n))
        lengths = _numbers(given, "lengths", where, (n,))
        if not (lengths > 0.0).all():
            raise FormError(f"{where}.lengths", "must be above 0")
        expansion = Expansion(given["kernel"], lengths, centres, _numbers(given, "weights", where, (len(centres),)))
    middle, deviation, weight = (
        _number(given, key, where, usual) for key, usual in (("middle", 0.0), ("deviation", 1.0), ("weight", 1.0))
    )
    spread = _spread(given["spread"], trend, expansion, f"{where}.spread") if "spread" in given else None
    return Part(str(given.get("kind", "")), trend, expansion, transform, middle, deviation, weight, spread)


def _spread(given: Any, trend: Trend, expansion: Expansion | None, where: str) -> Spread:
    given, powers = _mapping(given, where), trend.powers
    size = _number(given, "size", where, 1.0)
    if expansion is None:
        return LeverSpread(powers, _numbers(given, "factor", where, (len(powers), len(powers))), size)
    noise = _number(given, "noise", where, 0.0)
    owners = _owners(given, len(expansion.centres), where) if "owners" in given else None
    return FieldSpread(expansion.kernel, expansion.lengths, expansion.centres, powers, noise, size, owners)


def _owners(given: Mapping[str, Any], k: int, where: str) -> NDArray[np.int64]:
    """Return which point each centre belongs to: points first, then those that stand for their slopes."""
    found = _numbers(given, "owners", where, (k,))
    owners = found.astype(np.int64)
    count = int(owners.max(initial=-1)) + 1
    if not ((owners == found).all() and (owners >= 0).all() and (owners[:count] == np.arange(count)).all()):
        raise FormError(f"{where}.owners", "the numbers of points, these first, are expected")
    return owners


def _mapping(given: Any, where: str) -> Mapping[str, Any]:
    if not isinstance(given, Mapping):
        raise FormError(where, "a mapping is expected")
    return given


def _number(given: Mapping[str, Any], key: str, where: str, usual: float) -> float:
    value = given.get(key, usual)
    if isinstance(value, bool) or not isinstance(value, int | float) or not math.isfinite(value):
        raise FormError(f"{where}.{key}", "a number is expected")
    return float(value)


def _numbers(given: Mapping[str, Any], key: str, where: str, shape: tuple[int | None, ...]) -> FloatArray:
    what = f"{where}.{key}"
    try:
        found = np.asarray(given[key], dtype=float)
    except KeyError:
        raise FormError(what, "is missing") from None
    except (TypeError, ValueError):
        raise FormError(what, "numbers are expected") from None
    told = " x ".join("any" if size is None else str(size) for size in shape)
    fits = found.ndim == len(shape) and all(b is None or a == b for a, b in zip(found.shape, shape, strict=True))
    if not fits or not np.isfinite(found).all():
        raise FormError(what, f"{told} finite numbers are expected")
    return found
