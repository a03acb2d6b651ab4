"""An entry over two variables as contours, with limits, bounds, starts, paths and optima."""

from __future__ import annotations

import math
from collections.abc import Sequence
from dataclasses import replace
from typing import TYPE_CHECKING, Any

import numpy as np
from matplotlib.patheffects import withTickedStroke
from numpy.typing import NDArray

from ilvren.draw.curve import BAND
from ilvren.draw.style import HATCHES, LINES, figure, save, shades
from ilvren.draw.view import (
    Extreme,
    Subject,
    View,
    cells,
    everywhere_feasible,
    feasible_at,
    legend,
    line_handle,
    mark_handle,
    missed,
    patch,
    rows_at,
    subject_of,
    title_of,
    unsure,
    view_of,
)
from ilvren.errors import RequestError

if TYPE_CHECKING:
    from ilvren.judge import Track
    from ilvren.problem import Problem, Row

__all__ = ["draw_contours", "followed", "grid_extremes", "plane"]

FloatArray = NDArray[np.float64]

# Each has the points of those before it.
GRIDS = (6, 11, 21, 41, 81, 161)
GRID = GRIDS[-1]
LEVELS = 14
# Extremes of the grid that are looked at closer; by patches of so many points a side, at most so many times, until the
# patch is this share of a cell.
MOST_FOLLOWED, PATCH, MOST_PATCHES = 40, 9, 150
SHRINK, SETTLED = 0.4, 1e-3
# Labels keep this share of the picture away from its edges.
LABEL_EDGE = 0.12


def plane(point: FloatArray, views: Sequence[View], grid: int = GRID) -> tuple[FloatArray, FloatArray, FloatArray]:
    """Return the two axes, at most `grid` long, and all designs (k, n) of a grid over two variables.

    Raises RequestError where an axis has a single value.
    """
    xs, ys = (view.values(grid) for view in views)
    points = np.tile(point, (len(xs) * len(ys), 1))
    for view, values in zip(views, (xs, ys), strict=True):
        if len(values) < 2:
            raise RequestError(f"{view.variable.name} has one value only: there is nothing to draw over")
    mesh_x, mesh_y = np.meshgrid(xs, ys)
    points[:, views[0].index], points[:, views[1].index] = mesh_x.ravel(), mesh_y.ravel()
    return xs, ys, points


def draw_contours(
    subject: Subject, names: tuple[str, str], point: FloatArray, tracks: Sequence[Track], path: str
) -> list[Extreme]:
    """Write contours over two variables, the others held at `point` (n,), to `path`; return the extremes seen."""
    problem = subject.problem
    views = [view_of(problem, name, point, tracks) for name in names]
    grid = subject.grid_of(GRIDS, lambda size: cells(views, size), lambda size: plane(point, views, size)[2])
    xs, ys, points = plane(point, views, grid)
    rows, values, sizes = rows_at(subject, points, views)
    shape = (len(ys), len(xs))
    z = subject.at(points).reshape(shape)
    seen = grid_extremes(xs, ys, z, views, everywhere_feasible(rows, values, sizes).reshape(shape))
    extremes = followed(subject, seen, views, point, grid)
    with figure() as (made, axis):
        axis.grid(False)
        _contours(axis, xs, ys, z)
        designs = [problem.start, *(track.point for track in tracks if track.point is not None)]
        marks = [(design[views[0].index], design[views[1].index]) for design in designs]
        handles = _limits(axis, rows, sizes, xs, ys, values.reshape(*shape, -1), marks)
        handles += _bands(axis, subject, rows, (xs, ys), points, values, z)
        if np.isnan(z).any():
            axis.contourf(xs, ys, np.isnan(z).astype(float), levels=[0.5, 1.5], colors=["#bbbbbb"], zorder=1.5)
            handles.append(patch("#bbbbbb", "", "no finite value"))
        if not all(view.is_continuous for view in views):
            members = np.meshgrid(*(v.values(40) if not v.is_continuous else v.values(9) for v in views))
            axis.plot(members[0].ravel(), members[1].ravel(), ".", color="#111111", markersize=4, zorder=4)
        _bounds(axis, views)
        _extreme_marks(axis, extremes, handles)
        handles += _paths(axis, views, point, problem, tracks)
        axis.set_xlabel(views[0].label)
        axis.set_ylabel(views[1].label)
        axis.set_xlim(views[0].low, views[0].high)
        axis.set_ylim(views[1].low, views[1].high)
        axis.set_title(f"{title_of(problem, point, names)}\ncontours of {subject.label}", loc="left", fontweight="bold")
        legend(made, handles)
        save(made, path)
    return extremes


def grid_extremes(
    xs: FloatArray, ys: FloatArray, z: FloatArray, views: Sequence[View], feasible: NDArray[np.bool_]
) -> list[Extreme]:
    """Return the grid's inner points, within bounds, that lie below or above all their eight neighbours. Shapes: xs
    (p,), ys (q,), z and feasible (q, p)."""
    inner = z[1:-1, 1:-1]
    around = [
        z[1 + i : z.shape[0] - 1 + i, 1 + j : z.shape[1] - 1 + j] for i in (-1, 0, 1) for j in (-1, 0, 1) if i or j
    ]
    found = []
    with np.errstate(invalid="ignore"):
        for kind, mask in (
            ("low", np.all([inner < other for other in around], axis=0)),
            ("high", np.all([inner > other for other in around], axis=0)),
        ):
            for i, j in np.argwhere(mask):
                x, y = float(xs[j + 1]), float(ys[i + 1])
                inside = all(
                    view.variable.lower <= value <= view.variable.upper
                    for view, value in zip(views, (x, y), strict=True)
                )
                if inside:
                    found.append(Extreme(kind, (x, y), float(inner[i, j]), bool(feasible[i + 1, j + 1])))
    return _in_order(found)


def _in_order(found: Sequence[Extreme]) -> list[Extreme]:
    return sorted(found, key=lambda item: (item.kind != "low", item.value if item.kind == "low" else -item.value))


def followed(
    subject: Subject, seen: Sequence[Extreme], views: Sequence[View], point: FloatArray, grid: int
) -> list[Extreme]:
    """Return the extremes that hold when looked at closer. A grid across a narrow valley shows many that do not: from
    each the best of a patch of finer points is followed, the patch shrinking where its middle is best; those that walk
    off the picture, never settle, or meet another are left out. What time does not allow stays as the grid shows it.
    `point` is a design (n,)."""
    if not all(view.is_continuous for view in views):
        # Between members there is nothing to look at.
        return [replace(item, is_feasible=feasible_at(subject, _design(item.where, views, point))) for item in seen]
    found: list[Extreme] = []
    cell = np.array([(view.high - view.low) / (grid - 1) for view in views])
    for item in _in_order(seen)[:MOST_FOLLOWED]:
        if subject.is_costly and subject.budget.is_used_up:
            found.append(replace(item, is_followed=False))
            continue
        where = _settled(subject, item, views, point, cell)
        if where is None or any(
            other.kind == item.kind and (np.abs(np.array(other.where) - where) < cell).all() for other in found
        ):
            continue
        there = _design(where, views, point)
        holds = feasible_at(subject, there)
        found.append(Extreme(item.kind, tuple(where.tolist()), float(subject.at(there[np.newaxis, :])[0]), holds))
    return _in_order(found)


def _design(where: Sequence[float] | FloatArray, views: Sequence[View], point: FloatArray) -> FloatArray:
    there = point.copy()
    for view, value in zip(views, where, strict=True):
        there[view.index] = value
    return there


def _settled(
    subject: Subject, item: Extreme, views: Sequence[View], point: FloatArray, cell: FloatArray
) -> FloatArray | None:
    here: FloatArray = np.array(item.where)
    half = cell.copy()
    sign = 1.0 if item.kind == "low" else -1.0
    low, high = (
        np.array(
            [max(getattr(v.variable, end), v.low) if end == "lower" else min(v.variable.upper, v.high) for v in views]
        )
        for end in ("lower", "upper")
    )
    shares = np.linspace(-1.0, 1.0, PATCH)
    mesh = np.stack([axis.ravel() for axis in np.meshgrid(shares, shares)], axis=1)
    for _ in range(MOST_PATCHES):
        places = here + mesh * half
        points = np.tile(point, (len(places), 1))
        points[:, [view.index for view in views]] = places
        values = sign * subject.at(points)
        inside = ((places > low) & (places < high)).all(axis=1) & np.isfinite(values)
        if not inside.any():
            return None
        best = int(np.argmin(np.where(inside, values, np.inf)))
        here = places[best]
        if (np.abs(mesh[best]) < 1.0).all():
            half = half * SHRINK
            if (half < SETTLED * cell).all():
                return here
    return None


def _extreme_marks(axis: Any, extremes: Sequence[Extreme], handles: list[Any]) -> None:
    for kind, marker, word in (("low", "v", "lowest around"), ("high", "^", "highest around")):
        own = [item.where for item in extremes if item.kind == kind][:30]
        if own:
            x, y = zip(*own, strict=True)
            axis.plot(x, y, marker, markersize=8, markerfacecolor="#dddddd", markeredgecolor="#111111", zorder=5.5)
            handles.append(mark_handle(marker, word))


def _contours(axis: Any, xs: FloatArray, ys: FloatArray, z: FloatArray) -> None:
    finite = z[np.isfinite(z)]
    if not len(finite) or float(finite.max()) == float(finite.min()):
        return
    levels = _levels(finite)
    drawn = axis.contour(xs, ys, z, levels=levels, colors="#5b6b7b", linewidths=0.9, zorder=2)
    span = float(levels[-1] - levels[0])
    axis.clabel(drawn, drawn.levels[::2], fontsize=9, fmt=lambda value: _short(value, span), inline_spacing=3)


def _levels(finite: FloatArray) -> FloatArray:
    """Return levels at even shares of the area, so that a valley shows as well as the hills around it."""
    low, high = float(finite.min()), float(finite.max())
    shares = np.quantile(finite, np.linspace(0.01, 0.97, LEVELS))
    even = np.linspace(low, high, LEVELS + 2)[1:-1]
    chosen = shares if shares[len(shares) // 2] - low < 0.2 * (high - low) else even
    return np.unique(chosen)


def _short(value: float, span: float) -> str:
    if value == 0.0 or not 1e-4 <= abs(value) < 1e7:
        return f"{value:.3g}"
    size = math.floor(math.log10(abs(value)))
    digits = max(3, size - math.floor(math.log10(span)) + 3 if span > 0.0 else 3)
    decimals = digits - 1 - size
    return f"{round(value, decimals):.{max(decimals, 0)}f}"


def _limits(
    axis: Any,
    drawn: Sequence[Row],
    sizes: FloatArray,
    xs: FloatArray,
    ys: FloatArray,
    rows: FloatArray,
    marks: Sequence[tuple[float, float]],
) -> list[Any]:
    """Shade where each row is missed, draw and name its limits away from `marks`, and return the legend's entries."""
    taken = [np.array([(x - xs[0]) / (xs[-1] - xs[0]), (y - ys[0]) / (ys[-1] - ys[0])]) for x, y in marks]
    handles = []
    for place, row in enumerate(drawn):
        color, hatch = shades(place), HATCHES[place % len(HATCHES)]
        values = rows[:, :, place]
        for limit, sign in ((row.lower, -1.0), (row.upper, 1.0)):
            finite = values[np.isfinite(values)]
            if not math.isfinite(limit) or not len(finite) or not finite.min() < limit < finite.max():
                continue
            # Ticks stand on the higher side of a contour; the sign makes that the side where the row is missed.
            line = axis.contour(xs, ys, sign * values, levels=[sign * limit], colors=color, linewidths=1.8, zorder=3)
            if not row.is_equality:
                line.set(path_effects=[withTickedStroke(spacing=9, angle=60, length=0.9)])
            spot = _label_spot(line, xs, ys, taken)
            axis.clabel(
                line,
                fontsize=10,
                fmt=lambda _, row=row, limit=limit: f"{row.name} = {limit:g}",
                inline_spacing=5,
                **({"manual": [spot]} if spot else {}),
            )
            if row.is_equality:
                break
        if row.is_equality:
            handles.append(line_handle(color, f"{row.name} met"))
            continue
        outside = missed(values, row, float(sizes[place]))
        if outside.any():
            axis.contourf(xs, ys, outside.astype(float), levels=[0.5, 1.5], colors=[color], alpha=0.14, zorder=1)
            shaded = axis.contourf(
                xs, ys, outside.astype(float), levels=[0.5, 1.5], colors="none", hatches=[hatch], zorder=1.2
            )
            shaded.set_edgecolor(color + "50")  # the hatch stays behind the contours
            shaded.set_linewidth(0.0)
            handles.append(patch(color, hatch, f"{row.name} missed" + (" everywhere" if outside.all() else "")))
    return handles


def _bands(
    axis: Any,
    subject: Subject,
    rows: Sequence[Row],
    mesh: tuple[FloatArray, FloatArray],
    points: FloatArray,
    values: FloatArray,
    z: FloatArray,
) -> list[Any]:
    """Shade where an approximated value is unsure, and draw the ends of the limits' intervals; return the legend's
    entries."""
    handles = []
    zone = unsure(subject, points, z.ravel())
    if zone is not None:
        axis.contourf(*mesh, zone[0].reshape(z.shape) * 1.0, levels=[0.5, 1.5], colors=[BAND], alpha=0.55, zorder=0.5)
        handles.append(patch(BAND, "", zone[1]))
    names = {block.name for block in subject.problem.row_blocks if not block.shape}
    is_drawn = False
    for place, row in enumerate(rows):
        half = subject_of(subject.problem, subject.gate, row.name).half_width(points) if row.name in names else None
        if half is None:
            continue
        for limit in (row.lower, row.upper):
            for end in (values[:, place] - half, values[:, place] + half):
                if math.isfinite(limit) and np.nanmin(end) < limit < np.nanmax(end):
                    look = {"colors": shades(place), "linewidths": 1.0, "linestyles": "dotted"}
                    axis.contour(*mesh, end.reshape(z.shape), levels=[limit], zorder=3, **look)
                    is_drawn = True
    if is_drawn:
        handles.append(line_handle("#555555", "ends of 90 % intervals of limits", (0, (1, 2))))
    return handles


def _label_spot(line: Any, xs: FloatArray, ys: FloatArray, taken: list[FloatArray]) -> tuple[float, float] | None:
    """Return a point of a contour for its label: well inside the picture, far from the spots `taken` (shares of
    the width and height), to which it is added. None when the contour keeps to the edge."""
    low, width = np.array([xs[0], ys[0]]), np.array([xs[-1] - xs[0], ys[-1] - ys[0]])
    segments = [segment for segment in line.allsegs[0] if len(segment) > 1]
    if not segments:
        return None
    shares = (np.vstack(segments) - low) / width
    inside = shares[((shares > LABEL_EDGE) & (shares < 1.0 - LABEL_EDGE)).all(axis=1)]
    if not len(inside):
        return None
    distances = np.min([np.linalg.norm(inside - other, axis=1) for other in taken], axis=0)
    chosen = inside[int(np.argmax(distances))]
    taken.append(chosen)
    x, y = (low + chosen * width).tolist()
    return x, y


def _bounds(axis: Any, views: Sequence[View]) -> None:
    for view, draw in zip(views, (axis.axvline, axis.axhline), strict=True):
        for bound in (view.variable.lower, view.variable.upper):
            if view.low <= bound <= view.high:
                draw(bound, color="#333333", linestyle=(0, (6, 3)), linewidth=1.2, zorder=2.5)


def _paths(axis: Any, views: Sequence[View], point: FloatArray, problem: Problem, tracks: Sequence[Track]) -> list[Any]:
    start = [problem.variables[view.index].start for view in views]
    handles = []
    for number, track in enumerate(tracks):
        color, dashes, marker = LINES[number % len(LINES)]
        path = track.iteration_points[:, [view.index for view in views]]
        axis.plot(
            path[:, 0],
            path[:, 1],
            color=color,
            linestyle=dashes,
            linewidth=1.6,
            zorder=5,
            marker=marker if len(path) <= 60 else "",
            markersize=5,
            markerfacecolor="white",
        )
        if track.point is not None:
            end = [track.point[view.index] for view in views]
            axis.plot(
                *end,
                marker="*",
                markersize=17,
                color=color,
                markeredgecolor="white",
                zorder=7 - 0.1 * number,
                linestyle="",
            )
        handles.append(line_handle(color, f"{track.name}  {track.method}, ★ its design", dashes))
    axis.plot(
        *start,
        marker="o",
        markersize=10,
        markerfacecolor="white",
        markeredgecolor="#111111",
        markeredgewidth=2.0,
        zorder=6,
        linestyle="",
    )
    handles.insert(0, mark_handle("o", "start"))
    here = [point[view.index] for view in views]
    if not tracks and any(abs(a - b) > 0.0 for a, b in zip(here, start, strict=True)):
        axis.plot(*here, marker="P", markersize=11, color="#111111", markeredgecolor="white", zorder=6, linestyle="")
        handles.append(mark_handle("P", "the design shown"))
    handles.append(line_handle("#333333", "bounds", (0, (6, 3))))
    return handles
