"""How a plan covers its box: every variable against every other, and how the designs lie along each."""

from __future__ import annotations

from typing import TYPE_CHECKING

import numpy as np

from ilvren.draw.style import LINES, figure, save

if TYPE_CHECKING:
    from ilvren.explore import Planned

__all__ = ["draw_plan"]

# Variables beside each other, at most, and parts of a range that designs are counted in.
MOST_PAIRED, MOST_PARTS = 7, 20


def draw_plan(made: Planned, path: str) -> None:
    """Write the designs of a plan to `path`: below the diagonal two variables each, on it how many designs lie in each
    part of a range, above it the correlations."""
    problem, space = made.problem, made.space
    places = list(problem.free)[:MOST_PAIRED]
    designs = made.designs[:, places]
    count = len(places)
    units = {block.name: block.unit for block in problem.blocks}
    colour = LINES[0][0]
    with figure(count, count, squeeze=False) as (drawn, panels):
        for i in range(count):
            for j in range(count):
                panel = panels[i, j]
                panel.tick_params(labelsize=8.5)
                panel.locator_params(nbins=4)
                ends = _ends(space.lower[j], space.upper[j])
                if i == j:
                    parts = min(MOST_PARTS, max(4, len(designs) // 3))
                    own = space.members[j]
                    bins = parts if own is None or len(own) > MOST_PARTS else _around(own)
                    panel.hist(
                        designs[:, j], bins=bins, range=(space.lower[j], space.upper[j]), color="#7f97ab", ec="white"
                    )
                    panel.set_yticks([])
                    panel.set_xlim(ends)
                elif j < i:
                    panel.scatter(designs[:, j], designs[:, i], s=14, c=colour, alpha=0.75, linewidths=0)
                    panel.set_xlim(ends)
                    panel.set_ylim(_ends(space.lower[i], space.upper[i]))
                else:
                    panel.set_axis_off()
                    panel.text(
                        0.5, 0.5, _correlation(designs[:, i], designs[:, j]), ha="center", va="center",
                        fontsize=11, color="#555555", transform=panel.transAxes,
                    )  # fmt: skip
                variable, other = problem.variables[places[j]], problem.variables[places[i]]
                if i == count - 1:
                    panel.set_xlabel(_label(variable.name, units), fontsize=10)
                else:
                    panel.tick_params(labelbottom=False)
                if j == 0 and i > 0:
                    panel.set_ylabel(_label(other.name, units), fontsize=10)
                elif i != j:
                    panel.tick_params(labelleft=False)
        title = f"{made.name}: {len(made.designs):,} designs"
        if len(problem.free) > count:
            title += f"; {count} of {len(problem.free)} variables"
        drawn.suptitle(title, fontsize=13, x=0.02, ha="left")
        if count > 1:
            drawn.text(0.98, 0.955, "above the diagonal: correlations", ha="right", fontsize=10, color="#555555")
        save(drawn, path)


def _ends(low: float, high: float) -> tuple[float, float]:
    margin = 0.04 * (high - low) or 0.5
    return low - margin, high + margin


def _around(members: np.ndarray) -> np.ndarray:
    """Return the ends of bins around members."""
    middles = 0.5 * (members[1:] + members[:-1])
    if not len(middles):
        return np.array([members[0] - 0.5, members[0] + 0.5])
    first, last = members[0] - (middles[0] - members[0]), members[-1] + (members[-1] - middles[-1])
    return np.concatenate([[first], middles, [last]])


def _correlation(a: np.ndarray, b: np.ndarray) -> str:
    if len(a) < 3 or a.std() == 0.0 or b.std() == 0.0:
        return ""
    return f"{np.corrcoef(a, b)[0, 1]:+.2f}"


def _label(name: str, units: dict[str, str]) -> str:
    unit = units.get(name.partition("[")[0], "")
    return f"{name}\n[{unit}]" if unit else name
