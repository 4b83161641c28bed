"""Layouts: disjoint, aligned, inside the drive, and the same again when asked again."""

from __future__ import annotations

import itertools
import time

import pytest
from hypothesis import given, settings
from hypothesis import strategies as st

from neogenesis.core.drive import Drive, Health
from neogenesis.core.errors import Refused
from neogenesis.core.extent import Extents
from neogenesis.core.plan import Plan, Policy, make_plan
from neogenesis.core.plan.fresh import Filling, make_fresh_plan
from neogenesis.core.plan.model import SystemImage, Target
from neogenesis.core.plan.recipe import RecipeWishes, recipes
from neogenesis.core.plan.solver import Share, solve
from neogenesis.core.survey import PartitionFacts, Survey, Surveyed
from neogenesis.core.survey.model import TableFacts, VolumeFacts
from neogenesis.core.units import GIB, MIB, nominal_bytes, round_up
from tests.drives import LINUX, NT_DATA, RECOVERY, RESERVED, STARTUP

ROLES = {
    "startup": (STARTUP, "vfat"),
    "reserved": (RESERVED, "none"),
    "system": (NT_DATA, "ntfs"),
    "data": (LINUX, "ext4"),
    "recovery": (RECOVERY, "ntfs"),
    "unknown": (LINUX, "luks"),
}
GUID = "00000000-0000-0000-0000-0000000000{:02X}"


def surveyed(parts: list[tuple[str, int, float]], size: int, sector: int = 512, **flags: bool) -> Surveyed:
    """Partitions as (role, MiB, how full), one after the other from 1 MiB on."""
    facts, allocations, at = [], {}, MIB
    for number, (role, mib, full) in enumerate(parts, 1):
        type_id, kind = ROLES[role]
        used = int(mib * MIB * full)
        understood = kind in ("ntfs", "ext4", "vfat")
        resizable = kind in ("ntfs", "ext4")
        facts.append(
            PartitionFacts(
                number=number,
                start_bytes=at,
                size_bytes=mib * MIB,
                type_id=type_id,
                role=role,
                unique_id=GUID.format(number),
                name=role,
                volume=VolumeFacts(
                    kind=kind,
                    size_bytes=mib * MIB,
                    label=role,
                    used_bytes=used if understood else mib * MIB,
                    understood=understood,
                    smallest_bytes=min(mib * MIB, round_up(used + MIB, MIB)) if resizable else mib * MIB,
                    encrypted=kind == "luks",
                    **flags,
                ),
            )
        )
        allocations[number] = Extents.of([(0, used)]) if understood else None
        at += mib * MIB
    drive = Drive(path="/old", size_bytes=size, sector_size=sector, serial="OLD1")
    table = TableFacts(kind="gpt", disk_id=GUID.format(99), problems=(), entry_count=128)
    survey = Survey(
        drive=drive, table=table, partitions=tuple(facts), findings=(), fingerprint="f", health=Health(verdict="sound")
    )
    return Surveyed(survey, allocations)


def target(size: int, sector: int = 512) -> Target:
    return Target(
        size_bytes=size,
        sector_size=sector,
        drive=Drive(path="/new", size_bytes=size, sector_size=sector, serial="NEW1"),
        table_mark="0" * 64,
    )


def new_ids():
    counter = itertools.count(100)
    return lambda: GUID.format(next(counter))


USUAL = [
    ("startup", 260, 0.1),
    ("reserved", 16, 0),
    ("system", 148 * 1024, 0.6),
    ("recovery", 810, 0.6),
    ("data", 317 * 1024, 0.3),
]


def check(plan: Plan, source: Surveyed, policy: Policy) -> None:
    layout = plan.layout
    at = 34 * layout.sector_size
    for p in layout.partitions:
        assert (
            p.start_bytes >= at
            and p.start_bytes % MIB == 0
            and p.size_bytes % layout.sector_size == 0
            and p.size_bytes > 0
        )
        at = p.end_bytes
        old = source.survey.partition(p.from_partition) if p.from_partition else None
        if old is not None:
            assert (p.type_id, p.name, p.role) == (old.type_id, old.name, old.role)
            assert p.size_bytes >= old.volume.smallest_bytes
            if (
                old.role in ("startup", "reserved", "recovery", "unknown")
                and p.number not in policy.sizes
                and policy.grow != p.number
            ):
                assert p.size_bytes == old.size_bytes
    assert at <= layout.size_bytes - 33 * layout.sector_size
    assert at <= layout.size_bytes - layout.size_bytes * policy.spare_percent // 100
    assert {p.from_partition for p in layout.partitions} - {None} == {p.number for p in source.survey.partitions} - set(
        plan.left_behind
    )


parts = st.lists(
    st.tuples(st.sampled_from(sorted(ROLES)), st.integers(1, 5000), st.floats(0, 1)), min_size=1, max_size=9
)


@given(
    parts,
    st.integers(1, 40_000),
    st.sampled_from([512, 4096]),
    st.sampled_from(["system", "share", "none"]),
    st.sampled_from([0, 7, 20]),
    st.sampled_from(["end", "stay", "leave"]),
    st.sampled_from([None, 64 * MIB, GIB + 1]),
)
@settings(max_examples=300, deadline=None)
def test_every_layout_is_sound_or_refused_with_figures(
    found: list, mib: int, sector: int, grow: str, spare: int, recovery: str, volume: int | None
) -> None:
    source = surveyed(found, 60_000 * MIB, sector)
    policy = Policy(grow=grow, spare_percent=spare, recovery=recovery, data_volume_bytes=volume)
    try:
        plan = make_plan(source, target(mib * MIB, sector), policy, new_ids())
    except Refused as error:
        assert error.code in ("too-small", "nothing-to-copy") or "partition" in error.text
        return
    check(plan, source, policy)
    assert make_plan(source, target(mib * MIB, sector), policy, new_ids()) == plan, "asked again, the same"


def test_larger_drive_gives_the_system_everything_and_recovery_the_end() -> None:
    source = surveyed(USUAL, nominal_bytes(500))
    plan = make_plan(source, target(nominal_bytes(1000)), Policy(), new_ids())
    by_role = {p.role: p for p in plan.layout.partitions}
    assert [p.role for p in plan.layout.partitions] == ["startup", "reserved", "system", "data", "recovery"]
    assert by_role["data"].size_bytes == 317 * GIB
    assert nominal_bytes(1000) - plan.layout.partitions[-1].end_bytes < 2 * MIB
    assert next(o.action for o in plan.operations if o.kind == "prepare") == "grow"
    assert [o.kind for o in plan.operations][-1] == "write-table"


def test_shortage_is_taken_where_there_is_free_space() -> None:
    source = surveyed(USUAL, nominal_bytes(500))
    plan = make_plan(source, target(nominal_bytes(250)), Policy(), new_ids())
    check(plan, source, Policy())
    actions = {o.partition: o.action for o in plan.operations if o.kind == "prepare"}
    assert actions[3] == "shrink" and actions[5] == "shrink"


def test_too_small_names_what_is_missing_and_who_could_give_it() -> None:
    source = surveyed(USUAL, nominal_bytes(500))
    with pytest.raises(Refused, match="missing") as caught:
        make_plan(source, target(nominal_bytes(120)), Policy(), new_ids())
    assert "system" in caught.value.text and "data" in caught.value.text and "--leave" in caught.value.remedy


@pytest.mark.parametrize(
    ("flag", "code"), [("encrypted", "encrypted"), ("hibernated", "hibernated"), ("dirty", "unclean")]
)
def test_states_close_the_gate_only_where_a_size_changes(flag: str, code: str) -> None:
    source = surveyed([("system", 400, 0.5)], GIB, **({flag: True} if flag != "encrypted" else {}))
    if flag == "encrypted":
        source = surveyed([("unknown", 400, 0.5)], GIB)
    plan = make_plan(source, target(2 * GIB), Policy(grow=1), new_ids())
    assert [g.code for g in plan.gates if not g.open] == [code]
    plan = make_plan(source, target(2 * GIB), Policy(grow="none"), new_ids())
    assert all(g.open for g in plan.gates)


def test_full_solid_state_drives_are_cautioned_and_stopped() -> None:
    source = surveyed([("system", 1000, 0.90)], 2 * GIB)
    plan = make_plan(source, target(1003 * MIB), Policy(), new_ids())
    assert "planned-full" in [f.code for f in plan.findings] and all(g.open for g in plan.gates)
    source = surveyed([("system", 1000, 0.985)], 2 * GIB)
    plan = make_plan(source, target(1003 * MIB), Policy(), new_ids())
    assert [g.code for g in plan.gates if not g.open] == ["fill"]


def test_fresh_identities_and_kept_ones() -> None:
    source = surveyed(USUAL, nominal_bytes(500))
    kept = make_plan(source, target(nominal_bytes(1000)), Policy(), new_ids())
    fresh = make_plan(source, target(nominal_bytes(1000)), Policy(identity="fresh"), new_ids())
    old = {p.unique_id for p in source.survey.partitions}
    assert {p.unique_id for p in kept.layout.partitions} == old and kept.layout.disk_id == source.survey.table.disk_id
    assert not {p.unique_id for p in fresh.layout.partitions} & old and fresh.layout.disk_id != kept.layout.disk_id


def test_asked_size_equal_to_the_old_one_stays() -> None:
    source = surveyed(USUAL, nominal_bytes(500))
    plan = make_plan(source, target(nominal_bytes(1000)), Policy(sizes={3: 148 * GIB}), new_ids())
    assert plan.layout.partition(3).size_bytes == 148 * GIB


@given(
    st.lists(st.tuples(st.integers(1, 60), st.integers(0, 60), st.integers(0, 5)), min_size=1, max_size=4),
    st.integers(1, 120),
)
@settings(deadline=None)
def test_solver_is_exact(raw: list[tuple[int, int, int]], room: int) -> None:
    """No other whole sizes cost less: compared with trying all of them."""
    shares = [Share(wanted, min(wanted, least), weight) for wanted, least, weight in raw]
    flexible = [s for s in shares if s.weight]
    fixed = sum(s.wanted for s in shares if not s.weight)
    sizes = solve(shares, room)
    if fixed + sum(s.least for s in flexible) > room:
        assert sizes is None
        return
    assert sizes is not None and all(n >= s.least for n, s in zip(sizes, shares, strict=True))
    assert all(n == s.wanted for n, s in zip(sizes, shares, strict=True) if not s.weight)
    if not flexible or len(flexible) > 2:
        return
    assert sum(sizes) == room

    def cost(values: list[int]) -> float:
        return sum((v - s.wanted) ** 2 / s.weight for v, s in zip(values, flexible, strict=True))

    left = room - fixed
    ours = [n for n, s in zip(sizes, shares, strict=True) if s.weight]
    every = [[left]] if len(flexible) == 1 else [[a, left - a] for a in range(left + 1)]
    best = min(cost(v) for v in every if all(x >= s.least for x, s in zip(v, flexible, strict=True)))
    assert cost(ours) <= best + 1e-9


def test_a_large_drive_is_solved_at_once() -> None:
    parts = [("data", 400_000, 0.3)] * 40
    source = surveyed(parts, 20_000 * GIB)
    started = time.perf_counter()
    make_plan(source, target(30_000 * GIB), Policy(grow="share"), new_ids())
    assert time.perf_counter() - started < 5


def test_the_time_of_a_filled_volume_says_which_way_it_is_filled() -> None:
    """Many small files take longer than few large ones, and longer still where nobody may mount."""
    recipe = next(one for one in recipes() if one.name == "linux-uefi")
    image = SystemImage(path="/s.tar.zst", digest="0" * 64, size_bytes=1, name="Fathom Linux")

    def plan(files: int, mounts: bool) -> Plan:
        filling = Filling(image, {"system": 325_000_000}, b"", b"", {"system": files}, mounts)
        return make_fresh_plan(recipe, RecipeWishes(), target(40 * GIB), new_ids(), filling)

    few, many, slow = plan(600, True), plan(32_000, True), plan(32_000, False)
    assert few.estimate.seconds_p50 + 10 < many.estimate.seconds_p50 < many.estimate.seconds_p90
    assert slow.estimate.seconds_p10 > many.estimate.seconds_p10 + 50 and slow.estimate.seconds_p50 > 250
    assert "32000 files" in slow.reasons[-1] and "may not mount" in slow.reasons[-1]
    assert many.reasons == few.reasons == plan(600, False).reasons
