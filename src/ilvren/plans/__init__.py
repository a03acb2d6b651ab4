"""Sampling plans, one a file: bounds and grids in, designs out. Knows no problem, no model and no ledger."""

from ilvren.plans.base import Plan, PlanError, Sampled, Space
from ilvren.plans.catalogue import plan_named, plan_names, plan_options
from ilvren.plans.latin import farthest
from ilvren.plans.quality import Quality, quality

__all__ = [
    "Plan",
    "PlanError",
    "Quality",
    "Sampled",
    "Space",
    "farthest",
    "plan_named",
    "plan_names",
    "plan_options",
    "quality",
]
