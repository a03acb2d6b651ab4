"""Compiled formulas bound to a problem's numbers: the fast code, and the careful evaluation where that is in doubt.

Which form is compiled follows from the formulas and from what is asked alone: plain Python floats where all is
scalar, NumPy else, NumPy with a batch axis for many designs or directions at once.
"""

from __future__ import annotations

from collections.abc import Callable, Sequence
from typing import TYPE_CHECKING, Any

import numpy as np
from numpy.typing import NDArray

from ilvren.formula import Graph, compile_scalar, interpret, is_scalar_work

if TYPE_CHECKING:
    from ilvren.models import Calls
    from ilvren.problem import Problem

__all__ = ["Form", "form_of"]

Array = NDArray[Any]

# What no function of floats takes, without weights and with them.
_INPUTS = (frozenset({"weight", "tangent"}), frozenset({"tangent"}))


class Form:
    """Some roots of a problem's graph as one function. Call it with variables, weights, tangents and,
    where some have a batch axis, all parameters by index."""

    def __init__(
        self,
        problem: Problem,
        roots: Sequence[int],
        batch: Sequence[str] = (),
        calls: Sequence[Calls] = (),
        weights: int = 0,
    ) -> None:
        """`weights`: so many may be floats, where all else is."""
        self.problem = problem
        self.models = problem.with_simulations(calls)
        self.roots = tuple(roots)
        self.batch = tuple(batch)
        graph = problem.graph
        self.is_scalar = (
            not batch and is_scalar_work(graph, self.roots) and not _takes(graph, self.roots, _INPUTS[weights > 0])
        )
        self.weights = weights if self.is_scalar else 0
        key = ("form", self.roots, self.batch, len(problem.blocks), self.weights)
        if key not in graph.compiled:
            graph.compiled[key] = self._compiled()
        self.code: Any = graph.compiled[key]
        fixed = interpret(graph, self.code.constants, (), problem.parameter_values, models=self.models).values
        if self.is_scalar:
            self.scalar: Callable[..., tuple[float, ...]] = self.code.bound(fixed)
        else:
            arrays = [np.asarray(value) if np.ndim(value) else np.float64(value) for value in fixed]
            self.arrays: Callable[..., tuple[list[Array], bool]] = self.code.bound(self.models, arrays)

    def _compiled(self) -> Any:
        if self.is_scalar:
            return compile_scalar(self.problem.graph, self.roots, len(self.problem.blocks), self.weights)
        from ilvren.formula import compile_arrays

        return compile_arrays(self.problem.graph, self.roots, self.batch)

    def __call__(
        self,
        variables: Sequence[Any],
        weights: Sequence[Any] = (),
        tangents: Sequence[Any] = (),
        parameters: Sequence[Any] = (),
    ) -> Any:
        """Return the values of the roots: a tuple of floats (NaN where invalid), or a list of arrays."""
        if self.is_scalar:
            try:
                return self.scalar(*variables, *weights[: self.weights])
            except (ArithmeticError, ValueError):  # what Python refuses, or what would vanish unseen
                problem = self.problem
                if self.weights:
                    return tuple(float(value) for value in self.careful(variables, weights, tangents))
                return interpret(problem.graph, self.roots, variables, problem.parameter_values).values
        found, is_doubtful = self.arrays(variables, weights, tangents, parameters)
        return self.careful(variables, weights, tangents, parameters) if is_doubtful else found

    def careful(
        self,
        variables: Sequence[Any],
        weights: Sequence[Any],
        tangents: Sequence[Any],
        parameters: Sequence[Any] = (),
    ) -> list[Array]:
        """Return the values by the slow evaluation that follows every element's validity. Each value has the shape of
        its root."""
        from ilvren.formula import interpret_arrays

        problem = self.problem
        return list(
            interpret_arrays(
                problem.graph,
                self.roots,
                variables,
                parameters or problem.parameter_values,
                weights,
                tangents,
                models=self.models,
                batch=self.batch,
            ).values
        )


def form_of(
    problem: Problem, roots: Sequence[int], batch: Sequence[str] = (), *, calls: Sequence[Calls] = (), weights: int = 0
) -> Form:
    """Return a form of a problem, by the `calls` that are made of its models; code compiled before for the same
    formulas is used again."""
    return Form(problem, roots, batch, calls, weights)


def _takes(graph: Graph, roots: Sequence[int], inputs: frozenset[str]) -> bool:
    return any(graph.nodes[number].operation in inputs for number in graph.reachable(roots))
