"""The method that another one works with."""

from __future__ import annotations

from ilvren.methods.base import Method, Task, method_named

__all__ = ["AUTOMATIC", "inner_method"]

# Whoever drives a method puts a name in this one's place; a method that is driven alone takes what needs least.
AUTOMATIC = "automatic"


def inner_method(name: str, task: Task) -> Method:
    """Return the method of a name."""
    if name == AUTOMATIC:
        name = "mesh-adaptive-search" if task.is_discrete.any() else "quadratic-interpolation"
    return method_named(name)
