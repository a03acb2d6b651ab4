"""Numbers as a report writes them."""

from __future__ import annotations

import math

__all__ = ["number"]


def number(value: float | None, digits: int = 7) -> str:
    """Return a number with so many significant digits; "–" for what is not one."""
    if value is None or (isinstance(value, float) and math.isnan(value)):
        return "–"
    if math.isinf(value):
        return "∞" if value > 0 else "−∞"
    return f"{value:.{digits}g}"
