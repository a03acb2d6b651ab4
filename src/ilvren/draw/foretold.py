"""What surfaces said of designs along runs, beside what came of it: a panel for each run."""

from __future__ import annotations

from typing import TYPE_CHECKING

import numpy as np

from ilvren.draw.style import LINES, figure, save
from ilvren.errors import RequestError

if TYPE_CHECKING:
    from ilvren.judge import Comparison

__all__ = ["draw_foretold"]

# Runs drawn at most.
MOST_RUNS = 4


def draw_foretold(comparison: Comparison, path: str) -> None:
    """Write the figure of a comparison to `path` (.png or .svg). Raises RequestError where nothing was predicted."""
    every = [track for track in comparison.tracks if track.foretold is not None]
    tracks = every[:MOST_RUNS]
    if not tracks:
        raise RequestError(
            "--figure predictions: none of these runs predicted anything",
            advice="expected-improvement, surface-trust-region and run --on predict each design",
        )
    objective = tracks[0].problem.objective
    name = objective.name if objective else "objective"
    unit = f" [{objective.unit}]" if objective and objective.unit else ""
    with figure(len(tracks), 1, sharex=True, squeeze=False) as (made, axes):
        for axis, track, (color, _, marker) in zip(axes[:, 0], tracks, LINES, strict=False):
            told = track.foretold
            assert told is not None
            shown = np.isfinite(told.said) & np.isfinite(told.actual)
            at, said, actual = told.evaluations[shown], told.said[shown], told.actual[shown]
            spread = np.nan_to_num(2.0 * told.spread[shown], nan=0.0)
            axis.vlines(at, np.minimum(said, actual), np.maximum(said, actual), color="#b03030", linewidth=1.0)
            axis.errorbar(
                at,
                said,
                yerr=spread,
                fmt="none",
                ecolor="#9a9a9a",
                elinewidth=3.0,
                alpha=0.6,
                label="predicted, ± twice what was told",
            )
            axis.plot(at, said, "_", color="#444444", markersize=9, markeredgewidth=1.6, label="predicted")
            axis.plot(at, actual, marker, color=color, markersize=6, markerfacecolor="white", label="actual")
            # What is far off early on must not hide the rest.
            low, high = np.percentile(np.concatenate([said, actual]), [2.0, 90.0])
            room = 0.15 * max(high - low, 1e-12 * max(abs(high), 1.0))
            beyond = int((actual > high + room).sum() + (actual < low - 3.0 * room).sum())
            axis.set_ylim(low - 3.0 * room, high + room)
            axis.set_ylabel(f"{name}{unit}")
            first, second = told.typical
            text = (
                f"{track.name}  {track.method}: typically {first:.3g} off in the first half, {second:.3g} in the second"
            )
            axis.set_title(text + (f"; {beyond} beyond the frame" if beyond else ""), loc="left")
        axes[-1, 0].set_xlabel("evaluations (distinct designs)")
        title = tracks[0].problem.title or tracks[0].problem.source.file
        more = f", {len(tracks)} of {len(every)} runs" if len(every) > len(tracks) else ""
        made.suptitle(f"{title}: predicted and actual{more}", x=0.01, ha="left", fontweight="bold")
        handles, labels = axes[0, 0].get_legend_handles_labels()
        made.legend(handles, labels, loc="outside lower center", ncols=3)
        save(made, path)
