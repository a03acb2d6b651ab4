"""How a NumPy function of followed arrays is looked up: its rule, with the arguments that the rule implements.

`followed_functions` has the rules; whoever makes followed arrays takes them from there.
"""

from __future__ import annotations

import inspect
from collections.abc import Callable, Sequence
from typing import Any

import numpy as np

from ilvren.models.failures import CannotFollow
from ilvren.records import dataclass

__all__ = ["RULES", "Rule", "called"]

# What NumPy passes on for an argument that was left out.
_NOT_GIVEN: Any = np._NoValue


@dataclass(frozen=True)
class Rule:
    """One function: `names` of NumPy's arguments in order, their `defaults`, those that are `implemented`, and the
    handler that takes them by name. `takes_any`: any number of arrays and nothing else."""

    function: Any
    handler: Callable[..., Any]
    names: tuple[str, ...]
    defaults: dict[str, Any]
    implemented: tuple[str, ...]
    takes_any: bool = False


RULES: dict[Any, Rule] = {}


def called(function: Any, args: Sequence[Any], options: dict[str, Any]) -> Any:
    """Return a NumPy function of followed arrays. Raises CannotFollow for a function or an argument without a rule."""
    name = getattr(function, "__name__", str(function))
    if getattr(function, "__module__", "").startswith("numpy.linalg"):
        name = f"linalg.{name}"
    rule = RULES.get(function)
    if rule is None:
        raise CannotFollow(f"numpy.{name}")
    if rule.takes_any:
        if options:
            raise CannotFollow(f"numpy.{name} with {next(iter(options))}=")
        return rule.handler(*args)
    given = dict(zip(rule.names, args, strict=False)) | options
    given = {word: value for word, value in given.items() if value is not _NOT_GIVEN}
    for word, value in given.items():
        if word not in rule.implemented and not _is_default(word, value, rule.defaults):
            raise CannotFollow(f"numpy.{name} with {word}=")
    return rule.handler(**{word: value for word, value in given.items() if word in rule.implemented})


def _is_default(word: str, value: Any, defaults: dict[str, Any]) -> bool:
    if word == "dtype":
        return value is None or (isinstance(value, (str, type, np.dtype)) and np.dtype(value) == np.dtype(float))
    default = defaults.get(word, inspect.Parameter.empty)
    if value is default:
        return True
    return isinstance(value, (str, bool, int)) and type(value) is type(default) and value == default
