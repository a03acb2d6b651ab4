"""From the command line to an exit status: picks the command, guards it, words its failures."""

from __future__ import annotations

import contextlib
import os
import sys

from ilvren.cli import status
from ilvren.cli.commands import COMMANDS, GROUPS
from ilvren.cli.complaint import complaint
from ilvren.cli.terminal import Terminal
from ilvren.errors import InputError, MachineError, RequestError, nearest
from ilvren.version import __version__

TYPE_CHECKING = False
if TYPE_CHECKING:
    from collections.abc import Callable
    from types import FrameType
    from typing import Any

__all__ = ["Terminated", "main", "overview", "run_command", "versions"]

# What is answered without a command.
HELP, VERSION = ("-h", "--help", "help"), "--version"
# What decides which numbers come out, beside the program itself.
COMPUTES_WITH = ("numpy", "scipy")


class Terminated(KeyboardInterrupt):
    """A termination signal: handled like Ctrl-C, with its own exit status."""


def main(arguments: list[str], terminal: Terminal | None = None) -> int:
    """Run one command and return its exit status. `terminal` replaces the standard streams."""
    terminal = terminal or Terminal()
    received: list[int] = []

    def on_terminate(number: int, _: FrameType | None) -> None:
        received.append(number)
        raise Terminated

    is_told_at_once = not arguments or arguments[0] in (*HELP, VERSION)
    before = None if is_told_at_once else _handle_termination(on_terminate)
    try:
        found = _guarded(arguments, terminal)
    except KeyboardInterrupt:  # once more, while the first was being told
        found = status.INTERRUPTED
    finally:
        if before is not None:
            import signal

            signal.signal(signal.SIGTERM, before)
    return status.TERMINATED if received and found != status.HOLDS else found


def _guarded(arguments: list[str], terminal: Terminal) -> int:
    """Run one command and word what it raises."""
    try:
        result = run_command(arguments, terminal)
        terminal.out.flush()
        return result
    except InputError as error:
        terminal.complain(complaint(error))
        return status.WRONG_REQUEST
    except MachineError as error:
        terminal.complain(complaint(error))
        return status.MACHINE_FAILED
    except KeyboardInterrupt:
        return status.INTERRUPTED
    except BrokenPipeError:
        # Whoever read our output has what it wanted. Python would complain once more at exit.
        _give_up_output()
        return status.HOLDS
    except OSError as error:
        _give_up_output()
        terminal.complain(f"ilvren: {error.filename or 'the system'}: {error.strerror or error}")
        return status.MACHINE_FAILED
    except Exception:
        import traceback

        if told := _damage_told():
            terminal.complain(told)
            return status.WRONG_REQUEST
        terminal.complain(
            "ilvren: this is a bug in Ilvren, not in your problem; what follows helps to mend it\n"
            + traceback.format_exc()
        )
        return status.OUR_BUG


def _damage_told() -> str:
    """Return what is damaged in the ledger that was read, where that explains what nobody foresaw; "" else."""
    if "ilvren.ledger.opening" not in sys.modules:
        return ""
    from ilvren.ledger import damages, last_opened

    path = last_opened()
    found = damages(path) if path is not None and path.exists() else []
    if not found:
        return ""
    return (f"{path}: is damaged ({found[0]})\n"
            f"    `ilvren runs --recover FILE --ledger {path}` writes what is whole into a new ledger")  # fmt: skip


def _give_up_output() -> None:
    """Let what is still to be written go nowhere, or Python would complain once more at its exit."""
    with contextlib.suppress(OSError, ValueError):
        sys.stdout.flush()
        return
    with contextlib.suppress(OSError, ValueError):
        os.dup2(os.open(os.devnull, os.O_WRONLY), sys.stdout.fileno())


def _handle_termination(handler: Callable[[int, FrameType | None], None]) -> Any:
    import signal  # the overview does without: it takes a tenth of its time

    try:
        return signal.signal(signal.SIGTERM, handler)
    except ValueError:  # not the main thread: somebody else's program, which handles its own signals
        return None


def run_command(arguments: list[str], terminal: Terminal) -> int:
    """Run one command, letting its errors through. Raises what it raises."""
    for word in arguments:
        try:
            word.encode()
        except UnicodeEncodeError:
            raise RequestError(
                f"{word!a}: a name that is no UTF-8 cannot be put on record", advice="rename it"
            ) from None
    if not arguments or arguments[0] in HELP:
        terminal.out.write(overview(_overview_width(terminal)))
        return status.HOLDS
    if arguments[0] == VERSION:
        terminal.out.write(versions())
        return status.HOLDS
    name = arguments[0]
    if name not in COMMANDS:
        close = nearest(name, COMMANDS)
        what = "flag" if name.startswith("-") else "command"
        advice = f'did you mean "{close}"?' if close else "`ilvren --help` lists the commands"
        raise RequestError(f'unknown {what} "{name}"', advice=advice)
    from ilvren.cli.parsers import module_of, parser_of

    module = module_of(name)
    try:
        parsed = parser_of(name).parse_args(arguments[1:])
    except SystemExit as stop:  # --help has printed
        return int(stop.code or 0)
    terminal.quiet = terminal.quiet or getattr(parsed, "quiet", False)
    terminal.color = terminal.color and not getattr(parsed, "no_color", False)
    if not getattr(parsed, "trust", False):
        result: int = module.execute(parsed, terminal)
        return result
    from ilvren.models import trusting

    with trusting():
        return int(module.execute(parsed, terminal))


def versions() -> str:
    """Return the text of `ilvren --version`: this program, what it computes with, and where it is."""
    from importlib.metadata import version
    from pathlib import Path
    from platform import platform, python_version

    with_ = ", ".join(f"{name} {version(name)}" for name in COMPUTES_WITH)
    place = Path(__file__).parent.parent
    return f"ilvren {__version__}\nPython {python_version()}, {with_}; {platform(terse=True)}\nin {place}\n"


def _overview_width(terminal: Terminal) -> int:
    """Return the columns of a terminal, or those that COLUMNS says; 0 for no limit. Without the library for tables: the
    overview is there at once."""
    if not terminal.has_width:
        return 0
    try:
        return int(os.environ.get("COLUMNS", "")) or 80
    except ValueError:
        try:
            return os.get_terminal_size(terminal.out.fileno()).columns
        except (OSError, ValueError):
            return 80


def overview(width: int = 0) -> str:
    """Return the text of `ilvren --help`, broken at so many columns."""
    lines = [
        "ilvren COMMAND …",
        "",
        "Define a nonlinear design problem, look at it, run optimizers on it, compare them, and verify the design.",
        "",
    ]
    for group, names in GROUPS.items():
        lines.append(group)
        for name in names:
            lines.extend(_broken(f"  {name:<12} {COMMANDS[name][1]}", width, " " * 15))
        lines.append("")
    lines += [
        "`ilvren COMMAND --help` tells the flags of a command. A first look:",
        "  ilvren demo                    a whole example, explained",
        "  ilvren new pump.toml           a starter problem to change",
        "",
    ]
    return "\n".join(own for line in lines for own in _broken(line, width, ""))


def _broken(line: str, width: int, hanging: str) -> list[str]:
    """Return a line as lines of so many columns, all but the first begun by `hanging`."""
    found: list[str] = []
    while width > 30 and len(line) > width:
        cut = line.rfind(" ", len(hanging) + 1, width + 1)
        if cut <= len(hanging):
            break
        found.append(line[:cut])
        line = hanging + line[cut + 1 :]
    return [*found, line]
