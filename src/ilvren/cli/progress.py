"""What a run shows while it works: a line redrawn in place on a terminal, a line now and then elsewhere."""

from __future__ import annotations

import time

from ilvren.cli.tables import number, small
from ilvren.cli.terminal import Terminal
from ilvren.runs import Event, Iterated, Started

__all__ = ["Progress"]

REDRAW_SECONDS = 0.1
# Without a terminal: a first line after this long, each later wait twice as long up to the most.
FIRST_LINE_SECONDS, MOST_LINE_SECONDS = 2.0, 60.0


class Progress:
    """A listener for runs. Call `close` at the end."""

    def __init__(self, terminal: Terminal, *, unit: str = "", is_quiet: bool = False) -> None:
        self._is_quiet = is_quiet
        self._terminal = terminal
        self._unit = unit
        self._first: float | None = None
        self._next = time.monotonic() + (REDRAW_SECONDS if terminal.is_live else FIRST_LINE_SECONDS)
        self._wait = FIRST_LINE_SECONDS
        self._drawn = 0

    def __call__(self, event: Event) -> None:
        if isinstance(event, Started) and event.why:
            self._terminal.note(event.why)
        if not isinstance(event, Iterated) or self._terminal.quiet or self._is_quiet:
            return
        if self._first is None:
            self._first = event.best
        now = time.monotonic()
        if now < self._next:
            return
        line = self._line(event)
        if self._terminal.is_live:
            self._next = now + REDRAW_SECONDS
            self._redraw(line)
        else:
            self._wait = min(2.0 * self._wait, MOST_LINE_SECONDS)
            self._next = now + self._wait
            self._terminal.note(line)

    def close(self) -> None:
        """Take the live line away."""
        if self._drawn:
            self._redraw("")
            self._terminal.err.write("\r")
            self._terminal.err.flush()
            self._drawn = 0

    def _line(self, event: Iterated) -> str:
        best = (
            f"best {number(event.best)} {self._unit}".rstrip() if event.best is not None else "nothing feasible so far"
        )
        change = ""
        if event.best is not None and self._first:
            change = f" ({100.0 * (event.best - self._first) / abs(self._first):+.3g} %)"
        stationarity = "" if event.stationarity is None else f"  stationarity {small(event.stationarity)}"
        replay = "replaying, " if event.is_replay else ""
        return (
            f"{replay}{event.evaluations} evaluations  {best}{change}"
            f"  violation {small(event.violation)}{stationarity}  iteration {event.iteration}"
        )

    def _redraw(self, line: str) -> None:
        import shutil

        line = line[: shutil.get_terminal_size().columns - 1]
        self._terminal.err.write("\r" + line + " " * max(0, self._drawn - len(line)))
        self._terminal.err.flush()
        self._drawn = len(line)
