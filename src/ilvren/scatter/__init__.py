"""How quantities scatter: laws, how they hang together, sets of scenarios, intervals, distances to a limit. Arrays in,
arrays out; what a problem is, this never knows."""

from ilvren.scatter.dependence import Dependence, dependence
from ilvren.scatter.importance import RareShare, importance_share
from ilvren.scatter.intervals import Interval, mean_interval, share_interval
from ilvren.scatter.laws import LAWS, Law, law_named
from ilvren.scatter.reliability import DesignPoint, LimitFunction, design_points
from ilvren.scatter.sets import PARTS, parted, scenario_normals, sequence_normals

__all__ = [
    "LAWS",
    "PARTS",
    "Dependence",
    "DesignPoint",
    "Interval",
    "Law",
    "LimitFunction",
    "RareShare",
    "dependence",
    "design_points",
    "importance_share",
    "law_named",
    "mean_interval",
    "parted",
    "scenario_normals",
    "sequence_normals",
    "share_interval",
]
