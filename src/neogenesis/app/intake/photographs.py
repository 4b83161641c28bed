"""Photographs at the Intake: by file, by drag, from the clipboard, or out of a folder where a camera drops them."""

from __future__ import annotations

from collections.abc import Callable, Sequence
from pathlib import Path

from msgspec.structs import replace
from PyQt6.QtCore import QBuffer, QFileSystemWatcher, QIODevice, QObject, QSize, Qt, QTimer, QUrl, pyqtSignal
from PyQt6.QtGui import QDesktopServices, QGuiApplication, QImageReader, QPixmap
from PyQt6.QtWidgets import QFileDialog, QLabel, QLineEdit, QVBoxLayout, QWidget

from neogenesis.app.desk.session import Session
from neogenesis.app.desk.work import Failure
from neogenesis.app.intake.model import IntakeModel
from neogenesis.app.language import said, tr
from neogenesis.app.parts.controls import Choice, button, label, row, stack
from neogenesis.app.parts.dropped import DroppedFiles, local_files
from neogenesis.app.parts.flow import FlowRow
from neogenesis.app.theme.look import look
from neogenesis.app.words import both
from neogenesis.bench.records.photographs import SUFFIXES, keep_photograph, photograph_folder, photographs_in
from neogenesis.core.intake import Photograph
from neogenesis.core.intake.change import with_photograph
from neogenesis.core.job import ROUTE

_THUMB = QSize(168, 112)
_STABLE_MS = 600


def look_at(path: Path) -> tuple[Photograph, bytes]:
    """What an original is, and a small PNG of it, empty where it cannot be shown. Memory stays bounded."""
    reader = QImageReader(str(path))
    reader.setAutoTransform(True)
    size = reader.size()
    shot = Photograph(file=path.name, size_bytes=path.stat().st_size)
    if size.isValid():
        shot = replace(shot, width=size.width(), height=size.height())
        reader.setScaledSize(size.scaled(_THUMB * 2, Qt.AspectRatioMode.KeepAspectRatio))
    image = reader.read()
    if image.isNull():
        return replace(shot, fault="It cannot be shown here; the original is kept."), b""
    buffer = QBuffer()
    buffer.open(QIODevice.OpenModeFlag.WriteOnly)
    image.scaled(_THUMB * 2, Qt.AspectRatioMode.KeepAspectRatio).save(buffer, "PNG")
    return shot, bytes(buffer.data().data())


def keep_and_look(source: Path, dossier: Path, passing: bool = False) -> tuple[Photograph, bytes]:
    """For a thread: copy and look. A `passing` source was only made to be copied."""
    kept = keep_photograph(source, dossier)
    if passing:
        source.unlink(missing_ok=True)
    return look_at(kept)


class WatchedFolder(QObject):
    """Tells of photographs that come into a folder and have stopped growing. What is there already is left alone."""

    came = pyqtSignal(list)

    def __init__(self, folder: str) -> None:
        super().__init__()
        self._folder = Path(folder)
        self._known = photographs_in(self._folder)
        self._growing: dict[str, tuple[int, int]] = {}
        self._watcher = QFileSystemWatcher([folder], self) if self._folder.is_dir() else None
        self._timer = QTimer(self)
        self._timer.setInterval(_STABLE_MS)
        self._timer.timeout.connect(self._look)
        if self._watcher is not None:
            self._watcher.directoryChanged.connect(lambda _: self._timer.start())

    def _look(self) -> None:
        found = {n: s for n, s in photographs_in(self._folder).items() if self._known.get(n) != s}
        done = [name for name, stamp in found.items() if self._growing.get(name) == stamp and stamp[0]]
        self._growing = {name: stamp for name, stamp in found.items() if name not in done}
        self._known |= {name: found[name] for name in done}
        if not self._growing:
            self._timer.stop()
        if done:
            self.came.emit([self._folder / name for name in sorted(done)])


class Shot(QWidget):
    """One photograph: what it shows, its caption, and the stop that it belongs to."""

    def __init__(self, shot: Photograph, picture: bytes, changed: Callable[[Photograph], None], path: Path) -> None:
        super().__init__()
        self._changed, self.shot = changed, shot
        picture_label = QLabel()
        picture_label.setFixedSize(look().px(_THUMB.width()), look().px(_THUMB.height()))
        picture_label.setAlignment(Qt.AlignmentFlag.AlignCenter)
        pixmap = QPixmap()
        if picture and pixmap.loadFromData(picture):
            scaled = pixmap.scaled(
                picture_label.size(), Qt.AspectRatioMode.KeepAspectRatio, Qt.TransformationMode.SmoothTransformation
            )
            picture_label.setPixmap(scaled)
        else:
            picture_label.setText(said(shot.fault) if shot.fault else "")
            picture_label.setWordWrap(True)
        picture_label.setAccessibleName(shot.caption or shot.file)
        self.caption = QLineEdit(shot.caption)
        self.caption.setPlaceholderText(tr("caption"))
        self.caption.setAccessibleName(tr("Caption of {0}").format(shot.file))
        self.caption.textEdited.connect(lambda text: self._take(caption=text))
        self.stop = Choice()
        for stop in ROUTE:
            self.stop.addItem(said(stop.title), stop.key)
        self.stop.setCurrentIndex(max(0, self.stop.findData(shot.stop)))
        self.stop.setAccessibleName(tr("Stop that {0} belongs to").format(shot.file))
        self.stop.activated.connect(lambda _: self._take(stop=self.stop.currentData()))
        pixels = f"{shot.width} × {shot.height}" if shot.width else tr("no picture")
        size = label(f"{pixels}  {both(shot.size_bytes).split(' (')[0]}", "small", copyable=True)
        self.open = button(
            tr("Open"),
            lambda: QDesktopServices.openUrl(QUrl.fromLocalFile(str(path))),
            "plain",
            tr("Open the original"),
        )
        self.setLayout(stack(picture_label, self.caption, self.stop, row(size, None, self.open), gap=4))
        self.setFixedWidth(look().px(_THUMB.width() + 4))

    def _take(self, **fields: str) -> None:
        self.shot = replace(self.shot, **fields)
        self._changed(self.shot)


class PhotographsPart(QWidget):
    """All photographs of the job, with the ways to add one."""

    def __init__(self, model: IntakeModel, session: Session) -> None:
        super().__init__()
        self._model, self._session = model, session
        DroppedFiles(self, self.take)
        self._shots: dict[str, Shot] = {}
        self._pictures: dict[str, bytes] = {}
        self._flow = FlowRow(look().px(12))
        self._said = label("", "small", wrap=True)
        self._said.hide()
        self.add = button(tr("Add photographs…"), self._choose, "", tr("From files; or drop them here, or paste one"))
        folder = session.bench.photo_folder
        watched = tr("New ones in {0} are taken in by themselves.").format(folder) if folder else ""
        head = row(self.add, label(watched, "small"), None, gap=12)
        layout = QVBoxLayout(self)
        layout.setContentsMargins(0, 0, 0, 0)
        layout.setSpacing(look().px(8))
        layout.addLayout(head)
        layout.addWidget(self._said)
        layout.addLayout(self._flow)
        self._watched = WatchedFolder(folder) if folder else None
        if self._watched is not None:
            self._watched.came.connect(self.take)

    def refresh(self) -> None:
        for shot in self._model.intake.photographs:
            if shot.file not in self._shots:
                if shot.file in self._pictures or shot.fault:
                    self._show(shot)
                else:
                    self._pictures[shot.file] = b""
                    path = photograph_folder(self._session.dossier) / shot.file
                    self._session.bench.work.in_thread(lambda got, shot=shot: self._seen(shot, got), look_at, path)

    def _seen(self, shot: Photograph, got: object) -> None:
        if isinstance(got, tuple):
            self._pictures[shot.file] = got[1]
        self._show(shot)

    def _show(self, shot: Photograph) -> None:
        if shot.file in self._shots:
            return
        path = photograph_folder(self._session.dossier) / shot.file
        made = self._shots[shot.file] = Shot(shot, self._pictures.get(shot.file, b""), self._changed, path)
        self._flow.addWidget(made)

    def _changed(self, shot: Photograph) -> None:
        self._model.put(with_photograph(self._model.intake, shot))

    def take(self, paths: Sequence[Path]) -> None:
        """Copy them into the dossier, one after the other, outside the window's thread."""
        self._say("")
        for path in paths:
            self._session.bench.work.in_thread(self._kept, keep_and_look, path, self._session.dossier)

    def _kept(self, got: tuple[Photograph, bytes] | Failure) -> None:
        if isinstance(got, Failure):
            self._say(said(got.sentence()))
            return
        shot, picture = got
        self._pictures[shot.file] = picture
        stop = self._session.job.stop if self._session.job.stop in {s.key for s in ROUTE} else "intake"
        shot = replace(shot, at=self._session.bench.clock.wall(), stop=stop)
        known = next((p for p in self._model.intake.photographs if p.file == shot.file), None)
        if known is None:
            self._model.put(with_photograph(self._model.intake, shot))
        self.refresh()

    def _say(self, text: str) -> None:
        self._said.setText(text)
        self._said.setVisible(bool(text))

    def _choose(self) -> None:
        pattern = " ".join(f"*{suffix}" for suffix in sorted(SUFFIXES))
        found, _ = QFileDialog.getOpenFileNames(self, tr("Photographs"), "", pattern)
        self.take([Path(name) for name in found])

    def paste(self) -> None:
        """What the clipboard holds: files, or a picture."""
        clipboard = QGuiApplication.clipboard()
        data = clipboard.mimeData() if clipboard is not None else None
        if clipboard is None or data is None:
            return
        if data.hasUrls():
            self.take(local_files(data))
        elif data.hasImage():
            stamp = self._session.bench.clock.wall().replace(":", "").replace("+", "-")
            path = self._session.dossier / f"pasted-{stamp}.png"
            clipboard.image().save(str(path), "PNG")
            self._session.bench.work.in_thread(self._kept, keep_and_look, path, self._session.dossier, True)
        else:
            self._say(tr("The clipboard holds no picture."))
