"""Which way to go: what each costs in time, money, loss and risk, which is recommended, and what would change that."""

from neogenesis.core.decide.case import Case, Facts, read_case
from neogenesis.core.decide.decision import Decision, decide

__all__ = ["Case", "Decision", "Facts", "decide", "read_case"]
