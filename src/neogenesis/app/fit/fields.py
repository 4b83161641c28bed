"""The fields of profiles: what each is called, in which unit it is kept, and what it may be."""

from __future__ import annotations

from collections.abc import Sequence
from dataclasses import dataclass
from typing import Any

from neogenesis.app.language import mark, tr
from neogenesis.app.parts.form import ChoiceField, Field, TextField
from neogenesis.core.fit.quantity import parse_amount, parse_amounts, shown_amount

_BAYS = ("m2", "msata", "2.5", "3.5", "optical", "pata-2.5", "emmc-module", "soldered")
#: Options that are words, for the catalogue of texts.
OPTION_WORDS = (
    *(mark("laptop"), mark("convertible"), mark("tower"), mark("all-in-one"), mark("handheld"), mark("appliance")),
    *(mark("vehicle"), mark("uefi"), mark("legacy"), mark("both"), mark("optical"), mark("soldered")),
    mark("emmc-module"),
)
_FORMS = ("", *_BAYS)
_BUSES = ("", "nvme", "sata", "pata", "emmc")


@dataclass(frozen=True, slots=True)
class Spec:
    """One field of a record. `unit` is None for words; `options` are its values; `many` for several of them."""

    key: str
    title: str
    unit: str | None = None
    options: tuple[str, ...] = ()
    many: bool = False
    whole: bool = False
    yes_no: bool = False


MACHINE = (
    Spec("make", mark("Make")),
    Spec("model", mark("Model")),
    Spec(
        "kind",
        mark("Kind"),
        options=("", "laptop", "convertible", "tower", "all-in-one", "handheld", "appliance", "vehicle"),
    ),
    Spec("firmware", mark("Firmware"), options=("", "uefi", "legacy", "both")),
    Spec("architecture", mark("Architecture")),
    Spec("known_to_work_max_gb", mark("Known to work up to"), "GB", whole=True),
    Spec("accepted_capacities_gb", mark("Accepts only"), "GB", many=True, whole=True),
)
BAY = (
    Spec("name", mark("Name")),
    Spec("kind", mark("Kind"), options=_BAYS),
    Spec("interfaces", mark("Speaks"), many=True),
    Spec("key", mark("Key"), options=("", "M", "B", "B+M")),
    Spec("lengths_mm", mark("Lengths"), "mm", many=True, whole=True),
    Spec("double_sided", mark("Room for two sides"), yes_no=True),
    Spec("clearance_above_mm", mark("Free above"), "mm"),
    Spec("clearance_below_mm", mark("Free below"), "mm"),
    Spec("thickness_mm", mark("Takes a thickness of"), "mm", many=True),
    Spec("caddy_mm", mark("Caddy"), "mm"),
    Spec("pcie_generation", mark("PCIe generation"), "", whole=True),
    Spec("pcie_lanes", mark("PCIe lanes"), "", whole=True),
    Spec("sata_gbit_s", mark("SATA"), "Gbit/s"),
    Spec("starts_system", mark("Starts the system"), yes_no=True),
    Spec("holds", mark("Holds")),
)
MEMORY = (
    Spec("slots", mark("Slots"), "", whole=True),
    Spec("soldered_gb", mark("Soldered"), "GB"),
    Spec("generation", mark("Generation")),
    Spec("form", mark("Form")),
    Spec("voltage_v", mark("Voltage"), "V"),
    Spec("speed_mt_s", mark("Speed"), "MT/s", whole=True),
    Spec("max_gb", mark("At most"), "GB"),
    Spec("max_per_slot_gb", mark("At most in a slot"), "GB"),
)
_PART = (
    Spec("id", mark("Id")),
    Spec("make", mark("Make")),
    Spec("model", mark("Model")),
    Spec("price", mark("Price")),
    Spec("currency", mark("Currency")),
    Spec("stock", mark("In stock"), "", whole=True),
    Spec("warranty_years", mark("Warranty"), "years"),
)
_DRIVE = (
    Spec("form", mark("Form"), options=_FORMS),
    Spec("interface", mark("Speaks"), options=_BUSES),
    Spec("capacity_gb", mark("Capacity"), "GB"),
    Spec("key", mark("Key"), options=("", "M", "B", "B+M")),
    Spec("length_mm", mark("Length"), "mm"),
    Spec("sides", mark("Sides with chips"), "", whole=True),
    Spec("height_above_mm", mark("Height above"), "mm"),
    Spec("height_below_mm", mark("Height below"), "mm"),
    Spec("thickness_mm", mark("Thickness"), "mm"),
    Spec("pcie_generation", mark("PCIe generation"), "", whole=True),
    Spec("pcie_lanes", mark("PCIe lanes"), "", whole=True),
    Spec("read_bytes_per_s", mark("Reads"), "bytes/s"),
    Spec("write_bytes_per_s", mark("Writes"), "bytes/s"),
    Spec("cache_bytes", mark("Write cache"), "bytes"),
    Spec("sustained_write_bytes_per_s", mark("Writes after its cache"), "bytes/s"),
    Spec("endurance_tbw", mark("Endurance"), "TB"),
)
_MODULE = (
    Spec("capacity_gb", mark("Capacity"), "GB"),
    Spec("generation", mark("Generation")),
    Spec("form", mark("Form")),
    Spec("voltage_v", mark("Voltage"), "V"),
    Spec("speed_mt_s", mark("Speed"), "MT/s"),
    Spec("ranks", mark("Ranks"), "", whole=True),
)
_OTHER = {
    "adapter": (Spec("from", mark("From")), Spec("to", mark("To"))),
    "caddy": (Spec("thickness_mm", mark("Thickness"), "mm"),),
    "pad": (Spec("height_mm", mark("Height"), "mm"),),
    "heat-spreader": (Spec("height_mm", mark("Height"), "mm"),),
    "stick": (Spec("capacity_gb", mark("Capacity"), "GB"),),
}


def part_specs(kind: str) -> tuple[Spec, ...]:
    """The fields of a part of that kind."""
    more = {"drive": _DRIVE, "memory": _MODULE}.get(kind) or _OTHER.get(kind, ())
    return (*_PART, *more)


def fields_for(specs: Sequence[Spec]) -> list[Field]:
    """Ready for a form; each brings its value as the record keeps it, None for nothing."""
    return [_field(spec) for spec in specs]


def _field(spec: Spec) -> Field:
    title = tr(spec.title)
    if spec.yes_no:
        return _YesNo(spec.key, title, (("", tr("not known")), ("yes", tr("yes")), ("no", tr("no"))))
    if spec.options:
        return _OneOf(spec.key, title, tuple((o, tr(o or "not known")) for o in spec.options))
    return TextField(spec.key, title, parse=lambda text: _parsed(text, spec), shown=_shown, unit=spec.unit or "")


def _parsed(text: str, spec: Spec) -> Any:
    if spec.unit is None:
        if spec.many:
            return [word for word in text.replace(",", " ").replace(";", " ").split() if word]
        return text.strip() or None
    if spec.many:
        found = [_number(amount, spec) for amount in parse_amounts(text, spec.unit)]
        return found or None
    amount = parse_amount(text, spec.unit)
    return None if amount is None else _number(amount, spec)


def _number(amount: float, spec: Spec) -> float | int:
    return int(amount) if spec.whole and amount == int(amount) else amount


def _shown(value: Any) -> str:
    if isinstance(value, list | tuple):
        return "; ".join(_shown(v) for v in value)
    if isinstance(value, int | float):
        return shown_amount(value)
    return str(value or "")


class _OneOf(ChoiceField):
    def value(self) -> Any:
        return self.raw() or None

    def show(self, value: Any) -> None:
        super().show(value or "")


class _YesNo(ChoiceField):
    def value(self) -> Any:
        return {"yes": True, "no": False}.get(self.raw())

    def show(self, value: Any) -> None:
        super().show({True: "yes", False: "no"}.get(value, ""))
