"""Leaves out of the packages that come with the program what it never loads, and what a file should not be.

What Qt's kept modules and plugins need is asked of the libraries themselves, and what of SciPy is loaded of SciPy.
"""

from __future__ import annotations

import re
import shutil
import subprocess
import sys
from collections.abc import Iterable
from pathlib import Path

#: Of the toolkit: a window, its pictures and its keyboard.
_MODULES = ("QtCore", "QtGui", "QtWidgets", "QtSvg")
_PLUGINS = (
    "generic",
    "iconengines",
    "imageformats",
    "platforminputcontexts",
    "platforms",
    "platformthemes",
    "wayland-decoration-client",
    "wayland-graphics-integration-client",
    "wayland-shell-integration",
    "xcbglintegrations",
)
_LANGUAGES = ("root", "en", "de", "ar")
#: Run in a process of its own: everything that the program takes of SciPy.
_SOLVE = """
import sys
from scipy.optimize import Bounds, LinearConstraint, milp
from scipy.sparse import csr_array, vstack
a = csr_array([[1.0, 1.0]])
limit = LinearConstraint(vstack([a]), 0, 4)
assert milp([-1, -1], integrality=[1, 1], bounds=Bounds(0, 3), constraints=[limit]).success
print("\\n".join(sorted({name.split(".")[1] for name in sys.modules if name.startswith("scipy.")})))
"""


def slim(site: Path) -> None:
    """Leave out of the packages in `site` what the program never loads."""
    _toolkit(site / "PyQt6")
    _solver(site)
    for folder in [*site.rglob("tests"), *site.rglob("testing"), *site.glob("numpy/f2py"), *site.glob("bin")]:
        if folder.is_dir() and folder.parent.name != "numpy":  # numpy loads its own `testing` for SciPy
            shutil.rmtree(folder)
    for pattern in (
        "*.pyi",
        "*.pyx",
        "*.pxd",
        "*.h",
        "*.a",
        "*.c",
        "*.sip",
        "zstandard/_cffi*",
        "zstandard/backend_cffi*",
    ):
        for file in site.glob(pattern if "/" in pattern else f"**/{pattern}"):
            file.unlink()
    for file in (site / "babel/locale-data").glob("*.dat"):
        if file.stem.partition("_")[0] not in _LANGUAGES:
            file.unlink()
    for name in ("zstandard", "pytsk3*", "pyregf*"):
        for library in site.glob(f"{name}/*.so" if "*" not in name else f"{name}.so"):
            subprocess.run(["strip", "--strip-unneeded", str(library)], check=True)
    for library in (p for p in site.rglob("*.so*") if p.is_file()):
        library.chmod(0o644)


def _toolkit(package: Path) -> None:
    for module in package.glob("*.abi3.so"):
        if module.name.partition(".")[0] not in _MODULES:
            module.unlink()
    for folder in ("uic", "lupdate", "bindings", "Qt6/qml", "Qt6/qsci"):
        shutil.rmtree(package / folder, ignore_errors=True)
    for plugins in (package / "Qt6/plugins").iterdir():
        if plugins.name not in _PLUGINS:
            shutil.rmtree(plugins)
    for file in (package / "Qt6/translations").iterdir():
        if not file.name.startswith(("qt_", "qtbase_")):
            file.unlink()
    (package / "Qt6/plugins/imageformats/libqpdf.so").unlink(missing_ok=True)
    libraries = package / "Qt6/lib"
    kept = _closure([*package.glob("*.so"), *(package / "Qt6/plugins").rglob("*.so")], libraries)
    for library in libraries.iterdir():
        if library.name not in kept:
            library.unlink()


def _closure(first: Iterable[Path], libraries: Path) -> set[str]:
    """The names of all libraries in `libraries` that these need, and those need."""
    waiting, kept = list(first), set[str]()
    while waiting:
        said = subprocess.run(["objdump", "-p", str(waiting.pop())], capture_output=True, text=True, check=True).stdout
        for name in re.findall(r"^\s*NEEDED\s+(\S+)", said, re.MULTILINE):
            if name not in kept and (libraries / name).exists():
                kept.add(name)
                waiting.append(libraries / name)
    return kept


def _solver(site: Path) -> None:
    done = subprocess.run(
        [sys.executable, "-S", "-c", f"import sys; sys.path.insert(0, {str(site)!r})\n{_SOLVE}"],
        capture_output=True,
        text=True,
        check=True,
    )
    kept = set(done.stdout.split())
    for folder in (site / "scipy").iterdir():
        if folder.is_dir() and folder.name not in kept:
            shutil.rmtree(folder)
