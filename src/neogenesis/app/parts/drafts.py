"""What is typed and not yet taken outlives the widget it was typed into."""

from __future__ import annotations

from PyQt6.QtWidgets import QLineEdit, QPlainTextEdit


class Subject:
    """What is typed into `field` confirms one thing; when that changes, what was typed is gone."""

    def __init__(self, drafts: dict[str, str], key: str, field: QLineEdit) -> None:
        self._drafts, self._key, self._field = drafts, f"{key} of", field

    def be(self, subject: str) -> None:
        """From now on it confirms `subject`, which names drive, insertion and work."""
        if self._drafts.get(self._key) != subject:
            self._field.clear()
            self._drafts[self._key] = subject


def keep_draft(drafts: dict[str, str], key: str, field: QLineEdit | QPlainTextEdit) -> None:
    """Give `field` what was typed there before, and remember from now on what is typed."""
    typed = drafts.get(key, "")

    def remember() -> None:
        text = field.text() if isinstance(field, QLineEdit) else field.toPlainText()
        if text:
            drafts[key] = text
        else:
            drafts.pop(key, None)

    if typed:
        if isinstance(field, QLineEdit):
            field.setText(typed)
        else:
            field.setPlainText(typed)
    field.textChanged.connect(remember)
