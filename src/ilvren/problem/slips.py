"""What people write for what a problem file takes, and the words that help them on."""

from __future__ import annotations

import re

__all__ = ["key_advice", "toml_advice"]

# Keys of other habits → ours.
_KEYS = {
    "min": "lower", "max": "upper", "minimum": "lower", "maximum": "upper",
    "low": "lower", "high": "upper", "lowerbound": "lower", "upperbound": "upper", "bounds": "lower and upper",
    "range": "lower and upper", "init": "start", "initial": "start", "guess": "start", "default": "start",
    "value": "start", "step": "spacing", "values": "catalogue", "options": "choices", "units": "unit",
    "description": "about", "comment": "about", "doc": "about", "size": "shape", "length": "shape",
    "scale": "magnitude",
    "expression": "formula", "expr": "formula", "equation": "formula",
}  # fmt: skip


def key_advice(key: str, known: object) -> str | None:
    """Return which of the `known` keys does what a key of another habit does, None where none is meant."""
    meant = _KEYS.get(key.lower().replace("_", "").replace("-", ""))
    if meant is None or not all(part in tuple(known) for part in meant.split(" and ")):  # type: ignore[arg-type]
        return None
    return " and ".join(f'"{part}"' for part in meant.split(" and ")) + " here"


def toml_advice(reason: str, line: str, column: int | None) -> str:
    """Return what helps on where a line is no TOML: `reason` as the parser says it, the line and the place in it."""
    bare = line.strip()
    before = line[: column if column is not None else len(line)]
    if "overwrite" in reason or "twice" in reason:
        what = "section" if bare.startswith("[") else "name"
        return f"the {what} is there already: each stands once"
    if bare.startswith("[") and "]" not in bare:
        return "a section ends with a bracket: [variables]"
    if re.match(r"[\w.\"-]*[^\x00-\x7f]", bare.split("=")[0]) and "=" in bare:
        return "names are ASCII letters, digits and _: alpha for α"
    if re.search(r"=\s*-?\d+,\d", bare) and not re.search(r"\[[^\]]*$", before):
        return "decimals stand behind a point: 1.5"
    if re.match(r"[\w-]+\s*:", bare):
        return "a value follows an equals sign: x = 1"
    if re.search(r"=\s*[+-]?(\.\d|\d+\.(\D|$))", bare):
        return "a decimal point has digits on both sides: 0.5, 1.0"
    if re.search(r"=\s*[+-]?0\d", bare):
        return "a number does not begin with 0: 1, not 01"
    if re.search(r"=\s*(True|False|TRUE|FALSE)\b", bare):
        return "truth is written true or false, in small letters"
    if "character '\\n'" in reason or line.count('"') % 2:
        return 'a text ends on its line with a quote; one of several lines stands between """ and """'
    if re.search(r",\s*}", bare):
        return "no comma stands before the closing brace"
    if "inline table" in reason:
        if bare.count("{") > bare.count("}") and column is not None and column >= len(line.rstrip()) - 1:
            return "a table in braces ends on its line: { start = 1, lower = 0 }"
        return "commas stand between the entries of a table: { start = 1, lower = 0 }"
    return 'formulas stand in quotes: cost = "2 * bore"'
