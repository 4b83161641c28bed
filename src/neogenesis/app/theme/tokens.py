"""The two themes as one table of tokens. Text keeps a contrast of 4.5 to 1 on all grounds, marks 3 to 1."""

from __future__ import annotations

from dataclasses import dataclass, fields
from typing import Literal

Shape = Literal["diamond", "hexagon", "circle", "square", "triangle", "pentagon"]


@dataclass(frozen=True, slots=True)
class Tokens:
    """Colours as #RRGGBB. `ground` is the stop in the centre, `surface` what surrounds it, `raised` fields."""

    name: str
    ground: str
    surface: str
    raised: str
    line: str
    ink: str
    muted: str
    accent: str
    accent_ink: str
    accent_soft: str
    good: str
    caution: str
    stop: str
    startup: str
    reserved: str
    system: str
    data: str
    recovery: str
    swap: str
    unknown: str
    free: str

    def role(self, role: str) -> str:
        """The colour of a partition's role."""
        return str(getattr(self, role)) if role in _ROLES else self.unknown


_ROLES = ("startup", "reserved", "system", "data", "recovery", "swap", "unknown", "free")

DAY = Tokens(
    name="day",
    ground="#EFEBE2",
    surface="#F8F5EE",
    raised="#FFFDF8",
    line="#D8D1C3",
    ink="#1B2530",
    muted="#57606A",
    accent="#0C6868",
    accent_ink="#FFFFFF",
    accent_soft="#D3E0DA",
    good="#1F6B44",
    caution="#8A5600",
    stop="#A52A1E",
    startup="#B98A22",
    reserved="#98907F",
    system="#2C8886",
    data="#8571B4",
    recovery="#7F8F4A",
    swap="#5F7FA6",
    unknown="#84808A",
    free="#C9C2B4",
)

NIGHT = Tokens(
    name="night",
    ground="#141B23",
    surface="#1B242E",
    raised="#222D38",
    line="#303C49",
    ink="#E9EDF0",
    muted="#9DA9B4",
    accent="#55BDB5",
    accent_ink="#0B1417",
    accent_soft="#1E3A3F",
    good="#64C08C",
    caution="#E5AE4C",
    stop="#EE8069",
    startup="#C99B3B",
    reserved="#837E74",
    system="#2F9390",
    data="#8470BC",
    recovery="#86964F",
    swap="#5E86B8",
    unknown="#8C8893",
    free="#3A4653",
)

_TAG_SHAPES: tuple[Shape, ...] = ("diamond", "hexagon", "circle", "square", "triangle", "pentagon")
_TAG_COLOURS = ("#B2571F", "#255FB0", "#5B3E8E", "#2A2F36", "#A02C5A", "#00708A", "#7A6200")
_LETTERS = "ABCDEFGHJKLMNPQRSTUVWXYZ"


def tag_look(index: int) -> tuple[str, Shape, str]:
    """Letter, shape and colour of the bench tag with that number; neighbours differ in all three."""
    letter = _LETTERS[index % len(_LETTERS)]
    return letter, _TAG_SHAPES[index % len(_TAG_SHAPES)], _TAG_COLOURS[index % len(_TAG_COLOURS)]


def contrast(one: str, other: str) -> float:
    """Contrast ratio of two colours, from the relative luminances of WCAG 2.1."""

    def luminance(colour: str) -> float:
        parts = [int(colour[i : i + 2], 16) / 255 for i in (1, 3, 5)]
        linear = [p / 12.92 if p <= 0.04045 else ((p + 0.055) / 1.055) ** 2.4 for p in parts]
        return 0.2126 * linear[0] + 0.7152 * linear[1] + 0.0722 * linear[2]

    darker, lighter = sorted((luminance(one), luminance(other)))
    return (lighter + 0.05) / (darker + 0.05)


def colour_names() -> list[str]:
    """All tokens that are colours."""
    return [field.name for field in fields(Tokens) if field.name != "name"]
