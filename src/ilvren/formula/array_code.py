"""Graph → NumPy code: whole arrays at once, and with a batch axis in front many designs or directions at once.

Like `compile`, the text contains node numbers, operators and known function names, nothing of the user's
file. NumPy never raises: it computes by IEEE rules and tells that some operation made an infinity or a NaN
from finite numbers. Where such a number may vanish from a result (as in 1/inf) the caller turns to `interpret_arrays`.
"""

from __future__ import annotations

from collections.abc import Callable, Sequence
from typing import TYPE_CHECKING, Any

import numpy as np
from numpy.typing import NDArray

from ilvren.formula.arrays import CODE_SPACE, ELEMENTWISE, STRUCTURAL, lifted, normal_key
from ilvren.formula.compile import fixed_nodes
from ilvren.formula.operators import OPERATIONS
from ilvren.records import dataclass

if TYPE_CHECKING:
    from ilvren.formula.graph import Graph, GraphNode

__all__ = ["ArrayCode", "batched_nodes", "compile_arrays", "open_parameters"]

Array = NDArray[Any]

LONGEST_EXPRESSION = 160
# Operations that make an infinity or a NaN without telling: sums of products in a library, models.
_SILENT = ("dot", "output")
# Operations, beside those that say so, from whose result a non-finite operand may vanish.
_ABSORBING = ("interp", "interp_slope", "interp_vjp", "interp_slope_vjp", "lookup", "lookup_vjp")


@dataclass(frozen=True)
class ArrayCode:
    """Compiled code for some roots. `constants` are the nodes whose values `build(models, *values)` takes; what it
    returns is a function of (variables, weights, tangents, parameters), each a sequence of arrays by index, of the
    parameters only those with a batch axis being read. It gives the list of the roots' values and whether something
    not finite may have vanished on the way."""

    source: str
    constants: tuple[int, ...]
    build: Callable[..., Callable[..., list[Array]]]
    may_hide: bool

    def bound(self, models: object, values: Sequence[Array]) -> Callable[..., tuple[list[Array], bool]]:
        """Return the function for these values of `constants`. `values` have the shapes of their nodes."""
        noticed: list[object] = []
        inner = self.build(models, noticed.append, *values)
        # NumPy must be told to notice; that costs nothing while all is finite.
        notice: Any = lambda *what: noticed.append(what)  # noqa: E731
        hidden_in_constants = self.may_hide and not all(np.isfinite(value).all() for value in values)

        def function(
            variables: object, weights: object = (), tangents: object = (), parameters: object = ()
        ) -> tuple[list[Array], bool]:
            noticed.clear()
            with np.errstate(over="call", divide="call", invalid="call", under="ignore", call=notice):
                found = inner(variables, weights, tangents, parameters)
            return found, self.may_hide and (bool(noticed) or hidden_in_constants)

        return function


def batched_nodes(graph: Graph, order: Sequence[int], kinds: Sequence[str]) -> set[int]:
    """Return the nodes of `order` that have a batch axis when inputs of these kinds have one; of parameters those
    named one by one, as "parameter:3"."""
    found: set[int] = set()
    for number in sorted(order):
        node = graph.nodes[number]
        is_input = node.operation in kinds or (node.operation == "parameter" and f"parameter:{node.index}" in kinds)
        if is_input or any(operand in found for operand in node.operands):
            found.add(number)
    return found


def compile_arrays(graph: Graph, roots: Sequence[int], batch: Sequence[str] = ()) -> ArrayCode:
    """Compile `roots` to one function; inputs of the kinds in `batch` have a batch axis in front."""
    writer = _Writer(graph, roots, batch)
    results = ", ".join(writer.reference(root) for root in roots)
    names = ", ".join(["models", "notice", *(f"k{number}" for number in writer.constants)])
    source = "\n".join(
        [
            f"def build({names}):",
            "    def function(x, w, t, p):",
            *("        " + line for line in writer.lines),
            f"        return [{results}]",
            "    return function",
        ]
    )
    space: dict[str, object] = {"__builtins__": {}, **CODE_SPACE, **writer.details, "lifted": lifted}
    space |= {"guarded": _guarded, "check": _check}
    space |= {f"{name}_of": function for name, function in STRUCTURAL.items()}
    exec(compile(source, "<formulas>", "exec"), space)  # noqa: S102 - text made from numbers above
    return ArrayCode(source, tuple(writer.constants), space["build"], writer.may_hide)  # type: ignore[arg-type]


def _guarded(*conditions: tuple[Array, bool, int]) -> Array:
    """Return where all of (condition, side, rank) hold, anything within an array counting for the whole."""
    result: Any = True
    for condition, side, rank in conditions:
        holds = np.equal(condition, side)
        result = np.logical_and(result, np.any(holds, axis=tuple(range(-rank, 0))) if rank else holds)
    return np.asarray(result)


def _check(value: Array, notice: Callable[[object], None]) -> Array:
    if not np.isfinite(value).all():
        notice("silent")
    return value


_INPUT_NAMES = {"variable": "x", "weight": "w", "tangent": "t", "parameter": "p"}


def open_parameters(kinds: Sequence[str]) -> list[int]:
    """Return the numbers of the parameters that have a batch axis."""
    return [int(kind.partition(":")[2]) for kind in kinds if kind.startswith("parameter:")]


class _Writer:
    """Writes a line per node that is used more than once; the others stand inside their user's line."""

    def __init__(self, graph: Graph, roots: Sequence[int], batch: Sequence[str]) -> None:
        self.graph = graph
        self.lines: list[str] = []
        self.constants: list[int] = []
        self.details: dict[str, object] = {}
        schedule = graph.schedule(roots)
        order = [number for number, _ in schedule]
        self.contexts = dict(schedule)
        self.fixed = fixed_nodes(graph, order, open_parameters(batch))
        self.batched = batched_nodes(graph, order, batch)
        operations = {graph.nodes[n].operation for n in order if n not in self.fixed}
        self.may_hide = any(
            name in _ABSORBING or (name in OPERATIONS and OPERATIONS[name].absorbs) for name in operations
        )
        self._text: dict[int, str] = {}
        self._mentions: dict[int, set[int]] = {}
        last_line: dict[int, int] = {}
        uses = self._uses(order, roots)
        for number in order:
            if number in self.fixed:
                continue
            text, mentioned = self._expression(number)
            is_inline = uses[number] == 1 and graph.nodes[number].operation in ELEMENTWISE
            if is_inline and len(text) <= LONGEST_EXPRESSION:
                self._text[number], self._mentions[number] = text, mentioned
                continue
            for other in mentioned:
                last_line[other] = len(self.lines)
            self.lines.append(f"v{number} = {text}")
            self._text[number], self._mentions[number] = f"v{number}", {number}
        self._free(last_line, roots)

    def _free(self, last_line: dict[int, int], roots: Sequence[int]) -> None:
        """Let go of each array after its last use."""
        kept: set[int] = set().union(*(self._mentions.get(root, set()) for root in roots))
        done: dict[int, list[int]] = {}
        for number, last in last_line.items():
            if number not in kept:
                done.setdefault(last, []).append(number)
        lines: list[str] = []
        for place, line in enumerate(self.lines):
            lines.append(line)
            if place in done:
                lines.append("del " + ", ".join(f"v{number}" for number in done[place]))
        self.lines = lines

    def _uses(self, order: Sequence[int], roots: Sequence[int]) -> dict[int, int]:
        uses = dict.fromkeys(order, 0)
        for number in order:
            node = self.graph.nodes[number]
            for operand in node.operands:
                uses[operand] += 1
            if node.operation == "call":
                for condition, _ in self.contexts[number]:
                    uses[condition] += 1
        for root in roots:
            uses[root] += 2
        return uses

    def reference(self, number: int) -> str:
        """Return the code that reads a node."""
        if number not in self.fixed:
            return self._text[number]
        node = self.graph.nodes[number]
        if node.operation == "constant":
            return repr(node.value) if node.value >= 0.0 else f"({node.value!r})"
        if number not in self.constants:
            self.constants.append(number)
        return f"k{number}"

    def _expression(self, number: int) -> tuple[str, set[int]]:
        node = self.graph.nodes[number]
        if node.operation in _INPUT_NAMES:
            return f"{_INPUT_NAMES[node.operation]}[{node.index}]", set()
        needed = list(node.operands)
        if node.operation == "call":
            needed += [condition for condition, _ in self.contexts[number]]
        mentioned = set().union(*(self._mentions.get(operand, set()) for operand in needed))
        return self._code(number, node), mentioned

    def _code(self, number: int, node: GraphNode) -> str:
        given = [self.reference(operand) for operand in node.operands]
        match node.operation:
            case "call":
                flags = tuple(operand in self.batched for operand in node.operands)
                conditions = [
                    f"({self.reference(c)}, {side}, {len(self.graph.shape(c))})" for c, side in self.contexts[number]
                ]
                guard = f"guarded({', '.join(conditions)})" if conditions else "None"
                return f"models[{node.index}]({guard}, {flags}, [{', '.join(given)}])"
            case "output":
                return self._checked(f"{given[0]}.output({self._detail(number, node)}[0])")
            case "model_vjp" | "model_jvp" | "model_hvp":
                word = node.operation.removeprefix("model_")
                return f"{given[0]}.{word}({self._detail(number, node)}, [{', '.join(given[1:])}])"
            case "index":
                assert node.detail is not None
                self.details[f"d{number}"] = normal_key(node.detail[1])  # type: ignore[arg-type]
                return f"{given[0]}[d{number}]"
            case name if name in STRUCTURAL:
                text = f"{name}_of({', '.join([self._detail(number, node), *given])})"
                return self._checked(text) if name in _SILENT else text
        rank = len(node.shape)
        for place, operand in enumerate(node.operands):
            if rank and operand in self.batched and not self.graph.shape(operand):
                given[place] = f"lifted({given[place]}, {rank})"
        return ELEMENTWISE[node.operation].format(*given)

    def _checked(self, text: str) -> str:
        return f"check({text}, notice)" if self.may_hide else text

    def _detail(self, number: int, node: GraphNode) -> str:
        self.details[f"d{number}"] = node.detail
        return f"d{number}"
