"""[fit]: residuals over their sigmas, and the sum of their losses as an objective."""

from __future__ import annotations

from dataclasses import dataclass
from typing import TYPE_CHECKING

import numpy as np

from ilvren.problem.entries import EntryDeclaration, FitDeclaration

if TYPE_CHECKING:
    from ilvren.problem.template import Template

__all__ = ["FitTemplate", "fit_objective", "fit_template"]

# Where robust losses leave the square, in sigmas: they keep 95 % of its efficiency on errors that are normal.
HUBER_TURN, CAUCHY_SCALE = 1.345, 2.385


@dataclass(frozen=True, slots=True)
class FitTemplate:
    """An entry of [fit] with the node of residual/sigma."""

    declaration: FitDeclaration
    node: int


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
    return FitTemplate(declared, template.graph.apply("div", residual, sigma))


def fit_objective(template: Template) -> int:
    """Return Σ ρ(residual/sigma): half the square, or a robust loss that follows it near 0."""
    from ilvren.formula.shaping import total

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
