"""Each variable varied alone through a point: small multiples of one entry."""

from __future__ import annotations

import math
from collections.abc import Sequence
from typing import Any

import numpy as np
from numpy.typing import NDArray

from ilvren.draw.curve import curve_extremes, draw_band, line_of, shade_missed
from ilvren.draw.style import HATCHES, LINES, figure, save, shades
from ilvren.draw.view import (
    Extreme,
    Subject,
    cells,
    legend,
    line_handle,
    mark_handle,
    missed,
    patch,
    predicted_by,
    rows_at,
    view_of,
)

__all__ = ["MOST_SLICES", "draw_slices"]

FloatArray = NDArray[np.float64]

MOST_SLICES = 16
SLICES = (20, 39, 77, 153, 305)


def draw_slices(subject: Subject, names: Sequence[str], point: FloatArray, path: str) -> dict[str, list[Extreme]]:
    """Write one small curve per variable through `point` (n,) to `path`; return the extremes seen by variable."""
    problem = subject.problem
    columns = min(4, math.ceil(math.sqrt(len(names))))
    lines = math.ceil(len(names) / columns)
    found: dict[str, list[Extreme]] = {}
    here = float(subject.at(point[np.newaxis, :])[0])
    views = [view_of(problem, name, point, []) for name in names]
    count = subject.grid_of(
        SLICES,
        lambda own: sum(cells([view], own) for view in views),
        lambda own: np.vstack([line_of(point, view, own)[1] for view in views]),
    )
    places: dict[str, int] = {}
    bands: list[Any] = []
    with figure(lines, columns, squeeze=False, sharey=True) as (made, axes):
        for axis in axes.flat[len(names) :]:
            axis.set_axis_off()
        for axis, name, view in zip(axes.flat, names, views, strict=False):
            xs, points = line_of(point, view, count)
            y = subject.at(points)
            rows, values, sizes = rows_at(subject, points, [view])
            found[name] = curve_extremes(subject, point, view, xs, y)
            marks = {} if view.is_continuous else {"marker": "o", "linestyle": ":", "markersize": 5}
            axis.plot(xs, y, color=LINES[0][0], linewidth=1.8, **marks)
            draw_band(axis, subject, xs, points, y, bands)
            for place, row in enumerate(rows):
                outside = missed(values[:, place], row, float(sizes[place]))
                if outside.any():
                    shade_missed(axis, xs, outside, places.setdefault(row.name, len(places)))
            for bound in (view.variable.lower, view.variable.upper):
                if view.low <= bound <= view.high:
                    axis.axvline(bound, color="#333333", linestyle=(0, (6, 3)), linewidth=1.0)
            axis.plot(point[view.index], here, marker="P", markersize=9, color="#111111", markeredgecolor="white")
            axis.set_xlabel(view.label, fontsize=10.5)
            axis.locator_params(axis="x", nbins=5)
            axis.set_xlim(view.low, view.high)
        drawn = np.concatenate([axis.lines[0].get_ydata() for axis in axes.flat[: len(names)]])
        _limit_height(axes.flat[0], drawn[np.isfinite(drawn)])
        for line in axes:
            line[0].set_ylabel(subject.label, fontsize=10.5)
        handles = [line_handle(LINES[0][0], subject.name), mark_handle("P", f"the point: {here:.5g}")]
        handles += [patch(shades(k), HATCHES[k % len(HATCHES)], f"{name} missed") for name, k in places.items()]
        handles += bands[:1]
        handles.append(line_handle("#333333", "bounds", (0, (6, 3))))
        made.suptitle(
            f"{problem.title or problem.source.file}{predicted_by(problem)}\neach variable alone, the others held",
            x=0.01,
            ha="left",
            fontweight="bold",
        )
        legend(made, handles)
        save(made, path)
    return found


def _limit_height(axis: Any, values: FloatArray) -> None:
    """Keep a few very high values from flattening everything else; all slices share the axis."""
    if not len(values):
        return
    low, high = float(values.min()), float(values.max())
    usual = float(np.quantile(values, 0.95))
    if high - low > 3.0 * (usual - low) > 0.0:
        axis.set_ylim(low - 0.1 * (usual - low), low + 1.6 * (usual - low))
