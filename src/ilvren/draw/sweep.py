"""The optimum against what is swept: objective above, variables and active limits below."""

from __future__ import annotations

from typing import TYPE_CHECKING, Any

import numpy as np

from ilvren.draw.style import LINES, figure, save

if TYPE_CHECKING:
    from ilvren.runs import Sweep, SweptRun

__all__ = ["draw_sweep"]

# Variables drawn, each over its range in the sweep.
MOST_VARIABLES = 6


def draw_sweep(sweep: Sweep, path: str) -> None:
    """Write the figure of a sweep to `path` (.png or .svg)."""
    members = sweep.members
    problem = members[0].result.problem
    x = np.array([member.value for member in members])
    holds = np.array([member.result.holds for member in members])
    objective = problem.objective
    scalars = [block for block in problem.blocks if not block.shape][:MOST_VARIABLES]
    limits = _active_limits(members)
    rows = 1 + bool(scalars) + bool(limits)
    with figure(rows, 1, sharex=True, squeeze=False, gridspec_kw={"height_ratios": (3, 2.4, 2)[:rows]}) as (made, axes):
        axis = axes[0, 0]
        values = np.array([np.nan if m.result.objective is None else m.result.objective for m in members])
        axis.plot(x[holds], values[holds], color=LINES[0][0], marker="o", markerfacecolor="white")
        if not holds.all():
            axis.plot(x[~holds], values[~holds], "x", color="#c02020", markersize=9, label="does not hold")
            axis.legend()
        unit = f" [{objective.unit}]" if objective is not None and objective.unit else ""
        axis.set_ylabel(f"{objective.name if objective else 'objective'}{unit}\nat the optimum")
        axis.set_title(problem.title or problem.source.file, loc="left", fontweight="bold")
        place = 1
        if scalars:
            for block, (color, dashes, marker) in zip(scalars, LINES * 2, strict=False):
                own = np.array([member.result.point[block.first] for member in members])
                first = own[holds][0] if holds.any() and own[holds][0] else 1.0
                name = f"{block.name} ({first:.4g}{' ' + block.unit if block.unit else ''} at first)"
                axes[place, 0].plot(
                    x[holds], own[holds] / first, color=color, linestyle=dashes, marker=marker, markersize=4, label=name
                )
            axes[place, 0].set_ylabel("variables,\neach over its first")
            axes[place, 0].legend(loc="best")
            place += 1
        if limits:
            _draw_limits(axes[place, 0], x, limits)
        unit = f" [{sweep.unit}]" if sweep.unit else ""
        axes[-1, 0].set_xlabel(f"{sweep.over}{unit}")
        save(made, path)


def _active_limits(members: tuple[SweptRun, ...]) -> dict[str, list[bool]]:
    """Return {name: whether active, by member} of the entries of which some limit is active somewhere."""
    found: dict[str, list[bool]] = {}
    for number, member in enumerate(members):
        result = member.result
        for state in (*result.constraints, *result.bounds):
            if state.is_active and state.side != "equality" and state.lower < state.upper:
                name = f"{state.name.partition('[')[0]} {state.side}"
                found.setdefault(name, [False] * len(members))[number] = True
    return dict(list(found.items())[:10])


def _draw_limits(axis: Any, x: Any, limits: dict[str, list[bool]]) -> None:
    for level, (_name, active) in enumerate(limits.items()):
        on = np.array(active)
        axis.plot(x[on], np.full(int(on.sum()), level), "s", color="#b03030", markersize=6)
        axis.plot(x[~on], np.full(int((~on).sum()), level), ".", color="#bbbbbb", markersize=4)
    axis.set_yticks(range(len(limits)), list(limits))
    axis.set_ylim(-0.6, len(limits) - 0.4)
    axis.set_ylabel("active limits")
