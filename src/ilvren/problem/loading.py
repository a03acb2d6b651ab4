"""From a file or its text to a problem, in one call."""

from __future__ import annotations

from collections.abc import Mapping
from pathlib import Path

from ilvren.problem.binding import bind
from ilvren.problem.model import Given, Problem
from ilvren.problem.reader import read_file, read_text
from ilvren.problem.template import Template

__all__ = ["load", "loads"]


def load(
    path: str | Path,
    *,
    set: Mapping[str, Given] | None = None,
    start: Mapping[str, Given] | None = None,
) -> Problem:
    """Read a problem file and return the problem, ready to evaluate and run.

    `set` replaces values of parameters, `start` starts of variables; lists where these are vectors or matrices.
    Loading never runs anything. Raises ProblemError or FormulaError (the file), RequestError (`set`, `start`).
    """
    return bind(Template(read_file(path), set or {}), parameters=set or {}, starts=start or {})


def loads(
    text: str,
    *,
    file: str = "<text>",
    set: Mapping[str, Given] | None = None,
    start: Mapping[str, Given] | None = None,
    files: Mapping[str, str] | None = None,
) -> Problem:
    """Like `load`, from the text of a problem file; `file` is its name in messages, and its tables and models are
    looked for beside it. `files` gives the texts of table files instead, by the names the problem uses."""
    return bind(Template(read_text(text, file=file, files=files), set or {}), parameters=set or {}, starts=start or {})
