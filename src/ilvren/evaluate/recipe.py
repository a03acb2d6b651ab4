"""What another process needs to build a problem again."""

from __future__ import annotations

import contextlib
import tempfile
from collections.abc import Mapping
from dataclasses import dataclass
from pathlib import Path
from typing import Any

from ilvren.errors import RequestError
from ilvren.problem import Aim, Problem, loads

__all__ = ["Recipe"]


@dataclass(frozen=True)
class Recipe:
    """A problem as text, with the overrides and the `files` it names; `derivatives` names the source its models are
    differentiated by, one for each; `aim` what was made of its objectives."""

    text: str
    file: str
    set: Mapping[str, Any]
    start: Mapping[str, Any]
    files: Mapping[str, str]
    derivatives: tuple[str, ...]
    is_sparse: bool
    aim: Mapping[str, Any]

    @classmethod
    def of(cls, problem: Problem, *, is_sparse: bool) -> Recipe:
        """Return the recipe of a problem. Raises RequestError for one whose models may not be run."""
        if problem.refusal:
            raise RequestError(problem.refusal, advice="look at what it is, and add --trust to run it")
        return cls(
            problem.source.text,
            str(Path(problem.source.file).resolve()),
            dict(problem.overrides),
            dict(problem.start_overrides),
            problem.stored_texts,
            tuple(source.derivatives for source in problem.sources),
            is_sparse,
            problem.aim.to_dict(),
        )

    def problem(self) -> Problem:
        """Build the problem. Where this machine has not its models' files, they are laid out in a temporary folder."""
        built = self._built(self.file)
        if not all(source.is_here() for source in built.sources):
            folder = Path(tempfile.mkdtemp(prefix="ilvren-models-"))
            for name, text in self.files.items():
                path = (folder / name).resolve()
                if folder.resolve() in path.parents:
                    path.parent.mkdir(parents=True, exist_ok=True)
                    with contextlib.suppress(OSError):
                        path.write_text(text, encoding="utf-8")
            built = self._built(str(folder / Path(self.file).name))
        return built

    def _built(self, file: str) -> Problem:
        aim = Aim.from_dict(self.aim)
        return loads(self.text, file=file, set=self.set, start=self.start, files=self.files, aim=aim)
