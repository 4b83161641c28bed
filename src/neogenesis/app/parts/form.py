"""Forms: fields that say what they take, what is wrong with it, and whether it was changed.

A field is declared once, with its key, its title (which is also what a screen reader hears) and how its text becomes a
value; the form lays fields out, knows which were changed, and says the first fault in one sentence.
"""

from __future__ import annotations

from collections.abc import Callable, Sequence
from datetime import datetime, timedelta
from typing import Any

from PyQt6.QtCore import QDateTime, QLocale, QTimer, pyqtSignal
from PyQt6.QtWidgets import (
    QCheckBox,
    QComboBox,
    QDateTimeEdit,
    QFormLayout,
    QLineEdit,
    QPlainTextEdit,
    QScrollArea,
    QVBoxLayout,
    QWidget,
)

from neogenesis.app.language import said
from neogenesis.app.parts.controls import Choice, label, row
from neogenesis.app.theme.look import look
from neogenesis.app.words import moment_of
from neogenesis.core.errors import NeogenesisError

_USUAL_DAYS, _USUAL_HOUR = 2, 17
_STORED_MOMENT = "%Y-%m-%d %H:%M"


class Field:
    """What all fields have in common. `widget` takes the keyboard; `line` is what stands in the form."""

    widget: QWidget

    def __init__(self, key: str, title: str) -> None:
        self.key, self.title = key, title

    @property
    def line(self) -> QWidget:
        return self.widget

    @property
    def heading(self) -> QWidget:
        """What stands before it."""
        return label(self.title)

    def raw(self) -> str:
        """What is in it now, as text: two of the same say that nothing was changed."""
        raise NotImplementedError

    def value(self) -> Any:
        """What it stands for; raises NeogenesisError with what is wrong."""
        return self.raw()

    def show(self, value: Any) -> None:
        raise NotImplementedError

    def when_edited(self, listener: Callable[[], object]) -> None:
        raise NotImplementedError


class TextField(Field):
    """A line of text, or several. `parse` makes the value, `shown` its text again; `unit` stands behind it."""

    def __init__(
        self,
        key: str,
        title: str,
        hint: str = "",
        parse: Callable[[str], Any] = str.strip,
        shown: Callable[[Any], str] = str,
        unit: str = "",
        lines: int = 1,
    ) -> None:
        super().__init__(key, title)
        self._parse, self._shown, self._unit = parse, shown, unit
        self.edit: QLineEdit | QPlainTextEdit = QLineEdit() if lines == 1 else QPlainTextEdit()
        if isinstance(self.edit, QPlainTextEdit):
            self.edit.setTabChangesFocus(True)
            self.edit.setFixedHeight(look().metrics().lineSpacing() * lines + look().px(16))
        self.edit.setPlaceholderText(hint)
        self.edit.setMinimumWidth(look().px(340))
        self.edit.setAccessibleName(f"{title}, {unit}" if unit else title)
        self.widget = self.edit

    @property
    def line(self) -> QWidget:
        if not self._unit:
            return self.widget
        holder = QWidget()
        holder.setLayout(row(self.widget, label(self._unit, "muted")))
        return holder

    def raw(self) -> str:
        return self.edit.text() if isinstance(self.edit, QLineEdit) else self.edit.toPlainText()

    def value(self) -> Any:
        return self._parse(self.raw())

    def show(self, value: Any) -> None:
        text = self._shown(value)
        if isinstance(self.edit, QLineEdit):
            self.edit.setText(text)
            if not self.edit.hasFocus():
                self.edit.home(False)  # a text that is longer than its field is read from its beginning
        else:
            self.edit.setPlainText(text)

    def lock(self) -> None:
        """Shown and copyable, not to be changed."""
        self.edit.setReadOnly(True)

    def when_edited(self, listener: Callable[[], object]) -> None:
        self.edit.textChanged.connect(lambda *_: listener())


class ChoiceField(Field):
    """One of several; each is a value and its words."""

    def __init__(self, key: str, title: str, options: Sequence[tuple[str, str]]) -> None:
        super().__init__(key, title)
        self.box: QComboBox = Choice()
        for value, words in options:
            self.box.addItem(words, value)
        self.box.setAccessibleName(title)
        self.widget = self.box

    def raw(self) -> str:
        return str(self.box.currentData() or "")

    def show(self, value: Any) -> None:
        self.box.setCurrentIndex(max(0, self.box.findData(value)))

    def when_edited(self, listener: Callable[[], object]) -> None:
        self.box.currentIndexChanged.connect(lambda _: listener())


class MomentField(Field):
    """A day and a time with a calendar, or none; the value is `2026-11-29 16:00`, or empty.

    Free text of an older record stays as long as nobody chooses a day.
    """

    def __init__(self, key: str, title: str, spoken: str) -> None:
        super().__init__(key, title)
        self.known = QCheckBox(title)
        self.edit = QDateTimeEdit()
        self.edit.setCalendarPopup(True)
        self.edit.setDisplayFormat(QLocale().dateFormat(QLocale.FormatType.ShortFormat) + "  HH:mm")
        self.edit.setAccessibleName(spoken)
        self.known.toggled.connect(self.edit.setEnabled)
        self.widget = self.edit
        self._free = ""
        self.show("")

    @property
    def heading(self) -> QWidget:
        return self.known

    def raw(self) -> str:
        return self.edit.dateTime().toPyDateTime().strftime(_STORED_MOMENT) if self.known.isChecked() else self._free

    def show(self, value: Any) -> None:
        due = moment_of(value)
        self._free = "" if due else value
        usual = datetime.now() + timedelta(days=_USUAL_DAYS)
        self.edit.setDateTime(QDateTime(due or usual.replace(hour=_USUAL_HOUR, minute=0, second=0, microsecond=0)))
        self.known.setChecked(due is not None)
        self.edit.setEnabled(due is not None)

    def when_edited(self, listener: Callable[[], object]) -> None:
        self.known.toggled.connect(lambda _: listener())
        self.edit.dateTimeChanged.connect(lambda _: listener())


class Form(QWidget):
    """Fields below each other, and below them what is wrong."""

    edited = pyqtSignal()

    def __init__(self, fields: Sequence[Field]) -> None:
        super().__init__()
        self.fields = {field.key: field for field in fields}
        self._shown: dict[str, str] = {}
        self._headings: list[QWidget] = []
        self._fault = label("", "stop", wrap=True)
        self._fault.hide()
        form = QFormLayout()
        form.setSpacing(look().px(10))
        for field in fields:
            heading = field.heading
            self._headings.append(heading)
            form.addRow(heading, field.line)
            field.when_edited(self.edited.emit)
        layout = QVBoxLayout(self)
        layout.setContentsMargins(0, 0, 0, 0)
        layout.setSpacing(look().px(12))
        layout.addLayout(form)
        layout.addWidget(self._fault)
        self._shown = self._raw()

    def align_with(self, *others: Form) -> None:
        """Let the fields of several forms begin at one line."""
        headings = [heading for form in (self, *others) for heading in form._headings]
        wide = max(heading.sizeHint().width() for heading in headings)
        for heading in headings:
            heading.setMinimumWidth(wide)

    def show_values(self, values: dict[str, Any]) -> None:
        """Fill in what is on record; from then on the form knows what was changed."""
        for key, value in values.items():
            if key in self.fields:
                self.fields[key].show(value)
        self._shown = self._raw()

    def _raw(self) -> dict[str, str]:
        return {key: field.raw() for key, field in self.fields.items()}

    @property
    def dirty(self) -> tuple[str, ...]:
        """The keys of the fields that were changed."""
        return tuple(key for key, text in self._raw().items() if text != self._shown[key])

    def values(self) -> dict[str, Any] | None:
        """Everything by its key; None when something is wrong, which is said and takes the keyboard."""
        found = {}
        for key, field in self.fields.items():
            try:
                found[key] = field.value()
            except NeogenesisError as error:
                self.say_fault(error.sentence())
                field.widget.setFocus()
                return None
        self.say_fault("")
        return found

    def read(self) -> tuple[dict[str, Any], list[str]]:
        """As far as it can be read now, and what cannot, each with the title of its field; the keyboard stays."""
        found, faults = {}, []
        for key, field in self.fields.items():
            try:
                found[key] = field.value()
            except NeogenesisError as error:
                faults.append(f"{field.title}: {said(error.sentence())}")
        return found, faults

    def say_fault(self, sentence: str) -> None:
        self._fault.setText(said(sentence))
        self._fault.setVisible(bool(sentence))
        if sentence:
            QTimer.singleShot(0, self._bring_fault_into_view)

    def _bring_fault_into_view(self) -> None:
        """Once it has got its place in what scrolls around the form."""
        around = self.parentWidget()
        while around is not None and not isinstance(around, QScrollArea):
            around = around.parentWidget()
        if around is not None:
            around.ensureWidgetVisible(self._fault)

    @property
    def fault(self) -> str:
        return self._fault.text()
