"""What a notebook shows of a result: tables and a figure instead of its fields.

Results stand below what draws them, so they cannot name it: it is asked for when a notebook asks.
"""

from __future__ import annotations

__all__ = ["InNotebooks"]


class InNotebooks:
    """A result that notebooks show as a page of its own."""

    __slots__ = ()

    def _repr_html_(self) -> str:
        import importlib

        return str(importlib.import_module("ilvren.draw.notebook").as_html(self))
