"""Which system lives on a volume, told from the paths of its files."""

from __future__ import annotations

import shlex

from neogenesis.core.filesystem.model import SystemFamily
from neogenesis.core.system.tree import FileTree

_NT_PATHS = (
    "Windows/System32/config/SYSTEM",
    "Windows/System32/winload.efi",
    "Windows/System32/ntoskrnl.exe",
    "Windows/System32/winload.exe",
    "Windows/System32",
)
_LINUX_RELEASES = ("etc/os-release", "usr/lib/os-release")
_LINUX_PATHS = ("etc/fstab", "sbin/init", "etc/passwd")
_MERIDIAN_RELEASE = "Meridian/System/release"


def _named(text: str, key: str) -> str:
    """The value of KEY=value in a release file, quotes removed."""
    for line in text.splitlines():
        name, _, value = line.partition("=")
        if name.strip() == key:
            try:
                return " ".join(shlex.split(value))
            except ValueError:
                return value.strip()
    return ""


def find_system(tree: FileTree) -> tuple[SystemFamily | None, str]:
    """The family and, where one is written, the name of the release."""
    release = tree.read(_MERIDIAN_RELEASE)
    if release is not None:
        return "meridian", _named(release.decode("utf-8", "replace"), "PRETTY_NAME")
    if tree.which_exist(_NT_PATHS):
        return "nt", ""
    for path in _LINUX_RELEASES:
        release = tree.read(path)
        if release:
            text = release.decode("utf-8", "replace")
            return "linux", _named(text, "PRETTY_NAME") or _named(text, "NAME")
    if len(tree.which_exist(_LINUX_PATHS)) >= 2:
        return "linux", ""
    return None, ""


_LOADERS = ("grub/grub.cfg", "grub2/grub.cfg", "boot/grub/grub.cfg", "bootmgr", "loader/loader.conf")


def has_loader(tree: FileTree) -> bool:
    """Whether the volume holds what a firmware or a first loader goes on with."""
    return bool(tree.which_exist(_LOADERS))
