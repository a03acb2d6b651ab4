"""Numbers and tables as engineers read them: sensible digits, units, aligned columns."""

from __future__ import annotations

import math
from collections.abc import Iterable, Sequence
from typing import TYPE_CHECKING

from rich import box
from rich.console import Group, RenderableType
from rich.table import Table
from rich.text import Text

if TYPE_CHECKING:
    from ilvren.runs import LimitState

__all__ = [
    "MOST_ROWS",
    "bound_cells",
    "change_percent",
    "count",
    "limits_text",
    "margin_text",
    "number",
    "row_cells",
    "seconds_text",
    "small",
    "table",
    "with_unit",
]


# A table of very many rows is cut here, and says so.
MOST_ROWS = 200
# Words longer than this are broken where room is short.
LONGEST_WORD = 30
# A margin below this share of its value is the rounding of a limit that is met.
ROUNDING = 1e-9


def number(value: float | None, digits: int = 6) -> str:
    """Return a number with up to `digits` significant digits; "-" for what is not one."""
    if value is None or math.isnan(value):
        return "-"
    if math.isinf(value):
        return "inf" if value > 0 else "-inf"
    if value == 0.0:
        return "0"
    size = abs(value)
    if 1e-4 <= size < 10.0 ** max(digits, 7):
        decimals = max(0, digits - 1 - math.floor(math.log10(size)))
        text = f"{value:.{decimals}f}"
        return text.rstrip("0").rstrip(".") if "." in text else text
    mantissa, exponent = f"{value:.{max(digits - 3, 1)}e}".split("e")
    if "." in mantissa:
        mantissa = mantissa.rstrip("0").rstrip(".")
    return f"{mantissa}e{int(exponent)}"


def small(value: float | None) -> str:
    """Return a residual such as a violation with two digits."""
    if value is None or math.isnan(value):
        return "-"
    if math.isinf(value):
        return "inf"
    return "0" if value == 0.0 else f"{value:.1e}"


def with_unit(value: float | None, unit: str, digits: int = 6) -> str:
    """Return a number with its unit behind it."""
    return f"{number(value, digits)} {unit}".rstrip()


def limits_text(lower: float, upper: float) -> str:
    """Return the limits of a row: "<= 2.5", "0.6 .. 2.5", "== 64"."""
    if lower == upper:
        return f"== {number(lower)}"
    if math.isinf(lower):
        return "none" if math.isinf(upper) else f"<= {number(upper)}"
    if math.isinf(upper):
        return f">= {number(lower)}"
    return f"{number(lower)} .. {number(upper)}"


def margin_text(margin: float, value: float) -> str:
    """Return the room to a limit; what is left of it by rounding is none."""
    return "0" if abs(margin) <= ROUNDING * abs(value) else number(margin, 4)


def row_cells(state: LimitState) -> tuple[str, str, str, str, str]:
    """Return name, value, unit, limits and margin of a constraint row."""
    limits = limits_text(state.lower, state.upper)
    return state.name, number(state.value), state.unit, limits, margin_text(state.margin, state.value)


def bound_cells(state: LimitState) -> tuple[str, str, str, str, str]:
    """Return name, value, unit and the two bounds of a variable, an absent one empty."""
    lower, upper = ("" if math.isinf(bound) else number(bound) for bound in (state.lower, state.upper))
    return state.name, number(state.value, 8), state.unit, lower, upper


def change_percent(value: float | None, before: float | None) -> str:
    """Return the change from `before` to `value` in percent, or "" where that says nothing."""
    if value is None or before is None or not math.isfinite(value) or not math.isfinite(before) or before == 0.0:
        return ""
    percent = 100.0 * (value - before) / abs(before)
    return f"{percent:+.3g} %" if abs(percent) < 1e6 else ""


def count(amount: int, noun: str) -> str:
    """Return "1 row", "2 rows"."""
    return f"{amount} {noun}" if amount == 1 else f"{amount} {noun}s"


def seconds_text(seconds: float) -> str:
    """Return a duration."""
    if seconds < 60.0:
        return f"{seconds:.2g} s" if seconds < 10.0 else f"{seconds:.0f} s"
    minutes, rest = divmod(int(seconds), 60)
    hours, minutes = divmod(minutes, 60)
    return f"{hours} h {minutes} min" if hours else f"{minutes} min {rest} s"


def table(
    headers: Sequence[str], rows: Iterable[Sequence[str]], *, title: str | None = None, most: int | None = None
) -> Table:
    """Return a table; a header that begins with ">" makes a right-aligned column of numbers. A column without
    any content is left out. Of more rows than `most` those of what is missed are shown, then the first, and how many
    are not."""
    rows = list(rows)
    if most is not None and len(rows) > most + 1:
        rows = _foremost(rows, most, len(headers))
    kept = [place for place in range(len(headers)) if place == 0 or any(row[place] for row in rows)]
    headers, rows = [headers[place] for place in kept], [[row[place] for place in kept] for row in rows]
    made = FittedTable(headers, rows, title=title)
    for row in rows:
        made.add_row(*(Text(cell, style=_style(cell)) for cell in row))
    return made


class FittedTable(Table):
    """A table that gives way where it is too wide: its widest texts first, down to their words, and then as a list.
    Numbers are never cut."""

    def __init__(self, headers: Sequence[str], rows: Sequence[Sequence[str]], *, title: str | None) -> None:
        super().__init__(box=box.SIMPLE_HEAD, title=title, title_justify="left", pad_edge=False, padding=(0, 1))
        self._heads, self._cells = [header.lstrip(">") for header in headers], rows
        self._widths, self._least = list[int](), list[int]()
        for place, (header, own) in enumerate(zip(headers, self._heads, strict=True)):
            is_number = header.startswith(">")
            cells = [row[place] for row in rows]
            self.add_column(own, justify="right" if is_number else "left", overflow="fold", no_wrap=True,
                            header_style="bold")  # fmt: skip
            texts = [own] if is_number else [own, *cells]
            words = max((len(word) for text in texts for word in text.split()), default=1)
            numbers = max((len(cell) for cell in cells), default=0) if is_number else 0
            self._widths.append(max((len(text) for text in (own, *cells)), default=1))
            self._least.append(min(self._widths[-1], max(min(words, LONGEST_WORD), numbers, 1)))

    def fitted(self, width: int) -> RenderableType:
        """Return what is shown in so many columns."""
        count = len(self._widths)
        # Two blanks and a divider between columns, edges; where that is too much, dividers alone.
        widths = self._narrowed(width - 3 * count + 1)
        if widths is None:
            widths, self.padding = self._narrowed(width - count - 1), (0, 0, 0, 0)
        if widths is None:
            return self._as_list(width)
        for column, own, natural in zip(self.columns, widths, self._widths, strict=True):
            if own < natural:
                column.width, column.no_wrap = own, False
        return self

    def _narrowed(self, room: int) -> list[int] | None:
        """Return the widths of all columns within so much room, the widest giving way first; None where they cannot."""
        if sum(self._least) > room:
            return None
        widths = list(self._widths)
        while sum(widths) > room:
            wide = [(own, place) for place, own in enumerate(widths) if own > self._least[place]]
            widths[max(wide)[1]] -= 1
        return widths

    def _as_list(self, width: int) -> RenderableType:
        """Return each row as lines of head and value."""
        import textwrap

        lines = [Text(""), *([Text(str(self.title))] if self.title else [])]
        for row in self._cells:
            parts = [f"{head} {cell}" if place else cell for place, (head, cell) in enumerate(zip(self._heads, row,
                     strict=True)) if cell]  # fmt: skip
            told = ";  ".join(part.replace(" ", "\xa0") if len(part) < width // 2 else part for part in parts)
            lines += [Text(line.replace("\xa0", " ")) for line in textwrap.wrap(told, width, initial_indent=" ",
                      subsequent_indent="   ")]  # fmt: skip
        return Group(*lines, Text(""))


def _foremost(rows: list[Sequence[str]], most: int, width: int) -> list[Sequence[str]]:
    missed = [k for k, row in enumerate(rows) if any(cell.startswith(("missed", "invalid")) for cell in row)][:most]
    known = set(missed)
    others = [k for k in range(len(rows)) if k not in known][: most - len(missed)]
    left_out = (f"… {len(rows) - most:,} more (--json has all)", *[""] * (width - 1))
    return [*(rows[k] for k in sorted([*missed, *others])), left_out]


def _style(cell: str) -> str:
    if cell.startswith(("missed", "invalid", "fail")):
        return "bold red"
    if cell.startswith(("active", "at its", "unknown")):
        return "yellow"
    return "green" if cell == "pass" else ""
