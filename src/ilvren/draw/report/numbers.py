"""Numbers as a report writes them."""

from __future__ import annotations

import math

__all__ = ["number"]


def number(value: float | str | None, digits: int = 7) -> str:
    """Return a number with so many significant digits; "–" for what is not one, the word of a choice as it is."""
    if isinstance(value, str):
        return value
    if value is None or (isinstance(value, float) and math.isnan(value)):
        return "–"
    if math.isinf(value):
        return "∞" if value > 0 else "−∞"
    return f"{value:.{digits}g}"
