"""Labels, buttons and rows in the house style."""

from __future__ import annotations

from collections.abc import Callable
from html import escape

from PyQt6.QtCore import QRectF, QSize, Qt
from PyQt6.QtGui import QFontMetrics, QKeySequence, QPainter, QPaintEvent, QResizeEvent
from PyQt6.QtWidgets import (
    QCheckBox,
    QComboBox,
    QFrame,
    QHBoxLayout,
    QLabel,
    QLayout,
    QLineEdit,
    QPushButton,
    QScrollArea,
    QSizePolicy,
    QVBoxLayout,
    QWidget,
)

from neogenesis.app.language import mark, said, tr
from neogenesis.app.theme.icons import paint_icon
from neogenesis.app.theme.look import SMALL, look

SEVERITY_ICONS = {"good": "check", "note": "info", "caution": "triangle-alert", "stop": "octagon-x"}
_SEVERITY_WORDS = {
    "good": mark("in order"),
    "note": mark("to know"),
    "caution": mark("with care"),
    "stop": mark("stands in the way"),
}
SEVERITY_TOKENS = {"good": "good", "note": "muted", "caution": "caution", "stop": "stop"}


def label(text: str = "", kind: str = "", wrap: bool = False, copyable: bool = False) -> QLabel:
    """`kind` is title, figure, head, muted, small, stop, caution or good."""
    made = QLabel(text)
    made.setTextFormat(Qt.TextFormat.PlainText)
    if kind:
        made.setProperty("kind", kind)
    made.setWordWrap(wrap)
    if copyable:
        made.setTextInteractionFlags(
            Qt.TextInteractionFlag.TextSelectableByMouse | Qt.TextInteractionFlag.TextSelectableByKeyboard
        )
    return made


def plain_tip(text: str) -> str:
    """A tip that shows `text` as it stands: what a drive or a customer is called may look like markup."""
    return f"<qt>{escape(text)}</qt>" if "<" in text or "&" in text else text


def plain_caption(text: str) -> str:
    """For a button or a box: `&` is shown, and makes no key."""
    return text.replace("&", "&&")


def mono(text: str = "", kind: str = "", copyable: bool = True) -> QLabel:
    """Serials, offsets and columns of figures."""
    made = label(text, kind, copyable=copyable)
    made.setFont(look().font(mono=True))
    made.setStyleSheet("font-family: 'B612 Mono';")
    return made


def button(text: str, do: Callable[[], object], kind: str = "", tip: str = "") -> QPushButton:
    """`kind` is main, write or plain. Never a default button: Enter alone starts nothing."""
    made = QPushButton(text)
    made.setAutoDefault(False)
    made.setDefault(False)
    if kind:
        made.setProperty("kind", kind)
    if tip:
        words, gap, keys = tip.partition("  ")
        made.setToolTip(f"{words}{gap}{native_keys(keys)}")
    made.clicked.connect(lambda: do())
    return made


def native_keys(keys: str) -> str:
    """A shortcut such as `Ctrl+Z` as this desktop writes it, in its language; other words stay."""
    return QKeySequence(keys).toString(QKeySequence.SequenceFormat.NativeText) or keys


def rule() -> QFrame:
    line = QFrame()
    line.setObjectName("rule")
    line.setFixedHeight(1)
    return line


def row(*items: QWidget | QLayout | None, gap: int = 8) -> QHBoxLayout:
    """Side by side; None takes the room that is left."""
    made = QHBoxLayout()
    made.setContentsMargins(0, 0, 0, 0)
    made.setSpacing(gap)
    _fill(made, items)
    return made


def stack(*items: QWidget | QLayout | None, gap: int = 8, margin: int = 0) -> QVBoxLayout:
    """One above the other; None takes the room that is left."""
    made = QVBoxLayout()
    made.setContentsMargins(margin, margin, margin, margin)
    made.setSpacing(gap)
    _fill(made, items)
    return made


def _fill(layout: QHBoxLayout | QVBoxLayout, items: tuple[QWidget | QLayout | None, ...]) -> None:
    for item in items:
        if item is None:
            layout.addStretch(1)
        elif isinstance(item, QWidget):
            layout.addWidget(item)
        else:
            layout.addLayout(item)


def scrolled(inner: QWidget) -> QScrollArea:
    """`inner` in a frame that scrolls when there is not room for all of it; it takes no part in the tab order."""
    made = QScrollArea()
    made.setWidget(inner)
    made.setWidgetResizable(True)
    made.setFocusPolicy(Qt.FocusPolicy.NoFocus)
    return made


def read_through(inner: QWidget, name: str) -> QScrollArea:
    """A long text or list as tall as its place; it takes the keyboard, so that the arrow keys go through it."""
    made = QScrollArea()
    made.setWidget(inner)
    made.setWidgetResizable(True)
    made.setHorizontalScrollBarPolicy(Qt.ScrollBarPolicy.ScrollBarAlwaysOff)
    made.setAccessibleName(name)
    return made


def tick(text: str) -> tuple[QCheckBox, QHBoxLayout]:
    """A box, and the line in which its words stand beside it, wrapped: a box does not wrap words of its own."""
    box = QCheckBox()
    box.setAccessibleName(text)
    line = row(gap=look().px(8))
    line.addWidget(box, 0, Qt.AlignmentFlag.AlignTop)
    line.addWidget(label(text, wrap=True, copyable=True), 1)
    return box, line


def tail_field(name: str) -> QLineEdit:
    """Where the end of a serial is typed to confirm a drive."""
    made = QLineEdit()
    made.setMaxLength(8)
    made.setFixedWidth(look().px(88))
    made.setFont(look().font(mono=True))
    made.setAccessibleName(name)
    return made


def clear(layout: QLayout) -> None:
    """Take everything out of a layout and let it go."""
    while (item := layout.takeAt(0)) is not None:
        inner, widget = item.layout(), item.widget()
        if inner is not None:
            clear(inner)
        if widget is not None:
            widget.hide()  # a layout shows what is new a moment later; without a parent that would be a window
            widget.deleteLater()


class Choice(QComboBox):
    """A closed list with its sign drawn by us."""

    def paintEvent(self, event: QPaintEvent | None) -> None:
        super().paintEvent(event)
        painter = QPainter(self)
        side = look().px(14)
        mirrored = self.layoutDirection() == Qt.LayoutDirection.RightToLeft
        left = look().px(8) if mirrored else self.width() - side - look().px(8)
        place = QRectF(left, (self.height() - side) / 2, side, side)
        paint_icon(painter, "chevron-down", place, "ink" if self.isEnabled() else "muted")


class Elided(QLabel):
    """One line that ends in an ellipsis when it is too long; the whole text is in the tooltip."""

    def __init__(self, text: str = "", kind: str = "") -> None:
        super().__init__()
        self.setTextFormat(Qt.TextFormat.PlainText)
        if kind:
            self.setProperty("kind", kind)
        self._whole = ""
        self.setSizePolicy(QSizePolicy.Policy.Ignored, QSizePolicy.Policy.Fixed)
        self.say(text)

    def say(self, text: str) -> None:
        self._whole = " ".join(text.split())
        self.setToolTip(plain_tip(self._whole))
        self.setAccessibleName(self._whole)
        self._elide()

    def whole(self) -> str:
        return self._whole

    def resizeEvent(self, event: QResizeEvent | None) -> None:
        super().resizeEvent(event)
        self._elide()

    def _elide(self) -> None:
        self.ensurePolished()
        shown = QFontMetrics(self.font()).elidedText(self._whole, Qt.TextElideMode.ElideRight, max(10, self.width()))
        if shown != self.text():
            super().setText(shown)


class SeverityMark(QWidget):
    """The icon of a severity, in its colour."""

    def __init__(self, severity: str) -> None:
        super().__init__()
        self._severity = severity
        self.setAccessibleName(tr(_SEVERITY_WORDS[severity]))
        self.setFixedSize(self.sizeHint())

    def sizeHint(self) -> QSize:
        return QSize(look().px(18), look().px(18))

    def paintEvent(self, event: QPaintEvent | None) -> None:
        painter = QPainter(self)
        side = min(self.width(), self.height())
        paint_icon(painter, SEVERITY_ICONS[self._severity], QRectF(0, 0, side, side), SEVERITY_TOKENS[self._severity])


def notice(severity: str, text: str, remedy: str = "") -> QWidget:
    """A finding, a gate or a check: its mark, what it says, and what to do below, in the language of the window."""
    box = QWidget()
    words = stack(label(said(text), wrap=True, copyable=True), gap=2)
    if remedy:
        words.addWidget(label(said(remedy), "small", wrap=True, copyable=True))
    inner = QHBoxLayout(box)
    inner.setContentsMargins(0, 0, 0, 0)
    inner.setSpacing(look().px(8))
    inner.addWidget(SeverityMark(severity), 0, Qt.AlignmentFlag.AlignTop)
    inner.addLayout(words, 1)
    return box


def small_font_height() -> int:
    return look().metrics(SMALL).height()


def upright() -> QWidget:
    """A thin line from top to bottom."""
    line = rule()
    line.setMaximumHeight(16_777_215)
    line.setMinimumHeight(0)
    line.setFixedWidth(1)
    return line
