"""Manufactured problems with a planted design whose nature is known: optima, saddles, maxima, kinks, near misses."""

from __future__ import annotations

from collections.abc import Callable, Iterator
from dataclasses import dataclass

import numpy as np

__all__ = ["KINDS", "Planted", "planted"]


@dataclass(frozen=True)
class Planted:
    """A problem file whose starts are the planted design; whether it is a (strict) local optimum."""

    kind: str
    text: str
    is_optimum: bool


def _numbers(values: np.ndarray, names: list[str]) -> str:
    return " + ".join(f"({v!r}) * {name}" for v, name in zip(values.tolist(), names, strict=True))


def _square_form(h: np.ndarray, names: list[str]) -> str:
    pairs = [(i, j) for i in range(len(names)) for j in range(len(names)) if h[i, j] != 0.0]
    return " + ".join(f"({float(h[i, j]) / 2!r}) * {names[i]} * {names[j]}" for i, j in pairs)


def _text(at: np.ndarray, objective: str, rows: list[str], bounds: dict[int, str] | None = None) -> str:
    lines = ["[variables]"]
    for i, value in enumerate(at.tolist()):
        more = (bounds or {}).get(i, "")
        lines.append(f"x{i} = {{ start = {value!r}{more} }}")
    lines += ["[minimize]", f'f = "{objective}"']
    if rows:
        lines += ["[constraints]", *(f'c{k} = "{row}"' for k, row in enumerate(rows))]
    return "\n".join(lines)


@dataclass
class _Parts:
    """At the origin of the shifted variables: k pressing limits, multipliers, and the tangent space they leave."""

    rng: np.random.Generator
    at: np.ndarray
    shifted: list[str]
    normals: np.ndarray
    multipliers: np.ndarray
    tangent: np.ndarray

    @classmethod
    def of(cls, seed: int) -> _Parts:
        rng = np.random.default_rng([seed, 77])
        n = int(rng.integers(2, 6))
        k = int(rng.integers(0, n - 1))
        at = rng.uniform(-2.0, 2.0, n)
        normals = rng.normal(size=(k, n))
        tangent = np.linalg.svd(normals)[2][k:] if k else np.eye(n)
        shifted = [f"(x{i} - ({a!r}))" for i, a in enumerate(at.tolist())]
        return cls(rng, at, shifted, normals, rng.uniform(0.2, 2.0, k), tangent)

    def hessian(self, curvatures: np.ndarray) -> np.ndarray:
        """Return a matrix with these curvatures along the tangent space, and some across."""
        n = len(self.at)
        turn = np.linalg.qr(self.rng.normal(size=(len(self.tangent), len(self.tangent))))[0] @ self.tangent
        across = np.eye(n) - self.tangent.T @ self.tangent
        return np.asarray(turn.T @ np.diag(curvatures) @ turn + float(self.rng.uniform(-1.0, 2.0)) * across)

    def rows(self, bend: float = 0.3) -> tuple[list[str], np.ndarray]:
        """Return the limits and the Hessian that their bending takes from the Lagrangian."""
        rows, taken = [], np.zeros((len(self.at), len(self.at)))
        for normal, u in zip(self.normals, self.multipliers.tolist(), strict=True):
            own = float(self.rng.uniform(-bend, bend))
            rows.append(
                f"{_numbers(normal, self.shifted)} + ({own!r}) * ({' + '.join(f'{s}^2' for s in self.shifted)}) >= 0"
            )
            taken += 2.0 * own * u * np.eye(len(self.at))
        return rows, taken

    def objective(self, h: np.ndarray, *, extra: str = "0", scale: float = 1.0, level: float = 3.0) -> str:
        slope = self.multipliers @ self.normals if len(self.normals) else np.zeros(len(self.at))
        terms = f"({level!r}) + {_numbers(slope, self.shifted)} + {_square_form(h, self.shifted)} + {extra}"
        return f"({scale!r}) * ({terms})"


def _strict(seed: int, *, scale: float = 1.0, twice: bool = False) -> str:
    parts = _Parts.of(seed)
    rows, taken = parts.rows()
    h = parts.hessian(parts.rng.uniform(0.3, 4.0, len(parts.tangent))) + taken
    if twice:
        rows += [f"2 * ({row.removesuffix(' >= 0')}) >= 0" for row in rows]
    cubic = f"0.1 * {parts.shifted[0]}^3"
    return _text(parts.at, parts.objective(h, extra=cubic, scale=scale), rows)


def _saddle(seed: int, *, all_down: bool = False) -> str:
    parts = _Parts.of(seed)
    rows, taken = parts.rows()
    curvatures = parts.rng.uniform(0.3, 4.0, len(parts.tangent))
    curvatures[: len(curvatures) if all_down else 1] *= -1.0
    return _text(parts.at, parts.objective(parts.hessian(curvatures) + taken), rows)


def _off(seed: int) -> str:
    parts = _Parts.of(seed)
    rows, taken = parts.rows()
    h = parts.hessian(parts.rng.uniform(0.3, 4.0, len(parts.tangent))) + taken
    moved = parts.at + 0.02 * parts.rng.uniform(0.5, 1.0, len(parts.at)) * parts.rng.choice([-1.0, 1.0], len(parts.at))
    return _text(moved, parts.objective(h), rows)


def _kink(seed: int, *, share: float) -> str:
    """A slope of 1 along one direction is held by w |d'x|: it is a minimum when w > 1."""
    parts = _Parts.of(seed)
    rows, taken = parts.rows()
    h = parts.hessian(parts.rng.uniform(0.3, 4.0, len(parts.tangent))) + taken
    line = _numbers(parts.tangent[0], parts.shifted)
    kind = parts.rng.integers(3)
    w = share
    held = (f"{w!r} * abs({line})", f"{w!r} * max({line}, -({line}))", f"-({w!r}) * min({line}, -({line}))")[kind]
    return _text(parts.at, parts.objective(h, extra=f"{line} + {held}"), rows)


def _weak(seed: int, *, open_side: bool) -> str:
    """A limit that is met without pressing closes half of the direction of negative curvature, or a cross term."""
    parts = _Parts.of(seed)
    n = len(parts.at)
    # f = a² + b² + 4ab with a, b >= 0 is strict though indefinite; without b >= 0 it is a saddle.
    h = np.eye(n) * 2.0
    h[0, 1] = h[1, 0] = 4.0
    parts.normals, parts.multipliers = np.zeros((0, n)), np.zeros(0)
    rows = [f"{parts.shifted[0]} >= 0"] + ([] if open_side else [f"{parts.shifted[1]} >= 0"])
    return _text(parts.at, parts.objective(h), rows)


def _cubic(seed: int, *, beside: bool = False) -> str:
    """An inflection; or a design where a method creeping up to one would stop, its slope below any tolerance."""
    parts = _Parts.of(seed)
    rows, taken = parts.rows(bend=0.0)
    curvatures = parts.rng.uniform(0.3, 4.0, len(parts.tangent))
    curvatures[0] = 0.0
    turn = parts.tangent
    h = turn.T @ np.diag(curvatures) @ turn + taken
    line = _numbers(turn[0], parts.shifted)
    at = parts.at + 10.0 ** parts.rng.uniform(-5.0, -3.8) * turn[0] if beside else parts.at
    return _text(at, parts.objective(np.asarray(h), extra=f"({line})^3"), rows)


def _jump(seed: int, *, down: bool) -> str:
    parts = _Parts.of(seed)
    rows, taken = parts.rows()
    h = parts.hessian(parts.rng.uniform(0.3, 4.0, len(parts.tangent))) + taken
    line = _numbers(parts.tangent[0], parts.shifted)
    step = -0.5 if down else 0.5
    return _text(parts.at, parts.objective(h, extra=f"where({line} > 0, {step}, 0)"), rows)


KINDS: dict[str, tuple[Callable[[int], str], bool]] = {
    "strict optimum": (_strict, True),
    "scaled by 1e8": (lambda seed: _strict(seed, scale=1e8), True),
    "scaled by 1e-8": (lambda seed: _strict(seed, scale=1e-8), True),
    "every limit twice": (lambda seed: _strict(seed, twice=True), True),
    "saddle": (_saddle, False),
    "maximum along the limits": (lambda seed: _saddle(seed, all_down=True), False),
    "off the optimum": (_off, False),
    "kink, optimum": (lambda seed: _kink(seed, share=1.5), True),
    "kink, no optimum": (lambda seed: _kink(seed, share=0.7), False),
    "limits met by chance, optimum": (lambda seed: _weak(seed, open_side=False), True),
    "limits met by chance, saddle": (lambda seed: _weak(seed, open_side=True), False),
    "cubic": (_cubic, False),
    "beside an inflection": (lambda seed: _cubic(seed, beside=True), False),
    "jump upwards": (lambda seed: _jump(seed, down=False), True),
    "jump downwards": (lambda seed: _jump(seed, down=True), False),
}


def planted(count: int) -> Iterator[Planted]:
    """Return `count` problems of each kind."""
    for kind, (make, is_optimum) in KINDS.items():
        for seed in range(count):
            yield Planted(kind, make(seed), is_optimum)
