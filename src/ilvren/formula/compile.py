"""Graph → Python code on plain floats.

The generated text contains node numbers, operators and the names in `CODE_NAMES`; no text of the
user's file ever reaches it. It computes by IEEE rules or raises: an operation that Python refuses
(1/0, log of −1), or a non-finite number about to vanish from the result (as in 1/inf), raises an
ArithmeticError or a ValueError, and the caller turns to `interpreter.interpret`, which follows it exactly.
"""

from __future__ import annotations

import math
from collections.abc import Callable, Sequence
from typing import TYPE_CHECKING

from ilvren.formula.operators import CODE_NAMES, OPERATIONS
from ilvren.records import dataclass

if TYPE_CHECKING:
    from ilvren.formula.graph import Graph

__all__ = ["ScalarCode", "compile_scalar", "fixed_nodes", "is_scalar_work"]

# An expression is written in one line until its text is this long; Python's own parser sets the limit.
LONGEST_EXPRESSION = 160

Context = tuple[tuple[int, bool], ...]


@dataclass(frozen=True)
class ScalarCode:
    """Compiled code for some roots. `bound(values of constants)` gives the function of the variables:
    floats in, the tuple of the roots' values out; it raises where IEEE arithmetic has no finite way."""

    source: str
    constants: tuple[int, ...]
    build: Callable[..., Callable[..., tuple[float, ...]]]

    def bound(self, values: Sequence[float]) -> Callable[..., tuple[float, ...]]:
        """Return the function for these values of `constants`. Where one is not finite it always raises: a result
        may or may not use it, and only the interpreter follows that."""
        return self.build(*values) if all(map(math.isfinite, values)) else _always_raises


def compile_scalar(graph: Graph, roots: Sequence[int], variable_count: int, weight_count: int = 0) -> ScalarCode:
    """Compile `roots` of `graph` to one function of the variables, then of the weights.

    Nodes that depend on no variable become arguments of `build`, in the order of `constants`, so that a
    parameter can change without compiling again.
    """
    writer = _Writer(graph, roots)
    body = writer.lines or ["pass"]
    names = ", ".join([*(f"x{k}" for k in range(variable_count)), *(f"w{k}" for k in range(weight_count))])
    results = ", ".join(writer.reference(root) for root in roots)
    fixed = ", ".join(f"k{number}" for number in writer.constants)
    source = "\n".join(
        [
            f"def build({fixed}):",
            f"    def function({names}):",
            *("        " + line for line in body),
            *(["        if unseen != 0.0: raise ArithmeticError"] if writer.watches else []),
            f"        return ({results}{',' if len(roots) == 1 else ''})",
            "    return function",
        ]
    )
    space: dict[str, object] = {"__builtins__": {"ArithmeticError": ArithmeticError}, **CODE_NAMES}
    exec(compile(source, "<formulas>", "exec"), space)  # noqa: S102 - text made from numbers above
    return ScalarCode(source, tuple(writer.constants), space["build"])  # type: ignore[arg-type]


def _always_raises(*_: float) -> tuple[float, ...]:
    raise ArithmeticError


class _Writer:
    """Writes the body, a line per node that is used more than once, the others inside their user's line."""

    def __init__(self, graph: Graph, roots: Sequence[int]) -> None:
        self.graph = graph
        self.lines: list[str] = []
        self.constants: list[int] = []
        self.watches = False
        self._text: dict[int, str] = {}
        self._open: Context = ()
        self._known_constants: set[int] = set()
        schedule = graph.schedule(roots)
        order = [number for number, _ in schedule]
        self._fixed = fixed_nodes(graph, order)
        self._may_be_infinite = _overflowing(graph, order, self._fixed)
        uses = _uses(graph, order, roots, self._fixed)
        contexts = dict(schedule)
        watched = {number: found for number in order if number not in self._fixed and (found := self._watched(number))}
        self.watches = bool(watched)
        must_be_named = {operand for operands in watched.values() for operand in operands}
        if self.watches:
            self.lines.append("unseen = 0.0")
        seen: set[tuple[int, Context]] = set()
        for number, context in schedule:
            if number in self._fixed:
                continue
            node = graph.nodes[number]
            if not node.operands:
                self._text[number] = f"{'x' if node.operation == 'variable' else 'w'}{node.index}"
                continue
            text = OPERATIONS[node.operation].code.format(*map(self.reference, node.operands))
            user = uses.get(number)
            if (
                user is not None
                and len(text) <= LONGEST_EXPRESSION
                and number not in must_be_named
                and number not in watched
                and contexts.get(user) == context
            ):
                self._text[number] = text
                continue
            self._enter(context)
            indent = "    " * len(context)
            self.lines.append(f"{indent}v{number} = {text}")
            self._text[number] = f"v{number}"
            for operand in watched.get(number, ()):
                if (operand, ()) in seen or (operand, context) in seen:
                    continue
                seen.add((operand, context))
                name = self.reference(operand)
                self.lines.append(f"{indent}unseen += {name} - {name}")

    def reference(self, number: int) -> str:
        """Return the code that reads a node."""
        text = self._text.get(number)
        if text is not None:
            return text
        if number in self._fixed:
            node = self.graph.nodes[number]
            if node.operation == "constant":
                return repr(node.value) if node.value >= 0.0 else f"({node.value!r})"
            if number not in self._known_constants:
                self._known_constants.add(number)
                self.constants.append(number)
            return f"k{number}"
        raise KeyError(number)

    def _watched(self, number: int) -> list[int]:
        node = self.graph.nodes[number]
        operation = OPERATIONS.get(node.operation)
        if operation is None or not operation.absorbs:
            return []
        return [node.operands[i] for i in operation.absorbs if node.operands[i] in self._may_be_infinite]

    def _enter(self, context: Context) -> None:
        """Open the `if` blocks of a context, sharing those already open."""
        if context == self._open:
            return
        kept = 0
        while kept < min(len(context), len(self._open)) and context[kept] == self._open[kept]:
            kept += 1
        # Going back out needs no line: the next one is indented less.
        for depth in range(kept, len(context)):
            condition, side = context[depth]
            word = "" if side else "not "
            self.lines.append("    " * depth + f"if {word}{self.reference(condition)}:")
        self._open = context


def fixed_nodes(graph: Graph, order: Sequence[int], open_parameters: Sequence[int] = ()) -> set[int]:
    """Return the nodes of `order` that nothing but parameters changes, those of `open_parameters` apart."""
    varies: set[int] = set()
    for number in sorted(order):
        node = graph.nodes[number]
        if node.operands and node.operation != "call":
            if not varies.isdisjoint(node.operands):
                varies.add(number)
            continue
        is_open = node.operation == "parameter" and node.index in open_parameters
        if is_open or node.operation in ("variable", "weight", "tangent", "call"):
            varies.add(number)
    return set(order) - varies


def is_scalar_work(graph: Graph, roots: Sequence[int]) -> bool:
    """Return whether all that `roots` compute from variables is plain scalar arithmetic (see `compile`)."""
    if not graph.has_arrays:
        return True
    if any(graph.shape(root) for root in roots):
        return False
    order = graph.reachable(roots)
    fixed = fixed_nodes(graph, order)
    nodes = graph.nodes
    return all(
        number in fixed
        or (
            not nodes[number].shape
            and (nodes[number].operation in ("variable", "weight") or nodes[number].operation in OPERATIONS)
            and not any(nodes[operand].shape for operand in nodes[number].operands)
        )
        for number in order
    )


def _overflowing(graph: Graph, order: Sequence[int], fixed: set[int]) -> set[int]:
    """Return the nodes that may be infinite or NaN without an exception, variables being finite."""
    may: set[int] = set()
    for number in sorted(order):
        node = graph.nodes[number]
        if number in fixed or node.operation not in OPERATIONS:
            continue
        operation = OPERATIONS[node.operation]
        inherits = operation.passes or node.operation == "where"
        if operation.may_overflow or (inherits and any(operand in may for operand in node.operands)):
            may.add(number)
    return may


def _uses(graph: Graph, order: Sequence[int], roots: Sequence[int], fixed: set[int]) -> dict[int, int]:
    """Return {node: the one node that uses it, once}; of all that nothing, or more, uses there is none."""
    nodes, users, often = graph.nodes, dict[int, int](), set(roots)
    for number in order:
        if number in fixed:
            continue
        node = nodes[number]
        for operand in node.operands:
            if operand in users or node.operation == "square":  # whose code reads it twice
                often.add(operand)
            users[operand] = number
    return {operand: number for operand, number in users.items() if operand not in often}
