"""Agreement with an exact answer, or one from outside: numbers given by name, or curves in a CSV file."""

from __future__ import annotations

import csv
import math
from collections.abc import Mapping
from pathlib import Path

import numpy as np
from numpy.typing import NDArray

from ilvren.errors import RequestError, nearest
from ilvren.printable import unmarked_cell
from ilvren.problem import Problem, refined_problem
from ilvren.records import dataclass
from ilvren.regular import regular_text

__all__ = ["Agreement", "Reference", "agreement_with", "read_cells", "read_reference"]

FloatArray = NDArray[np.float64]

# A deviation relative to the largest reference value that counts as agreement, unless another is asked for.
TOLERANCE = 1e-3


@dataclass(frozen=True)
class Reference:
    """What is known from outside: numbers by name; curves by name (values in order, or at the places of `abscissa`, a
    column with the name of an entry of the problem)."""

    numbers: Mapping[str, float]
    curves: Mapping[str, FloatArray]
    abscissa: str = ""
    tolerance: float = TOLERANCE


@dataclass(frozen=True)
class Agreement:
    """One entry beside its reference: `places` (k,) along the curve, both `values` (k,), the largest `deviation`
    relative to the largest reference value, and `at` which place."""

    name: str
    unit: str
    places: FloatArray
    along: str
    values: FloatArray
    reference: FloatArray
    deviation: float
    at: float

    def to_dict(self) -> dict[str, object]:
        """Return the plain values of the JSON document."""
        return {
            "name": self.name,
            "points": len(self.values),
            "deviation": self.deviation if math.isfinite(self.deviation) else None,
            "at": self.at,
            "value": self.values.tolist() if len(self.values) > 1 else float(self.values[0]),
            "reference": self.reference.tolist() if len(self.reference) > 1 else float(self.reference[0]),
        }


def read_cells(path: str | Path) -> tuple[list[str], list[tuple[int, list[str]]]]:
    """Return the header of a CSV file and its rows, each behind the number of its line. Raises RequestError, naming the
    line."""
    try:
        text = regular_text(path, "utf-8-sig")
    except (OSError, UnicodeDecodeError) as error:
        raise RequestError(f"{path}: cannot be read as a table ({error})") from None
    rows = [
        (number, [unmarked_cell(cell) for cell in row])
        for number, row in enumerate(csv.reader(text.splitlines()), start=1)
        if any(c.strip() for c in row)
    ]
    if len(rows) < 2:
        raise RequestError(f"{path}: a header and at least one row of numbers are expected")
    names = [name.strip() for name in rows[0][1]]
    if len(set(names)) < len(names):
        raise RequestError(f"{path}:1: a column is named twice")
    for number, row in rows[1:]:
        if len(row) != len(names):
            raise RequestError(f"{path}:{number}: {len(row)} cells, the header has {len(names)}")
    return names, rows[1:]


def read_reference(path: str | Path) -> tuple[dict[str, FloatArray], str]:
    """Return the columns of a CSV file with a header, and the name of its first column. Raises RequestError, naming the
    line. Columns are (lines,)."""
    names, rows = read_cells(path)
    columns: dict[str, list[float]] = {name: [] for name in names}
    for number, row in rows:
        for name, cell in zip(names, row, strict=True):
            try:
                columns[name].append(float(cell))
            except ValueError:
                raise RequestError(f'{path}:{number}: "{cell.strip()}" in column {name} is not a number') from None
    return {name: np.array(values) for name, values in columns.items()}, names[0]


def agreement_with(problem: Problem, point: FloatArray, reference: Reference) -> list[Agreement]:
    """Compare the design's values with the reference, entry by entry. Raises RequestError for a name the problem does
    not have, or a curve of another length."""
    problem = _seen_at(problem, reference)
    values = _values(problem, point)
    found = []
    for name, number in reference.numbers.items():
        own = _known(values, name, "--reference")
        if own.size != 1:
            raise RequestError(
                f"--reference {name}: has {own.size} elements", advice="give a curve by --reference-file"
            )
        found.append(_compared(problem, name, own.ravel(), np.array([number]), np.zeros(1), ""))
    names = list(reference.curves)
    along = reference.abscissa if reference.abscissa in values and len(names) > 1 else ""
    length = len(next(iter(reference.curves.values()))) if names else 0
    for name in names:
        if name == along and values[name].size != length:
            continue
        own = _known(values, name, "--reference-file").ravel()
        given = reference.curves[name]
        places = np.arange(len(given), dtype=float)
        if len(own) == len(given):
            if name == along:
                continue
            if along and values[along].size == len(own):
                places = values[along].ravel()
        elif along and values[along].size == len(own) and (np.diff(values[along].ravel()) >= 0.0).all():
            places = reference.curves[along]
            own = np.interp(places, values[along].ravel(), own)
        else:
            raise RequestError(
                f"--reference-file: {name} has {len(own)} elements, the file {len(given)}",
                advice="give one row per element, or begin with a column of the entry they stand along",
            )
        found.append(_compared(problem, name, own, given, places, along))
    return found


def _values(problem: Problem, point: FloatArray) -> dict[str, FloatArray]:
    found: dict[str, FloatArray] = {
        p.name: np.asarray(p.value, dtype=float) for p in problem.parameters if np.ndim(p.value) == 1
    }
    for block in problem.blocks:
        found[block.name] = point[block.first : block.first + block.size].reshape(block.shape)
    for name, (value, _) in problem.named_values(tuple(point.tolist())).items():
        found[name] = np.asarray(value, dtype=float)
    for signals in problem.signals(point):
        found |= signals
    return found


def _seen_at(problem: Problem, reference: Reference) -> Problem:
    """Return the problem with the moments of a reference over time on its grid."""
    for axis in problem.template.built_axes if problem.simulations else ():
        if reference.abscissa == axis.t_name and not axis.horizon.is_free_end:
            shares = axis.shares_of(reference.curves[axis.t_name])
            inside = shares[(shares >= 0.0) & (shares <= 1.0)]
            more = {axis.case: tuple(inside.tolist())}
            return refined_problem(problem, problem.refinement.with_more(more, problem.refinement.anchor))
    return problem


def _known(values: Mapping[str, FloatArray], name: str, flag: str) -> FloatArray:
    if name not in values:
        close = nearest(name, values)
        advice = f'did you mean "{close}"?' if close else "its values: " + ", ".join(list(values)[:12])
        raise RequestError(f'{flag}: the problem has no value named "{name}"', advice=advice)
    return values[name]


def _compared(
    problem: Problem, name: str, own: FloatArray, given: FloatArray, places: FloatArray, along: str
) -> Agreement:
    size = float(np.abs(given).max(initial=0.0)) or 1.0
    off = np.abs(own - given) / size
    worst = int(np.argmax(np.where(np.isnan(off), np.inf, off)))
    deviation = float(off[worst]) if math.isfinite(off[worst]) else math.inf
    units = {block.name: block.unit for block in problem.blocks}
    units |= {row.name: row.unit for row in problem.row_blocks}
    units |= problem.quantity_units
    if problem.objective is not None:
        units[problem.objective.name] = problem.objective.unit
    return Agreement(name, units.get(name, ""), places, along, own, given, deviation, float(places[worst]))
