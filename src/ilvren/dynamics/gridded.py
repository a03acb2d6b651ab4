"""A course on a grid: the polynomials of a collocation scheme, and how far they are from what the rates say.

Each interval is followed again from the course's own state X_k by Radau's method with more points (order 2q − 1), all
intervals at once; controls and what is taken from some time ago are read off the course. With δ_k the deviation at an
interval's end and Φ_k what a change of its start does to its end, deviations add up as

    e_{k+1} = Φ_k e_k + δ_k                                                                          (1)

δ is what remains of the differential equations over an interval, in the spirit of Russell & Christiansen; the grid is
chosen so that its largest values are lowered first, as Betts & Huffman do.

Sources: R. D. Russell, J. Christiansen, "Adaptive mesh selection strategies for solving boundary value problems", SIAM
Journal on Numerical Analysis 15, 1978; J. T. Betts, W. P. Huffman, "Mesh refinement in direct transcription methods for
optimal control", Optimal Control Applications and Methods 19, 1998.
"""

from __future__ import annotations

import math
from collections.abc import Sequence
from functools import cached_property
from typing import TYPE_CHECKING, Any

import numpy as np
from numpy.typing import NDArray

from ilvren.dynamics.schemes.scheme import Scheme, lagrange_integrals
from ilvren.formula import compile_arrays, interpret, tangents
from ilvren.records import dataclass

if TYPE_CHECKING:
    from ilvren.dynamics.evolution import Evolution

__all__ = ["ControlOnGrid", "Deviation", "GriddedCourse", "MomentCode", "radau_points"]

FloatArray = NDArray[np.float64]
Places = NDArray[np.int64]

# Points of the reference, and Newton's iterations on its equations: where these do not end, nothing is said.
REFERENCE_POINTS = 5
MOST_NEWTON, NEWTON_END = 12, 1e-13
# Moments nearer than this share of the time are one.
SAME = 1e-9


def radau_points(count: int) -> FloatArray:
    """Return the points of Radau's quadrature that has the end among them (count,), on [0, 1]."""
    from scipy.special import roots_jacobi

    # The others are the roots of the polynomials that are orthogonal under the weight 1 − θ.
    inner = 0.5 * (1.0 + roots_jacobi(count - 1, 1.0, 0.0)[0]) if count > 1 else np.zeros(0)
    return np.append(inner, 1.0)


class MomentCode:
    """Some nodes of a moment's graph at many moments, and their derivatives by the states."""

    def __init__(self, evolution: Evolution, roots: Sequence[int], still: Sequence[Any]) -> None:
        self.evolution, self.roots = evolution, list(roots)
        graph = evolution.graph
        self.shapes = [graph.shape(root) for root in self.roots]
        self.sizes = [math.prod(shape) for shape in self.shapes]
        self._still = [np.asarray(value) for value in still]
        self._values = self._bound(self.roots, ("variable",))
        self.state_inputs = {
            item.of: number for number, item in enumerate(evolution.inputs) if item.kind == "state" and item.lag < 0
        }
        self._moved: Any = None

    def _bound(self, roots: Sequence[int], batch: Sequence[str]) -> Any:
        graph = self.evolution.graph
        code = compile_arrays(graph, roots, batch)
        fixed = interpret(graph, code.constants, (), self._still).values
        numbers: list[Any] = [np.asarray(value) if np.ndim(value) else np.float64(value) for value in fixed]
        return code.bound((), numbers)

    def values(self, inputs: Sequence[Any]) -> FloatArray:
        """Return the values (moments, numbers) at inputs with the moments along a first axis."""
        count = next(len(item) for item in inputs if np.ndim(item))
        found = self._values(inputs)[0]
        return _side_by_side(found, self.shapes, count)

    def slopes(self, inputs: Sequence[Any]) -> FloatArray:
        """Return the derivatives (moments, numbers, states) by all numbers of the states."""
        graph, evolution = self.evolution.graph, self.evolution
        count = next(len(item) for item in inputs if np.ndim(item))
        if self._moved is None:
            seeds = {
                number: graph.input("tangent", number, evolution.inputs[number].shape)
                for number in self.state_inputs.values()
            }
            nodes = tangents(graph, self.roots, seeds)
            kept = [node for node in nodes if node is not None]
            self._moved = nodes, self._bound(kept, ("variable", "tangent")) if kept else None
        nodes, code = self._moved
        sizes = [math.prod(state.shape) for state in evolution.states]
        result = np.zeros((count, sum(self.sizes), sum(sizes)))
        if code is None:
            return result
        column = 0
        for of, size in enumerate(sizes):
            for element in range(size):
                directions: list[Any] = [None] * len(evolution.inputs)
                for other, number in self.state_inputs.items():
                    own = np.zeros((count, *evolution.inputs[number].shape))
                    if other == of:
                        own.reshape(count, -1)[:, element] = 1.0
                    directions[number] = own
                if of in self.state_inputs:
                    found = iter(code(inputs, (), directions)[0])
                    told = [None if node is None else next(found) for node in nodes]
                    result[:, :, column] = _side_by_side(told, self.shapes, count)
                column += 1
        return result


def _side_by_side(found: Sequence[Any], shapes: Sequence[tuple[int, ...]], count: int) -> FloatArray:
    parts = [
        np.zeros((count, math.prod(shape)))
        if value is None
        else np.broadcast_to(np.asarray(value, dtype=float), (count, *shape)).reshape(count, -1)
        for value, shape in zip(found, shapes, strict=True)
    ]
    return np.concatenate(parts, axis=1) if parts else np.zeros((count, 0))


@dataclass(frozen=True)
class ControlOnGrid:
    """A control: `values` (pieces, *shape) of equal pieces, joined by lines where `is_linear`; or, with a `scheme`, its
    values (points, *shape) at the used points in the intervals of a grid `taus`."""

    values: FloatArray
    is_linear: bool
    taus: FloatArray | None = None
    scheme: Scheme | None = None

    def at(self, at: FloatArray, is_left: NDArray[np.bool_]) -> tuple[FloatArray, FloatArray, FloatArray]:
        """Return the values at shares of the time as (low, high, theta) of lines; of others low is the value."""
        inside = at + np.where(is_left, -SAME, SAME)
        if self.scheme is None or self.taus is None:
            pieces = len(self.values) - self.is_linear
            place = np.clip(np.floor(inside * pieces), 0, pieces - 1).astype(np.int64)
            high = self.values[place + 1] if self.is_linear else self.values[place]
            return self.values[place], high, at * pieces - place
        interval = np.clip(np.searchsorted(self.taus, inside, side="right") - 1, 0, len(self.taus) - 2)
        theta = (at - self.taus[interval]) / (self.taus[interval + 1] - self.taus[interval])
        scheme, used = self.scheme, len(self.scheme.used)
        step = scheme.width if scheme.shares_ends else used
        weights = scheme.control_weights(theta)
        own = self.values[interval[:, np.newaxis] * step + np.arange(used)]
        found = np.einsum("kp,kp...->k...", weights, own)
        return found, found, theta


@dataclass(frozen=True)
class Deviation:
    """How far a course is from its rates. In sizes of the states, numbers of all states in a row: `local` (intervals,
    n) at the ends of intervals followed afresh, `inner` (intervals,) the largest at the points between; `carried`
    (intervals + 1, n) added up by (1); `of_integrals` (intervals, integrals) over the integrals' sizes; `growth` the
    most that a deviation grows from one moment to a later one; `is_told` (intervals,) whether the reference was
    found."""

    local: FloatArray
    inner: FloatArray
    carried: FloatArray
    of_integrals: FloatArray
    growth: float
    is_told: NDArray[np.bool_]

    @property
    def estimate(self) -> float:
        """Return the largest deviation of a state, over its size."""
        if not self.is_told.all():
            return math.inf
        along = np.maximum(np.abs(self.carried[1:]).max(axis=1, initial=0.0), self.inner)
        return float(max(along.max(initial=0.0), np.abs(self.of_integrals.sum(axis=0)).max(initial=0.0)))


@dataclass(frozen=True, kw_only=True)
class GriddedCourse:
    """A course: `states` of each (points, *shape) at the points of a `scheme` in the intervals of the grid `taus`; the
    numbers `outers` and `still` of its formulas, `controls`, and `lags` as shares; `sizes` (n,) of the states;
    `integrands` are nodes of the moment that are integrated."""

    evolution: Evolution
    scheme: Scheme
    taus: FloatArray
    states: tuple[FloatArray, ...]
    controls: tuple[ControlOnGrid, ...]
    outers: tuple[Any, ...]
    still: tuple[Any, ...]
    lags: tuple[float, ...]
    sizes: FloatArray
    integrands: tuple[int, ...] = ()

    @property
    def intervals(self) -> int:
        """Return how many intervals there are."""
        return len(self.taus) - 1

    @cached_property
    def flat(self) -> FloatArray:
        """Return all states side by side (points, n)."""
        return np.concatenate([state.reshape(len(state), -1) for state in self.states], axis=1)

    @cached_property
    def code(self) -> MomentCode:
        """Return the rates at many moments."""
        roots = [state.rate for state in self.evolution.states]
        return MomentCode(self.evolution, [root for root in roots if root is not None], self.still)

    @cached_property
    def integrand_code(self) -> MomentCode | None:
        """Return what is integrated, at many moments."""
        return MomentCode(self.evolution, self.integrands, self.still) if self.integrands else None

    @cached_property
    def rates(self) -> FloatArray:
        """Return the rates (intervals, used, n) at the scheme's used points."""
        scheme, n = self.scheme, self.intervals
        at = (self.taus[:-1, np.newaxis] + np.diff(self.taus)[:, np.newaxis] * scheme.used_points).ravel()
        is_left = np.tile(scheme.used_points >= 1.0, n)
        places = np.arange(n)[:, np.newaxis] * scheme.width + np.array(scheme.used)
        values = self.flat[places.ravel()]
        return self.code.values(self.inputs(at, is_left, values)).reshape(n, len(scheme.used), -1)

    @cached_property
    def sums(self) -> FloatArray:
        """Return what the scheme makes of each integral in each interval (intervals, integrals)."""
        if self.integrand_code is None:
            return np.zeros((self.intervals, 0))
        n, scheme, h = self.intervals, self.scheme, np.diff(self.taus)[:, np.newaxis]
        at = (self.taus[:-1, np.newaxis] + h * scheme.used_points).ravel()
        is_left = np.tile(scheme.used_points >= 1.0, n)
        places = np.arange(n)[:, np.newaxis] * scheme.width + np.array(scheme.used)
        told = self.integrand_code.values(self.inputs(at, is_left, self.flat[places.ravel()]))
        weights = scheme.weights[list(scheme.used)]
        return np.asarray(h * np.einsum("q,kqi->ki", weights, told.reshape(n, len(scheme.used), -1)))

    def states_at(self, at: FloatArray, is_left: NDArray[np.bool_]) -> FloatArray:
        """Return all states (k, n) at shares of the time."""
        scheme = self.scheme
        inside = at + np.where(is_left, -SAME, SAME)
        interval = np.clip(np.searchsorted(self.taus, inside, side="right") - 1, 0, self.intervals - 1)
        step = np.diff(self.taus)[interval]
        theta = (at - self.taus[interval]) / step
        w, v = scheme.state_weights(theta)
        places = interval[:, np.newaxis] * scheme.width + np.arange(scheme.width + 1)
        found = np.einsum("kp,kpn->kn", w, self.flat[places])
        if scheme.by_rates:
            found = found + step[:, np.newaxis] * np.einsum("kp,kpn->kn", v, self.rates[interval])
        return np.asarray(found)

    def inputs(self, at: FloatArray, is_left: NDArray[np.bool_], states: FloatArray) -> list[Any]:
        """Return the inputs of the moment's formulas at shares of the time, with these states (k, n)."""
        found: list[Any] = []
        told: dict[tuple[int, int], tuple[FloatArray, FloatArray, FloatArray]] = {}
        earlier: dict[int, FloatArray] = {}
        starts = np.cumsum([0, *(math.prod(state.shape) for state in self.evolution.states)])
        for item in self.evolution.inputs:
            moment, side = at, is_left
            if item.lag >= 0:
                moment = np.maximum(at - self.lags[item.lag], 0.0)
                side = is_left & (moment > 0.0)
            match item.kind:
                case "tau" | "sigma":
                    found.append(moment)
                case "outer" if item.of < 0:  # what measures alone look at, and nothing that evolves
                    found.append(np.full((len(at), *item.shape), np.nan))
                case "outer":
                    found.append(np.broadcast_to(self.outers[item.of], (len(at), *item.shape)))
                case "state":
                    if item.lag >= 0 and item.lag not in earlier:
                        earlier[item.lag] = self._earlier(moment, side)
                    whole = states if item.lag < 0 else earlier[item.lag]
                    found.append(whole[:, starts[item.of] : starts[item.of + 1]].reshape(len(at), *item.shape))
                case _:
                    key = (item.of, item.lag)
                    if key not in told:
                        told[key] = self.controls[item.of].at(moment, side)
                    low, high, theta = told[key]
                    found.append({"value": low, "low": low, "high": high, "theta": theta}[item.kind])
        return found

    def _earlier(self, at: FloatArray, is_left: NDArray[np.bool_]) -> FloatArray:
        """Return the states some time ago: by their values alone, as the scheme's own equations take them."""
        if not self.scheme.by_rates:
            return self.states_at(at, is_left)
        from ilvren.dynamics.schemes.scheme import lagrange

        inside = at + np.where(is_left, -SAME, SAME)
        interval = np.clip(np.searchsorted(self.taus, inside, side="right") - 1, 0, self.intervals - 1)
        theta = (at - self.taus[interval]) / np.diff(self.taus)[interval]
        places = interval[:, np.newaxis] * self.scheme.width + np.arange(self.scheme.width + 1)
        return np.asarray(np.einsum("kp,kpn->kn", lagrange(self.scheme.points, theta), self.flat[places]))

    # ---- afresh -----------------------------------------------------------------------------------

    def deviation(self) -> Deviation:
        """Return how far the course is from following its intervals again."""
        n, size = self.intervals, self.flat.shape[1]
        points = radau_points(REFERENCE_POINTS)
        q = len(points)
        a = lagrange_integrals(points, points)  # (q, q)
        h = np.diff(self.taus)
        at = (self.taus[:-1, np.newaxis] + h[:, np.newaxis] * points).ravel()
        is_left = np.tile(points >= 1.0, n)
        begin = self.flat[np.arange(n) * self.scheme.width]
        x = self.states_at(at, is_left).reshape(n, q, size)
        steps = h[:, np.newaxis, np.newaxis]
        is_told = np.zeros(n, dtype=bool)
        scale = np.maximum(self.sizes, 1e-300)
        matrix = slopes = None
        with np.errstate(all="ignore"):
            for round_ in range(MOST_NEWTON):
                inputs = self.inputs(at, is_left, x.reshape(-1, size))
                f = self.code.values(inputs).reshape(n, q, size)
                if round_ < 3:
                    slopes = self.code.slopes(inputs).reshape(n, q, size, size)
                    matrix = self._newton_matrix(a, h, slopes)
                rest = begin[:, np.newaxis] + steps * np.einsum("ij,njs->nis", a, f) - x
                move = _solved(matrix, rest.reshape(n, q * size)).reshape(n, q, size)
                x = x + move
                largest = (np.abs(move) / scale).max(axis=(1, 2))
                is_told = largest <= NEWTON_END * 1e3
                if (largest <= NEWTON_END).all() or not np.isfinite(largest).any():
                    break
            phi = self._transitions(matrix, n, q, size)
        end = self.flat[(np.arange(n) + 1) * self.scheme.width]
        local = (x[:, -1] - end) / scale
        is_told &= np.isfinite(local).all(axis=1)
        local = np.where(np.isfinite(local), local, 0.0)
        inner, pulled = self._inner(x, begin, phi, points, scale)
        carried, growth = _added_up(phi[:, -1], local, scale)
        before = carried[:-1]
        along = np.abs(inner + np.einsum("kpij,kj->kpi", pulled, before)).max(axis=(1, 2), initial=0.0)
        return Deviation(local, along, carried, self._of_integrals(x, points, at, is_left), growth, is_told)

    def transitions(self) -> FloatArray:
        """Return (intervals, n, n), in sizes: what a change of an interval's start does to its end."""
        points = radau_points(REFERENCE_POINTS)
        n, q, size = self.intervals, len(points), self.flat.shape[1]
        h = np.diff(self.taus)
        at = (self.taus[:-1, np.newaxis] + h[:, np.newaxis] * points).ravel()
        is_left = np.tile(points >= 1.0, n)
        with np.errstate(all="ignore"):
            slopes = self.code.slopes(self.inputs(at, is_left, self.states_at(at, is_left))).reshape(n, q, size, size)
            matrix = self._newton_matrix(lagrange_integrals(points, points), h, slopes)
            phi = self._transitions(matrix, n, q, size)[:, -1]
        return np.asarray(phi * self.sizes[np.newaxis, np.newaxis, :] / self.sizes[np.newaxis, :, np.newaxis])

    def _newton_matrix(self, a: FloatArray, h: FloatArray, slopes: FloatArray) -> FloatArray:
        """Return I − h a_ij ∂f/∂x at point j, as (intervals, q n, q n)."""
        n, q, size, _ = slopes.shape
        found = -np.einsum("k,ij,kjst->kisjt", h, a, slopes).reshape(n, q * size, q * size)
        found[:, np.arange(q * size), np.arange(q * size)] += 1.0
        return np.asarray(np.where(np.isfinite(found), found, 0.0))

    def _transitions(self, matrix: FloatArray | None, n: int, q: int, size: int) -> FloatArray:
        """Return (intervals, q, n, n): what a change of an interval's start does to its points."""
        given = np.tile(np.eye(size), (q, 1))
        found = np.linalg.solve(matrix, np.broadcast_to(given, (n, q * size, size))) if matrix is not None else None
        if found is None:
            return np.broadcast_to(np.eye(size), (n, q, size, size)).copy()
        found = np.where(np.isfinite(found), found, 0.0)
        return np.asarray(found.reshape(n, q, size, size))

    def _inner(
        self, x: FloatArray, begin: FloatArray, phi: FloatArray, points: FloatArray, scale: FloatArray
    ) -> tuple[FloatArray, FloatArray]:
        """Return the deviations (intervals, points, n) at the scheme's own points, in sizes, and what the start's
        deviation, in sizes, does there (intervals, points, n, n)."""
        from ilvren.dynamics.schemes.scheme import lagrange

        own = self.scheme.points[1:]
        weights = lagrange(np.concatenate([[0.0], points]), own)
        whole = np.concatenate([begin[:, np.newaxis], x], axis=1)
        there = np.einsum("pj,kjn->kpn", weights, whole)
        places = np.arange(self.intervals)[:, np.newaxis] * self.scheme.width + np.arange(1, self.scheme.width + 1)
        found = (there - self.flat[places]) / scale
        size = phi.shape[-1]
        identity = np.broadcast_to(np.eye(size), (len(phi), 1, size, size))
        pulled = np.einsum("pj,kjab->kpab", weights, np.concatenate([identity, phi], axis=1))
        pulled = pulled * scale[np.newaxis, :] / scale[:, np.newaxis]
        return np.where(np.isfinite(found), found, 0.0), pulled

    def _of_integrals(
        self, x: FloatArray, points: FloatArray, at: FloatArray, is_left: NDArray[np.bool_]
    ) -> FloatArray:
        """Return (intervals, integrals): by how much the scheme's quadrature misses that of the reference."""
        if self.integrand_code is None:
            return np.zeros((self.intervals, 0))
        n, h = self.intervals, np.diff(self.taus)[:, np.newaxis]
        weights = lagrange_integrals(points, np.ones(1))[0]
        with np.errstate(all="ignore"):
            values = self.integrand_code.values(self.inputs(at, is_left, x.reshape(-1, x.shape[-1])))
            fine = h * np.einsum("q,kqi->ki", weights, values.reshape(n, len(points), -1))
            coarse = self.sums
        size = np.abs(coarse).sum(axis=0)
        found = (fine - coarse) / np.where(size > 0.0, size, 1.0)
        return np.where(np.isfinite(found), found, 0.0)


def _solved(matrix: FloatArray | None, rest: FloatArray) -> FloatArray:
    assert matrix is not None
    try:
        found = np.linalg.solve(matrix, np.where(np.isfinite(rest), rest, 0.0)[..., np.newaxis])[..., 0]
    except np.linalg.LinAlgError:
        return np.full(rest.shape, np.nan)
    return np.where(np.isfinite(rest), found, np.nan)


def _added_up(phi: FloatArray, local: FloatArray, scale: FloatArray) -> tuple[FloatArray, float]:
    """Return (1) in sizes, and the most that a deviation grows."""
    n, size = local.shape
    scaled = phi * scale[np.newaxis, np.newaxis, :] / scale[np.newaxis, :, np.newaxis]
    carried = np.zeros((n + 1, size))
    growth, most = np.eye(size), 1.0
    with np.errstate(all="ignore"):
        for k in range(n):
            carried[k + 1] = scaled[k] @ carried[k] + local[k]
            growth = scaled[k] @ growth
            most = max(most, float(np.abs(growth).max(initial=0.0)))
            # What has died down begins again: growth is from any moment to a later one.
            growth = np.where(np.abs(growth).max(axis=0) < 1.0, np.eye(size), growth)
    return np.where(np.isfinite(carried), carried, np.inf), most if math.isfinite(most) else math.inf
