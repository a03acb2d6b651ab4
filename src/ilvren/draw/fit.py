"""A fit beside its readings: model, band and readings, and what is left over against where and what was read."""

from __future__ import annotations

from collections.abc import Sequence
from typing import TYPE_CHECKING, Any

import numpy as np

from ilvren.draw.style import figure, save
from ilvren.errors import RequestError

if TYPE_CHECKING:
    from ilvren.runs import Fitted

__all__ = ["MOST_ENTRIES", "draw_fit"]

# Entries below each other in one picture.
MOST_ENTRIES = 4
MODEL, READ, BEYOND = "#00508c", "#222222", "#d1690e"


def draw_fit(entries: Sequence[Fitted], path: str, *, title: str) -> None:
    """Write the figure to `path` (.png or .svg): for each entry its model through the readings, with the band that
    further readings lie in, and residual/sigma along the same axis and against the model's value; lines that were not
    fitted are open. Raises RequestError without finite values, and for more entries than a picture bears."""
    if len(entries) > MOST_ENTRIES:
        raise RequestError(f"{len(entries)} entries of [fit] are too many for one picture of {MOST_ENTRIES}")
    if not all(np.isfinite(entry.residuals).all() for entry in entries):
        raise RequestError("the residuals are not finite at this design")
    with figure(len(entries), 3, squeeze=False, gridspec_kw={"width_ratios": (2, 1, 1)}) as (made, axes):
        for place, entry in enumerate(entries):
            _draw_model(axes[place, 0], entry)
            _draw_left_over(axes[place, 1], entry, entry.places, _where(entry))
            if entry.model is None:
                _draw_left_over(axes[place, 2], entry, np.arange(len(entry.places)), "line")
            else:
                _draw_left_over(axes[place, 2], entry, entry.model, f"model of {entry.name}")
            axes[place, 0].set_xlabel(_where(entry))
        handles, labels = axes[0, 0].get_legend_handles_labels()
        axes[0, 0].legend(handles, labels, loc="best", fontsize=9)
        made.suptitle(title, x=0.01, ha="left", fontsize=13)
        save(made, path)


def _where(entry: Fitted) -> str:
    return entry.along or "line"


def _draw_model(axis: Any, entry: Fitted) -> None:
    """Draw readings over the model, or what is left over of them where the formula does not set them apart."""
    order = np.argsort(entry.places, kind="stable")
    x = entry.places[order]
    middle = np.zeros(len(x)) if entry.model is None else entry.model[order]
    read = entry.residuals if entry.readings is None else entry.readings
    band = np.where(np.isfinite(entry.band), entry.band, np.nan)[order]
    axis.fill_between(x, middle - band, middle + band, color=MODEL, alpha=0.13, linewidth=0, label="band of 95 %")
    axis.plot(x, middle, color=MODEL, linewidth=1.6, label="model" if entry.model is not None else "no residual")
    for used, style, label in ((True, {"color": READ}, "fitted"), (False, {"mfc": "white", "mec": BEYOND}, "forecast")):
        own = entry.is_used == used
        if own.any():
            marker = {"linestyle": "", "marker": "o" if used else "s", "markersize": 4.5}
            axis.plot(entry.places[own], read[own], label=label, **marker, **style)
    outside = ~entry.is_used
    if outside.any() and not np.isfinite(entry.band).all():
        axis.annotate("no band: a parameter is not determined", (0.02, 0.04), xycoords="axes fraction", fontsize=9)
    axis.set_ylabel(entry.name)


def _draw_left_over(axis: Any, entry: Fitted, across: Any, label: str) -> None:
    """Draw residual/sigma against something; two of three lie between the dotted lines where sigma is right."""
    left = entry.residuals / entry.sigma
    axis.axhline(0.0, color="#888888", linewidth=0.9)
    is_plain = bool((entry.sigma == 1.0).all())
    for level in () if is_plain else (-1.0, 1.0):
        axis.axhline(level, color="#888888", linewidth=0.9, linestyle=":")
    used = entry.is_used
    axis.plot(across[used], left[used], linestyle="", marker="o", ms=4.0, color=READ)
    axis.plot(across[~used], left[~used], linestyle="", marker="s", ms=4.5, mfc="white", mec=BEYOND)
    axis.set_xlabel(label)
    axis.set_ylabel("residual" if is_plain else "residual/sigma")
