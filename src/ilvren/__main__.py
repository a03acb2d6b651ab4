"""The console command: survives Ctrl-C even while it is still importing, and streams that are closed."""

from __future__ import annotations

import os
import sys


def main() -> int:
    """Run the command line and return its exit status."""
    try:
        _open_streams()
        from ilvren.cli.main import main as cli_main

        return cli_main(sys.argv[1:])
    except KeyboardInterrupt:
        return 130


def _open_streams() -> None:
    """Let standard streams that are closed lead nowhere: the next file that is opened would be taken for one of them,
    and what models print would go into a ledger."""
    for number in range(3):
        try:
            os.fstat(number)
        except OSError:
            os.open(os.devnull, os.O_RDWR)  # the lowest number that is free
    sys.stdin = sys.stdin or open(0, closefd=False)  # noqa: SIM115 - as long as the process
    sys.stdout = sys.stdout or open(1, "w", closefd=False)  # noqa: SIM115
    sys.stderr = sys.stderr or open(2, "w", closefd=False)  # noqa: SIM115


if __name__ == "__main__":
    sys.exit(main())
