"""Unknowns of states on a grid, with numbers in place: where they begin, between what bounds, how large they are."""

from __future__ import annotations

import math
from collections.abc import Sequence
from dataclasses import replace
from typing import TYPE_CHECKING, Any, NoReturn, Protocol

import numpy as np
from numpy.typing import NDArray

from ilvren.formula import interpret
from ilvren.problem.model import RowBlock
from ilvren.problem.variables import VariableBlock

if TYPE_CHECKING:
    from ilvren.problem.entries import Source
    from ilvren.problem.template import Template
    from ilvren.problem.template_parts import GridUnknown

__all__ = ["grid_block", "sized", "time_names"]

FloatArray = NDArray[np.float64]


class Binding(Protocol):
    """What a template is bound with, as far as unknowns on a grid need it."""

    @property
    def template(self) -> Template: ...

    @property
    def source(self) -> Source: ...

    @property
    def parameter_values(self) -> list[Any]: ...

    def refuse(self, path: tuple[str, ...], message: str, advice: str | None = None) -> NoReturn: ...


def time_names(times: Sequence[float], is_left: Sequence[bool]) -> tuple[str, ...]:
    """Return times as rows are told, with as many digits as tell them apart; one from the left with a minus."""
    names = [""]
    for digits in range(6, 18):
        names = [f"{time:.{digits}g}" + ("-" if left else "") for time, left in zip(times, is_left, strict=True)]
        if len(set(names)) == len(names):
            break
    return tuple(names)


def grid_block(binding: Binding, unknown: GridUnknown, first: int, before: Sequence[VariableBlock]) -> VariableBlock:
    """Return the unknowns of one state. They begin at the state's guess, else at its first value or between its bounds.
    Raises ProblemError where the first value lies outside the bounds."""
    template, shape = binding.template, unknown.shape
    size, each = math.prod(shape), math.prod(shape[1:])
    variables = [block.start.reshape(block.shape) if block.shape else float(block.start[0]) for block in before]

    def told(node: int | None, otherwise: float) -> FloatArray:
        if node is None:
            return np.full(size, otherwise)
        values = interpret(template.graph, [node], variables, binding.parameter_values).values[0]
        return np.array(np.broadcast_to(values, shape), dtype=float).ravel()

    low, high = told(unknown.lower, -math.inf), told(unknown.upper, math.inf)
    begun = np.ravel(
        np.broadcast_to(
            interpret(template.graph, [unknown.first], variables, binding.parameter_values).values[0], shape[1:]
        )
    ).astype(float)
    begun = np.where(np.isfinite(begun), begun, np.clip(0.0, low[:each], high[:each]))
    start = np.tile(begun, shape[0])
    if unknown.guess is not None:
        guess = told(unknown.guess, 0.0)
        start = np.where(np.isfinite(guess), guess, start)
    path = ("states", unknown.state.name)
    if (low > high).any():
        place = int(np.argmax(low > high))
        binding.refuse((*path, "lower"), f"lower {low[place]:.12g} is above upper {high[place]:.12g}")
    if unknown.is_held:
        off = np.maximum(low[:each] - begun, begun - high[:each])
        if (off > 1e-9 * np.maximum(np.abs(begun), 1.0)).any():
            place = int(np.argmax(off))
            binding.refuse(
                (*path, "initial"),
                f"begins at {begun[place]:.12g}, outside its bounds [{low[place]:.12g}, {high[place]:.12g}]",
            )
        low[:each] = high[:each] = start[:each] = begun
    times = np.ravel(interpret(template.graph, [unknown.times], variables, binding.parameter_values).values[0]).tolist()
    magnitude: Any = np.nan if unknown.size is None else unknown.size
    return VariableBlock(
        name=unknown.name,
        shape=shape,
        first=first,
        start=np.clip(start, low, high),
        lower=low,
        upper=high,
        magnitude=np.array(np.broadcast_to(magnitude, shape), dtype=float).ravel(),
        unit=unknown.state.unit,
        about=unknown.state.about,
        is_used=np.ones(size, dtype=bool),
        line=binding.source.line(*path),
        times=tuple(times),
        time_names=time_names(times, [False] * len(times)),
        is_grid=True,
    )


def sized(blocks: Sequence[VariableBlock], rows: Sequence[RowBlock]) -> tuple[list[VariableBlock], list[RowBlock]]:
    """Return unknowns and equations with sizes: a state is everywhere as large as where it is largest along its guess,
    or as half of the way between its bounds, unless its file says how large; its equations are of that size."""
    found: list[VariableBlock] = []
    sizes: dict[str, FloatArray] = {}
    for block in blocks:
        if not block.is_grid:
            found.append(block)
            continue
        each = math.prod(block.shape[1:])
        values = np.abs(block.start.reshape(-1, each)).max(axis=0, initial=0.0)
        reach = 0.5 * (block.upper - block.lower).reshape(-1, each)[1:]
        reach = np.where(np.isfinite(reach), reach, 0.0).max(axis=0, initial=0.0)
        own = np.maximum(values, reach)
        own = np.where(own > 0.0, own, 1.0)
        own = np.where(np.isnan(block.magnitude[:each]), own, block.magnitude[:each])
        sizes[block.name.removesuffix("@grid")] = own
        found.append(replace(block, magnitude=np.tile(own, len(block.start) // each)))
    told = []
    for row in rows:
        name = row.name.partition(":")[0]
        if row.is_grid and name in sizes:
            row = replace(row, magnitude=np.tile(sizes[name], row.size // len(sizes[name])))
        told.append(row)
    return found, told
