"""The stopwatch, legible from the other end of the bench: one key for power, log-in screen, usable."""

from __future__ import annotations

from collections.abc import Callable

from PyQt6.QtCore import QTimer, pyqtSignal
from PyQt6.QtWidgets import QLineEdit, QVBoxLayout, QWidget

from neogenesis.app.intake.model import IntakeModel
from neogenesis.app.intake.runs import RunsStrip, runs_scene
from neogenesis.app.language import mark, said, tr, trn
from neogenesis.app.parts.chips import Chips
from neogenesis.app.parts.controls import button, label, row
from neogenesis.app.theme.look import look
from neogenesis.app.words import seconds_text
from neogenesis.core.errors import BadArgument
from neogenesis.core.intake import START_UP, When

_TICK_MS = 100


_START_UP = mark("Start-up")


def shown_name(name: str) -> str:
    """What is timed, as it is shown: only the start of the machine has a name that is ours."""
    return tr(_START_UP) if name == START_UP else name


class WatchPage(QWidget):
    """`back_asked` wants the intake's page again."""

    back_asked = pyqtSignal()

    def __init__(self, model: IntakeModel) -> None:
        super().__init__()
        self._model = model
        self.name = QLineEdit(shown_name(model.timed))
        self.name.setAccessibleName(tr("What is timed"))
        self.name.setFixedWidth(look().px(260))
        self.name.textEdited.connect(self._named)
        self.figure, self.state = label("", "figure"), label("", "head", wrap=True)
        self.login = label("", "muted")
        self.press = button("", self._press, "main", tr("Start, log-in screen, usable  F5"))
        self.give_up = button(tr("Drop this run"), model.give_up_run)
        self.strip = RunsStrip()
        self.strip.strike_asked.connect(self._ask_why)
        self.summary = label("", "muted", wrap=True, copyable=True)
        self.why = QLineEdit()
        self.why.setPlaceholderText(tr("why this run does not count, then Return"))
        self.why.setAccessibleName(tr("Why this run does not count"))
        self.why.returnPressed.connect(self._strike)
        self.why.hide()
        self._struck: tuple[When, int] | None = None
        self._fault = label("", "stop", wrap=True)
        self._fault.hide()
        self.back = button(tr("Back to the intake"), self.back_asked.emit, "", tr("Escape"))
        layout = QVBoxLayout(self)
        layout.setContentsMargins(0, 0, 0, 0)
        layout.setSpacing(look().px(14))
        self.names = Chips(tr("What is timed"), (), one=True)
        self.names.switched.connect(self._pick)
        timed = row(label(tr("Timed"), "muted"), self.name, self.names, gap=10)
        timed.setStretch(2, 1)
        layout.addLayout(timed)
        layout.addLayout(row(self.figure, self.login, None, gap=18))
        layout.addWidget(self.state)
        layout.addLayout(row(self.press, self.give_up, None, gap=10))
        layout.addWidget(self._fault)
        layout.addWidget(label(tr("Runs"), "head"))
        layout.addWidget(self.strip)
        layout.addWidget(self.summary)
        layout.addWidget(self.why)
        layout.addWidget(
            label(
                tr("Up and Down choose a run; Delete strikes it out with a reason, or lets it count again."),
                "small",
                wrap=True,
            )
        )
        layout.addStretch(1)
        layout.addLayout(row(None, self.back))
        self._timer = QTimer(self)
        self._timer.setInterval(_TICK_MS)
        self._timer.timeout.connect(self._tick)

    def _named(self, text: str) -> None:
        if not self._model.stopwatch.running:
            named = text.strip()
            self._model.timed = START_UP if named in ("", shown_name(START_UP)) else named
            self.refresh()

    def _pick(self, name: str) -> None:
        self.name.setText(shown_name(name))
        self._named(name)

    def _press(self) -> None:
        try:
            self._model.press()
        except BadArgument as error:
            self._fault.setText(said(error.sentence()))
            self._fault.show()
        else:
            self._fault.hide()
        self.refresh()

    def refresh(self) -> None:
        watch, model = self._model.stopwatch, self._model
        if not self.name.hasFocus():
            self.name.setText(shown_name(model.timed))
        self.name.setReadOnly(watch.running)
        self.names.setEnabled(not watch.running)
        known = dict.fromkeys((START_UP, *(t.name for t in model.intake.timings)))
        self.names.offer([(name, shown_name(name)) for name in known])
        self.names.show_chosen((model.timed,))
        start_up = model.timed == START_UP
        words: dict[str, Callable[[], str]] = {
            "ready": lambda: (
                tr("Press F5 together with the machine's power button.")
                if start_up
                else tr("Press F5 when it begins, and again when it is there.")
            ),
            "starting": lambda: (
                tr("Running. F5 when the log-in screen comes.") if start_up else tr("Running. F5 when it is there.")
            ),
            "logged-in": lambda: tr("Running. F5 when it can be used."),
        }
        self.state.setText(words[watch.phase]())
        presses = {"ready": tr("Start"), "starting": tr("Log-in screen") if start_up else tr("It is there")}
        self.press.setText(presses.get(watch.phase, tr("Usable")))
        self.give_up.setVisible(watch.running)
        before, after = model.intake.timing(model.timed), model.intake.timing(model.timed, "after")
        self.strip.show_scene(runs_scene(before, after))
        lines = []
        for title, timing in ((tr("Before"), before), (tr("After"), after)):
            if timing is not None and timing.median_s is not None and timing.spread_s is not None:
                count = len(timing.counted)
                runs = trn("{0} run", "{0} runs", count).format(count)
                text = tr("{0}: median {1} of {2}, spread {3}")
                lines.append(text.format(title, seconds_text(timing.median_s), runs, seconds_text(timing.spread_s)))
        self.summary.setText("  ·  ".join(lines))
        if watch.running:
            self._timer.start()
        else:
            self._timer.stop()
        self._tick()

    def _tick(self) -> None:
        watch = self._model.stopwatch
        self.figure.setText(f"{watch.elapsed_s:.1f} s" if watch.running else "0 s")
        login = watch.login_s
        self.login.setText(tr("log-in screen after {0}").format(seconds_text(login)) if login is not None else "")

    def _ask_why(self, when: When, number: int) -> None:
        timing = self._model.intake.timing(self._model.timed, when)
        if timing is not None and timing.runs[number].struck:
            self._model.strike(self._model.timed, when, number, "")
            self.refresh()
            return
        self._struck = (when, number)
        self.why.clear()
        self.why.show()
        self.why.setFocus()

    def _strike(self) -> None:
        if self._struck is not None and self.why.text().strip():
            self._model.strike(self._model.timed, *self._struck, self.why.text())
            self._struck = None
            self.why.hide()
            self.strip.setFocus()
            self.refresh()
