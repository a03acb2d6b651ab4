"""What came of a receding horizon: the plant's states and the controls applied, below each other."""

from __future__ import annotations

import math
from typing import TYPE_CHECKING

import numpy as np

from ilvren.draw.style import LINES, figure, save

if TYPE_CHECKING:
    from ilvren.runs import ClosedLoop

__all__ = ["draw_closed_loop"]

# Panels; more names are left out, which the title says.
MOST_PANELS = 5
LIMIT = "#b03030"


def draw_closed_loop(loop: ClosedLoop, path: str) -> None:
    """Write the figure to `path` (.png or .svg)."""
    problem = loop.problem
    axis = problem.template.built_axes[0]
    names = [name for name in loop.states if name in axis.state_names] + list(loop.controls)
    shown = names[:MOST_PANELS]
    units = {name: unit for told in problem.template.told_over_time for name, unit, _ in told}
    with figure(len(shown), 1, squeeze=False, sharex=True) as (made, axes):
        for place, name in enumerate(shown):
            panel = axes[place, 0]
            values = np.asarray(loop.states.get(name, loop.controls.get(name)), dtype=float)
            flat = values.reshape(len(values), -1)
            forms = {item.name: item.form for item in axis.control_declarations.values()}
            # What is applied until a moment stands at that moment.
            style = "steps-pre" if forms.get(name) == "constant" else "default"
            for k in range(min(flat.shape[1], len(LINES))):
                panel.plot(loop.times, flat[:, k], color=LINES[k % len(LINES)][0], linewidth=1.8, drawstyle=style)
            panel.set_ylabel(f"{name} [{units[name]}]" if units.get(name) else name)
            for limit in _limits(loop, name):
                panel.axhline(limit, color=LIMIT, linestyle="--", linewidth=1.2)
        unit = axis.time.unit
        axes[-1, 0].set_xlabel(f"t [{unit}]" if unit else "t")
        left = len(names) - len(shown)
        more = f" ({left} more not shown)" if left else ""
        asked = loop.asked
        times = f"window {asked.window:g}, moved on by {asked.advance:g}"
        axes[0, 0].set_title(f"{problem.title or problem.source.file}: receding horizon, {times}{more}", loc="left")
        save(made, path)


def _limits(loop: ClosedLoop, name: str) -> list[float]:
    """Return the bounds of a state or control that are plain numbers."""
    axis = loop.problem.template.built_axes[0]
    declared = [*axis.state_declarations, *axis.control_declarations.values()]
    found = []
    for item in declared:
        if item.name == name:
            found += [float(v) for v in (item.lower, item.upper) if isinstance(v, (int, float)) and math.isfinite(v)]
    return found
