"""Which results depend on which variables: sparsity patterns, read off the graph.

Each operation links the elements of its result to those of its operands, by a gathering (every result element
looks at one operand element) or by a 0/1 matrix. Patterns are carried through these links from the variables
on, so that they hold at every design; `uses` carries marks the other way.

Source: A. Griewank, A. Walther, "Evaluating Derivatives", 2nd ed., 2008, chapter 7; the pattern of a Hessian
is that of the gradient's own graph.
"""

from __future__ import annotations

import math
from collections.abc import Mapping, Sequence
from typing import TYPE_CHECKING, Any

import numpy as np
from numpy.typing import NDArray

from ilvren.formula.arrays import STRUCTURAL, index_key
from ilvren.formula.compile import fixed_nodes
from ilvren.formula.rules import MODEL_NODES, RULES
from ilvren.records import dataclass

if TYPE_CHECKING:
    from ilvren.formula.graph import Graph

__all__ = ["Link", "PatternTooLarge", "depends_on", "link", "patterns", "use"]

Indices = NDArray[np.int64]

# A pattern beyond this many entries is not worth having: matrices of that size are not formed.
MOST_ENTRIES = 40_000_000


class PatternTooLarge(Exception):
    """A Jacobian or Hessian with so many entries that it is not formed."""


@dataclass(frozen=True)
class Link:
    """How a result looks at one operand: `source` (result size,) the operand element each result element looks at,
    −1 for none; or `matrix` (result size, operand size) in CSR form; or `everything` when each looks at all."""

    source: Indices | None = None
    matrix: Any = None
    everything: bool = False


def link(graph: Graph, number: int, place: int) -> Link | None:
    """Return how the derivatives of a node look at one of its operands, or None where they never do."""
    if not RULES[graph.nodes[number].operation].is_sloped(place):
        return None
    return use(graph, number, place)


def use(graph: Graph, number: int, place: int) -> Link:
    """Return how the elements of a node look at those of one of its operands; conditions and keys count."""
    node = graph.nodes[number]
    operand = node.operands[place]
    own = graph.shape(operand)
    detail: Any = node.detail
    match RULES[node.operation].use(place):
        case "own":
            return Link(_stretched(own, node.shape))
        case "moved":
            count = np.arange(math.prod(own), dtype=np.int64).reshape(own)
            return Link(np.asarray(STRUCTURAL[node.operation](detail, count)).ravel())
        case "placed":
            source = np.full(node.shape, -1, dtype=np.int64)
            source[index_key(detail[1])] = np.arange(math.prod(own)).reshape(own)
            return Link(source.ravel())
        case "piece":
            first = sum(math.prod(graph.shape(part)) for part in node.operands[:place])
            source = np.full(node.size, -1, dtype=np.int64)
            source[first : first + math.prod(own)] = np.arange(math.prod(own))
            return Link(source)
        case "given":
            count = np.arange(node.size, dtype=np.int64).reshape(node.shape)
            target = count[np.array(detail[1], dtype=np.int64)].ravel()
            return Link(matrix=_ones(target, np.arange(math.prod(own)), (node.size, math.prod(own))))
        case "reduced":
            return _grouping(node.shape, own, detail[1])
        case "shrunk":
            target = np.broadcast_to(np.arange(math.prod(node.shape)).reshape(node.shape), own)
            return Link(matrix=_ones(target.ravel(), np.arange(math.prod(own)), (node.size, math.prod(own))))
        case "running":
            return _running(own, detail[1])
        case "product":
            return _product(graph, number, place)
        case "all":
            return Link(everything=True)
        case "model":
            return _model_link(graph, number, place)
    raise AssertionError(f"no pattern for {node.operation}")


def _stretched(own: tuple[int, ...], shape: tuple[int, ...]) -> Indices | None:
    if own == shape:
        return None
    count = np.arange(math.prod(own), dtype=np.int64).reshape(own)
    return np.asarray(np.broadcast_to(count, shape)).ravel()


def _ones(rows: Indices, columns: Indices, shape: tuple[int, int]) -> Any:
    from scipy.sparse import csr_array

    return csr_array((np.ones(len(rows), dtype=np.int8), (rows, columns)), shape=shape)


def _grouping(shape: tuple[int, ...], own: tuple[int, ...], axis: int | None) -> Link:
    if axis is None:
        return Link(everything=True)
    target = np.expand_dims(np.arange(math.prod(shape)).reshape(shape), axis)
    rows = np.broadcast_to(target, own).ravel()
    return Link(matrix=_ones(rows, np.arange(math.prod(own)), (math.prod(shape), math.prod(own))))


def _running(own: tuple[int, ...], axis: int) -> Link:
    n, size = own[axis], math.prod(own)
    if size * n > 2 * MOST_ENTRIES:
        raise PatternTooLarge
    count = np.moveaxis(np.arange(size).reshape(own), axis, -1).reshape(-1, n)
    low, high = np.tril_indices(n)
    return Link(matrix=_ones(count[:, low].ravel(), count[:, high].ravel(), (size, size)))


def _product(graph: Graph, number: int, place: int) -> Link:
    from scipy.sparse import csr_array, eye_array, kron

    a, b = (graph.shape(operand) for operand in graph.nodes[number].operands)
    m, p, q = (a[0] if len(a) == 2 else 1), a[-1], (b[-1] if len(b) == 2 else 1)
    if m * p * q > MOST_ENTRIES:
        raise PatternTooLarge
    if place == 0:
        found = kron(eye_array(m, dtype=np.int8), np.ones((q, p), dtype=np.int8), format="csr")
    else:
        found = kron(np.ones((m, p), dtype=np.int8), eye_array(q, dtype=np.int8), format="csr")
    return Link(matrix=csr_array(found))


def _model_link(graph: Graph, number: int, place: int) -> Link:
    """Return how outputs and their derivatives look at a call (whose elements are its inputs', one after the other) or
    at adjoints and changes."""
    node = graph.nodes[number]
    call = graph.nodes[node.operands[0]]
    detail: Any = node.detail
    if call.index not in graph.model_patterns:
        return Link(everything=True)
    pattern, inputs, outputs = graph.model_patterns[call.index]

    def rows(k: int) -> slice:
        return slice(int(outputs[k]), int(outputs[k + 1]))

    def columns(k: int) -> slice:
        return slice(int(inputs[k]), int(inputs[k + 1]))

    wide = pattern.astype(np.int64)
    if node.operation == "output":
        return Link(matrix=wide[rows(detail[0]), :])
    if node.operation == "model_vjp" and place > 0:
        return Link(matrix=wide[rows(detail[1][place - 1]), columns(detail[0])].T.tocsr())
    if node.operation == "model_vjp":
        return Link(matrix=(wide.T @ wide).tocsr()[columns(detail[0]), :])
    if node.operation == "model_hvp":
        curved = (wide.T @ wide).tocsr()
        if place == 0:
            return Link(matrix=curved[columns(detail[0]), :])
        if place <= len(detail[1]):
            return Link(matrix=wide[rows(detail[1][place - 1]), columns(detail[0])].T.tocsr())
        return Link(matrix=curved[columns(detail[0]), columns(detail[2][place - 1 - len(detail[1])])])
    if place > 0:
        return Link(matrix=wide[rows(detail[0]), columns(detail[1][place - 1])])
    return Link(matrix=(wide @ (wide.T @ wide)).tocsr()[rows(detail[0]), :])


def patterns(graph: Graph, roots: Sequence[int], offsets: Mapping[int, int], columns: int) -> list[Any]:
    """Return for each root its pattern: a CSR array (root size, columns) of ones.

    `offsets` is {variable index: the column of its first element}. Raises PatternTooLarge.
    """
    from scipy.sparse import csr_array

    found: dict[int, Any] = {}
    order = graph.reachable(roots)
    last_use = {operand: number for number in order for operand in graph.nodes[number].operands}
    keep = set(roots)
    for number in order:
        node = graph.nodes[number]
        if node.operation == "variable":
            if node.index in offsets:
                first, size = offsets[node.index], node.size
                found[number] = csr_array(
                    (np.ones(size, dtype=np.int8), np.arange(first, first + size), np.arange(size + 1)),
                    shape=(size, columns),
                )
            continue
        if node.operation == "call":
            if any(operand in found for operand in node.operands):
                found[number] = _stacked(
                    [found.get(o) for o in node.operands], [graph.nodes[o].size for o in node.operands], columns
                )
            continue
        merged = None
        for place, operand in enumerate(node.operands):
            if operand not in found:
                continue
            its = link(graph, number, place)
            if its is not None:
                merged = _union(merged, _carried(its, found[operand], node.size))
        if merged is not None:
            if merged.nnz > MOST_ENTRIES:
                raise PatternTooLarge
            found[number] = merged
        for operand in node.operands:
            if last_use[operand] == number and operand not in keep:
                found.pop(operand, None)
    return [
        found[root] if root in found else csr_array((graph.nodes[root].size, columns), dtype=np.int8) for root in roots
    ]


def _stacked(parts: Sequence[Any], sizes: Sequence[int], columns: int) -> Any:
    """Return patterns one below the other, empty rows for those that do not vary."""
    from scipy.sparse import csr_array, vstack

    rows = [csr_array((n, columns), dtype=np.int8) if p is None else p for p, n in zip(parts, sizes, strict=True)]
    return csr_array(vstack(rows, format="csr"))


def _carried(its: Link, pattern: Any, size: int) -> Any:
    if its.everything:
        return _all_rows(pattern, size)
    if its.matrix is not None:
        product = its.matrix.astype(np.int64) @ pattern.astype(np.int64)
        product.data = np.ones(product.nnz, dtype=np.int8)
        return product
    if its.source is None:
        return pattern
    if (its.source >= 0).all():
        return pattern[its.source]
    # Rows without a source are empty: one empty row is put behind the pattern for them.
    indptr = np.append(pattern.indptr, pattern.indptr[-1])
    padded = type(pattern)((pattern.data, pattern.indices, indptr), shape=(pattern.shape[0] + 1, pattern.shape[1]))
    return padded[np.where(its.source >= 0, its.source, pattern.shape[0])]


def _all_rows(pattern: Any, size: int) -> Any:
    columns = np.unique(pattern.indices)
    if len(columns) * size > MOST_ENTRIES:
        raise PatternTooLarge
    indptr = np.arange(size + 1, dtype=np.int64) * len(columns)
    data = np.ones(len(columns) * size, dtype=np.int8)
    return type(pattern)((data, np.tile(columns, size), indptr), shape=(size, pattern.shape[1]))


def _union(one: Any, other: Any) -> Any:
    if one is None:
        return other
    both = one + other
    both.data = np.ones(both.nnz, dtype=np.int8)
    return both


def depends_on(
    graph: Graph,
    marks: Mapping[int, NDArray[np.bool_]],
    *,
    conditions: Mapping[int, NDArray[np.bool_]] | None = None,
) -> dict[int, NDArray[np.bool_]]:
    """Return which elements of every varying node the marked elements of some nodes are made of: {node: mask}.

    A mask has the shape of its node. Conditions count as used. With `conditions`, {node of a where: its choice},
    only the branch chosen counts.
    """
    order = graph.reachable(marks)
    fixed = fixed_nodes(graph, order)
    used = {number: np.array(mask, dtype=bool) for number, mask in marks.items()}
    for number in reversed(order):
        mask = used.get(number)
        if mask is None or number in fixed:
            continue
        node = graph.nodes[number]
        for place, operand in enumerate(node.operands):
            if operand in fixed:
                continue
            if operand not in used:
                used[operand] = np.zeros(graph.shape(operand), dtype=bool)
            # What a model's outputs are made of is not known of values, only of derivatives.
            its = Link(everything=True) if node.operation in MODEL_NODES else use(graph, number, place)
            mine = mask
            if conditions is not None and node.operation == "where" and place > 0:
                mine = mask & (conditions[number] if place == 1 else ~conditions[number])
            used[operand] |= _marked(its, mine, graph.shape(operand))
    return used


def _marked(its: Link, mask: NDArray[np.bool_], own: tuple[int, ...]) -> NDArray[np.bool_]:
    if its.everything:
        return np.full(own, bool(mask.any()))
    if its.matrix is not None:
        return np.asarray(its.matrix.T.astype(np.int64) @ mask.ravel().astype(np.int64) > 0).reshape(own)
    if its.source is None:
        return mask
    found = np.zeros(math.prod(own), dtype=bool)
    chosen = its.source[mask.ravel() & (its.source >= 0)] if (its.source < 0).any() else its.source[mask.ravel()]
    found[chosen] = True
    return found.reshape(own)
