"""What can go wrong inside a model; both are told to the user in words, never as a traceback."""

from __future__ import annotations

__all__ = ["CannotFollow", "ModelFailure"]


class ModelFailure(Exception):
    """The model gave no usable result; the text says why."""


class CannotFollow(Exception):
    """The function used an operation whose derivative is not known here."""
