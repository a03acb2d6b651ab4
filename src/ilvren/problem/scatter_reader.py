"""[scatter]: how variables and parameters scatter around their values, and how they do so together."""

from __future__ import annotations

import math
from collections.abc import Iterable
from dataclasses import replace
from typing import TYPE_CHECKING

from ilvren.errors import nearest
from ilvren.problem.entries import Declarations, ScatterDeclaration
from ilvren.scatter import LAWS

if TYPE_CHECKING:
    from ilvren.problem.document import Document

__all__ = ["read_scatter"]

TOGETHER = "together"
COMMON_KEYS = ("law", "relative", "common", "reach")


def read_scatter(reader: Document, found: Declarations) -> Declarations:
    """Return the declarations with what [scatter] says. Raises ProblemError."""
    section = reader.section("scatter")
    declared = tuple(_scattered(reader, found, name, own) for name, own in section.items() if name != TOGETHER)
    if not declared:
        reader.fail(("scatter",), "nothing scatters", 'write for example  wall = { law = "normal", deviation = 0.15 }')
    names = [item.name for item in declared]
    for item in declared:
        table = item.column.partition(".")[0]
        for case in found.cases:
            if item.name in case.set or (table and table in case.tables):
                told = f"{item.name} scatters, and the case {case.name} sets it"
                if table and table in case.tables:
                    told = f"{item.name} is drawn from {table}, and the case {case.name} gives it another file"
                advice = f"a factor of its own, such as {item.name}_factor = 1, can scatter in all cases"
                reader.fail(("scatter", item.name), told, advice)
    return replace(found, scatter=declared, together=_together(reader, section.get(TOGETHER, []), names))


def _scattered(reader: Document, found: Declarations, name: str, content: object) -> ScatterDeclaration:
    path = ("scatter", name)
    _check_scattered(reader, found, name)
    example = '{ law = "normal", deviation = 0.15 }'
    if not isinstance(content, dict):
        reader.fail(path, f"how {name} scatters is a table such as {example}")
    law = reader.word(path, content, "law")
    if law not in LAWS:
        close = nearest(law, LAWS)
        advice = f'did you mean "{close}"?' if close else "laws: " + ", ".join(LAWS)
        reader.fail((*path, "law"), f'no law "{law}"' if law else "needs a law", advice)
    widths = LAWS[law].widths
    known = (*COMMON_KEYS, *widths) if law != "data" else ("law", "common", "values")
    for key in content:
        if key not in known:
            told = f'"{key}" does not go with the law {law}'
            reader.fail((*path, key), told, _instead(key, known, law))
    for key in widths:
        if key not in content:
            reader.fail(path, f'the law {law} needs "{key}"')
    for key in ("relative", "common"):
        if not isinstance(content.get(key, False), bool):
            reader.fail((*path, key), f'"{key}" is true or false')
    if content.get("common") and "reach" in content:
        reader.fail((*path, "reach"), 'with "common" all places scatter alike: leave "reach" or "common" out')
    column = reader.word(path, content, "values") if law == "data" else ""
    given = {} if law == "data" else {key: reader.value((*path, key), content[key]) for key in widths}
    for key, value in given.items():
        if isinstance(value, tuple) or (isinstance(value, float) and not math.isfinite(value)):
            reader.fail((*path, key), f'"{key}" is a finite number, or a formula of parameters')
        low = key == "low"
        if isinstance(value, float) and (value > 0.0 if low else value < 0.0):
            side = "an offset from the value, from 0 down" if low else "a number from 0"
            reader.fail((*path, key), f"{key} = {value:g}: it is {side}")
    reach = None
    if "reach" in content:
        reach = reader.value((*path, "reach"), content["reach"])
        if isinstance(reach, tuple) or (isinstance(reach, float) and not 0.0 < reach < math.inf):
            reader.fail((*path, "reach"), '"reach" is a number of places above 0')
    return ScatterDeclaration(
        name, law, given, bool(content.get("relative")), bool(content.get("common")), reach, column
    )


def _instead(key: str, known: Iterable[str], law: str) -> str:
    if key in ("relative", "reach") and law == "data":
        return "its cells are drawn as they are"
    close = nearest(key, known)
    return f'did you mean "{close}"?' if close else "known: " + ", ".join(known)


def _check_scattered(reader: Document, found: Declarations, name: str) -> None:
    """Refuse what is no variable and no parameter."""
    path = ("scatter", name)
    variables = {item.name: item for item in found.variables}
    kinds: dict[str, str] = {}
    for what, items in (
        ("is given by others", found.derived),
        ("is an objective", found.objectives),
        ("is a constraint", found.constraints),
        ("is chosen over time: give what changes it, such as a factor, a name", found.controls),
        ("is a state: its initial value can be a variable or a parameter of its own", found.states),
        ("is a signal", found.signals),
        ("is a table: its column can be a parameter, and scatter", found.tables),
    ):
        kinds |= {item.name: what for item in items}
    if name in kinds:
        reader.fail(path, f"{name} {kinds[name]}; variables and parameters scatter")
    known = [*variables, *(item.name for item in found.parameters)]
    if name not in known:
        close = nearest(name, known)
        advice = f'did you mean "{close}"?' if close else "known: " + ", ".join(known)
        reader.fail(path, f'no variable and no parameter is named "{name}"', advice)
    if name in variables and variables[name].choices:
        reader.fail(path, f"{name} has words for values: they do not scatter")


def _together(reader: Document, content: object, names: list[str]) -> tuple[tuple[str, str, float], ...]:
    path = ("scatter", TOGETHER)
    example = '[["wall", "bore", 0.4]]'
    if not isinstance(content, list):
        reader.fail(path, f"is a list of two names and their rank correlation: {example}")
    found: list[tuple[str, str, float]] = []
    for item in content:
        if not isinstance(item, list) or len(item) != 3 or not all(isinstance(name, str) for name in item[:2]):
            reader.fail(path, f"two names and their rank correlation are expected: {example}")
        one, other, rank = item
        for name in (one, other):
            if name not in names:
                close = nearest(name, names)
                advice = f'did you mean "{close}"?' if close else "these do: " + ", ".join(names)
                reader.fail(path, f'"{name}" does not scatter', advice)
        if one == other:
            reader.fail(path, f'"{one}" is correlated with itself, as everything is')
        if isinstance(rank, bool) or not isinstance(rank, (int, float)) or not -1.0 <= rank <= 1.0:
            reader.fail(path, f"a rank correlation lies between -1 and 1, not {rank!r}")
        if any({one, other} == {a, b} for a, b, _ in found):
            reader.fail(path, f"{one} and {other} stand there twice")
        found.append((one, other, float(rank)))
    return tuple(found)
