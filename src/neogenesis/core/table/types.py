"""What a partition's type id says it is for.

Sources: UEFI Specification 2.10 table 5.7, the discoverable partitions specification, and the type bytes in use
on MBR drives. The identifiers are those found on real drives; screens speak only of roles.
"""

from __future__ import annotations

from dataclasses import dataclass
from typing import Literal

Role = Literal["startup", "reserved", "system", "data", "recovery", "swap", "unknown"]


@dataclass(frozen=True, slots=True)
class TypeHint:
    """`role` is what the type alone tells; `basic` types need a look at the volume to tell system from data."""

    role: Role
    basic: bool = False


GPT_STARTUP = "C12A7328-F81F-11D2-BA4B-00A0C93EC93B"
GPT_NT_DATA = "EBD0A0A2-B9E5-4433-87C0-68B6B72699C7"
GPT_NT_RECOVERY = "DE94BBA4-06D1-4D40-A16A-BFD50179D6AC"
GPT_LINUX_DATA = "0FC63DAF-8483-4772-8E79-3D69D8477DE4"
GPT_SWAP = "0657FD6D-A4AB-43C4-84E5-0933C84B4F4F"

_GPT = {
    GPT_STARTUP: TypeHint("startup"),
    "BC13C2FF-59E6-4262-A352-B275FD6F7172": TypeHint("startup"),  # extended loader partition
    "21686148-6449-6E6F-744E-656564454649": TypeHint("startup"),  # loader image for legacy machines
    "E3C9E316-0B5C-4DB8-817D-F92DF00215AE": TypeHint("reserved"),
    "8DA63339-0007-60C0-C436-083AC8230908": TypeHint("reserved"),
    GPT_NT_DATA: TypeHint("unknown", basic=True),
    GPT_NT_RECOVERY: TypeHint("recovery"),
    GPT_LINUX_DATA: TypeHint("unknown", basic=True),
    GPT_SWAP: TypeHint("swap"),
    "4F68BCE3-E8CD-4DB1-96E7-FBCAF984B709": TypeHint("unknown", basic=True),  # Linux root, x86-64
    "44479540-F297-41B2-9AF7-D131D5F0458A": TypeHint("unknown", basic=True),  # Linux root, x86
    "B921B045-1DF0-41C3-AF44-4C6F280D3FAE": TypeHint("unknown", basic=True),  # Linux root, arm64
    "933AC7E1-2EB4-4F13-B844-0E14E2AEF915": TypeHint("data", basic=True),  # Linux home
    "E6D6D379-F507-44C2-A23C-238F2A3DF928": TypeHint("unknown", basic=True),  # logical volumes
    "A19D880F-05FC-4D3B-A006-743F0F84911E": TypeHint("unknown", basic=True),  # software RAID
    "CA7D7CCB-63ED-4C53-861C-1742536059CC": TypeHint("unknown", basic=True),  # encrypted by LUKS
    "48465300-0000-11AA-AA11-00306543ECAC": TypeHint("unknown", basic=True),
    "7C3457EF-0000-11AA-AA11-00306543ECAC": TypeHint("unknown", basic=True),
}

MBR_NT_DATA, MBR_LINUX_DATA, MBR_PROTECTIVE = 0x07, 0x83, 0xEE
MBR_EXTENDED = (0x05, 0x0F, 0x85)

_MBR = {
    0x27: TypeHint("recovery"),
    0x12: TypeHint("recovery"),
    0x82: TypeHint("swap"),
    0xEF: TypeHint("startup"),
}
_MBR_BASIC = (0x01, 0x04, 0x06, 0x07, 0x0B, 0x0C, 0x0E, 0x83, 0x8E, 0xFD, 0xAF, 0xE8)


def type_hint(type_id: str) -> TypeHint:
    """The hint for a GUID or an MBR type such as `0x07`; what is not known is `unknown` and not basic."""
    if type_id.startswith("0x"):
        number = int(type_id, 16)
        return _MBR.get(number, TypeHint("unknown", basic=number in _MBR_BASIC))
    return _GPT.get(type_id, TypeHint("unknown"))
