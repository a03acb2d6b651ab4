"""The report as one HTML page: style, script and figures inside, nothing fetched."""

from __future__ import annotations

import base64
import json
from pathlib import Path
from typing import TYPE_CHECKING, Any

import numpy as np
from numpy.typing import NDArray

from ilvren.draw.report.mathematics import formula_markup, limits_markup
from ilvren.draw.report.numbers import number
from ilvren.draw.report.scatter import HEADS
from ilvren.draw.report.section import sentence
from ilvren.draw.report.words import (
    active_note,
    active_rows,
    check_rows,
    design_rows,
    left_out,
    method_rows,
    quantity_rows,
    settings_rows,
    verdict_line,
)
from ilvren.judge import MEANINGS
from ilvren.version import __version__

if TYPE_CHECKING:
    from ilvren.draw.report.content import Chapter, Report
    from ilvren.judge import Track

__all__ = ["histories_figure", "rendered", "write_page"]

FloatArray = NDArray[np.float64]

# Colours that differ in lightness, so that they are told apart in print and by everyone; dashes beside.
# On light ground, on dark ground.
COLORS = (
    ("#00508c", "#6db6f5"),
    ("#d1690e", "#ffa95e"),
    ("#2c7a4b", "#74d39a"),
    ("#8c2d8c", "#e29be2"),
    ("#7a5c00", "#e3c15a"),
    ("#666666", "#c4c4c4"),
)
DASHES = ((), (8, 4), (8, 4, 2, 4), (2, 4), (14, 5), (14, 5, 2, 5))
GAP_FLOOR, VIOLATION_FLOOR = 1e-10, 1e-9
# Points kept of one line, of all lines of a panel together, and of a line at least.
MOST_POINTS, MOST_TOGETHER, LEAST_POINTS = 2000, 20_000, 60
# Fewer iterates than this are marked one by one.
FEW_POINTS = 60


def write_page(report: Report, path: str) -> None:
    """Write the page to `path`."""
    text = rendered(
        "page.html.j2",
        report=report,
        version=__version__,
        scatter_heads=HEADS,
        encoded=lambda data: base64.b64encode(data).decode("ascii"),
        meanings=MEANINGS,
        number=number,
        sentence=sentence,
        check_rows=check_rows,
        active_rows=active_rows,
        active_note=active_note,
        design_rows=design_rows(report),
        quantity_rows=quantity_rows(report),
        left_out=left_out(report),
        method_rows=method_rows(report),
        settings_rows=settings_rows(report),
        verdict_line=verdict_line,
        figure=_script_json(histories_figure(report)),
        script=_script(),
    )
    Path(path).write_text(text, encoding="utf-8")


def rendered(template: str, **values: Any) -> str:
    """Return a page of this folder with values in place."""
    from jinja2 import Environment, PackageLoader

    environment = Environment(
        loader=PackageLoader("ilvren.draw", "report"),
        autoescape=True,
        trim_blocks=True,
        lstrip_blocks=True,
        keep_trailing_newline=True,
    )
    markup = {"formula": _safe(formula_markup), "limits": _safe(limits_markup), "parameter": _parameter}
    return environment.get_template(template).render(**markup, **values)


def _parameter(value: Any) -> str:
    return number(float(value)) if np.ndim(value) == 0 else f"{np.size(value)} values"


def _safe(function: Any) -> Any:
    from markupsafe import Markup

    # The markup's texts are escaped where they are written.
    return lambda text: Markup(function(text))


def _script() -> str:
    from importlib.resources import files

    return files("ilvren.draw").joinpath("report", "histories.js").read_text(encoding="utf-8")


def _script_json(value: object) -> str:
    # "</" would end the script that holds it.
    return json.dumps(value, allow_nan=False).replace("</", "<\\/")


def _name(chapter: Chapter) -> str:
    return f"{chapter.track.name} {chapter.record.method}"


def histories_figure(report: Report) -> dict[str, Any]:
    """Return what `histories.js` draws: gap, violation and stationarity of every run against evaluations.

    `along` is what the axis counts, `height` in pixels; `panels` have a title, the least value told and a share of the
    height; `lines` have a run, a name, a panel, `x` and `y` (positive), dashes, may go in steps and have marks,
    and colours on light and on dark ground.
    """
    comparison = report.comparison
    objective = report.problem.objective
    gap_of = None if comparison.best is None or objective is None else f"gap of {objective.name}"
    missed = any((chapter.track.iteration_violation > VIOLATION_FLOOR).any() for chapter in report.chapters)
    # Title, floor, share of the height. Where nothing was ever missed there is nothing to show.
    panels = [(gap_of, GAP_FLOOR, 2.0)] if gap_of else []
    panels += [("violation", VIOLATION_FLOOR, 1.0)] if missed else []
    panels += [("stationarity", 0.0, 1.0)]
    titles = [title for title, _, _ in panels]
    most = min(MOST_POINTS, max(LEAST_POINTS, MOST_TOGETHER // max(len(report.chapters), 1)))
    lines: list[dict[str, Any]] = []
    for place, chapter in enumerate(report.chapters):
        track = chapter.track
        look = {
            "run": place,
            "name": _name(chapter),
            "colors": COLORS[place % len(COLORS)],
            "dashes": DASHES[place % len(DASHES)],
        }
        if comparison.best is not None and objective is not None:
            best = comparison.best * objective.sign
            gap = (track.best_so_far() - best) / comparison.scale
            shown = np.where(np.isfinite(gap), np.maximum(gap, GAP_FLOOR), np.nan)
            x, y = _points(track.evaluations, shown, most, steps=True)
            lines.append({**look, "panel": 0, "x": x, "y": y, "steps": True, "marks": False})
        for title, values in _iterates(track, missed=missed):
            x, y = _points(track.iteration_evaluations, values, most)
            own = {"panel": titles.index(title), "x": x, "y": y, "steps": False, "marks": len(x) < FEW_POINTS}
            if x:
                lines.append({**look, **own})
    told = [{"title": title, "floor": floor, "share": share} for title, floor, share in panels]
    return {"along": "evaluations", "height": 120 + 180 * len(told), "panels": told, "lines": lines}


def _iterates(track: Track, *, missed: bool) -> list[tuple[str, FloatArray]]:
    violation = [("violation", np.maximum(track.iteration_violation, VIOLATION_FLOOR))] if missed else []
    return [
        *violation,
        ("stationarity", np.where(track.iteration_stationarity > 0.0, track.iteration_stationarity, np.nan)),
    ]


def _points(x: FloatArray, y: FloatArray, most: int, *, steps: bool = False) -> tuple[list[float], list[float]]:
    """Return a line without what is not finite, of at most about `most` points: of steps the changes, of others the
    lowest and the highest of each stretch, so that no peak is lost."""
    shown = np.isfinite(y) & np.isfinite(x)
    x, y = x[shown], y[shown]
    if steps and len(y) > 2:
        changes = np.concatenate([[True], y[1:] != y[:-1]])
        changes[-1] = True
        x, y = x[changes], y[changes]
    if len(x) > most:
        stretches = np.array_split(np.arange(1, len(x) - 1), max(most // 2, 1))
        ends = [place for part in stretches if len(part) for place in (part[y[part].argmin()], part[y[part].argmax()])]
        places = np.unique([0, *ends, len(x) - 1])
        x, y = x[places], y[places]
    # Five digits are finer than a pixel.
    return x.tolist(), [float(f"{value:.5g}") for value in y.tolist()]
