"""--step-log: every iteration as a line, in full words."""

from __future__ import annotations

import math

from ilvren.cli.tables import number, small
from ilvren.cli.terminal import Terminal
from ilvren.runs import Ended, Event, Iterated

__all__ = ["StepLog"]

# The heads come again after so many lines.
REPEAT = 40
_HEADS = (
    ("iteration", 9), ("evaluations", 11), ("objective", 13), ("violation", 9), ("stationarity", 12), ("step", 8),
    ("as predicted", 12),
)  # fmt: skip


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
        if self._lines % REPEAT == 0:
            if self._lines:
                self._print("")
            self._print("  ".join(f"{head:>{width}}" for head, width in _HEADS) + "  what the step was")
        if event.path != self._path:
            if event.path and self._lines:
                self._print(f"{'':>9}  now {event.path}")
            self._path = event.path
        self._lines += 1
        held = "" if math.isnan(event.held) else f"{_percent(event.held)}"
        cells = (
            str(event.iteration),
            str(event.evaluations),
            "" if event.objective is None else number(event.objective, 8),
            small(event.violation),
            "" if event.stationarity is None else small(event.stationarity),
            "" if math.isnan(event.step) else f"{event.step:.1e}",
            held,
        )
        line = "  ".join(f"{cell:>{width}}" for cell, (_, width) in zip(cells, _HEADS, strict=True))
        self._print(f"{line}  {event.note}")

    def _print(self, line: str) -> None:
        stream = self._terminal.err if self._to_error else self._terminal.out
        stream.write(line.rstrip() + "\n")
        stream.flush()


def _percent(share: float) -> str:
    """Return how much of the predicted improvement came true."""
    if not math.isfinite(share):
        return "nothing"
    if abs(share) > 99.0:
        return f"{share:.1g} times"
    return f"{100.0 * share:.0f} %"
