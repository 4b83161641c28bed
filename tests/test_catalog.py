"""Catalogues of driver packages: what they list is compared with the files that lie there."""

from __future__ import annotations

import hashlib
import json
import struct
from collections.abc import Callable
from pathlib import Path
from typing import Any

import pytest
from hypothesis import given
from hypothesis import strategies as st

from neogenesis.core.drivers.catalog import digests_of, listed_digests
from tests.infs import DEVICE, catalogue, inf, line, package

MODELS = {"Models.NTamd64": [line(DEVICE)]}


def program(size: int = 1000, signature: bytes = b"", checksum: int = 0, wide: bool = True) -> bytes:
    """A program as its format has it, with a signature at its end where one is given."""
    head = bytearray(size)
    head[:2], head[0x3C:0x40], head[0x80:0x84] = b"MZ", struct.pack("<I", 0x80), b"PE\0\0"
    optional = 0x80 + 24
    struct.pack_into("<H", head, optional, 0x20B if wide else 0x10B)
    struct.pack_into("<I", head, optional + 64, checksum)
    struct.pack_into("<II", head, optional + (144 if wide else 128), *((size, len(signature)) if signature else (0, 0)))
    return bytes(head) + signature


def sha1(data: bytes) -> bytes:
    return hashlib.sha1(data, usedforsecurity=False).digest()


@pytest.mark.parametrize("by_text", [False, True])
def test_all_that_is_listed_is_read(by_text: bool) -> None:
    digests = [sha1(b"a"), hashlib.sha256(b"b").digest(), sha1(b"c" * 10_000)]
    assert listed_digests(catalogue(digests, by_text)) == frozenset(digests)
    assert listed_digests(catalogue([])) == frozenset()


def test_a_member_under_another_name_counts_by_its_data() -> None:
    """Its identifier is no digest, and the others are read all the same."""
    first, second = sha1(b"a"), hashlib.sha256(b"b").digest()
    spelled = first.hex().upper().encode("utf-16-le")
    whole = catalogue([first, second], by_text=True)
    other = whole.replace(spelled, "driver, by its own name".ljust(40).encode("utf-16-le"))
    assert other != whole and listed_digests(other) == {first, second}


def test_what_is_no_catalogue_is_none() -> None:
    whole = catalogue([sha1(b"a")])
    for data in (
        b"",
        b"0\x82",
        b"MZ" * 100,
        whole[:-3],
        bytes(whole).replace(b"\x82\x37\x0a\x01", b"\x82\x37\x0a\x09"),
    ):
        assert listed_digests(data) is None


@given(st.binary(max_size=400), st.integers(0, 10_000))
def test_damage_is_borne(noise: bytes, at: int) -> None:
    whole = bytearray(catalogue([sha1(b"a"), hashlib.sha256(b"b").digest()]))
    whole[at % len(whole) : at % len(whole) + len(noise)] = noise
    found = listed_digests(bytes(whole))
    assert found is None or all(len(one) in (20, 32) for one in found)
    assert listed_digests(noise) in (None, frozenset())


@pytest.mark.parametrize("wide", [False, True])
def test_a_signature_or_a_checksum_changes_no_program(wide: bool) -> None:
    """By the signature's own definition; all else does."""
    plain = program(1000, wide=wide)
    signed = program(1000, b"S" * 96, checksum=77, wide=wide)
    changed = bytearray(signed)
    changed[700] ^= 1
    shared = digests_of(plain) & digests_of(signed)
    assert {len(one) for one in shared} == {20, 32}
    assert not digests_of(bytes(changed)) & digests_of(plain)
    for broken in (b"MZ", plain[:90], plain[:200], b"MZ" + bytes(70), program(1000, wide=wide)[:0x99]):
        assert {sha1(broken), hashlib.sha256(broken).digest()} <= digests_of(broken)


def asked(neogenesis: Callable[..., Any], folder: Path) -> dict[str, Any]:
    machine = folder.parent / "hardware.json"
    device = {"name": "Link", "class": "Net", "hardware_ids": [DEVICE], "compatible_ids": [], "has_driver": False}
    machine.write_text(
        json.dumps(
            {
                "schema": "neogenesis.hardware/1",
                "architecture": "amd64",
                "system_version": "10.0.19045",
                "devices": [device],
            }
        )
    )
    found = json.loads(neogenesis("drivers", machine, folder, "--json").stdout)
    return dict(found["devices"][0])


def test_a_driver_that_was_changed_is_doubtful_and_another_one_comes_first(tmp_path: Path, neogenesis: Any) -> None:
    packages = tmp_path / "packages"
    named = "[SourceDisksFiles]\r\ndriver.sys = 1"
    newer = package(packages / "newer", "newer.inf", inf(MODELS, date="03/04/2023", more=named))
    older = package(packages / "older", "older.inf", inf(MODELS, date="03/04/2021", more=named))
    for path in (newer, older):
        files = [path.read_bytes(), (path.parent / "driver.sys").read_bytes()]
        (path.parent / "driver.cat").write_bytes(catalogue([sha1(one) for one in files]))
    found = asked(neogenesis, packages)
    assert (found["status"], found["best"]["inf"], found["altered"]) == ("covered", "newer/newer.inf", [])
    (newer.parent / "driver.sys").write_bytes(b"MZ something else")
    found = asked(neogenesis, packages)
    assert (found["status"], found["best"]["inf"], found["others"]) == ("covered", "older/older.inf", 1)
    older.write_bytes(older.read_bytes() + b"; one line more\r\n")
    found = asked(neogenesis, packages)
    assert (found["status"], found["best"]["inf"], found["altered"]) == ("doubtful", "newer/newer.inf", ["driver.sys"])
    machine = tmp_path / "hardware.json"
    assert "not as its catalogue lists them: driver.sys" in neogenesis("drivers", machine, packages).stdout


def test_a_catalogue_that_cannot_be_read_says_nothing_of_the_files(tmp_path: Path, neogenesis: Any) -> None:
    packages = tmp_path / "packages"
    package(packages / "one", "one.inf", inf(MODELS))
    found = asked(neogenesis, packages)
    assert (found["status"], found["altered"]) == ("covered", [])
