"""Feeds damaged tables, volumes, images, journals, manifests and maps to their readers.

`python -m tests.fuzz [SECONDS]`. A crash is any exception that is not one of ours, or a hang; the input that made it is
left in the folder that is printed. Starts from a corpus of real volumes made by the distribution's utilities.
"""

from __future__ import annotations

import io
import sys
import tempfile
from contextlib import suppress
from pathlib import Path

import atheris

with atheris.instrument_imports(include=["neogenesis"]):
    from neogenesis.bench.reader import open_tree
    from neogenesis.core.drive import Drive
    from neogenesis.core.errors import NeogenesisError
    from neogenesis.core.filesystem import read_volume
    from neogenesis.core.image import Qcow2Store
    from neogenesis.core.plan import Plan, check_plan
    from neogenesis.core.record import from_json
    from neogenesis.core.store import MemoryStore
    from neogenesis.core.survey import survey_drive
    from neogenesis.core.table import read_table
    from neogenesis.core.transfer.manifest import load_manifest
    from neogenesis.core.transfer.regions import RegionMap
    from neogenesis.core.work.journal import read_state

from tests.drives import LINUX, MIB, NT_DATA, Part, make_drive, make_volume, run

_FOLDER = Path(tempfile.mkdtemp(prefix="neogenesis-fuzz-"))
_KINDS = ("ext4", "ntfs", "fat12", "exfat", "table", "drive", "qcow2", "journal", "records")
_BASES: dict[str, bytes] = {}


def corpus() -> None:
    """Real things to damage: an input is patches upon one of them."""
    for kind, mib in (("ext4", 2), ("ntfs", 2), ("fat12", 1), ("exfat", 4)):
        make_volume(_FOLDER / kind, Part(mib, "", kind, "x"), mib * MIB)
        _BASES[kind] = (_FOLDER / kind).read_bytes()
    image = make_drive(_FOLDER / "drive", 8, [Part(2, NT_DATA, "ntfs", "a"), Part(2, LINUX, "ext4", "b")])
    _BASES["drive"] = image.read_bytes()
    _BASES["table"] = _BASES["drive"][: 64 * 1024]
    run("qemu-img", "create", "-q", "-f", "qcow2", "-o", "cluster_size=4096", _FOLDER / "q", "64K")
    _BASES["qcow2"] = (_FOLDER / "q").read_bytes()
    _BASES["journal"] = _BASES["records"] = b""


def patched(base: bytes, provider: atheris.FuzzedDataProvider) -> bytearray:
    raw = bytearray(base)
    for _ in range(provider.ConsumeIntInRange(0, 8)):
        at = provider.ConsumeIntInRange(0, max(0, len(raw) - 1))
        if provider.ConsumeBool():
            at %= 8192
        data = provider.ConsumeBytes(provider.ConsumeIntInRange(1, 16))
        raw[at : at + len(data)] = data[: max(0, len(raw) - at)]
    return raw


def one(data: bytes) -> None:
    provider = atheris.FuzzedDataProvider(data)
    kind = _KINDS[provider.ConsumeIntInRange(0, len(_KINDS) - 1)]
    try:
        if kind == "journal":
            read_state(io.BytesIO(provider.ConsumeBytes(4096)), "j")
        elif kind == "records":
            text = provider.ConsumeBytes(4096)
            page = _FOLDER / "input.manifest.json"
            page.write_bytes(text)
            with suppress(NeogenesisError):
                load_manifest(page)
            for record in (Plan, RegionMap):
                try:
                    found = from_json(text, record, "record")
                    if record is Plan:
                        check_plan(found, "p")
                except NeogenesisError:
                    continue
        elif kind == "qcow2":
            path = _FOLDER / "input.qcow2"
            path.write_bytes(patched(_BASES[kind], provider))
            store = Qcow2Store(path)
            try:
                store.extents_with_data()
                store.read(0, min(store.size_bytes, 65_536))
            finally:
                store.close()
        else:
            raw = patched(_BASES[kind], provider)
            memory = MemoryStore(len(raw))
            memory.data[:] = raw
            if kind == "table":
                read_table(memory, 512)
                read_table(memory, 4096)
            elif kind == "drive":
                survey_drive(memory, Drive(path="x", size_bytes=len(raw), sector_size=512), open_tree)
            else:
                read_volume(memory)
    except NeogenesisError:
        pass


def main() -> None:
    seconds = sys.argv[1] if len(sys.argv) > 1 else "1800"
    corpus()
    print(f"inputs that fail are kept in {_FOLDER}")  # noqa: T201
    options = [
        f"-max_total_time={seconds}",
        "-timeout=20",
        "-rss_limit_mb=4096",
        f"-artifact_prefix={_FOLDER}/",
        "-print_final_stats=1",
    ]
    atheris.Setup([sys.argv[0], *options], one)
    atheris.Fuzz()


if __name__ == "__main__":
    main()
