"""Functions of time in formulas: first, last, at, integral, average, highest, lowest, moves, and measures of
answers."""

from __future__ import annotations

from collections.abc import Callable, Sequence
from typing import TYPE_CHECKING, cast

from ilvren.formula import TIME_FUNCTIONS, Call, Name, Node, rebuilt, shape_text, shaping
from ilvren.problem.template_parts import Measure, MeasuredCall

if TYPE_CHECKING:
    from ilvren.problem.entries import EntryDeclaration
    from ilvren.problem.over_time import Axis
    from ilvren.problem.template import Template
    from ilvren.problem.time_measures import Measures

__all__ = ["axis_of_call", "measured", "moved", "without_time", "worked_out"]


def axis_of_call(template: Template, entry: EntryDeclaration, call: Call) -> Axis:
    """Return the axis that a function of time is about. Raises FormulaError."""
    found = [axis for axis in template.axes if axis.takes(call)]
    if len(found) == 1:
        return cast("Axis", found[0])
    if found:
        raise template.complaint(entry, f'"{call.function}" of things of different cases', call)
    raise template.complaint(
        entry, f'"{call.function}" is a function of what changes over time, and this does not', call.arguments[0],
        "states, controls, signals, t, and formulas of them change over time",
    )  # fmt: skip


def worked_out(template: Template, entry: EntryDeclaration, call: Call) -> int:
    """Return the problem's node of a function of time. Raises FormulaError, ProblemError."""
    axis = axis_of_call(template, entry, call)
    if not axis.is_built:
        raise template.complaint(entry, f'"{call.function}" is known when all has evolved, and cannot say how', call)
    if call.function == "moves":
        return moved(template, axis, entry, call)
    if call.function == "delayed":
        raise template.complaint(entry, "a delayed value changes over time; here one number is needed", call,
                                 "last(delayed(…)), integral(delayed(…)) and others make one of it")  # fmt: skip
    graph = template.graph
    if call.function in ("integral", "average"):
        total = axis.integral(entry, call.arguments[0])
        return total if call.function == "integral" else graph.apply("div", total, axis.horizon.duration)
    node = axis.moment(entry, call.arguments[0])
    own = tuple((0, n, 1) for n in axis.graph.shape(node))
    if call.function in ("first", "last"):
        told = axis.spread(node, axis.ends[call.function == "last"])
        return shaping.index(graph, told, (0, *own))
    if call.function == "at":
        moments = axis.at_moments(entry, call)
        told = axis.spread(node, moments)
        is_vector = bool(graph.shape(template.lower_entry(entry, call.arguments[1])))
        return told if is_vector else shaping.index(graph, told, (0, *own))
    levels = [_level(template, entry, argument) for argument in call.arguments[1:]]
    found = measured(template, axis, call.function, node, levels)
    template.measures.append(Measure(axis, entry.name, call.function, node, tuple(levels), found))
    if isinstance(call.arguments[0], Name) and not axis.graph.shape(node):
        begins = axis.measures().rise_begins(node, *levels) if call.function == "rise_time" else None
        known = MeasuredCall(entry.name, call.function, call.arguments[0].name, tuple(levels), found, begins)
        if known not in template.measured:
            template.measured.append(known)
    return found


def without_time(
    template: Template, entry: EntryDeclaration, tree: Node, resolve: Callable[[Name], int]
) -> tuple[Node, Callable[[Name], int]]:
    """Return a formula with the outermost functions of time worked out, and what resolves the names put in
    place."""
    extra: dict[str, int] = {}

    def replaced(node: Node) -> Node | None:
        if not (isinstance(node, Call) and node.function in TIME_FUNCTIONS):
            return None
        name = f"#{len(extra)}"
        extra[name] = worked_out(template, entry, node)
        return Name(name, node.span)

    own = rebuilt(tree, replaced)
    return own, lambda word: extra[word.name] if word.name in extra else resolve(word)


def measured(
    template: Template, axis: Axis, function: str, node: int, levels: Sequence[int], measures: Measures | None = None
) -> int:
    """Return the problem's node of a measure of something over time (`node` of its moment); by other `measures` than
    the axis's own, where given."""
    measures = measures or axis.measures()
    match function:
        case "highest":
            return measures.highest(node)
        case "lowest":
            return measures.lowest(node)
        case "rise_time":
            return measures.rise_time(node, *levels)
        case "settling_time":
            return measures.settling_time(node, *levels)
    return measures.overshoot(node, levels[0], first_value(template, axis, node))


def first_value(template: Template, axis: Axis, node: int) -> int:
    """Return the problem's node of something over time at the beginning."""
    own = tuple((0, n, 1) for n in axis.graph.shape(node))
    return shaping.index(template.graph, axis.spread(node, axis.ends[0]), (0, *own))


def _level(template: Template, entry: EntryDeclaration, tree: Node) -> int:
    axis = template.is_over_time(tree)
    if axis is not None:
        raise template.complaint(entry, "this changes over time; here one number is needed", tree)
    node = template.lower_entry(entry, tree)
    if template.graph.shape(node):
        raise template.complaint(
            entry, f"one number is needed here, not {shape_text(template.graph.shape(node))}", tree
        )
    return node


def moved(template: Template, axis: Axis, entry: EntryDeclaration, call: Call) -> int:
    """Return the successive changes of a control's pieces. Raises FormulaError."""
    name = call.arguments[0]
    if not isinstance(name, Name) or name.name not in axis.control_declarations:
        raise template.complaint(entry, "moves(…) takes the name of a control", name)
    declared = axis.control_declarations[name.name]
    if declared.form == "pointwise":
        raise template.complaint(entry, "a pointwise control has no moves", name, 'form = "linear" joins its values')
    graph = template.graph
    pieces = template.nodes[name.name]
    shape = graph.shape(pieces)
    rest = tuple((0, n, 1) for n in shape[1:])
    if declared.before is not None:
        before = axis.main("controls", name.name, declared.before)
        before = graph.stretched(before, shape[1:])
        before = shaping.reshaped(graph, before, (1, *shape[1:])) if shape[1:] else before
        pieces = shaping.join(graph, (before, pieces))
    count = graph.shape(pieces)[0]
    if count < 2:
        raise template.complaint(entry, f'"{name.name}" has one piece, which does not move', name)
    upper = shaping.index(graph, pieces, ((1, count, 1), *rest))
    under = shaping.index(graph, pieces, ((0, count - 1, 1), *rest))
    return graph.apply("sub", upper, under)
