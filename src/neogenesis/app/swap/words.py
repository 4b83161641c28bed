"""How a step, a fastener and a count are said, in the language of the window."""

from __future__ import annotations

from neogenesis.app.language import mark, said, tr
from neogenesis.core.swap import Row
from neogenesis.core.swap.tray import Kind, Shape

#: Patterns of steps that the catalogue of sentences does not find by itself.
PATTERNS = (
    *(mark("Lift {0}"), mark("Unplug {0}"), mark("Drain: {0}"), mark("Photograph {0}"), mark("Check: {0}")),
    *(mark("Lower {0}"), mark("Close {0}")),
)
SHAPE_WORDS: dict[Shape, str] = {
    "disc": mark("disc"),
    "hexagon": mark("hexagon"),
    "diamond": mark("diamond"),
    "square": mark("square"),
    "triangle": mark("triangle"),
    "drop": mark("drop"),
}


def row_text(row: Row) -> tuple[str, str]:
    """The step in large words, and what else is said of it."""
    what, _, more = said(row.what).partition("; ")
    head = tr(row.pattern).format(what)
    return head[:1].upper() + head[1:], more


def kind_text(kind: Kind) -> str:
    """Where it belongs, how long it is, and its head."""
    length = "" if kind.length_mm is None else f"{kind.length_mm:g} mm"
    return ", ".join(filter(None, (said(kind.place) if kind.place else kind.id, length, kind.head)))


def cover_text(kind: Kind) -> str:
    """What hides it, and whether that goes back on."""
    if kind.hidden_under is None:
        return ""
    under = tr("under the {0}").format(said(kind.hidden_under))
    if kind.cover_reused is None:
        return under
    return f"{under}, {tr('which is used again') if kind.cover_reused else tr('which is not used again')}"


def minutes_text(spent_s: float, planned_s: float) -> str:
    return tr("{0} of {1} min").format(round(spent_s / 60), max(1, round(planned_s / 60)))


def clock_text(seconds: float) -> str:
    """`14 s`, `9:40`."""
    whole = max(0, int(seconds + 0.999))
    return tr("{0} s").format(whole) if whole < 60 else f"{whole // 60}:{whole % 60:02d}"
