"""What a Python file says of a function, read without running it."""

from __future__ import annotations

import ast
from dataclasses import dataclass
from pathlib import Path

from ilvren.errors import ProblemError, nearest

__all__ = ["Arguments", "arguments_of"]


@dataclass(frozen=True, slots=True)
class Arguments:
    """Names of the arguments a function must be given and of those with defaults; both None when the name is made
    otherwise than by `def`, and nothing can be said without running the file."""

    needed: tuple[str, ...] | None
    optional: tuple[str, ...] | None
    takes_any: bool = False


def arguments_of(path: Path, function: str) -> Arguments:
    """Return the arguments of a function at the top of a Python file. Raises ProblemError (no place given) when the
    file cannot be read or has no such name."""
    try:
        tree = ast.parse(path.read_text("utf-8"), str(path))
    except FileNotFoundError:
        raise ProblemError(f"no such file: {path}") from None
    except OSError as error:
        raise ProblemError(f"{path} cannot be read: {error.strerror}") from None
    except (SyntaxError, UnicodeDecodeError, ValueError) as error:
        line = f":{error.lineno}" if isinstance(error, SyntaxError) and error.lineno else ""
        raise ProblemError(f"{path}{line} is not valid Python: {error.args[0]}") from None
    known: list[str] = []
    for item in tree.body:
        if isinstance(item, ast.FunctionDef):
            if item.name == function:
                return _of_definition(item)
            known.append(item.name)
        elif isinstance(item, (ast.Import, ast.ImportFrom)):
            known += [(alias.asname or alias.name).split(".")[0] for alias in item.names]
        elif isinstance(item, (ast.Assign, ast.AnnAssign, ast.ClassDef)):
            known += [node.id for node in ast.walk(item) if isinstance(node, ast.Name)]
            known += [item.name] if isinstance(item, ast.ClassDef) else []
    if function in known:
        return Arguments(None, None)
    close = nearest(function, known)
    raise ProblemError(
        f'{path.name} has no function "{function}"',
        advice=f'did you mean "{close}"?' if close else "its functions: " + (", ".join(known[:12]) or "none"),
    )


def _of_definition(item: ast.FunctionDef) -> Arguments:
    given = item.args
    positional = [argument.arg for argument in (*given.posonlyargs, *given.args)]
    first_optional = len(positional) - len(given.defaults)
    needed = positional[:first_optional]
    optional = positional[first_optional:]
    for argument, default in zip(given.kwonlyargs, given.kw_defaults, strict=True):
        (needed if default is None else optional).append(argument.arg)
    return Arguments(tuple(needed), tuple(optional), given.kwarg is not None)
