"""Limits over time: rows at every moment of the grid; and limits on measures that mean the same."""

from __future__ import annotations

from dataclasses import replace
from typing import TYPE_CHECKING, cast

import numpy as np

from ilvren.errors import FormulaError
from ilvren.formula import Call, ShapeMismatch, joint_shape, shape_text
from ilvren.problem.compared_rows import compared
from ilvren.problem.template_parts import RowTemplate
from ilvren.problem.time_functions import axis_of_call, first_value, worked_out

if TYPE_CHECKING:
    from ilvren.formula import Limits, Node
    from ilvren.problem.entries import EntryDeclaration
    from ilvren.problem.over_time import Axis, Moments
    from ilvren.problem.template import Template

__all__ = ["rows_over_time"]


def rows_over_time(template: Template, entry: EntryDeclaration, limits: Limits) -> list[RowTemplate] | None:
    """Return the rows of a limit that holds at every moment; None of one that is about numbers. Raises ProblemError."""
    try:
        found = _measured(template, entry, limits)
        if found is not None:
            return found
        axes = {id(axis): axis for side in limits.sides if (axis := template.is_over_time(side)) is not None}
        if not axes:
            return None
        if len(axes) > 1:
            raise template.complaint(entry, "a limit on things of different cases", None)
        return _pathwise(template, entry, limits, cast("Axis", next(iter(axes.values()))))
    except FormulaError as error:
        template.fail_at(entry, error)


def _pathwise(template: Template, entry: EntryDeclaration, limits: Limits, axis: Axis) -> list[RowTemplate]:
    nodes = [axis.moment(entry, side) for side in limits.sides]
    shape: tuple[int, ...] = ()
    try:
        for node in nodes:
            shape = joint_shape(shape, axis.graph.shape(node))
    except ShapeMismatch as error:
        one, two = map(shape_text, error.shapes)
        template.fail(entry, f"the sides have different shapes: {one} and {two}")
    if "==" in limits.operators:
        refusal = axis.refuse_equation(nodes)
        if refusal:
            template.fail(entry, refusal, advice='form = "pointwise" in [controls] for what the equation gives')
    moments = axis.row_moments(nodes, is_equation="==" in limits.operators)

    def lowered(side: Node) -> int:
        return axis.spread(axis.graph.stretched(axis.moment(entry, side), shape), moments)

    return [_timed(row, moments) for row in compared(template, entry, limits, lowered)]


def _timed(row: RowTemplate, moments: Moments, measure: int | None = None) -> RowTemplate:
    # Only a moment that is there twice is told by its side.
    taus = np.array(moments.taus)
    twice = np.concatenate([taus[:-1] == taus[1:], [False]]) if len(taus) else np.zeros(0, dtype=bool)
    left = tuple(bool(flag) for flag in twice)
    return replace(row, times=moments.times, is_left=left, measure=measure)


def _measured(template: Template, entry: EntryDeclaration, limits: Limits) -> list[RowTemplate] | None:
    """Return the rows of a limit on a measure that is the same as a limit at every moment (or from some moment on);
    None for any other."""
    if len(limits.sides) != 2 or limits.operators[0] == "==":
        return None
    for place in (0, 1):
        call = limits.sides[place]
        if isinstance(call, Call) and call.function in ("highest", "lowest", "overshoot", "settling_time"):
            other = limits.sides[1 - place]
            is_most = (limits.operators[0] == "<=") == (place == 0)
            if template.is_over_time(other) is not None:
                return None
            if is_most == (call.function == "lowest"):
                return None
            return _every_moment(template, entry, call, other)
    return None


def _every_moment(template: Template, entry: EntryDeclaration, call: Call, other: Node) -> list[RowTemplate] | None:
    axis = axis_of_call(template, entry, call)
    graph = template.graph
    limit = template.lower_entry(entry, other)
    if graph.shape(limit):
        return None
    measure = worked_out(template, entry, call)
    node = axis.moment(entry, call.arguments[0])
    if axis.graph.shape(node):
        return None
    if call.function == "settling_time":
        return _settled(template, entry, call, axis, node, limit, measure)
    if call.function == "overshoot":
        target = template.lower_entry(entry, call.arguments[1])
        node = axis.measures().overshoot_signal(node, target, first_value(template, axis, node))
    moments = axis.row_moments([node], is_equation=False)
    told = axis.spread(node, moments)
    is_least = call.function == "lowest"
    if template.depends(limit):
        value, edge = graph.apply("sub", told, limit), graph.constant(0.0)
    else:
        value, edge = told, limit
    row = RowTemplate(
        entry=entry,
        name=entry.name,
        node=value,
        lower=edge if is_least else None,
        upper=None if is_least else edge,
        terms=(told,),
    )
    return [_timed(row, moments, measure)]


def _settled(
    template: Template, entry: EntryDeclaration, call: Call, axis: Axis, node: int, limit: int, measure: int
) -> list[RowTemplate] | None:
    """Within the band from a moment on."""
    graph = template.graph
    target, band = (template.lower_entry(entry, argument) for argument in call.arguments[1:])
    if template.depends(limit) or template.depends(band) or axis.horizon.is_free_end:
        return None
    share = float(template.number(entry, limit, template.values, "a limit")) / axis.horizon.duration_value
    if not 0.0 <= share < 1.0:
        return None
    axis.structural.append(limit)
    taus = np.unique(np.concatenate([[share], axis.taus[axis.taus > share]]))
    moments = axis.fixed_moments(("settled", limit, axis.jumps_at_ends(node)), taus, taus >= 1.0)
    off = graph.apply("sub", axis.spread(node, moments), target)
    row = RowTemplate(entry=entry, name=entry.name, node=off, lower=graph.apply("neg", band), upper=band, terms=(off,))
    return [_timed(row, moments, measure)]
