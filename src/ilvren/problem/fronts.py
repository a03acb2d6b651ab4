"""A problem of several objectives as runs see it: nothing is minimized, and each objective is a row without limits.

So all that a run has for rows serves objectives, too: values in batches, exact derivatives and second ones,
differences, records, replay. The rows of objectives stand behind those of the constraints, as written. An objective
that intervals show to be constant (one that a parameter of zero switches off) is no part of the trade-off.
"""

from __future__ import annotations

from collections.abc import Callable
from dataclasses import replace
from functools import partial
from typing import Any

import numpy as np
from numpy.typing import NDArray

from ilvren.problem.model import NamedValue, Objective, Problem, RowBlock
from ilvren.records import dataclass

__all__ = ["Sense", "constant_objectives", "fronted", "sense_of", "unfronted"]

FloatArray = NDArray[np.float64]

# An objective of less than this width, over its size (1 at least), is the same everywhere: roundings are wider.
LEAST_WIDTH = 1e-13
# What has priority is held to this share of its size and range.
SLACK = 1e-6


@dataclass(frozen=True)
class Sense:
    """The `objectives` of a problem, the places (p,) of their `rows`, `signs` (p,), −1 for what is maximized, and their
    `goals` (p,), to be minimized, −inf for none."""

    objectives: tuple[Objective, ...]
    rows: NDArray[np.int64]
    signs: FloatArray
    goals: FloatArray

    @property
    def names(self) -> tuple[str, ...]:
        """Return the objectives' names."""
        return tuple(item.name for item in self.objectives)

    def minimized(self, rows: FloatArray) -> FloatArray:
        """Return (…, p): the objectives to be minimized, from rows (…, m); better than a goal counts as the goal."""
        return np.asarray(np.maximum(rows[..., self.rows] * self.signs, self.goals), dtype=np.float64)

    def written(self, rows: FloatArray) -> FloatArray:
        """Return (…, p): the objectives as written, from rows (…, m)."""
        return np.asarray(rows[..., self.rows], dtype=np.float64)

    @property
    def levels(self) -> tuple[tuple[int, ...], ...]:
        """Return the places of the objectives of each priority, the first ones first."""
        every = sorted({item.priority for item in self.objectives})
        return tuple(tuple(k for k, item in enumerate(self.objectives) if item.priority == own) for own in every)

    def foremost(self, values: FloatArray) -> NDArray[np.bool_]:
        """Return which of values (k, p), minimized, are best in what has priority, each level within SLACK of the best
        of those that are best before."""
        left = np.ones(len(values), dtype=bool)
        for level in self.levels[:-1]:
            for place in level:
                own = values[left, place]
                if not len(own):
                    return left
                room = SLACK * max(float(np.ptp(own)), abs(float(own.min())))
                left &= values[:, place] <= float(own.min()) + room
        return left

    def as_written(self, minimized: FloatArray) -> FloatArray:
        """Return (…, p): objectives with their own signs."""
        return np.asarray(minimized * self.signs, dtype=np.float64)


def fronted(problem: Problem) -> Problem:
    """Return a problem of several objectives with a row for each that is not constant; of one that is left alone, the
    problem of that one; any other as it is."""
    if len(problem.objectives) < 2 or any(block.is_objective for block in problem.row_blocks):
        return problem
    constant = constant_objectives(problem)
    if constant:
        told = (NamedValue(o.name, o.node, o.unit, o.about, o.text, o.line) for o in constant)
        left = tuple(item for item in problem.objectives if item not in constant) or problem.objectives[:1]
        alone = left[0] if len(left) == 1 else None
        derived = tuple(item for item in (*problem.derived, *told) if item.name not in {o.name for o in left})
        return fronted(replace(problem, objectives=left, objective=alone, derived=derived))
    blocks = list(problem.row_blocks)
    first = problem.row_count
    nothing = np.full(1, np.inf)
    for item in problem.objectives:
        size = np.array([np.nan if item.magnitude is None else item.magnitude])
        blocks.append(
            RowBlock(
                name=item.name,
                entry=item.name,
                node=item.node,
                shape=(),
                first=first,
                lower=-nothing,
                upper=nothing,
                magnitude=size,
                terms=(item.node,),
                unit=item.unit,
                about=item.about,
                text=item.text,
                line=item.line,
                objective_sign=item.sign,
            )
        )
        first += 1
    return replace(problem, row_blocks=tuple(blocks), rebound=partial(_fronted_again, problem.rebound))


def _fronted_again(rebound: Callable[..., Problem] | None, template: Any, **given: Any) -> Problem:
    assert rebound is not None
    return fronted(rebound(template, **given))


def unfronted(problem: Problem) -> Problem:
    """Return a problem without the rows of its objectives."""
    own = tuple(block for block in problem.row_blocks if not block.is_objective)
    return problem if len(own) == len(problem.row_blocks) else replace(problem, row_blocks=own)


def constant_objectives(problem: Problem) -> tuple[Objective, ...]:
    """Return the objectives of several that intervals show to be the same at all designs within the bounds."""
    from ilvren.formula import Intervals

    boxes = {
        index: (block.lower.reshape(block.shape), block.upper.reshape(block.shape))
        for index, block in enumerate(problem.blocks)
    }
    found = []
    for item in problem.objectives if len(problem.objectives) > 1 else ():
        if not problem.graph.variables_of([item.node]):
            found.append(item)
        elif not problem.sources and not problem.simulations:
            low, high = Intervals(problem.graph, [item.node], boxes, problem.parameter_values).boxes[item.node]
            is_known = np.isfinite(low).all() and np.isfinite(high).all() and (low <= high).all()
            # Intervals leave out where a formula is invalid: what is so everywhere is not constant but wrong.
            is_known = is_known and np.isfinite(problem.entry_values([item.node], problem.start).values[0])
            if is_known and bool(np.all(high - low <= LEAST_WIDTH * np.maximum(np.abs(high), 1.0))):
                found.append(item)
    return tuple(found)


def sense_of(problem: Problem) -> Sense | None:
    """Return what is minimized and maximized in a problem of `fronted`, None for one objective or none."""
    own = [block for block in problem.row_blocks if block.is_objective]
    if not own:
        return None
    return Sense(
        problem.objectives,
        np.array([block.first for block in own], dtype=np.int64),
        np.array([float(block.objective_sign) for block in own]),
        np.array([-np.inf if item.goal is None else item.sign * item.goal for item in problem.objectives]),
    )
