"""The one gate to the formulas and models: values and derivatives at points, cached and counted.

Knows problems; never methods, ledgers or clocks.
"""

from ilvren.evaluate.differences import MOST_DIFFERENCED
from ilvren.evaluate.evaluation import Evaluation, entries_of
from ilvren.evaluate.gate import MOST_DENSE, Counts, Gate
from ilvren.evaluate.jobs import Answer, Arrival, Job, Workers
from ilvren.evaluate.keys import digest_of, key_of
from ilvren.evaluate.measuring import measured, with_sizes
from ilvren.evaluate.questions import Batch
from ilvren.evaluate.recipe import Recipe
from ilvren.evaluate.scenarios import Scenarios, scenario_values

__all__ = [
    "MOST_DENSE",
    "MOST_DIFFERENCED",
    "Answer",
    "Arrival",
    "Batch",
    "Counts",
    "Evaluation",
    "Gate",
    "Job",
    "Recipe",
    "Scenarios",
    "Workers",
    "digest_of",
    "entries_of",
    "key_of",
    "measured",
    "scenario_values",
    "with_sizes",
]
