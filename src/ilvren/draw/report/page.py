"""The report as one HTML page: style, script and figures inside, nothing fetched."""

from __future__ import annotations

import base64
import json
import math
from pathlib import Path
from typing import TYPE_CHECKING, Any

import numpy as np
from numpy.typing import NDArray

from ilvren.draw.report.mathematics import formula_markup, limits_markup
from ilvren.draw.report.numbers import number
from ilvren.draw.report.scatter import HEADS
from ilvren.draw.report.words import (
    active_note,
    active_rows,
    check_rows,
    design_rows,
    method_rows,
    quantity_rows,
    sentence,
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
COLORS = ("#00508c", "#d1690e", "#2c7a4b", "#8c2d8c", "#7a5c00", "#666666")
DASHES = ("solid", "dash", "dashdot", "dot", "longdash", "longdashdot")
GAP_FLOOR, VIOLATION_FLOOR = 1e-10, 1e-9
# Points of a history kept: beyond, what changes nothing visible is left out.
MOST_POINTS = 2000


def write_page(report: Report, path: str) -> None:
    """Write the page to `path`."""
    from plotly.offline import get_plotlyjs

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
        method_rows=method_rows(report),
        settings_rows=settings_rows(report),
        verdict_line=verdict_line,
        figure=_script_json(histories_figure(report)),
        plotly=get_plotlyjs(),
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


def _script_json(value: object) -> str:
    # "</" would end the script that holds it.
    return json.dumps(value, allow_nan=False).replace("</", "<\\/")


def _name(chapter: Chapter) -> str:
    return f"{chapter.track.name} {chapter.record.method}"


def histories_figure(report: Report) -> dict[str, Any]:
    """Return the interactive histories as the plotting library's own JSON: gap, violation and stationarity of every run
    against evaluations, on log scales."""
    comparison = report.comparison
    objective = report.problem.objective
    best = None if comparison.best is None or objective is None else comparison.best * objective.sign
    traces: list[dict[str, Any]] = []
    missed = any((chapter.track.iteration_violation > VIOLATION_FLOOR).any() for chapter in report.chapters)
    for number_, chapter in enumerate(report.chapters):
        track = chapter.track
        look: dict[str, Any] = {
            "color": COLORS[number_ % len(COLORS)],
            "dash": DASHES[number_ % len(DASHES)],
            "width": 2,
        }
        common: dict[str, Any] = {
            "type": "scatter",
            "name": _name(chapter),
            "legendgroup": str(number_),
            "meta": number_,
        }
        if best is not None:
            gap = (track.best_so_far() - best) / comparison.scale
            x, y = _points(
                track.evaluations, np.where(np.isfinite(gap), np.maximum(gap, GAP_FLOOR), np.nan), steps=True
            )
            line = {**look, "shape": "hv"}
            traces.append({**common, "x": x, "y": y, "line": line, "mode": "lines", "yaxis": "y", "showlegend": True})
        for axis, values in _iterates(track, missed=missed):
            x, y = _points(track.iteration_evaluations, values)
            mode = "lines+markers" if len(x) < 60 else "lines"
            own = {**common, "x": x, "y": y, "line": look, "marker": {"size": 5}, "mode": mode, "yaxis": axis}
            traces.append({**own, "showlegend": best is None and axis == "y3"})
    name = objective.name if objective is not None else "objective"
    log: dict[str, Any] = {"type": "log", "exponentformat": "power", "zeroline": False, "automargin": True}
    # Where nothing was ever missed there is nothing to show.
    tall, low = ((0.56, 1.0), (0.0, 0.25)) if missed else ((0.36, 1.0), (0.0, 0.3))
    layout: dict[str, Any] = {
        "height": 640 if missed else 540,
        "margin": {"l": 80, "r": 20, "t": 20, "b": 60},
        "hovermode": "x unified",
        "legend": {"orientation": "h", "y": 1.06},
        "xaxis": {"title": {"text": "evaluations"}, "anchor": "y3", "zeroline": False},
        "yaxis": {**log, "domain": tall, "title": {"text": f"gap of {name}"}},
        "yaxis3": {**log, "domain": low, "title": {"text": "stationarity"}},
    }
    if missed:
        layout["yaxis2"] = {**log, "domain": (0.29, 0.52), "title": {"text": "violation"}}
    return {"data": traces, "layout": layout}


def _iterates(track: Track, *, missed: bool) -> list[tuple[str, FloatArray]]:
    violation = [("y2", np.maximum(track.iteration_violation, VIOLATION_FLOOR))] if missed else []
    return [*violation, ("y3", np.where(track.iteration_stationarity > 0.0, track.iteration_stationarity, np.nan))]


def _points(x: FloatArray, y: FloatArray, *, steps: bool = False) -> tuple[list[float], list[float | None]]:
    """Return a line without what is not finite, thinned where it is long; of steps only the changes are kept."""
    shown = np.isfinite(y) & np.isfinite(x)
    x, y = x[shown], y[shown]
    if steps and len(y) > 2:
        changes = np.concatenate([[True], y[1:] != y[:-1]])
        changes[-1] = True
        x, y = x[changes], y[changes]
    if len(x) > MOST_POINTS:
        places = np.unique(np.linspace(0, len(x) - 1, MOST_POINTS).astype(int))
        x, y = x[places], y[places]
    return x.tolist(), [None if math.isnan(value) else value for value in y.tolist()]
