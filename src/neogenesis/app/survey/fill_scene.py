"""What fills a volume as columns side by side: kinds, then what a kind consists of, down to files."""

from __future__ import annotations

from collections.abc import Callable, Iterator, Sequence
from dataclasses import dataclass
from typing import Literal

from neogenesis.app.language import said, tr, trn
from neogenesis.core.survey.filling import Filling, LargeFile, Share, kind_of_path, kinds

What = Literal["kind", "folder", "file", "rest", "beyond", "free"]
_MOST_LAYERS = 11
_ROLES = {
    "people": "data",
    "elsewhere": "startup",
    "programs": "recovery",
    "system": "system",
    "paging": "swap",
}


@dataclass(frozen=True, slots=True)
class Layer:
    """`key` opens it: a code of a kind or a path. `clears` tells that clearing it is thinkable."""

    what: What
    key: str
    title: str
    bytes: int
    files: int
    role: str
    opens: bool
    clears: bool = False


@dataclass(frozen=True, slots=True)
class FillColumn:
    title: str
    layers: tuple[Layer, ...]


class FillTree:
    """A count, ready to be gone down into."""

    def __init__(self, filling: Filling) -> None:
        self.filling = filling
        self._below: dict[str, list[Share]] = {}
        for share in filling.folders:
            if share.name:
                self._below.setdefault(share.name.rpartition("/")[0], []).append(share)
        self._files: dict[str, list[LargeFile]] = {}
        for file in filling.largest:
            self._files.setdefault(file.path.rpartition("/")[0], []).append(file)
        self._kinds = {kind.code: kind for kind in kinds()}

    def columns(self, chain: Sequence[str]) -> tuple[FillColumn, ...]:
        """The first column, and one for each key of `chain` that opens."""
        found = [FillColumn(tr("The volume"), tuple(self._first()))]
        for key in chain:
            layer = next((x for x in found[-1].layers if x.key == key and x.opens), None)
            if layer is None:
                break
            inside = self._of_kind(layer) if layer.what == "kind" else self._of_folder(layer)
            found.append(FillColumn(layer.title, tuple(inside)))
        return tuple(found)

    def _first(self) -> Iterator[Layer]:
        filling = self.filling
        for share in sorted(filling.kinds, key=lambda s: -s.bytes):
            kind = self._kinds[share.name]
            role = _ROLES.get(kind.code, "reserved")
            yield Layer("kind", kind.code, said(kind.title), share.bytes, share.files, role, True, bool(kind.clear))
        if filling.beyond_bytes:
            yield Layer("beyond", "", tr("in no file"), filling.beyond_bytes, 0, "unknown", False)
        yield Layer("free", "", tr("free"), filling.free_bytes, 0, "free", False)

    def _of_kind(self, kind: Layer) -> list[Layer]:
        """The folders of that kind that lie in no other of it, and its files beside them."""

        def is_top(path: str) -> bool:
            return kind_of_path(path) == kind.key and (
                "/" not in path or kind_of_path(path.rpartition("/")[0]) != kind.key
            )

        folders = [s for s in self.filling.folders if s.name and is_top(s.name)]
        if kind.key == "people":  # a person at once, not the folder of all of them
            folders = [b for s in folders for b in self._below.get(s.name, [s]) or [s]]
        files = [
            f
            for f in self.filling.largest
            if kind_of_path(f.path) == kind.key and _parent(f.path, kind_of_path) != kind.key
        ]
        return self._layers(kind, folders, files)

    def _of_folder(self, folder: Layer) -> list[Layer]:
        return self._layers(folder, self._below.get(folder.key, []), self._files.get(folder.key, []))

    def _layers(self, above: Layer, folders: Sequence[Share], files: Sequence[LargeFile]) -> list[Layer]:
        found = [
            Layer("folder", s.name, s.name.rpartition("/")[2], s.bytes, s.files, above.role, True, above.clears)
            for s in folders
        ]
        found += [
            Layer("file", f.path, f.path.rpartition("/")[2], f.bytes, 1, above.role, False, above.clears) for f in files
        ]
        found.sort(key=lambda x: -x.bytes)
        shown = found[:_MOST_LAYERS]
        left = above.bytes - sum(x.bytes for x in shown)
        count = max(0, above.files - sum(x.files for x in shown))
        if left > 0 or count:
            words = trn("{0} smaller file", "{0} smaller files", count).format(f"{count:,}")
            shown.append(Layer("rest", "", words, max(0, left), count, above.role, False, above.clears))
        return shown


def _parent(path: str, kind: Callable[[str], str]) -> str:
    above = path.rpartition("/")[0]
    return kind(above) if above else ""
