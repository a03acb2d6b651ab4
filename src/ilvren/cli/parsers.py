"""A command's arguments, as its module declares them: for the command line, its help, completion and manual."""

from __future__ import annotations

import importlib
from types import ModuleType

from ilvren.cli.arguments import Parser
from ilvren.cli.commands import COMMANDS

__all__ = ["module_of", "parser_of"]


def module_of(name: str) -> ModuleType:
    """Return the module that declares and runs a command."""
    return importlib.import_module(f"ilvren.cli.{COMMANDS[name][0]}")


def parser_of(name: str) -> Parser:
    """Return the parser of a command's arguments, with its summary and examples."""
    module, summary = module_of(name), COMMANDS[name][1]
    parser = Parser(prog=f"ilvren {name}", description=summary[:1].upper() + summary[1:] + ".", epilog=module.EXAMPLES)
    module.add_arguments(parser)
    return parser
