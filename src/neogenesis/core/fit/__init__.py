"""Which part fits where, why not, and the best way to place several under a budget."""

from neogenesis.core.fit.answer import Fit, fit
from neogenesis.core.fit.part import Part, read_part

__all__ = ["Fit", "Part", "fit", "read_part"]
