"""Sampling plans, one a file: bounds and grids in, designs out. Knows no problem, no model and no ledger."""

from ilvren.doors import door

TYPE_CHECKING = False
if TYPE_CHECKING:
    from ilvren.plans.base import Plan as Plan, PlanError as PlanError, Sampled as Sampled, Space as Space
    from ilvren.plans.catalogue import plan_named as plan_named, plan_names as plan_names, plan_options as plan_options
    from ilvren.plans.latin import farthest as farthest
    from ilvren.plans.plan_quality import Quality as Quality, quality as quality

__getattr__, __all__ = door(
    __name__,
    {
        "base": "Plan PlanError Sampled Space",
        "catalogue": "plan_named plan_names plan_options",
        "latin": "farthest",
        "plan_quality": "Quality quality",
    },
)
