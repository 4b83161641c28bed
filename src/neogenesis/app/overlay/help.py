"""F1: what this stop is for, how it is used, and every shortcut."""

from __future__ import annotations

from PyQt6.QtCore import Qt
from PyQt6.QtGui import QKeyEvent, QMouseEvent, QPainter, QPaintEvent
from PyQt6.QtWidgets import QGridLayout, QHBoxLayout, QVBoxLayout, QWidget

from neogenesis.app.command.actions import Action
from neogenesis.app.parts.controls import label, rule, scrolled
from neogenesis.app.theme.look import look
from neogenesis.app.words import tr

_TEXTS: dict[str, tuple[str, ...]] = {
    "jobs": (
        "Each card is a job: its ticket, where it stands on its route, what comes next and when it was promised.",
        "Return opens the job that has the frame; Tab and arrow keys move it.",
    ),
    "survey": (
        "The old drive is opened so that it cannot be written to, and read once: table, volumes, how full they are, "
        "systems, health.",
        "The column shows the drive from its first byte at the top to its last at the bottom. The level inside a "
        "stratum shows how full it is; two strokes at its edge say that it is drawn taller than its share, and the "
        "thin line beside the column shows everything to scale.",
        "Up and Down choose a partition. Every figure can be selected and copied.",
        "A finding with an octagon stands in the way of a copy; a triangle asks for care.",
    ),
    "plan": (
        "Left the old drive, right the new one; ribbons show where everything lands. What stays behind is faded.",
        "Up and Down choose a partition. Left and Right change its size by 1 GiB, with Shift by 10 GiB, with Ctrl by "
        "1 MiB. Return goes to the size field, where 300 GiB, 200GB or plain bytes can be typed. Space leaves a "
        "partition behind or carries it over.",
        "The mouse can drag the grips between two volumes. Everything can be undone. For a device that accepts only "
        "certain drives, choose its class: the plan follows it, and says what the device would not take.",
        "“Write plan” puts the plan on file. Still nothing has been written to a drive.",
    ),
    "transfer": (
        "First the gates: each must be open. Then type the last four characters of the new drive's serial, read off "
        "the drive itself.",
        "The copy can be paused and stopped at any time, and goes on when this window is closed. The table of the new "
        "drive is written last: until then no machine takes it for a finished drive.",
        "Soundings: how long each read took, by place on the old drive. Deep places are slow; crosses could not be "
        "read, dotted places are left for later. They are listed, never silently left out.",
        "Ctrl+I begins something else: an image, a rescue of a failing drive, files copied out, or an image put onto "
        "several drives. It is watched here. A rescue goes through its passes by itself, and rests when it must.",
    ),
    "handover": (
        "The report is made from the job's records alone. “Write report” makes a PDF in the job's folder, with the "
        "picture of the plan and the checksum of the manifest.",
        "Write down how long a start took before and takes now, as the median of a few runs.",
    ),
}
_SAFETY = (
    "Before a machine is opened: mains power off and unplugged, battery discharged to 25 % or less where cells can be "
    "reached, then disconnected first. Follow the maker's service manual and local rules; where licensed practice is "
    "required, leave it to those who have it."
)


class HelpOverlay(QWidget):
    """Lies over the window until a key is pressed or it is clicked away."""

    def __init__(self, window: QWidget, where: str, title: str, actions: list[Action]) -> None:
        super().__init__(window)
        self.setFocusPolicy(Qt.FocusPolicy.StrongFocus)
        card = QWidget()
        card.setObjectName("card")
        card.setAttribute(Qt.WidgetAttribute.WA_StyledBackground)
        inner = QVBoxLayout(card)
        inner.setContentsMargins(look().px(26), look().px(20), look().px(26), look().px(20))
        inner.setSpacing(look().px(10))
        inner.addWidget(label(title, "title"))
        for text in _TEXTS.get(where, ()):
            inner.addWidget(label(tr(text), wrap=True))
        inner.addWidget(rule())
        grid = QGridLayout()
        grid.setHorizontalSpacing(look().px(18))
        grid.setVerticalSpacing(look().px(4))
        keyed = [a for a in actions if a.shortcut and not a.key.startswith("stop-")]
        half = -(-len(keyed) // 2)
        for index, action in enumerate(keyed):
            column = 2 * (index // half)
            grid.addWidget(label(action.shortcut, "muted"), index % half, column)
            grid.addWidget(label(tr(action.title)), index % half, column + 1)
        grid.addWidget(label("Alt+1 … Alt+9", "muted"), half, 0)
        grid.addWidget(label(tr("Go to a stop")), half, 1)
        inner.addLayout(grid)
        inner.addWidget(rule())
        inner.addWidget(label(tr(_SAFETY), "small", wrap=True))
        inner.addWidget(label(tr("Any key closes this."), "small"))
        inner.addStretch(1)
        scroll = scrolled(card)
        across = QHBoxLayout(self)
        margin = look().px(40)
        across.setContentsMargins(margin, margin, margin, margin)
        across.addStretch(1)
        across.addWidget(scroll, 6)
        across.addStretch(1)
        self.setGeometry(window.rect())

    def paintEvent(self, event: QPaintEvent | None) -> None:
        QPainter(self).fillRect(self.rect(), look().colour("ground", 0.86))

    def keyPressEvent(self, event: QKeyEvent | None) -> None:
        self.close()

    def mousePressEvent(self, event: QMouseEvent | None) -> None:
        self.close()
