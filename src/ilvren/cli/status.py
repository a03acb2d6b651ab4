"""The exit statuses."""

from __future__ import annotations

TYPE_CHECKING = False
if TYPE_CHECKING:
    from collections.abc import Iterable

    from ilvren.cli.terminal import Terminal
    from ilvren.runs import RunResult

HOLDS = 0  # the thing asked holds, or a listing was printed
DOES_NOT_HOLD = 1  # it ran and does not hold
WRONG_REQUEST = 2  # the request or a file is wrong
OUR_BUG = 3  # an exception nobody foresaw; the traceback is kept
MACHINE_FAILED = 4  # disk full, ledger locked
INTERRUPTED = 130  # Ctrl-C
TERMINATED = 143  # a termination signal


def of_stopped(results: Iterable[RunResult], terminal: Terminal) -> int | None:
    """Return the status where the machine failed one of some runs, which is said, or one was interrupted; else None."""
    found = list(results)
    trouble = next((result.machine_trouble for result in found if result.machine_trouble), None)
    if trouble is not None:
        terminal.complain(f"ilvren: {trouble}; the run is recorded up to here at the latest")
        return MACHINE_FAILED
    return INTERRUPTED if any(result.outcome == "interrupted" for result in found) else None
