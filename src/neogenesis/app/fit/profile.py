"""Profiles of machines and parts on a form: checked while they are typed, kept in versions."""

from __future__ import annotations

from typing import Any

import msgspec
from PyQt6.QtCore import QSize, Qt
from PyQt6.QtWidgets import QDialog, QListWidget, QListWidgetItem, QStackedWidget, QWidget

from neogenesis.app.fit.fields import BAY, MACHINE, MEMORY, fields_for, part_specs
from neogenesis.app.fit.model import FitModel
from neogenesis.app.language import said, tr
from neogenesis.app.parts.controls import button, label, row, scrolled, stack
from neogenesis.app.parts.form import Form
from neogenesis.app.theme.look import look
from neogenesis.core.errors import NeogenesisError
from neogenesis.core.fit.part import Part, read_part
from neogenesis.core.machine import Machine, read_machine
from neogenesis.core.record import known_only, to_json


class ProfileSheet(QDialog):
    """The machine with its bays and memory, and a part. Every fault is said, by field, before anything is kept."""

    def __init__(self, parent: QWidget, model: FitModel, part: Part | None) -> None:
        super().__init__(parent)
        self._model = model
        machine = model.machine
        self._machine: dict[str, Any] = _plain(machine) if machine is not None else {}
        self._part: dict[str, Any] = _plain(part) if part is not None else {}
        self.setWindowTitle(tr("Profiles"))
        self.resize(look().px(800), look().px(600))
        self.pages = QListWidget()
        self.pages.setFixedWidth(look().px(170))
        self.pages.setAccessibleName(tr("Pages of the profiles"))
        self._forms = QStackedWidget()
        self.forms: list[tuple[str, Form]] = []
        self._fault = label("", "stop", wrap=True, copyable=True)
        self.pages.currentRowChanged.connect(self._forms.setCurrentIndex)
        self.add = button(tr("Add a bay"), self._add_bay)
        self.remove = button(tr("Remove this bay"), self._remove_bay)
        self.keep = button(tr("Keep"), self._keep, "main")
        self._build()
        across = row(self.pages, self._forms, gap=look().px(16))
        across.setStretch(1, 1)
        foot = row(self.add, self.remove, None, button(tr("Cancel"), self.reject), self.keep)
        body = stack(across, self._fault, foot, gap=look().px(12), margin=look().px(18))
        body.setStretch(0, 1)
        self.setLayout(body)

    def _build(self) -> None:
        """A page for each thing that the profiles hold."""
        at = max(0, self.pages.currentRow())
        self.pages.clear()
        self.forms = []
        while self._forms.count():
            gone = self._forms.widget(0)
            if gone is not None:
                self._forms.removeWidget(gone)
                gone.deleteLater()
        if self._machine:
            self._page("machine", tr("Machine"), Form(fields_for(MACHINE)), self._machine)
            for n, bay in enumerate(self._machine.get("bays") or ()):
                self._page(f"bay {n}", bay.get("name") or tr("Bay"), Form(fields_for(BAY)), bay)
            self._page("memory", tr("Memory"), Form(fields_for(MEMORY)), self._machine.get("memory") or {})
        if self._part:
            specs = part_specs(str(self._part["kind"]))
            self._page("part", tr("Part"), Form(fields_for(specs)), self._part)
        self.pages.setCurrentRow(min(at, self.pages.count() - 1))
        self.add.setVisible(bool(self._machine))
        self.remove.setVisible(bool(self._machine))
        self._check()

    def _page(self, key: str, title: str, form: Form, values: dict[str, Any]) -> None:
        form.show_values({name: values.get(name) for name in form.fields})
        form.edited.connect(self._check)
        item = QListWidgetItem(title)
        item.setSizeHint(QSize(look().px(120), look().px(36)))
        item.setData(Qt.ItemDataRole.UserRole, key)
        self.pages.addItem(item)
        self._forms.addWidget(scrolled(form))
        self.forms.append((key, form))

    def look_at(self, key: str) -> None:
        """Show the page of that key: machine, bay 0, memory or part."""
        keys = [k for k, _ in self.forms]
        if key in keys:
            self.pages.setCurrentRow(keys.index(key))

    # Values

    def _gather(self) -> tuple[dict[str, Any], dict[str, Any], list[str]]:
        """Machine and part as they are typed now, and what cannot be read of it."""
        machine, part = dict(self._machine), dict(self._part)
        bays = [dict(b) for b in machine.get("bays") or ()]
        faults: list[str] = []
        for key, form in self.forms:
            values, wrong = form.read()
            faults += wrong
            if key == "machine":
                machine |= values
            elif key == "memory" and (machine.get("memory") or any(v is not None for v in values.values())):
                machine["memory"] = (machine.get("memory") or {}) | values
            elif key == "part":
                part |= values
            elif key.startswith("bay"):
                bays[int(key.split()[1])] |= values
        if machine:
            machine["bays"] = bays
        return machine, part, faults

    def _read(self) -> tuple[Machine | None, Part | None, list[str]]:
        machine, part, faults = self._gather()
        read_m, read_p = None, None
        if not faults:
            try:
                read_m = read_machine(to_json(known_only(machine)), "machine") if machine else None
            except NeogenesisError as error:
                faults.append(error.sentence())
            try:
                read_p = read_part(to_json(known_only(part)), "part") if part else None
            except NeogenesisError as error:
                faults.append(error.sentence())
        return read_m, read_p, faults

    def _check(self) -> None:
        _, _, faults = self._read()
        self._fault.setText("\n".join(said(f) for f in faults))
        self.keep.setEnabled((not faults and any(form.dirty for _, form in self.forms)) or self._bays_changed())

    def _bays_changed(self) -> bool:
        now = self._model.machine
        return bool(self._machine) and now is not None and len(self._machine.get("bays") or ()) != len(now.bays)

    @property
    def fault(self) -> str:
        return self._fault.text()

    # Doing

    def _add_bay(self) -> None:
        self._machine, self._part, _ = self._gather()
        names = {b.get("name") for b in self._machine.get("bays") or ()}
        name = next(n for k in range(1, len(names) + 2) if (n := tr("bay {0}").format(k)) not in names)
        self._machine["bays"] = [*(self._machine.get("bays") or ()), {"name": name, "kind": "2.5"}]
        self._build()
        self.look_at(f"bay {len(self._machine['bays']) - 1}")

    def _remove_bay(self) -> None:
        key = self.forms[self.pages.currentRow()][0] if self.forms else ""
        if key.startswith("bay"):
            self._machine, self._part, _ = self._gather()
            del self._machine["bays"][int(key.split()[1])]
            self._build()

    def _keep(self) -> None:
        machine, part, faults = self._read()
        if faults:
            return
        try:
            for profile, before in ((machine, self._model.machine), (part, self._known(part))):
                if profile is not None and profile != before:
                    self._model.keep(profile)
        except NeogenesisError as error:
            self._fault.setText(said(error.sentence()))
        else:
            self.accept()

    def _known(self, part: Part | None) -> Part | None:
        return next((p for p in self._model.parts if part is not None and p.id == part.id), None)


def _plain(record: Machine | Part) -> dict[str, Any]:
    found: dict[str, Any] = msgspec.to_builtins(record)
    return found
