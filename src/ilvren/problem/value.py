"""What stands behind a key of a problem file."""

from __future__ import annotations

__all__ = ["Value", "formula_text"]

# A number, the text of a formula, or a list of such.
Value = float | str | tuple["Value", ...]


def formula_text(value: Value) -> str:
    """Return a formula as text; a number is one, too."""
    if isinstance(value, str):
        return value
    if isinstance(value, tuple):
        return "[" + ", ".join(formula_text(item) for item in value[:6]) + (", …" if len(value) > 6 else "") + "]"
    return repr(value)
