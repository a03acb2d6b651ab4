"""The one gate to the formulas and models: values and derivatives at points, cached and counted.

Knows problems; never methods, ledgers or clocks.
"""

from ilvren.evaluate.gate import Counts, Evaluation, Gate

__all__ = ["Counts", "Evaluation", "Gate"]
