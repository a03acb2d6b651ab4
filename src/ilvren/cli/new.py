"""`ilvren new`: write a commented starter problem that runs as it is."""

from __future__ import annotations

import argparse
import shlex
from pathlib import Path
from typing import TYPE_CHECKING

from ilvren.cli import status
from ilvren.cli.arguments import add_output_flags
from ilvren.errors import RequestError

if TYPE_CHECKING:
    from ilvren.cli.terminal import Terminal

EXAMPLES = """examples:
  ilvren new tank.toml
  ilvren new tank.toml && ilvren run tank.toml --method sqp
"""

STARTER = """# A problem for Ilvren. It runs as it is: change it line by line into your own.
# Look:  ilvren show {file}       Run:  ilvren run {file} --method sqp       Judge:  ilvren verify last

title = "Open settling tank"
about = "Diameter and depth of a cylindrical tank: least sheet for the volume asked for."

# What may change. A bound left out is none; without "start" the middle of the two bounds is taken.
[variables]
diameter = {{ start = 3.0, lower = 0.5, upper = 8.0, unit = "m" }}
depth    = {{ start = 1.0, lower = 0.5, upper = 4.0, unit = "m" }}

# What is fixed. `--set volume=25` replaces a value for one run.
[parameters]
volume = {{ value = 20.0, unit = "m^3", about = "that must settle at a time" }}
sheet  = {{ value = 38.0, unit = "EUR/m^2" }}

# Named steps on the way, in any order. Known: + - * / ^, sqrt exp log sin …, min max, where(condition, a, b), pi.
[derived]
floor = {{ formula = "pi / 4 * diameter^2", unit = "m^2" }}
side  = {{ formula = "pi * diameter * depth", unit = "m^2" }}

# One objective: [minimize] or [maximize]. With none, a run looks for any design that meets the constraints.
[minimize]
cost = {{ formula = "sheet * (floor + side)", unit = "EUR" }}

# Limits: "<=", ">=", "==" or a band such as "0.3 <= depth / diameter <= 0.8".
[constraints]
holds = {{ formula = "floor * depth >= volume", unit = "m^3" }}
slim  = "depth / diameter <= 0.45"
"""


def add_arguments(parser: argparse.ArgumentParser) -> None:
    """Declare the flags."""
    parser.add_argument("file", metavar="FILE", help="the file to write; an existing one is never overwritten")
    add_output_flags(parser, json=False)


def execute(arguments: argparse.Namespace, terminal: Terminal) -> int:
    """Run the command and return its exit status. Raises InputError for what a user can mend."""
    path = Path(arguments.file)
    if not path.parent.is_dir():
        raise RequestError(f"the folder {path.parent} does not exist", file=str(path))
    try:
        with path.open("x", encoding="utf-8") as file:
            file.write(STARTER.format(file=arguments.file))
    except FileExistsError:
        raise RequestError(
            "exists already, and is left as it is", file=str(path), advice="choose another name"
        ) from None
    terminal.show(f"{path}: a starter problem, ready to run", f"next: ilvren show {shlex.quote(str(path))}")
    return status.HOLDS
