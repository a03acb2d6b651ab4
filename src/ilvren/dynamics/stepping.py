"""One explicit step on plain floats, as code made for a system: the sums of a Runge–Kutta table written out.

The text holds numbers, operators and names made of numbers; what a moment is made of, beside the time and the states,
is taken from a list once a step."""

from __future__ import annotations

from collections.abc import Callable, Sequence
from typing import TYPE_CHECKING, Any

if TYPE_CHECKING:
    from ilvren.dynamics.tableau import Tableau

__all__ = ["Step", "explicit_step"]

# (rates, share of the time, step, states, all numbers of the moment, forcing of the stages) → (rates of the stages,
# states at the end).
Step = Callable[[Any, float, float, Sequence[float], Sequence[float], Sequence[Sequence[float]]], Any]


def explicit_step(
    tableau: Tableau, width: int, states: Sequence[int], forcing: Sequence[int], thetas: dict[int, int]
) -> Step:
    """Return the step for moments of `width` numbers, of which `states` are the states, `forcing` fixed values of the
    time, and `thetas` {place: pieces} how far a control is between two values: their numbers hold the piece."""
    n = len(states)
    state_at = {place: k for k, place in enumerate(states)}
    forced_at = {place: k for k, place in enumerate(forcing)}
    lines = ["def step(f, t, h, x, m, w):"]
    add = lines.append
    if n:
        add("    " + ", ".join(f"x{k}" for k in range(n)) + ("," if n == 1 else "") + " = x")
    kept = [p for p in range(1, width) if p not in state_at and p not in forced_at]
    for place in kept:
        add(f"    m{place} = m[{place}]")
    for i in range(tableau.stages):
        if forcing:
            add("    " + ", ".join(f"w{k}" for k in range(len(forcing))) + f", = w[{i}]")
        time = "t" if tableau.c[i] == 0.0 else "t + h" if tableau.c[i] == 1.0 else f"t + {float(tableau.c[i])!r} * h"
        add(f"    s = {time}")
        used = [(j, float(tableau.a[i, j])) for j in range(i) if tableau.a[i, j] != 0.0]
        for k in range(n):
            total = " + ".join(f"{weight!r} * k{j}_{k}" for j, weight in used)
            add(f"    y{k} = x{k}" + (f" + h * ({total})" if total else ""))
        given = []
        for place in range(width):
            if place == 0:
                given.append("s")
            elif place in state_at:
                given.append(f"y{state_at[place]}")
            elif place in forced_at:
                given.append(f"w{forced_at[place]}")
            elif place in thetas:
                given.append(f"s * {float(thetas[place])!r} - m{place}")
            else:
                given.append(f"m{place}")
        names = ", ".join(f"k{i}_{k}" for k in range(n)) + ("," if n == 1 else "")
        add(f"    {names} = k{i} = f({', '.join(given)})")
    used = [(j, float(tableau.b[j])) for j in range(tableau.stages) if tableau.b[j] != 0.0]
    ends = [f"x{k} + h * ({' + '.join(f'{weight!r} * k{j}_{k}' for j, weight in used)})" for k in range(n)]
    rates = ", ".join(f"k{i}" for i in range(tableau.stages))
    add(f"    return ({rates}), [{', '.join(ends)}]")
    space: dict[str, Any] = {"__builtins__": {}}
    exec(compile("\n".join(lines), "<step>", "exec"), space)  # noqa: S102 - text made from numbers above
    found: Step = space["step"]
    return found
