"""A drive's own readings turned into a verdict with reasons. Thresholds are in the judgement file."""

from __future__ import annotations

from collections.abc import Iterator
from typing import Any, Literal

from neogenesis.core.judgement import judgement
from neogenesis.core.record import Record, renews_older_records

#: From best to worst; `unknown` says nothing either way.
Verdict = Literal["unknown", "sound", "ageing", "copy-now", "lost-cause"]
#: Whether a drive was heard: only one that was asked by every way and gave no answer may be lost.
Status = Literal["answered", "not-permitted", "no-answer", "not-supported"]
_ORDER: tuple[Verdict, ...] = ("unknown", "sound", "ageing", "copy-now", "lost-cause")
#: Bits of an NVMe critical warning (NVM Express base specification, SMART / health log, byte 0).
_TOO_HOT = 0x02
_WARNINGS = {
    0x01: "its spare area is below its own threshold",
    0x04: "it is no longer reliable",
    0x08: "it takes no more writes",
    0x10: "the backup of its cache has failed",
    0x20: "its persistent memory has failed",
}


class Attribute(Record, frozen=True, kw_only=True):
    """One reading as the drive gives it. `value` and `threshold` are normalised, high is new; `raw` is a count."""

    number: int
    name: str
    value: int | None = None
    worst: int | None = None
    threshold: int | None = None
    raw: int | None = None
    failed: Literal["", "past", "now"] = ""


class HealthReading(Record, frozen=True, kw_only=True):
    """What a drive says of itself; None where it says nothing. Hours, percent, bytes and degrees Celsius.

    `answers`: False when it could not be identified at all; `status` is not `answered` where it could not be asked, and
    `silence` says why, as a clause. `limit_c` is the drive's own limit. `critical_warning`: bits as NVMe drives give
    them, True for a warning of unknown kind. `self_assessment`: whether it calls itself healthy. `reallocation_events`
    are attempts, `path_errors` faults between its cache and its interface, `flash_faults` blocks that could not be
    written or erased. `cable_errors` are no fault of the drive. `attributes` are all that it gave.
    """

    temperature_c: float | None = None
    limit_c: float | None = None
    kind: Literal["", "mechanical", "sata", "module"] = ""
    reallocated_sectors: int = 0
    pending_sectors: int = 0
    uncorrectable_sectors: int = 0
    reported_errors: int = 0
    media_errors: int = 0
    reallocation_events: int = 0
    path_errors: int = 0
    flash_faults: int = 0
    spare_percent: float | None = None
    spare_threshold_percent: float | None = None
    wear_percent: float | None = None
    critical_warning: bool | int = False
    power_on_hours: int | None = None
    self_assessment: bool | None = None
    failed_self_tests: int = 0
    cable_errors: int = 0
    spin_retries: int = 0
    written_bytes: int | None = None
    answers: bool = True
    status: Status = "answered"
    silence: str = ""
    attributes: tuple[Attribute, ...] = ()
    model: str = ""
    serial: str = ""


class Reason(Record, frozen=True, kw_only=True):
    """Why, as a clause that can follow a colon; the reading it comes from, and what it was compared with."""

    code: str
    text: str
    attribute: str = ""
    value: float | None = None
    threshold: float | None = None


class Health(Record, frozen=True, kw_only=True):
    """The answer of `neogenesis health`. `image_first`: read it once, gently, and decide from the image."""

    schema: str = "neogenesis.health/1"
    verdict: Verdict
    status: Status = "answered"
    reasons: tuple[Reason, ...] = ()
    image_first: bool = False
    temperature_c: float | None = None
    hours: int | None = None
    remaining_percent: float | None = None

    @property
    def why(self) -> str:
        """All reasons in one line."""
        return "; ".join(reason.text for reason in self.reasons)

    @property
    def only_beside(self) -> bool:
        """Whether all that was found is no fault of the drive: heat, the cable. Nothing is sold for that."""
        return all(reason.code in ("hot", "cable") for reason in self.reasons)

    @property
    def is_failing(self) -> bool:
        return self.verdict in ("copy-now", "lost-cause")


_OLDER_VERDICTS = {"watch": "ageing", "failing": "copy-now"}


@renews_older_records
def _renew_health(raw: Any) -> bool:
    """Surveys once had other verdicts, and reasons that were plain text; they stand in plans and manifests as well."""
    changed = False
    if isinstance(raw, dict):
        health = raw.get("health")
        if isinstance(health, dict) and isinstance(health.get("reasons"), list):
            health["verdict"] = _OLDER_VERDICTS.get(health.get("verdict", ""), health.get("verdict"))
            reasons = health["reasons"]
            health["reasons"] = [{"code": "earlier", "text": r} if isinstance(r, str) else r for r in reasons]
            health["image_first"] = health["verdict"] == "copy-now"
            changed = True
        changed |= bool(sum(map(_renew_health, raw.values())))
    return changed


def judge(reading: HealthReading | None) -> Health:
    """Any damaged place, or a drive that fails itself: image first and do not keep testing."""
    if reading is None:
        none = Reason(code="no-readings", text="the drive gives no readings here")
        return Health(verdict="unknown", status="not-supported", reasons=(none,))
    if not reading.answers:
        gone = Reason(code="no-answer", text="the drive no longer says who it is")
        return Health(verdict="lost-cause", status="no-answer", reasons=(gone,), image_first=True)
    if reading.status != "answered":
        text = reading.silence or "the drive gives no readings here"
        code = "not-permitted" if reading.status == "not-permitted" else "no-readings"
        return Health(verdict="unknown", status=reading.status, reasons=(Reason(code=code, text=text),))
    found = [*_damage(reading), *_age(reading), *_beside(reading)]
    verdict = _ORDER[max((_ORDER.index(verdict) for verdict, _ in found), default=_ORDER.index("sound"))]
    return Health(
        verdict=verdict,
        reasons=tuple(reason for _, reason in found),
        image_first=verdict in ("copy-now", "lost-cause"),
        temperature_c=reading.temperature_c,
        hours=reading.power_on_hours,
        remaining_percent=None if reading.wear_percent is None else max(0.0, 100.0 - reading.wear_percent),
    )


def _damage(reading: HealthReading) -> Iterator[tuple[Verdict, Reason]]:
    """Faults of reading and of the drive itself."""
    for code, count, one, many in (
        ("reallocated", reading.reallocated_sectors, "reallocated sector", "reallocated sectors"),
        ("pending", reading.pending_sectors, "sector waiting to be reallocated", "sectors waiting to be reallocated"),
        ("uncorrectable", reading.uncorrectable_sectors, "uncorrectable sector", "uncorrectable sectors"),
        ("reported-errors", reading.reported_errors, "read that could not be mended", "reads that could not be mended"),
        ("media-errors", reading.media_errors, "media error", "media errors"),
        ("events", reading.reallocation_events, "attempt to reallocate a sector", "attempts to reallocate sectors"),
        ("path", reading.path_errors, "error inside the drive itself", "errors inside the drive itself"),
        ("self-test", reading.failed_self_tests, "failed self-test in its log", "failed self-tests in its log"),
    ):
        if count and not (code == "events" and reading.reallocated_sectors):  # the same, told twice
            text = f"{count:,} {one if count == 1 else many}"
            yield "copy-now", Reason(code=code, text=text, attribute=code, value=count, threshold=0)
    bits = int(reading.critical_warning)
    if reading.critical_warning is True:
        yield "copy-now", Reason(code="warning", text="the drive itself warns", attribute="critical-warning", value=1)
    else:
        for bit, text in _WARNINGS.items():
            if bits & bit:
                code = "spare" if bit == 0x01 else "warning"
                yield "copy-now", Reason(code=code, text=text, attribute="critical-warning", value=bits)
    if reading.self_assessment is False:
        yield "copy-now", Reason(code="self-assessment", text="the drive calls itself failing")
    least = judgement().least_spare_percent
    threshold = least if reading.spare_threshold_percent is None else reading.spare_threshold_percent
    is_told = bool(reading.spare_percent or threshold)  # 0 of 0: a drive that does not count its spare
    if reading.spare_percent is not None and reading.spare_percent <= threshold and is_told:
        text = f"only {reading.spare_percent:.0f} % of its spare area is left"
        yield (
            "copy-now",
            Reason(code="spare", text=text, attribute="spare", value=reading.spare_percent, threshold=threshold),
        )
    wear = reading.wear_percent
    spent, overspent = judgement().spent_percent, judgement().overspent_percent
    spare_known = reading.spare_percent is not None and is_told
    if wear is not None and (wear >= overspent or (wear >= spent and not spare_known)):
        text = f"{wear:.0f} % of its rated writes are used up"
        if wear < overspent:
            text = f"{wear:.0f} % of its rated writes are used up, and it does not say how much spare it has left"
        yield "copy-now", Reason(code="worn", text=text, attribute="wear", value=wear, threshold=spent)
    for now in (a for a in reading.attributes if a.failed == "now"):
        text = f"{now.name} is below the maker's own threshold"
        reason = Reason(code="failing-now", text=text, attribute=now.name, value=now.value, threshold=now.threshold)
        yield "copy-now", reason


def _age(reading: HealthReading) -> Iterator[tuple[Verdict, Reason]]:
    """What is no fault yet."""
    numbers = judgement()
    celsius, hours, wear = reading.temperature_c, reading.power_on_hours, reading.wear_percent
    limit = _hot_from(reading)
    if celsius is not None and (celsius > limit or celsius == reading.limit_c):
        text = f"{celsius:.0f} °C is hot; look again when it is cool"
        yield "ageing", Reason(code="hot", text=text, attribute="temperature", value=celsius, threshold=limit)
    elif reading.critical_warning is not True and int(reading.critical_warning) & _TOO_HOT:
        yield "ageing", Reason(code="hot", text="it warns of heat; look again when it is cool", attribute="temperature")
    is_told = reading.spare_percent is not None and bool(reading.spare_percent or reading.spare_threshold_percent)
    if wear is not None and numbers.worn_percent <= wear < (
        numbers.overspent_percent if is_told else numbers.spent_percent
    ):
        text = f"{wear:.0f} % of its rated writes are used up"
        if wear >= numbers.spent_percent:
            text = f"{wear:.0f} % of its rated writes are used up: plan it away"
        yield "ageing", Reason(code="worn", text=text, attribute="wear", value=wear, threshold=numbers.worn_percent)
    if hours is not None and hours >= numbers.old_hours:
        text = f"it has run for {hours:,} hours"
        yield "ageing", Reason(code="old", text=text, attribute="hours", value=hours, threshold=numbers.old_hours)
    if reading.spin_retries:
        text = f"it needed {reading.spin_retries:,} more tries to spin up"
        yield "ageing", Reason(code="spin-retries", text=text, attribute="spin-retries", value=reading.spin_retries)
    if reading.flash_faults:
        text = f"{reading.flash_faults:,} blocks of its flash could not be written or erased"
        yield "ageing", Reason(code="flash-faults", text=text, attribute="flash-faults", value=reading.flash_faults)
    for one in reading.attributes:
        if one.failed == "past":
            text = f"{one.name} was once below the maker's threshold"
            yield (
                "ageing",
                Reason(code="failed-before", text=text, attribute=one.name, value=one.worst, threshold=one.threshold),
            )


def _hot_from(reading: HealthReading) -> float:
    """The drive's own limit counts; without one, that of its kind."""
    numbers = judgement()
    if reading.limit_c is not None:
        return reading.limit_c
    own = {"mechanical": numbers.hot_mechanical_celsius, "module": numbers.hot_module_celsius}
    return own.get(reading.kind, numbers.hot_celsius)


def _beside(reading: HealthReading) -> Iterator[tuple[Verdict, Reason]]:
    """What is worth knowing and no fault of the drive."""
    if reading.cable_errors:
        text = (
            f"{reading.cable_errors:,} errors on the way to the computer: try another cable or dock, not another drive"
        )
        yield "sound", Reason(code="cable", text=text, attribute="cable-errors", value=reading.cable_errors)
