"""Says how a shape is drawn while one is being drawn."""

from __future__ import annotations

from PySide6.QtCore import QCoreApplication

from lucid_finch.desktop.toolkit.bars import NoticeBar


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
