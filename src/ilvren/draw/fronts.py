"""Fronts of several objectives: one with its limits, or several runs with what they dominate."""

from __future__ import annotations

from collections.abc import Sequence
from typing import TYPE_CHECKING, Any

import numpy as np
from numpy.typing import NDArray

from ilvren.draw.style import LINES, figure, ramp, save
from ilvren.explore import corners, knee
from ilvren.judge.fronts import FrontComparison, FrontTrack, attained

if TYPE_CHECKING:
    from ilvren.judge.fronts import FrontBound
    from ilvren.problem import Sense

__all__ = ["DrawnFront", "draw_attainment", "draw_front", "draw_fronts"]

FloatArray = NDArray[np.float64]

GREY = "#b9b9b9"
# Objectives whose pairs fit one figure.
MOST_PAIRED = 4
# Designs evaluated that are drawn behind a front.
MOST_BEHIND = 4000


def _label(sense: Sense, place: int) -> str:
    item = sense.objectives[place]
    word = "less is better" if item.sign > 0 else "more is better"
    unit = f" [{item.unit}]" if item.unit else ""
    return f"{item.name}{unit}, {word}"


class DrawnFront:
    """What a figure of one front shows: its `members` (k, p) as written, their `addresses`, other feasible designs
    `behind` (m, p), names of the limits that `held` each member, and a lower `bound`."""

    def __init__(
        self,
        title: str,
        sense: Sense,
        members: FloatArray,
        addresses: Sequence[str],
        behind: FloatArray,
        held: Sequence[tuple[str, ...]],
        bound: FrontBound | None = None,
    ) -> None:
        self.title, self.sense, self.members, self.addresses = title, sense, members, list(addresses)
        self.behind, self.held, self.bound = behind, list(held), bound


def draw_front(drawn: DrawnFront, path: str) -> None:
    """Write the figure of one front to `path` (.png or .svg): two objectives as a curve, its limits below; three as
    pairs and in space; more as pairs."""
    if len(drawn.sense.names) == 2:
        _draw_two(drawn, path)
    else:
        _draw_pairs(drawn, path)


def _draw_two(drawn: DrawnFront, path: str) -> None:
    values = drawn.members * drawn.sense.signs
    order = np.lexsort((values[:, 1], values[:, 0]))
    values, members = values[order], drawn.members[order]
    held = [drawn.held[place] for place in order]
    addresses = [drawn.addresses[place] for place in order]
    names = sorted({name for own in held for name in own}, key=lambda n: -sum(n in own for own in held))[:6]
    heights = (5, max(0.25 * len(names), 0.4)) if names else (1, 0.01)
    with figure(2, 1, sharex=True, gridspec_kw={"height_ratios": heights}) as (made, axes):
        axis, below = axes
        _behind(axis, drawn, 0, 1)
        axis.plot(members[:, 0], members[:, 1], "-o", color="#00508c", markersize=5, linewidth=1.2, label="front")
        if drawn.bound is not None:
            _draw_bound(axis, drawn.bound, members)
        own = knee(values)
        if own is not None:
            _note(axis, members[own], f"knee {addresses[own]}", "#c02020")
        for place in corners(values)[:4]:
            if place != own:
                _note(axis, members[place], f"corner {addresses[place]}", "#8c2d8c")
        for place, name in ((0, drawn.sense.names[0]), (len(members) - 1, drawn.sense.names[1])):
            _note(axis, members[place], f"best {name} {addresses[place]}", "#444444", below=place > 0)
        axis.set_ylabel(_label(drawn.sense, 1))
        axis.set_title(drawn.title, loc="left", fontweight="bold")
        axis.legend(loc="upper right")
        for row, name in enumerate(names):
            at = [members[place, 0] for place, own_held in enumerate(held) if name in own_held]
            below.plot(at, [row] * len(at), "|", color="#b03030", markersize=11, markeredgewidth=2.2)
        below.set_yticks(range(len(names)), [f"at {name}" for name in names])
        below.set_ylim(-0.7, max(len(names) - 0.3, 0.3))
        below.invert_yaxis()
        below.grid(visible=False)
        below.set_visible(bool(names))
        (below if names else axis).set_xlabel(_label(drawn.sense, 0))
        if not names:
            axis.tick_params(labelbottom=True)
        save(made, path)


def _draw_bound(axis: Any, bound: FrontBound, members: FloatArray) -> None:
    """Draw the staircase below which intervals have shown that nothing lies."""
    steps = [step for step in bound.steps if step.second is not None]
    if not steps:
        return
    xs = [step.first for step in steps]
    ys = [float(step.second or 0.0) for step in steps]
    axis.step(xs, ys, where="pre", color="#2c7a4b", linewidth=1.4, label="nothing lies below (intervals)")


def _note(axis: Any, at: FloatArray, text: str, color: str, *, below: bool = False) -> None:
    axis.plot(at[0], at[1], "o", color=color, markersize=9, markerfacecolor="none", markeredgewidth=2)
    axis.annotate(
        text,
        at,
        xytext=(9, -19 if below else 9),
        textcoords="offset points",
        color=color,
        fontsize=10.5,
        annotation_clip=False,
    )


def _behind(axis: Any, drawn: DrawnFront, x: int, y: int) -> None:
    """Draw the other feasible designs near the front, without letting them stretch the axes."""
    own = drawn.behind
    if not len(own):
        return
    low, high = drawn.members.min(axis=0), drawn.members.max(axis=0)
    room = 0.25 * np.where(high > low, high - low, 1.0)
    near = ((own >= low - room) & (own <= high + room)).all(axis=1)
    shown = own[near]
    if len(shown) > MOST_BEHIND:
        shown = shown[:: len(shown) // MOST_BEHIND + 1]
    axis.plot(shown[:, x], shown[:, y], ".", color=GREY, markersize=3, zorder=0, label="evaluated, dominated")
    axis.set_xlim(low[x] - room[x] / 3, high[x] + room[x])
    axis.set_ylim(low[y] - room[y] / 3, high[y] + room[y])


def _draw_pairs(drawn: DrawnFront, path: str) -> None:
    """Draw every pair of objectives; of three, the fourth panel shows them in space."""
    count = min(len(drawn.sense.names), MOST_PAIRED)
    pairs = [(a, b) for a in range(count) for b in range(a + 1, count)]
    colours, scale = drawn.members[:, 0], ramp(for_lines=True)
    panels = (2, 2) if count == 3 else (2, 3)
    with figure(*panels, squeeze=False) as (made, axes):
        flat = list(axes.ravel())
        for axis, (a, b) in zip(flat, pairs, strict=False):
            dots = axis.scatter(drawn.members[:, a], drawn.members[:, b], c=colours, cmap=scale, s=24)
            axis.set_xlabel(_label(drawn.sense, a))
            axis.set_ylabel(_label(drawn.sense, b))
        if count == 3:
            spot = flat[3].get_subplotspec()
            flat[3].remove()
            space = made.add_subplot(spot, projection="3d")
            space.scatter(*drawn.members[:, :3].T, c=colours, cmap=scale, s=18)
            for place, put in enumerate((space.set_xlabel, space.set_ylabel, space.set_zlabel)):
                put(drawn.sense.names[place])
            space.view_init(elev=24, azim=45)
        made.colorbar(
            dots, ax=[axis for axis in made.axes if axis.get_visible()], shrink=0.6, label=drawn.sense.names[0]
        )
        made.suptitle(drawn.title, x=0.01, ha="left", fontweight="bold")
        save(made, path)


def draw_fronts(found: FrontComparison, path: str) -> None:
    """Write fronts of several runs side by side, and the share of their union's hypervolume against evaluations."""
    sense = found.sense
    two = len(sense.names) == 2
    with figure(1, 2, gridspec_kw={"width_ratios": (3, 2)}) as (made, axes):
        axis, along = axes
        for number, track in enumerate(found.tracks):
            color, dashes, marker = LINES[number % len(LINES)]
            written = sense.as_written(track.values) if len(track.values) else track.values
            label = f"{track.name}: {len(track.values)} points, {track.work:,.0f} evaluations"
            if len(written):
                axis.plot(
                    written[:, 0],
                    written[:, 1],
                    marker,
                    linestyle=dashes if two else "",
                    color=color,
                    markersize=5,
                    markerfacecolor="white",
                    linewidth=0.9,
                    label=label,
                )
            if len(track.costs):
                along.plot(track.costs, track.shares, linestyle=dashes, color=color, drawstyle="steps-post")
        axis.set_xlabel(_label(sense, 0))
        axis.set_ylabel(_label(sense, 1))
        axis.legend(loc="upper right")
        more = "" if two else f" (two of {len(sense.names)} objectives)"
        title = found.tracks[0].problem.title or found.tracks[0].problem.source.file
        axis.set_title(f"{title}{more}", loc="left", fontweight="bold")
        along.axhline(1.0, color="#999999", linewidth=0.8)
        along.set_xscale("log")
        along.xaxis.set_major_formatter(lambda value, _: f"{value:g}")
        along.set_xlabel("evaluations, a gradient counted as 3")
        along.set_ylabel("hypervolume of all evaluated, over that of the union of the fronts")
        along.set_ylim(
            bottom=max(0.0, min((float(t.shares.min()) for t in found.tracks if len(t.shares)), default=0.0))
        )
        save(made, path)


def draw_attainment(kinds: Sequence[tuple[str, Sequence[FrontTrack]]], path: str) -> None:
    """Write what runs of several kinds have attained over their seeds: the median, and between best and worst."""
    first = kinds[0][1][0]
    sense = first.sense
    values = np.vstack([track.values for _, tracks in kinds for track in tracks if len(track.values)])
    at = np.linspace(values[:, 0].min(), values[:, 0].max(), 400)
    with figure() as (made, axis):
        for number, (name, tracks) in enumerate(kinds):
            color, dashes, _ = LINES[number % len(LINES)]
            lines = np.array([attained(track.values, at) for track in tracks])
            with np.errstate(invalid="ignore"):
                low, middle, high = (np.quantile(lines, q, axis=0, method="higher") for q in (0.0, 0.5, 1.0))
            own = np.isfinite(middle)
            xs = at * sense.signs[0]
            axis.plot(
                xs[own], (middle * sense.signs[1])[own], dashes, color=color, label=f"{name}: half of {len(tracks)}"
            )
            both = np.isfinite(low) & np.isfinite(high)
            axis.fill_between(
                xs[both], (low * sense.signs[1])[both], (high * sense.signs[1])[both], color=color, alpha=0.18
            )
        axis.set_xlabel(_label(sense, 0))
        axis.set_ylabel(_label(sense, 1))
        axis.legend(loc="upper right")
        title = first.problem.title or first.problem.source.file
        axis.set_title(f"{title}: attained over seeds (line: by half of the runs; band: by one to by all)", loc="left")
        save(made, path)
