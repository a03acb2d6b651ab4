"""Sparse Jacobians and Hessians of the Lagrangian by compressed products.

    J·S      columns of the same colour in one direction, all colours as one batch                 (1)
    WᵀJ      full rows, each (or rows that share no column) with a weight of its own, in reverse      (2)
    H·S      the tangents of the Lagrangian's gradient, star colours                                  (3)

Patterns and colours are found once per graph; the batch is cut so that no step holds more than CHUNK numbers.
"""

from __future__ import annotations

from collections.abc import Sequence
from typing import TYPE_CHECKING, Any

import numpy as np
from numpy.typing import NDArray

from ilvren.evaluate.forms import Form, form_of
from ilvren.evaluate.second_derivatives import has_second_derivatives
from ilvren.formula import (
    Graph,
    column_colours,
    patterns,
    split_rows,
    star_colours,
    star_places,
    tangents,
    weighted_gradient,
)
from ilvren.records import dataclass

if TYPE_CHECKING:
    from ilvren.models import Calls
    from ilvren.problem import Problem

__all__ = ["HessianPlan", "JacobianPlan", "lagrangian_gradient", "spread_blocks", "variable_offsets"]

FloatArray = NDArray[np.float64]
Indices = NDArray[np.integer[Any]]

# Numbers held by a batch of directions at one node.
CHUNK = 4_000_000


def variable_offsets(problem: Problem) -> dict[int, int]:
    """Return {number of a variable in the graph: place of its first element in a design}."""
    return {index: block.first for index, block in enumerate(problem.blocks)}


def tangent_inputs(problem: Problem) -> dict[int, int]:
    """Return {number of a variable: node of its change}."""
    return {index: problem.graph.input("tangent", index, block.shape) for index, block in enumerate(problem.blocks)}


def split_batch(problem: Problem, directions: FloatArray) -> list[FloatArray]:
    """Return directions (p, n) as one array (p, *shape) per variable."""
    count = len(directions)
    return [
        np.ascontiguousarray(directions[:, block.first : block.first + block.size]).reshape(count, *block.shape)
        for block in problem.blocks
    ]


def spread_blocks(
    problem: Problem, found: Sequence[Any], indices: Sequence[int], lead: tuple[int, ...] = ()
) -> FloatArray:
    """Return values by variable as one array (*lead, n), 0 for variables not among `indices`. `found` are (*lead,
    *shape of the variable) each."""
    result = np.zeros((*lead, problem.size))
    for index, value in zip(indices, found, strict=True):
        block = problem.blocks[index]
        place = (..., slice(block.first, block.first + block.size))
        own = np.asarray(value)
        batch = own.shape[: own.ndim - len(block.shape)]
        result[place] = own.reshape(*batch, block.size)
    return result


def row_weights(problem: Problem) -> dict[int, int]:
    """Return {node of a constraint: node of its weight}; equal constraints share their nodes, and add their weights.
    Weight 0 belongs to the objective, the constraints follow."""
    graph: Graph = problem.graph
    found: dict[int, int] = {}
    for place, block in enumerate(problem.row_blocks):
        weight = graph.input("weight", place + 1, block.shape)
        found[block.node] = graph.apply("add", found[block.node], weight) if block.node in found else weight
    return found


def lagrangian_gradient(problem: Problem, *, with_objective: bool = True) -> dict[int, int]:
    """Return {variable: node} of the gradient of σ·f + Σ λ·c, f as written, σ being weight 0."""
    graph = problem.graph
    seeds = row_weights(problem)
    if with_objective and problem.objective is not None:
        node, weight = problem.objective.node, graph.input("weight", 0)
        seeds[node] = graph.apply("add", seeds[node], weight) if node in seeds else weight
    return weighted_gradient(graph, seeds)


def _small(pattern: Any) -> Any:
    """Return a CSR pattern with 32-bit indices, where these suffice."""
    from scipy.sparse import csr_array

    if max(*pattern.shape, pattern.nnz) >= np.iinfo(np.int32).max:
        return pattern
    parts = pattern.data, pattern.indices.astype(np.int32), pattern.indptr.astype(np.int32)
    return csr_array(parts, shape=pattern.shape)


@dataclass(frozen=True)
class JacobianForms:
    """The compiled products of one problem: `forward` for the constraints at `places`, `reverse` for full rows, and the
    entries that are the same at every design."""

    forward: Form | None
    places: list[int]
    reverse: Form | None
    fixed: FloatArray


def _varies(graph: Graph, node: int) -> bool:
    """Return whether a variable or a model changes a derivative."""
    return any(graph.nodes[number].operation in ("variable", "call") for number in graph.reachable([node]))


class JacobianPlan:
    """How the Jacobian of all rows is computed: its CSR pattern, colours, and where each entry is found."""

    def __init__(self, problem: Problem) -> None:
        from scipy.sparse import csr_array, vstack

        self.problem = problem
        n, m = problem.size, problem.row_count
        nodes = [block.node for block in problem.row_blocks]
        parts = patterns(problem.graph, nodes, variable_offsets(problem), n)
        pattern = vstack(parts, format="csr") if parts else csr_array((0, n), dtype=np.int8)
        pattern.sort_indices()
        pattern = self.pattern = _small(pattern)
        self.indptr = pattern.indptr.astype(np.int64)
        self.rows = np.repeat(np.arange(m, dtype=np.int32), np.diff(self.indptr))
        self.columns = pattern.indices
        in_reverse = split_rows(pattern)
        self.reverse_rows = np.flatnonzero(in_reverse)
        is_forward = ~in_reverse[self.rows]
        forward = csr_array(
            (np.ones(int(is_forward.sum()), dtype=np.int8), (self.rows[is_forward], self.columns[is_forward])),
            shape=(m, n),
        )
        self.colours = column_colours(forward)
        self.colour_count = int(self.colours[self.columns[is_forward]].max(initial=-1)) + 1
        self.entry_colour = np.where(is_forward, self.colours[self.columns], -1).astype(np.int32)
        self.used_columns = np.diff(forward.tocsc().indptr) > 0
        self.groups = self._reverse_groups()
        self.tangent_nodes = tangents(problem.graph, nodes, tangent_inputs(problem)) if self.colour_count else []
        self.gradient = lagrangian_gradient(problem, with_objective=False) if len(self.groups) else {}

    def _reverse_groups(self) -> list[Indices]:
        """Return the rows taken in reverse, those that share no column together."""
        if not len(self.reverse_rows):
            return []
        rows = self.pattern[self.reverse_rows]
        from scipy.sparse import csr_array

        colours = column_colours(csr_array(rows.T))
        return [self.reverse_rows[colours == colour] for colour in range(int(colours.max()) + 1)]

    def forms(self, problem: Problem, calls: Sequence[Calls]) -> JacobianForms:
        """Return the compiled products (1) and (2) for a problem of this graph; what no variable changes is computed
        here once."""
        graph = problem.graph
        nodes = dict(enumerate(node for node in self.tangent_nodes))
        moved = {place: node for place, node in nodes.items() if node is not None}
        varying = [place for place, node in moved.items() if _varies(graph, node)]
        data = np.zeros(len(self.columns))
        fixed = [place for place in moved if place not in varying]
        if fixed:
            form = form_of(problem, [moved[place] for place in fixed], ("tangent",), calls=calls)
            self._all_colours(problem, form, fixed, problem.split(problem.start), data)
        forward = form_of(problem, [moved[place] for place in varying], ("tangent",), calls=calls) if varying else None
        reverse = form_of(problem, list(self.gradient.values()), ("weight",), calls=calls) if self.gradient else None
        return JacobianForms(forward, varying, reverse, data)

    def entries(self, problem: Problem, forms: JacobianForms, variables: Sequence[Any]) -> FloatArray:
        """Return the values of the pattern's entries, in its order, at a design given by blocks."""
        data = forms.fixed.copy()
        if forms.forward is not None:
            self._all_colours(problem, forms.forward, forms.places, variables, data)
        if forms.reverse is not None:
            step = max(1, CHUNK // max(problem.size, problem.row_count, 1))
            for first in range(0, len(self.groups), step):
                self._reverse(problem, forms.reverse, variables, data, self.groups[first : first + step])
        return data

    def _all_colours(
        self, problem: Problem, form: Form, places: Sequence[int], variables: Sequence[Any], data: FloatArray
    ) -> None:
        step = max(1, CHUNK // max(problem.size, problem.row_count, 1))
        for first in range(0, self.colour_count, step):
            self._forward(problem, form, places, variables, data, first, min(first + step, self.colour_count))

    def _forward(
        self,
        problem: Problem,
        form: Form,
        places: Sequence[int],
        variables: Sequence[Any],
        data: FloatArray,
        first: int,
        last: int,
    ) -> None:
        """Fill in the entries of the constraints at `places` that have a colour from `first` up to `last`."""
        seeds = self._seeds(problem, first, last)
        found = iter(form(variables, (), seeds))
        is_whole = first == 0 and last == self.colour_count and not len(self.groups)
        for place in places:
            block = problem.row_blocks[place]
            product = np.asarray(next(found)).reshape(last - first, block.size)
            if not block.size:  # an index that leaves nothing makes no rows
                continue
            own = slice(int(self.indptr[block.first]), int(self.indptr[block.first + block.size]))
            if is_whole:
                np.take(product.reshape(-1), self._places(block.first, block.size), out=data[own], mode="clip")
                continue
            colours = self.entry_colour[own]
            mine = np.flatnonzero((colours >= first) & (colours < last))
            data[own.start + mine] = product[colours[mine] - first, self.rows[own][mine] - block.first]

    def _places(self, first: int, size: int) -> Indices:
        cache: dict[int, Indices] = self.__dict__.setdefault("_place_cache", {})
        if first not in cache:
            own = slice(int(self.indptr[first]), int(self.indptr[first + size]))
            cache[first] = self.entry_colour[own] * np.int32(size) + (self.rows[own] - np.int32(first))
        return cache[first]

    def _seeds(self, problem: Problem, first: int, last: int) -> list[FloatArray]:
        cache: dict[tuple[int, int], list[FloatArray]] = self.__dict__.setdefault("_seed_cache", {})
        if (first, last) not in cache:
            seeds = np.zeros((last - first, problem.size))
            mine = np.flatnonzero(self.used_columns & (self.colours >= first) & (self.colours < last))
            seeds[self.colours[mine] - first, mine] = 1.0
            made = split_batch(problem, seeds)
            if (first, last) != (0, self.colour_count):
                return made  # one of many: not worth keeping
            cache[first, last] = made
        return cache[first, last]

    def _reverse(
        self, problem: Problem, form: Form, variables: Sequence[Any], data: FloatArray, groups: Sequence[Indices]
    ) -> None:
        weights = np.zeros((len(groups), problem.row_count))
        for place, group in enumerate(groups):
            weights[place, group] = 1.0
        given: list[Any] = [np.zeros(len(groups))]
        for block in problem.row_blocks:
            part = np.ascontiguousarray(weights[:, block.first : block.first + block.size])
            given.append(part.reshape(len(groups), *block.shape))
        found = spread_blocks(problem, form(variables, given), list(self.gradient), (len(groups),))
        for place, group in enumerate(groups):
            for row in group.tolist():
                own = slice(int(self.indptr[row]), int(self.indptr[row + 1]))
                data[own] = found[place, self.columns[own]]


class HessianPlan:
    """How the Hessian of σ·f + Σ λ·c is computed: its symmetric CSR pattern, star colours, and where entries are."""

    def __init__(self, problem: Problem) -> None:
        from scipy.sparse import csr_array

        self.problem = problem
        n = problem.size
        self.gradient = lagrangian_gradient(problem)
        found = patterns(problem.graph, list(self.gradient.values()), variable_offsets(problem), n)
        rows, columns = [np.zeros(0, dtype=np.int64)], [np.zeros(0, dtype=np.int64)]
        for index, part in zip(self.gradient, found, strict=True):
            part = part.tocoo()
            rows.append(part.coords[0].astype(np.int64) + problem.blocks[index].first)
            columns.append(part.coords[1].astype(np.int64))
        i, j = np.concatenate(rows), np.concatenate(columns)
        ones = np.ones(2 * len(i), dtype=np.int8)
        pattern = csr_array((ones, (np.append(i, j), np.append(j, i))), shape=(n, n))
        pattern.sum_duplicates()
        pattern.sort_indices()
        pattern = self.pattern = _small(pattern)
        self.colours = star_colours(pattern)
        self.colour_count = int(self.colours.max(initial=0)) + 1 if pattern.nnz else 0
        self.places = star_places(pattern, self.colours)
        self.used = np.diff(pattern.indptr) > 0
        self.is_differenced = not has_second_derivatives(problem)
        self.tangent_nodes: list[int | None] = []
        if self.colour_count and not self.is_differenced:
            self.tangent_nodes = tangents(problem.graph, list(self.gradient.values()), tangent_inputs(problem))

    def form(self, problem: Problem, calls: Sequence[Calls]) -> Form | None:
        """Return the compiled product (3)."""
        kept = [node for node in self.tangent_nodes if node is not None]
        return form_of(problem, kept, ("tangent",), calls=calls) if kept else None

    def entries(
        self, problem: Problem, form: Form | None, variables: Sequence[Any], weights: Sequence[Any]
    ) -> FloatArray:
        """Return the values of the pattern's entries, in its order. They are (entries,)."""
        data = np.zeros(self.pattern.nnz)
        if form is None:
            return data
        step = max(1, CHUNK // max(problem.size, 1))
        rows, colours = self.places
        moved = [index for index, node in zip(self.gradient, self.tangent_nodes, strict=True) if node is not None]
        for first in range(0, self.colour_count, step):
            last = min(first + step, self.colour_count)
            found = form(variables, weights, self.seeds(problem, first, last))
            product = spread_blocks(problem, found, moved, (last - first,))
            mine = slice(None) if last - first == self.colour_count else (colours >= first) & (colours < last)
            data[mine] = product[colours[mine] - first, rows[mine]]
        return data

    def seeds(self, problem: Problem, first: int, last: int) -> list[FloatArray]:
        """Return the directions of some colours, by variable. Each is (last − first, *shape of the variable)."""
        return split_batch(problem, self.directions(first, last))

    def directions(self, first: int, last: int) -> FloatArray:
        """Return the directions of some colours (last − first, n): sums of unit vectors."""
        found = np.zeros((last - first, len(self.colours)))
        mine = np.flatnonzero(self.used & (self.colours >= first) & (self.colours < last))
        found[self.colours[mine] - first, mine] = 1.0
        return found
