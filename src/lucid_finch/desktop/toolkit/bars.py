"""The bar at the top (study, image, what is being done) and the bar under it that says what went wrong or is offered."""

from __future__ import annotations

from collections.abc import Callable, Sequence

from PySide6.QtCore import Signal
from PySide6.QtWidgets import QFrame, QHBoxLayout, QLabel, QProgressBar, QPushButton, QToolButton, QWidget

from lucid_finch.desktop.toolkit.labels import Elided


class TopBar(QWidget):
    """Name of the study, image and its neighbours, progress, and the buttons that the window adds."""

    stepped = Signal(int)
    """To the next image (1) or the one before (-1)."""

    def __init__(self) -> None:
        super().__init__()
        self.setObjectName("topbar")
        self._row = QHBoxLayout(self)
        self._row.setContentsMargins(12, 6, 12, 6)
        self._row.setSpacing(8)
        self.title = QLabel()
        self.title.setObjectName("title")
        self.image_name = Elided("")
        self.image_name.setObjectName("quiet")
        self.place = QLabel()
        self.place.setObjectName("quiet")
        self.before = self._arrow("‹", -1, self.tr("Previous image"))
        self.after = self._arrow("›", 1, self.tr("Next image"))
        self.doing = QLabel()
        self.doing.setObjectName("quiet")
        self.progress = QProgressBar()
        self.progress.setTextVisible(False)
        self.progress.setFixedWidth(110)
        self.stop = QPushButton(self.tr("Cancel"))
        self.stop.setToolTip(self.tr("Cancel the running work (Esc); nothing is changed."))
        self.progress.hide()
        self.stop.hide()
        for widget in (self.title, self.before, self.place, self.after):
            self._row.addWidget(widget)
        self._row.addWidget(self.image_name, 1)
        for shown in (self.doing, self.progress, self.stop):
            self._row.addWidget(shown)
        self.show_place(0, 0)

    def _arrow(self, text: str, by: int, name: str) -> QPushButton:
        button = QPushButton(text)
        button.setObjectName("bare")
        button.setAccessibleName(name)
        button.setToolTip(name)
        button.clicked.connect(lambda: self.stepped.emit(by))
        return button

    def show_place(self, number: int, count: int) -> None:
        """Which image of how many."""
        for widget in (self.before, self.place, self.after):
            widget.setVisible(count > 1)
        self.place.setText(f"{number} / {count}")
        self.before.setEnabled(number > 1)
        self.after.setEnabled(number < count)

    def add_button(self, button: QToolButton) -> None:
        self._row.addWidget(button)


class NoticeBar(QFrame):
    """Says something without a dialog in the way; may offer what to do about it."""

    def __init__(self) -> None:
        super().__init__()
        self.setObjectName("note")
        self._row = QHBoxLayout(self)
        self._row.setContentsMargins(12, 4, 8, 4)
        self.text = QLabel()
        self.text.setWordWrap(True)
        self._row.addWidget(self.text, 1)
        self._offers: list[QPushButton] = []
        away = QPushButton("×")
        away.setObjectName("bare")
        away.setAccessibleName(self.tr("Put the message away"))
        away.clicked.connect(self.hide)
        self._row.addWidget(away)
        self.hide()

    def tell(self, text: str, wrong: bool = False, offers: Sequence[tuple[str, Callable[[], None]]] = ()) -> None:
        """Show a message, with a button for each of the `offers`."""
        for button in self._offers:
            self._row.removeWidget(button)
            button.deleteLater()
        self._offers = []
        for label, call in offers:
            button = QPushButton(label)
            button.clicked.connect(self.hide)
            button.clicked.connect(call)
            self._row.insertWidget(self._row.count() - 1, button)
            self._offers.append(button)
        self.text.setObjectName("bad" if wrong else "")
        self.text.style().unpolish(self.text)
        self.text.style().polish(self.text)
        self.text.setText(text)
        self.show()
