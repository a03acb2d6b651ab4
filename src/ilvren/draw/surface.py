"""An entry over two variables as a surface in three dimensions, with its contours on the floor."""

from __future__ import annotations

from collections.abc import Sequence

import matplotlib as mpl
import numpy as np
from numpy.typing import NDArray

from ilvren.draw.contours import followed, grid_extremes, plane
from ilvren.draw.style import DPI, LINES, SIZE, save
from ilvren.draw.view import (
    Extreme,
    Subject,
    everywhere_feasible,
    legend,
    line_handle,
    mark_handle,
    patch,
    rows_at,
    title_of,
    view_of,
)
from ilvren.judge.track import Track

__all__ = ["draw_surface"]

FloatArray = NDArray[np.float64]

GRID = 91
# Peaks above this quantile are cut off where they would flatten everything else.
CUT_QUANTILE = 0.9


def draw_surface(
    subject: Subject, names: tuple[str, str], point: FloatArray, tracks: Sequence[Track], path: str
) -> list[Extreme]:
    """Write a surface over two variables, the others held at `point` (n,), to `path`; return the extremes seen."""
    import matplotlib.pyplot as plt

    problem = subject.problem
    views = [view_of(problem, name, point, tracks) for name in names]
    xs, ys, points = plane(point, views, GRID)
    shape = (len(ys), len(xs))
    z = subject.at(points).reshape(shape)
    rows, values, sizes = rows_at(problem, subject.gate, points, views)
    feasible = everywhere_feasible(rows, values, sizes).reshape(shape)
    extremes = followed(subject, grid_extremes(xs, ys, z, views, feasible), views, point)
    low, high = _range(z)
    shown = np.clip(z, None, high)
    with mpl.rc_context({"font.size": 11, "legend.frameon": False}):
        made = plt.figure(figsize=SIZE, dpi=DPI, layout="constrained")
        axis = made.add_subplot(projection="3d")
        mesh_x, mesh_y = np.meshgrid(xs, ys)
        span = (high - low) or 1.0
        floor = low - 0.25 * span
        finite = shown[np.isfinite(shown)]
        levels = np.unique(np.quantile(finite, np.linspace(0.0, 1.0, 15))) if len(finite) else np.zeros(1)
        shades = plt.get_cmap("viridis")(np.searchsorted(levels, shown) / max(len(levels), 1))
        shades[~feasible] = 0.3 * shades[~feasible] + 0.7 * np.array([0.80, 0.42, 0.42, 1.0])
        shades[np.isnan(z)] = (0.0, 0.0, 0.0, 0.0)
        axis.plot_surface(
            mesh_x, mesh_y, shown, facecolors=shades, rstride=1, cstride=1, linewidth=0, antialiased=False, shade=False
        )
        axis.plot_wireframe(mesh_x, mesh_y, shown, rstride=6, cstride=6, color="#22334450", linewidth=0.6)
        if len(levels) > 1 and levels[0] < levels[-1]:
            axis.contour(mesh_x, mesh_y, shown, levels=levels, zdir="z", offset=floor, cmap="viridis", linewidths=1.0)
        handles = []
        if not feasible.all():
            handles.append(patch("#c05a5a", "", "a limit is missed"))
        if float(np.nanmax(z)) > high:
            handles.append(patch("#fde737", "", f"cut off above {high:.4g}"))
        start = np.array(problem.start)
        for label, design, marker, color in [
            ("start", start, "o", "#111111"),
            *(
                (f"{track.name}  {track.method}", np.array(track.point), "*", LINES[k % len(LINES)][0])
                for k, track in enumerate(tracks)
                if track.point is not None
            ),
        ]:
            there = point.copy()
            for view in views:
                there[view.index] = design[view.index]
            height = min(float(subject.at(there[np.newaxis, :])[0]), high)
            x, y = (there[view.index] for view in views)
            axis.plot([x, x], [y, y], [floor, height], color=color, linewidth=1.2, zorder=9)
            axis.plot([x], [y], [height], marker, color=color, markersize=11, zorder=10)
            handles.append(mark_handle("o", label) if marker == "o" else line_handle(color, f"{label}, ★ its design"))
        axis.set_zlim(floor, high)
        axis.set_xlabel(views[0].label, labelpad=9)
        axis.set_ylabel(views[1].label, labelpad=9)
        axis.set_zlabel(subject.label, labelpad=9)
        axis.view_init(elev=32, azim=-128)
        made.suptitle(title_of(problem, point, names), x=0.01, ha="left", fontweight="bold")
        legend(made, handles)
        save(made, path)
        plt.close(made)
    return extremes


def _range(z: FloatArray) -> tuple[float, float]:
    """Return the heights shown: all, unless a few peaks would flatten the rest."""
    finite = z[np.isfinite(z)]
    if not len(finite):
        return 0.0, 1.0
    low, high = float(finite.min()), float(finite.max())
    most = float(np.quantile(finite, CUT_QUANTILE))
    return low, high if high - low <= 2.5 * (most - low) or most == low else most
