"""Talks to the records of the bench about drives: which it has met, whose they are, and who may write to one now.

`claimed` is the only way to a drive that can be written; `allow_output` stands before every file that a person names.
"""

from neogenesis.bench.register.claims import Asked, Claimed, claimed, refuse_kept, whose_drive
from neogenesis.bench.register.consent import Consent, after_own_test
from neogenesis.bench.register.outputs import allow_folder, allow_output, marked_picture
from neogenesis.bench.register.register import Register, Writing, existing_register, open_register, register_of

__all__ = [
    "Asked",
    "Claimed",
    "Consent",
    "Register",
    "Writing",
    "after_own_test",
    "allow_folder",
    "allow_output",
    "claimed",
    "existing_register",
    "marked_picture",
    "open_register",
    "refuse_kept",
    "register_of",
    "whose_drive",
]
