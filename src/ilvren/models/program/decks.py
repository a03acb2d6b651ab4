"""What is written for a call: decks from templates or with numbers replaced in place, and arguments of commands."""

from __future__ import annotations

import functools
import hashlib
import re
from collections.abc import Iterable, Mapping, Sequence
from typing import Any

import numpy as np
from numpy.typing import NDArray

from ilvren.models.program.writing import CannotWrite, Put, replaced
from ilvren.records import dataclass

__all__ = ["Deck", "Texts", "argument_names", "filled", "names_in_template", "template_trouble"]

# "{rise}" and "{rise:.3f}"; "{{" and "}}" stand for braces.
_ARGUMENT = re.compile(r"\{\{|\}\}|\{([A-Za-z_][\w.]*)(?::([^{}]*))?\}")


@dataclass(frozen=True)
class Deck:
    """A file written for each call, `target` being its name in the folder: `text` is a Jinja2 template, or, with
    `puts`, a deck whose numbers are replaced; `file` is where the text came from."""

    target: str
    file: str
    text: str
    puts: tuple[Put, ...] | None = None

    def written(self, values: Mapping[str, Any]) -> str:
        """Return the deck of these values. Raises CannotWrite."""
        if self.puts is not None:
            return replaced(self.text, self.puts, values)[0]
        import jinja2

        try:
            return str(_template(self.text).render(_nested(values)))
        except (jinja2.TemplateError, ArithmeticError, TypeError, ValueError, LookupError) as error:
            told = str(error).splitlines()[0][:200] if str(error) else type(error).__name__
            raise CannotWrite(f"{self.file} cannot be filled in: {told}") from None


@dataclass(frozen=True)
class Texts:
    """All that a call is given: decks by target, and the arguments of each command."""

    decks: Mapping[str, str]
    commands: tuple[tuple[str, ...], ...]

    @property
    def key(self) -> bytes:
        """Return what tells it from every other."""
        digest = hashlib.sha256()
        for part in (*(part for item in sorted(self.decks.items()) for part in item), *map(repr, self.commands)):
            digest.update(len(part).to_bytes(8, "little") + part.encode())
        return digest.digest()


def filled(arguments: Sequence[str], values: Mapping[str, Any]) -> tuple[str, ...]:
    """Return the arguments of a command with values in place of their names. Raises CannotWrite."""

    def told(match: re.Match[str]) -> str:
        if match[0] in ("{{", "}}"):
            return match[0][0]
        value = values[match[1]]
        if isinstance(value, list):
            raise CannotWrite(f'the argument "{match[0]}" takes one number, "{match[1]}" has {len(value)}')
        if match[2] is None:
            return value if isinstance(value, str) else repr(value)
        try:
            return format(value, match[2])
        except ValueError as error:
            raise CannotWrite(f'the argument "{match[0]}" cannot be filled in: {error}') from None

    return tuple(_ARGUMENT.sub(told, argument) for argument in arguments)


def argument_names(arguments: Iterable[str]) -> list[str]:
    """Return the names that arguments use."""
    return [match[1] for argument in arguments for match in _ARGUMENT.finditer(argument) if match[1]]


def plain_value(value: NDArray[Any]) -> Any:
    """Return an input as templates and arguments see it: a number, or nested lists. `value` has at most two axes."""
    return np.asarray(value, dtype=float).tolist()


def _nested(values: Mapping[str, Any]) -> dict[str, Any]:
    """Return values by name, those of `table.column` below their table."""
    found: dict[str, Any] = {}
    for name, value in values.items():
        first, dot, rest = name.partition(".")
        if dot:
            found.setdefault(first, {})[rest] = value
        else:
            found[name] = value
    return found


@functools.cache
def _environment() -> Any:
    from jinja2 import StrictUndefined
    from jinja2.sandbox import ImmutableSandboxedEnvironment

    # A template is someone's text: it may format values, and nothing else.
    return ImmutableSandboxedEnvironment(undefined=StrictUndefined, keep_trailing_newline=True, autoescape=False)


@functools.lru_cache(maxsize=64)
def _template(text: str) -> Any:
    return _environment().from_string(text)


def template_trouble(text: str) -> tuple[str, int] | None:
    """Return what is wrong with a template's syntax and in which line, None when nothing is."""
    from jinja2 import TemplateSyntaxError

    try:
        _environment().parse(text)
    except TemplateSyntaxError as error:
        return error.message or "cannot be parsed", error.lineno
    return None


def names_in_template(text: str, spaces: Iterable[str]) -> dict[str, int]:
    """Return {name: line of its first use} of what a template takes from outside; below the names in `spaces` (tables,
    models) what is taken of them, as "table.column"."""
    from jinja2 import meta, nodes

    tree = _environment().parse(text)
    free, spaces = meta.find_undeclared_variables(tree), set(spaces)
    found: dict[str, int] = {}
    for node in tree.find_all((nodes.Getattr, nodes.Getitem)):
        base = node.node
        own = node.attr if isinstance(node, nodes.Getattr) else getattr(node.arg, "value", None)
        if isinstance(base, nodes.Name) and base.name in free & spaces and isinstance(own, str):
            found.setdefault(f"{base.name}.{own}", node.lineno)
    for node in tree.find_all(nodes.Name):
        if node.name in free and node.name not in spaces:
            found[node.name] = min(found.get(node.name, node.lineno), node.lineno)
    return found
