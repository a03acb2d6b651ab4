"""An entry over one variable: curve, limits, starts, runs, extremes, and the tangent at a point."""

from __future__ import annotations

from collections.abc import Sequence
from typing import TYPE_CHECKING, Any

import numpy as np
from numpy.typing import NDArray

from ilvren.draw.style import HATCHES, LINES, figure, save, shades
from ilvren.draw.view import (
    Extreme,
    Subject,
    View,
    cells,
    feasible_at,
    is_plain,
    legend,
    line_handle,
    mark_handle,
    missed,
    patch,
    rows_at,
    title_of,
    view_of,
)

if TYPE_CHECKING:
    from ilvren.judge import Track
    from ilvren.problem import Problem

__all__ = ["curve_extremes", "draw_curve", "line_of", "shade_missed"]

FloatArray = NDArray[np.float64]

# Each has the points of those before it.
CURVES = (76, 151, 301, 601, 1201)
CURVE_POINTS = CURVES[-1]
# Extremes are looked at closer by so many grids of so many points, one within the other.
CLOSER_ROUNDS, CLOSER_POINTS = 5, 17


BAND = "#b9d7e8"


def line_of(point: FloatArray, view: View, count: int = CURVE_POINTS) -> tuple[FloatArray, FloatArray]:
    """Return the values (k,) of one variable and the designs (k, n) along it."""
    xs = view.values(count)
    points = np.tile(point, (len(xs), 1))
    points[:, view.index] = xs
    return xs, points


def draw_curve(
    subject: Subject, name: str, point: FloatArray, tracks: Sequence[Track], path: str, *, tangent: bool = False
) -> list[Extreme]:
    """Write the curve over one variable, the others held at `point` (n,), to `path`; with the tangent there when
    asked for. Return the extremes seen."""
    problem = subject.problem
    view = view_of(problem, name, point, tracks)
    xs, points = line_of(
        point,
        view,
        subject.grid_of(CURVES, lambda count: cells([view], count), lambda count: line_of(point, view, count)[1]),
    )
    y = subject.at(points)
    rows, values, sizes = rows_at(subject, points, [view])
    extremes = curve_extremes(subject, point, view, xs, y)
    with figure() as (made, axis):
        marks = {} if view.is_continuous else {"marker": "o", "linestyle": ":", "markersize": 6}
        axis.plot(xs, y, color=LINES[0][0], linewidth=2.0, **marks)
        handles = [line_handle(LINES[0][0], subject.name)]
        draw_band(axis, subject, xs, points, y, handles)
        for place, row in enumerate(rows):
            outside = missed(values[:, place], row, float(sizes[place]))
            if outside.any():
                shade_missed(axis, xs, outside, place)
                handles.append(patch(shades(place), HATCHES[place % len(HATCHES)], f"{row.name} missed"))
        for bound in (view.variable.lower, view.variable.upper):
            if view.low <= bound <= view.high:
                axis.axvline(bound, color="#333333", linestyle=(0, (6, 3)), linewidth=1.2)
        if tangent:
            _tangent(axis, subject, view, point, y, handles)
        _extreme_marks(axis, extremes, handles)
        handles += _marks(axis, subject, view, point, problem, tracks)
        if is_plain(y):
            axis.ticklabel_format(useOffset=False, style="plain", axis="y")
        axis.set_xlabel(view.label)
        axis.set_ylabel(subject.label)
        axis.set_xlim(view.low, view.high)
        axis.set_title(title_of(problem, point, (name,)), loc="left", fontweight="bold")
        legend(made, handles)
        save(made, path)
    return extremes


def draw_band(
    axis: Any, subject: Subject, xs: FloatArray, points: FloatArray, y: FloatArray, handles: list[Any]
) -> None:
    """Draw the band of a curve whose values are approximated. Shapes: xs and y (p,), points (p, n)."""
    half = subject.half_width(points)
    if half is None or subject.band is None:
        return
    axis.fill_between(xs, y - half, y + half, color=BAND, alpha=0.55, linewidth=0.0, zorder=0)
    handles.append(patch(BAND, "", f"holds {100 * float(subject.band.share):.0f} % of points"))


def shade_missed(axis: Any, xs: FloatArray, outside: NDArray[np.bool_], place: int) -> None:
    """Shade where a row is missed, over the height of the axes. Both are (p,)."""
    whole = {"where": outside, "transform": axis.get_xaxis_transform(), "linewidth": 0.0}
    hatch = HATCHES[place % len(HATCHES)]
    axis.fill_between(xs, 0, 1, facecolor="none", edgecolor=shades(place), hatch=hatch, alpha=0.4, **whole)
    axis.fill_between(xs, 0, 1, color=shades(place), alpha=0.1, **whole)


def curve_extremes(subject: Subject, point: FloatArray, view: View, xs: FloatArray, y: FloatArray) -> list[Extreme]:
    """Return the points of a curve, within bounds, below or above both neighbours, looked at closer between them; every
    value returned was evaluated. Shapes: point (n,), xs and y (p,)."""
    found = []
    low, high = view.variable.lower, view.variable.upper
    for i in range(1, len(xs) - 1):
        left, here, right = y[i - 1], y[i], y[i + 1]
        is_low, is_high = left > here <= right, left < here >= right
        if not (is_low or is_high) or left == here == right:
            continue
        x, value = float(xs[i]), float(here)
        is_followed = view.is_continuous and not (subject.is_costly and subject.budget.is_used_up)
        if is_followed:
            closer = _closer(subject, point, view, (max(xs[i - 1], low), min(xs[i + 1], high)), 1.0 if is_low else -1.0)
            if closer is None:
                continue
            x, value = closer
        if low <= x <= high:
            there = point.copy()
            there[view.index] = x
            is_known = is_followed or not view.is_continuous
            found.append(Extreme("low" if is_low else "high", (x,), value, feasible_at(subject, there), is_known))
    return sorted(found, key=lambda item: (item.kind != "low", item.value if item.kind == "low" else -item.value))


def _closer(
    subject: Subject, point: FloatArray, view: View, ends: tuple[float, float], sign: float
) -> tuple[float, float] | None:
    """Return the place and value of the lowest (sign 1) or highest value between two ends, by finer and finer
    grids."""
    low, high = ends
    if not low <= high:
        return None
    best: tuple[float, float] | None = None
    for _ in range(CLOSER_ROUNDS):
        xs = np.linspace(low, high, CLOSER_POINTS)
        points = np.tile(point, (len(xs), 1))
        points[:, view.index] = xs
        y = sign * subject.at(points)
        if not np.isfinite(y).any():
            break
        place = int(np.nanargmin(np.where(np.isfinite(y), y, np.nan)))
        if best is None or y[place] < sign * best[1]:
            best = float(xs[place]), sign * float(y[place])
        low, high = xs[max(place - 1, 0)], xs[min(place + 1, len(xs) - 1)]
    return best


def _tangent(axis: Any, subject: Subject, view: View, point: FloatArray, y: FloatArray, handles: list[Any]) -> None:
    gradient = subject.slope(point)
    if gradient is None:
        return
    here, slope = float(subject.at(point[np.newaxis, :])[0]), float(gradient[view.index])
    x = float(point[view.index])
    if not (np.isfinite(here) and np.isfinite(slope)):
        return
    limits = axis.get_ylim()
    reach = 0.22 * (view.high - view.low)
    ends = np.array([max(x - reach, view.low), min(x + reach, view.high)])
    axis.plot(ends, here + slope * (ends - x), color="#d1690e", linewidth=2.0, linestyle="--", zorder=4)
    axis.plot(x, here, marker="P", markersize=10, color="#d1690e", markeredgecolor="white", linestyle="", zorder=6)
    axis.set_ylim(limits)
    handles.append(line_handle("#d1690e", f"tangent at {x:.5g}: slope {slope:.5g}", "--"))


def _extreme_marks(axis: Any, extremes: Sequence[Extreme], handles: list[Any]) -> None:
    for kind, marker, word in (("low", "v", "lowest around"), ("high", "^", "highest around")):
        own = [item for item in extremes if item.kind == kind][:40]
        if own:
            axis.plot(
                [item.where[0] for item in own],
                [item.value for item in own],
                marker,
                markersize=8,
                markerfacecolor="#dddddd",
                markeredgecolor="#111111",
                zorder=5.5,
            )
            handles.append(mark_handle(marker, word))


def _marks(
    axis: Any, subject: Subject, view: View, point: FloatArray, problem: Problem, tracks: Sequence[Track]
) -> list[Any]:
    def heights(values: Any) -> FloatArray:
        there = np.tile(point, (len(values), 1))
        there[:, view.index] = values
        return subject.at(there)

    start = problem.start[view.index]
    look = {"markersize": 10, "markerfacecolor": "white", "markeredgecolor": "#111111", "markeredgewidth": 2.0}
    axis.plot([start], heights([start]), marker="o", linestyle="", zorder=6, **look)
    handles = [mark_handle("o", "start")]
    for number, track in enumerate(tracks):
        color, _, marker = LINES[number % len(LINES)]
        values = track.iteration_points[:, view.index]
        axis.plot(
            values,
            heights(values),
            linestyle="",
            marker=marker,
            color=color,
            markerfacecolor="white",
            markersize=6,
            zorder=5,
        )
        if track.point is not None:
            end = [track.point[view.index]]
            look = {"marker": "*", "markersize": 17, "color": color, "markeredgecolor": "white", "linestyle": ""}
            axis.plot(end, heights(end), zorder=7, **look)
        handles.append(line_handle(color, f"{track.name}  {track.method}, ★ its design", ":"))
    return handles
