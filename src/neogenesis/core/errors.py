"""The failures that a person can act on, each with the exit status that the command line gives it.

Anything else that is raised is a bug and leaves through exit status 1.
"""

from __future__ import annotations


class NeogenesisError(Exception):
    """One sentence of what happened and what it means, and one of what to do.

    `exit_status` is the status of cli.md that a command ends with.
    """

    exit_status = 1

    def __init__(self, text: str, remedy: str = "") -> None:
        super().__init__(text)
        self.text = text
        self.remedy = remedy

    def sentence(self) -> str:
        """Everything on one line, as the command line and the window show it."""
        return " ".join(f"{self.text} {self.remedy}".split())


class BadArgument(NeogenesisError):
    """What was named cannot be used for what was asked."""

    exit_status = 2


class Refused(NeogenesisError):
    """A gate is closed; nothing was written. `code` names the gate."""

    exit_status = 3

    def __init__(self, code: str, text: str, remedy: str = "") -> None:
        super().__init__(text, remedy)
        self.code = code


class Damaged(NeogenesisError):
    """A structure on a drive or in a record does not hold together.

    `structure` names it, `offset_bytes` is where it starts on the drive or in the file.
    """

    def __init__(self, structure: str, offset_bytes: int, text: str, remedy: str = "") -> None:
        super().__init__(f"{structure} at byte {offset_bytes}: {text}.", remedy)
        self.structure = structure
        self.offset_bytes = offset_bytes


class BadRecord(NeogenesisError):
    """A plan, manifest, journal or database of ours cannot be trusted; nothing was written."""

    exit_status = 3


class NotSeen(NeogenesisError):
    """What was waited for did not happen; nothing was written."""

    exit_status = 4


class CannotRecord(NeogenesisError):
    """The folder of a record takes no more: work stops at its last record, and can go on from there."""

    exit_status = 6


class ReadFailed(NeogenesisError):
    """A store could not give the bytes [offset_bytes, offset_bytes + length_bytes)."""

    def __init__(self, offset_bytes: int, length_bytes: int, reason: str) -> None:
        super().__init__(
            f"The drive could not read {length_bytes} bytes at byte {offset_bytes}: {reason}.",
            "Do not keep testing it; image it first.",
        )
        self.offset_bytes = offset_bytes
        self.length_bytes = length_bytes


class WriteFailed(NeogenesisError):
    """The target did not take the bytes from `offset_bytes` on; `gone` tells that it vanished."""

    exit_status = 6

    def __init__(self, offset_bytes: int, reason: str, gone: bool = False) -> None:
        super().__init__(
            f"The new drive did not take a write at byte {offset_bytes}: {reason}.",
            "The old drive is untouched; mend the cause and run the transfer again with --resume.",
        )
        self.offset_bytes = offset_bytes
        self.gone = gone


class ToolFailed(NeogenesisError):
    """An outside program is missing or ended with a failure; nothing was written to a drive."""

    exit_status = 3


class Mismatch(NeogenesisError):
    """What was read back is not what was written."""

    exit_status = 5


class Stopped(NeogenesisError):
    """Stopped on request at a safe point; the work can be resumed."""

    exit_status = 6


class Partial(NeogenesisError):
    """Done, but ranges of the source could not be read; they are listed."""

    exit_status = 4


class OnlyChecked(NeogenesisError):
    """Every gate is open, and nothing more was wanted."""

    exit_status = 0

    def __init__(self) -> None:
        super().__init__("Every gate is open; nothing was written.")
