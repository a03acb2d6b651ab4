"""Designs over time: signals below each other, with the limits on them and what is measured of them."""

from __future__ import annotations

from collections.abc import Sequence
from typing import Any

import numpy as np

from ilvren.draw.style import LINES, figure, ramp, save
from ilvren.judge import LimitCurve, Mark, Response, limit_curves, tightest

__all__ = ["draw_responses"]

# Panels below each other; more names share panels by their unit.
MOST_PANELS = 4
# Vectors are drawn as so many lines at most.
MOST_ELEMENTS = 12
LIMIT = "#b03030"
# How names begin that say what a unit more of a state is worth.
WORTH = "worth"
# Tolerance below this share of what is in sight is none.
ON_LIMIT = 1e-5


def draw_responses(found: Sequence[Response], names: Sequence[str], path: str, *, title: str = "") -> None:
    """Write the figure to `path` (.png or .svg): a panel for each unit, every design as a line; designs on the way are
    grey, the later the darker."""
    last = found[-1]
    panels = _panels(last, names)
    with figure(len(panels), 1, squeeze=False, sharex=True) as (made, axes):
        for place, own in enumerate(panels):
            axis = axes[place, 0]
            _draw_panel(axis, found, own, is_only=len(panels) == 1)
            axis.set_ylabel(_label(last, own))
        t_name = last.problem.template.built_axes[0]
        unit = t_name.time.unit
        axes[-1, 0].set_xlabel(f"t [{unit}]" if unit else "t")
        designs = ", ".join(response.label for response in found if not response.is_past)
        axes[0, 0].set_title(title or f"{last.problem.title or last.problem.source.file}: {designs}", loc="left")
        save(made, path)


def _panels(response: Response, names: Sequence[str]) -> list[list[str]]:
    """Return names by panel: alone while there are few, else by their unit."""
    if len(names) <= MOST_PANELS:
        return [[name] for name in names]
    units = _units(response)
    groups: dict[str, list[str]] = {}
    for name in names:
        groups.setdefault(units.get(name, ""), []).append(name)
    found = list(groups.values())
    while len(found) > MOST_PANELS:
        found[-2:] = [found[-2] + found[-1]]
    return found


def _units(response: Response) -> dict[str, str]:
    found = {name: unit for told in response.problem.template.told_over_time for name, unit, _ in told}
    objective = response.problem.objective
    worth = objective.unit if objective is not None else ""
    for name in response.signals:
        if name not in found:  # what a unit more of a state is worth
            own = found.get(name.rpartition(" ")[2], "")
            found[name] = f"{worth or '1'}/{own}" if own else worth
    return found


def _label(response: Response, names: Sequence[str]) -> str:
    units = {_units(response).get(name, "") for name in names}
    unit = units.pop() if len(units) == 1 else ""
    told = ", ".join(names[:3]) + (", …" if len(names) > 3 else "")
    if len(names) > 1 and all(name.startswith(WORTH) for name in names):
        told = WORTH  # of which states the legend says
    return f"{told} [{unit}]" if unit else told


def _draw_panel(axis: Any, found: Sequence[Response], names: Sequence[str], *, is_only: bool) -> None:
    past = [response for response in found if response.is_past and not response.trouble]
    main = [response for response in found if not response.is_past and not response.trouble]
    colours = ramp(is_reversed=True, for_lines=True)
    for number, response in enumerate(past):
        label = response.label if number == 0 else f"on the way ({len(past) - 1})" if number == 1 else None
        for name in (name for name in names if name in response.signals):
            axis.plot(
                response.times[name],
                response.signals[name],
                color=colours(number / max(len(past) - 1, 1)),
                linewidth=0.9,
                label=label,
            )
            label = None
    several = len(names) > 1
    for place, response in enumerate(main):
        for number, name in enumerate(names):
            if name not in response.signals:
                continue
            colour, dashes, _ = LINES[(place if not several else number if len(main) == 1 else place) % len(LINES)]
            if several and len(main) > 1:
                dashes = LINES[number % len(LINES)][1]
            label = name if several and len(main) == 1 else f"{response.label}: {name}" if several else response.label
            values = response.signals[name].reshape(len(response.signals[name]), -1)
            for k in range(min(values.shape[1], MOST_ELEMENTS)):
                thin = 1.0 if values.shape[1] > 1 else 1.8
                axis.plot(response.times[name], values[:, k], color=colour, linestyle=dashes, linewidth=thin,
                          label=label if k == 0 else None, zorder=3)  # fmt: skip
    if main:
        last = main[-1]
        curves = [curve for curve in limit_curves(last) if curve.signal in names]
        _draw_tightest(axis, [curve for curve in curves if _draw_limit(axis, curve)], last)
        drawn: set[tuple[object, ...]] = set()  # one of several entries that measure the same
        for mark in last.marks:
            what = (mark.function, mark.signal, mark.levels)
            if mark.signal in names and mark.times and what not in drawn:
                drawn.add(what)
                _draw_mark(axis, mark, last)
    handles, labels = axis.get_legend_handles_labels()
    if len(labels) > 1 or (is_only and labels):
        unique = dict(zip(labels, handles, strict=True))
        axis.legend(unique.values(), unique.keys(), loc="best", fontsize=9)


def _draw_limit(axis: Any, curve: LimitCurve) -> bool:
    """Draw a limit where it is in sight, and return whether it is."""
    finite = np.isfinite(curve.values)
    low, high = axis.get_ylim()
    room = 0.25 * (high - low)
    if finite.any() and low - room <= np.nanmax(curve.values) and np.nanmin(curve.values) <= high + room:
        style = {"color": LIMIT, "linewidth": 1.2, "linestyle": (0, (4, 3))}
        axis.plot(curve.times, curve.values, label=f"limit {curve.entry}", **style)
        low, high = axis.get_ylim()
        edge = high if curve.is_upper else low
        axis.fill_between(curve.times, curve.values, edge, where=finite, color=LIMIT, alpha=0.06, linewidth=0)
        axis.set_ylim(low, high)
        return True
    return False


def _draw_tightest(axis: Any, curves: Sequence[LimitCurve], response: Response) -> None:
    """Write how much room is left where a design comes closest to any of these limits, and join them there."""
    rooms = [(tightest(curve, response), curve) for curve in curves]
    known = [(found, curve) for found, curve in rooms if np.isfinite(found[2])]
    if not known:
        return
    (time, value, room), curve = min(known, key=lambda item: item[0][2])
    low, high = axis.get_ylim()
    told = f"{room:.2g} to spare" if room >= 0.0 else f"missed by {-room:.2g}"
    told = "on the limit" if abs(room) < ON_LIMIT * (high - low) else told
    axis.plot((time, time), (value, value + (room if curve.is_upper else -room)), color=LIMIT, linewidth=1.4)
    axis.plot([time], [value], marker="|", color=LIMIT, ms=9, zorder=5)
    left, right = axis.get_xlim()
    is_late, is_low = time > 0.7 * right + 0.3 * left, value < 0.8 * low + 0.2 * high
    axis.annotate(
        f"{'closest' if room >= 0.0 else 'worst'}: {curve.entry} {told} at t = {time:.4g}",
        (time, value),
        xytext=(-6 if is_late else 6, 12 if is_low else -18),
        textcoords="offset points",
        fontsize=9,
        color=LIMIT,
        ha="right" if is_late else "left",
        bbox={"boxstyle": "square,pad=0.15", "facecolor": "white", "edgecolor": "none", "alpha": 0.85},
        zorder=6,
    )


def _draw_mark(axis: Any, mark: Mark, response: Response) -> None:
    """Draw where something is measured: a dot at an extreme, a span over a rise, a line where it is settled."""
    t, s = response.times[mark.signal], response.signals[mark.signal]
    text = f"{mark.entry} {mark.value:.4g}"
    match mark.function:
        case "rise_time":
            axis.axvspan(mark.times[0], mark.times[1], color="#00508c", alpha=0.10, linewidth=0)
            for level in mark.levels:
                axis.plot(mark.times, (level, level), color="#00508c", linewidth=0.8, linestyle=":")
            axis.annotate(
                text, (mark.times[1], mark.levels[1]), xytext=(6, -14), textcoords="offset points", fontsize=9
            )
        case "settling_time":
            axis.axvline(mark.times[0], color="#2c7a4b", linewidth=1.0, linestyle="-.")
            axis.annotate(text, (mark.times[0], 0.04), xycoords=("data", "axes fraction"), xytext=(4, 0),
                          textcoords="offset points", fontsize=9, color="#2c7a4b")  # fmt: skip
        case _:
            value = float(np.interp(mark.times[0], t, s))
            axis.plot([mark.times[0]], [value], marker="o", color="#222222", ms=6, zorder=5)
            axis.annotate(text, (mark.times[0], value), xytext=(7, 6), textcoords="offset points", fontsize=9)
