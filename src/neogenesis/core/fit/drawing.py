"""A part in its bay to scale, in millimetres: from the side and from above, with what is measured and what is too much.

Along x from the connector, across y from one edge, up z from the underside of the part. Sizes of boards and cases from
the public specifications: M.2 22 mm wide, 0.8 mm thick, notches 6.125 mm (M) and 5.625 mm (B) off the middle; SFF-8201
69.85 x 100.45 mm for 2.5 inches; SFF-8301 101.6 x 147 x 26.1 mm for 3.5 inches; MO-300 29.85 x 50.8 mm for mSATA; slim
optical drives 128 x 126.1 mm.
"""

from __future__ import annotations

from collections.abc import Iterator
from dataclasses import dataclass
from typing import Literal

from neogenesis.core.fit.part import Part
from neogenesis.core.machine.model import Bay

Thing = Literal["socket", "mainboard", "cover", "board", "chip", "case", "stand-off", "post", "bay", "caddy", "over"]
_M2_WIDE, _M2_THICK = 22.0, 0.8
_NOTCH = {"M": 6.125, "B": -5.625}
_NOTCH_WIDE, _NOTCH_DEEP = 1.2, 3.5
_SOCKET_LONG = 6.0
#: Usual height of chips where a part does not say; clearance where a bay does not.
_USUAL_CHIP, _USUAL_CLEARANCE = 1.35, 1.5
_WIDE = {"2.5": 69.85, "pata-2.5": 69.85, "3.5": 101.6, "optical": 128.0, "msata": 29.85, "emmc-module": 18.0}
_LONG = {"2.5": 100.45, "pata-2.5": 100.45, "3.5": 147.0, "optical": 126.1, "msata": 50.8, "emmc-module": 24.0}
_TALL = {"3.5": 26.1, "optical": 12.7}


@dataclass(frozen=True, slots=True)
class Box:
    """From (x0, y0) to (x1, y1); in a view from the side, y is the height."""

    thing: Thing
    x0: float
    y0: float
    x1: float
    y1: float


@dataclass(frozen=True, slots=True)
class Measure:
    """A length between two points, in millimetres, along x or y; `over` where it tells what is too much."""

    x0: float
    y0: float
    x1: float
    y1: float
    over: bool = False

    @property
    def mm(self) -> float:
        return max(abs(self.x1 - self.x0), abs(self.y1 - self.y0))


@dataclass(frozen=True, slots=True)
class View:
    """`usual` tells that a size was not stated, and drawn as it usually is."""

    boxes: tuple[Box, ...]
    measures: tuple[Measure, ...]
    usual: bool = False

    @property
    def span(self) -> tuple[float, float, float, float]:
        """Left, bottom, right and top of everything in it."""
        ends = [(b.x0, b.y0, b.x1, b.y1) for b in self.boxes] + [
            (min(m.x0, m.x1), min(m.y0, m.y1), max(m.x0, m.x1), max(m.y0, m.y1)) for m in self.measures
        ]
        if not ends:
            return (0.0, 0.0, 1.0, 1.0)
        return (min(e[0] for e in ends), min(e[1] for e in ends), max(e[2] for e in ends), max(e[3] for e in ends))

    @property
    def overlaps(self) -> tuple[Box, ...]:
        return tuple(b for b in self.boxes if b.thing == "over")


@dataclass(frozen=True, slots=True)
class Drawing:
    side: View
    above: View


def drawing(part: Part, bay: Bay) -> Drawing | None:
    """None where the two have nothing in common that could be drawn."""
    if part.form == "m2" and bay.kind == "m2":
        return Drawing(_m2_side(part, bay), _m2_above(part, bay))
    if part.form in _LONG and bay.kind in _LONG:
        return Drawing(_case_side(part, bay), _case_above(part, bay))
    return None


# M.2


def _m2_side(part: Part, bay: Bay) -> View:
    long = part.length_mm or 80.0
    above = _USUAL_CHIP if part.height_above_mm is None else part.height_above_mm
    below = part.height_below_mm if part.height_below_mm is not None else (_USUAL_CHIP if part.sides == 2 else 0.0)
    up = _USUAL_CLEARANCE if bay.clearance_above_mm is None else bay.clearance_above_mm
    down = _USUAL_CLEARANCE if bay.clearance_below_mm is None else bay.clearance_below_mm
    usual = None in (part.length_mm, part.height_above_mm, bay.clearance_above_mm, bay.clearance_below_mm)
    end = max((long, *bay.lengths_mm))
    roof, floor = _M2_THICK + up, -down
    boxes = [
        Box("cover", -_SOCKET_LONG, roof, end + 6, roof + 0.5),
        Box("mainboard", -_SOCKET_LONG, floor - 0.8, end + 6, floor),
        Box("socket", -_SOCKET_LONG, floor, 2.0, min(roof, _M2_THICK + 1.2)),
        *(Box("stand-off", n - 2.0, floor, n + 2.0, 0.0) for n in bay.lengths_mm),
        Box("board", 0.0, 0.0, long, _M2_THICK),
        *_chips(long, _M2_THICK, _M2_THICK + above),
        *(_chips(long, -below, 0.0) if below else ()),
    ]
    top = max(roof, _M2_THICK + above) + 1.6
    measures = [Measure(0.0, top, long, top)]
    if above > up:
        boxes += [Box("over", b.x0, roof, b.x1, _M2_THICK + above) for b in _chips(long, 0, 1)]
        measures.append(Measure(long * 0.97, roof, long * 0.97, _M2_THICK + above, True))
    if below > down:
        boxes += [Box("over", b.x0, -below, b.x1, floor) for b in _chips(long, 0, 1)]
        measures.append(Measure(long * 0.97, -below, long * 0.97, floor, True))
    measures += [Measure(end + 4, floor, end + 4, 0.0), Measure(end + 4, _M2_THICK, end + 4, roof)]
    return View((*boxes, *_too_long(part, bay, 0.0, _M2_THICK)), tuple(measures), usual)


def _chips(long: float, low: float, high: float) -> list[Box]:
    """Three chips, as they usually stand: one near the connector, two along the rest."""
    return [Box("chip", long * a, low, long * b, high) for a, b in ((0.18, 0.36), (0.42, 0.64), (0.7, 0.92))]


def _too_long(part: Part, bay: Bay, low: float, high: float) -> Iterator[Box]:
    if part.length_mm is not None and bay.lengths_mm and part.length_mm > max(bay.lengths_mm):
        yield Box("over", max(bay.lengths_mm), low, part.length_mm, high)


def _m2_above(part: Part, bay: Bay) -> View:
    long, wide = part.length_mm or 80.0, _M2_WIDE
    end = max((long, *bay.lengths_mm))
    boxes = [
        Box("bay", 0.0, -1.0, float(max(bay.lengths_mm, default=long)) + 3.0, wide + 1.0),
        Box("socket", -_SOCKET_LONG, -1.0, 0.0, wide + 1.0),
        *(Box("stand-off", n - 2.75, wide / 2 - 2.75, n + 2.75, wide / 2 + 2.75) for n in bay.lengths_mm),
        Box("board", 0.0, 0.0, long, wide),
        *(Box("chip", b.x0, 2.5, b.x1, wide - 2.5) for b in _chips(long, 0, 1)),
    ]
    for key in _keys(bay.key):
        place = wide / 2 + _NOTCH[key]
        boxes.append(Box("post", 0.0, place - _NOTCH_WIDE / 2, _NOTCH_DEEP, place + _NOTCH_WIDE / 2))
        if part.key is not None and key not in _keys(part.key) and not _has_either(part, bay):
            boxes.append(Box("over", 0.0, place - _NOTCH_WIDE / 2, _NOTCH_DEEP, place + _NOTCH_WIDE / 2))
    boxes += list(_too_long(part, bay, 0.0, wide))
    measures = [Measure(0.0, wide + 5.0, long, wide + 5.0), Measure(end + 5.0, 0.0, end + 5.0, wide)]
    if part.length_mm is not None and bay.lengths_mm and part.length_mm > max(bay.lengths_mm):
        measures.append(Measure(float(max(bay.lengths_mm)), -4.0, part.length_mm, -4.0, True))
    return View(tuple(boxes), tuple(measures), part.length_mm is None)


def _keys(key: str | None) -> tuple[str, ...]:
    return tuple(key.split("+")) if key else ()


def _has_either(part: Part, bay: Bay) -> bool:
    """A part with both notches goes into either socket."""
    return part.key == "B+M" or bay.key == "B+M"


# Cases


def _case_side(part: Part, bay: Bay) -> View:
    long = _LONG[str(part.form)]
    flat = part.form in ("msata", "emmc-module")
    tall = part.thickness_mm or _TALL.get(str(part.form)) or (part.height_above_mm if flat else None)
    if bay.kind in ("msata", "emmc-module"):
        room = bay.clearance_above_mm
    elif bay.kind == "optical":
        room = bay.caddy_mm
    else:
        room = max(bay.thickness_mm, default=None) or _TALL.get(bay.kind)
    usual = tall is None or room is None
    tall = tall or (7.0 if not flat else _USUAL_CHIP)
    room = room or tall
    end = max(long, _LONG[bay.kind])
    boxes = [
        Box("mainboard", -4.0, -2.0, end + 4, 0.0),
        Box("cover", -4.0, room, end + 4, room + 1.5),
        Box("socket", -4.0, 0.0, 0.0, min(room, 4.0)),
        *([Box("caddy", 0.0, 0.0, end, room)] if bay.kind == "optical" and part.form != "optical" else []),
        Box("case", 0.0, 0.0, long, tall),
    ]
    top = max(room, tall) + 4.0
    measures = [Measure(0.0, top, long, top), Measure(end + 7.0, 0.0, end + 7.0, room)]
    if tall > room:
        boxes.append(Box("over", 0.0, room, long, tall))
        measures.append(Measure(long * 0.94, room, long * 0.94, tall, True))
    else:
        measures.append(Measure(long * 0.94, 0.0, long * 0.94, tall))
    return View(tuple(boxes), tuple(measures), usual)


def _case_above(part: Part, bay: Bay) -> View:
    long, wide = _LONG[str(part.form)], _WIDE[str(part.form)]
    bay_long, bay_wide = _LONG[bay.kind], _WIDE[bay.kind]
    edge = max(0.0, (bay_wide - wide) / 2)
    boxes = [Box("bay", 0.0, 0.0, bay_long, bay_wide), Box("case", 0.0, edge, long, edge + wide)]
    if long > bay_long or wide > bay_wide:
        boxes.append(
            Box("over", 0.0, bay_wide, long, wide) if wide > bay_wide else Box("over", bay_long, 0, long, wide)
        )
    top = max(bay_wide, edge + wide)
    measures = [
        Measure(0.0, top + 6.0, long, top + 6.0),
        Measure(max(long, bay_long) + 6.0, edge, max(long, bay_long) + 6.0, edge + wide),
    ]
    return View(tuple(boxes), tuple(measures))
