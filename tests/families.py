"""Families of problems with a solution by construction: choose the optimum, the multipliers and the active set, then
build functions that have them; convex and not, degenerate, rank-deficient, badly scaled."""

from __future__ import annotations

from dataclasses import dataclass

import numpy as np

from ilvren import loads
from ilvren.problem import Problem

__all__ = ["FAMILIES", "Made", "made"]

FAMILIES = (
    "unconstrained", "bounded", "equalities", "convex", "nonconvex", "degenerate", "dependent", "scaled", "far", "linear"
)  # fmt: skip


@dataclass(frozen=True)
class Made:
    """A problem, its objective at the point it was built around, and that point."""

    problem: Problem
    best: float
    optimum: np.ndarray
    name: str


def made(family: str, seed: int) -> Made:
    """Return a problem of a family, the same for the same seed."""
    rng = np.random.default_rng([FAMILIES.index(family), seed])
    n = int(rng.integers(2, 9))
    optimum = rng.uniform(-2.0, 2.0, n)
    sizes = 10.0 ** rng.uniform(-4, 4, n) if family == "scaled" else np.ones(n)
    d = [f"(x{i} / {s!r} - ({v!r}))" for i, (s, v) in enumerate(zip(sizes.tolist(), optimum.tolist(), strict=True))]
    lower, upper, pressing = _bounds(rng, family, optimum)
    free_count = int((pressing == 0.0).sum())
    rows, normals, gradient, curvature = [], [], pressing.copy(), np.zeros((n, n))
    equalities = int(rng.integers(1, max(free_count, 2))) if family == "equalities" else int(rng.integers(0, 2))
    inequalities = 0 if family in ("unconstrained", "bounded", "equalities") else int(rng.integers(1, n + 3))
    equalities = 0 if family in ("unconstrained", "bounded") else min(equalities, max(free_count - 1, 0))
    room = free_count - equalities
    for k in range(equalities + inequalities):
        normal = rng.normal(size=n)
        bend = np.zeros((n, n)) if family == "linear" else _symmetric(rng, n) * 0.4
        value = f"{_linear(normal, d)} + {_quadratic(bend / 2, d)}"
        size = float(10.0 ** rng.uniform(-4, 4)) if family == "scaled" else 1.0
        is_equality = k < equalities
        is_active = is_equality or (room > 0 and rng.random() < 0.6)
        multiplier = 0.0
        if is_active:
            room -= 0 if is_equality else 1
            is_weak = family == "degenerate" and not is_equality and rng.random() < 0.4
            multiplier = 0.0 if is_weak else float(rng.normal() if is_equality else rng.uniform(0.1, 3.0))
            normals.append(normal)
        slack = 0.0 if is_active else float(rng.uniform(0.3, 2.0))
        sign = "==" if is_equality else ">="
        rows.append(f"{size!r} * ({value}) {sign} {-slack * size!r}")
        if is_active and family in ("degenerate", "dependent") and rng.random() < 0.7:
            factor = float(rng.uniform(0.5, 2.0))  # the same limit once more
            rows.append(f"{factor!r} * ({value}) {sign} 0")
        gradient += multiplier * normal
        curvature += multiplier * bend
    hessian = _objective_hessian(rng, family, n, normals, pressing, curvature)
    weight = float(10.0 ** rng.uniform(-3, 3)) if family == "scaled" else 1.0
    quartic = "0" if family == "linear" else " + ".join(f"0.05 * {s}^4" for s in d)
    objective = f"{weight!r} * (3 + {_linear(gradient, d)} + {_quadratic(hessian / 2, d)} + {quartic})"
    far = 8.0 if family == "far" else 1.0
    start = np.clip(optimum + far * rng.normal(size=n), lower, upper) * sizes
    text = ["[variables]"]
    for i in range(n):
        ends = f", lower = {float(lower[i] * sizes[i])!r}" if np.isfinite(lower[i]) else ""
        ends += f", upper = {float(upper[i] * sizes[i])!r}" if np.isfinite(upper[i]) else ""
        text.append(f"x{i} = {{ start = {float(start[i])!r}{ends} }}")
    text += ["[minimize]", f'f = "{objective}"']
    text += ["[constraints]", *(f'c{i} = "{row}"' for i, row in enumerate(rows))] if rows else []
    return Made(loads("\n".join(text)), 3.0 * weight, optimum * sizes, f"{family} {seed}")


def _bounds(rng: np.random.Generator, family: str, optimum: np.ndarray) -> tuple[np.ndarray, np.ndarray, np.ndarray]:
    """Return lower, upper, and the multipliers of bounds at the optimum (0 where none is active)."""
    n = len(optimum)
    lower, upper, pressing = np.full(n, -np.inf), np.full(n, np.inf), np.zeros(n)
    if family in ("unconstrained", "equalities"):
        return lower, upper, pressing
    for i in range(n):
        kind = rng.choice(
            ["none", "lower", "upper", "both", "at lower", "at upper", "fixed"],
            p=[0.4, 0.1, 0.1, 0.1, 0.12, 0.12, 0.06],
        )
        if kind in ("lower", "both"):
            lower[i] = optimum[i] - rng.uniform(0.5, 3.0)
        if kind in ("upper", "both"):
            upper[i] = optimum[i] + rng.uniform(0.5, 3.0)
        if kind == "at lower":
            lower[i], pressing[i] = optimum[i], rng.uniform(0.1, 2.0)
        if kind == "at upper":
            upper[i], pressing[i] = optimum[i], -rng.uniform(0.1, 2.0)
        if kind == "fixed":
            lower[i] = upper[i] = optimum[i]
            pressing[i] = 1e-30
    if (pressing != 0.0).all():
        lower[0], upper[0], pressing[0] = -np.inf, np.inf, 0.0
    return lower, upper, pressing


def _objective_hessian(
    rng: np.random.Generator,
    family: str,
    n: int,
    normals: list[np.ndarray],
    pressing: np.ndarray,
    curvature: np.ndarray,
) -> np.ndarray:
    """Return the Hessian that makes that of the Lagrangian positive definite: everywhere, or where it matters only."""
    turn, _ = np.linalg.qr(rng.normal(size=(n, n)))
    positive = turn @ np.diag(rng.uniform(0.5, 5.0, n)) @ turn.T
    if family == "linear":
        return positive if not normals else 0.2 * positive
    held = [*normals, *(np.eye(n)[i] for i in range(n) if pressing[i] != 0.0)]
    if family in ("nonconvex", "far") and held:
        basis, _ = np.linalg.qr(np.array(held).T)
        positive = positive - float(rng.uniform(2.0, 10.0)) * (basis @ basis.T)
    return positive + curvature


def _symmetric(rng: np.random.Generator, n: int) -> np.ndarray:
    matrix = rng.normal(size=(n, n))
    return (matrix + matrix.T) / 2


def _linear(coefficients: np.ndarray, d: list[str]) -> str:
    return " + ".join(f"({c!r}) * {item}" for c, item in zip(coefficients.tolist(), d, strict=True))


def _quadratic(matrix: np.ndarray, d: list[str]) -> str:
    n = len(d)
    terms = [f"({float(matrix[i, i])!r}) * {d[i]}^2" for i in range(n)]
    terms += [f"({float(2 * matrix[i, j])!r}) * {d[i]} * {d[j]}" for i in range(n) for j in range(i)]
    return " + ".join(terms)
