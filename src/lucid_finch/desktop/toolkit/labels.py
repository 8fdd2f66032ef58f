"""Labels that adapt their text to the room there is."""

from __future__ import annotations

from PySide6.QtCore import QSize, Qt
from PySide6.QtGui import QPainter, QPaintEvent
from PySide6.QtWidgets import QLabel

from lucid_finch.desktop.toolkit.guard import guarded


class Elided(QLabel):
    """A label that shortens its text to the room there is; the whole text is its tooltip."""

    where = Qt.TextElideMode.ElideMiddle
    """Which part of the text goes."""

    def minimumSizeHint(self) -> QSize:
        return QSize(20, super().minimumSizeHint().height())

    @guarded
    def paintEvent(self, event: QPaintEvent) -> None:
        painter = QPainter(self)
        text = self.fontMetrics().elidedText(self.text(), self.where, self.width())
        if len(text) < 4 and text != self.text():
            # What is left says nothing.
            text = ""
        self.setToolTip(self.text() if text != self.text() else "")
        painter.setPen(self.palette().color(self.foregroundRole()))
        painter.drawText(self.rect(), self.alignment() | Qt.AlignmentFlag.AlignVCenter, text)
        painter.end()
