"""How a design fares when it is not made exactly: scenarios and slopes around it, rare misses, and what drives them."""

from ilvren.doors import door

TYPE_CHECKING = False
if TYPE_CHECKING:
    from ilvren.explore.scatter.case import scatter_case as scatter_case
    from ilvren.explore.scatter.rare import DEFAULT_EVALUATIONS as DEFAULT_EVALUATIONS
    from ilvren.explore.scatter.result import OutputScatter as OutputScatter, ScatterResult as ScatterResult
    from ilvren.explore.scatter.shares import shares_by_scatter as shares_by_scatter
    from ilvren.explore.scatter.study import DEFAULT_SCENARIOS as DEFAULT_SCENARIOS, scatter as scatter

__getattr__, __all__ = door(
    __name__,
    {
        "case": "scatter_case",
        "rare": "DEFAULT_EVALUATIONS",
        "result": "OutputScatter ScatterResult",
        "shares": "shares_by_scatter",
        "study": "DEFAULT_SCENARIOS scatter",
    },
)
