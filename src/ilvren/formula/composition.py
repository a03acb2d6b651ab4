"""Which formulas are convex or concave by the way they are composed: rules that no rounding touches.

A convex non-decreasing function of a convex one is convex, a convex function of an affine one is convex, and so on;
the signs that some rules need come from intervals. What no rule covers is not known.

Source: S. Boyd, L. Vandenberghe, "Convex Optimization", 2004, sections 3.1 and 3.2.
"""

from __future__ import annotations

from collections.abc import Mapping, Sequence
from typing import TYPE_CHECKING

import numpy as np

if TYPE_CHECKING:
    from ilvren.formula.graph import Graph
    from ilvren.formula.interval_arithmetic import Box

__all__ = ["curvatures"]

# A node's curvature: it is convex, and it is concave; both: affine.
Kind = tuple[bool, bool]
AFFINE: Kind = (True, True)
CONVEX: Kind = (True, False)
CONCAVE: Kind = (False, True)
UNKNOWN: Kind = (False, False)


def curvatures(graph: Graph, roots: Sequence[int], boxes: Mapping[int, Box], fixed: set[int]) -> dict[int, Kind]:
    """Return (convex, concave) of every node of scalar formulas, over the variables' `boxes`; `fixed` are constant."""
    found: dict[int, Kind] = {}
    for number in graph.reachable(roots):
        node = graph.nodes[number]
        if number in fixed or node.operation == "variable":
            found[number] = AFFINE
            continue
        operands = [found[operand] for operand in node.operands]
        ends = [(float(np.min(boxes[o][0])), float(np.max(boxes[o][1]))) for o in node.operands]
        held = [operand in fixed for operand in node.operands]
        found[number] = _composed(node.operation, operands, ends, held, node.operands)
    return found


def _flipped(kind: Kind) -> Kind:
    return kind[1], kind[0]


def _times(kind: Kind, factor: tuple[float, float]) -> Kind:
    """A constant times a function; the constant's ends tell its sign."""
    if factor[0] >= 0.0:
        return kind
    return _flipped(kind) if factor[1] <= 0.0 else UNKNOWN


def _composed(
    operation: str, kinds: list[Kind], ends: list[tuple[float, float]], held: list[bool], operands: tuple[int, ...]
) -> Kind:
    a = kinds[0]
    low, high = ends[0]
    match operation:
        case "neg":
            return _flipped(a)
        case "add":
            return a[0] and kinds[1][0], a[1] and kinds[1][1]
        case "sub":
            return a[0] and kinds[1][1], a[1] and kinds[1][0]
        case "mul" if held[0]:
            return _times(kinds[1], ends[0])
        case "mul" if held[1]:
            return _times(a, ends[1])
        case "mul" if operands[0] == operands[1]:
            return _squared(a, low, high)
        case "div" if held[1] and (ends[1][0] > 0.0 or ends[1][1] < 0.0):
            return _times(a, ends[1])
        case "div" if held[0]:
            return _times(_power(kinds[1], ends[1], -1.0), ends[0])
        case "square":
            return _squared(a, low, high)
        case "pow" if held[1] and ends[1][0] == ends[1][1]:
            return _power(a, ends[0], ends[1][0])
        case "exp":
            return CONVEX if a[0] else UNKNOWN
        case "log" | "log10" | "sqrt":
            return CONCAVE if a[1] else UNKNOWN
        case "abs":
            is_convex = a == AFFINE or (a[0] and low >= 0.0) or (a[1] and high <= 0.0)
            return CONVEX if is_convex else UNKNOWN
        case "cosh":
            is_convex = a == AFFINE or (a[0] and low >= 0.0) or (a[1] and high <= 0.0)
            return CONVEX if is_convex else UNKNOWN
        case "max":
            return CONVEX if a[0] and kinds[1][0] else UNKNOWN
        case "min":
            return CONCAVE if a[1] and kinds[1][1] else UNKNOWN
        case "hypot":
            return CONVEX if a == AFFINE and kinds[1] == AFFINE else UNKNOWN
    return UNKNOWN


def _squared(kind: Kind, low: float, high: float) -> Kind:
    is_convex = kind == AFFINE or (kind[0] and low >= 0.0) or (kind[1] and high <= 0.0)
    return CONVEX if is_convex else UNKNOWN


def _power(kind: Kind, ends: tuple[float, float], c: float) -> Kind:
    """x^c of a function x with these ends."""
    low, high = ends
    is_whole = c == round(c)
    if c == 1.0:
        return kind
    if c > 1.0 and is_whole and c % 2.0 == 0.0:
        return _squared(kind, low, high)
    if c > 1.0 and low >= 0.0:
        return CONVEX if kind[0] else UNKNOWN
    if c > 1.0 and is_whole and high <= 0.0:  # an odd power of what is negative
        return CONCAVE if kind[1] else UNKNOWN
    if 0.0 < c < 1.0:
        return CONCAVE if kind[1] else UNKNOWN  # valid at low >= 0 only, where alone it is defined
    if c < 0.0 and low > 0.0:
        return CONVEX if kind[1] else UNKNOWN
    return UNKNOWN
