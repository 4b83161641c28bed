"""Fields of an intake: each shows what is on record, and puts there what is typed, key by key."""

from __future__ import annotations

from collections.abc import Callable, Sequence

from PyQt6.QtWidgets import QLabel, QLineEdit, QVBoxLayout, QWidget

from neogenesis.app.language import said
from neogenesis.app.parts.chips import Chips
from neogenesis.app.parts.controls import label, row, stack
from neogenesis.app.theme.look import look
from neogenesis.core.errors import BadArgument
from neogenesis.core.intake import refuse_secret


class Line(QLineEdit):
    """A line that is on record with every key. What looks like a key or a password is taken out and said so."""

    def __init__(
        self, name: str, hint: str, get: Callable[[], str], put: Callable[[str], object], beside_key: bool = False
    ) -> None:
        super().__init__()
        self._get, self._put, self._beside_key = get, put, beside_key
        self.fault = label("", "stop", wrap=True)
        self.fault.hide()
        self.setAccessibleName(name)
        self.setPlaceholderText(hint)
        self.textEdited.connect(self._edited)
        self.refresh()

    def _edited(self, text: str) -> None:
        try:
            refuse_secret(text, self._beside_key)
        except BadArgument as error:
            self.clear()
            self._put("")
            self.say(error.sentence())
        else:
            self.say("")
            self._put(text)

    def say(self, sentence: str) -> None:
        self.fault.setText(said(sentence))
        self.fault.setVisible(bool(sentence))

    def refresh(self) -> None:
        text = self._get()
        if text != self.text() and not self.hasFocus():
            self.setText(text)
            self.setCursorPosition(0)


class Asked(QWidget):
    """A question with its words to switch: the question above, the words below."""

    def __init__(
        self,
        title: str,
        options: Sequence[tuple[str, str]],
        get: Callable[[], str],
        put: Callable[[str], object],
        beside: Sequence[QWidget] = (),
    ) -> None:
        """`get` and `put` are of one code, empty for none; `beside` stands below the words."""
        super().__init__()
        self._get = get
        self.chips = Chips(title, options, one=True)
        self.chips.switched.connect(lambda code: put("" if get() == code else code))
        self.setLayout(stack(label(title, "muted", wrap=True), self.chips, *beside, gap=look().px(4)))
        self.refresh()

    def refresh(self) -> None:
        self.chips.show_chosen((self._get(),))


class Part(QWidget):
    """A part of the page with a heading. `fields` are by the code of the question that they answer."""

    def __init__(self, key: str, title: str, short: str = "", hint: str = "", beside: QWidget | None = None) -> None:
        """`short` is what the contents call it; `beside` stands at its heading."""
        super().__init__()
        self.key, self.title, self.short = key, title, short or title
        self.fields: dict[str, QWidget | Chips] = {}
        self.refreshers: list[Callable[[], object]] = []
        self.heading: QLabel = label(title, "head")
        self.body = QVBoxLayout(self)
        self.body.setContentsMargins(0, 0, 0, look().px(4))
        self.body.setSpacing(look().px(8))
        line = row(self.heading, gap=look().px(16))
        if beside is not None:
            line.addWidget(beside, 1)
        head = stack(line, gap=2)
        if hint:
            head.addWidget(label(hint, "small", wrap=True))
        self.body.addLayout(head)

    def refresh(self) -> None:
        for refresh in self.refreshers:
            refresh()

    def take_keyboard(self, code: str) -> QWidget | None:
        """Put the keyboard where `code` is answered, if that is here."""
        field = self.fields.get(code)
        if isinstance(field, Asked):
            field = field.chips
        if isinstance(field, Chips):
            field.take_keyboard()
        elif field is not None:
            field.setFocus()
        return field
