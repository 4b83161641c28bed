"""From surveys and a policy to a layout, ordered operations, gates and reasons. Pure functions; no I/O."""

from neogenesis.core.plan.check import check_plan
from neogenesis.core.plan.model import Gate, Layout, LayoutPartition, Plan
from neogenesis.core.plan.planner import make_plan, make_set_plan
from neogenesis.core.plan.policy import Policy
from neogenesis.core.plan.steps import Step

__all__ = [
    "Gate",
    "Layout",
    "LayoutPartition",
    "Plan",
    "Policy",
    "Step",
    "check_plan",
    "make_plan",
    "make_set_plan",
]
