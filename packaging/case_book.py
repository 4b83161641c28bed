"""Prints the case book, `tests/cases`, into docs/deciding.md; `--check` only says whether it is up to date."""

from __future__ import annotations

import sys
import tomllib
from collections.abc import Iterator
from pathlib import Path
from typing import Any

ROOT = Path(__file__).resolve().parent.parent
BOOK, PAGE = ROOT / "tests/cases", ROOT / "docs/deciding.md"
_BEGIN, _END = "<!-- case book -->", "<!-- end of the case book -->"
_TITLES = {
    "health": "What a drive's readings mean",
    "triage": "What is looked at next",
    "decide": "Which way",
    "fit": "Which drive fits",
    "mechanical": "Which drive is mechanical",
    "memory": "Which memory fits",
    "cautions": "What to mind when it is opened",
}


def _said(value: Any) -> str:
    if isinstance(value, bool):
        return "yes" if value else "no"
    if isinstance(value, list):
        return ", ".join(map(_said, value)) or "none"
    if isinstance(value, dict):
        return ", ".join(f"{name} {_said(one)}" for name, one in value.items())
    return str(value) or "none"


def _right(right: dict[str, Any]) -> str:
    return "; ".join(f"{name.replace('_', ' ')}: {_said(value)}" for name, value in right.items())


def _rows() -> Iterator[str]:
    for kind, title in _TITLES.items():
        yield from ("", f"### {title}", "", "| case | right | why |", "|---|---|---|")
        for path in sorted((BOOK / kind).glob("*.toml")):
            case = tomllib.loads(path.read_text("utf-8"))
            yield f"| {case['case']} | {_right(case['right'])} | {case['why']} |"


def main() -> int:
    """Returns the status to exit with."""
    old = PAGE.read_text("utf-8")
    before, _, rest = old.partition(_BEGIN)
    _, _, after = rest.partition(_END)
    new = "\n".join((before + _BEGIN, *_rows(), "", _END)) + after
    if "--check" in sys.argv[1:]:
        if new != old:
            sys.stdout.write("docs/deciding.md is out of date: run packaging/case_book.py\n")
        return int(new != old)
    PAGE.write_text(new, "utf-8")
    return 0


if __name__ == "__main__":
    sys.exit(main())
