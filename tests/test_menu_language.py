"""The menu language, held against the loader itself: many snippets in one start of the emulated machine."""

from __future__ import annotations

import re
import subprocess
from pathlib import Path

import pytest
from hypothesis import given, settings
from hypothesis import strategies as st

from neogenesis.bench.emulator import Trial, run_trial
from neogenesis.bench.inside.booting import boot_drives
from neogenesis.core.boot.grub import GrubRun
from neogenesis.core.boot.script import parse
from tests.boots import loader
from tests.drives import LINUX, STARTUP, Part, make_drive

#: Each says its outcome with `echo`; what the loader says is what the run must say.
SNIPPETS = (
    'set a=1\necho "v=$a"',
    'a=2\necho "v=${a}"',
    "set a='$b'\necho $a",
    'set a="x y"\nfor i in $a; do echo "<$i>"; done',
    'set a="x y"\nfor i in "$a"; do echo "<$i>"; done',
    "if [ -e /here.txt ]; then echo yes; else echo no; fi",
    "if [ -e /gone.txt ]; then echo yes; else echo no; fi",
    "if [ -f /folder ]; then echo yes; else echo no; fi",
    "if [ -d /folder ]; then echo yes; else echo no; fi",
    "if [ -s /empty.txt ]; then echo yes; else echo no; fi",
    "if [ -s /here.txt ]; then echo yes; else echo no; fi",
    "if [ ! -e /gone.txt ]; then echo yes; else echo no; fi",
    "if ! [ -e /gone.txt ]; then echo yes; else echo no; fi",
    'if [ -z "$nothing" -a -f /here.txt ]; then echo yes; else echo no; fi',
    'if [ -n "$nothing" -o -f /here.txt ]; then echo yes; else echo no; fi',
    'if [ -n "$nothing" -o -f /gone.txt ]; then echo yes; else echo no; fi',
    "if [ ( -f /gone.txt -o -f /here.txt ) -a 1 = 1 ]; then echo yes; else echo no; fi",
    "if test 1 -lt 2; then echo yes; else echo no; fi",
    "if [ 10 -gt 9 ]; then echo yes; else echo no; fi",
    "if [ 10 > 9 ]; then echo yes; else echo no; fi",
    "if [ 0x10 -eq 16 ]; then echo yes; else echo no; fi",
    "if [ a != b ]; then echo yes; else echo no; fi",
    'if [ "$nothing" = "" ]; then echo yes; else echo no; fi',
    'if [ $nothing = "" ]; then echo yes; else echo no; fi',
    "if [ x$feature_menuentry_id = xy ]; then echo yes; else echo no; fi",
    'if [ "$grub_platform" = efi -a "$grub_cpu" = x86_64 ]; then echo yes; else echo no; fi',
    "if false; then echo a; elif true; then echo b; elif true; then echo c; else echo d; fi",
    "if false; then echo a; elif false; then echo b; else echo c; fi",
    "if true; then if false; then echo a; else echo b; fi; else echo c; fi",
    "function one { echo one-$1-$2; }\none x y",
    "function two {\n if [ $# = 2 ]; then return 1; fi\n echo went-on\n}\nif two a b; then echo yes; else echo no; fi",
    "function three { for i in $@; do echo $i; done; }\nthree a b",
    "function four { shift; echo $1; }\nfour a b",
    "function five { setparams x y; echo $2; }\nfive a b",
    "for i in a b c; do if [ $i = b ]; then continue; fi; echo $i; done",
    "for i in a b c; do if [ $i = b ]; then break; fi; echo $i; done",
    'set n=xxx\nwhile [ "$n" != "" ]; do echo $n; if [ $n = xxx ]; then n=x; else n=; fi; done',
    "set n=x\nuntil [ $n = xxx ]; do n=x$n; done\necho $n",
    "nosuchcommand\necho after",
    "if nosuchcommand; then echo yes; else echo no; fi",
    "cat /gone.txt\necho after",
    "if search --no-floppy --label --set=found ESPX; then echo yes-$found; else echo no; fi",
    "if search --no-floppy --label --set=found GONE; then echo yes-$found; else echo no-$found; fi",
    'search --no-floppy --file --set=found /only-there.txt\necho "f=$found"',
    'search.file /only-there.txt found2\necho "f=$found2"',
    "set old=$root\nsearch --file --set /only-there.txt\necho $root\nset root=$old",
    "set r=$root\nset root=(hd0,gpt2)\necho $root\nset root=$r",
    "if [ -e (hd0,gpt2)/only-there.txt ]; then echo yes; else echo no; fi",
    "if [ -e (hd0,2)/only-there.txt ]; then echo yes; else echo no; fi",
    "if [ -e (hd9,gpt2)/only-there.txt ]; then echo yes; else echo no; fi",
    "if [ -e /HERE.TXT ]; then echo yes; else echo no; fi",
    "source /sourced.cfg\necho $from_sourced",
    "source /gone.cfg\necho after",
    "if [ -e $prefix/grub.cfg ]; then echo yes; else echo no; fi",
    "load_env --file /env\necho $saved_entry",
    "load_env --file /env kept\necho $kept-$other",
    'regexp --set 1:got "([a-z]+)[0-9]" abc9\necho $got',
    "probe --set=p --label (hd0,gpt2)\necho $p",
    'eval "echo a; echo b"',
    'echo "a\\"b" \'c d\' e\\ f',
    'echo a"b c"d',
    "echo a;echo b",
    "echo one # not two",
    "unset gone\necho <$gone>".replace("<", "'<'").replace(">", "'>'"),
    "true; echo $?",
    "false; echo $?",
    "configfile /nested.cfg\necho back-$only_inside",
    "shown=1\nexport shown\nconfigfile /exported.cfg\necho $shown",
    "export never=1\necho n-$never",
    "submenuless=1; echo $submenuless",
    'menuentry_id_option="--id"\necho $menuentry_id_option x',
    "echo before\nif true; then echo in; else fi\necho after",
    "if true; then\necho in\nelse\nfi\necho after",
    "echo a | echo b\necho after",
    "echo a; echo b; ; echo c\necho after",
    "fi\necho after",
    "echo a }\necho after",
    'menuentry "Nothing" {\n}\necho after',
    "if true; then\necho in > out\necho further\nfi\necho after",
    "for i in a b; do\necho $i && true\ndone\necho after",
    "echo $\necho after",
    "case a\necho after",
)
_MODULES = ("eval", "regexp", "probe", "loadenv", "true", "minicmd")
_FILES = {
    "here.txt": b"here\n",
    "empty.txt": b"",
    "folder/inner.txt": b"inner\n",
    "sourced.cfg": b"set from_sourced=it\n",
    "nested.cfg": b"set only_inside=1\necho inside\n",
    "exported.cfg": b"echo shown-$shown\nset shown=2\n",
    "env": (b"# GRUB Environment Block\nsaved_entry=two\nkept=k\nother=o\n").ljust(1024, b"#"),
}


@pytest.fixture(scope="module")
def one(tmp_path_factory: pytest.TempPathFactory) -> Path:
    """A drive whose menu runs every snippet between marks, and then waits."""
    lines = ["set timeout=0"]
    for number, snippet in enumerate(SNIPPETS):
        lines += [f"echo BEGIN-{number}", snippet, f"echo END-{number}"]
    menu = "\n".join([*lines, "echo ALL-SAID", "sleep 30", ""])
    files = {**_FILES, "EFI/BOOT/BOOTX64.EFI": loader(modules=_MODULES), "EFI/x/grub.cfg": menu.encode()}
    start = Part(20, STARTUP, "fat16", "ESPX", files)
    other = Part(24, LINUX, "ext4", "OTHER", {"only-there.txt": b"x"})
    return make_drive(tmp_path_factory.mktemp("language") / "one.img", 60, [start, other])


def _outcomes(text: str) -> dict[int, list[str]]:
    found: dict[int, list[str]] = {}
    at: int | None = None
    for line in re.sub(r"error: [^\n]*\n", "", text).splitlines():
        begin, end = re.match(r"BEGIN-(\d+)\s*$", line), re.match(r"END-(\d+)\s*$", line)
        if begin:
            at = int(begin[1])
            found[at] = []
        elif end:
            at = None
        elif at is not None and line.strip():
            found[at].append(line.strip())
    return found


def test_the_loader_says_what_the_run_says(one: Path) -> None:
    with boot_drives([(str(one), "")]) as drives:
        home = (drives[0], drives[0].survey.partitions[0])
        run = GrubRun(drives, home)
        run.start("", "/EFI/x")
    mine = _outcomes("\n".join(run.output))
    trial = run_trial(Trial([str(one)], expect="ALL-SAID", seconds=60))
    assert trial.seen, trial.serial
    its = _outcomes(trial.serial)
    assert len(its) == len(SNIPPETS)
    different = {SNIPPETS[n]: (its[n], mine.get(n)) for n in its if its[n] != mine.get(n)}
    assert not different


_TOKENS = (
    *("if", "then", "else", "elif", "fi", "for", "in", "do", "done", "while", "until", "function", "foo", "{", "}"),
    *(";", "\n", "true", "echo", "[ a ]", "'q w'", '"d $x"', "$x", "${y}", "#c\n", "!", "x=1", "menuentry", "|"),
)
_WHOLE = (
    "if true; then echo a; fi",
    "for i in a b; do echo $i; done",
    "function foo {\n true\n}",
    'menuentry "A" --id x { echo b; }',
    "if [ a ]\nthen\n echo b\nelif true; then\n echo c\nelse\n echo d\nfi",
    "submenu 'x' { menuentry 'y' {\n true\n} }",
)


@settings(max_examples=60, deadline=None)
@given(
    st.one_of(
        st.lists(st.sampled_from(_TOKENS), min_size=1, max_size=9).map(" ".join),
        st.tuples(st.sampled_from(_WHOLE), st.sampled_from([";", "\n", " "]), st.sampled_from(_WHOLE)).map("".join),
    )
)
def test_the_parser_takes_what_the_loaders_own_takes(text: str) -> None:
    done = subprocess.run(
        ["grub-script-check"], input=f"{text}\n", capture_output=True, text=True, check=False, timeout=20
    )
    taken = done.returncode == 0 or "no commands" in done.stderr  # a script that does nothing is told, and taken
    assert (parse(f"{text}\n").fault == 0) == taken, done.stderr


@settings(max_examples=200, deadline=None)
@given(st.text(alphabet="if then;fi{}'\"$a=[]\n\\|echo set search ", max_size=300))
def test_any_text_is_parsed_or_refused(text: str) -> None:
    parse(text)


@pytest.mark.parametrize(
    "script",
    [
        "set a=xxxxxxxx\n" + "set a=$a$a\n" * 60,
        "while true; do true; done\n",
        "function f { f; }\nf\n",
        "set default=" + "1" * 5000 + '\nmenuentry "A" { cat /gone; }\n',
        "set root=(hd" + "1" * 5000 + ",gpt1)\ncat /x\n",
        "source /EFI/x/loop.cfg\n",
        "if " * 500 + "\n",
        "{ " * 500 + "\n",
        "true\n" * 150_000,
        'regexp "a*a*a*a*b" aaaaaaaaaaaaaaaaaaaaaaaaaaaa\n',
    ],
)
def test_a_script_without_end_is_left(one: Path, script: str) -> None:
    with boot_drives([(str(one), "")]) as drives:
        run = GrubRun(drives, (drives[0], drives[0].survey.partitions[0]))
        run.run(script)
    assert run.broke or any(link.ok is None for link in run.links)
