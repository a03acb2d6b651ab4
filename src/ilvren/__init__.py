"""Ilvren: define, solve, compare and verify nonlinear design problems.

`load` reads a problem file, `Gate` evaluates it and its derivatives, `check` looks for trouble before any run, `run`
runs a method on it, `compare` sets runs side by side and `verify` judges a design. Names are imported when first
used, so that the command line starts fast.
"""

from __future__ import annotations

from ilvren.version import __version__

__all__ = ["Gate", "__version__", "check", "compare", "load", "loads", "resume", "run", "verify"]

_HOMES = {
    "load": "ilvren.problem",
    "loads": "ilvren.problem",
    "run": "ilvren.runs",
    "resume": "ilvren.runs",
    "Gate": "ilvren.evaluate",
    "check": "ilvren.judge.checking",
    "compare": "ilvren.judge",
    "verify": "ilvren.judge",
}

TYPE_CHECKING = False  # as type checkers read it; importing typing would double the time of `ilvren --help`
if TYPE_CHECKING:
    from ilvren.evaluate import Gate
    from ilvren.judge import compare, verify
    from ilvren.judge.checking import check
    from ilvren.problem import load, loads
    from ilvren.runs import resume, run


def __getattr__(name: str) -> object:
    if name in _HOMES:
        import importlib

        return getattr(importlib.import_module(_HOMES[name]), name)
    raise AttributeError(f"module 'ilvren' has no attribute {name!r}")
