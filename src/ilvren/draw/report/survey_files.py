"""A report on samples and approximations, written: one HTML page with its pictures inside, or Markdown beside PNG
files."""

from __future__ import annotations

import base64
from collections.abc import Iterator
from pathlib import Path
from typing import TYPE_CHECKING

from ilvren.draw.report.page import rendered
from ilvren.draw.report.text import problem_lines, section_lines
from ilvren.printable import markdown_lines
from ilvren.version import __version__

if TYPE_CHECKING:
    from ilvren.draw.report.surveys import Survey

__all__ = ["write_survey"]


def write_survey(survey: Survey, path: str) -> None:
    """Write the report to `path` (.html or .md); pictures of Markdown go beside it, as NAME-1.png and so on."""
    target = Path(path)
    if target.suffix.lower() == ".html":
        text = rendered(
            "survey.html.j2",
            survey=survey,
            problem=survey.problem,
            objective=survey.problem.objective,
            version=__version__,
            encoded=lambda data: base64.b64encode(data).decode("ascii"),
        )
        target.write_text(text, encoding="utf-8")
        return
    target.write_text("\n".join(markdown_lines(_lines(survey, target))) + "\n", encoding="utf-8")


def _lines(survey: Survey, target: Path) -> Iterator[str]:
    yield f"# {survey.title}"
    yield ""
    yield f"{survey.subtitle} by Ilvren {__version__}"
    yield ""
    for sentence in survey.summary:
        yield f"- {sentence}"
    yield from problem_lines(survey.problem)
    yield from section_lines(survey.sections, target)
    yield from ("", "## Do it again", "", "```sh", *survey.commands, "```")
