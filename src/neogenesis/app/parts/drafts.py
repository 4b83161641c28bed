"""What is typed and not yet taken outlives the widget it was typed into."""

from __future__ import annotations

from PyQt6.QtWidgets import QLineEdit, QPlainTextEdit


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
