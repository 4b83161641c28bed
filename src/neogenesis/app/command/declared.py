"""What the window can do. A stop's own actions stand in its folder."""

from __future__ import annotations

from collections.abc import Callable
from typing import TYPE_CHECKING

from neogenesis.app.command.actions import Action
from neogenesis.app.stops import STOPS
from neogenesis.core.job import ROUTE

if TYPE_CHECKING:
    from neogenesis.app.shell.commanded import CommandedWindow


def declared(window: CommandedWindow) -> list[Action]:
    """In the order in which the menu shows them."""
    look, sheets = window.appearance, window.sheets

    def in_job() -> bool:
        return window.job is not None

    def at(stop: str, possible: Callable[[object], bool] = lambda view: True) -> Callable[[], bool]:
        return lambda: window.job is not None and window.stop == stop and possible(window.views[stop])

    own = [
        Action(
            f"{stop}-{a.key}",
            a.title,
            a.shortcut,
            f"stop {stop}",
            lambda a=a, stop=stop: a.do(window.views[stop]),
            at(stop, a.possible),
            at(stop),
        )
        for stop, spec in STOPS.items()
        for a in spec.actions
    ]
    stops = [
        Action(f"stop-{s.key}", f"Go to {s.title}", f"Alt+{n}", "Go", lambda k=s.key: window.show_stop(k), in_job)
        for n, s in enumerate(ROUTE, 1)
    ]
    return [
        Action("command", "Find anything", "Ctrl+K", "Go", sheets.show_command),
        Action("jobs", "All jobs", "Alt+0", "Go", window.show_jobs),
        *stops,
        Action("new-job", "New job", "Ctrl+N", "Job", sheets.new_job),
        Action("edit-job", "Change the job", "Ctrl+E", "Job", sheets.edit_job, lambda: bool(window.chosen_ticket())),
        Action("main", "Do the stop's main action", "Ctrl+Return", "Job", window.main_action, in_job, in_job),
        Action("note", "Note for the logbook", "Ctrl+L", "Job", window.focus_note, in_job, in_job),
        Action("keep", "Image, rescue, restore, or copy files out", "Ctrl+I", "Job", sheets.show_keep, in_job, in_job),
        *own,
        Action("theme", "Day or night", "Ctrl+T", "Window", look.switch_theme),
        Action("logbook", "Show or fold the logbook", "Ctrl+B", "Window", window.switch_logbook, in_job, in_job),
        Action("larger", "Larger text", "Ctrl+=", "Window", lambda: look.scale(1)),
        Action("smaller", "Smaller text", "Ctrl+-", "Window", lambda: look.scale(-1)),
        Action("library", "Library of images and packages", "Ctrl+Shift+I", "Window", sheets.show_library),
        Action("preferences", "Preferences", "Ctrl+,", "Window", sheets.show_preferences),
        Action("doctor", "What this machine can do", "Shift+F1", "Window", sheets.show_doctor),
        Action("help", "Help for this stop", "F1", "Window", sheets.show_help),
        Action("quit", "Close the window; transfers go on", "Ctrl+Q", "Window", window.close),
    ]
