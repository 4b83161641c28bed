"""From a kernel to its system: what a line of options means, and what the system wants to mount."""

from __future__ import annotations

from pathlib import Path

import pytest
from hypothesis import given, settings
from hypothesis import strategies as st

from neogenesis.bench.inside.booting import forecast_drives
from neogenesis.core.boot.answer import Forecast
from neogenesis.core.boot.entry_files import compare_versions
from neogenesis.core.boot.root import read_mounts
from tests.boots import BY_FILE, loader, startup
from tests.drives import LINUX, SWAP, Part, make_drive, place, run, spans, table_of
from tests.test_boot import FALLBACK, volume_id, with_startup
from tests.test_remedies_harm import GONE, linux, volume_of

#: As much of a kernel as its loader looks at: the mark and the header of the boot protocol.
KERNEL = bytes(0x1FE) + b"\x55\xaa" + bytes(2) + b"HdrS" + bytes(4096)


def started(
    folder: Path, options: str, fstab: str = "", more: tuple[Part, ...] = (), lines: str = "initrd /initrd.img\n"
) -> Forecast:
    menu = f'set timeout=0\nmenuentry "F" {{\nlinux /vmlinuz {options}\n{lines}}}\n'
    files = {"vmlinuz": KERNEL, "initrd.img": b"i" * 2000, "etc/fstab": fstab.encode()}
    return forecast_drives([str(linux(folder, menu, files, more))], None)


@pytest.mark.parametrize(
    ("options", "starts", "breaks_at"),
    [
        ("root=LABEL=root", True, None),
        ("root=LABEL=gone", False, "system"),
        (f"root=UUID={GONE}", False, "system"),
        (f"root=PARTUUID={GONE}", False, "system"),
        ("root=PARTLABEL=gone", False, "system"),
        ("root=/dev/sda2", True, None),
        ("root=/dev/nvme0n1p2", True, None),
        ("root=/dev/sda9", False, "system"),
        ("root=/dev/sdz2", False, "system"),
        ("root=/dev/mapper/gone-root", False, "system"),
        (f"root=/dev/disk/by-uuid/{GONE}", False, "system"),
        ("root=/dev/disk/by-label/root", True, None),
        ("root=/dev/nfs", None, None),
        ("root=ZFS=pool/root", None, None),
        ("quiet", True, None),
    ],
)
def test_every_kind_of_root_is_looked_for(
    tmp_path: Path, options: str, starts: bool | None, breaks_at: str | None
) -> None:
    found = started(tmp_path / "r", options)
    assert (found.starts, found.breaks_at) == (starts, breaks_at), found.chain


def test_behind_a_layer_it_is_left_open(tmp_path: Path) -> None:
    locked = Part(20, LINUX, "luks", "")
    found = started(tmp_path / "l", "root=/dev/mapper/vault", more=(locked,))
    assert found.starts is None and found.certainty == "guessed"


def test_swap_is_no_system(tmp_path: Path) -> None:
    found = started(tmp_path / "s", "root=LABEL=swap", more=(Part(8, SWAP, "swap", "swap"),))
    assert found.breaks_at == "system" and "holds no files" in found.chain[-1].text


def test_a_ramdisk_that_is_gone_and_a_kernel_that_is_none(tmp_path: Path) -> None:
    assert started(tmp_path / "a", "root=LABEL=root", lines="initrd /gone\n").breaks_at == "initrd"
    bare = started(tmp_path / "b", "root=LABEL=root", lines="")
    assert bare.starts and "no-ramdisk" in {f.code for f in bare.findings}
    menu = 'set timeout=0\nmenuentry "F" {\nlinux /vmlinuz root=LABEL=root\n}\n'
    other = forecast_drives([str(linux(tmp_path / "c", menu, {"vmlinuz": b"text" * 3000}))], None)
    assert other.starts is None and any("does not look like a kernel" in link.text for link in other.chain)


def test_what_fstab_wants_and_nobody_has_ends_the_start(tmp_path: Path) -> None:
    kept = f"LABEL=root / ext4 defaults 0 1\nUUID={GONE} /srv ext4 nofail 0 2\nUUID={GONE} none swap sw 0 0\n"
    found = started(tmp_path / "a", "root=LABEL=root", kept + "proc /proc proc defaults 0 0\n")
    assert found.starts and [f.severity for f in found.findings if f.code == "mount-gone"] == ["note", "note"]
    found = started(
        tmp_path / "b", "root=LABEL=root", f"LABEL=root / ext4 x 0 1\nUUID={GONE} /home ext4 defaults 0 2\n"
    )
    assert found.breaks_at == "mounts" and "emergency shell" in found.chain[-1].text
    resumes = started(tmp_path / "c", f"root=LABEL=root resume=UUID={GONE}")
    assert resumes.starts and "resume-gone" in {f.code for f in resumes.findings}


def test_links_to_the_kernel_are_followed(tmp_path: Path) -> None:
    menu = 'set timeout=0\nmenuentry "F" {\nlinux /vmlinuz root=LABEL=root\ninitrd /boot/initrd.img\n}\n'
    files = {"boot/vmlinuz-6.1": KERNEL, "lib/boot/initrd": b"i" * 100}
    one = linux(tmp_path / "k", menu, files)
    volume = volume_of(one, 1)
    for name, target in (("vmlinuz", "boot/vmlinuz-6.1"), ("boot/initrd.img", "/lib/boot/initrd"), ("loop", "loop")):
        run("debugfs", "-w", "-R", f"symlink {name} {target}", volume)
    place(one, volume, spans(one)[1][0])
    assert forecast_drives([str(one)], None).starts
    data = one.read_bytes().replace(b"linux /vmlinuz root", b"linux /loop    root")
    one.write_bytes(data)
    assert forecast_drives([str(one)], None).breaks_at == "kernel"


def test_boot_on_a_volume_of_its_own(tmp_path: Path) -> None:
    """The loader reads its menu, kernel and ramdisk there; the system stands on another volume."""
    boot = Part(16, LINUX, "ext4", "boot", {"vmlinuz-6": KERNEL, "initrd.img-6": b"i" * 500})
    menu = 'set timeout=0\nmenuentry "F" {\nlinux /vmlinuz-6 root=LABEL=root ro\ninitrd /initrd.img-6\n}\n'
    fstab = b"LABEL=root / ext4 defaults 0 1\nLABEL=boot /boot ext4 defaults 0 2\n"
    boot.files["grub/grub.cfg"] = menu.encode()
    one = make_drive(
        tmp_path / "one.img", 80, [startup({}), boot, Part(20, LINUX, "ext4", "root", {"etc/fstab": fstab})]
    )
    first = f"search.fs_uuid {volume_id(one, 2)} root\nset prefix=($root)/grub\nconfigfile $prefix/grub.cfg\n"
    with_startup(one, {FALLBACK: loader(), "EFI/x/grub.cfg": first.encode()})
    found = forecast_drives([str(one)], None)
    assert found.starts and [link.partition for link in found.chain if link.step in ("kernel", "system")] == [2, 3]


def test_a_btrfs_root_is_found_and_its_mounts_are_not_read(tmp_path: Path) -> None:
    more = (Part(120, LINUX, "btrfs", "pool"),)
    menu = 'set timeout=0\nmenuentry "F" {\nlinux /vmlinuz root=LABEL=pool rootflags=subvol=@\ninitrd /initrd.img\n}\n'
    held = {"vmlinuz": KERNEL, "initrd.img": b"i" * 500, "boot/grub/grub.cfg": menu.encode()}
    one = make_drive(tmp_path / "one.img", 200, [startup({}), Part(24, LINUX, "ext4", "boot", held), *more])
    first = f"search.fs_uuid {volume_id(one, 2)} root\nset prefix=($root)/boot/grub\nconfigfile $prefix/grub.cfg\n"
    with_startup(one, {FALLBACK: loader(), "EFI/x/grub.cfg": first.encode()})
    found = forecast_drives([str(one)], None)
    assert found.starts and found.chain[-1].partition == 3


def test_consoles_and_entries_of_another_system(tmp_path: Path) -> None:
    """Serial lines change nothing; an entry that hands on to another loader is followed."""
    menu = (
        "serial --unit=0 --speed=115200\nterminal_input serial console\nterminal_output serial console\n"
        'set timeout=0\nset default=osprober-x\nmenuentry "F" {\nlinux /vmlinuz root=LABEL=root\n}\n'
        'menuentry "Other" --class os $menuentry_id_option osprober-x {\ninsmod part_gpt\ninsmod fat\n'
        "search --no-floppy --label --set=root START\nchainloader /EFI/other/loader.efi\n}\n"
    )
    one = linux(tmp_path / "o", f"menuentry_id_option=--id\n{menu}", {"vmlinuz": KERNEL})
    first = f"search.fs_uuid {volume_id(one, 2)} root\nset prefix=($root)/boot/grub\nconfigfile $prefix/grub.cfg\n"
    held = {FALLBACK: loader(), "EFI/x/grub.cfg": first.encode(), "EFI/other/loader.efi": loader(BY_FILE)}
    found = forecast_drives([str(with_startup(one, held))], None)
    assert (
        found.starts
        and [link.text for link in found.chain if link.step == "loader"][-1] == "Starts /EFI/other/loader.efi"
    )


def generated(folder: Path, env: str = "", gone: tuple[str, ...] = ()) -> Forecast:
    """A menu as the distribution's own generator makes it, with two kernels, and the environment that it reads."""
    text = (Path(__file__).with_name("data") / "generated-menu.cfg").read_text()
    uuid = "12345678-1234-1234-1234-123456789abc"
    files = {f"boot/vmlinuz-6.1.0-{n}-amd64": KERNEL for n in (9, 10)}
    files |= {f"boot/initrd.img-6.1.0-{n}-amd64": b"i" * 500 for n in (9, 10)}
    files = {name: data for name, data in files.items() if name not in gone}
    if env:
        files["boot/grub/grubenv"] = f"# GRUB Environment Block\n{env}\n".encode().ljust(1024, b"#")
    one = linux(folder, text.replace("@@UUID@@", uuid), files)
    volume = volume_of(one, 1)
    run("tune2fs", "-f", "-U", uuid, volume)
    place(one, volume, spans(one)[1][0])
    data = one.read_bytes()
    old = next(line for line in data.split(b"\n") if b"search.fs_uuid " in line).split()[-2]
    one.write_bytes(data.replace(b"search.fs_uuid " + old, b"search.fs_uuid " + uuid.encode()))
    return forecast_drives([str(one)], None)


def test_a_generated_menu_is_followed_to_its_system(tmp_path: Path) -> None:
    found = generated(tmp_path / "g")
    assert found.starts, found.chain
    assert "vmlinuz-6.1.0-10" in next(link.text for link in found.chain if link.step == "kernel")
    title = "gnulinux-advanced-12345678-1234-1234-1234-123456789abc"
    older = f"{title}>gnulinux-6.1.0-9-amd64-advanced-12345678-1234-1234-1234-123456789abc"
    found = generated(tmp_path / "n", f"next_entry={older}")
    assert found.starts and "vmlinuz-6.1.0-9" in next(link.text for link in found.chain if link.step == "kernel")
    found = generated(tmp_path / "k", gone=("boot/vmlinuz-6.1.0-10-amd64",))
    assert found.breaks_at == "kernel"
    found = generated(tmp_path / "i", gone=("boot/initrd.img-6.1.0-10-amd64",))
    assert found.breaks_at == "initrd"


def test_a_partition_of_an_old_table_has_a_name_too(tmp_path: Path) -> None:
    one = linux(tmp_path / "p", "")
    assert table_of(one)["label"] == "gpt" and volume_id(one, 2)
    mounts = read_mounts("# x\nUUID=a\\040b /mnt/my\\040disk ext4 ro,nofail 0 0\n/dev/sr0 /cd auto noauto\nshort\n")
    assert [(m.point, m.may_be_absent) for m in mounts] == [("/mnt/my disk", True), ("/cd", True)]


@pytest.mark.parametrize(
    ("older", "newer"),
    [("6.9", "6.10"), ("1~rc1", "1"), ("1", "1.1"), ("1-2", "1-10"), ("a", "b"), ("1.0", "1.0a"), ("abc-9", "abc-10")],
)
def test_versions_are_compared_as_the_specification_says(older: str, newer: str) -> None:
    assert compare_versions(older, newer) < 0 < compare_versions(newer, older)
    assert compare_versions(older, older) == 0


@settings(max_examples=200, deadline=None)
@given(st.text("019.-~^ab_", max_size=12), st.text("019.-~^ab_", max_size=12))
def test_comparing_versions_is_the_same_from_both_sides(one: str, other: str) -> None:
    forth, back = compare_versions(one, other), compare_versions(other, one)
    assert (forth > 0) == (back < 0) and (forth == 0) == (back == 0)
