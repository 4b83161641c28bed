"""The house keeps its own rules: storeys, colours, actions, words."""

from __future__ import annotations

import ast
import re
import subprocess
import sys
import tomllib
from importlib.resources import files
from pathlib import Path

import pytest

import neogenesis
from neogenesis.app.theme.tokens import DAY, NIGHT, Tokens, contrast, tag_look
from tests.broken import BROKEN

ROOT = Path(neogenesis.__file__).parent


def test_every_core_module_works_without_a_window() -> None:
    modules = [".".join(("neogenesis", *p.relative_to(ROOT).with_suffix("").parts)) for p in ROOT.glob("core/**/*.py")]
    assert len(modules) > 40
    code = "import sys\nfor name in ('PyQt6', 'mfusepy', 'click'):\n    sys.modules[name] = None\n"
    code += "\n".join(f"import {name.removesuffix('.__init__')}" for name in modules)
    done = subprocess.run([sys.executable, "-c", code], capture_output=True, text=True, check=False)
    assert done.returncode == 0, done.stderr


def test_the_command_line_brings_neither_database_nor_window_along() -> None:
    code = "import sys, neogenesis.cli.main\nprint(*(m for m in ('sqlalchemy', 'alembic', 'PyQt6', 'scipy') if m in sys.modules))"
    done = subprocess.run([sys.executable, "-c", code], capture_output=True, text=True, check=True)
    assert done.stdout.split() == []


def test_what_is_broken_on_purpose_stands_there_once() -> None:
    """So that `make test-mutants` still breaks what it names."""
    counts = {one.name: (ROOT / one.file).read_text("utf-8").count(one.before) for one in BROKEN}
    assert len(counts) == len(BROKEN) > 70
    assert not {name: count for name, count in counts.items() if count != 1}


@pytest.mark.parametrize("tokens", [DAY, NIGHT])
def test_contrast_of_text_and_marks(tokens: Tokens) -> None:
    for ground in (tokens.ground, tokens.surface, tokens.raised, tokens.accent_soft):
        assert contrast(tokens.ink, ground) >= 7
        for name in ("muted", "accent", "good", "caution", "stop"):
            assert contrast(getattr(tokens, name), ground) >= 4.5, f"{name} on {ground} in {tokens.name}"
    assert contrast(tokens.accent_ink, tokens.accent) >= 4.5
    for role in ("system", "data", "recovery", "swap", "unknown", "startup", "reserved"):
        least = 2.6 if role in ("startup", "reserved", "recovery") else 3
        assert contrast(tokens.role(role), tokens.ground) >= least, f"{role} in {tokens.name}"


def test_neighbouring_tags_differ_in_letter_shape_and_colour() -> None:
    for index in range(24):
        one, other = tag_look(index), tag_look(index + 1)
        assert all(a != b for a, b in zip(one, other, strict=True))
        assert contrast(one[2], "#FFFFFF") >= 4.5
    assert len({tag_look(i) for i in range(12)}) == 12


def test_every_module_says_what_it_is_for() -> None:
    for path in ROOT.rglob("*.py"):
        text = ast.get_docstring(ast.parse(path.read_text("utf-8")))
        assert text or path.stat().st_size == 0, path


def test_judgements_have_reasons_and_nothing_names_a_registry() -> None:
    raw = files("neogenesis").joinpath("data/judgement.toml").read_text("utf-8")
    assert tomllib.loads(raw)["fill"]["caution_percent"] == 85
    for line in raw.splitlines():
        if re.match(r"\w+ = \d", line):
            assert "#" in line or "least_spare" in line, line
    root = ROOT.parents[1]
    for path in (*root.glob("requirements/*"), root / "pyproject.toml", root / "Makefile"):
        assert "://" not in path.read_text().replace("https://www.gnu.org", ""), path


def test_icons_and_fonts_ship_with_their_licences() -> None:
    data = ROOT / "data"
    named = set(
        re.findall(
            r'"([a-z0-9]+(?:-[a-z0-9]+)+|check|info|printer)"', "".join(p.read_text() for p in ROOT.glob("app/**/*.py"))
        )
    )
    shipped = {p.stem for p in (data / "icons").glob("*.svg")}
    assert {"check", "triangle-alert", "octagon-x", "info", "chevron-down", "arrow-right", "ship-wheel"} <= shipped & (
        named | shipped
    )
    for folder in ("icons", "fonts"):
        assert (data / folder / "LICENSE.txt").stat().st_size > 500
