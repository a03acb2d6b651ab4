"""What the bounds and the formulas alone decide: limits that cannot hold, exclude each other, or always hold; variables
left one value; formulas that can become invalid. By interval arithmetic, without any run."""

from __future__ import annotations

import math

import numpy as np
from numpy.typing import NDArray

from ilvren.evaluate import Gate, measured
from ilvren.formula import Box, Intervals, PossibleFault
from ilvren.judge.checking.finding import Finding, listed
from ilvren.problem import Problem, RowBlock, element_name
from ilvren.proofs import least_conflict, limit_boxes, never_met, reach_of, variable_boxes

__all__ = ["check_conflicts", "check_domains"]

FloatArray = NDArray[np.float64]

# A variable counts as forced when the limits leave it this share of what its bounds left, or of its size.
FORCED_SHARE = 1e-6
# Designs tried to show that a formula really becomes invalid somewhere.
SAMPLES, SIMULATED = 400, 16  # the second where each is a simulation
MOST_FINDINGS = 30

_WHAT = {
    "sqrt": "the root's argument can be negative",
    "log": "the logarithm's argument can be 0 or negative",
    "log10": "the logarithm's argument can be 0 or negative",
    "div": "the divisor can be 0",
    "pow": "the base can be negative, or 0 under a negative exponent",
    "asin": "the argument can leave [-1, 1]",
    "acos": "the argument can leave [-1, 1]",
    "tan": "the argument can pass a pole",
    "interp": "the argument can leave the table, where the end values are held",
    "exp": "the result can overflow",
    "sinh": "the result can overflow",
    "cosh": "the result can overflow",
}


def check_conflicts(problem: Problem) -> list[Finding]:
    """Return the conflicts, redundant limits and forced variables."""
    blocks = [block for block in problem.row_blocks if block.size]
    if not blocks:
        return []
    found, rest = [], []
    reach = reach_of(problem, blocks)
    for block in blocks:
        conflict = never_met(block, reach.boxes[block.node])
        if conflict is None:
            rest.append(block)
        else:
            ends = None if conflict.reach is None else {"reach": [_end(end) for end in conflict.reach]}
            found.append(Finding("conflict", conflict.names, conflict.sentence, block.line, ends or {}))
    if not found:
        found += _together(problem, rest)
    rest = [block for block in rest if not block.is_objective]
    found += [finding for block in rest if (finding := _redundant(block, reach.boxes[block.node])) is not None]
    return listed(found, MOST_FINDINGS)


def _end(value: float) -> float | str:
    return float(value) if math.isfinite(value) else ("inf" if value > 0 else "-inf")


def _redundant(block: RowBlock, box: Box) -> Finding | None:
    low, high = (np.broadcast_to(side, block.shape).ravel() for side in box)
    holds = (low >= block.lower) & (high <= block.upper)
    if not holds.all():
        return None
    what = "always holds" if not block.shape else f"always holds in all its {block.size} rows"
    reach = f"its value lies in [{float(low.min()):.6g}, {float(high.max()):.6g}]"
    return Finding("redundant", (block.name,), f"{block.name} {what} within the bounds: {reach}", block.line)


def _together(problem: Problem, blocks: list[RowBlock]) -> list[Finding]:
    """Return the smallest set of constraints found that exclude each other, or what all of them together leave."""
    reach = reach_of(problem, blocks)
    if reach.contract(limit_boxes(blocks)) is None:
        return _forced(problem, reach)
    conflict = least_conflict(problem, blocks)
    return [Finding("conflict", conflict.names, conflict.sentence, conflict.blocks[0].line)]


def _forced(problem: Problem, reach: Intervals) -> list[Finding]:
    found: list[Finding] = []
    tight: list[str] = []
    for index, block in enumerate(problem.blocks):
        node = next((n for n in reach.varying if _is_variable(problem, n, index)), None)
        if node is None:
            continue
        low, high = (side.ravel() for side in reach.boxes[node])
        width, own = high - low, block.upper - block.lower
        size = np.maximum(np.abs(low), np.abs(high))
        is_forced = np.isfinite(width) & (block.upper > block.lower)
        is_forced &= width <= FORCED_SHARE * np.where(np.isfinite(own), own, np.where(np.isfinite(size), size, 0.0))
        for place in np.flatnonzero(is_forced)[:MOST_FINDINGS]:
            name = element_name(block.name, block.shape, int(place))
            value = 0.5 * (low[place] + high[place])
            found.append(
                Finding(
                    "forced", (name,), f"{name} is forced to {value:.9g} by the limits", block.line, {"value": value}
                )
            )
        shrinks = (width < 0.5 * own) & np.isfinite(width) & ~is_forced & (block.upper > block.lower)
        if shrinks.any() and not block.shape:
            tight.append(f"{block.name} in [{float(low[0]):.5g}, {float(high[0]):.5g}]")
    if tight:
        found.append(Finding("note", (), "the limits leave at most: " + ", ".join(tight[:8])))
    return found


def _is_variable(problem: Problem, number: int, index: int) -> bool:
    node = problem.graph.nodes[number]
    return node.operation == "variable" and node.index == index


def check_domains(problem: Problem, gate: Gate, *, seed: int = 0) -> list[Finding]:
    """Return the formulas that can become invalid within the bounds, with a design where one does if one is found."""
    roots = [block.node for block in problem.row_blocks]
    if problem.objective is not None:
        roots.append(problem.objective.node)
    reach = Intervals(problem.graph, roots, variable_boxes(problem), problem.parameter_values)
    faults = reach.faults()
    shown = _shown_invalid(problem, gate, seed) if faults and not problem.sources else {}
    found, seen = [], set()
    for fault in faults:
        origin = problem.graph.origins.get(fault.node)
        if origin is None or (fault.is_guarded and fault.node not in shown):
            continue
        piece = " ".join(origin.text[slice(*origin.span)].split())
        key = (origin.entry, piece)
        if key in seen:
            continue
        seen.add(key)
        found.append(_domain_finding(problem, fault, origin.entry, piece, shown))
    return listed(found, MOST_FINDINGS)


def _domain_finding(problem: Problem, fault: PossibleFault, entry: str, piece: str, shown: dict[int, str]) -> Finding:
    line = problem.source.line(*entry.split("."), "formula") or problem.source.line(*entry.split("."))
    low, high = (f"{end:.5g}" for end in (fault.low, fault.high))
    text = f'"{piece}" in {entry}: {_WHAT[fault.operation]} within the bounds (it lies in [{low}, {high}])'
    if fault.node in shown:
        text += f", for example at {shown[fault.node]}"
    elif problem.sources:
        text += "; not tried at designs, which would call the models"
    elif fault.operation != "interp":
        text += "; no design tried shows it, so the bounds may only look too wide"
    kind = "note" if fault.operation == "interp" else "domain"
    return Finding(kind, (entry,), text, line, {"shown": fault.node in shown})


def _shown_invalid(problem: Problem, gate: Gate, seed: int) -> dict[int, str]:
    """Return {node: a design} of operations that gave no finite value at some random design or corner."""
    measures = measured(problem, gate)
    start = np.array(problem.start)
    sizes = measures.variable_sizes(start)
    low = np.where(np.isfinite(measures.lower), measures.lower, start - 2.0 * sizes)
    high = np.where(np.isfinite(measures.upper), measures.upper, start + 2.0 * sizes)
    rng = np.random.default_rng([seed, 8])
    n = problem.size
    count = max(8, min((SIMULATED if problem.simulations else SAMPLES), 2_000_000 // max(n, 1)))
    shares = rng.uniform(size=(count, n))
    corners = rng.random(size=(count, n)) < 0.5
    shares[: count // 3] = corners[: count // 3]
    points = low + shares * (high - low)
    for place, variable in problem.grid:
        points[:, place] = [variable.member(float(value)) for value in points[:, place]]
    batch = gate.written.batch(points)
    bad = ~np.isfinite(batch.rows).all(axis=1)
    if problem.objective is not None:
        bad |= ~np.isfinite(batch.objective)
    found: dict[int, str] = {}
    roots = [block.node for block in problem.row_blocks]
    if problem.objective is not None:
        roots.append(problem.objective.node)
    for point in points[bad][:40]:
        seen = problem.entry_values(roots, point, gate.calls)
        for trouble in seen.troubles:
            if trouble is None or trouble.origin is None:
                continue
            for number, origin in problem.graph.origins.items():
                if origin == trouble.origin and problem.graph.nodes[number].operation == trouble.operation:
                    found.setdefault(number, _told(problem, point))
    return found


def _told(problem: Problem, point: FloatArray) -> str:
    told = [
        f"{block.name} = {point[block.first]:.5g}"
        if not block.shape
        else f"{block.name}[0] = {point[block.first]:.4g}, …"
        for block in problem.blocks
    ]
    return ", ".join(told[:6]) + (" …" if len(told) > 6 else "")
