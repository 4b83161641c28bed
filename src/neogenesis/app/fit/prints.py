"""The set on paper: the lists, and each part in its bay at its true size with a ruler beside it."""

from __future__ import annotations

from html import escape
from pathlib import Path

from PyQt6.QtCore import QLocale, QPointF, QRectF, QSizeF
from PyQt6.QtGui import QPainter, QPdfWriter, QPen

from neogenesis.app.fit.canvas import Paper, paint_view, taller_for
from neogenesis.app.fit.model import FitModel
from neogenesis.app.handover.report_print import document, pdf_writer
from neogenesis.app.language import mark, said, tr
from neogenesis.app.theme.look import look
from neogenesis.app.theme.tokens import DAY
from neogenesis.core.fit.drawing import Drawing, drawing
from neogenesis.core.fit.lists import Line, name_of
from neogenesis.core.job import Shop

GROUP_WORDS = {
    "buy": mark("To buy"),
    "stock": mark("In stock"),
    "tools": mark("Tools"),
    "small": mark("Small things"),
}
_RULER_MM = 100
_INCH_MM = 25.4
_DPI = 96.0


def print_fit(pdf: Path, shop: Shop, model: FitModel) -> None:
    """Raises BadRecord when it cannot be written."""
    machine, chosen = model.machine, model.chosen
    title = tr("What must be at hand for {0}").format(machine.title if machine is not None else "")
    writer = pdf_writer(title, pdf, shop)
    before = (look().tokens, look().percent)
    look().tokens, look().percent = DAY, 100
    try:
        painter = QPainter(writer)
        painter.scale(writer.resolution() / _DPI, writer.resolution() / _DPI)
        _print_lists(painter, writer, _html(title, model.lists()))
        for match in chosen.matches if chosen is not None else ():
            found = drawing(match.part, match.bay)
            if found is not None:
                writer.newPage()
                _true_size(painter, _page(writer), found, tr("{0} in {1}").format(name_of(match.part), match.bay.name))
        painter.end()
    finally:
        look().tokens, look().percent = before


def _page(writer: QPdfWriter) -> QSizeF:
    return QSizeF(writer.width(), writer.height()) * _DPI / writer.resolution()


def _print_lists(painter: QPainter, writer: QPdfWriter, html: str) -> None:
    """As many pages as they take."""
    text, page = document(html, None), _page(writer)
    text.setDocumentMargin(0)
    text.setPageSize(page)
    for number in range(text.pageCount()):
        if number:
            writer.newPage()
        top = number * page.height()
        painter.save()
        painter.translate(0, -top)
        text.drawContents(painter, QRectF(0, top, page.width(), page.height()))
        painter.restore()


def _html(title: str, lines: list[Line]) -> str:
    parts, group = [f"<h1>{escape(title)}</h1>"], ""
    for line in lines:
        if line.group != group:
            parts.append("</table>" if group else "")
            group = line.group
            parts.append(f"<h2>{escape(tr(GROUP_WORDS[group]))}</h2><table width='100%' cellpadding='3'>")
        price = "" if line.price is None else QLocale().toString(float(line.price), "f", 2)
        cells = ((8, f"☐ {line.count} ×"), (50, said(line.what)), (32, said(line.why)), (10, price))
        parts.append("<tr>" + "".join(f"<td width='{w}%'>{escape(c)}</td>" for w, c in cells) + "</tr>")
    return "".join(parts) + ("</table>" if group else "")


def _true_size(painter: QPainter, page: QSizeF, found: Drawing, title: str) -> None:
    """From above at 1 to 1, from the side at 1 to 1 with larger heights, and a ruler to check the printer by."""
    mm = _DPI / _INCH_MM
    font = look().font()
    font.setPixelSize(12)
    painter.setFont(font)
    painter.setPen(look().colour("ink"))
    wide = page.width()
    painter.drawText(QRectF(0, 0, wide, 8 * mm), 0, title)
    y = 14 * mm
    left, low, right, high = found.above.span
    scale = min(mm, wide / (right - left + 24))
    _view(painter, found, scale, mm, y)
    note = tr("From above, true to size") if scale == mm else tr("From above, made smaller to fit the page")
    y += (high - low) * scale + 10 * mm
    painter.setPen(look().colour("muted"))
    painter.drawText(QRectF(0, y, wide, 6 * mm), 0, note)
    y += 14 * mm
    _ruler(painter, mm, y)
    painter.drawText(QRectF(0, y + 12 * mm, wide, 6 * mm), 0, tr("Print at 100 %: this line is 100 mm long."))


def _view(painter: QPainter, found: Drawing, scale: float, mm: float, y: float) -> None:
    font = look().font()
    font.setPixelSize(11)
    left, _, _, high = found.above.span
    paint_view(painter, found.above, Paper(QPointF(-left * scale, y + high * scale), scale, 1.0), font)
    taller = taller_for(found.side)
    s_left, _, _, s_high = found.side.span
    a_low = found.above.span[1]
    below = y + (high - a_low) * scale + 50 * mm + s_high * scale * taller
    paint_view(painter, found.side, Paper(QPointF(-s_left * scale, below), scale, taller), font)


def _ruler(painter: QPainter, mm: float, y: float) -> None:
    painter.setPen(QPen(look().colour("ink"), 0.8))
    painter.drawLine(QPointF(0, y), QPointF(_RULER_MM * mm, y))
    for n in range(_RULER_MM + 1):
        tall = 5 if n % 10 == 0 else 3.5 if n % 5 == 0 else 2
        painter.drawLine(QPointF(n * mm, y), QPointF(n * mm, y + tall * mm))
        if n % 10 == 0:
            painter.drawText(QRectF(n * mm - 5 * mm, y + 5.2 * mm, 10 * mm, 5 * mm), 4, str(n))
