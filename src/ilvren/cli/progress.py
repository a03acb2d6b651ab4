"""What a run shows while it works: a line redrawn in place on a terminal, a line now and then elsewhere."""

from __future__ import annotations

import math
import time
from collections.abc import Sequence
from typing import TYPE_CHECKING, Any

from ilvren.cli.tables.table import number, seconds_text, small, table
from ilvren.printable import printable
from ilvren.runs import Event, Finer, Iterated, LookedOn, Sampled, StageBegun, Started

if TYPE_CHECKING:
    from ilvren.cli.terminal import Terminal
    from ilvren.problem import Problem

__all__ = ["Progress", "progress_of"]

# The evaluations and seconds that a run was limited to, None where it was not.
Limits = tuple[int | None, float | None]
REDRAW_SECONDS = 0.1
# A design that takes so long is worth a word on what the limits amount to.
COSTLY_SECONDS = 0.2
# From so long on a run shows a table of its best designs, with so many of the variables.
TABLE_SECONDS, MOST_COLUMNS = 2.0, 6
# Without a terminal: a first line after this long, each later wait twice as long up to the most.
NOTHING = "nothing feasible so far"
FIRST_LINE_SECONDS, MOST_LINE_SECONDS = 2.0, 60.0


def progress_of(
    problem: Problem, terminal: Terminal, *, is_quiet: bool = False, limits: Limits = (None, None)
) -> Progress:
    """Return the listener for runs of a problem, whose `limits` are the evaluations and seconds asked for."""
    objective = problem.objective
    unit, sign = (objective.unit, objective.sign) if objective is not None else ("", 1)
    names = [variable.name for variable in problem.variables[:MOST_COLUMNS]]
    return Progress(
        terminal, unit=unit, is_quiet=is_quiet, names=names, sign=sign, limits=limits, has_models=bool(problem.sources)
    )


class Progress:
    """A listener for runs. Call `close` at the end."""

    def __init__(
        self,
        terminal: Terminal,
        *,
        unit: str = "",
        is_quiet: bool = False,
        names: Sequence[str] = (),
        sign: int = 1,
        limits: Limits = (None, None),
        has_models: bool = False,
    ) -> None:
        self._limits, self._is_costed = limits, not has_models
        self._names, self._sign = names, sign
        self._is_quiet = is_quiet
        self._terminal = terminal
        self._unit = unit
        self._first: float | None = None
        self._next = time.monotonic() + (REDRAW_SECONDS if terminal.is_live else FIRST_LINE_SECONDS)
        self._wait = FIRST_LINE_SECONDS
        self._drawn = 0
        self._began = time.monotonic()
        self._table: Any = None

    def __call__(self, event: Event) -> None:
        if isinstance(event, Started) and event.why:
            self._terminal.note(event.why)
        if isinstance(event, StageBegun):
            self.close()
            self._first = None  # of another problem
            self._terminal.note(f"stage {event.number} of {event.count}: {event.told}")
        if isinstance(event, Finer):
            self.close()
            self._terminal.note(f"looked at more finely: {event.told}")
        if not isinstance(event, (Iterated, LookedOn, Sampled)) or self._terminal.quiet or self._is_quiet:
            return
        if self._first is None:
            self._first = event.best
        if isinstance(event, Iterated) and not self._is_costed and event.evaluations and not event.is_replay:
            self._is_costed = True
            self._tell_cost(event)
        now = time.monotonic()
        if now < self._next:
            return
        line = (
            self._line(event)
            if isinstance(event, Iterated)
            else self._sampled(event)
            if isinstance(event, Sampled)
            else self._second_line(event)
        )
        if self._terminal.is_live:
            self._next = now + REDRAW_SECONDS
            if isinstance(event, Iterated) and len(event.incumbents) > 1 and now - self._began > TABLE_SECONDS:
                self._redraw_table(line, event)
            else:
                self._redraw(line)
        else:
            self._wait = min(2.0 * self._wait, MOST_LINE_SECONDS)
            self._next = now + self._wait
            self._terminal.note(line)

    def close(self) -> None:
        """Take the live line or table away."""
        if self._table is not None:
            self._table.stop()
            self._table = None
        if self._drawn:
            self._redraw("")
            self._terminal.redraw("")
            self._drawn = 0

    def _sampled(self, event: Sampled) -> str:
        most = self._limits[0]
        left = ""
        if most is not None and event.evaluations:
            rest = (most - event.evaluations) * event.seconds / event.evaluations
            left = f"  about {seconds_text(rest)} left" if rest >= 1.0 else ""
        count = f"{event.evaluations} of {most}" if most is not None else f"{event.evaluations}"
        word = "design" if count == "1" else "designs"
        return f"{count} {word}  {self._best(event)}{left}"

    def _best(self, event: Iterated | LookedOn | Sampled) -> str:
        if isinstance(event, Iterated) and event.front is not None and event.front.points:
            front = event.front
            share = "" if math.isnan(front.share) else f", {100.0 * front.share:.3g} % of the box dominated"
            gap = "" if math.isnan(front.gap) else f", widest gap {100.0 * front.gap:.2g} % of the range"
            return f"front {front.points} design{'s' if front.points > 1 else ''}{share}{gap}"
        if isinstance(event, Sampled) and event.front:
            return f"front {event.front} design{'s' if event.front > 1 else ''}"
        return f"best {number(event.best)} {self._unit}".rstrip() if event.best is not None else NOTHING

    def _second_line(self, event: LookedOn) -> str:
        return f"converged, looking elsewhere: {event.evaluations} evaluations  {self._best(event)}"

    def _tell_cost(self, event: Iterated) -> None:
        """Say what a design takes, and what the limits asked for amount to, where one waits for it."""
        each = event.seconds / event.evaluations
        most, seconds = self._limits
        if each < COSTLY_SECONDS:
            return
        told = f"a design takes about {seconds_text(each)} (measured)"
        if most is not None:
            told += f": {most} evaluations take up to {seconds_text(each * most)}"
        elif seconds is not None:
            told += f": about {max(int(seconds / each), 1)} designs in {seconds_text(seconds)}"
        else:
            told += "; --evaluations N or --seconds S limit the run, and `ilvren resume` goes on"
        self._terminal.note(told)

    def _left(self, event: Iterated) -> str:
        """Return how long the limits asked for leave at the most, "" for no time worth telling."""
        most, seconds = self._limits
        left = []
        if most is not None and event.evaluations:
            left.append((most - event.evaluations) * event.seconds / event.evaluations)
        if seconds is not None:
            left.append(seconds - event.seconds)
        least = min(left, default=0.0)
        return f"  at most {seconds_text(least)} left" if least >= 1.0 else ""

    def _line(self, event: Iterated) -> str:
        best = self._best(event)
        change = ""
        if event.best is not None and self._first:
            change = f" ({100.0 * (event.best - self._first) / abs(self._first):+.3g} %)"
        if event.front is not None:
            replay = "replaying, " if event.is_replay else ""
            return f"{replay}{event.evaluations} evaluations  {best}  iteration {event.iteration}{self._left(event)}"
        stationarity = "" if event.stationarity is None else f"  stationarity {small(event.stationarity)}"
        replay = "replaying, " if event.is_replay else ""
        return (
            f"{replay}{event.evaluations} evaluations  {best}{change}"
            f"  violation {small(event.violation)}{stationarity}  iteration {event.iteration}{self._left(event)}"
        )

    def _redraw_table(self, line: str, event: Iterated) -> None:
        """Show the best designs so far in a table that is refreshed in place, under the line of progress."""
        from rich.console import Group
        from rich.live import Live
        from rich.text import Text

        if self._drawn:
            self._redraw("")
            self._terminal.redraw("")
            self._drawn = 0
        names = self._names[:MOST_COLUMNS]
        rows = [
            (
                str(rank),
                number(self._sign * incumbent.objective),
                small(incumbent.violation),
                str(incumbent.number),
                *(number(value) for value in incumbent.point[: len(names)].tolist()),
            )
            for rank, incumbent in enumerate(event.incumbents, start=1)
        ]
        unit = f" [{self._unit}]" if self._unit else ""
        heads = (">rank", f">objective{unit}", ">violation", ">evaluation", *(f">{name}" for name in names))
        shown = Group(Text(line), table(heads, rows), Text("Ctrl-C keeps the best design; `ilvren resume` goes on"))
        if self._table is None:
            self._table = Live(shown, console=self._terminal.error_console, transient=True, auto_refresh=False)
            self._table.start()
        self._table.update(shown, refresh=True)

    def _redraw(self, line: str) -> None:
        import shutil

        line = printable(line)[: shutil.get_terminal_size().columns - 1]
        self._terminal.redraw(line + " " * max(0, self._drawn - len(line)))
        self._drawn = len(line)
