"""A process that runs members of a contest: places of the plan come in as lines, what came of each goes out as JSON.

It is a plain subprocess, so that no script of a user's is imported again. What models print goes to standard error.
"""

from __future__ import annotations

import json
import os
import sys
import threading
import time

from ilvren.errors import InputError, MachineError
from ilvren.ledger import Ledger
from ilvren.models import trusting
from ilvren.runs.contest import run_member

__all__ = ["main"]

# How often a process looks whether the one that began it still lives.
PARENT_SECONDS = 0.5


def main() -> None:
    """Serve until the lines end; the arguments are the ledger's path and the number of the group."""
    threading.Thread(target=_end_with, args=(os.getppid(),), daemon=True).start()
    answers = os.fdopen(os.dup(1), "w", encoding="utf-8")
    os.dup2(2, 1)
    path, group = sys.argv[1], int(sys.argv[2])
    with Ledger(path) as ledger, trusting(sys.argv[3:] == ["trust"]):
        for line in sys.stdin:
            try:
                found: object = run_member(ledger, group, int(line))
            except (InputError, MachineError) as error:
                found = {"refused": str(error), "machine": isinstance(error, MachineError)}
            answers.write(json.dumps(found) + "\n")
            answers.flush()


def _end_with(parent: int) -> None:
    """End this process when the one that began it has been killed: its run can be resumed."""
    while os.getppid() == parent:
        time.sleep(PARENT_SECONDS)
    os._exit(1)


if __name__ == "__main__":
    try:
        main()
    except KeyboardInterrupt:
        sys.exit(130)
    except MachineError:  # said by the process that has begun this one
        os._exit(4)
