"""What a plan is made of: one type for each kind of step, in the order in which they are run.

Each has an id that is unique in its plan; a journal records by it what has been done. What a step needs to know stands
in the step, so that whoever reviews a plan sees everything that it will write.
"""

from __future__ import annotations

from typing import Literal

from neogenesis.core.record import Record


class _Step(Record, frozen=True, kw_only=True, tag_field="kind"):
    """`text` is what is done, in words; `bytes` how much of it there is, 0 where that says nothing."""

    id: str
    text: str
    partition: int | None = None
    bytes: int = 0

    @property
    def kind(self) -> str:
        return str(self.__struct_config__.tag)


class Prepare(_Step, frozen=True, kw_only=True, tag="prepare"):
    """Make a volume of the old drive ready in the work folder: another size, or its new place noted."""

    from_partition: int
    action: Literal["grow", "shrink", "patch"]
    volume_kind: str


class MakeVolume(_Step, frozen=True, kw_only=True, tag="make-volume"):
    """Make a volume in the work folder: empty, or with the files of a system image that stand under `tree` in it.

    `volume_id` is the identity that it gets, a GUID of which each filesystem takes as much as it holds; empty for one
    of the utility's own. With `whole` its first and last MiB are written whatever it uses of them, so that nothing of
    what stood there before is taken for a volume.
    """

    volume_kind: str
    label: str = ""
    volume_id: str = ""
    tree: str = ""
    whole: bool = False
    inodes: int = 0


class ClearTable(_Step, frozen=True, kw_only=True, tag="clear-table"):
    """Clear the first and the last MiB of the new drive, the last one first, and where partitions without a volume
    begin and end: what stood there before is not to be taken for one. `ranges` are those, in bytes, half-open.
    """

    ranges: tuple[tuple[int, int], ...] = ()


class Discard(_Step, frozen=True, kw_only=True, tag="discard"):
    """Tell the new drive that nothing on it is needed, before anything is copied."""


class Copy(_Step, frozen=True, kw_only=True, tag="copy"):
    """Carry a partition, from the old drive or from the work folder.

    Without a partition, the bytes [start_bytes, start_bytes + bytes) of the drive itself: all of it between its ends,
    or the area before the first partition, where loaders of legacy machines live.
    """

    from_partition: int | None = None
    mode: Literal["used", "raw"]
    volume_kind: str = ""
    start_bytes: int = 0


class RangeWrite(Record, frozen=True, kw_only=True):
    """`data` for the bytes from `start_bytes` on. `before` is the BLAKE3 of what must stand there until then."""

    start_bytes: int
    data: bytes
    before: str


class WriteRanges(_Step, frozen=True, kw_only=True, tag="write-ranges"):
    """Change single places of the new drive, each only where it holds what was seen when the plan was made."""

    ranges: tuple[RangeWrite, ...]


class Verify(_Step, frozen=True, kw_only=True, tag="verify"):
    """Read everything back from the medium and compare."""


class WriteTable(_Step, frozen=True, kw_only=True, tag="write-table"):
    """Write the table, or the ends of a drive that is copied exactly, in an order that a power cut cannot break."""


Step = Prepare | MakeVolume | ClearTable | Discard | Copy | WriteRanges | Verify | WriteTable
