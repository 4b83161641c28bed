"""The ways by name, and how drives are connected for them."""

from __future__ import annotations

from typing import Literal, get_args

Way = Literal[
    "replace",
    "split",
    "beside",
    "exact",
    "salvage",
    "fresh",
    "do-less",
    "replace-machine",
    "repair-start",
    "repair-cause",
    "refer",
    "nothing-yet",
]
WAYS: tuple[Way, ...] = get_args(Way)
#: Those that bring the system along as it is.
COPYING: tuple[Way, ...] = ("replace", "split", "exact")
#: Those for which nothing is connected and no drive is needed.
IN_WORDS: tuple[Way, ...] = ("do-less", "replace-machine", "repair-start", "repair-cause", "refer", "nothing-yet")
Connection = Literal["enclosure", "second-dock", "internal-slot", "third-drive", "stick"]
