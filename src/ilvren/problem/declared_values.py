"""What a declaration gives: overrides as numbers, lists with the formulas in them, shapes; its line in the file."""

from __future__ import annotations

from collections.abc import Iterable, Iterator, Mapping
from typing import TYPE_CHECKING, Any, NoReturn

import numpy as np

from ilvren.errors import ProblemError, RequestError, nearest
from ilvren.formula import (
    Shape,
)
from ilvren.problem.entries import (
    Declarations,
    EntryDeclaration,
    Value,
    formula_text,
)

if TYPE_CHECKING:
    pass

__all__ = ["checked_override", "flat", "formulas_in", "line_of", "listed", "refuse", "texts_in"]


def line_of(declarations: Declarations, entry: EntryDeclaration) -> int | None:
    """Return the line of an entry's formula, where it was found."""
    path = (entry.written_in or entry.section, *entry.name.partition("@")[0].split("."))
    return declarations.source.line(*path, "formula") or declarations.source.line(*path)


def refuse(declarations: Declarations, entry: EntryDeclaration, message: str, **facts: object) -> NoReturn:
    """Raise ProblemError about an entry; its formula is the text unless `facts` say otherwise."""
    facts.setdefault("text", formula_text(entry.formula))
    raise ProblemError(
        message,
        file=declarations.source.file,
        line=line_of(declarations, entry),
        where=entry.path,
        **facts,  # type: ignore[arg-type]
    )


def checked_override(flag: str, name: str, value: object, known: Mapping[str, Any], what: str) -> Any:
    """Return an override as a float or an array. Raises RequestError for an unknown name or no finite number."""
    if name not in known:
        close = nearest(name, known)
        advice = f'did you mean "{close}"?' if close else f"the file's {what}s: " + listed(known)
        raise RequestError(f'{flag} {name}=…: the file has no {what} "{name}"', advice=advice)
    try:
        number = np.asarray(value, dtype=float)
    except (TypeError, ValueError):
        raise RequestError(f"{flag} {name}={value}: a number, or a list of numbers, is expected") from None
    if not np.isfinite(number).all() or not number.size:
        raise RequestError(f"{flag} {name}={value}: finite numbers are expected")
    if number.ndim > 2:
        raise RequestError(f"{flag} {name}: more than two levels of lists")
    return number if number.ndim else float(number)


def listed(names: Iterable[str], most: int = 12) -> str:
    """Return names for a message, the first few of many."""
    words = list(names)
    if not words:
        return "none"
    return ", ".join(words[:most]) + (", …" if len(words) > most else "")


def is_list(entry: EntryDeclaration) -> bool:
    """Return whether an entry gives a list."""
    return isinstance(entry.formula, tuple)


def flat(value: Value) -> Iterator[Value]:
    """Yield the items of nested lists."""
    if isinstance(value, tuple):
        for item in value:
            yield from flat(item)
    else:
        yield value


def texts_in(value: Value | None) -> list[str]:
    """Return the formulas in a value, or in its lists."""
    return [] if value is None else [item for item in flat(value) if isinstance(item, str)]


def formulas_in(entry: EntryDeclaration) -> list[EntryDeclaration]:
    """Return the formulas of an entry that is a list, each as an entry."""
    return [EntryDeclaration(entry.section, entry.name, text) for text in texts_in(entry.formula)]


def list_shape(value: Value) -> Shape | None:
    """Return the shape of a nested list, or None when its lines differ. Return the shape of a list of numbers or of
    lists, None where its lines differ."""
    if not isinstance(value, tuple):
        return ()
    inner = {list_shape(item) for item in value}
    if len(inner) > 1 or None in inner:
        return None
    rest = inner.pop() if inner else ()
    assert rest is not None
    return (len(value), *rest)
