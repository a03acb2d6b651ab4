"""The streams a command writes to, with their width and colours."""

from __future__ import annotations

import contextlib
import os
import sys

from ilvren.printable import printable

TYPE_CHECKING = False
if TYPE_CHECKING:
    from collections.abc import Iterator, Mapping
    from typing import TextIO

    from rich.console import Console, ConsoleOptions, RenderableType

__all__ = ["Terminal"]

# Wide enough for every table when nobody looks at a terminal.
PIPE_WIDTH = 150
# Narrower than this nothing is broken any more.
LEAST_WIDTH = 40


def _columns() -> int:
    """Return the columns that the environment says, 0 where it says none."""
    text = os.environ.get("COLUMNS", "")
    return int(text) if text.isdecimal() and 0 < int(text) < 10_000 else 0


class Terminal:
    """Results go to `out`, progress and notes to `err`. Tests pass their own streams."""

    def __init__(
        self, out: TextIO | None = None, err: TextIO | None = None, *, quiet: bool = False, color: bool = True
    ) -> None:
        self.out = out or sys.stdout
        self.err = err or sys.stderr
        self.quiet = quiet
        self.color = color and not os.environ.get("NO_COLOR")
        self._consoles: dict[int, Console] = {}
        self._is_after_blank = False
        for stream in (self.out, self.err):
            # A terminal that cannot show a character shows a "?"; that is no reason to end a run.
            if hasattr(stream, "reconfigure"):
                stream.reconfigure(errors="replace")

    def _console(self, stream: TextIO) -> Console:
        console = self._consoles.get(id(stream))
        if console is None:
            is_terminal = stream.isatty()
            console = self._consoles[id(stream)] = _console_class()(
                file=stream,
                highlight=False,
                emoji=False,
                markup=False,
                no_color=not self.color,
                color_system="auto" if self.color and is_terminal else None,
                force_terminal=is_terminal,
                width=None if is_terminal else _columns() or PIPE_WIDTH,
                legacy_windows=False,
            )
        return console

    @property
    def error_console(self) -> Console:
        """Return the console on standard error, for views that are refreshed in place."""
        return self._console(self.err)

    @property
    def is_live(self) -> bool:
        """Return whether standard error is a terminal that lines can be redrawn on."""
        return self.err.isatty() and not self.quiet

    def show_sentence(self, text: str, *, indent: str = "  ") -> None:
        """Write a sentence to standard output, on a terminal broken between words."""
        self.show(indent + text)

    @property
    def has_width(self) -> bool:
        """Return whether lines are looked at in so many columns: on a terminal, or where COLUMNS says it."""
        return self.out.isatty() or _columns() > 0

    def _broken(self, text: str) -> str:
        """Return text with lines that are too long broken between words; a command to copy stays whole."""
        width = max(self.width, LEAST_WIDTH)
        if not self.has_width or all(len(line) <= width for line in text.split("\n")):
            return text
        import textwrap  # few outputs are sentences

        found: list[str] = []
        for line in text.split("\n"):
            if len(line) <= width or line.lstrip().startswith(("next: ", "$ ", "ilvren ")):
                found.append(line)
                continue
            indent = line[: len(line) - len(line.lstrip())]
            hanging = indent + ("  " if line.lstrip().startswith(("- ", "next")) or not indent else "")
            found += textwrap.wrap(line, width, subsequent_indent=hanging, break_on_hyphens=False)
        return "\n".join(found)

    @property
    def width(self) -> int:
        """Return the columns of the output."""
        return self._console(self.out).width

    def show(self, *parts: RenderableType) -> None:
        """Print results: text, or tables made in `tables`."""
        console, width = self._console(self.out), self.width
        for part in parts:
            with console.capture() as captured:
                if isinstance(part, str):
                    console.print(self._broken(part), soft_wrap=True)
                else:
                    console.print(part.fitted(width) if hasattr(part, "fitted") else part, crop=False)
            # Tables are padded with blanks to their width, and begin and end with an empty line.
            for line in captured.get().splitlines():
                line = line.rstrip()
                if line or not self._is_after_blank:
                    self.out.write(line + "\n")
                self._is_after_blank = not line

    def document(self, content: Mapping[str, object] | list[object]) -> None:
        """Print one JSON document."""
        import json

        text = json.dumps(content, indent=2, ensure_ascii=False, allow_nan=False)
        self.out.write((text if printable(text) == text else json.dumps(content, indent=2, allow_nan=False)) + "\n")

    def note(self, text: str) -> None:
        """Print a line beside the results, unless quiet."""
        if not self.quiet:
            self.complain(text)
            self._is_after_blank = False

    def progress(self, text: str) -> None:
        """Redraw the one line that says what is being done, on a terminal; an empty text takes it away."""
        if self.is_live:
            self._say("\r\x1b[K" + printable(text))

    def complain(self, text: str) -> None:
        """Print an error; quiet does not silence it."""
        self.write_line(text, to_error=True)

    def write_line(self, text: str, *, to_error: bool = False) -> None:
        """Write a line at once, as it is but for what is not printable."""
        if to_error:
            self._say(printable(text) + "\n")
        else:
            self.out.write(printable(text) + "\n")
            self.out.flush()

    def redraw(self, text: str) -> None:
        """Write a line over the one that the cursor is on."""
        self._say("\r" + printable(text))

    def _say(self, text: str) -> None:
        """Write beside the results: that nobody can be told is no reason to end what is going on."""
        with contextlib.suppress(OSError):
            self.err.write(text)
            self.err.flush()


def _console_class() -> type[Console]:
    """Return a console that shows no text as it is whose characters would act on a terminal."""
    from rich.console import Console
    from rich.segment import Segment

    class PrintableConsole(Console):
        def render(self, renderable: RenderableType, options: ConsoleOptions | None = None) -> Iterator[Segment]:
            for segment in super().render(renderable, options):
                if segment.control or (text := printable(segment.text)) == segment.text:
                    yield segment
                else:
                    yield Segment(text, segment.style)

    return PrintableConsole
