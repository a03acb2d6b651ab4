"""Problems with known answers, most of them manufactured: choose the optimum, the multipliers and the active
set, then build functions that have them."""

from __future__ import annotations

import numpy as np

from ilvren import loads
from ilvren.problem import Problem

__all__ = ["SADDLE", "as_text", "manufactured", "two_variables"]

SADDLE = 'minimize.f = "x^2 - y^2"'


def two_variables(
    formula: str,
    *constraints: str,
    start: tuple[float, float] = (1.0, 1.0),
    sense: str = "minimize",
    bounds: tuple[float, float] | None = None,
) -> str:
    """Return the text of a problem in x and y, both within the same bounds where any are given."""
    ends = f", lower = {bounds[0]}, upper = {bounds[1]}" if bounds else ""
    lines = ["[variables]", f"x = {{ start = {start[0]}{ends} }}", f"y = {{ start = {start[1]}{ends} }}"]
    lines += [f"[{sense}]", f'f = "{formula}"'] if formula else []
    lines += ["[constraints]", *(f'c{i} = "{text}"' for i, text in enumerate(constraints))] if constraints else []
    return "\n".join(lines)


def as_text(coefficients: np.ndarray, names: list[str]) -> str:
    """Return a linear form as a formula."""
    return " + ".join(f"({c!r}) * {name}" for c, name in zip(coefficients.tolist(), names, strict=True))


def manufactured(
    seed: int, *, n: int, inequalities: int, equalities: int, scale: float = 1.0
) -> tuple[Problem, np.ndarray]:
    """Return a problem with a strict local minimum and where it is.

    f = q(x) − (what makes the gradient at x* the chosen combination of constraint gradients), rows curved, some
    inequalities active with positive multipliers, the others with room; the Hessian of the Lagrangian is positive definite.
    """
    rng = np.random.default_rng(seed)
    names = [f"x{i}" for i in range(n)]
    optimum = rng.uniform(-2.0, 2.0, n)
    shifted = [f"(x{i} - ({at!r}))" for i, at in enumerate(optimum.tolist())]
    active = rng.random(inequalities) < 0.5
    active &= np.cumsum(active) + equalities <= n - 1
    gradient, rows, curvature = np.zeros(n), [], 1.0
    for k in range(inequalities + equalities):
        normal, bend = rng.normal(size=n), float(rng.uniform(-0.5, 0.5))
        value = as_text(normal, shifted) + " + " + f"({bend!r}) * ({' + '.join(f'{s}^2' for s in shifted)})"
        if k >= inequalities:
            multiplier = float(rng.normal())
            rows.append(f"{value} == 0")
        elif active[k]:
            multiplier = float(rng.uniform(0.2, 2.0))
            rows.append(f"{value} >= 0")
        else:
            multiplier = 0.0
            rows.append(f"{value} >= {-float(rng.uniform(0.5, 2.0))!r}")
        gradient += multiplier * normal
        curvature += 2.0 * abs(multiplier * bend)
    square = " + ".join(
        f"({float(curvature) / 2 * w!r}) * {s}^2"
        for w, s in zip(rng.uniform(1.0, 5.0, n).tolist(), shifted, strict=True)
    )
    quartic = " + ".join(f"0.05 * {s}^4" for s in shifted)
    text = [
        "[variables]",
        *(f"{name} = {{ start = {float(optimum[i] + rng.normal())!r} }}" for i, name in enumerate(names)),
    ]
    text += ["[minimize]", f'f = "({scale!r}) * (3 + {as_text(gradient, shifted)} + {square} + {quartic})"']
    if rows:
        text += ["[constraints]", *(f'c{i} = "{row}"' for i, row in enumerate(rows))]
    return loads("\n".join(text)), optimum
