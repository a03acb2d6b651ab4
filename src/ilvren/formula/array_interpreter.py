"""Node-by-node evaluation on arrays: what `interpret` is for scalars. Every element carries whether it is valid:
computed from finite numbers alone, as far as its result used them."""

from __future__ import annotations

from collections.abc import Callable, Sequence
from functools import cache
from typing import TYPE_CHECKING, Any

import numpy as np
from numpy.typing import NDArray

from ilvren.formula.array_code import batched_nodes
from ilvren.formula.arrays import CODE_SPACE, ELEMENTWISE, STRUCTURAL, lifted
from ilvren.formula.interpretation import Interpretation, Kink, Trouble
from ilvren.formula.operators import OPERATIONS, why_not_finite
from ilvren.formula.places import PLACES, gaps as place_gaps
from ilvren.formula.rules import MODEL_NODES
from ilvren.formula.sparsity import depends_on
from ilvren.records import dataclass

if TYPE_CHECKING:
    from ilvren.formula.graph import Graph, GraphNode

__all__ = ["ArrayWalk", "Fresh", "interpret_arrays", "walk_with_troubles"]

Array = NDArray[Any]
Mask = NDArray[np.bool_]

_COMPARISONS = ("<=", "<", ">=", ">", "==", "!=")
# Rearrangements, whose masks are rearranged alike.
_MOVES = ("index", "expand", "broadcast", "reshape", "transpose", "join", "scatter", "take")


@dataclass(frozen=True)
class Fresh:
    """A node that made invalid elements from valid ones: `mask` says which; `arguments` its operands' values."""

    node: int
    mask: Mask
    arguments: tuple[Array, ...]
    value: Array
    reason: str = ""


@dataclass(frozen=True)
class ArrayWalk:
    """`values` of the roots, NaN where invalid; `fresh` what went wrong first, in order; `gaps` {node: what changes
    its sign where an operation changes its branch}, without a batch; `conditions` {node of a where: its choice}."""

    values: tuple[Array, ...]
    fresh: tuple[Fresh, ...]
    gaps: dict[int, Array]
    conditions: dict[int, Array]


@cache
def _elementwise(operation: str) -> Callable[..., Array]:
    count = 3 if operation == "where" else 2 if "{1}" in ELEMENTWISE[operation] else 1
    names = ["a", "b", "c"][:count]
    text = f"lambda {', '.join(names)}: {ELEMENTWISE[operation].format(*names)}"
    made: Callable[..., Array] = eval(text, {"__builtins__": {}, **CODE_SPACE})  # noqa: S307 - from the table
    return made


class _State:
    def __init__(self) -> None:
        self.values: dict[int, Any] = {}
        self.masks: dict[int, Mask] = {}
        self.fresh: list[Fresh] = []
        self.gaps: dict[int, Array] = {}
        self.conditions: dict[int, Array] = {}


def interpret_arrays(
    graph: Graph,
    roots: Sequence[int],
    variables: Sequence[Any] = (),
    parameters: Sequence[Any] = (),
    weights: Sequence[Any] = (),
    tangents: Sequence[Any] = (),
    *,
    models: Sequence[Any] = (),
    batch: Sequence[str] = (),
) -> ArrayWalk:
    """Evaluate `roots`. Inputs are arrays by index; those of the kinds in `batch` have a batch axis in front."""
    inputs = {"variable": variables, "parameter": parameters, "weight": weights, "tangent": tangents}
    schedule = graph.schedule(roots)
    batched = batched_nodes(graph, [number for number, _ in schedule], batch)
    state = _State()
    with np.errstate(all="ignore"):
        for number, context in schedule:
            node = graph.nodes[number]
            if node.operation == "constant":
                state.values[number], state.masks[number] = np.float64(node.value), np.zeros((), dtype=bool)
            elif node.operation in inputs:
                value = np.asarray(inputs[node.operation][node.index], dtype=float)
                _keep(state, number, value, np.zeros(np.shape(value), dtype=bool), ())
            elif node.operation in MODEL_NODES:
                _model(graph, number, node, context, state, models, batched)
            else:
                _operation(graph, number, node, state, batched)
    found = []
    for root in roots:
        value, mask = state.values[root], state.masks[root]
        if not isinstance(value, (np.ndarray, np.generic, float)):
            raise TypeError("a call has no value of its own")
        found.append(np.where(mask, np.nan, value) if np.any(mask) else np.asarray(value, dtype=float))
    return ArrayWalk(tuple(found), tuple(state.fresh), state.gaps, state.conditions)


def _keep(
    state: _State, number: int, value: Array, inherited: Mask, given: tuple[Array, ...], reason: str = ""
) -> None:
    state.values[number] = value
    own = np.zeros(np.shape(value), dtype=bool) if value.dtype == bool else ~np.isfinite(value)
    fresh = own & ~inherited
    if np.any(fresh):
        state.fresh.append(Fresh(number, fresh, given, value, reason))
    state.masks[number] = own | inherited


def _operation(graph: Graph, number: int, node: GraphNode, state: _State, batched: set[int]) -> None:
    given = tuple(state.values[operand] for operand in node.operands)
    masks = tuple(state.masks[operand] for operand in node.operands)
    if node.operation in STRUCTURAL:
        value = STRUCTURAL[node.operation](node.detail, *given)
        _keep(state, number, np.asarray(value), _structural_mask(node, given, masks, np.shape(value)), given)
        if not batched and node.operation in PLACES:
            state.gaps[number] = place_gaps(node.operation, given)
        if not batched and node.operation == "norm":
            state.gaps[number] = np.asarray(value)
        if not batched and node.operation == "interp":
            at, xs = np.asarray(given[0]), given[1]
            nearest = np.abs(at[..., np.newaxis] - xs).argmin(axis=-1)
            state.gaps[number] = at - xs[nearest]
        return
    rank = len(node.shape)
    if rank:
        given, masks = (
            tuple(
                lifted(item, rank) if operand in batched and not graph.shape(operand) else item
                for operand, item in zip(node.operands, items, strict=True)
            )
            for items in (given, masks)
        )
    value = np.asarray(_elementwise(node.operation)(*given))
    if node.operation == "where":
        state.conditions[number] = np.broadcast_to(np.asarray(given[0], dtype=bool), np.shape(value))
        inherited = masks[0] | np.where(given[0], masks[1], masks[2])
    elif node.operation in ("mul_live", "div_live"):
        inherited = masks[0] | (masks[1] & np.not_equal(given[0], 0.0))  # 0 stays 0 whatever the factor
    else:
        inherited = masks[0]
        for mask in masks[1:]:
            inherited = inherited | mask
    _keep(state, number, value, np.broadcast_to(inherited, np.shape(value)), given)
    gap = _gap(node.operation, given)
    if gap is not None and not batched:
        state.gaps[number] = gap


def _structural_mask(
    node: GraphNode, given: tuple[Array, ...], masks: tuple[Mask, ...], shape: tuple[int, ...]
) -> Mask:
    if not any(np.any(mask) for mask in masks):
        return np.zeros(shape, dtype=bool)
    full = [np.broadcast_to(mask, np.shape(value)) for mask, value in zip(masks, given, strict=True)]
    if node.operation in _MOVES:
        return np.asarray(STRUCTURAL[node.operation](node.detail, *full)) > 0
    amounts = [mask.astype(float) for mask in full]
    match node.operation:
        case "sum" | "shrink" | "cumsum" | "norm" | "give_back":
            return np.asarray(STRUCTURAL[node.operation](node.detail, amounts[0])) > 0.0
        case "level":
            return (STRUCTURAL["sum"](_axis_of(node), amounts[0]) > 0.0) | np.broadcast_to(masks[1], shape)
        case "dot":
            ones = [np.ones(np.shape(value)) for value in given]
            dot = STRUCTURAL["dot"]
            return (dot(node.detail, amounts[0], ones[1]) > 0.0) | (dot(node.detail, ones[0], amounts[1]) > 0.0)
    return np.ones(shape, dtype=bool)  # tables: one invalid entry spoils the result


def _axis_of(node: GraphNode) -> tuple[object, ...]:
    assert node.detail is not None
    return node.detail[:2]


def _model(
    graph: Graph,
    number: int,
    node: GraphNode,
    context: tuple[tuple[int, bool], ...],
    state: _State,
    models: Sequence[Any],
    batched: set[int],
) -> None:
    given = [state.values[operand] for operand in node.operands]
    bad = [state.masks[operand] for operand in node.operands]
    if node.operation == "call":
        guard: Any = None
        for condition, side in context:
            holds = np.equal(state.values[condition], side)
            rank = len(graph.shape(condition))
            holds = np.any(holds, axis=tuple(range(-rank, 0))) if rank else holds
            guard = holds if guard is None else np.logical_and(guard, holds)
        flags = tuple(operand in batched for operand in node.operands)
        spoilt = [
            np.where(mask, np.nan, value) if np.any(mask) else value for mask, value in zip(bad, given, strict=True)
        ]
        state.values[number] = models[node.index](guard, flags, spoilt)
        state.masks[number] = np.zeros((), dtype=bool)
        return
    call = given[0]
    if node.operation == "output":
        assert node.detail is not None
        value = call.output(node.detail[0])
        _keep(state, number, value, np.full(np.shape(value), call.is_spoilt), tuple(call.inputs), call.reason)
        return
    word = node.operation.removeprefix("model_")
    value = np.asarray(getattr(call, word)(node.detail, given[1:]))
    inherited = np.full(np.shape(value), any(np.any(mask) for mask in bad[1:]))
    _keep(state, number, value, inherited, tuple(call.inputs), call.reason)


def _gap(operation: str, given: tuple[Array, ...]) -> Array | None:
    if operation == "abs":
        return np.asarray(given[0])
    if operation in ("min", "max", *_COMPARISONS):
        return np.asarray(np.subtract(given[0], given[1]))
    if operation == "hypot":
        return np.maximum(np.abs(given[0]), np.abs(given[1]))
    return None


def walk_with_troubles(
    graph: Graph,
    roots: Sequence[int],
    variables: Sequence[Any],
    parameters: Sequence[Any],
    weights: Sequence[Any] = (),
    models: Sequence[Any] = (),
) -> Interpretation:
    """Like `interpreter.interpret`, for graphs with arrays: values are arrays, or floats for scalars."""
    seen = interpret_arrays(graph, roots, variables, parameters, weights, models=models)
    values = [value if graph.shape(root) else float(value) for root, value in zip(roots, seen.values, strict=True)]
    troubles = [_trouble(graph, seen, root, value) for root, value in zip(roots, seen.values, strict=True)]
    kinks = tuple(
        Kink(number, graph.nodes[number].operation, gap, graph.origins.get(number)) for number, gap in seen.gaps.items()
    )
    return Interpretation(tuple(values), tuple(troubles), kinks)


def _trouble(graph: Graph, seen: ArrayWalk, root: int, value: Array) -> Trouble | None:
    """Return what first went wrong on the way to the first invalid element of a root."""
    invalid = ~np.isfinite(value)
    if not invalid.any():
        return None
    mark = np.zeros(np.shape(value), dtype=bool)
    mark[np.unravel_index(int(invalid.argmax()), mark.shape) if mark.shape else ()] = True
    used = depends_on(graph, {root: mark}, conditions=seen.conditions)
    for fresh in seen.fresh:
        own = used.get(fresh.node)
        if own is None and not graph.variables_of([fresh.node]):
            own = np.ones((), dtype=bool)  # a fixed value, whose elements are not followed
        if own is not None and np.any(both := fresh.mask & own):
            at = np.unravel_index(int(np.argmax(both)), np.shape(both)) if np.ndim(both) else ()
            return _told(graph, fresh, tuple(int(place) for place in at))
    return Trouble("", (), float("nan"), "", graph.origins.get(root))


def _told(graph: Graph, fresh: Fresh, at: tuple[int, ...]) -> Trouble:
    node = graph.nodes[fresh.node]
    arguments: tuple[float, ...] = ()
    reason = fresh.reason
    value = float(fresh.value[at])
    if node.operation in OPERATIONS:
        arguments = tuple(float(np.broadcast_to(item, node.shape)[at]) for item in fresh.arguments)
        reason = reason or why_not_finite(node.operation, arguments, value)
    elif node.operation in ("lookup", "interp"):
        wanted = float(np.broadcast_to(fresh.arguments[0], node.shape)[at])
        arguments = (wanted,)
        if node.operation == "lookup":
            keys = fresh.arguments[1]
            near = float(keys[np.abs(keys - wanted).argmin()])
            reason = f"no key equals {wanted:.12g}; the nearest is {near:.12g}"
    is_fixed = not graph.variables_of([fresh.node])
    return Trouble(node.operation, arguments, value, reason, graph.origins.get(fresh.node), at, is_fixed)
