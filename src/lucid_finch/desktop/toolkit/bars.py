"""The bar at the top (study, image, what is being done) and the messages that float over the window."""

from __future__ import annotations

from collections.abc import Callable, Sequence

from PySide6.QtCore import QEvent, QObject, QPropertyAnimation, QTimer, Signal
from PySide6.QtGui import QHideEvent
from PySide6.QtWidgets import (
    QFrame,
    QGraphicsOpacityEffect,
    QHBoxLayout,
    QLabel,
    QProgressBar,
    QPushButton,
    QToolButton,
    QWidget,
)

from lucid_finch.desktop.toolkit.guard import guarded
from lucid_finch.desktop.toolkit.labels import Elided

_STAYS, _STAYS_EACH, _FADES = 4000, 40, 400
"""Milliseconds that a message stays, more for each letter of it, and that it takes to fade."""


class TopBar(QWidget):
    """Name of the study, image and its neighbours, progress, and the buttons that the window adds."""

    stepped = Signal(int)
    """To the next image (1) or the one before (-1)."""

    def __init__(self) -> None:
        super().__init__()
        self.setObjectName("topbar")
        self._row = QHBoxLayout(self)
        self._row.setContentsMargins(12, 6, 12, 6)
        self._row.setSpacing(6)
        self.title = Elided("")
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
        self.modes: dict[str, QPushButton] = {}
        self._modes = QHBoxLayout()
        self._modes.setSpacing(0)
        self._row.addLayout(self._modes)
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

    def add_mode(self, name: str, text: str, tip: str, call: Callable[[], None]) -> None:
        """A way of working, of which one is in force."""
        button = QPushButton(text)
        button.setObjectName("mode")
        button.setCheckable(True)
        button.setToolTip(tip)
        button.clicked.connect(call)
        before = [self.after, *self.modes.values()][-1]
        self.modes[name] = button
        self._modes.addWidget(button)
        self.setTabOrder(before, button)

    def show_mode(self, name: str) -> None:
        """Which way of working is in force."""
        for mode, button in self.modes.items():
            button.setChecked(mode == name)

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
    """Says something without a dialog in the way, and may offer what to do about it. It floats over the window and fades."""

    def __init__(self) -> None:
        super().__init__()
        self.setObjectName("note")
        self._row = QHBoxLayout(self)
        self._row.setContentsMargins(12, 6, 8, 6)
        self.text = QLabel()
        self.text.setWordWrap(True)
        self._row.addWidget(self.text, 1)
        self._offers: list[QPushButton] = []
        away = QPushButton("×")
        away.setObjectName("bare")
        away.setAccessibleName(self.tr("Put the message away"))
        away.clicked.connect(self.hide)
        self._row.addWidget(away)
        self._above: QWidget | None = None
        self._opacity = QGraphicsOpacityEffect(self)
        self._opacity.setEnabled(False)
        self.setGraphicsEffect(self._opacity)
        self._fading = QPropertyAnimation(self._opacity, b"opacity", self)
        self._fading.setDuration(_FADES)
        self._fading.setStartValue(1.0)
        self._fading.setEndValue(0.0)
        self._fading.finished.connect(self.hide)
        self._stays = QTimer(self)
        self._stays.setSingleShot(True)
        self._stays.timeout.connect(self._fade)
        self.hide()

    def float_over(self, window: QWidget, below: QWidget) -> None:
        """Lie over `window`, under its bar `below`."""
        self.setParent(window)
        self._above = below
        window.installEventFilter(self)
        self.hide()

    def tell(self, text: str, wrong: bool = False, offers: Sequence[tuple[str, Callable[[], None]]] = ()) -> None:
        """Show a message, with a button for each of the `offers`; one with offers stays until it is put away."""
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
        self._fading.stop()
        self._opacity.setEnabled(False)
        self._place()
        self.show()
        self.raise_()
        self._stays.stop()
        if not offers:
            # Time to read it, longer for what went wrong.
            self._stays.start((2 if wrong else 1) * (_STAYS + _STAYS_EACH * len(text)))

    def _place(self) -> None:
        window = self.parentWidget()
        if window is None or self._above is None:
            return
        width = min(640, window.width() - 40)
        self.setFixedWidth(width)
        margins = self._row.contentsMargins()
        others = sum(b.sizeHint().width() + self._row.spacing() for b in self._offers) + 40
        room = width - margins.left() - margins.right() - others
        self.text.setMinimumHeight(self.text.heightForWidth(max(room, 80)))
        self.adjustSize()
        self.move((window.width() - width) // 2, self._above.height() + 8)

    def _fade(self) -> None:
        if self.underMouse():
            self._stays.start(_STAYS)
            return
        self._opacity.setEnabled(True)
        self._fading.start()

    @guarded
    def eventFilter(self, watched: QObject, event: QEvent) -> bool:
        if event.type() == QEvent.Type.Resize and not self.isHidden():
            self._place()
        return False

    @guarded
    def hideEvent(self, event: QHideEvent) -> None:
        self._fading.stop()
        self._stays.stop()
        super().hideEvent(event)
