"""What returns to people on a clean system: where each file goes, whose it becomes, and what is left, by name."""

from __future__ import annotations

import json
import os
import struct
import tarfile
from collections.abc import Iterator
from contextlib import contextmanager
from pathlib import Path
from typing import Any

import pytest
from blake3 import blake3

from neogenesis.bench.works.planning import load_plan
from neogenesis.core.job import Job
from neogenesis.core.job.report import report_from_records
from neogenesis.core.reinstall.giving import Destination, Reading, give_back, kind_of_file
from neogenesis.core.reinstall.names import is_too_long, name_key, nameable
from neogenesis.core.reinstall.persons import accounts_in, mapped
from neogenesis.core.reinstall.places import belongs, uses_of_volumes
from neogenesis.core.reinstall.returned import BackWish, GivingBack, Held, Standing
from neogenesis.core.system import FileMarks
from neogenesis.core.transfer import RunFiles
from tests.drives import LINUX, NT_DATA, Part, blank, make_drive, make_volume, place, run, spans, table_of
from tests.systems import entry, system_image

NOTHING = Reading(lambda held: b"words")


def held(path: str, data: bytes = b"words", **more: Any) -> Held:
    return Held(stored=path, path=path, size_bytes=len(data), blake3=blake3(data).hexdigest(), **more)


def places(found: GivingBack) -> list[str]:
    return [one.place for one in found.files]


def stands(place: str, data: bytes = b"words", modified_s: float = 5.0) -> Standing:
    return Standing(
        place=place,
        is_folder=False,
        size_bytes=len(data),
        digest=f"blake3:{blake3(data).hexdigest()}",
        modified_s=modified_s,
    )


# Where


def test_folders_that_the_new_system_takes_for_one_are_one_and_on_linux_nothing_is_renamed() -> None:
    files = [held("Users/anna/Fotos/a"), held("users/anna/fotos/b"), held("USERS/Anna/FOTOS/c")]
    assert places(give_back(files, NOTHING, Destination("nt"))) == [
        "Users/anna/Fotos/a",
        "Users/anna/Fotos/b",
        "Users/anna/Fotos/c",
    ]
    makefiles = [
        held("home/anna/Makefile"),
        held("home/anna/makefile"),
        held("home/anna/straße"),
        held("home/anna/STRASSE"),
    ]
    kept = give_back(makefiles, NOTHING, Destination("linux"))
    assert places(kept) == [one.path for one in makefiles] and not any(one.renamed for one in kept.files)
    nt = give_back(makefiles, NOTHING, Destination("nt"))
    assert places(nt)[1:] == ["Users/anna/makefile (2)", "Users/anna/straße", "Users/anna/STRASSE"]


def test_names_by_the_rule_of_the_new_system() -> None:
    assert name_key("Ärger", "nt") == name_key("ÄRGER", "nt") != name_key("Arger", "nt")
    assert name_key("ß", "nt") != name_key("ss", "nt") and name_key("a", "linux") != name_key("A", "linux")
    assert [nameable(n, "nt") for n in ("aux.h", "com1 ", "a. ", "a:b", "...")] == ["_aux.h", "_com1", "a", "a_b", "_"]
    assert [nameable(n, "linux") for n in ("aux.h", "a. ", "a:b")] == ["aux.h", "a. ", "a:b"]
    assert nameable("a\udcff", "linux") == "a_"
    long = "Users/anna/" + "/".join(["folder"] * 40)
    assert is_too_long(long, "nt") and not is_too_long(long, "linux") and not is_too_long("Users/anna/a", "nt")
    found = give_back([held(f"{long}/a.txt")], NOTHING, Destination("nt"))
    assert places(found) == [f"{long}/a.txt"] and found.not_kept[0].files == 1 and "longer" in found.not_kept[0].what


def test_two_folders_whose_names_cannot_be_held_stay_two() -> None:
    found = give_back([held("home/anna/a?/x"), held("home/anna/a*/x")], NOTHING, Destination("nt"))
    assert places(found) == ["Users/anna/a_/x", "Users/anna/a_ (2)/x"] and all(one.renamed for one in found.files)


def test_a_file_and_a_folder_for_one_place_both_return() -> None:
    files = [held("Backup", volume="1"), held("Backup/photo.jpg", volume="2"), held("Backup/more/b", volume="2")]
    found = give_back(files, NOTHING, Destination("linux"))
    top = "home/shared/Returned"
    assert places(found) == [f"{top}/Backup", f"{top}/Backup (2)/photo.jpg", f"{top}/Backup (2)/more/b"]


def test_what_the_image_holds_already_is_there_or_both_stay_as_was_chosen() -> None:
    nt = Destination("nt", standing=(stands("Users/Public/Desktop/desktop.ini"), stands("Users/Public/x.ini")))
    files = [
        held("users/public/desktop/DESKTOP.INI", modified_s=9.0),
        held("Users/Public/x.ini", b"other", modified_s=9.0),
        held("Users/Public/X.ini", b"third", modified_s=1.0),
    ]
    both = give_back(files, NOTHING, nt)
    assert both.there_already == ("Users/Public/Desktop/desktop.ini",)
    assert places(both) == ["Users/Public/x (2).ini", "Users/Public/X (3).ini"] and both.files[0].second
    keep = give_back(files, NOTHING, nt, BackWish(same="keep"))
    assert (
        not keep.files
        and [one.why for one in keep.left_out] == ["The new system has a file of that name, which is kept."] * 2
    )
    newer = give_back(files, NOTHING, nt, BackWish(same="newer"))
    assert [(f.place, f.replaces, f.stored) for f in newer.files] == [
        ("Users/Public/x.ini", True, "Users/Public/x.ini")
    ]
    assert [one.path for one in newer.left_out] == ["Users/Public/X.ini"]
    # What differs only in size, and what cannot be read whole, is not there already.
    unread = Reading(lambda held: b"words", lambda held, way: None)
    assert len(give_back(files[:1], unread, nt).files) == 1
    empty = Destination("nt", standing=(Standing(place="Users/a/b", is_folder=False),))
    assert give_back([held("Users/a/b", b"")], NOTHING, empty).there_already == ("Users/a/b",)
    over = Destination("nt", standing=(Standing(place="Users/a/b", is_folder=True),))
    assert places(give_back([held("Users/a/b", b"")], NOTHING, over)) == ["Users/a/b (2)"]


def test_what_is_the_systems_is_judged_by_the_volume() -> None:
    """The same names on a disk of projects, on a system's volume, and on one for starting."""
    of_projects = ["dev/main.c", "var/mail/anna", "Recovery/keys.txt", "boot/plans.txt", "opt/x", "etc/notes.txt"]
    for path in of_projects:
        assert belongs(path, "linux").parts == ("home", "shared", "Returned", *path.split("/"))
    uses = uses_of_volumes([("1", "etc/passwd"), ("2", "Windows/System32/x"), ("3", "dev/a"), ("4", "grub/grub.cfg")])
    uses |= uses_of_volumes(
        [("5", "anna/.bashrc"), ("5", "anna/a"), ("6", "EFI/BOOT/BOOTX64.EFI"), ("6", "Fotos/a.jpg")]
    )
    assert {name: one.use for name, one in uses.items()} == {
        "1": "linux",
        "2": "nt",
        "4": "startup",
        "5": "data",
        "6": "startup",
    }
    assert uses["5"].homes == {"anna"} and not uses["1"].homes
    linux, nt, startup = uses["1"], uses["2"], uses["4"]
    for path in ("dev/main.c", "etc/x", "boot/vmlinuz", "usr/bin/a"):
        assert not belongs(path, "linux", linux).parts
    assert not belongs("Recovery/x", "nt", nt).parts and not belongs("vmlinuz-6.1", "nt", startup).parts
    assert belongs("Fotos/a.jpg", "nt", startup).parts and not belongs("EFI/BOOT/a", "nt").parts
    assert belongs("var/mail/anna", "linux", linux).parts == ("home", "anna", "Returned", "Mail", "anna")
    assert belongs("anna/a.txt", "nt", uses["5"]).parts == ("Users", "anna", "a.txt")
    assert belongs("Fotos/a.txt", "nt", uses["5"]).parts == ("Users", "Public", "Returned", "Fotos", "a.txt")
    assert belongs("home/note.txt", "linux").parts == ("home", "shared", "Returned", "home", "note.txt")
    assert not belongs("Users/desktop.ini", "nt").parts and not belongs("Users", "nt", is_folder=True).parts
    assert belongs("Users/anna", "nt", is_folder=True).parts == ("Users", "anna")
    assert belongs("Users/Public/a", "linux").parts == ("home", "shared", "Returned", "Public", "a")


def test_text_that_begins_as_a_program_does_is_text() -> None:
    assert kind_of_file("MZ list.txt", b"MZ 2024: mileage list\n") == "documents"
    assert kind_of_file("notes", b"MZ 2024") == "other"
    assert kind_of_file("holiday.jpg", b"MZ hidden") == "programs", "no picture begins so"
    assert kind_of_file("notes.txt", b"MZ\x90\0\3\0") == "programs" and kind_of_file("notes.txt", b"MZ") == "programs"


# Whose


def test_old_homes_become_those_of_the_people_of_the_new_system() -> None:
    accounts = accounts_in(
        b"root:x:0:0::/root:/bin/sh\nanna:x:1000:1000:Anna,,,:/home/anna:/bin/sh\nbroken\n"
        b"bert:x:1002:100::/home/bert:/bin/sh\nnobody:x:65534:65534::/nonexistent:/bin/false\n"
    )
    assert [(one.name, one.user, one.group) for one in accounts] == [("anna", 1000, 1000), ("bert", 1002, 100)]
    old = {"Anna": 1001, "bert": None, "carl": 1000, "dora": 1005, "emil": None}
    found = mapped(old, accounts, {})
    assert {key: (one.new, one.user, one.there) for key, one in found.items()} == {
        "anna": ("anna", 1000, True),
        "bert": ("bert", 1002, True),
        "carl": ("carl", 1001, False),  # 1000 is Anna's there
        "dora": ("dora", 1005, False),
        "emil": ("emil", 1003, False),
    }
    wished = mapped({"anna": 1000, "bert": 1001}, accounts, {"ANNA": "bert", "bert": ""})
    assert wished["anna"].new == "bert" and wished["anna"].user == 1002 and wished["bert"].new == ""
    alone = mapped({"zoe": 1001, "adam": None, "old": 0}, (), {})
    assert (alone["zoe"].user == 1001 and alone["adam"].user == 1002) or alone["adam"].user == 1000
    assert len({one.user for one in alone.values()}) == 3


def test_persons_can_be_moved_joined_and_left_out() -> None:
    files = [held("home/anna/a"), held("home/bert/a"), held("home/carl/a"), held("home/carl/b/c")]
    wish = BackWish(persons=(("anna", "bert"), ("carl", "")))
    found = give_back(files, NOTHING, Destination("linux"), wish)
    assert places(found) == ["home/bert/a", "home/bert/a (2)"]
    assert {(one.old, one.new): one.files for one in found.persons} == {
        ("anna", "bert"): 2,
        ("bert", "bert"): 2,
        ("carl", ""): 0,
    }
    assert sum(one.files for one in found.left_out) == 2 and "carl's files" in found.left_out[0].why


def test_folders_and_their_marks_return_also_when_they_hold_nothing() -> None:
    private = FileMarks(mode=0o700, user=1000, modified_s=5.0)
    files = [
        held("home/anna/a/b.txt"),
        held("home", b"", kind="folder"),
        held("home/anna", b"", kind="folder", marks=private),
        held("home/anna/a", b"", kind="folder", marks=private),
        held("home/anna/empty/inner", b"", kind="folder"),
        held("home/anna/.cache/x", b"", kind="folder"),
        held("usr/share", b"", kind="folder"),
        held("etc/passwd"),
    ]
    found = give_back(files, NOTHING, Destination("linux"))
    by_place = {one.place: one for one in found.folders}
    assert set(by_place) == {"home/anna", "home/anna/a", "home/anna/empty", "home/anna/empty/inner"}
    assert by_place["home/anna"].marks == by_place["home/anna/a"].marks == private
    only = give_back(files, NOTHING, Destination("linux"), BackWish(kinds=("documents",)))
    assert {one.place for one in only.folders} == {"home/anna", "home/anna/a"}
    assert found.persons[0].old == "anna" and found.count == 5 and found.room_bytes == 6 * 8192 - 8192


def link(path: str, target: str, **more: Any) -> Held:
    return Held(stored=path, path=path, size_bytes=0, kind="link", target=target, **more)


def test_links_return_where_what_they_lead_to_does() -> None:
    files = [
        held("home/anna/docs/tax.pdf", volume="1"),
        held("etc/passwd", volume="1"),
        link("home/anna/l1", "docs/tax.pdf", volume="1"),
        link("home/anna/docs/l2", "/home/anna/docs", volume="1"),
        link("home/anna/l3", "../../etc/passwd", volume="1"),
        link("home/anna/l4", "../../../../x", volume="1"),
        link("home/anna/l5", "gone", volume="1"),
        link("home/anna/l6", "l6", volume="1"),
    ]
    found = give_back(files, NOTHING, Destination("linux"))
    assert [(one.place, one.to, one.to_folder) for one in found.links] == [
        ("home/anna/l1", "docs/tax.pdf", False),
        ("home/anna/docs/l2", ".", True),
    ]
    assert [one.path for one in found.left_out if "It is a link" in one.why] == [
        f"home/anna/l{n}" for n in (3, 4, 5, 6)
    ]
    nt = [
        held("Users/anna/docs/tax.pdf", volume="1"),
        link("Users/anna/j", "\\??\\C:\\Users\\anna\\docs", volume="1"),
        link("Users/anna/docs/s", "..\\docs\\tax.pdf", volume="1"),
        link("Users/anna/My Documents", "\\??\\C:\\Users\\anna\\docs", volume="1", marks=FileMarks(attributes=0x2416)),
    ]
    found = give_back(nt, NOTHING, Destination("nt"), BackWish(persons=(("anna", "zoe"),)))
    assert [(one.place, one.to) for one in found.links] == [("Users/zoe/j", "docs"), ("Users/zoe/docs/s", "tax.pdf")]
    assert "old system's own links" in found.left_out[0].why


def test_what_is_not_here_is_listed_by_name_and_never_given() -> None:
    files = [
        held("Users/anna/c.docx", b"12345", not_here="cloud"),
        held("Users/anna/e.docx", b"1", not_here="encrypted"),
    ]
    found = give_back(files, NOTHING, Destination("nt"))
    assert not found.files and found.not_here_bytes == 6
    assert [(one.path, one.bytes, one.why) for one in found.not_here] == [
        ("Users/anna/c.docx", 5, "cloud"),
        ("Users/anna/e.docx", 1, "encrypted"),
    ]
    assert "in an account" in found.left_out[0].why and "its key is not here" in found.left_out[1].why


def test_single_files_can_stay_out() -> None:
    found = give_back(
        [held("home/a/x.log"), held("home/a/y.txt")], NOTHING, Destination("linux"), BackWish(without=("*.log",))
    )
    assert places(found) == ["home/a/y.txt"] and found.left_out[0].why == "It was chosen to stay out."


# All the way: odd homes on real volumes, salvaged or read directly, put onto real volumes, looked at by another reader


@contextmanager
def mounted(volume: Path) -> Iterator[Path]:
    """An NTFS volume in a file, by the driver that needs no kernel."""
    point = volume.with_name(f"{volume.name}.mount")
    point.mkdir()
    run("ntfs-3g", "-o", "efs_raw", volume, point)
    try:
        yield point
    finally:
        run("fusermount3", "-u", point)
        point.rmdir()


def put(top: Path, files: dict[str, bytes]) -> None:
    for name, data in files.items():
        (top / name).parent.mkdir(parents=True, exist_ok=True)
        (top / name).write_bytes(data)


def reparse(path: Path, tag: int, body: bytes) -> None:
    os.setxattr(path, "system.ntfs_reparse_data", struct.pack("<IHH", tag, len(body), 0) + body)


def junction(path: Path, target: str) -> None:
    text = f"\\??\\{target}".encode("utf-16-le")
    path.mkdir()
    reparse(path, 0xA0000003, struct.pack("<HHHH", 0, len(text), len(text) + 2, 0) + text + bytes(4))


#: On both kinds of volumes: where the file is, and what stands in it.
PLAIN = {
    "anna/letter.txt": b"letter",
    "anna/ sp ace .txt": b"blank",
    "anna/Grüße – 漢字 😀.txt": b"letters",
    "anna/cafe\u0301.txt": b"decomposed",
    "anna/caf\u00e9.txt": b"composed",
    "anna/empty.txt": b"",
    "anna/one": b"1",
    "anna/zeros.bin": bytes(70_000),
    "anna/large.jpg": b"jpeg" * 50_000,
    "anna/" + "n" * 200 + ".pdf": b"long name",
    "anna/" + "deep/" * 30 + "end.txt": b"deep",
    "anna/MZ list.txt": b"MZ 2024: mileage list\n",
    "anna/papers.zip": b"PK\3\4",
    "anna/no ending": b"x",
    "anna/two.dots.tar.gz": b"\x1f\x8b",
    "anna/'quoted' & (more) [x] {y} #1 %20 $a": b"signs",
    "anna/post/inbox.mbox": b"From a@example.org Mon\n",
    "bert/diary.txt": b"Bert's",
}
PROGRAMS = {"anna/setup.exe": b"MZ\x90\0", "anna/run.sh": b"#!/bin/sh\n", "anna/holiday.jpg": b"MZ\x90\0\3"}


def nt_old(folder: Path) -> Path:
    """An NTFS drive with homes full of odd files."""
    volume = folder / "nt.volume"
    make_volume(volume, Part(1, "", "ntfs", "Old"), 199 << 20)
    with mounted(volume) as top:
        put(top, {f"Users/{name}": data for name, data in {**PLAIN, **PROGRAMS}.items()})
        put(top, {"Windows/System32/config/x": b"s", "Program Files/p.exe": b"MZ", "Projects/dev/main.c": b"int"})
        put(top, {"Users/Public/Desktop/desktop.ini": b"[.ShellClassInfo]", "Users/Default/x": b"d"})
        put(top, {"Users/anna/AppData/Local/junk": b"j", "Users/anna/AppData/Roaming/P/Inbox": b"From a@b Mon\n"})
        anna = top / "Users/anna"
        (anna / "Empty folder/inner").mkdir(parents=True)
        for name, size in (("cloud.docx", 50_000), ("dedup.docx", 70_000), ("packed.docx", 60_000)):
            (anna / name).touch()
            os.truncate(anna / name, size)
        put(anna, {"here and there.docx": b"here" * 9000})
        reparse(anna / "cloud.docx", 0x9000601A, bytes(16))
        reparse(anna / "here and there.docx", 0x9000601A, bytes(16))
        reparse(anna / "dedup.docx", 0x80000013, bytes(16))
        reparse(anna / "packed.docx", 0x80000017, bytes(16))
        put(anna, {"hidden.txt": b"hidden", "locked.txt": b"locked", "streams.txt": b"main", "old.txt": b"old"})
        for name, marks in (("hidden.txt", 0x22), ("locked.txt", 0x21)):
            os.setxattr(anna / name, "system.ntfs_attrib", marks.to_bytes(4, "little"))
        os.setxattr(anna / "streams.txt", "user.Zone.Identifier", b"[ZoneTransfer]")
        os.setxattr(anna / "streams.txt", "user.large", b"L" * 65_000)
        os.utime(anna / "old.txt", (915_148_800, 915_148_800))
        os.setxattr(anna / "old.txt", "system.ntfs_crtime", (125_000_000_000_000_000).to_bytes(8, "little"))
        os.link(anna / "letter.txt", anna / "second name.txt")
        junction(anna / "to deep", "C:\\Users\\anna\\deep")
        junction(anna / "to windows", "C:\\Windows")
        with (anna / "holes.bin").open("wb") as file:
            file.seek(3 << 20)
            file.write(b"behind the hole")
    drive = make_drive(folder / "nt.img", 200, [Part(199, NT_DATA, "")])
    place(drive, volume, spans(drive)[0][0])
    return drive


def linux_old(folder: Path) -> Path:
    """An ext4 drive with homes full of odd files, and the names and marks that only such a volume has."""
    top, volume = folder / "linux", folder / "linux.volume"
    put(top, {f"home/{name}": data for name, data in {**PLAIN, **PROGRAMS}.items()})
    put(top, {"etc/passwd": b"anna:x:1000:1000::/home/anna:/bin/sh\nbert:x:1001:1001::/home/bert:/bin/sh\n"})
    put(
        top,
        {"usr/bin/x": b"\x7fELF", "var/mail/bert": b"From a@b Mon\n", "srv/plans.txt": b"plans", "home/note.txt": b"n"},
    )
    odd = ("Makefile", "makefile", "con.txt", "a:b?.txt", "trailing. ", "back\\slash.txt", "tab\there", "line\nfeed")
    put(top, {f"home/anna/{name}": name.encode() for name in odd})
    put(top, {f"home/anna/{name}/same": name.encode() for name in ("Case", "CASE")})
    (top / os.fsdecode(b"home/anna/f\xfcr.txt")).write_bytes(b"latin")
    anna, bert = top / "home/anna", top / "home/bert"
    put(
        anna,
        {
            "private.txt": b"p",
            "shared.txt": b"s",
            "tool": b"\x7fELF",
            ".config/x": b"c",
            ".post/Inbox": b"From a@b Mon\n",
        },
    )
    (anna / "Empty folder/inner").mkdir(parents=True)
    for name, mode in (("private.txt", 0o600), ("shared.txt", 0o664), ("tool", 0o4755), ("Empty folder", 0o750)):
        (anna / name).chmod(mode)
    (bert / "diary.txt").chmod(0o600)
    for home in (anna, bert):
        home.chmod(0o700)
    for name, target in (
        ("to letter", "letter.txt"),
        ("to deep", "/home/anna/deep"),
        ("to etc", "/etc"),
        ("dangling", "gone"),
    ):
        (anna / name).symlink_to(target)
    (anna / "loop").symlink_to("loop")
    os.link(anna / "letter.txt", anna / "second name.txt")
    os.mkfifo(anna / "pipe")
    os.utime(anna / "one", (915_148_800, 915_148_800))
    (anna / "holes.bin").touch()
    os.truncate(anna / "holes.bin", 3 << 20)
    with (anna / "holes.bin").open("ab") as file:
        file.write(b"behind the hole")
    with volume.open("wb") as file:
        file.truncate(199 << 20)
    run("mke2fs", "-q", "-F", "-t", "ext4", "-d", top, volume)
    orders = []
    for name, number in (("anna", 1000), ("bert", 1001)):
        for path in [top / "home" / name, *(top / "home" / name).rglob("*")]:
            inner = path.relative_to(top).as_posix()
            if inner.isprintable():
                orders += [f'sif "/{inner}" uid {number}', f'sif "/{inner}" gid {number}']
    text = "\n".join(orders) + "\n"
    (folder / "orders").write_text(text)
    run("debugfs", "-w", "-f", folder / "orders", volume)
    drive = make_drive(folder / "linux.img", 200, [Part(199, LINUX, "")])
    place(drive, volume, spans(drive)[0][0])
    return drive


@pytest.fixture(scope="module")
def old(tmp_path_factory: pytest.TempPathFactory) -> dict[str, Path]:
    folder = tmp_path_factory.mktemp("odd")
    return {"nt": nt_old(folder), "linux": linux_old(folder)}


def image_for(folder: Path, family: str) -> Path:
    """A system that already has people, and a file among their folders."""
    if family == "nt":
        return system_image(
            folder / "nt.tar.zst", family="nt", files={"system/Users/Public/Desktop/desktop.ini": b"[.ShellClassInfo]"}
        )
    homes = [
        (entry("system/home/anna", type=tarfile.DIRTYPE, mode=0o700, uid=1000, gid=1000), b""),
        (entry("system/home/zoe", type=tarfile.DIRTYPE, mode=0o700, uid=1001, gid=1001), b""),
    ]
    return system_image(folder / "linux.tar.zst", more=homes)


def volume_of(drive: Path, number: int, into: Path) -> Path:
    part = table_of(drive)["partitions"][number]
    with drive.open("rb") as file, into.open("wb") as out:
        file.seek(part["start"] * 512)
        for _ in range(part["size"] // 2048):
            out.write(file.read(1 << 20))
    return into


def sent(
    folder: Path, neogenesis: Any, old: Path, salvage: bool, family: str, *more: object
) -> tuple[Path, dict[str, Any], str]:
    """The system volume of the new drive, the record of what returned, and what was said."""
    source: Path = old
    if salvage:
        of_nt = old.name == "nt.img"
        neogenesis("salvage", old, folder / "saved", status=4 if of_nt else 0, words="" if of_nt else "is stored as")
        source = folder / "saved"
    new = blank(folder / "new.img", 700)
    recipe = "linux-uefi" if family == "linux" else "nt-uefi"
    order = (
        "install",
        image_for(folder, family),
        recipe,
        new,
        "--confirm",
        "new",
        "--data",
        source,
        "-o",
        folder / "p.plan.json",
    )
    said = neogenesis(*order, *more).stdout
    record = json.loads((folder / "p.plan.returned.json").read_text())
    return volume_of(new, 2 if family == "nt" else 1, folder / "new.volume"), record, said


def reported(plan: Path) -> str:
    """What the customer's report says of it."""
    job = Job(ticket="T-7", customer="Gullhaven Pilots' Office", machine="Petrel 14")
    made = report_from_records(job, load_plan(plan), RunFiles(plan).manifest, [])
    rows = (word for section in made.sections for row in section.rows for word in row)
    return "\n".join([*(line for section in made.sections for line in section.sentences), *rows])


def left(record: dict[str, Any]) -> dict[str, str]:
    return {one["path"]: one["why"] for one in record["left_out"]}


@pytest.mark.parametrize("salvage", [False, True], ids=["direct", "salvaged"])
def test_odd_files_of_an_nt_home_return_onto_ntfs(
    old: dict[str, Path], salvage: bool, tmp_path: Path, neogenesis: Any
) -> None:
    volume, record, said = sent(tmp_path, neogenesis, old["nt"], salvage, "nt", "--person", "bert=Bertram")
    with mounted(volume) as top:
        found = {p.relative_to(top).as_posix(): p for p in (top / "Users").rglob("*")}
        for name, data in PLAIN.items():
            assert found["Users/" + name.replace("bert/", "Bertram/")].read_bytes() == data, name
        anna = top / "Users/anna"
        assert (anna / "second name.txt").read_bytes() == b"letter" and (anna / "holes.bin").stat().st_size == (
            3 << 20
        ) + 15
        assert (anna / "here and there.docx").read_bytes() == b"here" * 9000
        for name, marks in (("hidden.txt", 0x2), ("locked.txt", 0x1)):
            assert os.getxattr(anna / name, "system.ntfs_attrib")[0] & 3 == marks, name
        made = int.from_bytes(os.getxattr(anna / "old.txt", "system.ntfs_crtime"), "little")
        assert abs(made - 125_000_000_000_000_000) < 100  # ten microseconds
        assert (anna / "old.txt").stat().st_mtime == 915_148_800
        assert (anna / "Empty folder/inner").is_dir() and (anna / "Returned/Mail/AppData/Roaming/P/Inbox").is_file()
        assert (anna / "to deep").readlink().name == "deep" and (
            anna / "to deep" / ("deep/" * 29) / "end.txt"
        ).is_file()
        if not salvage:
            assert os.getxattr(anna / "streams.txt", "user.Zone.Identifier") == b"[ZoneTransfer]"
        assert (top / "Users/Public/Returned/Projects/dev/main.c").is_file()
        assert not {"cloud.docx", "dedup.docx", "packed.docx", "setup.exe", "run.sh", "holiday.jpg"} & {
            p.name for p in found.values()
        }
        assert not any("(2)" in name or name.startswith("Users/Default") for name in found)
    why = left(record)
    assert "in an account" in why["Users/anna/cloud.docx"] and "packed together" in why["Users/anna/dedup.docx"]
    assert "packed by its system" in why["Users/anna/packed.docx"] and "It is a link" in why["Users/anna/to windows"]
    assert {one["why"]: one["bytes"] for one in record["not_here"]} == {
        "cloud": 50_000,
        "deduplicated": 70_000,
        "unreadable": 60_000,
    }
    assert record["not_here_bytes"] == 180_000 and record["there_already"] == ["Users/Public/Desktop/desktop.ini"]
    assert any("“large”" in one["what"] or "stream" in one["what"] for one in record["not_kept"]) or salvage
    assert "not here: Users/anna: " in said and "person bert to Bertram" in said
    told = reported(tmp_path / "p.plan.json")
    assert "were given back" in told and "Nothing was copied" not in told and "Only your files were read" in told
    assert "in an account" in told and "to be had from where it is" in told and "It can be run" in told
    assert "It belongs to the old system" not in told


@pytest.mark.parametrize("salvage", [False, True], ids=["direct", "salvaged"])
def test_odd_files_of_a_linux_home_return_onto_ext4(
    old: dict[str, Path], salvage: bool, tmp_path: Path, neogenesis: Any
) -> None:
    volume, record, said = sent(tmp_path, neogenesis, old["linux"], salvage, "linux")
    names = [
        *PLAIN,
        *(f"anna/{n}" for n in ("Makefile", "makefile", "con.txt", "a:b?.txt", "trailing. ", "Case/same", "CASE/same")),
    ]
    out = tmp_path / "files"
    out.mkdir()
    run("debugfs", "-R", f"rdump /home {out}", volume)
    for name in names:
        data = PLAIN.get(name, (name.split("/")[1]).encode())
        assert (out / "home" / name).read_bytes() == data, name
    assert (out / "home/anna/holes.bin").stat().st_size == (3 << 20) + 15
    assert (out / "home/bert/Returned/Mail/bert").read_bytes() == b"From a@b Mon\n"
    assert (out / "home/shared/Returned/srv/plans.txt").is_file() and (
        out / "home/shared/Returned/home/note.txt"
    ).is_file()

    def stat(path: str) -> tuple[int, int]:
        text = run("debugfs", "-R", f'stat "/home/{path}"', volume)
        return int(text.split("Mode:")[1].split()[0], 8), int(text.split("User:")[1].split()[0])

    assert stat("anna/private.txt") == (0o600, 1000) and stat("anna/shared.txt") == (0o664, 1000)
    assert (
        stat("bert/diary.txt")[0] == 0o600
        and stat("anna") == (0o700, 1000)
        and stat("anna/Empty folder") == (0o750, 1000)
    )
    owner = stat("bert/diary.txt")[1]
    assert owner == stat("bert")[1] not in (1000, 1001), "neither Anna's nor Zoe's"
    assert "Fast" not in run("debugfs", "-R", 'stat "/home/anna/Empty folder/inner"', volume)
    links = {one["place"]: one["to"] for one in record["links"]}
    assert links == {"home/anna/to letter": "letter.txt", "home/anna/to deep": "deep"}
    assert 'Fast link dest: "letter.txt"' in run("debugfs", "-R", 'stat "/home/anna/to letter"', volume)
    why = left(record)
    assert {n for n in why if "It is a link" in why[n]} == {f"home/anna/{n}" for n in ("to etc", "dangling", "loop")}
    assert "It can be run" in why["home/anna/tool"] and "home/anna/.config" in why
    assert "person bert to bert, who has no account there yet" in said and "person anna to anna:" in said


def test_a_linux_home_on_ntfs_and_an_nt_home_on_ext4(old: dict[str, Path], tmp_path: Path, neogenesis: Any) -> None:
    """What the other family cannot have is named."""
    for family in ("nt", "linux"):
        (tmp_path / family).mkdir()
    volume, record, _ = sent(tmp_path / "nt", neogenesis, old["linux"], False, "nt")
    with mounted(volume) as top:
        anna = top / "Users/anna"
        found = {p.relative_to(anna).as_posix(): p for p in anna.rglob("*") if p.is_file()}
        assert {"_con.txt", "a_b_.txt", "trailing", "back_slash.txt", "tab_here", "line_feed", "f_r.txt"} <= set(found)
        assert {"Makefile", "makefile (2)"} <= set(found) and {"CASE/same", "CASE/same (2)"} <= set(found)
        assert sorted(found[n].read_bytes() for n in ("CASE/same", "CASE/same (2)")) == [b"CASE", b"Case"]
        assert (anna / "to letter").readlink().name == "letter.txt" and (anna / "to deep/deep").is_dir()
    kept = {one["what"]: one["files"] for one in record["not_kept"]}
    assert kept["Only its owner could read it; the new volume has rules of its own"] == 2
    volume, record, _ = sent(tmp_path / "linux", neogenesis, old["nt"], False, "linux", "--same", "keep")
    text = run("debugfs", "-R", "stat /home/anna/letter.txt", volume)
    assert "Mode:  0600" in text and "User:  1000" in text
    assert any("alternate streams" in one["what"] for one in record["not_kept"])


def test_what_is_in_an_account_is_told_where_files_are_counted(old: dict[str, Path], neogenesis: Any) -> None:
    found = json.loads(neogenesis("fills", old["nt"], "--json").stdout)
    assert found["not_here"] == [{"name": "Users/anna", "bytes": 50_000, "files": 1}]
    assert not any(one["path"].endswith("cloud.docx") for one in found["largest"])
    said = neogenesis("fills", old["nt"]).stdout
    assert "not here: in an account" in said and "a clean start does not" in said


def test_files_that_are_encrypted_one_by_one_are_not_copied_as_cipher(tmp_path: Path, neogenesis: Any) -> None:
    """On ext4 by a flag of the record, on NTFS by the attribute; their bytes mean nothing to anybody."""
    volume = tmp_path / "ext4.volume"
    make_volume(
        volume, Part(1, "", "ext4", "Old", {"home/anna/secret.txt": b"cipher" * 900, "home/anna/a.txt": b"a"}), 99 << 20
    )
    run("debugfs", "-w", "-R", "feature encrypt", volume)
    run("debugfs", "-w", "-R", "sif /home/anna/secret.txt flags 0x80800", volume)
    drive = make_drive(tmp_path / "ext4.img", 101, [Part(99, LINUX, "")])
    place(drive, volume, spans(drive)[0][0])
    nt = tmp_path / "nt.volume"
    make_volume(
        nt, Part(1, "", "ntfs", "Old", {"Users/anna/secret.txt": b"cipher" * 900, "Users/anna/a.txt": b"a"}), 99 << 20
    )
    data = bytearray(nt.read_bytes())
    record = data.rindex(b"FILE", 0, data.index("secret.txt".encode("utf-16-le"), data.index(b"FILE0")))
    records = [at for at in range(record % 1024, len(data) - 1024, 1024) if data[at : at + 4] == b"FILE"]
    own = next(at for at in records if "secret.txt".encode("utf-16-le") in data[at : at + 1024] and data[at + 22] == 1)
    first = own + int.from_bytes(data[own + 20 : own + 22], "little")
    data[first + 0x18 + 0x21] |= 0x40
    nt.write_bytes(data)
    other = make_drive(tmp_path / "nt.img", 101, [Part(99, NT_DATA, "")])
    place(other, nt, spans(other)[0][0])
    for image in (drive, other):
        out = tmp_path / f"out-{image.stem}"
        said = json.loads(neogenesis("salvage", image, out, "--json", status=4).stdout)
        assert [(one["path"].rpartition("/")[2], one["why"]) for one in said["not_here"]] == [
            ("secret.txt", "encrypted")
        ]
        assert said["not_here_bytes"] == 5400 and {p.name for p in out.rglob("*.txt")} == {"a.txt"}
