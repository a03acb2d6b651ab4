"""What a Python file says of a function, read without running it."""

from __future__ import annotations

import ast
from pathlib import Path

from ilvren.errors import ProblemError, nearest
from ilvren.records import dataclass
from ilvren.regular import regular_text

__all__ = ["Arguments", "arguments_of", "read_python"]


@dataclass(frozen=True)
class Arguments:
    """Names of the arguments a function must be given and of those with defaults; both None when the name is made
    otherwise than by `def`, and nothing can be said without running the file."""

    needed: tuple[str, ...] | None
    optional: tuple[str, ...] | None
    takes_any: bool = False


def read_python(path: Path) -> str:
    """Return the text of a Python file. Raises ProblemError (no place given)."""
    try:
        return regular_text(path)
    except FileNotFoundError:
        raise ProblemError(f"no such file: {path}") from None
    except UnicodeDecodeError:
        raise ProblemError(f"{path} is not UTF-8 text") from None
    except OSError as error:
        raise ProblemError(f"{path} cannot be read: {error.strerror}") from None


def arguments_of(path: Path, function: str, *, text: str) -> Arguments:
    """Return the arguments of a function at the top of a Python file, whose `text` is given. Raises ProblemError (no
    place given) when it is no Python or has no such name."""
    try:
        tree = ast.parse(text, str(path))
    except (SyntaxError, ValueError) as error:
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
