"""What to do on the customer's machine before an encrypted volume is copied, and how long it takes."""

from __future__ import annotations

from dataclasses import dataclass

from neogenesis.core.filesystem.encryption import Encryption
from neogenesis.core.judgement import judgement
from neogenesis.core.survey.model import PartitionFacts
from neogenesis.core.units import duration_text

_STATES = {
    "on": "Encryption is on.",
    "suspended": "Encryption is suspended: the key lies in the clear until the next start.",
    "encrypting": "Encryption is on its way and not finished.",
    "decrypting": "It is being decrypted and not finished.",
    "off": "It is decrypted, but still marked as encrypted.",
    "unknown": "In which state the encryption is could not be read.",
}


@dataclass(frozen=True, slots=True)
class DecryptionGuide:
    """`seconds_p10` and `seconds_p90` for what is still to be decrypted; None where nothing is."""

    state: str
    steps: tuple[str, ...]
    seconds_p10: float | None = None
    seconds_p90: float | None = None


def decryption_guide(partition: PartitionFacts) -> DecryptionGuide | None:
    """None for a volume that is not encrypted."""
    found = partition.volume.encryption
    if found is None:
        return None
    left = _left_bytes(found, partition.size_bytes)
    slow, _, fast = judgement().decryption
    times = (left / fast, left / slow) if left else (None, None)
    return DecryptionGuide(_STATES[found.state], tuple(_steps(found, times)), *times)


def _left_bytes(found: Encryption, size_bytes: int) -> int:
    if found.kind == "fve":
        return found.encrypted_bytes if found.encrypted_bytes is not None else size_bytes * (found.state != "off")
    return 0


def _steps(found: Encryption, times: tuple[float | None, float | None]) -> list[str]:
    if found.kind != "fve":
        return [
            "Such a volume is not decrypted in place: copy it exactly, or let the customer open it and copy the files.",
            "Ask who knows the passphrase. Never write it down.",
        ]
    low, high = times
    wait = "Wait until it says that decryption has finished, with the machine on mains."
    if low and high:
        wait = f"{wait} It takes {duration_text(low)} to {duration_text(high)}."
    steps = ["Ask who holds the recovery key, and see that they find it. Never write it down."]
    if found.state in ("on", "suspended", "unknown", "encrypting"):
        steps.append("Start the machine on mains and switch encryption of this volume off in the system's settings.")
    return [
        *steps,
        wait,
        "Switch fast start off and shut it down fully.",
        "Survey the drive again: it must no longer be said to be encrypted.",
        "After the copy has started well, switch encryption on again, and give the new recovery key to its owner.",
    ]
