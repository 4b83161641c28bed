"""The sheet on which a job is taken in or changed."""

from __future__ import annotations

from collections.abc import Callable
from datetime import datetime, timedelta

import msgspec
from PyQt6.QtCore import QDateTime, QLocale
from PyQt6.QtWidgets import QCheckBox, QDateTimeEdit, QDialog, QFormLayout, QLineEdit, QWidget

from neogenesis.app.parts.controls import button, label, row, stack
from neogenesis.app.theme.look import look
from neogenesis.app.words import moment_of, tr
from neogenesis.core.errors import NeogenesisError
from neogenesis.core.job import Job

_USUAL_DAYS, _USUAL_HOUR = 2, 17
_STORED = "%Y-%m-%d %H:%M"


class JobSheet(QDialog):
    """Takes in a machine, or changes what is known of one. Where `take` refuses, its sentence is shown."""

    def __init__(self, parent: QWidget, take: Callable[[Job], None], job: Job | None = None) -> None:
        super().__init__(parent)
        self.setWindowTitle(tr("New job") if job is None else tr("Change {0}").format(job.ticket))
        self._take, self._job = take, job
        self.fields = {
            "ticket": (QLineEdit(), tr("Ticket"), tr("the number on the tag")),
            "customer": (QLineEdit(), tr("Customer"), ""),
            "contact": (QLineEdit(), tr("Reached by"), tr("telephone or mail")),
            "machine": (QLineEdit(), tr("Machine"), tr("maker and model from the plate")),
            "wish": (QLineEdit(), tr("What the customer wants"), ""),
        }
        form = QFormLayout()
        form.setSpacing(look().px(10))
        for name, (field, title, hint) in self.fields.items():
            field.setPlaceholderText(hint)
            field.setMinimumWidth(look().px(340))
            field.setAccessibleName(title)
            if job is not None:
                field.setText(getattr(job, name))
                field.setReadOnly(name == "ticket")
            form.addRow(label(title), field)
        self.promised = QCheckBox(tr("Promised for"))
        self.promise = QDateTimeEdit()
        self.promise.setCalendarPopup(True)
        self.promise.setDisplayFormat(QLocale().dateFormat(QLocale.FormatType.ShortFormat) + "  HH:mm")
        self.promise.setAccessibleName(tr("Day and time of the promise"))
        self.promised.toggled.connect(self.promise.setEnabled)
        due = moment_of(job.promise) if job is not None else None
        self._set_promise(due)
        self.promised.setChecked(due is not None)
        self.promise.setEnabled(due is not None)
        form.addRow(self.promised, self.promise)
        self._fault = label("", "stop", wrap=True)
        done = button(tr("Take in") if job is None else tr("Change"), self._done, "main")
        done.setDefault(True)
        layout = stack(form, self._fault, row(None, button(tr("Cancel"), self.reject), done), gap=14, margin=20)
        self.setLayout(layout)

    def _set_promise(self, due: datetime | None) -> None:
        usual = datetime.now() + timedelta(days=_USUAL_DAYS)
        self.promise.setDateTime(QDateTime(due or usual.replace(hour=_USUAL_HOUR, minute=0, second=0, microsecond=0)))

    @property
    def ticket(self) -> str:
        return self.fields["ticket"][0].text().strip()

    def _promise(self) -> str:
        """As it is stored; free text of an older record stays as long as nobody chooses a day."""
        if self.promised.isChecked():
            return self.promise.dateTime().toPyDateTime().strftime(_STORED)
        before = self._job.promise if self._job is not None else ""
        return "" if moment_of(before) else before

    def _done(self) -> None:
        values = {name: field.text().strip() for name, (field, _, _) in self.fields.items()}
        job = msgspec.convert({**values, "promise": self._promise()}, Job)
        try:
            self._take(job)
        except NeogenesisError as error:
            self._fault.setText(error.sentence())
        else:
            self.accept()
