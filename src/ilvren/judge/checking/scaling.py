"""Sizes: of variables, rows and their first derivatives, how far they lie apart, and which magnitudes would help."""

from __future__ import annotations

import math
from typing import Any

import numpy as np
from numpy.typing import NDArray

from ilvren.evaluate import Gate, measured
from ilvren.judge.checking.finding import Finding
from ilvren.problem import Measures, Problem, RowBlock, VariableBlock, objective_size
from ilvren.records import dataclass

__all__ = ["ScalingCheck", "SizeLine", "check_scaling"]

FloatArray = NDArray[np.float64]

# Sizes this far apart make methods without scaling crawl, and deserve a magnitude.
FAR_APART = 1e4
# A row or variable whose own size is off by more than this from what its derivatives say is suggested another.
SUGGEST = 1e3


@dataclass(frozen=True)
class SizeLine:
    """One entry: its size, where that comes from, the largest change it makes or feels when a variable moves by its
    size (relative to what changes), and the magnitude suggested, None when its size is fine."""

    name: str
    size: float
    source: str
    effect: float
    suggested: float | None = None


@dataclass(frozen=True)
class ScalingCheck:
    """Lines for variables and for rows (the objective first), and the ratios of largest to smallest effect."""

    variables: tuple[SizeLine, ...]
    rows: tuple[SizeLine, ...]
    variable_ratio: float
    row_ratio: float
    findings: tuple[Finding, ...]


def check_scaling(problem: Problem, gate: Gate) -> ScalingCheck:
    """Measure sizes and effects at the start."""
    point = np.array(problem.start)
    measures = measured(problem, gate)
    sizes = measures.variable_sizes(point)
    effects = _effects(problem, gate, measures, point, sizes)
    if effects is None:
        return ScalingCheck((), (), math.nan, math.nan, ())
    by_variable, by_row, objective_effect = effects
    variables = [_variable_line(block, sizes, by_variable) for block in problem.blocks]
    variables = [_with_suggestion(line) for line in variables]
    rows = [_row_line(block, measures.row_sizes, by_row) for block in problem.row_blocks]
    if problem.objective is not None:
        value = gate.evaluate(point).objective
        size = objective_size(problem.objective.magnitude, value, value)
        source = "magnitude" if problem.objective.magnitude else "its value"
        rows.insert(0, SizeLine(problem.objective.name, size, source, objective_effect))
    variable_ratio = _ratio([line.effect for line in variables])
    row_ratio = _ratio([line.effect for line in rows])
    return ScalingCheck(
        tuple(variables), tuple(rows), variable_ratio, row_ratio, tuple(_findings(problem, variables, rows))
    )


def _effects(
    problem: Problem, gate: Gate, measures: Measures, point: FloatArray, sizes: FloatArray
) -> tuple[FloatArray, FloatArray, float] | None:
    """Return the largest relative effect of each variable (n,), on each row (m,), and on the objective."""
    here = gate.evaluate(point)
    by_variable, by_row = np.zeros(problem.size), np.zeros(problem.row_count)
    objective_effect = math.nan
    if problem.objective is not None:
        size = objective_size(problem.objective.magnitude, here.objective, here.objective)
        effect = np.abs(gate.written.gradient(point)) * sizes / size
        if not np.isfinite(effect).all():
            return None
        by_variable, objective_effect = effect, float(effect.max(initial=0.0))
    if problem.row_count:
        matrix = abs(gate.written.jacobian(point)) if problem.graph.has_arrays else _dense(gate, point)
        scaled = matrix.multiply(sizes[np.newaxis, :]).multiply(1.0 / measures.row_sizes[:, np.newaxis]).tocsr()
        if not np.isfinite(scaled.data).all():
            return None
        by_row = np.asarray(scaled.max(axis=1).todense()).ravel()
        by_variable = np.maximum(by_variable, np.asarray(scaled.max(axis=0).todense()).ravel())
    return by_variable, by_row, objective_effect


def _dense(gate: Gate, point: FloatArray) -> Any:
    from scipy.sparse import csr_array

    jacobian = gate.evaluate(point, derivatives=True).jacobian
    assert jacobian is not None
    return csr_array(np.abs(jacobian))


def _variable_line(block: VariableBlock, sizes: FloatArray, effects: FloatArray) -> SizeLine:
    own = slice(block.first, block.first + block.size)
    if np.isfinite(block.magnitude).all():
        source = "magnitude"
    elif np.isfinite(block.upper - block.lower).all():
        source = "bounds"
    else:
        source = "its start" if (block.start != 0.0).any() else "nothing: 1"
    return SizeLine(block.name, float(sizes[own].max()), source, float(effects[own].max(initial=0.0)))


def _row_line(block: RowBlock, sizes: FloatArray, effects: FloatArray) -> SizeLine:
    own = slice(block.first, block.first + block.size)
    if np.isfinite(block.magnitude).all():
        source = "magnitude"
    else:
        limits = (
            np.where(np.isfinite(block.lower), block.lower, 0.0),
            np.where(np.isfinite(block.upper), block.upper, 0.0),
        )
        source = "its limits" if any((side != 0.0).any() for side in limits) else "its terms"
    line = SizeLine(
        block.name,
        float(sizes[own].max(initial=0.0)),
        source,
        float(effects[own].max(initial=0.0)),
    )
    if source != "magnitude" and line.effect and not 1.0 / SUGGEST <= line.effect <= SUGGEST:
        return SizeLine(line.name, line.size, source, line.effect, _rounded(line.size * line.effect))
    return line


def _with_suggestion(line: SizeLine) -> SizeLine:
    """A move by its size should change things by about their own size; a variable that changes little may just not
    matter, and is left alone."""
    if line.source == "magnitude" or not line.effect > SUGGEST:
        return line
    return SizeLine(line.name, line.size, line.source, line.effect, _rounded(line.size / line.effect))


def _rounded(value: float) -> float:
    return float(f"{value:.0e}") if value > 0.0 and math.isfinite(value) else 1.0


def _ratio(values: list[float]) -> float:
    kept = [value for value in values if value > 0.0 and math.isfinite(value)]
    return max(kept) / min(kept) if kept else math.nan


def _findings(problem: Problem, variables: list[SizeLine], rows: list[SizeLine]) -> list[Finding]:
    found = []
    lines = {block.name: block.line for block in problem.blocks} | {b.name: b.line for b in problem.row_blocks}
    for what, items in (("variable", variables), ("constraint", rows)):
        for item in items:
            if item.suggested is not None:
                found.append(
                    Finding(
                        "scaling",
                        (item.name,),
                        f"{what} {item.name}: its size {item.size:.3g} (from {item.source}) is out of proportion;"
                        f" try magnitude = {item.suggested:g}",
                        lines.get(item.name),
                        {"size": item.size, "suggested": item.suggested},
                    )
                )
    for what, items in (("variables", variables), ("objective and constraints", rows)):
        ratio = _ratio([item.effect for item in items])
        if ratio > FAR_APART:
            found.append(
                Finding(
                    "scaling", (), f"the effects of the {what} lie a factor {ratio:.1e} apart", None, {"ratio": ratio}
                )
            )
    return found
