"""[fit]: residuals over their sigmas, and the sum of their losses as an objective."""

from __future__ import annotations

from collections.abc import Iterator
from typing import TYPE_CHECKING

import numpy as np

from ilvren.formula import Call, Name, Node, children
from ilvren.problem.entries import EntryDeclaration, FitDeclaration
from ilvren.problem.template_parts import FitTemplate

if TYPE_CHECKING:
    from ilvren.problem.template import Template

__all__ = ["fit_objective", "fit_template"]

# Where robust losses leave the square, in sigmas: they keep 95 % of its efficiency on errors that are normal.
HUBER_TURN, CAUCHY_SCALE = 1.345, 2.385


def fit_template(template: Template, declared: FitDeclaration) -> FitTemplate:
    """Return an entry of [fit] with its node in the graph. Raises ProblemError."""
    entry = EntryDeclaration("fit", declared.name, declared.residual)
    residual = template.lower_entry(entry, template.parse(entry))
    own = EntryDeclaration("fit", f"{declared.name}.sigma", declared.sigma)
    if isinstance(declared.sigma, tuple):
        template.fail(own, "a list stands in [parameters]; sigma uses it by its name", text=None)
    sigma = template.lower_entry(own, template.parse(own))
    if template.depends(sigma):
        template.fail(own, "sigma may not depend on a variable", advice="write the likelihood as an objective instead")
    template.stretched(entry, residual, (sigma,))
    if not np.all(np.asarray(template.number(own, sigma, template.values, "sigma")) > 0.0):
        template.fail(own, "sigma must be positive")
    sides = _sides(template, residual)
    along = _along(template, entry, residual, sides)
    return FitTemplate(declared, template.graph.apply("div", residual, sigma), residual, sigma, sides, along)


def _sides(template: Template, residual: int) -> tuple[int, int] | None:
    """Return the nodes of what is read and of what the model gives, from the terms that depend on no variable."""
    graph = template.graph
    waiting, terms = [(1.0, residual)], []
    while waiting:
        sign, number = waiting.pop()
        node = graph.nodes[number]
        if node.operation == "neg":
            waiting.append((-sign, node.operands[0]))
        elif node.operation in ("add", "sub"):
            waiting += [(sign if node.operation == "add" else -sign, node.operands[1]), (sign, node.operands[0])]
        else:
            terms.append((sign, number))
    read = [(sign, number) for sign, number in terms if not template.depends(number)]
    model = [(-sign, number) for sign, number in terms if template.depends(number)]
    if not read or not model or not any(graph.shape(number) for _, number in read):
        return None
    turn = read[0][0]

    def added(parts: list[tuple[float, int]]) -> int:
        total = graph.constant(0.0)
        for sign, number in parts:
            total = graph.apply("add" if sign * turn > 0.0 else "sub", total, number)
        return total

    sides = added(read), added(model)
    return sides if graph.shape(sides[0]) == graph.shape(residual) else None


def _along(
    template: Template, entry: EntryDeclaration, residual: int, sides: tuple[int, int] | None
) -> tuple[str, int] | None:
    """Return the column that readings were taken at: the moments of at(signal, column), else the first that the model
    is worked out with."""
    graph = template.graph
    for call in _calls(template.parse(entry)):
        if call.function == "at" and len(call.arguments) == 2 and isinstance(call.arguments[1], Name):
            name = call.arguments[1].name
            if name in template.columns and graph.shape(template.nodes[name]) == graph.shape(residual):
                return name, template.nodes[name]
    used = set(graph.reachable([residual if sides is None else sides[1]]))
    for name in template.columns:
        if template.nodes[name] in used and graph.shape(template.nodes[name]) == graph.shape(residual):
            return name, template.nodes[name]
    return None


def _calls(tree: Node) -> Iterator[Call]:
    if isinstance(tree, Call):
        yield tree
    for part in children(tree):
        yield from _calls(part)


def fit_objective(template: Template) -> int:
    """Return Σ ρ(residual/sigma): half the square, or a robust loss that follows it near 0."""
    from ilvren.formula import total

    graph = template.graph
    apply, constant = graph.apply, graph.constant
    result = constant(0.0)
    for item in template.fit:
        r = item.node
        half = apply("mul", constant(0.5), apply("square", r))
        if item.declaration.loss == "huber":
            size = apply("abs", r)
            turn = constant(HUBER_TURN)
            linear = apply("sub", apply("mul", turn, size), constant(0.5 * HUBER_TURN**2))
            half = apply("where", apply("<=", size, turn), half, linear)
        elif item.declaration.loss == "cauchy":
            bowl = apply("add", constant(1.0), apply("square", apply("div", r, constant(CAUCHY_SCALE))))
            half = apply("mul", constant(0.5 * CAUCHY_SCALE**2), apply("log", bowl))
        result = apply("add", result, total(graph, half))
    return result
