"""How quantities scatter: laws, how they hang together, sets of scenarios, intervals, distances to a limit. Arrays in,
arrays out; what a problem is, this never knows."""

from ilvren.doors import door

TYPE_CHECKING = False
if TYPE_CHECKING:
    from ilvren.scatter.correlation import Dependence as Dependence, dependence as dependence
    from ilvren.scatter.importance import importance_share as importance_share
    from ilvren.scatter.intervals import (
        Interval as Interval,
        mean_interval as mean_interval,
        share_interval as share_interval,
    )
    from ilvren.scatter.laws import (
        EULER as EULER,
        GUMBEL as GUMBEL,
        LAWS as LAWS,
        WEIBULL_SPAN as WEIBULL_SPAN,
        Law as Law,
        law_named as law_named,
        weibull_exponent as weibull_exponent,
        weibull_series as weibull_series,
    )
    from ilvren.scatter.reliability import DesignPoint as DesignPoint, design_points as design_points
    from ilvren.scatter.sets import (
        parted as parted,
        scenario_normals as scenario_normals,
        sequence_normals as sequence_normals,
    )

__getattr__, __all__ = door(
    __name__,
    {
        "correlation": "Dependence dependence",
        "importance": "importance_share",
        "intervals": "Interval mean_interval share_interval",
        "laws": "EULER GUMBEL LAWS Law WEIBULL_SPAN law_named weibull_exponent weibull_series",
        "reliability": "DesignPoint design_points",
        "sets": "parted scenario_normals sequence_normals",
    },
)
