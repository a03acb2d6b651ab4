"""What a template holds beside the nodes of its graph: rows, residuals, unknowns on a grid, what was learnt."""

from __future__ import annotations

from typing import TYPE_CHECKING, Any

import numpy as np
from numpy.typing import NDArray

from ilvren.records import dataclass

if TYPE_CHECKING:
    from ilvren.formula import Shape
    from ilvren.models.approximation import Group
    from ilvren.problem.entries import EntryDeclaration, FitDeclaration
    from ilvren.problem.time_declarations import StateDeclaration

__all__ = ["FitTemplate", "GridUnknown", "Learnt", "Measure", "MeasuredCall", "OwnPoints", "RowTemplate"]

FloatArray = NDArray[np.float64]
# Numbers of intervals, or of points in them.
Places = NDArray[np.int64]


@dataclass(frozen=True, kw_only=True)
class RowTemplate:
    """A constraint with the nodes of its value, limits and top-level terms; a limit None where there is none. Over time
    the rows have `times` (a node), some from the left (`is_left`); of a limit on a measure that is searched at every
    moment, `measure` is the measure itself. `grid_state`: an equation between unknowns on a grid, of that state."""

    entry: EntryDeclaration
    name: str
    node: int
    lower: int | None
    upper: int | None
    terms: tuple[int, ...]
    times: int | None = None
    is_left: tuple[bool, ...] = ()
    measure: int | None = None
    grid_state: int | None = None


@dataclass(frozen=True)
class FitTemplate:
    """An entry of [fit] with the nodes of residual/sigma, of both, and of its `sides`: residual = ±(readings − model),
    None where the formula is not of that form. `along` is the column that the readings were taken at (None: not known),
    and its name."""

    declaration: FitDeclaration
    node: int
    residual: int
    sigma: int
    sides: tuple[int, int] | None
    along: tuple[str, int] | None


@dataclass(frozen=True)
class Learnt:
    """Where a group stands in a problem: `name` of the model, and the nodes of the group's inputs, held ones last."""

    name: str
    group: Group
    nodes: tuple[int, ...]


@dataclass(frozen=True)
class MeasuredCall:
    """A measure somewhere in the file: the entry it stands in, the function, the name over time that it measures, the
    nodes of its levels, of its value, and of the time at which it begins, where that is not the beginning."""

    entry: str
    function: str
    signal: str
    levels: tuple[int, ...]
    node: int
    begins: int | None = None


@dataclass(frozen=True)
class Measure:
    """What is measured over time (an extreme, a time at which something is reached) in whichever formula of an `entry`:
    the axis, the function, the node of what it is of in the graph of its moment, and the nodes of the problem of its
    levels and of what it tells."""

    axis: Any
    entry: str
    function: str
    node: int
    levels: tuple[int, ...]
    told: int


@dataclass(frozen=True, kw_only=True)
class GridUnknown:
    """The unknowns of one state: `node` (points, *shape), the graph's variable number `index`; at shares `taus` of the
    time; nodes (points, *shape) of what limits them and of a guess, None without; the node of the first value, at which
    the first of them is held unless an equation says so (`is_held`)."""

    name: str
    state: StateDeclaration
    size: Any
    node: int
    index: int
    shape: Shape
    taus: FloatArray
    times: int
    lower: int | None
    upper: int | None
    guess: int | None
    first: int
    is_held: bool


@dataclass(frozen=True)
class OwnPoints:
    """Where a control that is chosen at every moment has its values: at the used points of a scheme in each interval of
    a grid; neighbours share the ends where the scheme asks for rates there."""

    taus: FloatArray
    scheme: str

    @property
    def count(self) -> int:
        """Return how many values it has."""
        from ilvren.dynamics.schemes import SCHEMES

        scheme, n = SCHEMES[self.scheme], len(self.taus) - 1
        return n * scheme.width + 1 if scheme.shares_ends else n * len(scheme.used)

    @property
    def shares(self) -> FloatArray:
        """Return where the values stand, as shares of the time. They are (points,)."""
        from ilvren.dynamics.schemes import SCHEMES

        scheme = SCHEMES[self.scheme]
        inner = self.taus[:-1, np.newaxis] + np.diff(self.taus)[:, np.newaxis] * scheme.used_points
        return np.append(inner[:, :-1].ravel(), self.taus[-1]) if scheme.shares_ends else np.asarray(inner.ravel())

    @property
    def is_left(self) -> NDArray[np.bool_]:
        """Return which values belong to the interval that ends where they stand. It is (points,)."""
        from ilvren.dynamics.schemes import SCHEMES

        scheme, n = SCHEMES[self.scheme], len(self.taus) - 1
        if scheme.shares_ends:
            return self.shares >= 1.0
        return np.tile(scheme.used_points >= 1.0, n)

    def places(self, interval: Places, used: Places) -> Places:
        """Return the place of the value at the used point of that number in each of some intervals."""
        from ilvren.dynamics.schemes import SCHEMES

        scheme = SCHEMES[self.scheme]
        return interval * scheme.width + used if scheme.shares_ends else interval * len(scheme.used) + used
