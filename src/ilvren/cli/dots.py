"""Points drawn with characters: eight dots to a character, two across and four down."""

from __future__ import annotations

import math
from collections.abc import Sequence

from rich.text import Text

from ilvren.cli.tables.table import number

__all__ = ["dot_plot"]

# The dot of each column and row within a character, in Unicode's braille patterns.
DOTS = ((0x01, 0x08), (0x02, 0x10), (0x04, 0x20), (0x40, 0x80))
BLANK = 0x2800
# So few points are drawn as characters of their own.
FEW = 40


def dot_plot(
    points: Sequence[tuple[float, float]],
    *,
    marked: Sequence[int] = (),
    labels: tuple[str, str],
    width: int = 56,
    height: int = 12,
) -> list[Text]:
    """Return the lines of a picture of points: `labels` of the axes with units, the `marked` ones as circles. Nothing
    for fewer than two finite points."""
    finite = [(x, y) for x, y in points if math.isfinite(x) and math.isfinite(y)]
    if len(finite) < 2:
        return []
    left, right = min(x for x, _ in finite), max(x for x, _ in finite)
    low, high = min(y for _, y in finite), max(y for _, y in finite)
    cells = [[0] * width for _ in range(height)]
    signs: dict[tuple[int, int], str] = {}

    def place(x: float, y: float) -> tuple[int, int]:
        column = 0.0 if right == left else (x - left) / (right - left)
        row = 0.0 if high == low else (high - y) / (high - low)
        return round(column * (2 * width - 1)), round(row * (4 * height - 1))

    for index, (x, y) in enumerate(points):
        if not (math.isfinite(x) and math.isfinite(y)):
            continue
        column, row = place(x, y)
        if index in marked or len(points) <= FEW:  # few single dots are hardly seen
            signs[row // 4, column // 2] = "o" if index in marked else "•"
        cells[row // 4][column // 2] |= DOTS[row % 4][column % 2]
    top, bottom = number(high, 4), number(low, 4)
    margin = max(len(top), len(bottom), 3)
    lines = [Text(f"  {labels[1]}")]
    for row, own in enumerate(cells):
        edge = top if row == 0 else bottom if row == height - 1 else ""
        line = Text(f"  {edge:>{margin}} │")
        for column, bits in enumerate(own):
            sign = signs.get((row, column))
            line.append(sign or chr(BLANK + bits), "bold yellow" if sign == "o" else "cyan")
        lines.append(line)
    lines.append(Text(f"  {'':>{margin}} └{'─' * width}"))
    first, last = number(left, 4), number(right, 4)
    middle = labels[0].center(max(width - len(first) - len(last), len(labels[0])))
    lines.append(Text(f"  {'':>{margin}}  {first}{middle}{last}"))
    return lines
