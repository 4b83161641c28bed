"""The passes of a rescue as a line of stations: which are done, which goes on, and what to expect of each."""

from __future__ import annotations

from PyQt6.QtCore import QPointF, QRectF, QSize, Qt
from PyQt6.QtGui import QPainter, QPaintEvent, QPen
from PyQt6.QtWidgets import QSizePolicy, QWidget

from neogenesis.app.language import mark, tr
from neogenesis.app.parts.mirror import draw_text, follow_direction
from neogenesis.app.theme.look import BODY, SMALL, look
from neogenesis.core.rescue import PASSES

PASS_WORDS: dict[str, tuple[str, str]] = {
    "matters": (mark("What matters most"), mark("Table, volumes, people's folders. The drive seeks a lot.")),
    "out": (mark("Out, large reads"), mark("The bulk of it, near full speed; skips ahead at trouble.")),
    "back": (mark("Back from the end"), mark("Up to the edges of the trouble. Short.")),
    "rest": (mark("What was left out"), mark("Slow places step by step; the rate falls.")),
    "edges": (mark("Edges"), mark("Bad ranges are narrowed. Slow, as it should be.")),
    "singles": (mark("Sector by sector"), mark("Each bad sector may take seconds.")),
    "again": (mark("Once more"), mark("Lost sectors again; a few come back.")),
}


class PassLine(QWidget):
    """Painted, since a line with stations is what it is."""

    def __init__(self) -> None:
        super().__init__()
        self._at, self._over = -1, False
        self.setSizePolicy(QSizePolicy.Policy.Expanding, QSizePolicy.Policy.Preferred)

    def sizeHint(self) -> QSize:
        return QSize(look().px(250), look().px(30) * len(PASSES))

    def minimumSizeHint(self) -> QSize:
        return QSize(look().px(180), look().px(23) * len(PASSES))

    def show_pass(self, name: str, over: bool) -> None:
        """`name` is the pass that goes on, empty before the first."""
        self._at, self._over = (PASSES.index(name) if name in PASSES else -1), over
        title = PASS_WORDS[name][0] if name in PASS_WORDS else ""
        self.setAccessibleName(tr("Passes of the rescue; now {0}").format(title))
        self.update()

    def paintEvent(self, event: QPaintEvent | None) -> None:
        painter = QPainter(self)
        follow_direction(painter, self.rect())
        painter.setRenderHint(QPainter.RenderHint.Antialiasing)
        tall = self.height() / len(PASSES)
        x, r = look().px(8), look().px(5)
        title_wide = max(look().metrics(bold=True).horizontalAdvance(tr(t)) for t, _ in PASS_WORDS.values())
        for index, name in enumerate(PASSES):
            done, here = index < self._at or self._over, index == self._at and not self._over
            y = tall * (index + 0.5)
            reached = look().colour("accent" if done or here else "line")
            if index:
                painter.setPen(QPen(reached, 2))
                painter.drawLine(QPointF(x, y - tall + r), QPointF(x, y - r))
            painter.setPen(QPen(look().colour("accent" if done or here else "muted"), 1.8))
            painter.setBrush(look().colour("accent") if done else look().colour("ground"))
            painter.drawEllipse(QPointF(x, y), r, r)
            if here:
                painter.setBrush(look().colour("accent"))
                painter.drawEllipse(QPointF(x, y), r * 0.4, r * 0.4)
            title, expect = PASS_WORDS[name]
            left = x + look().px(16)
            painter.setFont(look().font(BODY, bold=here))
            painter.setPen(look().colour("ink" if here or done else "muted"))
            place = QRectF(left, y - tall / 2, title_wide, tall)
            draw_text(painter, place, Qt.AlignmentFlag.AlignVCenter, tr(title))
            painter.setFont(look().font(SMALL))
            painter.setPen(look().colour("ink" if here else "muted"))
            left += title_wide + look().px(14)
            room = max(0.0, self.width() - left)
            text = look().metrics(SMALL).elidedText(tr(expect), Qt.TextElideMode.ElideRight, int(room))
            draw_text(painter, QRectF(left, y - tall / 2, room, tall), Qt.AlignmentFlag.AlignVCenter, text)
