"""On paper: the tray as a mat, true to size; the steps for a second person; and the label of the old drive."""

from __future__ import annotations

import math
from collections.abc import Iterator
from contextlib import contextmanager
from datetime import datetime
from html import escape
from pathlib import Path

from PyQt6.QtCore import QPointF, QRectF, QSizeF, Qt
from PyQt6.QtGui import QPageLayout, QPainter, QPdfWriter, QPen

from neogenesis.app.desk.open_job import OpenJob
from neogenesis.app.handover.report_print import document, pdf_writer
from neogenesis.app.language import mark, said, tr
from neogenesis.app.parts.tag import paint_tag
from neogenesis.app.swap.canvas import paint_outline, place_in
from neogenesis.app.swap.pieces import paint_piece
from neogenesis.app.swap.words import kind_text, row_text
from neogenesis.app.theme.look import look
from neogenesis.app.theme.tokens import DAY
from neogenesis.app.words import both, when
from neogenesis.core.drive.identity import Drive
from neogenesis.core.job import Shop
from neogenesis.core.swap.guide import Guide
from neogenesis.core.swap.numbers import numbers
from neogenesis.core.swap.tray import kinds, places

_INCH_MM = 25.4
_DPI = 96.0
_MM = _DPI / _INCH_MM
_HEAD_MM, _FOOT_MM, _RULER_MM = 12.0, 14.0, 100
_USUAL_MM = (330.0, 230.0)
_LABEL_MM = (89.0, 51.0)
_PHASES = {"opening": mark("opening"), "work": mark("work"), "closing": mark("closing")}
OLD_WORDS = {
    "": mark("goes back with the machine"),
    "returned": mark("goes back with the machine"),
    "kept": mark("kept until {0}, then wiped"),
    "wiped": mark("kept until the customer confirms, then wiped"),
}


@contextmanager
def _on_paper(writer: QPdfWriter) -> Iterator[QPainter]:
    """Always by day and at 100 %, in units of 1/96 inch."""
    before = (look().tokens, look().percent)
    look().tokens, look().percent = DAY, 100
    try:
        painter = QPainter(writer)
        painter.scale(writer.resolution() / _DPI, writer.resolution() / _DPI)
        painter.setRenderHint(QPainter.RenderHint.Antialiasing)
        yield painter
        painter.end()
    finally:
        look().tokens, look().percent = before


def _page(writer: QPdfWriter) -> QSizeF:
    return QSizeF(writer.width(), writer.height()) * _DPI / writer.resolution()


def print_mat(path: Path, shop: Shop, guide: Guide) -> None:
    """The machine's outline at 1 to 1, on as many sheets as it takes, each place with its shape. Raises BadRecord."""
    machine = guide.record.machine
    writer = pdf_writer(tr("Tray of the {0}").format(machine.title), path, shop)
    writer.setPageOrientation(QPageLayout.Orientation.Landscape)
    outline = machine.outline
    wide, tall = (outline.width_mm, outline.height_mm) if outline is not None else _USUAL_MM
    with _on_paper(writer) as painter:
        page = _page(writer)
        room_x, room_y = page.width(), page.height() - (_HEAD_MM + _FOOT_MM) * _MM
        columns, lines = math.ceil(wide * _MM / room_x), math.ceil(tall * _MM / room_y)
        for n in range(columns * lines):
            if n:
                writer.newPage()
            column, line = n % columns, n // columns
            sheet = tr("{0}, sheet {1} of {2}: tape the edges together").format(machine.title, n + 1, columns * lines)
            painter.setFont(look().font())
            painter.setPen(look().colour("ink"))
            painter.drawText(QPointF(0, 5 * _MM), sheet if columns * lines > 1 else machine.title)
            area = QRectF(0, _HEAD_MM * _MM, room_x, room_y)
            painter.save()
            painter.setClipRect(area)
            painter.translate(area.left() - column * room_x, area.top() - line * room_y)
            _paint_mat(painter, guide, QRectF(1, 1, wide * _MM - 2, tall * _MM - 2))
            painter.restore()
            _paint_ruler(painter, area.bottom() + 3 * _MM)


def _paint_mat(painter: QPainter, guide: Guide, outline: QRectF) -> None:
    machine = guide.record.machine
    paint_outline(painter, machine, outline, names=True)
    known, spots = kinds(machine), places(machine)
    taken = [id_ for row in (*guide.path.opening, *guide.path.work) for id_, _ in row.fasteners]
    font = look().font()
    font.setPixelSize(9)
    painter.setFont(font)
    for id_ in dict.fromkeys(taken):
        for x, y in spots[id_]:
            centre = place_in(outline, x, y)
            paint_piece(painter, known[id_], centre, 3.2 * _MM, "here", tray=False)
        first = place_in(outline, *spots[id_][0])
        painter.setPen(look().colour("muted"))
        box = QRectF(first.x() - 24 * _MM, first.y() + 4 * _MM, 48 * _MM, 4 * _MM)
        box.moveLeft(min(max(box.left(), outline.left()), outline.right() - box.width()))
        painter.drawText(box, Qt.AlignmentFlag.AlignHCenter, kind_text(known[id_]))


def _paint_ruler(painter: QPainter, y: float) -> None:
    """A hundred millimetres, to check the printer by."""
    painter.setPen(QPen(look().colour("ink"), 0.8))
    painter.drawLine(QPointF(0, y), QPointF(_RULER_MM * _MM, y))
    for n in range(0, _RULER_MM + 1, 10):
        painter.drawLine(QPointF(n * _MM, y), QPointF(n * _MM, y + 2 * _MM))
    font = look().font()
    font.setPixelSize(9)
    painter.setFont(font)
    text = tr("{0} mm: if it measures otherwise, print at 100 %").format(_RULER_MM)
    painter.drawText(QPointF(0, y + 6 * _MM), text)


def print_steps(path: Path, shop: Shop, guide: Guide) -> None:
    """All steps with boxes to tick, for somebody who reads along. Raises BadRecord."""
    title = tr("Steps for the {0}").format(guide.record.machine.title)
    writer = pdf_writer(title, path, shop)
    with _on_paper(writer) as painter:
        text, page = document(_steps_html(title, guide), None), _page(writer)
        text.setDocumentMargin(0)
        text.setPageSize(page)
        for number in range(text.pageCount()):
            if number:
                writer.newPage()
            painter.save()
            painter.translate(0, -number * page.height())
            text.drawContents(painter, QRectF(0, number * page.height(), page.width(), page.height()))
            painter.restore()


def _steps_html(title: str, guide: Guide) -> str:
    words, known = numbers(), kinds(guide.record.machine)
    parts = [
        f"<h1>{escape(title)}</h1><p class='sub'>{escape(said(words.defers))}</p><h2>{escape(tr('What may hurt'))}</h2>"
    ]
    for code in guide.path.cautions:
        caution = words.cautions[code]
        parts.append(f"<p><b>{escape(said(caution.title))}</b>: {escape(said(caution.text))}</p>")
    parts.append(f"<h2>{escape(tr('Make ready'))}</h2>")
    parts += [f"<p>☐ {escape(said(item.text))}</p>" for item in guide.prepare]
    last = ""
    for n, row in enumerate(guide.rows, 1):
        if row.phase != last:
            last = row.phase
            parts.append(f"<h2>{escape(tr(_PHASES[last]))}</h2>")
        counts = "; ".join(f"{count} × {kind_text(known[id_])}" for id_, count in row.fasteners)
        text = "; ".join(filter(None, row_text(row)))
        more = f"<br><span class='sub'>{escape(counts)}</span>" if counts else ""
        parts.append(f"<p>☐ {n}  {escape(text)}{more}</p>")
    parts.append(f"<p><b>{escape(tr('{0} out, {0} back in').format(guide.path.pieces))}</b></p>")
    return "".join(parts)


def print_label(path: Path, shop: Shop, desk: OpenJob) -> None:
    """For the sleeve of the old drive: whose it is, which, since when, and that it holds data. Raises BadRecord."""
    writer = pdf_writer(tr("Label"), path, shop)
    dock, record = desk.old_dock(), desk.survey.record
    drive = dock.docked.drive if dock is not None and dock.docked else record.drive if record is not None else None
    with _on_paper(writer) as painter:
        frame = QRectF(0, 0, _LABEL_MM[0] * _MM, _LABEL_MM[1] * _MM)
        painter.setPen(QPen(look().colour("muted"), 0.8, Qt.PenStyle.DashLine))
        painter.drawRoundedRect(frame, 6, 6)
        if dock is not None:
            paint_tag(painter, dock.tag, QRectF(frame.right() - 17 * _MM, 4 * _MM, 13 * _MM, 13 * _MM))
        y = 4 * _MM
        for text, size, bold in label_lines(desk, drive):
            font = look().font(bold=bold)
            font.setPixelSize(size)
            painter.setFont(font)
            painter.setPen(look().colour("ink"))
            box = QRectF(4 * _MM, y, frame.width() - 8 * _MM, size * 1.5)
            painter.drawText(box, Qt.AlignmentFlag.AlignVCenter, text)
            y += size * 1.55
    desk.record("label", "Label of the old drive printed", file=str(path))


def label_lines(desk: OpenJob, drive: Drive | None) -> list[tuple[str, int, bool]]:
    """What the label of the old drive says: text, size in pixels, and whether it is bold."""
    job = desk.job
    lines = [(job.ticket, 22, True), (job.customer, 12, False), (job.machine, 12, False)]
    if drive is not None:
        lines.append((f"{drive.model}  {drive.serial}", 12, True))
        lines.append((both(drive.size_bytes), 11, False))
    lines.append((tr("Old drive, holds customer data. {0}").format(f"{datetime.now():%Y-%m-%d}"), 12, True))
    if "ransomware" in desk.intake.intake.symptoms:
        lines.append((tr("Its files are locked for money: kept untouched."), 12, True))
    lines.append((old_drive_words(desk), 11, False))
    return lines


def old_drive_words(desk: OpenJob) -> str:
    """What becomes of it, as it was agreed at Intake."""
    later = desk.intake.intake.later
    text = tr(OLD_WORDS[later.old_parts])
    if later.old_parts != "kept":
        return text
    until = datetime.fromtimestamp(datetime.now().timestamp() + 7 * 86400 * max(1, later.kept_weeks))
    return text.format(when(f"{until:%Y-%m-%d}", datetime.now()))
