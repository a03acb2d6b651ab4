"""--step-log: every iteration as a line, in full words."""

from __future__ import annotations

import math
import textwrap
from typing import TYPE_CHECKING

from ilvren.cli.tables.table import number, small
from ilvren.runs import Ended, Event, Iterated

if TYPE_CHECKING:
    from ilvren.cli.terminal import Terminal

__all__ = ["StepLog"]

# The heads come again after so many lines.
REPEAT = 40
# What stands behind the number and the words, with its width.
_HEADS = (
    ("promise kept", 12), ("moved by", 8), ("violation", 9), ("stationarity", 12), ("objective", 12),
    ("evaluations", 11),
)  # fmt: skip
_NUMBER = 6
# The words take what is left of the line, and go on in the next where they need more.
LEAST_WORDS, MOST_WORDS = 30, 72


class StepLog:
    """A listener that prints every iteration; to standard error where standard output holds a JSON document."""

    def __init__(self, terminal: Terminal, *, to_error: bool) -> None:
        self._terminal, self._to_error = terminal, to_error
        self._lines = 0
        self._path = ""

    def __call__(self, event: Event) -> None:
        if isinstance(event, Ended) and self._lines:
            self._print("")
        if not isinstance(event, Iterated) or event.is_replay:
            return
        words = self._words
        if self._lines % REPEAT == 0:
            if self._lines:
                self._print("")
            heads = "  ".join(f"{head:>{width}}" for head, width in _HEADS)
            self._print(f"{'step':>{_NUMBER}}  {'what it was':{words}}  {heads}")
        if event.path != self._path:
            if event.path and self._lines:
                self._print(f"{'':>{_NUMBER}}  now {event.path}")
            self._path = event.path
        self._lines += 1
        cells = (
            "" if math.isnan(event.gain_ratio) else _percent(event.gain_ratio),
            "" if math.isnan(event.step) else f"{event.step:.1e}",
            small(event.violation),
            "" if event.stationarity is None else small(event.stationarity),
            "" if event.objective is None else number(event.objective, 8),
            str(event.evaluations),
        )
        first, *more = textwrap.wrap(event.note, words) or [""]
        line = "  ".join(f"{cell:>{width}}" for cell, (_, width) in zip(cells, _HEADS, strict=True))
        self._print(f"{event.iteration:>{_NUMBER}}  {first:{words}}  {line}")
        for rest in more:
            self._print(f"{'':>{_NUMBER}}  {rest}")

    @property
    def _words(self) -> int:
        taken = _NUMBER + 2 + sum(width + 2 for _, width in _HEADS)
        return min(max(self._terminal.width - taken, LEAST_WORDS), MOST_WORDS)

    def _print(self, line: str) -> None:
        self._terminal.write_line(line.rstrip(), to_error=self._to_error)


def _percent(share: float) -> str:
    """Return how much of the predicted improvement came true."""
    if not math.isfinite(share):
        return "nothing"
    if abs(share) > 99.0:
        return f"{share:.1g} times"
    return f"{100.0 * share:.0f} %"
