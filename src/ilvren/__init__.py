"""Ilvren: define, solve, compare and verify nonlinear design problems."""

__version__ = "0.1.0"
