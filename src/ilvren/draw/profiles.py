"""Vector variables as profiles over a line or grid, an iteration a colour: how a design came to its shape."""

from __future__ import annotations

from collections.abc import Sequence
from typing import TYPE_CHECKING, Any

import matplotlib as mpl
import numpy as np
from numpy.typing import NDArray

from ilvren.draw.style import figure, ramp, save

if TYPE_CHECKING:
    from ilvren.problem import Problem, VariableBlock

__all__ = ["MOST_PROFILES", "draw_profiles", "profile_blocks"]

FloatArray = NDArray[np.float64]

# Vector variables drawn, one axis each; designs drawn as lines; columns of a matrix drawn.
MOST_PROFILES, MOST_DESIGNS, MOST_GRIDS = 3, 60, 4


def profile_blocks(problem: Problem) -> list[VariableBlock]:
    """Return the variables that have a line or grid to be drawn over."""
    return [block for block in problem.blocks if block.size > 1]


def draw_profiles(problem: Problem, designs: Sequence[tuple[int, FloatArray]], path: str, *, title: str) -> None:
    """Write the figure of designs [(iteration, design (n,))], in order, to `path` (.png or .svg)."""
    every = profile_blocks(problem)
    blocks = every[:MOST_PROFILES]
    shown = list(designs)
    if len(shown) > MOST_DESIGNS:
        places = np.unique(np.linspace(0, len(shown) - 1, MOST_DESIGNS).round().astype(int))
        shown = [shown[place] for place in places]
    lines = [block for block in blocks if len(block.shape) == 1]
    drawn = len(lines) or 1
    title += f" ({drawn} of {len(every)} vectors)" if len(every) > drawn else ""
    if not lines:
        _draw_grids(blocks[0], shown, path, title)
        return
    colours = ramp(for_lines=True)
    last = max(shown[-1][0], 1)
    with figure(len(lines), 1, squeeze=False) as (made, axes):
        for axis, block in zip(axes[:, 0], lines, strict=True):
            places = np.arange(block.size)
            for number, design in shown:
                own = design[block.first : block.first + block.size]
                is_last = number == shown[-1][0]
                axis.plot(
                    places,
                    own,
                    color="#c02020" if is_last else colours(number / last),
                    linewidth=2.4 if is_last else 1.1,
                    zorder=5 if is_last else 2,
                    label=f"iteration {number}, the last" if is_last else ("the start" if number == 0 else None),
                )
            for limit, word in ((block.lower, "lower bound"), (block.upper, "upper bound")):
                if np.isfinite(limit).any():
                    axis.plot(places, limit, color="#555555", linestyle=(0, (4, 3)), linewidth=1.0, label=word)
            axis.set_ylabel(f"{block.name}{f' [{block.unit}]' if block.unit else ''}")
            axis.set_xlabel("place in the vector")
            axis.legend(loc="best")
        axes[0, 0].set_title(title, loc="left", fontweight="bold")
        _colour_bar(made, axes[:, 0], last)
        save(made, path)


def _draw_grids(block: VariableBlock, designs: list[tuple[int, FloatArray]], path: str, title: str) -> None:
    """Some designs of a matrix side by side, on one colour scale."""
    places = np.unique(np.linspace(0, len(designs) - 1, min(MOST_GRIDS, len(designs))).round().astype(int))
    chosen = [designs[place] for place in places]
    grids = [design[block.first : block.first + block.size].reshape(block.shape) for _, design in chosen]
    low, high = min(float(grid.min()) for grid in grids), max(float(grid.max()) for grid in grids)
    with figure(1, len(chosen), squeeze=False) as (made, axes):
        image: Any = None
        for axis, grid, (number, _) in zip(axes[0], grids, chosen, strict=True):
            image = axis.imshow(grid, vmin=low, vmax=high, cmap=ramp(), aspect="auto", origin="lower")
            axis.set_title(f"iteration {number}")
            axis.grid(False)
        made.suptitle(title, x=0.01, ha="left", fontweight="bold")
        made.colorbar(image, ax=list(axes[0]), label=f"{block.name}{f' [{block.unit}]' if block.unit else ''}")
        save(made, path)


def _colour_bar(made: Any, axes: Any, last: int) -> None:
    scale = mpl.cm.ScalarMappable(mpl.colors.Normalize(0, last), ramp(for_lines=True))
    made.colorbar(scale, ax=list(axes), label="iteration", pad=0.01, aspect=40)
