"""The look in force: theme, text scale, fonts and the style sheet that is made from them."""

from __future__ import annotations

from functools import cache
from importlib.resources import files

from PyQt6.QtCore import QObject, pyqtSignal
from PyQt6.QtGui import QColor, QFont, QFontDatabase, QFontMetrics, QPalette
from PyQt6.QtWidgets import QApplication

from neogenesis.app.theme.tokens import DAY, NIGHT, Tokens

TEXT_PERCENTS = (100, 125, 150)
#: The four sizes of type, in pixels at 100 %.
SMALL, BODY, TITLE, FIGURE = 12, 14, 21, 38


class Look(QObject):
    """One for the whole program. Whoever paints asks it for colours and fonts; `changed` says to paint anew."""

    changed = pyqtSignal()

    def __init__(self) -> None:
        super().__init__()
        self.tokens: Tokens = DAY
        self.percent = 100
        for file in ("B612-Regular", "B612-Bold", "B612Mono-Regular", "B612Mono-Bold"):
            data = files("neogenesis").joinpath(f"data/fonts/{file}.otf").read_bytes()
            QFontDatabase.addApplicationFontFromData(data)

    def set(self, theme: str | None = None, percent: int | None = None) -> None:
        """Change theme or text scale for the whole program."""
        if theme is not None:
            self.tokens = NIGHT if theme == "night" else DAY
        if percent is not None:
            self.percent = min(max(percent, TEXT_PERCENTS[0]), TEXT_PERCENTS[-1])
        self.apply()
        self.changed.emit()

    def apply(self) -> None:
        application = QApplication.instance()
        if isinstance(application, QApplication):
            application.setFont(self.font())
            application.setPalette(self._palette())
            application.setStyleSheet(self._sheet())

    def px(self, pixels: float) -> int:
        """A length that grows with the text."""
        return round(pixels * self.percent / 100)

    def font(self, size: int = BODY, bold: bool = False, mono: bool = False) -> QFont:
        font = QFont("B612 Mono" if mono else "B612")
        font.setPixelSize(self.px(size))
        font.setBold(bold)
        return font

    def metrics(self, size: int = BODY, bold: bool = False, mono: bool = False) -> QFontMetrics:
        return QFontMetrics(self.font(size, bold, mono))

    def colour(self, token: str, alpha: float = 1.0) -> QColor:
        """A token's colour; `alpha` from 0 to 1."""
        colour = QColor(getattr(self.tokens, token))
        colour.setAlphaF(alpha)
        return colour

    def role(self, role: str, alpha: float = 1.0) -> QColor:
        colour = QColor(self.tokens.role(role))
        colour.setAlphaF(alpha)
        return colour

    def _palette(self) -> QPalette:
        palette = QPalette()
        for role, token in (
            (QPalette.ColorRole.Window, "ground"),
            (QPalette.ColorRole.WindowText, "ink"),
            (QPalette.ColorRole.Base, "raised"),
            (QPalette.ColorRole.AlternateBase, "surface"),
            (QPalette.ColorRole.Text, "ink"),
            (QPalette.ColorRole.Button, "surface"),
            (QPalette.ColorRole.ButtonText, "ink"),
            (QPalette.ColorRole.Highlight, "accent"),
            (QPalette.ColorRole.HighlightedText, "accent_ink"),
            (QPalette.ColorRole.PlaceholderText, "muted"),
            (QPalette.ColorRole.ToolTipBase, "raised"),
            (QPalette.ColorRole.ToolTipText, "ink"),
        ):
            palette.setColor(role, self.colour(token))
        for role in (QPalette.ColorRole.Text, QPalette.ColorRole.ButtonText, QPalette.ColorRole.WindowText):
            palette.setColor(QPalette.ColorGroup.Disabled, role, self.colour("muted"))
        return palette

    def _sheet(self) -> str:
        t, px = self.tokens, self.px
        return f"""
        QWidget {{ color: {t.ink}; }}
        QMainWindow, QDialog {{ background: {t.ground}; }}
        #surface {{ background: {t.surface}; }}
        QLabel[kind="title"] {{ font-size: {px(TITLE)}px; font-weight: bold; }}
        QLabel[kind="figure"] {{ font-size: {px(FIGURE)}px; font-weight: bold; }}
        QLabel[kind="head"] {{ font-weight: bold; }}
        QLabel[kind="muted"] {{ color: {t.muted}; }}
        QLabel[kind="small"] {{ color: {t.muted}; font-size: {px(SMALL)}px; }}
        QLabel[kind="stop"] {{ color: {t.stop}; }}
        QLabel[kind="caution"] {{ color: {t.caution}; }}
        QLabel[kind="good"] {{ color: {t.good}; }}
        QPushButton {{ background: {t.raised}; border: 1px solid {t.line}; border-radius: {px(6)}px;
            padding: {px(7)}px {px(16)}px; font-weight: bold; min-height: {px(20)}px; }}
        QPushButton:hover {{ border-color: {t.accent}; }}
        QPushButton:focus {{ border: 2px solid {t.accent}; padding: {px(7) - 1}px {px(16) - 1}px; }}
        QPushButton:disabled {{ color: {t.muted}; background: {t.ground}; font-weight: normal; }}
        QPushButton[kind="main"] {{ background: {t.accent}; border-color: {t.accent}; color: {t.accent_ink}; }}
        QPushButton[kind="main"]:hover {{ background: {t.ink}; border-color: {t.ink}; color: {t.ground}; }}
        QPushButton[kind="main"]:focus {{ border: 2px solid {t.ink}; }}
        QPushButton[kind="main"]:disabled {{ background: {t.ground}; border-color: {t.line}; color: {t.muted}; }}
        QPushButton[kind="write"] {{ background: {t.raised}; border: 2px solid {t.stop}; color: {t.stop}; }}
        QPushButton[kind="write"]:disabled {{ border: 1px solid {t.line}; color: {t.muted};
            background: {t.ground}; }}
        QPushButton[kind="write"]:focus {{ background: {t.stop}; color: {t.surface}; }}
        QPushButton[kind="plain"] {{ background: transparent; border: 1px solid transparent; font-weight: normal;
            padding: {px(4)}px {px(8)}px; text-align: left; }}
        QPushButton[kind="plain"]:hover {{ background: {t.accent_soft}; }}
        QPushButton[kind="plain"]:focus {{ border: 1px solid {t.accent}; }}
        QPushButton[kind="chip"] {{ background: transparent; border: 1px solid {t.line}; font-weight: normal;
            border-radius: {px(14)}px; padding: {px(4)}px {px(12)}px; min-height: {px(18)}px; color: {t.muted}; }}
        QPushButton[kind="chip"]:hover {{ border-color: {t.accent}; color: {t.ink}; }}
        QPushButton[kind="chip"]:checked {{ background: {t.accent_soft}; border-color: {t.accent}; color: {t.ink};
            font-weight: bold; }}
        QPushButton[kind="chip"]:focus {{ border: 2px solid {t.accent}; padding: {px(4) - 1}px {px(12) - 1}px; }}
        QPushButton[kind="chip"]:disabled {{ color: {t.muted}; border-color: {t.line}; }}
        QLineEdit, QPlainTextEdit, QComboBox, QSpinBox {{ background: {t.raised}; border: 1px solid {t.line};
            border-radius: {px(5)}px; padding: {px(5)}px {px(8)}px; selection-background-color: {t.accent};
            selection-color: {t.accent_ink}; }}
        QLineEdit:focus, QPlainTextEdit:focus, QComboBox:focus, QSpinBox:focus {{ border: 2px solid {t.accent};
            padding: {px(5) - 1}px {px(8) - 1}px; }}
        QLineEdit:disabled, QComboBox:disabled, QSpinBox:disabled {{ background: {t.ground}; color: {t.muted}; }}
        QComboBox::drop-down {{ border: 0; width: {px(22)}px; }}
        QComboBox QAbstractItemView {{ background: {t.raised}; border: 1px solid {t.line}; outline: 0; }}
        QCheckBox {{ spacing: {px(8)}px; }}
        QCheckBox:disabled {{ color: {t.muted}; }}
        QListWidget {{ background: transparent; border: 0; outline: 0; }}
        QListWidget::item {{ padding: {px(8)}px; border-radius: {px(6)}px; }}
        QListWidget::item:selected {{ background: {t.accent_soft}; color: {t.ink}; }}
        QListWidget::indicator {{ width: {px(14)}px; height: {px(14)}px; border: 1px solid {t.muted};
            border-radius: {px(3)}px; background: {t.raised}; }}
        QListWidget::indicator:checked {{ background: {t.accent}; border-color: {t.accent}; }}
        QListView#plain {{ border: 0; background: transparent; outline: 0; }}
        QListView#shelf {{ border: 0; background: {t.surface}; outline: 0; }}
        QScrollArea {{ border: 0; background: transparent; }}
        QScrollArea > QWidget > QWidget {{ background: transparent; }}
        QScrollBar:vertical {{ background: transparent; width: {px(10)}px; }}
        QScrollBar:horizontal {{ background: transparent; height: {px(10)}px; }}
        QScrollBar::handle {{ background: {t.line}; border-radius: {px(4)}px; min-height: {px(30)}px;
            min-width: {px(30)}px; margin: 2px; }}
        QScrollBar::add-line, QScrollBar::sub-line, QScrollBar::add-page, QScrollBar::sub-page {{
            background: transparent; border: 0; width: 0; height: 0; }}
        QToolTip {{ background: {t.raised}; color: {t.ink}; border: 1px solid {t.line}; padding: {px(4)}px; }}
        QMenu {{ background: {t.raised}; border: 1px solid {t.line}; }}
        QMenu::item:selected {{ background: {t.accent_soft}; }}
        #rule {{ background: {t.line}; }}
        #card {{ background: {t.raised}; border: 1px solid {t.line}; border-radius: {px(8)}px; }}
        """


@cache
def look() -> Look:
    """The look of this program; needs a running application."""
    return Look()
