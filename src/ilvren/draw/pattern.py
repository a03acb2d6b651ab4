"""The sparsity patterns of the Jacobian and of the Lagrangian's Hessian, rows grouped by constraint."""

from __future__ import annotations

from collections.abc import Sequence
from typing import TYPE_CHECKING, Any

import numpy as np

from ilvren.draw.style import figure, save, shades

if TYPE_CHECKING:
    from ilvren.judge import Pattern
    from ilvren.problem import Problem, RowBlock, VariableBlock

__all__ = ["draw_pattern"]

# Finer patterns are drawn as so many cells a side; a cell is filled when any entry within is.
MOST_CELLS = 400
# Names closer than this share of the axis would overlap.
LABEL_ROOM = 0.028


def draw_pattern(problem: Problem, pattern: Pattern, path: str) -> None:
    """Write a figure of both patterns to `path`; a matrix too large to be formed is left out and said so."""
    with figure(1, 2) as (made, (left, right)):
        _matrix(left, pattern.jacobian, problem.row_blocks, problem.blocks, "Jacobian of the constraints")
        _matrix(right, pattern.hessian, problem.blocks, problem.blocks, "Hessian of the Lagrangian")
        made.suptitle(problem.title or problem.source.file, x=0.01, ha="left", fontweight="bold")
        save(made, path)


def _matrix(
    axis: Any,
    matrix: Any,
    row_blocks: Sequence[RowBlock | VariableBlock],
    column_blocks: Sequence[VariableBlock],
    title: str,
) -> None:
    axis.grid(False)
    if matrix is None or not matrix.shape[0] or not matrix.shape[1]:
        what = "too large to be formed" if matrix is None else "empty"
        axis.text(0.5, 0.5, what, ha="center", va="center", transform=axis.transAxes)
        axis.set_axis_off()
        axis.set_title(title, loc="left")
        return
    m, n = matrix.shape
    rows, columns = min(m, MOST_CELLS), min(n, MOST_CELLS)
    entries = matrix.tocoo()
    cells = np.zeros((rows, columns))
    i, j = entries.coords[0] * rows // m, entries.coords[1] * columns // n
    colour = np.zeros(m, dtype=np.int64)
    for place, block in enumerate(row_blocks):
        colour[block.first : block.first + block.size] = place + 1
    cells[i, j] = colour[entries.coords[0]]
    image = np.ones((rows, columns, 3))
    for place in range(len(row_blocks)):
        image[cells == place + 1] = _rgb(shades(place))
    axis.imshow(image, extent=(0, n, m, 0), aspect="auto", interpolation="nearest")
    for block in row_blocks[1:]:
        axis.axhline(block.first, color="#999999", linewidth=0.8)
    for variables in column_blocks[1:]:
        axis.axvline(variables.first, color="#999999", linewidth=0.8)
    _names(axis.yaxis, row_blocks, m, [shades(place) for place in range(len(row_blocks))])
    _names(axis.xaxis, column_blocks, n, None)
    axis.spines[["top", "right"]].set_visible(True)
    share = 100.0 * matrix.nnz / (m * n)
    axis.set_title(f"{title}\n{m} x {n}, {matrix.nnz} non-zeros ({share:.3g} %)", loc="left")


def _rgb(colour: str) -> tuple[float, ...]:
    return tuple(int(colour[place : place + 2], 16) / 255.0 for place in (1, 3, 5))


def _names(axis: Any, blocks: Sequence[RowBlock | VariableBlock], count: int, colours: Sequence[str] | None) -> None:
    """Write each block's name in the middle of its rows, leaving out those that would overlap."""
    shown: list[int] = []
    last = -1.0
    is_wide = axis.axis_name == "x"
    for place, block in enumerate(blocks):
        middle = (block.first + block.size / 2.0) / count
        room = LABEL_ROOM * (0.45 * len(block.name) if is_wide else 1.0)
        if middle - last >= room or last < 0.0:
            shown.append(place)
            last = middle
    axis.set_ticks([blocks[place].first + blocks[place].size / 2.0 for place in shown])
    axis.set_ticklabels([blocks[place].name for place in shown])
    axis.set_tick_params(length=0)
    if colours is not None:
        for label, place in zip(axis.get_ticklabels(), shown, strict=True):
            label.set_color(colours[place])
