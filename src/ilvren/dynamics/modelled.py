"""Formulas of one moment that call models: what `System` is for formulas alone, moment by moment.

Branches are taken as they fall and nothing is found of where they change: what a model does inside is not known either.
First derivatives are exact where the models' are; second ones are what the models' calls make of them.
"""

from __future__ import annotations

import math
from collections.abc import Callable, Sequence
from functools import cached_property
from typing import TYPE_CHECKING, Any

import numpy as np
from numpy.typing import NDArray

from ilvren.formula import Graph, compile_arrays, interpret, tangents, weighted_gradient

if TYPE_CHECKING:
    from ilvren.dynamics.evolution import Evolution

__all__ = ["ModelledSystem", "has_models"]

FloatArray = NDArray[np.float64]


def has_models(evolution: Evolution) -> bool:
    """Return whether rates or jumps call models."""
    roots = [node for state in evolution.states for node in (state.rate, state.next) if node is not None]
    return any(evolution.graph.nodes[number].operation == "call" for number in evolution.graph.reachable(roots))


class ModelledSystem:
    """The interface of `System`, by array code on the graph as it is; `models` are asked by their numbers there."""

    mode_count = 0
    forcing_count = 0
    gap_roots: tuple[int, ...] = ()
    rate_roots: tuple[int, ...]

    def __init__(self, evolution: Evolution, still: Sequence[Any], models: Sequence[Any]) -> None:
        self.evolution, self._still, self._models = evolution, list(still), models
        sizes = [int(np.prod(item.shape, dtype=np.int64)) for item in evolution.inputs]
        self.starts = np.concatenate([[0], np.cumsum(sizes)]).astype(np.int64)
        self.width = self.all_width = int(self.starts[-1])
        self.graph: Graph = evolution.graph
        zero = self.graph.constant(0.0)
        self._rates = [state.rate if state.rate is not None else zero for state in evolution.states]
        self._jumps = [state.next for state in evolution.states if state.next is not None]
        self._sizes = [int(np.prod(state.shape, dtype=int)) for state in evolution.states]
        flags = [np.full(size, state.rate is None) for size, state in zip(self._sizes, evolution.states, strict=True)]
        self.is_sampled = np.concatenate([*flags, np.zeros(0, dtype=bool)])
        self.size = len(self.is_sampled)
        self.gap_jumps = np.zeros(0, dtype=bool)
        self.rate_roots = tuple(self._rates)

    is_plain = False

    def inputs_of_rates(self) -> list[int]:
        """Return the numbers of the inputs that rates look at."""
        return sorted(self.graph.variables_of(self._rates))

    def places(self, kind: str, *, lag: int = -1) -> NDArray[np.int64]:
        """Return the places of all inputs of a kind, in order. They are (count,)."""
        found = [
            np.arange(self.starts[k], self.starts[k + 1])
            for k, item in enumerate(self.evolution.inputs)
            if item.kind == kind and item.lag == lag
        ]
        return np.concatenate(found) if found else np.zeros(0, dtype=np.int64)

    # ---- code -------------------------------------------------------------------------------------

    def _bound(self, roots: Sequence[int], batch: Sequence[str] = ()) -> Callable[..., Any]:
        key = ("moment", tuple(roots), tuple(batch))
        if key not in self.graph.compiled:
            self.graph.compiled[key] = compile_arrays(self.graph, roots, batch)
        code = self.graph.compiled[key]
        fixed = interpret(self.graph, code.constants, (), self._still).values
        bound: Callable[..., Any] = code.bound(self._models, [np.asarray(value, dtype=float) for value in fixed])
        return bound

    def _split(self, numbers: Sequence[float] | FloatArray) -> list[Any]:
        flat = np.asarray(numbers, dtype=float)
        return [
            flat[self.starts[k] : self.starts[k + 1]].reshape(item.shape) if item.shape else flat[self.starts[k]]
            for k, item in enumerate(self.evolution.inputs)
        ]

    def _flat(self, values: Sequence[Any], shapes: Sequence[tuple[int, ...]]) -> FloatArray:
        return np.concatenate(
            [np.ravel(np.broadcast_to(v, s)) for v, s in zip(values, shapes, strict=True)] or [np.zeros(0)]
        )

    @cached_property
    def _rate_shapes(self) -> list[tuple[int, ...]]:
        return [state.shape for state in self.evolution.states]

    @cached_property
    def _jump_shapes(self) -> list[tuple[int, ...]]:
        return [state.shape for state in self.evolution.states if state.next is not None]

    @cached_property
    def rates(self) -> Callable[..., tuple[float, ...]]:
        """Return the function of all numbers of a moment that gives the rates of all states."""
        return self._values(self._rates, self._rate_shapes)

    @property
    def natural(self) -> Callable[..., tuple[float, ...]]:
        """Return the same: branches are as they fall in any case."""
        return self.rates

    @cached_property
    def jumps(self) -> Callable[..., tuple[float, ...]]:
        """Return the function of a moment that gives what sampled states jump to."""
        return self._values(self._jumps, self._jump_shapes)

    def _values(self, roots: Sequence[int], shapes: Sequence[tuple[int, ...]]) -> Callable[..., tuple[float, ...]]:
        bound = self._bound(roots)

        def function(*numbers: float) -> tuple[float, ...]:
            return tuple(self._flat(bound(self._split(numbers))[0], shapes).tolist())

        return function

    def _slopes(self, what: str) -> Callable[[FloatArray], FloatArray]:
        """Return the function of a moment that gives the derivatives (rows, width)."""
        kept = self.__dict__.setdefault("_slope_functions", {})
        if what in kept:
            function: Callable[[FloatArray], FloatArray] = kept[what]
            return function
        roots, shapes = (self._rates, self._rate_shapes) if what == "rates" else (self._jumps, self._jump_shapes)
        seeds = {k: self.graph.input("tangent", k, item.shape) for k, item in enumerate(self.evolution.inputs)}
        found = tangents(self.graph, roots, seeds)
        used = [node for node in found if node is not None]
        bound = self._bound(used, ("tangent",)) if used else None
        eye = np.eye(self.width)
        directions = [
            eye[:, self.starts[k] : self.starts[k + 1]].reshape(self.width, *item.shape)
            for k, item in enumerate(self.evolution.inputs)
        ]
        sizes = [math.prod(shape) for shape in shapes]

        def own(numbers: FloatArray) -> FloatArray:
            result, at = np.zeros((sum(sizes), self.width)), 0
            values = iter(bound(self._split(numbers), (), directions)[0] if bound is not None else ())
            for node, size, shape in zip(found, sizes, shapes, strict=True):
                if node is not None:
                    value = np.broadcast_to(next(values), (self.width, *shape))
                    result[at : at + size] = value.reshape(self.width, size).T
                at += size
            return result

        kept[what] = own
        return own

    @property
    def state_slopes(self) -> tuple[Callable[..., tuple[float, ...]], list[int], list[int]]:
        """Return the function that gives the rates' derivatives by the states, with their rows and columns."""
        slopes, places, n = self._slopes("rates"), self.places("state"), self.size

        def function(*numbers: float) -> tuple[float, ...]:
            return tuple(slopes(np.array(numbers))[:, places].ravel().tolist())

        rows, columns = np.divmod(np.arange(n * n), n)
        return function, rows.tolist(), columns.tolist()

    def slopes_many(self, moments: FloatArray) -> FloatArray:
        """Return the rates' derivatives (moments, states, numbers) at moments (numbers, moments)."""
        own = self._slopes("rates")
        return np.stack([own(moment) for moment in moments.T])

    def jump_slopes_many(self, moments: FloatArray) -> FloatArray:
        """Return the jumps' derivatives (moments, sampled numbers, inputs)."""
        own = self._slopes("jumps")
        return np.stack([own(moment) for moment in moments.T])

    def bends_many(self, what: str, moments: FloatArray, weights: FloatArray) -> FloatArray:
        """Return Σ weight · second derivatives (moments, numbers, numbers) of the "rates" or "jumps"."""
        roots, shapes = (self._rates, self._rate_shapes) if what == "rates" else (self._jumps, self._jump_shapes)
        graph = self.graph
        key = ("bend", what)
        kept = self.__dict__.setdefault("_bend_forms", {})
        if key not in kept:
            seeds: dict[int, int] = {}
            for k, (root, shape) in enumerate(zip(roots, shapes, strict=True)):
                if graph.nodes[root].operation == "constant":
                    continue
                weight = graph.input("weight", k, shape)
                seeds[root] = graph.apply("add", seeds[root], weight) if root in seeds else weight
            slopes = weighted_gradient(graph, seeds)
            tangent = {k: graph.input("tangent", k, item.shape) for k, item in enumerate(self.evolution.inputs)}
            found = tangents(graph, list(slopes.values()), tangent)
            pairs = [(index, node) for index, node in zip(slopes, found, strict=True) if node is not None]
            kept[key] = pairs, self._bound([node for _, node in pairs], ("tangent",)) if pairs else None
        pairs, bound = kept[key]
        result = np.zeros((moments.shape[1], self.width, self.width))
        if bound is None:
            return result
        eye = np.eye(self.width)
        directions = [
            eye[:, self.starts[k] : self.starts[k + 1]].reshape(self.width, *item.shape)
            for k, item in enumerate(self.evolution.inputs)
        ]
        ends = np.cumsum([0, *(math.prod(shape) for shape in shapes)])
        for place, (moment, own) in enumerate(zip(moments.T, weights, strict=True)):
            given = [own[ends[k] : ends[k + 1]].reshape(s) if s else own[ends[k]] for k, s in enumerate(shapes)]
            for (index, _), value in zip(pairs, bound(self._split(moment), given, directions)[0], strict=True):
                shape = self.evolution.inputs[index].shape
                whole = np.broadcast_to(value, (self.width, *shape)).reshape(self.width, -1)
                result[place][self.starts[index] : self.starts[index + 1]] = whole.T
            result[place] = 0.5 * (result[place] + result[place].T)
        return result

    # ---- what formulas alone have -----------------------------------------------------------------

    def forcing(self, taus: FloatArray) -> FloatArray:
        """Return nothing: no value is known beforehand. Shapes: taus (k,), result (k, 0)."""
        return np.zeros((*taus.shape, 0))

    def breaks(self, taus: FloatArray) -> FloatArray:
        """Return nothing: where something changes its branch is not known. Shapes: taus (k,), result (0,)."""
        return np.zeros(0)
