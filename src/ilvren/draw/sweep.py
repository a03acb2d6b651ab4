"""The optimum against what is swept: objective above, variables and active limits below."""

from __future__ import annotations

from typing import TYPE_CHECKING, Any

import numpy as np

from ilvren.draw.style import LINES, figure, save

if TYPE_CHECKING:
    from ilvren.judge import SweepCurve

__all__ = ["draw_sweep"]

# Variables drawn, each over its range in the sweep; limits.
MOST_VARIABLES, MOST_LIMITS = 6, 10


def draw_sweep(curve: SweepCurve, path: str) -> None:
    """Write the figure of a sweep to `path` (.png or .svg); words of a choice stand side by side."""
    problem, holds = curve.problem, curve.holds
    x = np.arange(len(curve.values), dtype=float) if curve.words else curve.values
    objective = problem.objective
    units = {block.name: block.unit for block in problem.blocks}
    worded = {block.name for block in problem.blocks if block.words}
    numbers = {name: own for name, own in curve.scalars.items() if name not in worded}
    scalars = dict(list(numbers.items())[:MOST_VARIABLES])
    limits = dict(list(curve.active.items())[:MOST_LIMITS])
    rows = 1 + bool(scalars) + bool(limits)
    with figure(rows, 1, sharex=True, squeeze=False, gridspec_kw={"height_ratios": (3, 2.4, 2)[:rows]}) as (made, axes):
        axis = axes[0, 0]
        line = "none" if curve.words else "-"
        axis.plot(
            x[holds], curve.objective[holds], color=LINES[0][0], linestyle=line, marker="o", markerfacecolor="white"
        )
        if not holds.all():
            axis.plot(x[~holds], curve.objective[~holds], "x", color="#c02020", markersize=9, label="does not hold")
            axis.legend()
        unit = f" [{objective.unit}]" if objective is not None and objective.unit else ""
        axis.set_ylabel(f"{objective.name if objective else 'objective'}{unit}\nat the optimum")
        axis.set_title(problem.title or problem.source.file, loc="left", fontweight="bold")
        place = 1
        if scalars:
            for (name, own), (color, dashes, marker) in zip(scalars.items(), LINES * 2, strict=False):
                first = own[holds][0] if holds.any() and own[holds][0] else 1.0
                label = f"{name} ({first:.4g}{' ' + units[name] if units[name] else ''} at first)"
                dashes = "none" if curve.words else dashes
                axes[place, 0].plot(
                    x[holds],
                    own[holds] / first,
                    color=color,
                    linestyle=dashes,
                    marker=marker,
                    markersize=4,
                    label=label,
                )
            told = "variables" if len(scalars) == len(numbers) else f"{len(scalars)} of {len(numbers)} variables"
            axes[place, 0].set_ylabel(f"{told},\neach over its first")
            axes[place, 0].legend(loc="best")
            place += 1
        if limits:
            _draw_limits(axes[place, 0], x, limits, len(curve.active))
        if curve.words:
            axes[-1, 0].set_xticks(x, [str(curve.shown(k)) for k in range(len(x))])
        axes[-1, 0].set_xlabel(f"{curve.over}{f' [{curve.unit}]' if curve.unit else ''}")
        save(made, path)


def _draw_limits(axis: Any, x: Any, limits: dict[str, Any], count: int) -> None:
    for level, on in enumerate(limits.values()):
        axis.plot(x[on], np.full(int(on.sum()), level), "s", color="#b03030", markersize=6)
        axis.plot(x[~on], np.full(int((~on).sum()), level), ".", color="#bbbbbb", markersize=4)
    axis.set_yticks(range(len(limits)), list(limits))
    axis.set_ylim(-0.6, len(limits) - 0.4)
    axis.set_ylabel("active limits" if count == len(limits) else f"{len(limits)} of {count}\nactive limits")
