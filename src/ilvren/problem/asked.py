"""Formulas asked after a problem was built: of all names that its file knows, constraints included."""

from __future__ import annotations

from typing import TYPE_CHECKING

from ilvren.errors import FormulaError, RequestError
from ilvren.formula import Node, parse_limits
from ilvren.problem.entries import EntryDeclaration
from ilvren.records import dataclass

if TYPE_CHECKING:
    from ilvren.problem.model import Problem

__all__ = ["Condition", "condition_of", "node_of"]


@dataclass(frozen=True)
class Condition:
    """A comparison or a chain of two: the nodes of its sides, and the operators between them ("<=", ">=", "==")."""

    text: str
    sides: tuple[int, ...]
    operators: tuple[str, ...]


def condition_of(problem: Problem, text: str, flag: str) -> Condition:
    """Return a condition such as "stress <= 150". Raises RequestError."""
    strict = text.replace("<=", "").replace(">=", "").replace("==", "")
    if "<" in strict or ">" in strict:
        raise RequestError(f'{flag} "{text}": write <= or >=', advice=f'for example {flag} "{_with_equals(text)}"')
    try:
        limits = parse_limits(text)
    except FormulaError as error:
        raise RequestError(f'{flag} "{text}": {error.message}', advice=error.advice) from None
    sides = tuple(_lowered(problem, side, text, flag) for side in limits.sides)
    for side in sides:
        if problem.graph.shape(side):
            raise RequestError(
                f'{flag} "{text}": a vector is not one number', advice="reduce it: max(…), min(…), sum(…), norm(…)"
            )
    return Condition(text, sides, tuple(limits.operators))


def node_of(problem: Problem, name: str) -> int | None:
    """Return the node of a derived value, a model's output, an objective or a constraint, None for any other name."""
    entries = {item.name: item.node for item in problem.derived} | dict(problem.outputs)
    if problem.objective is not None:
        entries[problem.objective.name] = problem.objective.node
    return (entries | {block.name: block.node for block in problem.row_blocks}).get(name)


def _lowered(problem: Problem, tree: Node, text: str, flag: str) -> int:
    from ilvren.errors import ProblemError

    template = problem.template
    kept = dict(template.nodes)
    for block in problem.row_blocks:
        template.nodes.setdefault(block.name, block.node)
    if problem.objective is not None:
        template.nodes.setdefault(problem.objective.name, problem.objective.node)
    try:
        found: int = template.lower_entry(EntryDeclaration("asked", flag, text), tree)
        return found
    except ProblemError as error:
        raise RequestError(f'{flag} "{text}": {error.message}', advice=error.advice) from None
    finally:
        template.nodes.clear()
        template.nodes.update(kept)


def _with_equals(text: str) -> str:
    return text.replace("<=", "<").replace(">=", ">").replace("<", "<=").replace(">", ">=")
