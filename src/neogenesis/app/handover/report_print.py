"""The customer's report on paper: text by Qt's document engine, with the plan's own drawing as its picture."""

from __future__ import annotations

from html import escape
from pathlib import Path

from PyQt6.QtCore import QLocale, QMarginsF, QSize, QSizeF, QUrl
from PyQt6.QtGui import QImage, QPageLayout, QPageSize, QPainter, QPdfWriter, QTextDocument

from neogenesis.app.language import said, tr
from neogenesis.app.parts.heading import Heading
from neogenesis.app.parts.strata import strata_of_layout, strata_of_survey
from neogenesis.app.plan.canvas import PlanCanvas
from neogenesis.app.theme.look import look
from neogenesis.app.theme.tokens import DAY
from neogenesis.app.words import nominal, tail
from neogenesis.bench.register import allow_output
from neogenesis.core.errors import BadRecord
from neogenesis.core.job import Report, Shop
from neogenesis.core.plan import Plan

_PICTURE = QSize(760, 430)
_SHARPNESS = 3
_POINTS = 9.5
#: Sizes of type in which a slip is tried until it fits on its page.
_SLIP_POINTS = (9.5, 8.5, 7.5, 6.5)
#: Territories that print on Letter. Source: Unicode CLDR, `paperSize`.
_LETTER_NAMES = (
    *("UnitedStates", "Canada", "Mexico", "Philippines", "Chile", "Colombia", "CostaRica", "Guatemala", "Nicaragua"),
    *("Panama", "PuertoRico", "ElSalvador", "Venezuela", "Belize"),
)
_LETTER = frozenset(getattr(QLocale.Country, name) for name in _LETTER_NAMES)


def plan_picture(plan: Plan) -> QImage:
    """Old and new drive with what moved where, for paper: always by day, always at 100 %."""
    before = (look().tokens, look().percent)
    look().tokens, look().percent = DAY, 100
    try:
        canvas = PlanCanvas()
        canvas.resize(_PICTURE)
        old, new = plan.source.survey.drive, plan.target.drive
        headings = (
            Heading(None, old.model or tr("Old drive"), f"{tail(old.serial)}  {nominal(old.size_bytes)}"),
            Heading(
                None,
                (new.model if new else "") or tr("New drive"),
                f"{tail(new.serial if new else '')}  {nominal(plan.target.size_bytes)}",
            ),
        )
        canvas.show_plan(
            strata_of_survey(plan.source.survey, plan.left_behind),
            strata_of_layout(plan.layout),
            headings,
            {},
            frozenset(),
            False,
        )
        image = QImage(_PICTURE * _SHARPNESS, QImage.Format.Format_RGB32)
        image.setDevicePixelRatio(_SHARPNESS)
        image.fill(look().colour("raised"))
        painter = QPainter(image)
        painter.setRenderHint(QPainter.RenderHint.Antialiasing)
        canvas.paint_on(painter)
        painter.end()
        canvas.deleteLater()
        return image
    finally:
        look().tokens, look().percent = before


def report_html(report: Report, shop: Shop, picture: str) -> str:
    """The report as the document engine takes it; `picture` is the name of its picture, empty for none."""
    parts = [_letterhead(shop)] if shop.name or shop.letterhead else []
    parts += [f"<h1>{escape(said(report.title))}</h1><p class='sub'>{escape(said(report.subtitle))}</p>"]
    for index, section in enumerate(report.sections):
        parts.append(f"<h2>{escape(said(section.heading))}</h2>")
        parts += [f"<p>{escape(said(sentence))}</p>" for sentence in section.sentences]
        if section.rows:
            rows = "".join(
                f"<tr><td class='name'>{escape(said(name))}</td><td>{escape(said(value))}</td></tr>"
                for name, value in section.rows
            )
            parts.append(f"<table cellspacing='0' cellpadding='3'>{rows}</table>")
        if index == 0 and picture:
            parts.append(f"<p><img src='{picture}' width='500'></p>")
    return "".join(parts)


def _letterhead(shop: Shop) -> str:
    """Name at the left, the rest at the right, a line below."""
    lines = "<br>".join(map(escape, shop.letterhead))
    return (
        f"<table width='100%'><tr><td class='shop'>{escape(shop.name)}</td>"
        f"<td align='right' class='sub'>{lines}</td></tr></table><hr>"
    )


def page_size(shop: Shop, locale: QLocale) -> QPageSize.PageSizeId:
    """The shop's paper, else that of the region: Letter where CLDR's `paperSize` has it, A4 elsewhere."""
    if shop.paper:
        return QPageSize.PageSizeId.Letter if shop.paper == "letter" else QPageSize.PageSizeId.A4
    return QPageSize.PageSizeId.Letter if locale.territory() in _LETTER else QPageSize.PageSizeId.A4


def document(html: str, picture: QImage | None, points: float = _POINTS) -> QTextDocument:
    """Ready to be printed; `points` is the size of its type."""
    made = QTextDocument()
    made.setDefaultStyleSheet(
        f"body {{ color: {DAY.ink}; }} h1 {{ font-size: 19pt; margin-bottom: 0; }}"
        f"h2 {{ font-size: 11pt; margin-top: 10px; margin-bottom: 2px; color: {DAY.accent}; }}"
        f"p {{ margin-top: 2px; margin-bottom: 2px; }} .sub {{ color: {DAY.muted}; }} .name {{ color: {DAY.muted}; }}"
        f".shop {{ font-size: 13pt; color: {DAY.ink}; }}"
    )
    font = look().font()
    font.setPointSizeF(points)
    made.setDefaultFont(font)
    if picture is not None:
        made.addResource(QTextDocument.ResourceType.ImageResource.value, QUrl("plan"), picture)
    made.setHtml(html)
    return made


def write_report(report: Report, plan: Plan | None, pdf: Path, png: Path | None, shop: Shop) -> None:
    """Write the PDF, with a picture of the plan where there is one, and that picture where a place is named for it.

    Raises BadRecord when either cannot be written.
    """
    writer = pdf_writer(said(report.title), pdf, shop)
    picture = plan_picture(plan) if plan is not None else None
    if png is not None and picture is not None and not picture.save(str(png)):
        raise BadRecord(f"“{png}” cannot be written.", "Free space in the job's folder.")
    _print(document(report_html(report, shop, "plan" if picture is not None else ""), picture), writer, pdf)


def write_slip(slip: Report, pdf: Path, shop: Shop) -> None:
    """One page with places for two signatures; smaller type where much is to be said. Raises BadRecord."""
    writer = pdf_writer(said(slip.title), pdf, shop)
    html = report_html(slip, shop, "") + _signatures()
    for points in _SLIP_POINTS:
        text = document(html, None, points)
        _to_page(text, writer)
        if text.pageCount() == 1:
            break
    _print(text, writer, pdf)


def _signatures() -> str:
    lines = "".join(
        f"<td width='50%'><br><br><hr width='85%'>{escape(who)}</td>"
        for who in (tr("Date, customer"), tr("Taken in by"))
    )
    return f"<table width='100%'><tr>{lines}</tr></table>"


def pdf_writer(title: str, pdf: Path, shop: Shop) -> QPdfWriter:
    """For the shop's paper, upright; raises BadRecord when it cannot be written there."""
    try:
        pdf.open("wb").close()
    except OSError as error:
        raise BadRecord(f"“{pdf}” cannot be written ({error.strerror}).", "Choose another place.") from error
    allow_output(pdf, "paper", force=True)
    writer = QPdfWriter(str(pdf))
    writer.setTitle(title)
    writer.setCreator("Neogenesis")
    writer.setPageLayout(
        QPageLayout(
            QPageSize(page_size(shop, QLocale())),
            QPageLayout.Orientation.Portrait,
            QMarginsF(18, 16, 18, 16),
            QPageLayout.Unit.Millimeter,
        )
    )
    return writer


def _to_page(text: QTextDocument, writer: QPdfWriter) -> None:
    text.setDocumentMargin(0)
    text.setPageSize(QSizeF(writer.width(), writer.height()) * 96 / writer.resolution())


def _print(text: QTextDocument, writer: QPdfWriter, pdf: Path) -> None:
    _to_page(text, writer)
    text.print(writer)  # breaks pages between lines, never through one
    if not pdf.stat().st_size:
        raise BadRecord(f"“{pdf}” cannot be written.", "Free space there, or choose another place.")
