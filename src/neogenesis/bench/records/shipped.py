"""The data files that ship with the program and are handed to the core: judgement and device classes."""

from __future__ import annotations

from functools import partial
from importlib.resources import files
from pathlib import Path
from typing import TYPE_CHECKING

from neogenesis.core.errors import BadArgument
from neogenesis.core.handed import hand_over
from neogenesis.core.judgement import hand_in_judgement

if TYPE_CHECKING:
    from neogenesis.core.plan.appliance import Appliance

_DATA = files("neogenesis").joinpath("data")
_TEXTS = (
    "afterwards.toml",
    "decide.toml",
    "drivers.toml",
    "file-kinds.toml",
    "fills.toml",
    "first-boot.toml",
    "intake.toml",
    "recipes.toml",
    "swap.toml",
    "triage.toml",
)


def hand_in() -> None:
    """Give the core what it needs before it computes anything."""
    hand_in_judgement(_DATA.joinpath("judgement.toml").read_text("utf-8"))
    for name in _TEXTS:
        hand_over(name, partial(_DATA.joinpath(name).read_text, "utf-8"))


def appliance_names() -> tuple[str, ...]:
    """The device classes that ship with the program, by the names of their files."""
    folder = _DATA.joinpath("appliances")
    return tuple(sorted(f.name.removesuffix(".toml") for f in folder.iterdir() if f.name.endswith(".toml")))


def load_appliance(name: str) -> Appliance:
    """A device class by its name, or from a file `*.toml` of one's own; raises BadArgument or BadRecord."""
    from neogenesis.core.plan.appliance import read_appliance  # with all of planning

    if name.endswith(".toml"):
        try:
            return read_appliance(Path(name).read_text("utf-8"), name)
        except (OSError, UnicodeDecodeError) as error:
            raise BadArgument(f"The device class “{name}” cannot be read.", "Check the name of the file.") from error
    if name in appliance_names():
        return read_appliance(_DATA.joinpath(f"appliances/{name}.toml").read_text("utf-8"), name)
    known = ", ".join(appliance_names())
    raise BadArgument(f"There is no device class “{name}”.", f"Known are {known}; or give a file ending in .toml.")
