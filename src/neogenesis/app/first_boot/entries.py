"""The machine's own list of boot entries: pasted, dropped, or put together by hand."""

from __future__ import annotations

from pathlib import Path

import msgspec
from PyQt6.QtCore import Qt
from PyQt6.QtGui import QKeySequence, QShortcut
from PyQt6.QtWidgets import QDialog, QLineEdit, QListWidget, QListWidgetItem, QPlainTextEdit, QWidget

from neogenesis.app.first_boot.model import FirstBootModel
from neogenesis.app.language import said, tr
from neogenesis.app.parts.controls import Choice, button, label, plain_tip, row, stack
from neogenesis.app.parts.dropped import DroppedFiles
from neogenesis.app.theme.look import look
from neogenesis.bench.inside.booting import read_entries
from neogenesis.core.boot.entries import BootList, free_number, made_by_hand, read_listing, target_text
from neogenesis.core.errors import NeogenesisError
from neogenesis.core.machine.model import BootEntry
from neogenesis.core.undo import Undo


class EntriesSheet(QDialog):
    """In the order of starting. What is switched off or not in the order is tried by no firmware."""

    def __init__(self, parent: QWidget, model: FirstBootModel) -> None:
        super().__init__(parent)
        self._model = model
        self._now = model.entries or BootList()
        self._undo: Undo[BootList] = Undo()
        self.setWindowTitle(tr("The machine's own list"))
        self.resize(look().px(860), look().px(620))
        self.list = QListWidget()
        self.list.setAccessibleName(tr("Boot entries in their order"))
        self.list.itemChanged.connect(self._switched)
        self.list.currentRowChanged.connect(lambda _: self._show_orders())
        self.paste = QPlainTextEdit()
        self.paste.setAccessibleName(tr("Listing of the boot entries"))
        self.paste.setPlaceholderText(
            tr("Start the machine with a Linux stick, type efibootmgr -v, and paste or drop here what it says.")
        )
        self.paste.setFont(look().font(mono=True))
        self.paste.textChanged.connect(self._show_orders)
        DroppedFiles(self.paste, self._dropped)
        self.take = button(tr("Take the listing"), self._take)
        self.up = button(tr("Earlier"), lambda: self._move(-1), tip=tr("Try it earlier  Alt+Up"))
        self.down = button(tr("Later"), lambda: self._move(1), tip=tr("Try it later  Alt+Down"))
        self.once = button(tr("Next start only"), self._once)
        self.remove = button(tr("Remove"), self._remove)
        self.back = button(tr("Undo"), self._undo_last, tip=tr("Undo  Ctrl+Z"))
        for keys, one in (("Alt+Up", self.up), ("Alt+Down", self.down), ("Ctrl+Z", self.back)):
            QShortcut(QKeySequence(keys), self, one.click)
        self.title = QLineEdit()
        self.title.setPlaceholderText(tr("as the firmware names it"))
        self.title.setAccessibleName(tr("Name of the entry"))
        self.where = Choice()
        self.where.setAccessibleName(tr("Partition of the entry"))
        for words, unique, number in model.startups():
            self.where.addItem(words, (unique, number))
        self.path = QLineEdit()
        self.path.setPlaceholderText("\\EFI\\BOOT\\BOOTX64.EFI")
        self.path.setAccessibleName(tr("Path of the loader"))
        self.add = button(tr("Add"), self._add)
        self.secure = Choice()
        self.secure.setAccessibleName(tr("Secure start"))
        for words, value in ((tr("not known"), None), (tr("on"), True), (tr("off"), False)):
            self.secure.addItem(words, value)
        self.secure.activated.connect(lambda _: self._change(secure_start=self.secure.currentData()))
        self._fault = label("", "stop", wrap=True, copyable=True)
        self.keep = button(tr("Keep"), self._keep, "main")
        self._build()
        self._show(self._now)

    def _build(self) -> None:
        by_hand = row(self.title, self.where, self.path, self.add)
        by_hand.setStretch(0, 3)
        by_hand.setStretch(2, 3)
        orders = row(
            self.up, self.down, self.once, self.remove, self.back, None, label(tr("Secure start")), self.secure
        )
        body = stack(
            label(
                tr("In the order in which the firmware tries them. A filled box means that it is switched on."), "muted"
            ),
            self.list,
            orders,
            label(tr("One more"), "head"),
            by_hand,
            label(tr("From a listing"), "head"),
            self.paste,
            self._fault,
            row(self.take, None, button(tr("Cancel"), self.reject), self.keep),
            margin=look().px(18),
        )
        body.setStretch(1, 3)
        body.setStretch(6, 2)
        self.setLayout(body)

    # Showing

    @property
    def fault(self) -> str:
        return self._fault.text()

    def _ordered(self) -> list[BootEntry]:
        """Those of the order first, then what is in none."""
        now = self._now
        by_number = {e.number: e for e in now.boot_entries}
        first = [by_number[n] for n in now.boot_order if n in by_number]
        return [*first, *(e for e in now.boot_entries if e not in first)]

    def _show(self, now: BootList) -> None:
        at = self.list.currentRow()
        self.list.blockSignals(True)
        self.list.clear()
        for entry in self._ordered():
            marks = []
            if entry.number == now.boot_next:
                marks.append(tr("next start"))
            if now.boot_order and entry.number not in now.boot_order:
                marks.append(tr("not in the order"))
            words = f"{entry.number}   {entry.label}   {target_text(entry)}"
            item = QListWidgetItem(f"{words}   ({', '.join(marks)})" if marks else words)
            item.setToolTip(plain_tip(entry.device_path))
            item.setFlags(item.flags() | Qt.ItemFlag.ItemIsUserCheckable)
            item.setCheckState(Qt.CheckState.Checked if entry.active else Qt.CheckState.Unchecked)
            item.setData(Qt.ItemDataRole.UserRole, entry.number)
            self.list.addItem(item)
        self.list.blockSignals(False)
        self.list.setCurrentRow(min(max(at, 0), self.list.count() - 1))
        self.secure.setCurrentIndex(self.secure.findData(now.secure_start))
        self._show_orders()

    def _show_orders(self) -> None:
        at, count = self.list.currentRow(), self.list.count()
        self.up.setEnabled(at > 0)
        self.down.setEnabled(0 <= at < count - 1)
        self.once.setEnabled(at >= 0)
        self.remove.setEnabled(at >= 0)
        self.back.setEnabled(self._undo.can_undo)
        self.take.setEnabled(bool(self.paste.toPlainText().strip()))
        self.add.setEnabled(self.where.count() > 0)
        self.keep.setEnabled(self._now != (self._model.entries or BootList()))

    # Changing

    def _change(self, **fields: object) -> None:
        self._set(msgspec.structs.replace(self._now, **fields))

    def _set(self, value: BootList) -> None:
        self._fault.setText("")
        self._undo.remember(self._now)
        self._now = value
        self._show(value)

    def _undo_last(self) -> None:
        self._now = self._undo.undo(self._now)
        self._show(self._now)

    def _number(self) -> str:
        item = self.list.currentItem()
        return str(item.data(Qt.ItemDataRole.UserRole)) if item is not None else ""

    def _switched(self, item: QListWidgetItem) -> None:
        number, on = item.data(Qt.ItemDataRole.UserRole), item.checkState() == Qt.CheckState.Checked
        entries = self._now.boot_entries
        self._change(boot_entries=tuple(_switch(e, on) if e.number == number else e for e in entries))

    def _move(self, by: int) -> None:
        order = [e.number for e in self._ordered()]
        at = self.list.currentRow()
        if 0 <= at + by < len(order):
            order[at], order[at + by] = order[at + by], order[at]
            self._change(boot_order=tuple(order))
            self.list.setCurrentRow(at + by)

    def _once(self) -> None:
        number = self._number()
        self._change(boot_next=None if self._now.boot_next == number else number)

    def _remove(self) -> None:
        number, now = self._number(), self._now
        self._change(
            boot_entries=tuple(e for e in now.boot_entries if e.number != number),
            boot_order=tuple(n for n in now.boot_order if n != number),
            boot_next=None if now.boot_next == number else now.boot_next,
        )

    def _add(self) -> None:
        unique, partition = self.where.currentData()
        now = self._now
        name = self.title.text().strip() or self.where.currentText()
        made = made_by_hand(
            free_number(now), name, unique, partition, self.path.text().strip() or self.path.placeholderText()
        )
        order = (*[e.number for e in self._ordered()], made.number)
        self._change(boot_entries=(*now.boot_entries, made), boot_order=order)
        self.list.setCurrentRow(self.list.count() - 1)

    def _dropped(self, files: list[Path]) -> None:
        try:
            self._set(read_entries(files[0]))
        except NeogenesisError as error:
            self._fault.setText(said(error.sentence()))

    def _take(self) -> None:
        try:
            self._set(read_listing(self.paste.toPlainText()))
        except NeogenesisError as error:
            self._fault.setText(said(error.sentence()))
        else:
            self.paste.clear()

    def _keep(self) -> None:
        try:
            self._model.keep_entries(self._now)
        except NeogenesisError as error:
            self._fault.setText(said(error.sentence()))
        else:
            self.accept()


def _switch(entry: BootEntry, on: bool) -> BootEntry:
    return msgspec.structs.replace(entry, active=on)
