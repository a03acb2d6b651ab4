"""Convergence histories of several runs: gap, violation and stationarity against evaluations, log scales."""

from __future__ import annotations

from typing import TYPE_CHECKING, Any

import numpy as np
from numpy.typing import NDArray

from ilvren.draw.style import LINES, figure, save

if TYPE_CHECKING:
    from ilvren.judge import Comparison, Track

__all__ = ["draw_histories"]

FloatArray = NDArray[np.float64]

# Zero cannot be drawn on a log scale; what is at or below this floor is drawn on it.
GAP_FLOOR, VIOLATION_FLOOR = 1e-10, 1e-9
# From this ratio of the longest to the shortest run, evaluations are drawn on a log scale too.
LOG_RATIO = 15.0
# Markers are drawn at most this often along a line.
MOST_MARKERS = 25


def draw_histories(comparison: Comparison, path: str) -> None:
    """Write the figure of a comparison to `path` (.png or .svg)."""
    tracks = comparison.tracks
    with figure(3, 1, sharex=True, gridspec_kw={"height_ratios": (3, 2, 2)}) as (made, axes):
        objective = tracks[0].problem.objective
        best = _internal_best(comparison)
        for track, line in zip(tracks, _lines(len(tracks)), strict=True):
            if best is not None:
                gap = (track.best_so_far() - best) / comparison.scale
                _line(axes[0], _costs(track, comparison), gap, GAP_FLOOR, line, track, step=True)
            at = _iteration_costs(track, comparison)
            _line(axes[1], at, track.iteration_violation, VIOLATION_FLOOR, line, track)
            _line(axes[2], at, track.iteration_stationarity, 0.0, line, track)
        for axis in axes:
            axis.set_yscale("log")
        _limit_line(axes[1], max(track.feasibility for track in tracks), "feasible below")
        tolerances = [float(str(track.settings["tolerance"])) for track in tracks]
        _limit_line(axes[2], max(tolerances), "tolerance")
        name = objective.name if objective else "objective"
        axes[0].set_ylabel(f"gap of the best\nfeasible {name}")
        axes[1].set_ylabel("violation\nof the iterate")
        axes[2].set_ylabel("stationarity\nof the iterate")
        if best is None:
            axes[0].text(0.5, 0.5, "no run found a feasible design", transform=axes[0].transAxes, ha="center")
        unmeasured = [t.name for t in tracks if not np.isfinite(t.iteration_stationarity).any()]
        if unmeasured:
            text = "not measured: " + ", ".join(unmeasured)
            axes[2].text(0.995, 0.94, text, transform=axes[2].transAxes, ha="right", va="top", color="#555555")
        lengths = [max(float(_costs(track, comparison).max(initial=0.0)), 1e-3) for track in tracks]
        if max(lengths) > LOG_RATIO * min(lengths):
            axes[2].set_xscale("log")
            axes[2].xaxis.set_major_formatter(lambda value, _: f"{value:g}")
        words = {"evaluations": "evaluations (distinct designs)"}
        axes[2].set_xlabel(words.get(comparison.along, comparison.along))
        axes[0].set_title(tracks[0].problem.title or tracks[0].problem.source.file, loc="left", fontweight="bold")
        handles, labels = axes[1].get_legend_handles_labels()
        axes[0].legend(handles, labels, loc="upper right", handlelength=4.0)
        _note_floor(axes[0], GAP_FLOOR)
        _note_floor(axes[1], VIOLATION_FLOOR)
        save(made, path)


def _costs(track: Track, comparison: Comparison) -> FloatArray:
    return track.evaluations if comparison.along == "evaluations" else track.costs(comparison.along, 0.0)


def _iteration_costs(track: Track, comparison: Comparison) -> FloatArray:
    if comparison.along == "evaluations" or not len(track.evaluations):
        return track.iteration_evaluations
    if comparison.along == "iterations":
        return np.arange(len(track.iteration_evaluations), dtype=float)
    return np.interp(track.iteration_evaluations, track.evaluations, track.seconds)


def _internal_best(comparison: Comparison) -> float | None:
    objective = comparison.tracks[0].problem.objective
    if comparison.best is None or objective is None:
        return None
    return comparison.best * objective.sign


def _lines(amount: int) -> list[tuple[Any, Any, str]]:
    return [LINES[i % len(LINES)] for i in range(amount)]


def _line(
    axis: Any,
    x: FloatArray,
    y: FloatArray,
    floor: float,
    line: tuple[Any, Any, str],
    track: Track,
    *,
    step: bool = False,
) -> None:
    color, dashes, marker = line
    shown = np.isfinite(y)
    x, y = x[shown], np.maximum(y[shown], floor)
    positive = y > 0.0
    x, y = x[positive], y[positive]
    axis.plot(
        x,
        y,
        color=color,
        linestyle=dashes,
        marker=marker,
        markersize=5,
        markevery=max(1, len(x) // MOST_MARKERS),
        markerfacecolor="white",
        linewidth=1.8,
        drawstyle="steps-post" if step else "default",
        label=f"{track.name}  {track.method}: {track.outcome}",
    )


def _limit_line(axis: Any, value: float, word: str) -> None:
    axis.axhline(value, color="#555555", linewidth=1.0, linestyle=(0, (6, 3)))
    axis.text(
        0.005,
        value,
        f" {word} {value:g}",
        transform=axis.get_yaxis_transform(),
        va="bottom",
        fontsize=9.5,
        color="#555555",
    )


def _note_floor(axis: Any, floor: float) -> None:
    low, _ = axis.get_ylim()
    if low <= floor * 2.0:
        axis.text(
            0.005,
            floor,
            f" {floor:g} or less",
            transform=axis.get_yaxis_transform(),
            va="bottom",
            fontsize=9.5,
            color="#555555",
        )
