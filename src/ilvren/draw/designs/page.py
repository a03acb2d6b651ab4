"""Designs as one self-contained HTML page: table, parallel coordinates and pairs that share one selection."""

from __future__ import annotations

import json
import math
from collections.abc import Sequence
from importlib.resources import files
from pathlib import Path
from typing import TYPE_CHECKING

from ilvren.draw.designs.figures import axes_of
from ilvren.version import __version__

if TYPE_CHECKING:
    from ilvren.explore import DesignTable

__all__ = ["write_designs_page"]

# Digits kept of each number: what a table shows, and a little more.
DIGITS = 9


def write_designs_page(table: DesignTable, path: str, names: Sequence[str]) -> None:
    """Write the page of some columns of the table to `path`."""
    from jinja2 import Environment
    from markupsafe import Markup

    problem = table.problem
    objective = table.objectives
    axes = axes_of(table, names)
    columns = {name: [_number(value) for value in table.column(name).tolist()] for name in names}
    missed = "violation" if "violation" not in names else "violation of limits"
    columns[missed] = [_number(design.violation) for design in table.designs]
    shown = [*names, missed]
    free = [problem.variables[place].name for place in problem.free if problem.variables[place].name in names]
    several = [name for name in objective if name in names] if len(objective) > 1 else []
    free = several or free
    pair = [*free, *objective, *shown][:2] if len(free) > 1 else [*free, *objective, *shown, missed][:2]
    data = {
        "names": list(names),
        "missed": missed,
        "columns": columns,
        "units": table.units,
        "axes": axes,
        "addresses": [design.address for design in table.designs],
        "ranks": [design.rank for design in table.designs],
        "trouble": [design.trouble for design in table.designs],
        "notes": [design.note for design in table.designs],
        "colour": next((name for name in objective if name in names), shown[0]),
        "pair": pair,
        "file": Path(problem.source.file).name,
    }
    listed = "one run" if len(table.runs) == 1 else f"{len(table.runs)} runs"
    runs = ", ".join(table.runs[:6]) + ("" if len(table.runs) <= 6 else f" … ({listed})")
    told = f"{len(table.designs):,} of {table.total:,}" if len(table.designs) < table.total else f"{table.total:,}"
    environment = Environment(autoescape=True, keep_trailing_newline=True)
    template = environment.from_string(files(__package__).joinpath("page.html.j2").read_text("utf-8"))
    # "</" would end the script that holds the data.
    text = json.dumps(data, separators=(",", ":")).replace("</", "<\\/")
    page = template.render(
        title=problem.title or problem.source.file, runs=runs, told=told, version=__version__, data=Markup(text)
    )
    Path(path).write_text(page, encoding="utf-8")


def _number(value: float) -> float | None:
    return float(f"{value:.{DIGITS}g}") if math.isfinite(value) else None
