"""Who stands upon which device: on a made-up /sys tree, since arrays and logical volumes cannot be made everywhere."""

from __future__ import annotations

from pathlib import Path

import pytest

from neogenesis.bench.drives.device import refuse_partition
from neogenesis.bench.drives.system import BlockSystem
from neogenesis.core.errors import Refused
from tests.drives import blank, run


class MadeUp:
    """A /sys and /proc tree of a bench: sda carries a PV on sda2, dm-0 is decrypted, dm-1 a volume upon it; md0 on two."""

    def __init__(self, root: Path) -> None:
        self.root = root
        for part in ("sys/dev/block", "sys/block", "sys/class/block", "sys/fs/btrfs", "proc/self"):
            (root / part).mkdir(parents=True)
        self.mounts: list[str] = []
        (root / "proc/swaps").write_text("Filename Type Size Used Priority\n")
        self.device("sda", "8:0")
        self.device("sda1", "8:1", "sda")
        self.device("sda2", "8:2", "sda")
        self.device("sdb", "8:16")
        self.device("sdb1", "8:17", "sdb")
        self.device("dm-0", "253:0")
        self.device("dm-1", "253:1")
        self.device("md0", "9:0")
        self.stack("dm-0", "sda2")
        self.stack("dm-1", "dm-0")
        self.tell()

    def place(self, name: str) -> Path:
        return next((self.root / "sys/devices").rglob(name))

    def device(self, name: str, number: str, parent: str = "") -> None:
        base = self.place(parent) if parent else self.root / "sys/devices"
        folder = base / name
        for part in ("holders", "slaves"):
            (folder / part).mkdir(parents=True)
        (folder / "dev").write_text(f"{number}\n")
        if parent:
            (folder / "partition").write_text("1\n")
        (self.root / "sys/dev/block" / number).symlink_to(folder)
        (self.root / "sys/class/block" / name).symlink_to(folder)

    def stack(self, upper: str, lower: str) -> None:
        (self.place(upper) / "slaves" / lower).symlink_to(self.place(lower))
        (self.place(lower) / "holders" / upper).symlink_to(self.place(upper))

    def mount(self, number: str, place: str, source: str) -> None:
        self.mounts.append(f"30 1 {number} / {place} rw - ext4 {source} rw")
        self.tell()

    def tell(self) -> None:
        (self.root / "proc/self/mountinfo").write_text("\n".join(self.mounts) + "\n")


@pytest.fixture
def bench(tmp_path: Path) -> MadeUp:
    return MadeUp(tmp_path)


def test_a_logical_volume_on_the_old_drive_is_the_old_drive(bench: MadeUp) -> None:
    system = BlockSystem(bench.root)
    assert system.below("253:1") == {"253:1", "253:0", "8:2", "8:0"}
    assert system.below("253:1") & system.below("8:0") and not system.below("253:1") & system.below("8:16")


def test_use_is_seen_through_every_level(bench: MadeUp) -> None:
    system = BlockSystem(bench.root)
    assert system.in_use(["8:16"]) == ""
    assert system.in_use(["8:0"]) == "part of dm-0"
    bench.mount("253:1", "/srv/old\\040files", "/dev/mapper/vg-root")
    assert system.in_use(["8:0"]) == "/srv/old files" == system.in_use(["8:2"])
    assert system.in_use(["8:1"]) == "" and system.in_use(["8:16"]) == ""


def test_a_file_system_with_a_number_of_its_own_is_seen_by_name_and_by_all_its_devices(bench: MadeUp) -> None:
    system = BlockSystem(bench.root)
    bench.mount("0:44", "/srv/pool", "/dev/sdb1")
    assert system.in_use(["8:16"]) == "/srv/pool"
    members = bench.root / "sys/fs/btrfs/some-uuid/devices"
    members.mkdir(parents=True)
    for name in ("sdb1", "md0"):
        (members / name).symlink_to(bench.place(name))
    assert system.in_use(["9:0"]) == "/srv/pool"


def test_swap_is_use_and_a_partition_is_no_drive(bench: MadeUp) -> None:
    system = BlockSystem(bench.root)
    (bench.root / "proc/swaps").write_text("Filename Type\n/dev/sdb1 partition 1 1 -2\n")
    assert system.in_use(["8:16"]) == "swap space"
    refuse_partition(system, "8:16", "/dev/sdb")
    with pytest.raises(Refused, match="partition"):
        refuse_partition(system, "8:17", "/dev/sdb1")


def test_a_loop_over_a_loop_leads_to_the_file(tmp_path: Path) -> None:
    image = blank(tmp_path / "i.img", 8)
    one = run("losetup", "--find", "--show", image).strip()
    other = run("losetup", "--find", "--show", one).strip()
    try:
        system = BlockSystem()
        numbers = [(Path("/sys/class/block") / Path(n).name / "dev").read_text().strip() for n in (one, other)]
        assert any(key.startswith("file ") for key in system.below(numbers[1]))
        assert set(system.above(numbers[0])) == set(numbers)
        assert set(system.loops_on(image.stat())) == {numbers[0]}
    finally:
        run("losetup", "--detach", other)
        run("losetup", "--detach", one)
