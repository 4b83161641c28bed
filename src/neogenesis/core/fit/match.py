"""One drive against one bay: whether it fits, all reasons why not, what is needed, and how fast it will be there."""

from __future__ import annotations

from collections.abc import Iterator, Sequence
from dataclasses import dataclass
from decimal import Decimal
from typing import Literal

import msgspec

from neogenesis.core.fit.numbers import numbers
from neogenesis.core.fit.part import Part
from neogenesis.core.machine import Machine
from neogenesis.core.machine.model import Bay
from neogenesis.core.units import is_of_capacity, nominal_bytes

Verdict = Literal["fits", "fits-with", "does-not-fit"]
Severity = Literal["against", "caution", "unstated"]
_KEYS = {"M": ("M", "B+M"), "B": ("B", "B+M"), "B+M": ("M", "B", "B+M")}
#: Bytes per second of one lane by generation, after line coding (PCI Express base specifications).
_LANE = {1: 2.5e8, 2: 5.0e8, 3: 9.846e8, 4: 1.969e9, 5: 3.938e9, 6: 7.563e9}
#: Serial ATA codes eight bits in ten.
_SATA_CODING = 0.1
#: Parallel ATA, Ultra DMA mode 5, as in drives of 2.5 inches; eMMC 5.1 in HS400.
_PATA, _EMMC = 1.0e8, 4.0e8
#: Chips of a usual module stand so high above its board.
_USUAL_ABOVE_MM = 1.5
#: Smaller drives have the size that they say.
_LEAST_NOMINAL_GB = 8
#: Sectors of 512 bytes that an MBR can count.
_MBR_BYTES = 1 << 41


@dataclass(frozen=True, slots=True)
class Reason:
    """What is against it keeps the part out; a caution is only said; what is not stated must be measured first."""

    code: str
    text: str
    severity: Severity = "against"

    @property
    def against(self) -> bool:
        return self.severity == "against"


def unstated(what: str) -> Reason:
    """Nothing is taken to fit because nobody said that it does not."""
    return Reason("unstated", f"{what}: not stated; measure before ordering", "unstated")


@dataclass(frozen=True, slots=True)
class Need:
    """Something beside the part. `ids` are parts at hand that would do, the cheapest first. It fits without what is
    `optional`, and is better with it.
    """

    text: str
    ids: tuple[str, ...] = ()
    optional: bool = False


@dataclass(frozen=True, slots=True)
class Match:
    part: Part
    bay: Bay
    verdict: Verdict
    reasons: tuple[Reason, ...]
    needs: tuple[Need, ...]
    effective_read_bytes_per_s: float | None
    usable_bytes: int | None


def match(part: Part, bay: Bay, machine: Machine, parts: Sequence[Part], budget: Decimal | None = None) -> Match:
    """Everything that speaks against it is listed, not only the first."""
    reasons: list[Reason] = [*_occupied(part, bay, parts)]
    needs: list[Need] = []
    asked = (
        *_form(part, bay, parts),
        *_connector(part, bay, parts),
        *_size(part, bay, parts),
        *_start(part, bay, machine),
    )
    for reason_or_need in asked:
        if isinstance(reason_or_need, Reason):
            reasons.append(reason_or_need)
        else:
            needs.append(reason_or_need)
    reasons += (*_capacity(part, machine), *_lanes(bay, machine))
    if budget is not None and part.cost is not None and bay.holds != part.id:
        reasons += _too_dear(part, needs, parts, budget)
    against = any(r.against for r in reasons)
    is_open = any(not need.optional for need in needs) or any(r.severity == "unstated" for r in reasons)
    verdict: Verdict = "does-not-fit" if against else "fits-with" if is_open else "fits"
    return Match(
        part,
        bay,
        verdict,
        tuple(reasons),
        tuple(needs),
        None if against else effective_rate(part, bay),
        usable_bytes(part),
    )


def _too_dear(part: Part, needs: Sequence[Need], parts: Sequence[Part], budget: Decimal) -> Iterator[Reason]:
    """With what it needs, as far as that has a price."""
    prices = {p.id: p.cost or Decimal(0) for p in parts}
    beside = sum((prices.get(need.ids[0], Decimal(0)) for need in needs if need.ids), Decimal(0))
    whole = (part.cost or Decimal(0)) + beside
    if whole > budget:
        text = f"it costs {whole}, more than the budget of {budget}"
        if beside:
            text = f"with what it needs it costs {whole}, more than the budget of {budget}"
        yield Reason("budget", text)


def rated_in(part: Part, bay: Bay) -> Part:
    """The part with the rates that it can come to in that bay: a run-in expects no more of it."""
    bound = bus_rate(part, bay)

    def most(rate: float | None) -> float | None:
        return None if rate is None else min(rate, bound)

    return msgspec.structs.replace(
        part,
        read_bytes_per_s=most(part.read_bytes_per_s),
        write_bytes_per_s=most(part.write_bytes_per_s),
        sustained_write_bytes_per_s=most(part.sustained_write_bytes_per_s),
    )


def usable_bytes(part: Part) -> int | None:
    """Exact bytes: by the industry's rule for nominal capacities, where it holds."""
    size = part.capacity_gb
    if not size:
        return None
    return nominal_bytes(round(size)) if size >= _LEAST_NOMINAL_GB else int(size * 1e9)


def effective_rate(part: Part, bay: Bay) -> float | None:
    """The slower of the drive and the bay's bus; None where the drive does not say how fast it reads."""
    if part.read_bytes_per_s is None:
        return None
    return min(part.read_bytes_per_s, bus_rate(part, bay))


def bus_rate(part: Part, bay: Bay) -> float:
    """What the bay lets through: the older generation and the fewer lanes win. Without end where nothing is stated.

    A drive that speaks something else than the bay comes through an adapter, and is bound by the bay as well.
    """
    own = _rate_of(part.interface, part, bay)
    if part.interface is None or not bay.interfaces or part.interface in bay.interfaces:
        return own
    return min(own, max(_rate_of(spoken, part, bay) for spoken in bay.interfaces))


def _rate_of(interface: str | None, part: Part, bay: Bay) -> float:
    if interface == "nvme":
        generations = [g for g in (bay.pcie_generation, part.pcie_generation) if g]
        lanes = [n for n in (bay.pcie_lanes, part.pcie_lanes) if n]
        if not generations or not lanes:
            return float("inf")
        return _LANE[min(max(min(generations), 1), max(_LANE))] * min(lanes)
    if interface == "sata":
        return bay.sata_gbit_s * 1e9 * _SATA_CODING if bay.sata_gbit_s else float("inf")
    return {"pata": _PATA, "emmc": _EMMC}.get(interface or "", float("inf"))


def _occupied(part: Part, bay: Bay, parts: Sequence[Part]) -> Iterator[Reason]:
    """A bay is free when what it holds is named among the parts: then that is the drive being replaced."""
    if bay.kind == "soldered":
        yield Reason("soldered", "what is there is soldered to the board")
    if bay.holds is not None and bay.holds != part.id and bay.holds not in {p.id for p in parts}:
        yield Reason("occupied", f"it holds {bay.holds} already")


def _form(part: Part, bay: Bay, parts: Sequence[Part]) -> Iterator[Reason | Need]:
    if part.form is None:
        yield unstated("its form")
    elif part.form == bay.kind or bay.kind == "soldered":
        return
    elif part.form == "2.5" and bay.kind == "3.5":
        yield _need("bracket for a 2.5-inch drive in a 3.5-inch bay", _adapters(parts, "2.5", "3.5"))
    elif part.form == "2.5" and bay.kind == "optical":
        yield from _caddy(part, bay, parts)
    elif found := _adapters(parts, str(part.form), bay.kind):
        yield _need(f"adapter from {part.form} to {bay.kind}", found)
    else:
        yield Reason("form", f"it is {part.form}, the bay takes {bay.kind}")


def _caddy(part: Part, bay: Bay, parts: Sequence[Part]) -> Iterator[Reason | Need]:
    """A caddy is as thick as the optical drive was, and holds drives up to that."""
    thick = bay.caddy_mm
    fitting = [p for p in parts if p.kind == "caddy" and (thick is None or p.thickness_mm == thick)]
    yield _need(f"caddy {thick:g} mm" if thick is not None else "caddy for the optical bay", fitting)
    if thick is not None and part.thickness_mm is not None and part.thickness_mm > thick:
        yield Reason("thickness", f"it is {part.thickness_mm:g} mm thick, the caddy holds {thick:g} mm")


def _connector(part: Part, bay: Bay, parts: Sequence[Part]) -> Iterator[Reason | Need]:
    if part.interface is None:
        yield unstated("its interface")
    elif not bay.interfaces:
        yield unstated("what the bay speaks")
    elif part.interface not in bay.interfaces:
        found = [a for other in bay.interfaces for a in _adapters(parts, part.interface, other)]
        if found:
            yield _need(f"adapter from {part.interface} to {found[0].to}", found)
        else:
            yield Reason("interface", f"it speaks {part.interface}, the bay {' and '.join(bay.interfaces)}")
    if bay.kind == "m2" and part.form == "m2" and bay.key is not None:
        if part.key is None:
            yield unstated("its notch")
        elif part.key not in _KEYS[bay.key]:
            yield Reason("key", f"its notch is {part.key}, the socket is keyed {bay.key}")


def _size(part: Part, bay: Bay, parts: Sequence[Part]) -> Iterator[Reason | Need]:
    if bay.kind == "m2" and part.form == "m2":
        yield from _length(part, bay, parts)
        yield from _sides(part, bay)
        yield from _beside(part, bay, parts)
    if bay.kind in ("m2", "msata", "emmc-module") and part.form == bay.kind:
        for name, own, room in (
            ("above", part.height_above_mm, bay.clearance_above_mm),
            ("below", part.height_below_mm, bay.clearance_below_mm),
        ):
            if own is None and room is not None and not (name == "below" and part.sides == 1):
                yield unstated(f"its height {name} the board, of {room:g} mm that are free")
            elif own and room is None and (name == "below" or own > _USUAL_ABOVE_MM):
                yield unstated(f"the room {name} it, of which it takes {own:g} mm")
            elif own is not None and room is not None and own > room:
                text = f"it is {own:g} mm high {name} the board, and {room:g} mm are free: {own - room:.2g} mm too much"
                yield Reason("height", text)
    if bay.kind in ("2.5", "pata-2.5") and part.form == bay.kind:
        yield from _thickness(part, bay, parts)


def _beside(part: Part, bay: Bay, parts: Sequence[Part]) -> Iterator[Reason | Need]:
    """What lies on it: a pad that fills the room above it, and a spreader that must have its room."""
    own, room = part.height_above_mm, bay.clearance_above_mm
    if own is None or room is None or own > room:
        return
    for spreader in (p for p in parts if p.kind == "heat-spreader" and p.height_mm):
        whole = own + (spreader.height_mm or 0)
        if whole > room:
            text = (
                f"with {spreader.id} it is {whole:g} mm high above the board, and {room:g} mm are free: leave that off"
            )
            yield Reason("height", text, "caution")
    pad = pad_for(room - own, parts)
    if pad is not None:
        yield Need(f"pad of {pad.height_mm:g} mm", (pad.id,), optional=True)


def pad_for(gap_mm: float, parts: Sequence[Part]) -> Part | None:
    """The thickest at hand that such a gap takes; a pad gives way a little."""
    pads = [p for p in parts if p.kind == "pad" and p.height_mm and p.height_mm <= gap_mm + numbers().set.pad_mm]
    return max(pads, key=lambda p: p.height_mm or 0, default=None)


def _sides(part: Part, bay: Bay) -> Iterator[Reason]:
    if bay.double_sided is False and part.sides == 2:
        yield Reason("sides", "it carries chips on both sides, and there is room on one")
    elif bay.double_sided is False and part.sides is None:
        yield unstated("whether it carries chips on both sides, where there is room on one")
    elif part.sides == 2 and bay.double_sided is None and bay.clearance_below_mm is None:
        yield unstated("whether there is room below, where it carries chips as well")


def _start(part: Part, bay: Bay, machine: Machine) -> Iterator[Reason | Need]:
    """What legacy firmware can start from: nothing that speaks NVMe, and the first 2 TiB of an MBR."""
    if machine.firmware != "legacy" or bay.starts_system is False:
        return
    if part.interface == "nvme":
        text = "legacy firmware cannot start from it; for data it can be used"
        yield Reason("interface", text, "against" if bay.starts_system else "caution")
    if bay.starts_system and (part.capacity_gb or 0) * 1e9 > _MBR_BYTES:
        yield Reason("capacity", "legacy firmware starts from the first 2 TiB of it only", "caution")
        yield Need("a table with all that starts within its first 2 TiB")


def _lanes(bay: Bay, machine: Machine) -> Iterator[Reason]:
    taken = [
        b.name for b in machine.bays if b.holds is not None and (b.name in bay.shares_with or bay.name in b.shares_with)
    ]
    for name in taken:
        if name != bay.name:
            yield Reason("lanes", f"used, it takes lanes from {name}, which may be switched off", "caution")


def _length(part: Part, bay: Bay, parts: Sequence[Part]) -> Iterator[Reason | Need]:
    own = part.length_mm
    if own is None or not bay.lengths_mm:
        yield unstated("its length" if own is None else "the lengths that the bay takes")
    elif own > max(bay.lengths_mm):
        yield Reason("length", f"it is {own:g} mm long, the bay ends at {max(bay.lengths_mm)} mm")
    elif own not in bay.lengths_mm:
        found: list[Part] = []
        longer = sorted(n for n in bay.lengths_mm if n > own)
        for length in longer:
            found = _adapters(parts, f"{own:g}", f"{length}") or _adapters(parts, f"22{own:g}", f"22{length}")
            if found:
                longer = [length]
                break
        yield _need(f"length adapter from {own:g} to {longer[0]} mm", found)


def _thickness(part: Part, bay: Bay, parts: Sequence[Part]) -> Iterator[Reason | Need]:
    own = part.thickness_mm
    if own is None or not bay.thickness_mm:
        yield unstated("its thickness" if own is None else "the thickness that the bay takes")
    elif own > max(bay.thickness_mm):
        yield Reason("thickness", f"it is {own:g} mm thick, the bay takes {max(bay.thickness_mm):g} mm")
    elif own not in bay.thickness_mm:
        thicker = min(n for n in bay.thickness_mm if n > own)
        yield _need(f"spacer from {own:g} to {thicker:g} mm", _adapters(parts, f"{own:g}", f"{thicker:g}"))


def _capacity(part: Part, machine: Machine) -> Iterator[Reason]:
    accepted, size = machine.accepted_capacities_gb, part.capacity_gb
    if accepted is not None:
        if size is None:
            yield unstated("its capacity, of which the machine accepts only some")
        elif not any(is_of_capacity(size * 1e9, gb) for gb in accepted):
            yield Reason("capacity", f"the machine accepts {', '.join(map(str, accepted))} GB, not {size:g} GB")
    known = machine.known_to_work_max_gb
    if known is not None and size is not None and size > known:
        text = f"{size:g} GB is untried in this machine: up to {known} GB is known to work"
        yield Reason("untried", text, "caution")


def _adapters(parts: Sequence[Part], from_: str, to: str) -> list[Part]:
    return [p for p in parts if p.kind == "adapter" and (p.from_, p.to) == (from_, to) and p.pieces]


def _need(text: str, parts: Sequence[Part]) -> Need:
    cheapest = sorted((p for p in parts if p.pieces), key=lambda p: (p.cost is None, p.cost or Decimal(0), p.id))
    return Need(text, tuple(p.id for p in cheapest))
