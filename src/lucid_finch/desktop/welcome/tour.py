"""A short tour of the window: a card beside one part after the other, which is framed meanwhile."""

from __future__ import annotations

from collections.abc import Sequence

from PySide6.QtCore import QPoint, QRect, Qt
from PySide6.QtGui import QKeyEvent
from PySide6.QtWidgets import QFrame, QHBoxLayout, QLabel, QPushButton, QVBoxLayout, QWidget

from lucid_finch.desktop.toolkit.guard import guarded

_WIDTH = 330
Stop = tuple[QWidget, str, str]
"""A part of the window, its name, and what is said of it."""


class Tour(QFrame):
    """Escape or Skip ends it; it is found again among the actions."""

    def __init__(self, over: QWidget, stops: Sequence[Stop]) -> None:
        super().__init__(over)
        self.setObjectName("note")
        self._over = over
        self.place = 0
        self.stops = list(stops)
        layout = QVBoxLayout(self)
        layout.setContentsMargins(14, 11, 14, 11)
        self.title, self.text = QLabel(), QLabel()
        self.title.setObjectName("title")
        self.text.setWordWrap(True)
        row = QHBoxLayout()
        self.count = QLabel()
        self.count.setObjectName("quiet")
        self.skip, self.next = QPushButton(self.tr("Skip")), QPushButton(self.tr("Next"))
        self.skip.clicked.connect(self.put_away)
        self.next.clicked.connect(self.go_on)
        row.addWidget(self.count, 1)
        row.addWidget(self.skip)
        row.addWidget(self.next)
        for widget in (self.title, self.text):
            layout.addWidget(widget)
        layout.addLayout(row)
        self.frame = QFrame(over)
        self.frame.setObjectName("tourframe")
        self.frame.setAttribute(Qt.WidgetAttribute.WA_TransparentForMouseEvents)
        self.frame.hide()
        self.hide()

    def start(self) -> None:
        """From the first stop."""
        self.place = 0
        self._show()

    def go_on(self) -> None:
        """To the next stop, or the end."""
        self.place += 1
        if self.place >= len(self.stops):
            self.put_away()
        else:
            self._show()

    def put_away(self) -> None:
        """End the tour."""
        self.frame.hide()
        self.hide()

    def _show(self) -> None:
        widget, title, text = self.stops[self.place]
        self.title.setText(title)
        self.text.setText(text)
        self.count.setText(f"{self.place + 1} / {len(self.stops)}")
        self.next.setText(self.tr("Next") if self.place + 1 < len(self.stops) else self.tr("Done"))
        self.setFixedWidth(_WIDTH)
        self.text.setMinimumHeight(self.text.heightForWidth(_WIDTH - 28))
        self.adjustSize()
        box = QRect(widget.mapTo(self._over, QPoint(0, 0)), widget.size())
        self.frame.setGeometry(box)
        self.frame.show()
        self.frame.raise_()
        # Beside the part where there is room, else in its middle.
        x = box.right() + 12 if box.right() + 12 + self.width() <= self._over.width() else box.center().x() - self.width() // 2
        y = box.top() + 12 if box.right() + 12 == x else box.top() - self.height() - 12
        if y < 4:
            y = min(box.bottom() + 12, box.center().y())
        self.move(max(x, 4), max(min(y, self._over.height() - self.height() - 4), 4))
        self.show()
        self.raise_()
        self.next.setFocus()

    @guarded
    def keyPressEvent(self, event: QKeyEvent) -> None:
        if event.key() == Qt.Key.Key_Escape:
            self.put_away()
        elif event.key() in (Qt.Key.Key_Return, Qt.Key.Key_Enter, Qt.Key.Key_Right):
            self.go_on()
        else:
            super().keyPressEvent(event)
