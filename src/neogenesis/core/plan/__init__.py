"""From surveys and a policy to a layout, ordered operations, gates and reasons. Pure functions; no I/O."""

from neogenesis.core.plan.model import Gate, Layout, LayoutPartition, Operation, Plan
from neogenesis.core.plan.planner import make_plan
from neogenesis.core.plan.policy import Policy

__all__ = ["Gate", "Layout", "LayoutPartition", "Operation", "Plan", "Policy", "make_plan"]
