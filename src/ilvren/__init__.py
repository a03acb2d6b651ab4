"""Ilvren: define, solve, compare and verify nonlinear design problems.

`load` reads a problem file, `AsWritten` evaluates it and its derivatives, `check` looks for trouble before any run,
`run` runs a method on it, `compare` sets runs side by side and `verify` judges a design.
"""

from __future__ import annotations

from ilvren.doors import door

TYPE_CHECKING = False
if TYPE_CHECKING:
    from ilvren.evaluate import AsWritten as AsWritten
    from ilvren.judge import compare as compare, verify as verify
    from ilvren.judge.checking import check as check
    from ilvren.problem import load as load, loads as loads
    from ilvren.runs import resume as resume, run as run
    from ilvren.version import __version__ as __version__

__getattr__, __all__ = door(
    __name__,
    {
        "evaluate": "AsWritten",
        "judge": "compare verify",
        "judge.checking": "check",
        "problem": "load loads",
        "runs": "resume run",
        "version": "__version__",
    },
)
