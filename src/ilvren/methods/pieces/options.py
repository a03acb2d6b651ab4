"""What a method's options are: declared as fields, read from words, described."""

from __future__ import annotations

import math
from collections.abc import Mapping
from dataclasses import field, fields
from typing import Any

import numpy as np
from numpy.typing import NDArray

from ilvren.errors import RequestError, nearest
from ilvren.methods.base import Method, method_named
from ilvren.records import dataclass

__all__ = ["describe", "option", "options_from"]

FloatArray = NDArray[np.float64]


@dataclass(frozen=True)
class _OptionFacts:
    help: str
    low: float | None = None
    high: float | None = None
    words: tuple[str, ...] = ()
    names_method: bool = False


def option(
    default: Any,
    *,
    help: str,
    low: float | None = None,
    high: float | None = None,
    words: tuple[str, ...] = (),
    names_method: bool = False,
) -> Any:
    """Declare an option of a method: its default, one line of help, and the range of a number or the words allowed;
    `names_method`: the default, or the name of a method."""
    return field(default=default, metadata={"option": _OptionFacts(help, low, high, words, names_method)})


def options_from(method: Method, given: Mapping[str, str | float | bool]) -> Any:
    """Return the method's options with `given` in place, texts being read by the option's type.

    Raises RequestError for an unknown name, a value of the wrong type or outside its range.
    """
    known = {item.name: item for item in fields(method.options)}
    values: dict[str, object] = {}
    for name, raw in given.items():
        name = name.replace("-", "_")
        if name not in known:
            close = nearest(name, known)
            advice = f'did you mean "{close}"?' if close else "its options: " + (", ".join(known) or "none")
            raise RequestError(f'method "{method.name}" has no option "{name}"', advice=advice)
        default = known[name].default
        values[name] = _read_option(method.name, name, type(default), raw, known[name].metadata["option"])
    return method.options(**values)


def _read_option(method: str, name: str, kind: type, raw: object, facts: _OptionFacts) -> object:
    what = f'option "{name}" of "{method}"'
    if kind is bool:
        word = str(raw).lower()
        if word not in ("yes", "no", "true", "false"):
            raise RequestError(f"{what} is yes or no, not {raw!r}")
        return word in ("yes", "true")
    if facts.names_method:
        return str(raw) if str(raw) == "automatic" else method_named(str(raw)).name
    if kind is str:
        if str(raw) not in facts.words:
            close = nearest(str(raw), facts.words)
            advice = f'did you mean "{close}"?' if close else None
            raise RequestError(f"{what} is one of {', '.join(facts.words)}, not {raw!r}", advice=advice)
        return str(raw)
    try:
        value = kind(raw)
        if not math.isfinite(value):
            raise ValueError
    except (TypeError, ValueError):
        wanted = "a whole number" if kind is int else "a number"
        raise RequestError(f"{what} is {wanted}, not {raw!r}") from None
    if (facts.low is not None and value < facts.low) or (facts.high is not None and value > facts.high):
        low = "-inf" if facts.low is None else f"{facts.low:g}"
        high = "inf" if facts.high is None else f"{facts.high:g}"
        raise RequestError(f"{what} must lie in [{low}, {high}], not {value:g}")
    return value


def describe(method: Method) -> dict[str, object]:
    """Return a method's declaration as plain values, for listings and docs."""
    options = []
    for item in fields(method.options):
        facts: _OptionFacts = item.metadata["option"]
        reach = ""
        if isinstance(item.default, bool):
            reach = "yes or no"
        elif facts.names_method:
            reach = "a method"
        elif facts.words:
            reach = ", ".join(facts.words)
        elif facts.low is not None or facts.high is not None:
            low, high = ("" if end is None else f"{end:g}" for end in (facts.low, facts.high))
            reach = f"{low} .. {high}"
        default = ("yes" if item.default else "no") if isinstance(item.default, bool) else item.default
        options.append({"name": item.name, "default": default, "range": reach, "help": facts.help})
    return {
        "name": method.name,
        "about": method.about,
        "kind": method.kind,
        "needs": method.needs,
        "handles": sorted(method.handles),
        "cost": method.cost,
        "weak": method.weak,
        "most_variables": method.most_variables,
        "takes_sparse": method.takes_sparse,
        "is_random": method.is_random,
        "only_members": method.only_members,
        "options": options,
    }
