"""Variables that a run may not change: each keeps one value that its bounds and its members allow."""

from __future__ import annotations

from collections.abc import Mapping, Sequence
from dataclasses import replace
from typing import TYPE_CHECKING, Any

import numpy as np

from ilvren.errors import RequestError, nearest
from ilvren.formula import shape_text
from ilvren.problem.declared_values import listed

if TYPE_CHECKING:
    from ilvren.problem.model import Given
    from ilvren.problem.variables import Variable, VariableBlock

__all__ = ["fixed_blocks", "word_number"]


def fixed_blocks(
    blocks: Sequence[VariableBlock], given: Mapping[str, Given | str], words: Sequence[str]
) -> list[VariableBlock]:
    """Return the variables, those of `given` {name of a variable or of one element: value} at one value each: lower,
    upper and start. A number serves all elements of a vector; `words` are those of all choices. Raises RequestError for
    unknown names, other shapes and values that are not allowed."""
    found = {block.name: block for block in blocks}
    elements = {block.element_name(k): (block.name, k) for block in blocks if block.shape for k in range(block.size)}
    for name, value in given.items():
        if name not in found and name not in elements:
            close = nearest(name, found)
            advice = f'did you mean "{close}"?' if close else f"the file's variables: {listed(found)}"
            raise RequestError(f'--fix {name}=…: the file has no variable "{name}"', advice=advice)
        owner, places = (name, slice(None)) if name in found else (elements[name][0], elements[name][1:])
        block = found[owner]
        if isinstance(value, str):
            value = word_number(f"--fix {name}", value, block.choices, words)
        elif block.words:
            raise RequestError(f"--fix {name}=…: it takes words", advice=f"its choices: {listed(block.choices)}")
        numbers = np.asarray(value, dtype=float)
        shape = block.shape if name in found else ()
        if numbers.shape not in ((), shape):
            raise RequestError(f"--fix {name}: has {shape_text(numbers.shape)}, the variable {shape_text(shape)}")
        values = np.array(block.start)
        values[np.arange(block.size)[places]] = np.ravel(numbers) if numbers.ndim else float(numbers)
        held = np.zeros(block.size, dtype=bool)
        held[np.arange(block.size)[places]] = True
        values[held] = [_allowed(block.element(k), float(values[k])) for k in np.flatnonzero(held).tolist()]
        low, high = np.where(held, values, block.lower), np.where(held, values, block.upper)
        found[owner] = replace(block, start=values, lower=low, upper=high)
    return list(found.values())


def word_number(name: str, word: str, choices: Sequence[str], words: Sequence[str]) -> float:
    """Return the number that stands for a word of a variable's choices, its place among the `words` of all, from 1.
    Raises RequestError."""
    if word in choices:
        return float(words.index(word) + 1)
    close = nearest(word, choices)
    if not choices:
        raise RequestError(f'{name}: "{word}" is not a number', advice="only choices take words")
    advice = f'did you mean "{close}"?' if close else f"its choices: {listed(choices)}"
    raise RequestError(f'{name}: "{word}" is not among its choices', advice=advice)


def _allowed(variable: Variable, value: float) -> float:
    if variable.allows(value):
        return variable.member(value)
    near: Any = variable.shown(variable.member(value if np.isfinite(value) else 0.0))
    told = near if isinstance(near, str) else f"{near:.12g}"
    where = f"its bounds are [{variable.lower:.12g}, {variable.upper:.12g}]"
    if variable.kind != "continuous" and variable.lower <= value <= variable.upper:
        where = "it is no member of its " + ("catalogue" if variable.catalogue else "spacing")
    raise RequestError(f"--fix {variable.name}={value:.12g}: {where}", advice=f"the nearest allowed value is {told}")
