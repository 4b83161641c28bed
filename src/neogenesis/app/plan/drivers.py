"""Devices against driver packages: what is missing first, and what one would notice without it."""

from __future__ import annotations

from pathlib import Path

from PyQt6.QtCore import Qt
from PyQt6.QtWidgets import QDialog, QFileDialog, QVBoxLayout, QWidget

from neogenesis.app.desk.open_job import OpenJob
from neogenesis.app.language import mark, said, tr
from neogenesis.app.parts.controls import button, clear, label, notice, row, scrolled, stack
from neogenesis.app.parts.dropped import DroppedFiles
from neogenesis.app.theme.look import look
from neogenesis.core.drivers.answer import DeviceAnswer

_STATUS = {
    "missing": ("stop", mark("no driver")),
    "doubtful": ("caution", mark("doubtful: {0}")),
    "covered": ("good", mark("{0}")),
    "system": ("good", mark("by the system itself")),
}
_ORDER = tuple(_STATUS)


class DriversSheet(QDialog):
    """A hardware list and a folder of packages; what is needed is packed and laid onto the new drive."""

    def __init__(self, parent: QWidget, desk: OpenJob) -> None:
        super().__init__(parent)
        self.setAttribute(Qt.WidgetAttribute.WA_DeleteOnClose)
        self._model = desk.plan.fresh
        self.hardware = desk.plan.fresh.hardware_list()
        packages = self._model.library / "packages"
        self.packages: Path | None = packages if packages.is_dir() else None
        self.setWindowTitle(tr("Drivers"))
        self.resize(look().px(820), look().px(600))
        self._of, self._from = label("", "muted", wrap=True), label("", "muted", wrap=True)
        self._rows = QVBoxLayout()
        self._rows.setSpacing(look().px(8))
        self._sum = label("", "head", wrap=True)
        self._fault = label("", "stop", wrap=True, copyable=True)
        self.search = button(tr("Find and pack"), self._find, "main", tr("Pack what is needed into the job's folder"))
        self._build()
        DroppedFiles(self, self._dropped)
        self._model.changed.connect(self.refresh)
        self.refresh()

    def _build(self) -> None:
        inner = QWidget()
        inner.setLayout(stack(self._rows, None))
        of = row(button(tr("Hardware list…"), self._choose_hardware), self._of, gap=look().px(12))
        choose = button(tr("Packages…"), self._choose_packages)
        tip = tr("Packages that it keeps on the old drive")
        self.own = button(tr("The old system's own"), self._take_own, "", tip)
        source = row(choose, self.own, self._from, gap=look().px(12))
        of.setStretch(1, 1)
        source.setStretch(2, 1)
        words = tr(
            "A list is our own record, modalias files, what lspci -nn or lsusb print, or an export with device "
            "identifiers. Drop files here as well."
        )
        body = stack(
            label(words, "muted", wrap=True),
            of,
            source,
            self._sum,
            scrolled(inner),
            self._fault,
            row(None, button(tr("Close"), self.accept), self.search),
            gap=look().px(10),
            margin=look().px(18),
        )
        body.setStretch(4, 1)
        self.setLayout(body)

    @property
    def fault(self) -> str:
        return self._fault.text()

    def _choose_hardware(self) -> None:
        place, _ = QFileDialog.getOpenFileName(self, tr("Hardware list"), str(self._model.library))
        if place:
            self.take(Path(place))

    def _choose_packages(self) -> None:
        place = QFileDialog.getExistingDirectory(self, tr("Folder of packages"), str(self._model.library))
        if place:
            self.take(Path(place))

    def _take_own(self) -> None:
        self.packages = Path(self._model.old_drive)
        self.refresh()

    def _dropped(self, files: list[Path]) -> None:
        for one in files:
            self.take(one)

    def take(self, path: Path) -> None:
        """A folder is one of packages, a file a hardware list."""
        if path.is_dir():
            self.packages = path
        else:
            self.hardware = path
        self.refresh()

    def _find(self) -> None:
        if self.hardware is not None and self.packages is not None:
            self._model.ask_drivers(self.hardware, self.packages)

    def refresh(self) -> None:
        model, found = self._model, self._model.coverage
        self._of.setText(self.hardware.name if self.hardware is not None else tr("none yet"))
        self.own.setEnabled(bool(model.old_drive))
        own = self.packages is not None and str(self.packages) == model.old_drive
        folder = str(self.packages) if self.packages is not None else tr("none yet")
        self._from.setText(tr("of the old system itself") if own else folder)
        self.search.setEnabled(not model.asking and self.hardware is not None and self.packages is not None)
        self._fault.setText(said(model.failure.sentence()) if model.failure is not None else "")
        clear(self._rows)
        if found is None:
            self._sum.setText(tr("Looking…") if model.asking else tr("Nothing was looked at yet."))
            return
        covered = sum(d.status in ("covered", "system") for d in found.devices)
        during = len(found.during_installation)
        self._sum.setText(
            tr("{0} of {1} devices are covered; {2} packages must be there during the installation.").format(
                covered, len(found.devices), during
            )
        )
        for note in found.notes:
            self._rows.addWidget(notice("caution", note))
        for device in sorted(found.devices, key=lambda d: _ORDER.index(d.status)):
            self._rows.addWidget(_line(device))
        for one in found.skipped:
            self._rows.addWidget(notice("note", one.inf, said(one.text)))


def _line(device: DeviceAnswer) -> QWidget:
    severity, words = _STATUS[device.status]
    best = f"{device.best.inf} {device.best.version}".strip() if device.best is not None else ""
    more = tr(words).format(best)
    if device.status in ("missing", "doubtful"):
        more = f"{more}. {said(device.without)} {next(iter(device.ids), '')}"
    return notice(severity, device.name, more)
