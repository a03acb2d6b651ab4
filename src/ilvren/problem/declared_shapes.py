"""Shapes that declarations give: of variables, of outputs and states, of controls with their pieces."""

from __future__ import annotations

import math
from typing import TYPE_CHECKING

from ilvren.problem.declared_values import flat, list_shape
from ilvren.problem.entries import EntryDeclaration, Value, VariableDeclaration, formula_text

if TYPE_CHECKING:
    from ilvren.formula import Shape
    from ilvren.problem.template import Template

__all__ = ["piece_texts", "shape_of", "variable_shape"]

MOST_ELEMENTS = 50_000_000


def variable_shape(template: Template, variable: VariableDeclaration) -> Shape:
    """Return the shape that a variable's declaration gives it. Raises ProblemError."""
    entry = EntryDeclaration("variables", variable.name, formula_text(variable.shape or ""))
    if variable.shape == ("pieces",):
        return _control_shape(template, variable.name)
    if variable.shape is not None:
        return shape_of(template, entry, f"{variable.name}.shape", variable.shape)
    for given in (variable.start, variable.lower, variable.upper, variable.magnitude):
        if isinstance(given, tuple):
            shape = list_shape(given)
            if shape is None or len(shape) > 2:
                template.fail(entry, "a list that is neither a vector nor a matrix", text=None)
            return shape
    return ()


def shape_of(template: Template, entry: EntryDeclaration, path: str, given: Value) -> Shape:
    """Return the shape of a length, or of rows and columns. Raises ProblemError."""
    parts = given if isinstance(given, tuple) else (given,)
    if not 1 <= len(parts) <= 2:
        template.fail(entry, "a shape is a length, or [rows, columns]", text=None)
    lengths = []
    for part in parts:
        if isinstance(part, str):
            own = EntryDeclaration(entry.section, path, part)
            length = template.whole(template.lower_entry(own, template.parse(own)))
        else:
            is_whole = isinstance(part, (int, float)) and float(part).is_integer()
            length = int(part) if is_whole and isinstance(part, (int, float)) else None
        if length is None or length < 1:
            template.fail(
                entry, "a length must be a whole number from 1, known before any run", text=formula_text(part)
            )
        lengths.append(length)
    if math.prod(lengths) > MOST_ELEMENTS:
        template.fail(entry, f"{math.prod(lengths)} elements are more than this tool holds", text=formula_text(given))
    return tuple(lengths)


def piece_texts(template: Template, name: str) -> list[Value]:
    """Return what decides how many values a control has."""
    declared = next(item for item in template.declarations.controls if item.name == name)
    time = template.declarations.time
    assert time is not None
    given = declared.pieces if declared.pieces is not None else (time.steps or time.at)
    return [
        *flat(given if given is not None else 1.0),
        *flat(declared.shape if declared.shape is not None else 1.0),
    ]


def _control_shape(template: Template, name: str) -> Shape:
    """Return the shape of a control's variable: its pieces (values at their ends, of lines), then its own shape."""
    from ilvren.dynamics import MOST_STEPS
    from ilvren.problem.time_declarations import DEFAULT_STEPS

    declared = next(item for item in template.declarations.controls if item.name == name)
    time = template.declarations.time
    assert time is not None
    entry = EntryDeclaration("controls", name, "")
    if declared.pieces is not None:
        own = EntryDeclaration("controls", name, declared.pieces)
        pieces = template.whole(template.lower_entry(own, template.parse(own)))
    elif time.at is not None:
        own = EntryDeclaration("time", "at", time.at)
        pieces = template.graph.shape(template.lower_entry(own, template.parse(own)))[0] - 1
    elif time.steps is not None:
        own = EntryDeclaration("time", "steps", time.steps)
        pieces = template.whole(template.lower_entry(own, template.parse(own)))
    else:
        pieces = DEFAULT_STEPS
    if pieces is None or not 1 <= pieces <= MOST_STEPS:
        template.fail(
            entry, f"a whole number of pieces from 1 to {MOST_STEPS} is needed, known before any run", text=None
        )
    shape = () if declared.shape is None else shape_of(template, entry, f"{name}.shape", declared.shape)
    return (pieces + (declared.form != "constant"), *shape)
