"""How the C library hands memory back to the system."""

from __future__ import annotations

import ctypes

_TRIM_THRESHOLD, _MMAP_THRESHOLD = -1, -3
_LARGE_BYTES = 8 << 20


def give_back_large_blocks() -> None:
    """Take each large block from the system by itself, so that it goes back as soon as it is free.

    glibc raises that limit by itself with the first large block that is freed (mallopt(3)); from then on the tables of
    a fragmented drive would stay in the heap long after their use. What is smaller is kept at hand, or every piece that
    is packed would be made of fresh pages. Another C library just does not know the call.
    """
    mallopt = getattr(ctypes.CDLL(None), "mallopt", None)
    if mallopt is not None:
        mallopt(_MMAP_THRESHOLD, _LARGE_BYTES)
        mallopt(_TRIM_THRESHOLD, _LARGE_BYTES)
