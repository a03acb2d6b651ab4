"""`ilvren demo`: copy a demo into a folder and run a whole example, explaining every step."""

from __future__ import annotations

import argparse
import contextlib
import os
import shlex
import time
from collections.abc import Iterator
from importlib import resources
from pathlib import Path
from typing import TYPE_CHECKING

from ilvren.cli import status
from ilvren.cli.arguments import add_output_flags
from ilvren.cli.demo_tours import TOURS
from ilvren.errors import RequestError, nearest

if TYPE_CHECKING:
    from ilvren.cli.terminal import Terminal

EXAMPLES = """examples:
  ilvren demo
  ilvren demo --list
  ilvren demo trench --into my-look
"""


def add_arguments(parser: argparse.ArgumentParser) -> None:
    """Declare the flags."""
    known = f"one of {', '.join(TOURS)} (rising-main)"
    parser.add_argument("name", metavar="NAME", nargs="?", default="rising-main", help=known)
    parser.add_argument("--list", action="store_true", help="list the demos: what each decides, and what it shows")
    parser.add_argument("--into", metavar="FOLDER", help="the folder to make (default: the demo's name)")
    add_output_flags(parser, json=False)


def execute(arguments: argparse.Namespace, terminal: Terminal) -> int:
    """Run the command and return its exit status. Raises InputError for what a user can mend."""
    if arguments.list:
        from ilvren.cli.tables.table import table

        terminal.show(
            table(("demo", "what is decided", "what it shows"), [(n, t.decides, t.shows) for n, t in TOURS.items()])
        )
        terminal.show("`ilvren demo NAME` copies one into a folder and walks through it")
        return status.HOLDS
    name = arguments.name
    if name not in TOURS:
        close = nearest(name, TOURS)
        raise RequestError(
            f'no demo "{name}"', advice=f'did you mean "{close}"?' if close else "demos: " + ", ".join(TOURS)
        )
    folder = Path(arguments.into or name)
    if folder.exists() and (not folder.is_dir() or any(folder.iterdir())):
        raise RequestError(
            "exists already, and is left as it is", file=str(folder), advice="name another folder with --into FOLDER"
        )
    if not folder.parent.is_dir():
        raise RequestError(f"the folder {folder.parent} does not exist", file=str(folder))
    folder.mkdir(exist_ok=True)
    for source in resources.files("ilvren.demos").joinpath(TOURS[name].folder).iterdir():
        if source.is_file():
            content = source.read_bytes()
            (folder / source.name).write_bytes(content)
            if content.startswith(b"#!"):  # an archive may have lost that it is a program
                (folder / source.name).chmod(0o755)
    terminal.show(f"{folder}: a copy of the demo {name}; every command below can be typed there by hand")
    began = time.monotonic()
    with _inside(folder):
        result = _walk(name, terminal)
    if result != status.HOLDS:
        return result
    terminal.show(
        "",
        f"That was all, in {time.monotonic() - began:.1f} s. Left in {folder}: the problem, the ledger, the figures.",
        f"Try next: cd {folder}; {TOURS[name].next}",
    )
    return result


def _walk(name: str, terminal: Terminal) -> int:
    from rich.text import Text

    from ilvren.cli.main import run_command

    for number, (why, command) in enumerate(TOURS[name].steps, start=1):
        terminal.show("", Text(f"{number}. {why}", style="bold"), Text(f"   $ ilvren {command}", style="cyan"), "")
        result = run_command(shlex.split(command), terminal)
        if result == status.DOES_NOT_HOLD and command in TOURS[name].answered_no:
            continue
        if result != status.HOLDS:
            return result
    return status.HOLDS


@contextlib.contextmanager
def _inside(folder: Path) -> Iterator[None]:
    """Work in `folder`, with its own ledger whatever the environment says."""
    before, ledger = Path.cwd(), os.environ.pop("ILVREN_LEDGER", None)
    os.chdir(folder)
    try:
        yield
    finally:
        os.chdir(before)
        if ledger is not None:
            os.environ["ILVREN_LEDGER"] = ledger
