"""What drives what, as bars with their intervals: the longest first, a panel for each output."""

from __future__ import annotations

import math
from typing import TYPE_CHECKING, Any

import numpy as np

from ilvren.draw.style import LINES, figure, save

if TYPE_CHECKING:
    from ilvren.explore.sensitivity import Driver, Sensitivity

__all__ = ["draw_sensitivity"]

MOST_PANELS, MOST_BARS = 6, 14
LABELS = {
    "elasticities": "per cent for one per cent",
    "elementary-effects": "mean size of the effect over the whole range",
    "variance": "share of the variance",
    "correlation": "correlation of ranks",
}


def draw_sensitivity(found: Sensitivity, path: str) -> None:
    """Write the drivers of the first outputs to `path`."""
    names = list(found.of)[:MOST_PANELS]
    columns = 1 if len(names) == 1 else 2 if len(names) <= 4 else 3
    rows = max(1, math.ceil(len(names) / columns))
    with figure(rows, columns, squeeze=False) as (made, panels):
        for place in range(rows * columns):
            panel = panels[place // columns, place % columns]
            if place >= len(names):
                panel.set_axis_off()
                continue
            name = names[place]
            unit = found.units.get(name, "")
            panel.set_title(name, fontsize=12, loc="left")
            _bars(panel, found.kind, found.of[name])
            label = LABELS[found.kind]
            panel.set_xlabel(f"{label} [{unit}]" if found.kind == "elementary-effects" and unit else label, fontsize=10)
        where = f"{found.run}, {found.evaluations:,} designs" if found.run else "at one design"
        more = f"; {len(names)} of {len(found.of)} outputs" if len(found.of) > len(names) else ""
        most = max((len(found.of[name]) for name in names), default=0)
        more += f"; the {MOST_BARS} strongest of {most}" if most > MOST_BARS else ""
        made.suptitle(f"{found.kind.replace('-', ' ')}: {where}{more}", fontsize=13, x=0.02, ha="left")
        save(made, path)


def _bars(panel: Any, kind: str, drivers: tuple[Driver, ...]) -> None:
    order = sorted(drivers, key=lambda driver: -driver.size if math.isfinite(driver.size) else math.inf)[:MOST_BARS]
    places = np.arange(len(order))[::-1]
    panel.set_yticks(places, [driver.variable for driver in order])
    panel.grid(axis="y", visible=False)
    if kind == "variance":
        _with_interval(panel, places + 0.19, order, "total", LINES[0][0], "with all interactions", 0.36)
        _with_interval(panel, places - 0.19, order, "first", LINES[1][0], "alone", 0.36)
        panel.legend(loc="lower right", fontsize=9.5)
        panel.set_xlim(left=min(0.0, panel.get_xlim()[0]))
        return
    key = "mean_absolute" if kind == "elementary-effects" else "value"
    values = [driver.numbers[key] for driver in order]
    colours = [LINES[0][0] if value >= 0.0 else LINES[1][0] for value in values]
    panel.barh(places, values, height=0.62, color=colours)
    if "low" in order[0].numbers if order else False:
        _whiskers(panel, places, values, [d.numbers["low"] for d in order], [d.numbers["high"] for d in order])
    panel.axvline(0.0, color="#444444", linewidth=0.8)


def _with_interval(
    panel: Any, places: Any, order: list[Driver], key: str, colour: str, label: str, height: float
) -> None:
    values = [driver.numbers[key] for driver in order]
    panel.barh(places, values, height=height, color=colour, label=label)
    _whiskers(
        panel, places, values, [d.numbers[f"{key}_low"] for d in order], [d.numbers[f"{key}_high"] for d in order]
    )


def _whiskers(panel: Any, places: Any, values: list[float], low: list[float], high: list[float]) -> None:
    below = np.maximum(np.array(values) - np.array(low), 0.0)
    above = np.maximum(np.array(high) - np.array(values), 0.0)
    panel.errorbar(values, places, xerr=[below, above], fmt="none", ecolor="#333333", elinewidth=1.1, capsize=3)
