"""What programs were given and gave, as tables."""

from __future__ import annotations

import math
from typing import TYPE_CHECKING, Any

from ilvren.cli.tables.blocks import value_text
from ilvren.cli.tables.table import number, seconds_text, small, table

if TYPE_CHECKING:
    from ilvren.cli.terminal import Terminal
    from ilvren.judge.checking import InputLine, ProgramCheck, ValueLine

__all__ = ["marked", "show_program"]

# So much of a line is shown around a number.
MOST_LINE = 70


def show_program(found: ProgramCheck, terminal: Terminal) -> None:
    """Show a program at the baseline: values with their places, inputs with their steps of differences."""
    from rich.text import Text

    line = f"program {found.model}: {found.told}"
    terminal.show("", Text.assemble((line, "bold"), f"   {seconds_text(found.seconds)}"))
    rows: list[tuple[Any, ...]] = [
        (value.name, value_text(value.value), value.unit, value.place, marked(value), _again(value))
        for value in found.values
    ]
    terminal.show(table(("quantity", ">value", "unit", "found at", "line", "again"), rows))
    if found.inputs:
        has_steps = any(line.step is not None for line in found.inputs)
        head = ("input", ">value", ">in the deck", ">shown to", *((">step of differences",) if has_steps else ()))
        terminal.show(table(head, [_input_row(line, has_steps=has_steps) for line in found.inputs]))
    if found.noise is not None and found.accuracy is not None and math.isfinite(found.accuracy):
        terminal.show(
            f"  values are known to about {small(found.noise)}, derivatives by differences to about"
            f" {small(found.accuracy)}"
        )


def marked(value: ValueLine) -> str:
    """Return the line that a value was found in, the number between marks."""
    if not value.text or not value.last:
        return value.text.strip()[:MOST_LINE]
    before, own, behind = value.text[: value.first], value.text[value.first : value.last], value.text[value.last :]
    told = f"{before.lstrip()}‹{own}›{behind.rstrip()}"
    at = len(before.lstrip())
    if len(told) <= MOST_LINE:
        return told
    first = max(min(at - MOST_LINE // 2, len(told) - MOST_LINE), 0)
    return ("…" if first else "") + told[first : first + MOST_LINE] + ("…" if first + MOST_LINE < len(told) else "")


def _again(value: ValueLine) -> str:
    if math.isnan(value.again):
        return "failed"
    return "the same" if value.again == 0.0 else f"off by {small(value.again)}"


def _input_row(line: InputLine, *, has_steps: bool) -> tuple[str, ...]:
    shown = "all digits" if line.resolution == 0.0 else number(line.resolution, 2)
    if math.isinf(line.resolution):
        shown = "not in it"
    step = ("" if line.step is None else number(line.step, 3),) if has_steps else ()
    digits = 9
    if 0.0 < line.resolution < abs(line.written):  # no more than the deck shows
        digits = min(digits, math.ceil(math.log10(abs(line.written) / line.resolution) - 0.2))
    return (line.name, number(line.value, 9), number(line.written, max(digits, 1)), shown, *step)
