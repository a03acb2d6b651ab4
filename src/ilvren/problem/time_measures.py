"""What is measured of something over time, as formulas: extremes, rise and settling times, overshoot.

Between the moments of the grid a signal is a cubic (see `formula.places`), so that extremes and crossings are found
between them, and are smooth functions of the design where they do not leap from one interval to another.
"""

from __future__ import annotations

from collections.abc import Callable
from typing import TYPE_CHECKING, Any, Protocol

import numpy as np
from numpy.typing import NDArray

from ilvren.formula import Graph, Shape, shaping
from ilvren.records import dataclass

if TYPE_CHECKING:
    from ilvren.problem.entries import EntryDeclaration
    from ilvren.problem.horizon import Horizon
    from ilvren.problem.template import Template

__all__ = ["Measures", "Samples", "samples_of"]

FloatArray = NDArray[np.float64]


@dataclass(frozen=True)
class Samples:
    """A signal along the grid: at all moments (count, *shape), at the lower and upper ends of intervals, with slopes
    there times the intervals' lengths (None where not known); where intervals begin and how long they are, as shares
    of the time; `corners` are the intervals at whose upper ends it may jump."""

    whole: int
    low: int
    high: int
    slopes: tuple[int, int] | None
    begins: int
    steps: int
    corners: tuple[int, ...] = ()


class GridMoments(Protocol):
    """Moments of a grid, as far as measures ask: how many, and their shares of the time."""

    @property
    def count(self) -> int: ...

    @property
    def taus(self) -> tuple[float, ...]: ...


class SampledAxis(Protocol):
    """A time and what evolves along it, as far as measures ask: `graph` is that of one moment; `grid` are the moments
    looked at, `lefts` those from their left and `sides` those from both where something jumps."""

    template: Template
    graph: Graph
    horizon: Horizon
    structural: list[int]
    entry: EntryDeclaration
    key: str
    taus: FloatArray

    @property
    def grid(self) -> GridMoments: ...

    @property
    def lefts(self) -> GridMoments: ...

    @property
    def sides(self) -> GridMoments: ...

    def outer(self, main: int) -> int: ...

    def slope(self, node: int) -> int | None: ...

    def jumps_at_ends(self, node: int) -> bool: ...

    def spread(self, node: int, moments: Any) -> int: ...


def samples_of(axis: SampledAxis, node: int) -> Samples:
    """Return something over time along the grid, for what is measured of it: values at both ends of every interval, and
    slopes there where they are known."""
    graph = axis.template.graph
    has_jumps = axis.jumps_at_ends(node) and axis.lefts is not axis.grid
    count, shape = axis.grid.count, axis.graph.shape(node)
    whole = axis.spread(node, axis.grid)
    rest = tuple((0, n, 1) for n in shape)

    def part(of: int, first: int, last: int) -> int:
        return shaping.index(graph, of, ((first, last, 1), *rest))

    def both(own: int) -> tuple[int, int]:
        full = axis.spread(own, axis.grid)
        right = axis.spread(own, axis.lefts) if has_jumps else part(full, 1, count)
        return part(full, 0, count - 1), right

    low, high = both(node)
    steps = axis.template.data(f"{axis.key} steps", np.diff(axis.taus))
    along = (len(axis.taus) - 1, *(1,) * len(shape))
    slope, slopes = axis.slope(node), None
    if slope is not None:
        sides = both(slope)
        left, right = (graph.apply("mul", shaping.reshaped(graph, steps, along), side) for side in sides)
        slopes = (left, right)
    begins = axis.template.data(f"{axis.key} begins", axis.taus[:-1])
    twice = set(np.array(axis.sides.taus)[:-1][np.diff(axis.sides.taus) == 0.0].tolist()) if has_jumps else set()
    corners = tuple(k for k, tau in enumerate(axis.taus[1:].tolist()) if tau in twice)
    return Samples(whole, low, high, slopes, begins, steps, corners)


class Measures:
    """Measures on one axis. All take a node of the moment and return one of the problem."""

    def __init__(self, axis: SampledAxis) -> None:
        self.axis = axis
        self.graph: Graph = axis.template.graph

    # ---- one element at a time --------------------------------------------------------------------

    def _each(self, node: int, measure: Callable[[Samples, tuple[int, ...]], int]) -> int:
        """Return a measure of each element of a signal, in its shape."""
        shape: Shape = self.axis.graph.shape(node)
        samples = samples_of(self.axis, node)
        if not shape:
            return measure(samples, ())
        places = [()]
        for length in shape:
            places = [(*place, k) for place in places for k in range(length)]  # type: ignore[misc]
        parts = tuple(measure(self._element(samples, place), place) for place in places)
        return shaping.reshaped(self.graph, shaping.join(self.graph, parts), shape)

    def _element(self, samples: Samples, place: tuple[int, ...]) -> Samples:
        def own(node: int) -> int:
            return shaping.index(self.graph, node, ((0, self.graph.shape(node)[0], 1), *place))

        slopes = None if samples.slopes is None else (own(samples.slopes[0]), own(samples.slopes[1]))
        whole, low, high = (own(part) for part in (samples.whole, samples.low, samples.high))
        return Samples(whole, low, high, slopes, samples.begins, samples.steps, samples.corners)

    def _ends(self, samples: Samples) -> tuple[int, int, int, int]:
        zero = self.graph.stretched(self.graph.constant(0.0), self.graph.shape(samples.low))
        slopes = samples.slopes or (zero, zero)
        return samples.low, samples.high, slopes[0], slopes[1]

    def _placed(self, operation: str, samples: Samples, *levels: int, count: int) -> list[int]:
        """Return the numbers that an operation of `formula.places` gives."""
        found = self.graph.arrange(operation, (*self._ends(samples), *levels), (count,), ())
        return [shaping.index(self.graph, found, (k,)) for k in range(count)]

    def _at(self, place: int, node: int) -> int:
        """Return the element of a vector over intervals at a place."""
        count = self.graph.shape(node)[0]
        keys = self.axis.template.data(f"intervals {count}", range(count))
        return self.graph.arrange("lookup", (place, keys, node), (), (0,))

    def _cubic(self, ends: tuple[int, ...]) -> tuple[int, int, int, int, int]:
        """Return (s, e, u, and the coefficients of θ² and θ³) of (1) of `formula.places`, in one interval or all."""
        apply, constant = self.graph.apply, self.graph.constant
        s, e, u, v = ends
        rise = apply("sub", e, s)
        both = apply("add", u, v)
        b = apply("sub", apply("sub", apply("mul", constant(3.0), rise), both), u)
        c = apply("sub", both, apply("mul", constant(2.0), rise))
        return s, e, u, b, c

    def _value(self, cubic: tuple[int, int, int, int, int], theta: int) -> int:
        apply = self.graph.apply
        s, _, u, b, c = cubic
        inner = apply("add", b, apply("mul", theta, c))
        return apply("add", s, apply("mul", theta, apply("add", u, apply("mul", theta, inner))))

    def _slope(self, cubic: tuple[int, int, int, int, int], theta: int) -> int:
        apply, constant = self.graph.apply, self.graph.constant
        _, _, u, b, c = cubic
        inner = apply("add", apply("mul", constant(2.0), b), apply("mul", constant(3.0), apply("mul", theta, c)))
        return apply("add", u, apply("mul", theta, inner))

    # ---- extremes ---------------------------------------------------------------------------------

    def highest(self, node: int) -> int:
        """Return the largest value; of what is itself the largest of several things, the largest of theirs, so that
        none has a kink between moments."""
        moment = self.axis.graph
        operation, operands = moment.nodes[node].operation, moment.nodes[node].operands
        if operation == "abs":
            operation, operands = "max", (operands[0], moment.apply("neg", operands[0]))
        if operation == "max" and all(moment.shape(operand) == moment.shape(node) for operand in operands):
            return self.graph.apply("max", *(self.highest(operand) for operand in operands))
        return self._each(node, lambda samples, _: self._highest(samples))

    def lowest(self, node: int) -> int:
        """Return the smallest value."""
        return self.graph.apply("neg", self.highest(self.axis.graph.apply("neg", node)))

    def _highest(self, samples: Samples) -> int:
        """The largest of the peaks inside intervals, of the lower ends of those without one, of the last moment, and
        of the ends before jumps: of each moment once, as two that are always equal would look like a kink."""
        apply, constant, graph = self.graph.apply, self.graph.constant, self.graph
        found, count = samples.low, graph.shape(samples.low)[0]
        if samples.slopes is not None:
            is_inside = graph.arrange("peaked", self._ends(samples), (count,), ())
            cubic = self._cubic(self._ends(samples))
            s, _, u, b, c = cubic
            bend = apply("sub", apply("square", b), apply("mul", constant(3.0), apply("mul", c, u)))
            root = apply("sqrt", apply("where", is_inside, bend, constant(1.0)))
            theta = apply("unit", u, apply("sub", root, b))
            theta = apply("where", is_inside, theta, constant(0.0))
            found = apply("where", is_inside, self._value(cubic, theta), s)
        ends = [*(k for k in samples.corners if k < count - 1), count - 1]
        parts = [found, *(shaping.index(graph, samples.high, ((k, k + 1, 1),)) for k in ends)]
        return shaping.reduced(graph, "max", shaping.join(graph, tuple(parts)), None)

    # ---- times ------------------------------------------------------------------------------------

    def _moment(self, samples: Samples, place: int, theta: int, level: int) -> int:
        """Return the share of the time at which an interval's cubic is at a level, `theta` being where that is: two
        steps of Newton's method from there change nothing but give the first and second derivatives."""
        apply = self.graph.apply
        cubic = self._cubic(tuple(self._at(place, node) for node in self._ends(samples)))
        for _ in range(2):
            miss = apply("sub", self._value(cubic, theta), level)
            theta = apply("sub", theta, apply("unit", miss, self._slope(cubic, theta)))
        begin, step = self._at(place, samples.begins), self._at(place, samples.steps)
        return apply("add", begin, apply("mul", theta, step))

    def rise_time(self, node: int, low: int, high: int) -> int:
        """Return the time from first reaching `low` until first reaching `high` (nodes of the problem)."""
        apply, constant = self.graph.apply, self.graph.constant
        duration = self.axis.horizon.duration

        def upwards(signal: int, a: int, b: int) -> int:
            def of(samples: Samples, _: tuple[int, ...]) -> int:
                (begun, has_begun), (ended, has_ended) = (self._reached(samples, level) for level in (a, b))
                short = apply("div", apply("sub", b, self._highest(samples)), apply("sub", b, a))
                never = apply("add", constant(1.0), short)
                took = apply("sub", ended, begun)
                return apply("mul", duration, apply("where", apply("and", has_begun, has_ended), took, never))

            return self._each(signal, of)

        return self._either_way(node, low, high, upwards)

    def rise_begins(self, node: int, low: int, high: int) -> int:
        """Return the time from the beginning until a rise from `low` to `high` begins, where it does."""

        def upwards(signal: int, a: int, _b: int) -> int:
            begun = self._each(signal, lambda samples, _: self._reached(samples, a)[0])
            return self.graph.apply("mul", self.axis.horizon.duration, begun)

        return self._either_way(node, low, high, upwards)

    def _reached(self, samples: Samples, level: int) -> tuple[int, int]:
        """Return the share of the time at which a signal first reaches a level from below, and whether it does."""
        place, theta, is_reached = self._placed("cross_place", samples, level, count=3)
        return self._moment(samples, place, theta, level), is_reached

    def _either_way(self, node: int, low: int, high: int, upwards: Callable[[int, int, int], int]) -> int:
        """Return what `upwards` (of a signal and two levels) makes of a rise, or of a fall turned round."""
        graph, template = self.axis.graph, self.axis.template

        def turned(number: int) -> int:
            return self.graph.apply("neg", number)

        def downwards() -> int:
            return upwards(graph.apply("neg", node), turned(low), turned(high))

        if not template.depends(low) and not template.depends(high):
            self.axis.structural += [low, high]  # which way it goes is known
            a, b = (float(template.number(self.axis.entry, level, template.values, "a level")) for level in (low, high))
            return upwards(node, low, high) if b >= a else downwards()
        is_upwards = self.graph.apply(">=", high, low)
        return self.graph.apply("where", is_upwards, upwards(node, low, high), downwards())

    def settling_time(self, node: int, target: int, band: int) -> int:
        """Return the last moment, counted from the beginning, at which a signal is farther from `target` than
        `band`."""
        apply, constant = self.graph.apply, self.graph.constant
        duration = self.axis.horizon.duration
        under, over = apply("sub", target, band), apply("add", target, band)

        def of(samples: Samples, _: tuple[int, ...]) -> int:
            place, theta, is_above, is_back, is_never = self._placed("leave_place", samples, under, over, count=5)
            level = apply("where", is_above, over, under)
            share = self._moment(samples, place, theta, level)
            count = self.graph.shape(samples.whole)[0]
            last = shaping.index(self.graph, samples.whole, (count - 1,))
            off = apply("sub", apply("where", is_above, apply("sub", last, target), apply("sub", target, last)), band)
            never = apply("add", constant(1.0), apply("div", off, band))
            found = apply("where", is_never, never, apply("where", is_back, share, constant(0.0)))
            return apply("mul", duration, found)

        return self._each(node, of)

    def overshoot(self, node: int, target: int, first: int) -> int:
        """Return the largest (s − target) / (target − first), at least 0."""
        share = self.overshoot_signal(node, target, first)
        return self.graph.apply("max", self.highest(share), self.graph.constant(0.0))

    def overshoot_signal(self, node: int, target: int, first: int) -> int:
        """Return the moment's node of (s − target) / (target − first)."""
        moment, outer = self.axis.graph, self.axis.outer
        step = outer(self.graph.apply("sub", target, first))
        return moment.apply("div", moment.apply("sub", node, outer(target)), step)
