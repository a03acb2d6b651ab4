"""An entry over two variables as a surface in three dimensions, with its contours on the floor."""

from __future__ import annotations

from collections.abc import Sequence
from typing import TYPE_CHECKING

import matplotlib as mpl
import numpy as np
from numpy.typing import NDArray

from ilvren.draw.contours import followed, grid_extremes, plane
from ilvren.draw.curve import BAND
from ilvren.draw.style import DPI, LINES, SIZE, ramp, save
from ilvren.draw.view import (
    Extreme,
    Subject,
    cells,
    everywhere_feasible,
    legend,
    line_handle,
    mark_handle,
    patch,
    rows_at,
    title_of,
    unsure,
    view_of,
)

if TYPE_CHECKING:
    from ilvren.judge import Track

__all__ = ["draw_surface"]

FloatArray = NDArray[np.float64]

GRIDS = (12, 23, 45, 89)
# Peaks above this quantile are cut off where they would flatten everything else.
CUT_QUANTILE = 0.9
MISSED = "#b03030"
# Views tried in turn, a later one where clearly more of the marked places is seen: elevation and azimuth in degrees.
VIEWS = [(elevation, azimuth) for elevation in (32.0, 45.0, 58.0) for azimuth in (-128, -52, 142, 38, -90, 90, 0, 180)]
# What should be seen around a marked design, in shares of the axes; how much of the box's width its height is, and by
# how much a surface may stand above the line of sight.
AROUND = [(0.0, 0.0), *((r * dx, r * dy) for r in (0.06, 0.14) for dx, dy in ((1, 0), (-1, 0), (0, 1), (0, -1)))]
HEIGHT_OF_BOX, SIGHT_SLACK = 0.75, 0.01


def draw_surface(
    subject: Subject, names: tuple[str, str], point: FloatArray, tracks: Sequence[Track], path: str
) -> list[Extreme]:
    """Write a surface over two variables, the others held at `point` (n,), to `path`; return the extremes seen."""
    import matplotlib.pyplot as plt

    problem = subject.problem
    views = [view_of(problem, name, point, tracks) for name in names]
    grid = subject.grid_of(GRIDS, lambda size: cells(views, size), lambda size: plane(point, views, size)[2])
    xs, ys, points = plane(point, views, grid)
    shape = (len(ys), len(xs))
    z = subject.at(points).reshape(shape)
    rows, values, sizes = rows_at(subject, points, views)
    feasible = everywhere_feasible(rows, values, sizes).reshape(shape)
    extremes = followed(subject, grid_extremes(xs, ys, z, views, feasible), views, point, grid)
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
        shades = ramp()(np.searchsorted(levels, shown) / max(len(levels), 1))
        shades[np.isnan(z)] = (0.0, 0.0, 0.0, 0.0)
        axis.plot_surface(
            mesh_x, mesh_y, shown, facecolors=shades, rstride=1, cstride=1, linewidth=0, antialiased=False, shade=False
        )
        axis.plot_wireframe(mesh_x, mesh_y, shown, rstride=6, cstride=6, color="#22334450", linewidth=0.6)
        if not feasible.all():
            # A red net over the heights, and the ground below them: the colours keep their meaning.
            net = np.where(feasible, np.nan, shown)
            axis.plot_wireframe(mesh_x, mesh_y, net, rstride=3, cstride=3, color=MISSED, linewidth=0.7)
            missed = (~feasible).astype(float)
            axis.contourf(
                mesh_x, mesh_y, missed, levels=[0.5, 1.5], zdir="z", offset=floor, colors=[MISSED], alpha=0.25
            )
        if len(levels) > 1 and levels[0] < levels[-1]:
            axis.contour(mesh_x, mesh_y, shown, levels=levels, zdir="z", offset=floor, cmap=ramp(), linewidths=1.0)
        handles = []
        zone = unsure(subject, points, z.ravel())
        if zone is not None:
            own = zone[0].reshape(shape) * 1.0
            axis.contourf(mesh_x, mesh_y, own, levels=[0.5, 1.5], zdir="z", offset=floor, colors=[BAND], alpha=0.6)
            handles.append(patch(BAND, "", f"ground: {zone[1]}"))
        if not feasible.all():
            handles.append(patch(MISSED, "+", "a limit is missed"))
        if float(np.nanmax(z)) > high:
            handles.append(patch(mpl.colors.to_hex(ramp()(1.0)), "", f"cut off above {high:.4g}"))
        start = np.array(problem.start)
        marked: list[tuple[float, float, float]] = []
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
            marked.append((float(x), float(y), height))
            axis.plot([x, x], [y, y], [floor, height], color="white", linewidth=2.6, zorder=8.5)
            axis.plot([x, x], [y, y], [floor, height], color=color, linewidth=1.2, zorder=9)
            look = {"markersize": 17 if marker == "*" else 11, "markeredgecolor": "white", "markeredgewidth": 1.4}
            axis.plot([x], [y], [height], marker, color=color, zorder=10, **look)
            handles.append(mark_handle("o", label) if marker == "o" else line_handle(color, f"{label}, ★ its design"))
        axis.set_zlim(floor, high)
        axis.set_xlabel(views[0].label, labelpad=9)
        axis.set_ylabel(views[1].label, labelpad=9)
        axis.set_zlabel(subject.label, labelpad=9)
        elevation, azimuth = _clearest_view(xs, ys, shown, (floor, high), marked)
        axis.view_init(elev=elevation, azim=azimuth)
        made.suptitle(title_of(problem, point, names), x=0.01, ha="left", fontweight="bold")
        legend(made, handles)
        save(made, path)
        plt.close(made)
    return extremes


def _clearest_view(
    xs: FloatArray,
    ys: FloatArray,
    z: FloatArray,
    ends: tuple[float, float],
    marked: Sequence[tuple[float, float, float]],
) -> tuple[float, float]:
    """Return elevation and azimuth, in degrees, from which most of what surrounds the marked designs is seen: no higher
    part of the surface stands on the way to the eye."""
    x, y = (np.linspace(0.0, 1.0, len(axis)) for axis in (xs, ys))
    low, high = ends
    height = np.nan_to_num((z - low) / ((high - low) or 1.0), nan=0.0) * HEIGHT_OF_BOX
    around = np.array(AROUND)
    points = []
    for a, b, _ in marked:
        centre = np.array([(a - xs[0]) / (xs[-1] - xs[0]), (b - ys[0]) / (ys[-1] - ys[0])])
        points += list(np.clip(centre + around, 0.0, 1.0))
    spots = np.array(points)
    best, best_score = VIEWS[0], -1.0
    for elevation, azimuth in VIEWS:
        e, a = np.radians(elevation), np.radians(azimuth)
        towards = np.array([np.cos(e) * np.cos(a), np.cos(e) * np.sin(a), np.sin(e)])
        steps = np.linspace(0.02, 1.5, 80)
        way = spots[:, np.newaxis] + steps[:, np.newaxis] * towards[:2]
        inside = ((way >= 0.0) & (way <= 1.0)).all(axis=2)
        at = [np.clip(np.searchsorted(axis, way[:, :, k]), 0, len(axis) - 1) for k, axis in enumerate((x, y))]
        own = [np.clip(np.searchsorted(axis, spots[:, k]), 0, len(axis) - 1) for k, axis in enumerate((x, y))]
        line = height[own[1], own[0]][:, np.newaxis] + SIGHT_SLACK + steps * towards[2]
        is_seen = ~(inside & (height[at[1], at[0]] > line)).any(axis=1)
        if is_seen.mean() > best_score + 0.02:
            best, best_score = (elevation, azimuth), float(is_seen.mean())
    return best


def _range(z: FloatArray) -> tuple[float, float]:
    """Return the heights shown: all, unless a few peaks would flatten the rest."""
    finite = z[np.isfinite(z)]
    if not len(finite):
        return 0.0, 1.0
    low, high = float(finite.min()), float(finite.max())
    most = float(np.quantile(finite, CUT_QUANTILE))
    return low, high if high - low <= 2.5 * (most - low) or most == low else most
