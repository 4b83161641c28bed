"""The command field: type a few letters of anything."""

from __future__ import annotations

from collections.abc import Callable
from dataclasses import dataclass

from PyQt6.QtCore import QEvent, QObject, Qt
from PyQt6.QtGui import QKeyEvent
from PyQt6.QtWidgets import QDialog, QHBoxLayout, QLineEdit, QListWidget, QListWidgetItem, QWidget

from neogenesis.app.parts.controls import label, stack
from neogenesis.app.theme.look import look
from neogenesis.app.words import tr

_MOST_SHOWN = 40


@dataclass(frozen=True, slots=True)
class Found:
    """Something that can be gone to or done; `kind` says what it is, `more` stands at the right."""

    title: str
    kind: str
    more: str
    do: Callable[[], object]


def matches(found: list[Found], typed: str) -> list[Found]:
    """Those that hold every typed word, or its letters in order; the closest first."""
    words = typed.casefold().split()
    scored = []
    for index, item in enumerate(found):
        text = f"{item.title} {item.kind} {item.more}".casefold()
        score = 0
        for word in words:
            at = text.find(word)
            if at >= 0:
                score += 0 if at == 0 or text[at - 1] == " " else 1
            elif _in_order(word, text):
                score += 5
            else:
                break
        else:
            scored.append((score, index, item))
    return [item for _, _, item in sorted(scored, key=lambda s: s[:2])]


def _in_order(letters: str, text: str) -> bool:
    rest = iter(text)
    return all(letter in rest for letter in letters)


class CommandField(QDialog):
    """A field with a list below it. Return does the first one; arrows choose another."""

    def __init__(self, parent: QWidget, found: list[Found]) -> None:
        super().__init__(parent, Qt.WindowType.FramelessWindowHint | Qt.WindowType.Dialog)
        self.setObjectName("card")
        self.setAttribute(Qt.WidgetAttribute.WA_StyledBackground)
        self._found = found
        self._wanted: Found | None = None
        self.field = QLineEdit()
        self.field.setPlaceholderText(tr("Find an action, a job, a drive or a stop"))
        self.field.setAccessibleName(tr("Command"))
        self.field.textChanged.connect(self._filter)
        self.field.installEventFilter(self)
        self.list = QListWidget()
        self.list.setFocusPolicy(Qt.FocusPolicy.NoFocus)
        self.list.itemClicked.connect(self._take)
        self.setLayout(stack(self.field, self.list, gap=8, margin=12))
        self.resize(look().px(560), look().px(420))
        self._filter("")

    def _filter(self, typed: str) -> None:
        self.list.clear()
        for item in matches(self._found, typed)[:_MOST_SHOWN]:
            shown = QListWidgetItem(self.list)
            shown.setData(Qt.ItemDataRole.UserRole, item)
            line = QWidget()
            line.setAttribute(Qt.WidgetAttribute.WA_TransparentForMouseEvents)
            inner = QHBoxLayout(line)
            inner.setContentsMargins(look().px(8), 0, look().px(8), 0)
            inner.addWidget(label(item.title))
            inner.addWidget(label(item.kind, "small"))
            inner.addStretch(1)
            inner.addWidget(label(item.more, "muted"))
            hint = line.sizeHint()
            hint.setHeight(look().px(34))
            shown.setSizeHint(hint)
            self.list.setItemWidget(shown, line)
        if self.list.count():
            self.list.setCurrentRow(0)

    def eventFilter(self, watched: QObject | None, event: QEvent | None) -> bool:
        if isinstance(event, QKeyEvent) and event.type() == QEvent.Type.KeyPress:
            step = {Qt.Key.Key_Down: 1, Qt.Key.Key_Up: -1}.get(Qt.Key(event.key()))
            if step:
                self.list.setCurrentRow(min(max(self.list.currentRow() + step, 0), self.list.count() - 1))
                return True
            if event.key() in (Qt.Key.Key_Return, Qt.Key.Key_Enter):
                current = self.list.currentItem()
                if current is not None:
                    self._take(current)
                return True
        return super().eventFilter(watched, event)

    def _take(self, item: QListWidgetItem) -> None:
        self._wanted = item.data(Qt.ItemDataRole.UserRole)
        self.accept()

    def chosen(self) -> Found | None:
        """What was chosen, after the field was closed."""
        return self._wanted
