"""Values that formulas cannot give: sources of every kind, the calls of a run, and derivatives through them.

Knows functions, arrays and files; never formulas, problems or methods. Nothing here runs before a value is asked for.
"""

from ilvren.models.call import Call
from ilvren.models.calls import Calls, NotOnRecord, Shelf
from ilvren.models.failures import ModelFailure
from ilvren.models.hessians import MOST_HESSIAN_INPUTS, Secants
from ilvren.models.places import ASIDE, HERE, Place
from ilvren.models.program import ProgramSource
from ilvren.models.python import PythonSource, arguments_of, read_python
from ilvren.models.source import DERIVATIVE_WORDS, ModelSource, Outcome, Question

__all__ = [
    "ASIDE",
    "DERIVATIVE_WORDS",
    "HERE",
    "MOST_HESSIAN_INPUTS",
    "Call",
    "Calls",
    "ModelFailure",
    "ModelSource",
    "NotOnRecord",
    "Outcome",
    "Place",
    "ProgramSource",
    "PythonSource",
    "Question",
    "Secants",
    "Shelf",
    "arguments_of",
    "read_python",
]
