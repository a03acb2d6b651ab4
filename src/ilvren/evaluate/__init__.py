"""The one gate to the formulas and models: values and derivatives at points, cached and counted.

Knows problems; never methods, ledgers or clocks.
"""

from ilvren.evaluate.differences import MOST_DIFFERENCED
from ilvren.evaluate.gate import MOST_DENSE, Counts, Evaluation, Gate, entries_of
from ilvren.evaluate.questions import Batch

__all__ = ["MOST_DENSE", "MOST_DIFFERENCED", "Batch", "Counts", "Evaluation", "Gate", "entries_of"]
