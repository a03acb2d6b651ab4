"""A page on an approximation: one curve for every output over an input of choice, and a slider for every other input.

The page evaluates the surfaces itself, by the formulas of `approximate.surface`; it needs no other file.
"""

from __future__ import annotations

import json
from pathlib import Path
from typing import TYPE_CHECKING, Any

from jinja2 import Environment, PackageLoader, select_autoescape

if TYPE_CHECKING:
    from ilvren.problem import Problem

__all__ = ["write_sliders"]


def write_sliders(problem: Problem, name: str, document: str, path: str) -> None:
    """Write the page to `path`."""
    environment = Environment(
        loader=PackageLoader("ilvren.draw", "approximation"), autoescape=select_autoescape(["j2"])
    )
    page = environment.get_template("sliders.html.j2").render(
        title=problem.title or problem.source.file, name=name, data=_data(problem, document)
    )
    Path(path).write_text(page, encoding="utf-8")


def _data(problem: Problem, document: str) -> str:
    """Return what the page needs, as JSON that may stand in a script."""
    given: Any = json.loads(document)
    starts = {variable.name: value for variable, value in zip(problem.variables, problem.baseline, strict=True)}
    groups = []
    for group in given["groups"]:
        inputs = [
            {**item, "start": min(max(starts.get(item["name"], middle(item)), item["lower"]), item["upper"])}
            for item in group["inputs"]
        ]
        outputs = [
            {
                "name": f"{group['model']}.{name}" if group["model"] else name,
                "unit": own["unit"],
                "surface": own["surface"],
                "error": own["error"],
                "deviation": own["deviation"],
            }
            for name, own in group["outputs"].items()
        ]
        groups.append({"inputs": inputs, "outputs": outputs})
    return json.dumps(groups).replace("<", "\\u003c")


def middle(item: dict[str, Any]) -> float:
    """Return the middle of an input's region."""
    return 0.5 * (float(item["lower"]) + float(item["upper"]))
