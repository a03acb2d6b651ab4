"""Designs of collocated problems as courses: what `dynamics.gridded` looks at."""

from __future__ import annotations

from typing import TYPE_CHECKING, Any

import numpy as np
from numpy.typing import NDArray

from ilvren.dynamics import ControlOnGrid, Evolution, GriddedCourse
from ilvren.dynamics.schemes import SCHEMES
from ilvren.formula import interpret

if TYPE_CHECKING:
    from ilvren.problem.collocated import CollocatedAxis
    from ilvren.problem.model import Problem

__all__ = ["courses_of", "evolution_of"]

FloatArray = NDArray[np.float64]


def evolution_of(axis: CollocatedAxis) -> Evolution:
    """Return what evolves along an axis."""
    main = axis.template.graph
    return Evolution(
        graph=axis.graph,
        inputs=tuple(axis.inputs),
        states=tuple(axis.states),
        controls=tuple(axis.controls),
        outers=tuple(main.shape(node) for node in axis.outer_nodes),
        lag_count=len(axis.lag_nodes),
        probes=(),
        grid=tuple(axis.taus.tolist()),
    )


def courses_of(problem: Problem, point: FloatArray) -> list[GriddedCourse]:
    """Return the course along each axis of a collocated problem, at a full design."""
    variables = problem.split(point)
    by_name = {block.name: np.asarray(value) for block, value in zip(problem.blocks, variables, strict=True)}
    found = []
    for axis in problem.template.built_axes:
        found.append(_course(problem, axis, point, by_name))
    return found


def _course(problem: Problem, axis: CollocatedAxis, point: FloatArray, by_name: dict[str, Any]) -> GriddedCourse:
    main = problem.graph
    outers = problem.entry_values(axis.outer_nodes, point).values
    lags = problem.entry_values(axis.lag_nodes, point).values
    still = [interpret(main, [node], (), problem.parameter_values).values[0] for node in axis.still_nodes]
    controls = []
    for control in axis.controls:
        own = axis.own_points.get(control.name)
        values = by_name[control.name]
        if own is None:
            controls.append(ControlOnGrid(values, control.is_linear))
        else:
            controls.append(ControlOnGrid(values, False, own.taus, SCHEMES[own.scheme]))
    sizes = []
    states = []
    for unknown in axis.unknowns:
        block = next(item for item in problem.blocks if item.name == unknown.name)
        states.append(by_name[unknown.name])
        each = max(block.size // block.shape[0], 1)
        along = np.abs(by_name[unknown.name]).reshape(block.shape[0], -1).max(axis=0, initial=0.0)
        declared = np.full(each, np.nan) if unknown.size is None else block.magnitude[:each]
        sizes.append(np.where(np.isnan(declared), np.where(along > 0.0, along, 1.0), declared))
    return GriddedCourse(
        evolution=evolution_of(axis),
        scheme=axis.scheme,
        taus=axis.taus,
        states=tuple(states),
        controls=tuple(controls),
        outers=tuple(outers),
        still=tuple(still),
        lags=tuple(float(lag) for lag in lags),
        sizes=np.concatenate(sizes),
        integrands=tuple(node for node in axis.integrals if not _is_beside(axis, node)),
    )


def _is_beside(axis: CollocatedAxis, node: int) -> bool:
    """Return whether a node needs values that what evolves does not."""
    return any(
        axis.inputs[number].kind == "outer" and axis.inputs[number].of < 0 for number in axis.graph.variables_of([node])
    )
