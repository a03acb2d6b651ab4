"""What an approximation says of points that had no share in it, against what they are, with its intervals."""

from __future__ import annotations

import math
from typing import Any

import numpy as np

from ilvren.draw.style import figure, save
from ilvren.explore.approximating import Learned, LearnedOutput

__all__ = ["draw_predicted"]

# Panels at most, and how many side by side.
MOST_PANELS, MOST_COLUMNS = 9, 3
SHARE = 0.9


def draw_predicted(learned: Learned, name: str, path: str) -> None:
    """Write the figure to `path` (.png or .svg)."""
    outputs = list(learned.outputs.items())
    shown = outputs[:MOST_PANELS]
    columns = min(len(shown), MOST_COLUMNS)
    rows = math.ceil(len(shown) / columns)
    with figure(rows, columns, squeeze=False) as (made, axes):
        panels = [panel for row in axes for panel in row]
        for panel, (full, output) in zip(panels, shown, strict=False):
            _panel(panel, full, output)
        for panel in panels[len(shown) :]:
            panel.set_visible(False)
        left_out = f"; {len(outputs) - len(shown)} more outputs are not shown" if len(outputs) > len(shown) else ""
        title = learned.problem.title or learned.problem.source.file
        told = f"{name} of {title}: every point as said without it{left_out}"
        made.suptitle(told, x=0.01, ha="left", fontweight="bold")
        save(made, path)


def _panel(panel: Any, full: str, output: LearnedOutput) -> None:
    told = output.approximated.told
    predicted = output.y + told.errors
    half = told.quantile[SHARE] * told.spreads
    unit = f" [{output.unit}]" if output.unit else ""
    everything = [output.y, predicted]
    if np.isfinite(half).all():
        label = f"{100 * SHARE:.0f} % interval"
        panel.errorbar(output.y, predicted, yerr=half, fmt="none", ecolor="#9cc3da", elinewidth=0.9, label=label)
    panel.plot(output.y, predicted, "o", color="#0b6fa4", markersize=4, label="left out")
    if output.tested is not None:
        everything += [output.tested.actual, output.tested.predicted]
        panel.plot(
            output.tested.actual, output.tested.predicted, "D", color="#b3441e", markersize=5, label="never fitted"
        )
    low, high = min(float(v.min()) for v in everything), max(float(v.max()) for v in everything)
    edge = 0.04 * (high - low) or 1.0
    panel.plot([low - edge, high + edge], [low - edge, high + edge], color="#555555", linewidth=0.9)
    panel.set_xlim(low - edge, high + edge)
    panel.set_ylim(low - edge, high + edge)
    panel.set_xlabel(f"{full}, actual{unit}")
    panel.set_ylabel(f"predicted{unit}")
    panel.set_title(f"{output.approximated.surface.kind}, error {100 * told.error:.3g} %", loc="left", fontsize=10)
    panel.legend(loc="upper left", fontsize=8)
