"""Collects what the program says, and brings the catalogues in src/neogenesis/data/languages up to date with it.

    python packaging/languages.py          writes the catalogues
    python packaging/languages.py --check  ends with 1 when one is out of date or not complete

Collected are: what `tr`, `trn` and `mark` are called with; the words of actions, stops and failures; and the sentences
of the core, whose places in braces are named after what is put there.
"""

from __future__ import annotations

import ast
import json
import re
import sys
import tomllib
from collections.abc import Iterator
from io import BytesIO
from itertools import product
from pathlib import Path

from babel.messages.catalog import Catalog
from babel.messages.pofile import read_po, write_po

SOURCE = Path(__file__).parents[1] / "src" / "neogenesis"
LANGUAGES = SOURCE / "data" / "languages"
_TRANSLATED = {"tr", "mark"}
_SPOKEN = {"Action", "StopAction", "StopSpec", "Failure", "Check", "record"}
_MUTE_CALLS = {"compile", "execute", "text", "debug", "ValueError", "TypeError", "KeyError", "RuntimeError", "getattr"}
_MUTE_CALLS |= {
    "startswith",
    "endswith",
    "split",
    "join",
    "partition",
    "pragma",
    "exec_driver_sql",
    "translate",
    "strip",
}
_MUTE_CALLS |= {"member", "emit", "field", "index", "Column", "create_index", "op", "replace", "Struct", "strftime"}
_MUTE_FILES = ("migrations", "simulated", "bug_report", "extent.py", "service.py", "tables.py", "_sql.py")
#: Here a single word with a capital is a heading or a name of a row.
_TITLED = {"core/job/report.py", "core/job/quote.py"}
_SPOKEN_CORE = {"Section", "Stop", "Gate", "Finding", "Reason", "Operation", "Step"}
_WORDY = re.compile(r"[a-z]{2,}[,;:]? (?:.*\b)?[a-z]{2,}|^[A-Z][a-z]+\.$", re.DOTALL)
_PLACE = re.compile(r"\{(\w+)\}")
#: Keys, file names, pieces of JSON, and lines that only the command line prints.
_SILENT = re.compile(
    r"^stop \{|^(?:Ctrl|Alt|Shift)\+\S+$|^F\d+$|^[a-z-]*\{\w+\}[a-z-]*(?:\{\w+\})?$|/$|^/|^  |\"|^file |^neogenesis "
)

Text = tuple[str, str, str]  # one, many or nothing, context or nothing


class _Collector(ast.NodeVisitor):
    def __init__(self, place: str, everything: bool) -> None:
        self.place = place
        self.everything = everything
        self.found: list[Text] = []
        self._called: list[str] = []

    def _add(self, one: str, many: str = "", context: str = "") -> None:
        if _SILENT.search(one) or not any(c.isalpha() for c in _PLACE.sub("", one)):
            return
        self.found.append((one, many, context))

    def visit_Call(self, node: ast.Call) -> None:
        name = node.func.attr if isinstance(node.func, ast.Attribute) else getattr(node.func, "id", "")
        if self.place.startswith("app"):
            texts = [a.value if isinstance(a, ast.Constant) and isinstance(a.value, str) else "" for a in node.args]
            if name in _TRANSLATED and texts and texts[0]:
                self._add(texts[0], "", texts[1] if len(texts) > 1 else "")
            elif name == "trn":
                self._add(texts[0], texts[1])
            elif name in _SPOKEN or _is_failure(name):
                arguments = [*node.args, *(k.value for k in node.keywords if k.arg not in ("key", "kind", "severity"))]
                for argument in arguments:
                    self._spoken(argument)
        self._called.append(name)
        self.generic_visit(node)
        self._called.pop()

    def _spoken(self, node: ast.expr) -> None:
        if isinstance(node, ast.IfExp):
            self._spoken(node.body)
            self._spoken(node.orelse)
        elif isinstance(node, ast.Constant) and isinstance(node.value, str):
            if " " in node.value or node.value[:1].isupper():
                self._add(node.value)
        elif isinstance(node, ast.JoinedStr | ast.BinOp):
            for text in _templates(node):
                if _PLACE.sub("", text).strip(" :;,.()–"):
                    self._add(text)

    def _is_mute(self) -> bool:
        return bool(self._called) and self._called[-1] in _MUTE_CALLS

    def visit_Return(self, node: ast.Return) -> None:
        """A sentence that a function of the window makes for the logbook."""
        if self.place.startswith("app") and node.value is not None:
            for value in (node.value.body, node.value.orelse) if isinstance(node.value, ast.IfExp) else (node.value,):
                if isinstance(value, ast.JoinedStr):
                    self._spoken_sentence(value)
        self.generic_visit(node)

    def _spoken_sentence(self, node: ast.JoinedStr) -> None:
        for text in _templates(node):
            if _WORDY.search(_PLACE.sub("xx", text)) and text[:1].isupper():
                self._add(text)

    def visit_Expr(self, node: ast.Expr) -> None:
        if not isinstance(node.value, ast.Constant):  # a string by itself describes what stands above it
            self.generic_visit(node)

    def visit_JoinedStr(self, node: ast.JoinedStr) -> None:
        if self.everything and not self._is_mute():
            for text in _templates(node):
                if _WORDY.search(_PLACE.sub("xx", text)):
                    self._add(text)
        for value in node.values:
            if isinstance(value, ast.FormattedValue):
                self.visit(value.value)

    def visit_BinOp(self, node: ast.BinOp) -> None:
        if self.everything and isinstance(node.op, ast.Add) and isinstance(node.left, ast.JoinedStr | ast.Constant):
            self.visit(node.left)
            self.visit(node.right)
        else:
            self.generic_visit(node)

    def visit_Constant(self, node: ast.Constant) -> None:
        if not self.everything or not isinstance(node.value, str) or self._is_mute():
            return
        titled = self.place in _TITLED or (bool(self._called) and self._called[-1] in _SPOKEN_CORE)
        if _WORDY.search(node.value) or (titled and node.value[:1].isupper()):
            self._add(node.value)


def _is_failure(name: str) -> bool:
    return name in (
        "Refused",
        "BadArgument",
        "BadRecord",
        "CannotRecord",
        "ToolFailed",
        "Mismatch",
        "Damaged",
        "Stopped",
    )


def _templates(node: ast.expr) -> Iterator[str]:
    """The templates of an f-string: one for each way in which the conditions inside can turn out."""
    if isinstance(node, ast.BinOp):
        for left, right in product(_templates(node.left), _templates(node.right)):
            yield left + right
        return
    if isinstance(node, ast.Constant):
        yield str(node.value)
        return
    if not isinstance(node, ast.JoinedStr):
        yield "{text}"
        return
    parts: list[list[str]] = []
    taken: list[str] = []
    for value in node.values:
        if isinstance(value, ast.Constant):
            parts.append([str(value.value).replace("{", "{{")])
        elif isinstance(value, ast.FormattedValue):
            inner = value.value
            if isinstance(inner, ast.IfExp) and all(isinstance(x, ast.Constant) for x in (inner.body, inner.orelse)):
                parts.append([str(x.value) for x in (inner.body, inner.orelse)])  # type: ignore[attr-defined]
                continue
            name = _name(inner)
            while name in taken:
                name += "_"
            taken.append(name)
            parts.append([f"{{{name}}}"])
    for made in product(*parts):
        yield "".join(made)


def _name(node: ast.expr) -> str:
    """What a translator may call this."""
    if isinstance(node, ast.Name):
        return node.id.strip("_")
    if isinstance(node, ast.Attribute):
        return node.attr.strip("_")
    if isinstance(node, ast.Call):
        inner = node.args[0] if node.args else node.func
        return "number" if getattr(node.func, "id", "") == "len" else _name(inner)
    if isinstance(node, ast.IfExp):
        return _name(node.body)
    if isinstance(node, ast.BinOp):
        return _name(node.right)
    if isinstance(node, ast.Subscript):
        return _name(node.value)
    return "text"


def collect() -> Catalog:
    """Everything that the program says, with where it stands."""
    catalog = Catalog(project="Neogenesis", version="", copyright_holder="", charset="utf-8", fuzzy=False)
    for path in sorted(SOURCE.rglob("*.py")):
        place = str(path.relative_to(SOURCE))
        if not place.startswith(("app", "core", "bench")) or any(part in place for part in _MUTE_FILES):
            continue
        collector = _Collector(place, everything=not place.startswith("app"))
        collector.visit(ast.parse(path.read_text("utf-8")))
        for one, many, context in collector.found:
            catalog.add((one, many) if many else one, context=context or None, locations=[(place, 0)])
    for path in sorted((SOURCE / "data/appliances").glob("*.toml")):
        appliance = tomllib.loads(path.read_text("utf-8"))
        for text in (appliance["title"], *appliance.get("afterwards", ()), *appliance.get("confirm", ())):
            catalog.add(text, locations=[(f"data/appliances/{path.name}", 0)])
    for path in sorted((SOURCE / "data/machines").glob("*.machine.json")):
        for text in _texts_in(json.loads(path.read_text("utf-8")), _PROFILE_TEXTS):
            catalog.add(text, locations=[("data/machines", 0)])
    for name, keys in _DATA_TEXTS.items():
        for text in _texts_in(tomllib.loads((SOURCE / "data" / name).read_text("utf-8")), keys):
            catalog.add(text, locations=[(f"data/{name}", 0)])
    return catalog


#: Of the machines that ship: what their steps, fasteners and outlines say.
_PROFILE_TEXTS = ("what", "with", "back", "place", "hidden_under", "lies", "shows", "undo", "parts_off", "seal")

#: Data files whose values under these keys are shown to people.
_DATA_TEXTS = {
    "intake.toml": ("title", "text", "remedy", "why", "hint", "came_with", "valuables"),
    "first-boot.toml": ("shows", "means", "then", "text"),
    "swap.toml": ("defers", "title", "text", "why", "shows", "usually", "undo"),
    "triage.toml": ("text", "caution"),
    "afterwards.toml": ("text", "caution"),
    "drivers.toml": ("title", "without"),
    "recipes.toml": ("title", "why"),
    "fills.toml": ("title", "because", "clear"),
}


def _texts_in(raw: object, keys: tuple[str, ...], key: str = "") -> Iterator[str]:
    if isinstance(raw, dict):
        for name, value in raw.items():
            yield from _texts_in(value, keys, name)
    elif isinstance(raw, list):
        for value in raw:
            yield from _texts_in(value, keys, key)
    elif isinstance(raw, str) and key in keys and any(c.isalpha() for c in raw):
        yield raw


def rendered(catalog: Catalog) -> bytes:
    out = BytesIO()
    write_po(out, catalog, width=118, omit_header=False, sort_output=False, include_lineno=False)
    text = out.getvalue().decode("utf-8")
    dated = (
        "POT-Creation-Date",
        "PO-Revision-Date",
        "Last-Translator",
        "Language-Team",
        "Report-Msgid",
        "Generated-By",
    )
    lines = [line for line in text.splitlines() if not line.startswith(tuple(f'"{name}' for name in dated))]
    return ("\n".join(line for line in lines if not line.startswith("# ")) + "\n").encode("utf-8")


def brought_up_to_date(path: Path, said: Catalog) -> tuple[bytes, list[str]]:
    """The catalogue with today's texts, and those of them that have no translation."""
    with path.open("rb") as file:
        old = read_po(file, locale=path.stem)
    old.update(said, no_fuzzy_matching=True, keep_user_comments=False)
    old.obsolete.clear()
    missing = [str(m.id) for m in old if m.id and not (all(m.string) if isinstance(m.string, tuple) else m.string)]
    return rendered(old), missing


def main() -> int:
    said, status = collect(), 0
    for path in sorted(LANGUAGES.glob("*.po")):
        text, missing = brought_up_to_date(path, said)
        if "--check" in sys.argv:
            if text != path.read_bytes() or missing:
                sys.stdout.write(f"{path.name}: out of date or {len(missing)} without translation: {missing[:5]}\n")
                status = 1
        else:
            path.write_bytes(text)
            sys.stdout.write(f"{path.name}: {len(missing)} of {len(said)} without translation\n")
    return status


if __name__ == "__main__":
    raise SystemExit(main())
