"""The emulated machine's screen: its newest picture, and the keys that are pressed in it."""

from __future__ import annotations

from pathlib import Path

from PyQt6.QtCore import QEvent, QRect, QSize, Qt, pyqtSignal
from PyQt6.QtGui import QColor, QImage, QKeyEvent, QPainter, QPaintEvent, QPen
from PyQt6.QtWidgets import QSizePolicy, QWidget

from neogenesis.app.language import tr
from neogenesis.app.theme.look import look

_NAMES = {
    Qt.Key.Key_Return: "ret",
    Qt.Key.Key_Enter: "ret",
    Qt.Key.Key_Escape: "esc",
    Qt.Key.Key_Space: "spc",
    Qt.Key.Key_Tab: "tab",
    Qt.Key.Key_Backspace: "backspace",
    Qt.Key.Key_Delete: "delete",
    Qt.Key.Key_Up: "up",
    Qt.Key.Key_Down: "down",
    Qt.Key.Key_Left: "left",
    Qt.Key.Key_Right: "right",
    Qt.Key.Key_Home: "home",
    Qt.Key.Key_End: "end",
    Qt.Key.Key_PageUp: "pgup",
    Qt.Key.Key_PageDown: "pgdn",
    Qt.Key.Key_Minus: "minus",
    Qt.Key.Key_Equal: "equal",
    Qt.Key.Key_Period: "dot",
    Qt.Key.Key_Comma: "comma",
    Qt.Key.Key_Slash: "slash",
    Qt.Key.Key_Backslash: "backslash",
    Qt.Key.Key_Semicolon: "semicolon",
    Qt.Key.Key_Apostrophe: "apostrophe",
    Qt.Key.Key_BracketLeft: "bracket_left",
    Qt.Key.Key_BracketRight: "bracket_right",
}
_HELD = (
    (Qt.KeyboardModifier.ControlModifier, "ctrl"),
    (Qt.KeyboardModifier.AltModifier, "alt"),
    (Qt.KeyboardModifier.ShiftModifier, "shift"),
)


def key_name(event: QKeyEvent) -> str:
    """As the emulator names it, with what is held; empty for a key that it is not sent."""
    key = event.key()
    if key in _NAMES:
        name = _NAMES[Qt.Key(key)]
    elif Qt.Key.Key_F1 <= key <= Qt.Key.Key_F12:
        name = f"f{key - Qt.Key.Key_F1 + 1}"
    elif Qt.Key.Key_A <= key <= Qt.Key.Key_Z or Qt.Key.Key_0 <= key <= Qt.Key.Key_9:
        name = chr(key).lower()
    else:
        return ""
    held = [text for modifier, text in _HELD if event.modifiers() & modifier]
    return "-".join([*held, name])


class ScreenView(QWidget):
    """`pressed` tells each key by name while the machine runs. Ctrl+Tab leaves it."""

    pressed = pyqtSignal(str)

    def __init__(self) -> None:
        super().__init__()
        self.picture = QImage()
        self.is_live = False
        self.setAccessibleName(tr("Screen of the emulated machine"))
        self.setFocusPolicy(Qt.FocusPolicy.StrongFocus)
        self.setSizePolicy(QSizePolicy.Policy.Expanding, QSizePolicy.Policy.Expanding)
        self.setMinimumSize(look().px(200), look().px(130))

    def sizeHint(self) -> QSize:
        return QSize(look().px(400), look().px(260))

    def show_picture(self, path: Path, live: bool) -> None:
        self.picture, self.is_live = QImage(str(path)), live
        self.update()

    def event(self, event: QEvent | None) -> bool:
        wanted = (QEvent.Type.KeyPress, QEvent.Type.ShortcutOverride)
        if self.is_live and isinstance(event, QKeyEvent) and event.type() in wanted:
            leaves = event.key() in (Qt.Key.Key_Tab, Qt.Key.Key_Backtab) and bool(
                event.modifiers() & Qt.KeyboardModifier.ControlModifier
            )
            if leaves and event.type() == QEvent.Type.KeyPress:
                return bool(self.focusNextChild())
            name = key_name(event)
            if name and not leaves:
                if event.type() == QEvent.Type.KeyPress:
                    self.pressed.emit(name)
                event.accept()
                return True
        return super().event(event)

    def paintEvent(self, event: QPaintEvent | None) -> None:
        painter = QPainter(self)
        painter.setRenderHint(QPainter.RenderHint.SmoothPixmapTransform)
        painter.fillRect(self.rect(), look().colour("ground"))
        room = self.rect().adjusted(2, 2, -2, -2)
        if not self.picture.isNull():
            size = self.picture.size().scaled(room.size(), Qt.AspectRatioMode.KeepAspectRatio)
            place = QRect(room.left(), room.top(), size.width(), size.height())
            painter.fillRect(place, QColor("black"))
            painter.drawImage(place, self.picture)
            room = place
        else:
            painter.setPen(look().colour("muted"))
            painter.drawText(room, Qt.AlignmentFlag.AlignCenter | Qt.TextFlag.TextWordWrap, tr("No picture yet."))
        painter.setPen(QPen(look().colour("accent" if self.hasFocus() and self.is_live else "line"), 2))
        painter.setBrush(Qt.BrushStyle.NoBrush)
        painter.drawRect(room)
