"""The one gate to the formulas and models: values and derivatives at points, cached and counted.

Knows problems; never methods, ledgers or clocks.
"""

from ilvren.doors import door

TYPE_CHECKING = False
if TYPE_CHECKING:
    from ilvren.evaluate.as_written import AsWritten as AsWritten
    from ilvren.evaluate.cluster import ClusterPool as ClusterPool
    from ilvren.evaluate.differences import MOST_DIFFERENCED as MOST_DIFFERENCED
    from ilvren.evaluate.evaluation import Evaluation as Evaluation, entries_of as entries_of
    from ilvren.evaluate.forms import form_of as form_of
    from ilvren.evaluate.gate import MOST_DENSE as MOST_DENSE, Counts as Counts, Gate as Gate
    from ilvren.evaluate.jobs import Arrival as Arrival, Job as Job, Workers as Workers
    from ilvren.evaluate.keys import digest_of as digest_of, key_of as key_of
    from ilvren.evaluate.kinks import kinks_near as kinks_near
    from ilvren.evaluate.measuring import measured as measured, with_sizes as with_sizes
    from ilvren.evaluate.recipe import Recipe as Recipe
    from ilvren.evaluate.scenarios import scenario_values as scenario_values
    from ilvren.evaluate.workers import ProcessPool as ProcessPool, worker_count as worker_count

__getattr__, __all__ = door(
    __name__,
    {
        "as_written": "AsWritten",
        "cluster": "ClusterPool",
        "differences": "MOST_DIFFERENCED",
        "evaluation": "Evaluation entries_of",
        "forms": "form_of",
        "gate": "Counts Gate MOST_DENSE",
        "jobs": "Arrival Job Workers",
        "keys": "digest_of key_of",
        "kinks": "kinks_near",
        "measuring": "measured with_sizes",
        "recipe": "Recipe",
        "scenarios": "scenario_values",
        "workers": "ProcessPool worker_count",
    },
)
