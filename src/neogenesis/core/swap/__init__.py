"""Leading two hands through a machine and back: the steps of this job, what lies in the tray, what may hurt.

`faults` says what cannot be true of a profile's steps, `path` computes those of one job, `guide` walks them and keeps
count of every fastener, `tray` says where they lie. It knows nothing of screens.
"""

from neogenesis.core.swap.answer import SwapAnswer, answer_for
from neogenesis.core.swap.faults import check_steps, step_faults
from neogenesis.core.swap.path import Path, Row, path_of

__all__ = ["Path", "Row", "SwapAnswer", "answer_for", "check_steps", "path_of", "step_faults"]
