"""Values that formulas cannot give: Python functions, their outputs and their derivatives.

Knows functions, arrays and files; never formulas, problems or methods. Nothing here runs before a value is asked for.
"""

from ilvren.models.failures import ModelFailure
from ilvren.models.runner import Call, ModelFacts, Runner
from ilvren.models.signature import arguments_of, read_python

__all__ = ["Call", "ModelFacts", "ModelFailure", "Runner", "arguments_of", "read_python"]
