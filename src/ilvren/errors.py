"""What can go wrong, as facts; how it is worded on a terminal is decided in `cli`.

IlvrenError
├── InputError            the request or a file is wrong                  exit status 2
│   ├── FormulaError      a formula cannot be read or built
│   ├── ProblemError      an entry of a problem file is wrong
│   ├── RequestError      an argument, a run id, a method's limits
│   └── LedgerFileError   a file that is not a ledger we can use
└── MachineError          disk full, ledger locked                        exit status 4
"""

from __future__ import annotations

from collections.abc import Iterable

__all__ = [
    "FormulaError",
    "IlvrenError",
    "InputError",
    "LedgerFileError",
    "MachineError",
    "ProblemError",
    "RequestError",
    "nearest",
]


class IlvrenError(Exception):
    """Anything Ilvren raises on purpose."""


class InputError(IlvrenError):
    """The request or a file is wrong.

    Arguments: `message`, one clause saying what is wrong; `file`, `line` (from 1) and `where` (a key
    path such as "constraints.duty"), as far as known; `text`, the offending formula or value, with
    `span` (start, end) inside it; `advice`, what to do instead.
    """

    def __init__(
        self,
        message: str,
        *,
        file: str | None = None,
        line: int | None = None,
        where: str | None = None,
        text: str | None = None,
        span: tuple[int, int] | None = None,
        advice: str | None = None,
    ) -> None:
        super().__init__(message)
        self.message = message
        self.file = file
        self.line = line
        self.where = where
        self.text = text
        self.span = span
        self.advice = advice

    def __str__(self) -> str:
        place = self.file or ""
        if self.line is not None:
            place += f":{self.line}"
        parts = [part for part in (place, self.where, self.message) if part]
        return ": ".join(parts)


class FormulaError(InputError):
    """A formula cannot be read or built; `span` points into `text`."""


class ProblemError(InputError):
    """An entry of a problem file is wrong."""


class RequestError(InputError):
    """An argument, a run id or a combination of them is wrong."""


class LedgerFileError(InputError):
    """A file that was meant as a ledger cannot be used as one."""


class MachineError(IlvrenError):
    """The machine failed us: no space left, a ledger that stays locked."""


def nearest(name: str, known: Iterable[str]) -> str | None:
    """Return the known name closest in spelling to `name`, or None when none is close."""
    import difflib  # only errors need it

    choices = sorted(set(known))
    found = difflib.get_close_matches(name, choices, n=1, cutoff=0.6)
    if found:
        return found[0]
    folded = {choice.lower(): choice for choice in choices}
    found = difflib.get_close_matches(name.lower(), sorted(folded), n=1, cutoff=0.6)
    return folded[found[0]] if found else None
