"""`ilvren methods`: what there is to choose from."""

from __future__ import annotations

import argparse
from typing import TYPE_CHECKING, Any

from ilvren.cli import status
from ilvren.cli.arguments import add_output_flags

if TYPE_CHECKING:
    from ilvren.cli.terminal import Terminal

EXAMPLES = """examples:
  ilvren methods
  ilvren methods sqp
"""


def add_arguments(parser: argparse.ArgumentParser) -> None:
    """Declare the flags."""
    parser.add_argument("name", metavar="NAME", nargs="?", help="one method: its options and its full description")
    add_output_flags(parser)


def execute(arguments: argparse.Namespace, terminal: Terminal) -> int:
    """Run the command and return its exit status. Raises InputError for what a user can mend."""
    import inspect
    import sys

    from ilvren.cli.tables.table import table
    from ilvren.methods import describe, method_named, method_names

    if arguments.name:
        method = method_named(arguments.name)
        if arguments.json:
            terminal.document(describe(method))
            return status.HOLDS
        terminal.show((inspect.getdoc(sys.modules[method.run.__module__]) or "").rstrip())
        options: Any = describe(method)["options"]
        lines = [(o["name"], str(o["default"]), o["range"], o["help"]) for o in options]
        terminal.show("", table(("option", ">default", "range", "meaning"), lines))
        return status.HOLDS
    documents: list[Any] = [describe(method_named(name)) for name in method_names()]
    if arguments.json:
        terminal.document({"methods": documents})
        return status.HOLDS
    rows = [(d["name"], d["kind"], d["needs"], ", ".join(d["handles"]), d["about"]) for d in documents]
    terminal.show(table(("method", "kind", "needs", "handles", "about"), rows))
    return status.HOLDS
