"""Kinks lifted: formulas with abs, min and max as smooth ones of more unknowns under more limits.

Where K = max(u_1, …, u_k) stands in what is to be small and can only make that larger, it may be replaced by an unknown

    t >= u_i   for all i                                                                            (1)

a t above K being no better than K itself; |u| is max(u, −u), and a min in what is to be large is treated alike, upside
down. What a kink is made of is pressed in turn by its own limits (1), so kinks within kinks are lifted, too. Whether a
formula can only grow with t is read off the intervals of its derivative over the variables' boxes and all t from the
least value of K upwards; a kink for which that is not proved, or that is evaluated in one branch of `where` only, stays
as it is.

Source: the epigraph form, S. Boyd, L. Vandenberghe, "Convex Optimization", 2004, section 4.1.3, with monotonicity in
place of convexity.
"""

from __future__ import annotations

import math
from collections.abc import Mapping, Sequence
from typing import Any

import numpy as np
from numpy.typing import NDArray

from ilvren.formula.graph import INPUTS, Graph, Shape, ShapeMismatch, joint_shape
from ilvren.formula.intervals import Box, Intervals
from ilvren.formula.operators import OPERATIONS
from ilvren.formula.reverse import weighted_gradient
from ilvren.formula.rules import RULES
from ilvren.formula.sparsity import use
from ilvren.records import dataclass

__all__ = ["Entry", "LiftedKink", "Lifting", "lift"]

IntArray = NDArray[np.int64]

# +1: K is the largest of its parts, pressed down; −1: the smallest, pressed up.
SIDES = {"abs": 1, "max": 1, "min": -1}
# Operations that only move elements: a reduction by max looks through them at what it is the largest of.
MOVING = frozenset({"index", "take", "reshape", "transpose", "join", "broadcast", "expand"})
# The end of an interval this near to 0 is 0 that was widened.
WIDENED = 1e-290
# Kinks that cannot be lifted are found in so many rounds, or nothing is lifted.
MOST_ROUNDS = 30


@dataclass(frozen=True)
class Entry:
    """A formula and the ways in which it is pressed: 1 to be small, −1 to be large, both for an equality."""

    node: int
    pressed: frozenset[int]


@dataclass(frozen=True)
class LiftedKink:
    """A kink `node` and the unknown in its place, variable number `index`; `rows` are the nodes that (1) holds at or
    above 0, `terms` what each is the difference of; `side` as in SIDES, `box` the values that the kink can take."""

    node: int
    index: int
    shape: Shape
    side: int
    rows: tuple[int, ...]
    terms: tuple[tuple[int, int], ...]
    box: Box


@dataclass(frozen=True)
class Lifting:
    """The entries' nodes with kinks lifted, the kinks, outer ones first, and whether the unknowns must keep within the
    kinks' own values, because something is not defined beyond."""

    nodes: tuple[int, ...]
    kinks: tuple[LiftedKink, ...]
    is_bounded: bool


def lift(
    graph: Graph, entries: Sequence[Entry], boxes: Mapping[int, Box], parameters: Sequence[Any], first: int
) -> Lifting | None:
    """Return the entries with all kinks lifted that can be, the unknowns being variables from number `first` on; None
    where there are none. `boxes` are those of the variables."""
    draft = _Draft(graph, [entry.node for entry in entries], frozenset(), first)
    if not draft.parts:
        return None
    values = Intervals(graph, [entry.node for entry in entries], boxes, parameters)
    kept: frozenset[int] = frozenset()
    for _ in range(MOST_ROUNDS):
        known = {k: values.boxes[k] for k in draft.parts}
        wrong = _wrongly_pressed(draft, entries, {**boxes, **draft.boxes(known, is_bounded=True)}, parameters)
        if not wrong:
            return draft.lifting(boxes, known, parameters) if draft.parts else None
        kept |= wrong
        draft = _Draft(graph, [entry.node for entry in entries], kept, first)
    return None


class _Draft:
    """Formulas with every kink lifted but those that are `kept`."""

    def __init__(self, graph: Graph, roots: Sequence[int], kept: frozenset[int], first: int) -> None:
        self.graph = graph
        self.first = first
        # What only one branch of a `where` needs has no value elsewhere, and no limit may speak of it.
        branched = {number for number, context in graph.contexts(roots).items() if context}
        order = graph.reachable(roots)
        self._lifted = {n for n in order if graph.nodes[n].operation in SIDES and n not in kept and n not in branched}
        varying = _varying(graph, order)
        self._lifted = {number for number in self._lifted if number in varying}
        self._inner = {operation: _reductions(graph, order, operation) for operation in ("max", "min")}
        self.made: dict[int, int] = {}
        self.unknowns: dict[int, int] = {}  # kink → its variable's node
        self.parts: dict[int, list[tuple[int, bool]]] = {}  # kink → (leaf, is_negated)
        self._rewrite(roots)
        self.roots = [self.made[root] for root in roots]
        self.rows = {
            kink: [self._row(kink, leaf, is_negated=sign) for leaf, sign in parts] for kink, parts in self.parts.items()
        }

    def _rewrite(self, roots: Sequence[int]) -> None:
        waiting = list(roots)
        while waiting:
            order, waiting = self._needed(waiting), []
            for number in order:
                if number in self._lifted:
                    index = self.first + len(self.unknowns)
                    self.unknowns[number] = self.made[number] = self.graph.variable(index, self.graph.shape(number))
                    self.parts[number] = self._parts_of(number)
                    waiting += [leaf for leaf, _ in self.parts[number]]
                else:
                    self.made[number] = self._again(number)

    def _needed(self, roots: Sequence[int]) -> list[int]:
        """Return what is still to be made for some roots, operands first; nothing below a lifted kink."""
        seen: set[int] = set()
        stack = list(roots)
        while stack:
            number = stack.pop()
            if number in seen or number in self.made:
                continue
            seen.add(number)
            if number not in self._lifted:
                stack.extend(self.graph.nodes[number].operands)
        return sorted(seen)

    def _again(self, number: int) -> int:
        graph, node = self.graph, self.graph.nodes[number]
        operands = tuple(self.made[operand] for operand in node.operands)
        if operands == node.operands or node.operation in INPUTS:
            return number
        if node.operation in OPERATIONS:
            found = graph.apply(node.operation, *operands)
        else:
            found = graph.arrange(node.operation, operands, node.shape, node.detail, node.index)
        origin = graph.origins.get(number)
        if origin is not None:
            graph.origins.setdefault(found, origin)
        return found

    def _parts_of(self, kink: int) -> list[tuple[int, bool]]:
        """Return what a kink is the largest (smallest) of: nodes, and whether the negative of each is meant."""
        nodes = self.graph.nodes
        operation = nodes[kink].operation
        leaves = [kink] if operation == "abs" else _leaves(self.graph, kink, self._inner[operation])
        parts: list[tuple[int, bool]] = []
        for leaf in nodes[kink].operands if leaves is None else leaves:
            if operation != "min" and nodes[leaf].operation == "abs":
                inside = nodes[leaf].operands[0]
                parts += [(inside, False), (inside, True)]
            else:
                parts.append((leaf, False))
        return parts

    def _row(self, kink: int, leaf: int, *, is_negated: bool) -> tuple[int, tuple[int, int]]:
        """Return the row (1) of one part, at or above 0, and its two terms."""
        graph = self.graph
        t, own = self.unknowns[kink], self.made[leaf]
        if SIDES[graph.nodes[kink].operation] < 0:
            return graph.apply("sub", own, t), (t, own)
        return graph.apply("add" if is_negated else "sub", t, own), (t, own)

    def boxes(self, known: Mapping[int, Box], *, is_bounded: bool) -> dict[int, Box]:
        """Return the unknowns' boxes by variable number: from the kinks' own values on, or without an end."""
        found = {}
        for kink in self.unknowns:
            low, high = (np.broadcast_to(side, self.graph.shape(kink)) for side in known[kink])
            is_down = SIDES[self.graph.nodes[kink].operation] > 0
            low = low if is_bounded and is_down else np.full(low.shape, -np.inf)
            high = high if is_bounded and not is_down else np.full(high.shape, np.inf)
            found[self._index(kink)] = (low, high)
        return found

    def _index(self, kink: int) -> int:
        return self.graph.nodes[self.unknowns[kink]].index

    def lifting(self, boxes: Mapping[int, Box], known: Mapping[int, Box], parameters: Sequence[Any]) -> Lifting:
        """Return what has been made."""
        everything = [*self.roots, *(row for rows in self.rows.values() for row, _ in rows)]
        faults = [
            len(Intervals(self.graph, everything, {**boxes, **self.boxes(known, is_bounded=b)}, parameters).faults())
            for b in (False, True)
        ]
        kinks = []
        for kink, rows in self.rows.items():
            node = self.graph.nodes[kink]
            terms = tuple(own for _, own in rows)
            kinks.append(
                LiftedKink(
                    kink,
                    self._index(kink),
                    node.shape,
                    SIDES[node.operation],
                    tuple(row for row, _ in rows),
                    terms,
                    known[kink],
                )
            )
        return Lifting(tuple(self.roots), tuple(kinks), faults[0] > faults[1])


def _varying(graph: Graph, order: Sequence[int]) -> set[int]:
    found: set[int] = set()
    for number in order:
        node = graph.nodes[number]
        if node.operation == "variable" or any(operand in found for operand in node.operands):
            found.add(number)
    return found


def _reductions(graph: Graph, order: Sequence[int], operation: str) -> set[int]:
    """Return the nodes of an operation, and those that only move the elements of such (or, for max, of abs)."""
    led = {operation, "abs"} if operation == "max" else {operation}
    found: set[int] = set()
    for number in order:
        node = graph.nodes[number]
        leads = any(o in found or graph.nodes[o].operation in led for o in node.operands)
        if node.operation == operation or (node.operation in MOVING and leads):
            found.add(number)
    return found


def _leaves(graph: Graph, kink: int, inner: set[int]) -> list[int] | None:
    """Return what a tree of one operation looks over; None where that does not fall into elements beside elements."""
    reach: dict[int, list[tuple[IntArray, IntArray]]] = {}
    every = np.arange(graph.nodes[kink].size, dtype=np.int64)
    reach[kink] = [(every, every)]
    leaves: list[int] = []
    while reach:
        number = max(reach)
        pairs = reach.pop(number)
        at, own = (np.concatenate(side) for side in zip(*pairs, strict=True))
        if number not in inner:
            if not _is_beside(graph.shape(kink), graph.shape(number), at, own):
                return None
            leaves.append(number)
            continue
        for place, operand in enumerate(graph.nodes[number].operands):
            source = use(graph, number, place).source
            looked_at = own if source is None else source[own]
            used = looked_at >= 0
            reach.setdefault(operand, []).append((at[used], looked_at[used]))
    return leaves[::-1]


def _is_beside(kink: Shape, leaf: Shape, at: IntArray, own: IntArray) -> bool:
    """Return whether the pairs (element of the kink, of the leaf) are those of the two side by side, lengths of one
    stretched."""
    try:
        joint = joint_shape(kink, leaf)
    except ShapeMismatch:
        return False
    sides = []
    for shape in (kink, leaf):
        count = np.arange(math.prod(shape)).reshape(shape)
        sides.append(np.broadcast_to(count, joint).ravel())
    expected, pairs = (np.unique(np.stack(both, axis=1), axis=0) for both in (sides, [at, own]))
    return bool(np.array_equal(expected, pairs))


def _wrongly_pressed(
    draft: _Draft, entries: Sequence[Entry], boxes: Mapping[int, Box], parameters: Sequence[Any]
) -> frozenset[int]:
    """Return the lifted kinks that are, or may be, pressed the wrong way somewhere."""
    graph = draft.graph
    asked: list[tuple[int, frozenset[int], int | None]] = [
        (made, entry.pressed, None) for made, entry in zip(draft.roots, entries, strict=True)
    ]
    for kink, rows in draft.rows.items():
        asked += [(row, frozenset({-1}), kink) for row, _ in rows]
    kinks = {draft.graph.nodes[node].index: kink for kink, node in draft.unknowns.items()}
    weights: dict[Shape, int] = {}
    slopes: list[tuple[int, int, frozenset[int]]] = []  # kink, node of the derivative, how its formula is pressed
    wrong: set[int] = set()
    for node, pressed, own in asked:
        wrong |= {kinks[index] for index in _compared(graph, node) if index in kinks}
        shape = graph.shape(node)
        if shape and shape not in weights:
            weights[shape] = graph.variable(draft.first + len(draft.unknowns) + len(weights), shape)
        weight = weights[shape] if shape else graph.constant(1.0)
        for index, slope in weighted_gradient(graph, {node: weight}).items():
            if index in kinks and kinks[index] != own:
                slopes.append((kinks[index], slope, pressed))
    unit = {graph.nodes[w].index: (np.zeros(shape), np.ones(shape)) for shape, w in weights.items()}
    found = Intervals(graph, [slope for _, slope, _ in slopes], {**boxes, **unit}, parameters).boxes
    for kink, slope, pressed in slopes:
        low, high = found[slope]
        side = SIDES[graph.nodes[kink].operation]
        for way in pressed:
            is_right = bool((low >= -WIDENED).all()) if way == side else bool((high <= WIDENED).all())
            if not is_right:
                wrong.add(kink)
    return frozenset(wrong)


def _compared(graph: Graph, node: int) -> set[int]:
    """Return the variables that a formula compares or looks up: what it does with them no derivative tells."""
    found: list[int] = []
    for number in graph.reachable([node]):
        rule = RULES.get(graph.nodes[number].operation)
        if rule is not None:
            operands = graph.nodes[number].operands
            found += [operand for place, operand in enumerate(operands) if not rule.is_sloped(place)]
    return graph.variables_of(found) if found else set()
