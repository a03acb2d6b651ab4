"""Formulas of one moment as compiled code on flat numbers: rates, gaps of branches, jumps, and their derivatives.

All formulas are written out element by element. What depends on nothing but the time and fixed values is `forcing`: it
is computed for all steps at once, beforehand. Every other branch (abs, min, max, a comparison) that may change on the
way has a `mode`, 1 where its gap is above 0, 0 where it is below, and RESTING where it stays 0, which is an input:
within a step no branch changes, and where a gap changes its sign is for the steps to find.

One moment in flat numbers, by place: what the graph's inputs hold, the modes, the forcing.
"""

from __future__ import annotations

from collections.abc import Callable, Sequence
from functools import cached_property
from typing import TYPE_CHECKING, Any

import numpy as np
from numpy.typing import NDArray

from ilvren.formula import SPLIT, Graph, TooLong, compile_arrays, compile_scalar, gradient, interpret, unrolled

if TYPE_CHECKING:
    from ilvren.dynamics.evolution import Evolution

__all__ = ["RESTING", "System", "TooManyFormulas"]

FloatArray = NDArray[np.float64]

# Formulas of a moment longer than this, written out, take too long to compile.
MOST_NODES = 400_000
# The mode of a comparison of two sides that are, and stay, the same.
RESTING = 0.5
# Of each comparison the modes (from, to) at which it holds; of == and != those at which they do and do not.
_HOLDS = {">": (0.75, None), ">=": (0.25, None), "<": (None, 0.25), "<=": (None, 0.75), "==": (0.25, 0.75),
          "!=": (0.25, 0.75)}  # fmt: skip

# Branches without a jump; and operations that have no value everywhere.
EVEN = frozenset({"abs", "min", "max"})
LIMITED = frozenset({"sqrt", "log", "log10", "pow", "asin", "acos"})


class TooManyFormulas(Exception):
    """The formulas are too long to be written out, or hold what cannot be."""


class System:
    """Compiled formulas of one moment. `still` are the values of the graph's parameters."""

    def __init__(self, evolution: Evolution, still: Sequence[Any]) -> None:
        self.evolution = evolution
        sizes = [int(np.prod(item.shape, dtype=np.int64)) for item in evolution.inputs]
        self.starts = np.concatenate([[0], np.cumsum(sizes)]).astype(np.int64)
        self.width = int(self.starts[-1])
        graph = evolution.graph
        roots: list[int] = []
        for state in evolution.states:
            node = state.rate if state.rate is not None else state.next
            assert node is not None
            roots.append(node)
        try:
            made, found = unrolled(graph, roots, still, self.starts.tolist(), MOST_NODES)
        except TooLong:
            raise TooManyFormulas from None
        rates: list[int] = []
        jumps: list[int] = []
        self.is_sampled = np.zeros(0, dtype=bool)
        flags: list[bool] = []
        zero = made.constant(0.0)
        for state, numbers in zip(evolution.states, found, strict=True):
            own = np.broadcast_to(numbers, state.shape).ravel().tolist()
            is_sampled = state.rate is None
            rates += [zero] * len(own) if is_sampled else own
            jumps += own if is_sampled else []
            flags += [is_sampled] * len(own)
        self.is_sampled = np.array(flags, dtype=bool)
        self.size = len(flags)
        self._natural, self._jump_roots, self._natural_roots = made, jumps, rates
        self._split(made, rates)

    # ---- places of what in a moment ---------------------------------------------------------------

    def places(self, kind: str, *, lag: int = -1) -> NDArray[np.int64]:
        """Return the places of all inputs of a kind, in order. They are (count,)."""
        found = [
            np.arange(self.starts[k], self.starts[k + 1])
            for k, item in enumerate(self.evolution.inputs)
            if item.kind == kind and item.lag == lag
        ]
        return np.concatenate(found) if found else np.zeros(0, dtype=np.int64)

    is_plain = True  # whether its code is of plain floats

    def inputs_of_rates(self) -> list[int]:
        """Return the numbers of the inputs that rates and gaps look at."""
        own = self.graph.variables_of([*self.rate_roots, *self.gap_roots])
        places = sorted(place for place in own if place < self.width)
        return sorted(set((np.searchsorted(self.starts, places, side="right") - 1).tolist()))

    @property
    def mode_count(self) -> int:
        """Return how many branches there are."""
        return len(self.gap_roots)

    # ---- branches and forcing ---------------------------------------------------------------------

    def _split(self, graph: Graph, roots: Sequence[int]) -> None:
        """Write the formulas again with modes in place of branches and inputs in place of forcing."""
        order = graph.reachable(roots)
        is_constant, is_forcing = set[int](), set[int]()
        is_still, still = set[int](), set(self.places("outer").tolist())  # what the design alone decides
        for number in order:
            node = graph.nodes[number]
            if node.operation == "constant":
                is_constant.add(number)
                is_still.add(number)
            elif node.operation == "variable":
                if node.index == 0:
                    is_forcing.add(number)
                if node.index in still:
                    is_still.add(number)
            else:
                if all(operand in is_forcing or operand in is_constant for operand in node.operands):
                    is_forcing.add(number)
                if all(operand in is_still for operand in node.operands):
                    is_still.add(number)
        made = Graph()
        mapped: dict[int, int] = {}
        modes: list[int] = []
        gaps: list[int] = []
        forced: list[int] = []
        mode_of: dict[int, int] = {}
        jumping: set[int] = set()  # gaps of comparisons, at which a rate may jump
        falling = _falling(graph, order, is_forcing)
        for number in order:
            node = graph.nodes[number]
            if number in is_forcing:
                continue
            if node.operation == "constant":
                mapped[number] = made.constant(node.value)
                continue
            if node.operation == "variable":
                mapped[number] = made.variable(node.index)
                continue
            operands = []
            for operand in node.operands:
                if operand in is_forcing and operand not in mapped:
                    mapped[operand] = self._forcing_input(graph, made, operand, forced)
                operands.append(mapped[operand])
            is_left = number in is_still or (node.operation in EVEN and _gap(graph, number) in falling)
            if node.operation in SPLIT and not is_left:
                gap = operands[0] if node.operation == "abs" else made.apply("sub", *operands)
                if made.nodes[gap].operation == "constant":
                    mapped[number] = made.apply(node.operation, *operands)
                    continue
                if gap not in mode_of:
                    mode_of[gap] = made.variable(-2 - len(modes))
                    modes.append(mode_of[gap])
                    gaps.append(gap)
                if node.operation in _HOLDS:
                    jumping.add(gap)
                mapped[number] = _sided(made, node.operation, operands, mode_of[gap])
            else:
                mapped[number] = made.apply(node.operation, *operands)
        for root in roots:
            if root in is_forcing and root not in mapped:
                mapped[root] = self._forcing_input(graph, made, root, forced)
        count = len(modes)
        self.forcing_count = len(forced)
        self.all_width = self.width + count + len(forced)
        # Numbers of modes and forcing are known only now: write once more with these.
        renumbered = {-2 - k: self.width + k for k in range(count)}
        renumbered |= {-100_000_000 - k: self.width + count + k for k in range(len(forced))}
        final = Graph()
        again: dict[int, int] = {}
        for number in made.reachable([mapped[root] for root in roots] + gaps):
            node = made.nodes[number]
            if node.operation == "constant":
                again[number] = final.constant(node.value)
            elif node.operation == "variable":
                again[number] = final.variable(renumbered.get(node.index, node.index))
            else:
                again[number] = final.apply(node.operation, *(again[operand] for operand in node.operands))
        self.graph = final
        self.rate_roots = [again[mapped[root]] for root in roots]
        self.gap_roots = [again[gap] for gap in gaps]
        self.gap_jumps = np.array([gap in jumping for gap in gaps], dtype=bool)
        self._forced, self._forced_graph = forced, graph
        self._time_gaps = self._gaps_of_time(graph, order, is_forcing)

    @staticmethod
    def _forcing_input(graph: Graph, made: Graph, number: int, forced: list[int]) -> int:
        if graph.nodes[number].operation == "variable":
            return made.variable(0)
        if number not in forced:
            forced.append(number)
        return made.variable(-100_000_000 - forced.index(number))

    @staticmethod
    def _gaps_of_time(graph: Graph, order: Sequence[int], is_forcing: set[int]) -> list[int]:
        found = []
        for number in order:
            node = graph.nodes[number]
            if number in is_forcing and node.operation in SPLIT:
                found.append(node.operands[0] if node.operation == "abs" else graph.apply("sub", *node.operands))
        return sorted(set(found))

    # ---- code on plain floats ---------------------------------------------------------------------

    def _scalar(self, graph: Graph, roots: Sequence[int], count: int) -> Callable[..., tuple[float, ...]]:
        code = compile_scalar(graph, roots, count)
        return code.bound(interpret(graph, code.constants, (), ()).values)

    @cached_property
    def rates(self) -> Callable[..., tuple[float, ...]]:
        """Return the function of all numbers of a moment that gives the rates of all states."""
        return self._scalar(self.graph, self.rate_roots, self.all_width)

    @cached_property
    def gaps(self) -> Callable[..., tuple[float, ...]]:
        """Return the function of all numbers of a moment that gives the gaps of the branches."""
        return self._scalar(self.graph, self.gap_roots, self.all_width)

    @cached_property
    def jumps(self) -> Callable[..., tuple[float, ...]]:
        """Return the function of the inputs alone that gives what sampled states jump to."""
        return self._scalar(self._natural, self._jump_roots, self.width)

    @cached_property
    def natural(self) -> Callable[..., tuple[float, ...]]:
        """Return the function of the inputs alone that gives the rates, every branch as it falls."""
        return self._scalar(self._natural, self._natural_roots, self.width)

    @cached_property
    def slope_entries(self) -> list[tuple[int, int, int]]:
        """Return (state, place, node) of the rates' derivatives that are not zero everywhere, by all but the modes."""
        return self._entries(self.graph, self.rate_roots)

    def _entries(self, graph: Graph, roots: Sequence[int]) -> list[tuple[int, int, int]]:
        modes = range(self.width, self.width + self.mode_count)
        return [
            (row, place, node)
            for row, root in enumerate(roots)
            for place, node in sorted(gradient(graph, root).items())
            if place not in modes
        ]

    @cached_property
    def state_slopes(self) -> tuple[Callable[..., tuple[float, ...]], list[int], list[int]]:
        """Return the function that gives the rates' derivatives by the states, with their rows and columns."""
        columns = {int(place): k for k, place in enumerate(self.places("state"))}
        own = [(row, columns[place], node) for row, place, node in self.slope_entries if place in columns]
        function = self._scalar(self.graph, [node for *_, node in own], self.all_width)
        return function, [row for row, *_ in own], [column for _, column, _ in own]

    # ---- code on many moments ---------------------------------------------------------------------

    def _many(self, graph: Graph, roots: Sequence[int]) -> Callable[[Sequence[FloatArray]], list[Any]]:
        code = compile_arrays(graph, roots, ("variable",))
        bound = code.bound((), [np.asarray(value) for value in interpret(graph, code.constants, (), ()).values])

        def function(moments: Sequence[FloatArray]) -> list[Any]:
            return bound(moments)[0]

        return function

    @cached_property
    def rates_many(self) -> Callable[[Sequence[FloatArray]], list[Any]]:
        """Return the rates at many moments, given as an array for each number of a moment. Each number is given as
        (k,), each rate is (k,)."""
        return self._many(self.graph, self.rate_roots)

    @cached_property
    def gaps_many(self) -> Callable[[Sequence[FloatArray]], list[Any]]:
        """Return the gaps at many moments. Each number is given as (k,), each gap is (k,)."""
        return self._many(self.graph, self.gap_roots)

    @cached_property
    def jumps_many(self) -> Callable[[Sequence[FloatArray]], list[Any]]:
        """Return what sampled states jump to at many moments. Each number is given as (k,), each value is (k,)."""
        return self._many(self._natural, self._jump_roots)

    def slopes_many(self, moments: FloatArray) -> FloatArray:
        """Return the rates' derivatives (moments, states, numbers) at moments (numbers, moments)."""
        return self._filled("rates", moments)

    def gap_slopes_many(self, moments: FloatArray) -> FloatArray:
        """Return the gaps' derivatives (moments, branches, numbers)."""
        return self._filled("gaps", moments)

    def jump_slopes_many(self, moments: FloatArray) -> FloatArray:
        """Return the jumps' derivatives (moments, sampled numbers, inputs)."""
        return self._filled("jumps", moments)

    @cached_property
    def _slope_codes(self) -> dict[str, Any]:
        return {}

    def _slope_code(self, what: str) -> Any:
        if what not in self._slope_codes:
            graph, roots = {
                "rates": (self.graph, self.rate_roots),
                "gaps": (self.graph, self.gap_roots),
                "jumps": (self._natural, self._jump_roots),
            }[what]
            entries = self.slope_entries if what == "rates" else self._entries(graph, roots)
            self._slope_codes[what] = (len(roots), entries, self._many(graph, [node for *_, node in entries]))
        return self._slope_codes[what]

    def _filled(self, what: str, moments: FloatArray) -> FloatArray:
        count, entries, code = self._slope_code(what)
        found = np.zeros((moments.shape[1], count, len(moments)))
        for (row, place, _), value in zip(entries, code(moments) if entries else (), strict=True):
            found[:, row, place] = value
        return found

    def bends_many(self, what: str, moments: FloatArray, weights: FloatArray) -> FloatArray:
        """Return Σ weight · second derivatives (moments, numbers, numbers) of the "rates", "gaps" or "jumps" at moments
        (numbers, moments), for weights (moments, rows)."""
        key = f"bend {what}"
        if key not in self._slope_codes:
            self._slope_codes[key] = self._bend_code(what)
        entries, code = self._slope_codes[key]
        found = np.zeros((moments.shape[1], len(moments), len(moments)))
        if entries:
            given = [*moments, *weights.T]
            for (i, j, _), value in zip(entries, code(given), strict=True):
                found[:, i, j] = value
                found[:, j, i] = value
        return found

    def _bend_code(self, what: str) -> Any:
        graph, roots = {
            "rates": (self.graph, self.rate_roots),
            "gaps": (self.graph, self.gap_roots),
            "jumps": (self._natural, self._jump_roots),
        }[what]
        width = self.width if what == "jumps" else self.all_width
        modes = range(self.width, self.width + self.mode_count)
        total = graph.constant(0.0)
        for row, root in enumerate(roots):
            total = graph.apply("add", total, graph.apply("mul", graph.variable(width + row), root))
        entries = []
        for i, slope in gradient(graph, total).items():
            if i >= width or (what != "jumps" and i in modes):
                continue
            for j, second in gradient(graph, slope).items():
                if j <= i and (what == "jumps" or j not in modes):
                    entries.append((i, j, second))
        return entries, self._many(graph, [node for *_, node in entries]) if entries else None

    # ---- forcing ----------------------------------------------------------------------------------

    @cached_property
    def _forcing_code(self) -> Any:
        return self._many(self._forced_graph, self._forced) if self._forced else None

    def forcing(self, taus: FloatArray) -> FloatArray:
        """Return the forcing (*shape of taus, forcing) at shares of the time. `taus` have any shape."""
        if not self._forced:
            return np.zeros((*taus.shape, 0))
        found = self._forcing_code([taus.ravel()])
        return np.stack([np.broadcast_to(item, taus.size) for item in found], axis=-1).reshape(*taus.shape, -1)

    @cached_property
    def _forcing_slopes(self) -> tuple[list[int], Any, list[int], Any]:
        graph = self._forced_graph
        first = [(k, own[0]) for k, root in enumerate(self._forced) if 0 in (own := gradient(graph, root))]
        second = [(k, own[0]) for k, root in first if 0 in (own := gradient(graph, root))]
        codes = [self._many(graph, [n for _, n in items]) if items else None for items in (first, second)]
        return [k for k, _ in first], codes[0], [k for k, _ in second], codes[1]

    def forcing_slopes(self, taus: FloatArray) -> tuple[FloatArray, FloatArray]:
        """Return the first and second derivatives of the forcing by the share of the time (moments, forcing)."""
        found = np.zeros((len(taus), self.forcing_count)), np.zeros((len(taus), self.forcing_count))
        places, code, more, bend = self._forcing_slopes
        for own, which, function in ((found[0], places, code), (found[1], more, bend)):
            if function is not None:
                for place, value in zip(which, function([taus]), strict=True):
                    own[:, place] = value
        return found

    def breaks(self, taus: FloatArray) -> FloatArray:
        """Return where forcing changes its branch, sought between neighbouring `taus`. Shapes: taus (k,), result
        (places,), ascending."""
        if not self._time_gaps:
            return np.zeros(0)
        code = self._many(self._forced_graph, self._time_gaps)
        values = [np.broadcast_to(item, len(taus)) for item in code([taus])]
        found: list[FloatArray] = []
        for place, gap in enumerate(values):
            found.append(taus[(gap == 0.0) & (taus > 0.0) & (taus < 1.0)])
            for k in np.flatnonzero(gap[:-1] * gap[1:] < 0.0):
                found.append(np.array([self._crossing(code, place, taus[k], taus[k + 1], gap[k])]))
        return np.unique(np.concatenate(found)) if found else np.zeros(0)

    @staticmethod
    def _crossing(code: Any, place: int, low: float, high: float, at_low: float) -> float:
        for _ in range(80):
            middle = 0.5 * (low + high)
            if middle in (low, high):
                break
            value = float(np.ravel(code([np.array([middle])])[place])[0])
            if value == 0.0:
                return middle
            low, high = (middle, high) if value * at_low > 0.0 else (low, middle)
        return high


def _gap(graph: Graph, number: int) -> int:
    """Return what changes its sign where a branch changes."""
    node = graph.nodes[number]
    return node.operands[0] if node.operation == "abs" else graph.apply("sub", *node.operands)


def _falling(graph: Graph, order: Sequence[int], is_forcing: set[int]) -> set[int]:
    """Return the gaps at which abs, min and max are left as they fall: sqrt(abs(x)) has no value where x has passed 0
    and its branch has not. Comparisons never are: rates jump there, which a step must not pass."""
    within: dict[int, frozenset[int]] = {}
    found: set[int] = set()
    for number in order:
        node = graph.nodes[number]
        if number in is_forcing:
            continue
        held = frozenset[int]().union(*(within.get(operand, frozenset()) for operand in node.operands))
        if node.operation in LIMITED:
            found |= held
        if node.operation in EVEN:
            held |= {_gap(graph, number)}
        if held:
            within[number] = held
    return found


def _sided(graph: Graph, operation: str, operands: Sequence[int], mode: int) -> int:
    """Return a branch with its side chosen by a mode."""
    match operation:
        case "abs":
            return graph.apply("where", mode, operands[0], graph.apply("neg", operands[0]))
        case "max":
            return graph.apply("where", mode, operands[0], operands[1])
        case "min":
            return graph.apply("where", mode, operands[1], operands[0])
    low, high = _HOLDS[operation]
    sides = [graph.apply(">", mode, graph.constant(low))] if low is not None else []
    sides += [graph.apply("<", mode, graph.constant(high))] if high is not None else []
    found = sides[0] if len(sides) == 1 else graph.apply("and", *sides)
    return graph.apply("not", found) if operation == "!=" else found
