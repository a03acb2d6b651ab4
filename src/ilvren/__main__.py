"""The console command: survives Ctrl-C even while it is still importing."""

from __future__ import annotations

import sys


def main() -> int:
    """Run the command line and return its exit status."""
    try:
        from ilvren.cli.main import main as cli_main

        return cli_main(sys.argv[1:])
    except KeyboardInterrupt:
        return 130


if __name__ == "__main__":
    sys.exit(main())
