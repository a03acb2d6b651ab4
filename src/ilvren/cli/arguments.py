"""Flags that several commands share, declared once, and how their values are read."""

from __future__ import annotations

import argparse
import functools
import os
import sys
from typing import Any, NoReturn

from ilvren.errors import RequestError, nearest

TYPE_CHECKING = False
if TYPE_CHECKING:
    from ilvren.problem import Aim

__all__ = [
    "Parser",
    "add_aim",
    "add_as_now",
    "add_ledger",
    "add_output_flags",
    "add_problem",
    "add_set",
    "add_workers",
    "aim_of",
    "ledger_path",
    "numbers",
    "values_by_name",
    "words_by_name",
]

DEFAULT_LEDGER = "ilvren.ledger"


class HelpFormatter(argparse.RawDescriptionHelpFormatter):
    """Help as wide as the terminal; told the width, argparse need not load what finds it out for every flag."""

    def __init__(self, prog: str) -> None:
        super().__init__(prog, width=terminal_width() - 2)


@functools.cache
def terminal_width() -> int:
    """Return the columns that COLUMNS or the terminal says there are, 80 where neither does."""
    given = os.environ.get("COLUMNS", "")
    if given.isdecimal() and int(given):
        return int(given)
    try:
        return os.get_terminal_size(sys.__stdout__.fileno()).columns or 80  # type: ignore[union-attr]
    except (AttributeError, ValueError, OSError):
        return 80


class Parser(argparse.ArgumentParser):
    """A parser without abbreviations, whose errors name the nearest flag and where to read more."""

    def __init__(self, *args: object, **options: object) -> None:
        options.setdefault("allow_abbrev", False)
        options.setdefault("formatter_class", HelpFormatter)
        super().__init__(*args, **options)  # type: ignore[arg-type]

    def error(self, message: str) -> NoReturn:
        """Raise RequestError: wrong words are told like every other fault."""
        raise RequestError(message, advice=f"`{self.prog} --help` lists what there is")

    def parse_known_args(self, args: Any = None, namespace: Any = None) -> Any:
        """Return what argparse makes of the words. Raises RequestError for an unknown flag, with the nearest."""
        found, rest = super().parse_known_args(args, namespace)
        unknown = [word for word in rest if word.startswith("-") and word != "-"]
        if unknown:
            word = unknown[0].split("=")[0]
            known = [flag for action in self._actions for flag in action.option_strings]
            close = nearest(word, known)
            advice = f'did you mean "{close}"?' if close else f"`{self.prog} --help` lists the flags"
            raise RequestError(f'unknown flag "{word}"', advice=advice)
        return found, rest


def add_problem(parser: argparse.ArgumentParser) -> None:
    """Add FILE and --set."""
    parser.add_argument("file", metavar="FILE", help="the problem file")
    parser.add_argument(
        "--set", metavar="NAME=VALUE", action="append", default=[], help="replace a parameter's value (repeatable)"
    )


def add_aim(parser: argparse.ArgumentParser, *, with_only: bool = True) -> None:
    """Add --only (unless it means something else there), --weigh, --hold, --fix and --lines."""
    if with_only:
        parser.add_argument("--only", metavar="NAME", help="of several objectives this one alone")
    parser.add_argument(
        "--weigh", metavar="NAME=W,NAME=W", help="of several objectives the weighed sum, such as cost=1,loss=20"
    )
    parser.add_argument(
        "--hold",
        metavar="CONDITION",
        action="append",
        default=[],
        help='a further limit, such as "loss <= 3", on anything the file names (repeatable)',
    )
    parser.add_argument(
        "--fix",
        metavar="NAME=VALUE",
        action="append",
        default=[],
        help='hold a variable, or one element such as "pipes[3]", at a value (repeatable)',
    )
    parser.add_argument(
        "--lines",
        metavar="TABLE=FROM:TO",
        action="append",
        default=[],
        help="of a table only these data lines, counted from 0, TO left out; a fit tells how well it forecasts the"
        " others (repeatable)",
    )


def add_add(parser: argparse.ArgumentParser) -> None:
    """Add --add."""
    parser.add_argument(
        "--add",
        metavar="NAME",
        action="append",
        default=[],
        help="search under this limit of [confirm], too: its models are called for every design (repeatable)",
    )


def aim_of(arguments: argparse.Namespace, *, with_only: bool = True) -> Aim:
    """Return what --only, --weigh, --hold, --fix, --lines and --add make of the problem. Raises RequestError."""
    from ilvren.problem import Aim

    words = [word for word in (arguments.weigh or "").split(",") if word.strip()]
    weigh = {name: float(value) for name, value in values_by_name("--weigh", words).items()}
    return Aim(
        weigh,
        (arguments.only or "") if with_only else "",
        {},
        tuple(arguments.hold),
        tuple(getattr(arguments, "add", ())),
        {name: _range("--lines", name, value) for name, value in words_by_name("--lines", arguments.lines).items()},
        fix=values_by_name("--fix", arguments.fix),
    )


def add_ledger(parser: argparse.ArgumentParser) -> None:
    """Add --ledger."""
    parser.add_argument(
        "--ledger",
        metavar="PATH",
        help=f"the file that runs are recorded in (default: $ILVREN_LEDGER, else {DEFAULT_LEDGER})",
    )
    parser.add_argument(
        "--trust",
        action="store_true",
        help="run models also of what somebody else recorded, or outside the problem's folder: look at them first",
    )


def add_set(parser: argparse.ArgumentParser) -> None:
    """Add --set of a command that evaluates designs by itself."""
    parser.add_argument(
        "--set", metavar="NAME=VALUE", action="append", default=[], help="another value of a parameter (repeatable)"
    )


def add_workers(parser: argparse.ArgumentParser) -> None:
    """Add --workers of a command that evaluates designs by itself."""
    parser.add_argument("--workers", metavar="N", help="evaluate models in so many processes, or on dask://HOST:PORT")


def add_as_now(parser: argparse.ArgumentParser) -> None:
    """Add --as-now."""
    parser.add_argument(
        "--as-now", action="store_true", help="use models as they are now, though their files have changed since"
    )


def add_output_flags(parser: argparse.ArgumentParser, *, json: bool = True) -> None:
    """Add --json, --quiet and --no-color."""
    if json:
        parser.add_argument("--json", action="store_true", help="print one JSON document instead of tables")
    else:
        parser.set_defaults(json=False)
    parser.add_argument("--quiet", action="store_true", help="no progress and no notes")
    parser.add_argument("--no-color", action="store_true", help="no colours")


def ledger_path(given: str | None) -> str:
    """Return the ledger to use: the flag, the environment, the default."""
    return given or os.environ.get("ILVREN_LEDGER") or DEFAULT_LEDGER


def words_by_name(flag: str, words: list[str]) -> dict[str, str]:
    """Read NAME=VALUE words. Raises RequestError."""
    found: dict[str, str] = {}
    for word in words:
        name, equals, value = word.partition("=")
        if not equals or not name.strip() or not value.strip():
            raise RequestError(f"{flag} {word}: expected NAME=VALUE, for example {flag} bore=0.15")
        if name.strip() in found:
            raise RequestError(f'{flag}: "{name.strip()}" is given twice')
        found[name.strip()] = value.strip()
    return found


def values_by_name(flag: str, words: list[str]) -> dict[str, Any]:
    """Read NAME=NUMBER words, or NAME=[LIST] as JSON writes lists. Raises RequestError."""
    found: dict[str, Any] = {}
    for name, value in words_by_name(flag, words).items():
        try:
            found[name] = _list(value) if value.startswith("[") else float(value)
        except ValueError:
            if flag in ("--start", "--fix", "--at") and not value.startswith("["):
                found[name] = value  # the word of a choice, or refused with the variable's name
                continue
            example = f"{flag} {name}=[1, 2.5, 4]" if value.startswith("[") else f"{flag} {name}=0.15"
            raise RequestError(
                f"{flag} {name}={value}: a number, or a list of numbers, is expected", advice=f"for example {example}"
            ) from None
    return found


def numbers(flag: str, words: list[str]) -> dict[str, float]:
    """Read NAME=NUMBER words. Raises RequestError, for lists too."""
    found = values_by_name(flag, words)
    for name, value in found.items():
        if not isinstance(value, float):
            raise RequestError(
                f"{flag} {name}={value}: one number is expected", advice=f"for example {flag} {name}=0.15"
            )
    return found


def _range(flag: str, name: str, value: str) -> tuple[int, int | None]:
    first, colon, end = value.partition(":")
    try:
        if not colon:
            raise ValueError
        return int(first or 0), int(end) if end.strip() else None
    except ValueError:
        raise RequestError(
            f"{flag} {name}={value}: two whole numbers are expected",
            advice=f"for example {flag} {name}=0:200, {name}=:200 or {name}=200:",
        ) from None


def _list(text: str) -> Any:
    import json

    return json.loads(text)
