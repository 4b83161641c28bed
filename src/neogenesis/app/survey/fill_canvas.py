"""The columns of what fills a volume, each opened out of a layer of the one before."""

from __future__ import annotations

from PyQt6.QtCore import QPointF, QRectF, QSize, Qt, pyqtSignal
from PyQt6.QtGui import QBrush, QKeyEvent, QMouseEvent, QPainter, QPaintEvent
from PyQt6.QtWidgets import QSizePolicy, QWidget

from neogenesis.app.language import tr
from neogenesis.app.parts.column import paint_column, paint_ribbon
from neogenesis.app.parts.strata import Placed, Stratum, place_strata, spread
from neogenesis.app.survey.fill_scene import FillColumn, FillTree, Layer
from neogenesis.app.theme.look import SMALL, look
from neogenesis.app.words import exact

_SHOWN = 3
_ELIDE = Qt.TextElideMode.ElideRight
_MIDDLE = Qt.AlignmentFlag.AlignVCenter


class FillCanvas(QWidget):
    """Arrow keys go through it: Right opens what is chosen, Left goes back. `chosen_changed` tells the layer."""

    chosen_changed = pyqtSignal(object)

    def __init__(self) -> None:
        super().__init__()
        self.setFocusPolicy(Qt.FocusPolicy.StrongFocus)
        self.setSizePolicy(QSizePolicy.Policy.Expanding, QSizePolicy.Policy.Expanding)
        self.setAccessibleName(tr("What fills it"))
        self._tree: FillTree | None = None
        self.chain: list[str] = []
        self._at = [0]
        self.columns: tuple[FillColumn, ...] = ()

    def minimumSizeHint(self) -> QSize:
        return QSize(look().px(420), look().px(240))

    def show_tree(self, tree: FillTree | None) -> None:
        if tree is not self._tree:
            self._tree, self.chain, self._at = tree, [], [0]
            self._read()

    def _read(self) -> None:
        self.columns = self._tree.columns(self.chain) if self._tree is not None else ()
        self.chain = self.chain[: max(0, len(self.columns) - 1)]
        self._at = [*self._at[: len(self.chain)], min(self._at[-1], max(0, len(self._here()) - 1))]
        chosen = self.chosen
        if chosen is not None:
            self.setAccessibleDescription(f"{chosen.title}, {exact(chosen.bytes)}")
        self.chosen_changed.emit(chosen)
        self.update()

    def _here(self) -> tuple[Layer, ...]:
        return self.columns[-1].layers if self.columns else ()

    @property
    def chosen(self) -> Layer | None:
        here = self._here()
        return here[self._at[-1]] if here else None

    @property
    def path(self) -> str:
        """Where the keyboard is, in words."""
        titles = [column.title for column in self.columns]
        return "  ›  ".join([*titles, *([self.chosen.title] if self.chosen is not None else [])])

    def go(self, step: int) -> None:
        here = self._here()
        if here:
            self._at[-1] = min(max(self._at[-1] + step, 0), len(here) - 1)
            self._read()

    def open(self) -> None:
        """Go into what is chosen, if there is anything inside."""
        chosen = self.chosen
        if chosen is not None and chosen.opens and chosen.bytes:
            self.chain.append(chosen.key)
            self._at.append(0)
            self._read()

    def back(self) -> None:
        if self.chain:
            self.chain.pop()
            self._at.pop()
            self._read()

    # Places

    def _label_height(self, count: int) -> int:
        """Two lines for each layer where there is room for that, else one."""
        two = look().metrics().height() + look().metrics(SMALL).height()
        return two if (two + 4) * count < self.height() - 8 else look().metrics().height()

    def _places(self) -> list[tuple[int, list[Placed]]]:
        """The last columns that fit, by their number, each with its layers placed."""
        first = max(0, len(self.columns) - _SHOWN)
        shown = self.columns[first:]
        wide = self.width() / _SHOWN
        body = wide * 0.28
        found = []
        for number, column in enumerate(shown):
            rect = QRectF(number * wide + 4, 4, body, self.height() - 8)
            strata = [
                Stratum(n, layer.role, layer.title, 0, max(1, layer.bytes), level=1.0)
                if layer.what != "free"
                else Stratum(None, "free", layer.title, 0, max(1, layer.bytes))
                for n, layer in enumerate(column.layers)
            ]
            least = self._label_height(len(strata)) + 2
            found.append((first + number, place_strata(strata, rect, least, 2)))
        return found

    def paintEvent(self, event: QPaintEvent | None) -> None:
        painter = QPainter(self)
        painter.setRenderHint(QPainter.RenderHint.Antialiasing)
        places = self._places()
        for index, (number, placed) in enumerate(places):
            if index + 1 < len(places) and placed:
                opened = placed[self._at[number]].rect
                whole = places[index + 1][1]
                if whole:
                    after = QRectF(
                        whole[0].rect.left(), whole[0].rect.top(), 1, whole[-1].rect.bottom() - whole[0].rect.top()
                    )
                    paint_ribbon(painter, opened, after, placed[self._at[number]].stratum.role, 0.16)
            paint_column(painter, placed, self._at[number], mark_scale=True)
            for n, item in enumerate(placed):
                if self.columns[number].layers[n].clears:
                    painter.fillRect(item.rect, QBrush(look().colour("raised", 0.5), Qt.BrushStyle.BDiagPattern))
            self._paint_words(painter, number, placed)

    def _paint_words(self, painter: QPainter, number: int, placed: list[Placed]) -> None:
        metrics, small = look().metrics(), look().metrics(SMALL)
        tall = self._label_height(len(placed))
        tops = spread([p.rect.center().y() - tall / 2 for p in placed], [tall] * len(placed), 0, self.height())
        room = self.width() / _SHOWN * 0.70 - look().px(14)
        for n, (item, top) in enumerate(zip(placed, tops, strict=True)):
            layer = self.columns[number].layers[n]
            x = item.rect.right() + look().px(10)
            painter.setPen(look().colour("ink" if layer.what not in ("free", "rest", "beyond") else "muted"))
            painter.setFont(look().font(bold=n == self._at[number]))
            name = look().metrics(bold=True).elidedText(layer.title, _ELIDE, int(room))
            size = exact(layer.bytes)
            if tall == metrics.height():
                left = int(room - small.horizontalAdvance(size) - look().px(8))
                name = look().metrics(bold=True).elidedText(layer.title, _ELIDE, left)
            painter.drawText(QPointF(x, top + metrics.ascent()), name)
            beside = look().metrics(bold=n == self._at[number]).horizontalAdvance(name) + look().px(8)
            painter.setPen(look().colour("muted"))
            painter.setFont(look().font(SMALL))
            if tall == metrics.height():
                painter.drawText(QPointF(x + beside, top + metrics.ascent()), size)
            else:
                painter.drawText(QPointF(x, top + metrics.height() + small.ascent()), size)

    # Hands

    def keyPressEvent(self, event: QKeyEvent | None) -> None:
        if event is None:
            return
        key = Qt.Key(event.key())
        if key in (Qt.Key.Key_Down, Qt.Key.Key_Up):
            self.go(1 if key == Qt.Key.Key_Down else -1)
        elif key in (Qt.Key.Key_Right, Qt.Key.Key_Return, Qt.Key.Key_Enter):
            self.open()
        elif key in (Qt.Key.Key_Left, Qt.Key.Key_Backspace):
            self.back()
        else:
            super().keyPressEvent(event)

    def mousePressEvent(self, event: QMouseEvent | None) -> None:
        if event is None:
            return
        wide = self.width() / _SHOWN
        for number, placed in self._places():
            left = placed[0].rect.left() if placed else 0.0
            if not left <= event.position().x() < left + wide:
                continue
            for n, item in enumerate(placed):
                if item.rect.top() <= event.position().y() <= item.rect.bottom():
                    again = number == len(self.columns) - 1 and n == self._at[number]
                    self.chain, self._at = self.chain[:number], [*self._at[:number], n]
                    self._read()
                    if again or number < len(self.columns) - 1 or self.chosen is not None:
                        self.open()
                    return
