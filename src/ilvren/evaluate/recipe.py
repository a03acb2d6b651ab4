"""What another process needs to build a problem again."""

from __future__ import annotations

import contextlib
from collections.abc import Mapping
from dataclasses import field
from pathlib import Path
from typing import Any

from ilvren.errors import RequestError
from ilvren.models.program import warden
from ilvren.problem import Aim, Problem, Refinement, fronted, loads
from ilvren.records import dataclass
from ilvren.regular import regular_bytes

__all__ = ["Recipe"]

# Files of programs that are sent to another machine, in bytes.
MOST_SHIPPED = 200_000_000


@dataclass(frozen=True, kw_only=True)
class Recipe:
    """A problem as text, with the overrides and the `files` it names; `derivatives` names the source its models are
    differentiated by, one for each; `aim` what was made of its objectives; `shipped` {name: (mode, content)} of the
    files that programs are given; `is_fronted`: its several objectives are rows (`problem.fronts`)."""

    text: str
    file: str
    set: Mapping[str, Any]
    start: Mapping[str, Any]
    files: Mapping[str, str]
    derivatives: tuple[str, ...]
    is_sparse: bool
    aim: Mapping[str, Any]
    shipped: Mapping[str, tuple[int, bytes]] = field(default_factory=dict)
    refinement: Mapping[str, Any] = field(default_factory=dict)
    is_fronted: bool = False

    @classmethod
    def of(cls, problem: Problem, *, is_sparse: bool, ships: bool = False) -> Recipe:
        """Return the recipe of a problem; with `ships` it carries the files that programs are given. Raises
        RequestError for one whose models may not be run."""
        if problem.refusal:
            raise RequestError(problem.refusal, advice="look at what it is, and add --trust to run it")
        return cls(
            text=problem.source.text,
            file=str(Path(problem.source.file).resolve()),
            set=dict(problem.overrides),
            start=dict(problem.start_overrides),
            files=problem.stored_texts,
            derivatives=tuple(source.derivatives for source in problem.sources),
            is_sparse=is_sparse,
            aim=problem.aim.to_dict(),
            shipped=_shipped(problem) if ships else {},
            refinement=problem.refinement.to_dict(),
            is_fronted=any(block.is_objective for block in problem.row_blocks),
        )

    def problem(self) -> Problem:
        """Build the problem. Where this machine has not its models' files, they are laid out in a temporary folder."""
        built = self._built(self.file)
        if not all(source.is_here() for source in built.sources):
            folder = warden().folder()  # gone with this process
            for name, text in self.files.items():
                path = (folder / name).resolve()
                if folder.resolve() in path.parents:
                    path.parent.mkdir(parents=True, exist_ok=True)
                    with contextlib.suppress(OSError):
                        path.write_text(text, encoding="utf-8")
            for name, (mode, content) in self.shipped.items():
                path = (folder / name).resolve()
                if folder.resolve() in path.parents:
                    path.parent.mkdir(parents=True, exist_ok=True)
                    path.write_bytes(content)
                    path.chmod(mode)
            built = self._built(str(folder / Path(self.file).name))
        return built

    def _built(self, file: str) -> Problem:
        aim = Aim.from_dict(self.aim)
        finer = Refinement.from_dict(self.refinement)
        built = loads(self.text, file=file, set=self.set, start=self.start, files=self.files, aim=aim, refinement=finer)
        return fronted(built) if self.is_fronted else built


def _shipped(problem: Problem) -> dict[str, tuple[int, bytes]]:
    """Return {name: (mode, content)} of the files of programs. Raises RequestError where they are too large to send."""
    from ilvren.models import ProgramSource

    found: dict[str, tuple[int, bytes]] = {}
    total = 0
    for source in problem.sources:
        if not isinstance(source, ProgramSource):
            continue
        for name in (*source.files, *source.links):
            path = source.base / name
            files = [own for own in path.rglob("*") if own.is_file()] if path.is_dir() else [path]
            for own in files:
                label = str(Path(name) / own.relative_to(path)) if path.is_dir() else name
                total += own.stat().st_size
                if total > MOST_SHIPPED:
                    raise RequestError(
                        f"the files of model {source.name} are larger than {MOST_SHIPPED // 10**6} MB together",
                        advice="lay them out on the cluster's machines, at the same path",
                    )
                found[label] = (own.stat().st_mode & 0o777, regular_bytes(own))
    return found
