"""What an approximation says of points that had no share in it, against what they are, with its intervals."""

from __future__ import annotations

import math
from collections.abc import Mapping
from typing import TYPE_CHECKING, Any

import numpy as np

from ilvren.draw.style import figure, save

if TYPE_CHECKING:
    from ilvren.explore import Agreement

__all__ = ["draw_predicted"]

# Panels at most, and how many side by side.
MOST_PANELS, MOST_COLUMNS = 9, 3


def draw_predicted(agreements: Mapping[str, Agreement], title: str, path: str) -> None:
    """Write the figure of outputs by name to `path` (.png or .svg)."""
    outputs = list(agreements.items())
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
        made.suptitle(f"{title}: every point as said without it{left_out}", x=0.01, ha="left", fontweight="bold")
        save(made, path)


def _panel(panel: Any, full: str, output: Agreement) -> None:
    unit = f" [{output.unit}]" if output.unit else ""
    everything = [output.actual, output.said]
    if np.isfinite(output.half).all():
        panel.errorbar(
            output.actual, output.said, yerr=output.half, fmt="none", ecolor="#9cc3da", elinewidth=0.9,
            label="90 % interval",
        )  # fmt: skip
    panel.plot(output.actual, output.said, "o", color="#0b6fa4", markersize=4, label="left out")
    if len(output.tested_actual):
        everything += [output.tested_actual, output.tested_said]
        panel.plot(output.tested_actual, output.tested_said, "D", color="#b3441e", markersize=5, label="never fitted")
    low, high = min(float(v.min()) for v in everything), max(float(v.max()) for v in everything)
    edge = 0.04 * (high - low) or 1.0
    panel.plot([low - edge, high + edge], [low - edge, high + edge], color="#555555", linewidth=0.9)
    panel.set_xlim(low - edge, high + edge)
    panel.set_ylim(low - edge, high + edge)
    panel.locator_params(axis="x", nbins=5)
    panel.set_xlabel(f"{full}, actual{unit}")
    panel.set_ylabel(f"predicted{unit}")
    some = f", {len(output.actual):,} of {output.of:,} points" if len(output.actual) < output.of else ""
    panel.set_title(f"{output.kind}, error {100 * output.error:.3g} %{some}", loc="left", fontsize=10)
    panel.legend(loc="upper left", fontsize=8)
