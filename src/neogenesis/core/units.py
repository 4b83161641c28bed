"""Byte sizes: decimal and binary text, parsing, nominal capacity, rounding.

Leaves out durations and rates, which belong to the estimate.
"""

from __future__ import annotations

import re

from neogenesis.core.errors import BadArgument

KIB, MIB, GIB, TIB = 1 << 10, 1 << 20, 1 << 30, 1 << 40
ALIGNMENT_BYTES = MIB

_DECIMAL = {"": 1, "B": 1, "KB": 10**3, "MB": 10**6, "GB": 10**9, "TB": 10**12, "PB": 10**15}
_BINARY = {"KIB": KIB, "MIB": MIB, "GIB": GIB, "TIB": TIB, "PIB": 1 << 50}
_SIZE = re.compile(r"\s*(\d+(?:\.\d+)?)\s*([A-Za-z]*)\s*")
_LARGEST_BYTES = 1 << 60


#: Drives and modules of one nominal capacity hold between these shares of it.
_LEAST_OF_CAPACITY, _MOST_OF_CAPACITY = 0.91, 1.01


def nominal_bytes(gigabytes: int, sector_size: int = 512) -> int:
    """Exact bytes of a drive sold as `gigabytes` GB.

    Source: the industry capacity rule, sectors(512) = 97,696,368 + 1,953,504 x (GB - 50). It holds from 8 GB
    up; its result is rounded down to whole sectors of `sector_size`.
    """
    sectors = 97_696_368 + 1_953_504 * (gigabytes - 50)
    return sectors * 512 // sector_size * sector_size


def is_of_capacity(size_bytes: float, gigabytes: float) -> bool:
    """Whether a drive of that size counts as one of a nominal capacity (480 GB drives stand for 500)."""
    return _LEAST_OF_CAPACITY * gigabytes * 1e9 <= size_bytes <= _MOST_OF_CAPACITY * gigabytes * 1e9


def parse_size(text: str) -> int:
    """Bytes of `1TB` (nominal: the industry sector count), `931GiB`, `260MiB` or plain bytes.

    Raises BadArgument when the text is no size, is zero or is beyond one exbibyte.
    """
    match = _SIZE.fullmatch(text)
    unit = match.group(2).upper() if match else "?"
    if not match or unit not in _DECIMAL | _BINARY:
        raise BadArgument(f"“{text}” is not a size.", "Write it as 1TB, 931GiB or plain bytes.")
    whole, _, fraction = match.group(1).partition(".")
    factor = (_DECIMAL | _BINARY)[unit]
    size = int(whole) * factor + (int(fraction) * factor // 10 ** len(fraction) if fraction else 0)
    if unit in ("GB", "TB", "PB") and size >= 8 * 10**9 and size % 10**9 == 0:
        size = nominal_bytes(size // 10**9)
    if not 0 < size <= _LARGEST_BYTES:
        raise BadArgument(f"“{text}” is not a size that a drive can have.", "Write it as 1TB or 931GiB.")
    return size


def _scaled(size_bytes: int, step: int, names: tuple[str, ...]) -> str:
    value, name = float(size_bytes), names[0]
    for larger in names[1:]:
        if value < step - 0.5:
            break
        value, name = value / step, larger
    digits = 0 if name == names[0] or value >= 99.95 else (1 if value >= 9.995 else 2)
    text = f"{value:.{digits}f}"
    return f"{text.rstrip('0').rstrip('.') if '.' in text else text} {name}"


def decimal_text(size_bytes: int) -> str:
    """`500 GB`: the unit in which drives are sold, three figures."""
    return _scaled(size_bytes, 1000, ("B", "kB", "MB", "GB", "TB", "PB"))


def binary_text(size_bytes: int) -> str:
    """`466 GiB`: the unit in which operating systems count, three figures."""
    return _scaled(size_bytes, 1024, ("B", "KiB", "MiB", "GiB", "TiB", "PiB"))


def files_text(count: int) -> str:
    """How many files, in words."""
    return "1 file" if count == 1 else f"{count} files"


def both_text(size_bytes: int) -> str:
    """`4 TB (3.64 TiB)`."""
    return f"{decimal_text(size_bytes)} ({binary_text(size_bytes)})"


def round_up(value: int, step: int) -> int:
    """The smallest multiple of `step` that is not below `value`."""
    return -(-value // step) * step


def round_down(value: int, step: int) -> int:
    """The largest multiple of `step` that is not above `value`."""
    return value // step * step


def duration_text(seconds: float) -> str:
    """`42 s`, `18 min`, `2 h 05 min`."""
    whole = round(seconds)
    if whole < 90:
        return f"{whole} s"
    if whole < 5400:
        return f"{round(whole / 60)} min"
    return f"{whole // 3600} h {whole % 3600 // 60:02} min"


def rate_text(bytes_per_s: float) -> str:
    """`109 MB/s`."""
    return f"{decimal_text(int(bytes_per_s))}/s"
