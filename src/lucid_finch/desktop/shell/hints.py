"""Says how a shape is drawn while one is being drawn, and what the tour says of each part of the window."""

from __future__ import annotations

from PySide6.QtCore import QCoreApplication

from lucid_finch.desktop.shell.parts import Parts
from lucid_finch.desktop.toolkit.bars import NoticeBar
from lucid_finch.desktop.welcome.tour import Stop


def show_drawing_hint(notice: NoticeBar, kind: str) -> None:
    """How to draw a shape of that kind; "" when nothing is drawn any more."""
    if not kind:
        notice.hide()
        return

    def tr(text: str) -> str:
        return QCoreApplication.translate("Hints", text)

    how = {
        "polygon": tr("click its corners; a double click, Return or the first corner again ends it"),
        "circle": tr("click three points of its rim"),
        "angle": tr("click two points of one line, then two of the other"),
        "annulus": tr("drag from its centre to its outer rim"),
    }.get(kind, tr("drag it on the image"))
    notice.tell(tr("{}: {}. Esc cancels.").format(kind.capitalize(), how))


def tour_stops(parts: Parts) -> list[Stop]:
    """What the tour of the window shows."""
    tr = parts.tr
    return [
        (parts.recipe_cards, tr("Recipe"), tr(
            "The image, steps that prepare it, and detectors, each with its count of findings and near misses (+). Arrow "
            "keys move between the rows."
        )),
        (parts.panes, tr("Pictures"), tr(
            "Any map in any pane, linked in zoom and place. The wheel zooms, a drag moves, F fits, H hides the marks."
        )),
        (parts.stages.strip, tr("Stages"), tr(
            "Every step that leads from the image to the findings. A click shows one in the active pane."
        )),
        (parts.settings, tr("Settings"), tr(
            "A limit lies under the histogram of what it judges: drag it into the gap. Findings follow at once. The dots of "
            "a parameter compare its values."
        )),
        (parts.drawer, tr("Results"), tr(
            "Findings with error bars, and near misses: what was rejected, by which limit, by how much. W and a click on "
            "the picture answer why nothing is found there, and which change would."
        )),
        (parts.bar, tr("Everything else"), tr(
            "Ctrl+K searches all actions. Export writes what the command line would write with the same recipe."
        )),
    ]  # fmt: skip
