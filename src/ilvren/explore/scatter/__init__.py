"""How a design fares when it is not made exactly: scenarios and slopes around it, rare misses, and what drives them."""

from ilvren.explore.scatter.case import Output, ScatterCase, scatter_case
from ilvren.explore.scatter.result import OutputScatter, RareMiss, ScatterResult, WorstScenario
from ilvren.explore.scatter.shares import shares_by_scatter
from ilvren.explore.scatter.study import WAYS, scatter

__all__ = [
    "WAYS",
    "Output",
    "OutputScatter",
    "RareMiss",
    "ScatterCase",
    "ScatterResult",
    "WorstScenario",
    "scatter",
    "scatter_case",
    "shares_by_scatter",
]
