"""The timeline of a clip: play, step, jump, loop a part; the count of each frame, and where it is not as expected."""

from __future__ import annotations

import time
from collections.abc import Callable

import numpy as np
from PySide6.QtCore import QRectF, QSize, Qt, QTimer, Signal
from PySide6.QtGui import QColor, QKeyEvent, QMouseEvent, QPainter, QPaintEvent, QPen
from PySide6.QtWidgets import QComboBox, QHBoxLayout, QLabel, QSizePolicy, QToolButton, QWidget

from lucid_finch.desktop.pages.image_list import Entry, ImageList
from lucid_finch.desktop.toolkit.guard import guarded
from lucid_finch.desktop.toolkit.theme import current_theme

_HANDLE = 7.0
"""px around an end of the loop within which it is taken hold of."""
_SPEEDS = (0.1, 0.25, 0.5, 1.0, 2.0, 4.0)
_LONGEST = 2.0
"""Seconds between two frames, at most, however far apart their times are."""


def clock(seconds: float) -> str:
    """A time as minutes, seconds and hundredths."""
    minutes, rest = divmod(max(seconds, 0.0), 60.0)
    return f"{int(minutes):02d}:{rest:05.2f}"


class Track(QWidget):
    """The frames side by side: a bar as high as the count of each, those not as expected apart; the part that is looped."""

    wanted = Signal(int)
    """The frame that was clicked."""
    looped = Signal()

    def __init__(self) -> None:
        super().__init__()
        self.entries: list[Entry] = []
        self.current = 0
        self.first, self.last = 0, 0
        """The part that is looped."""
        self._hold = ""
        self.setMinimumHeight(34)
        self.setSizePolicy(QSizePolicy.Policy.Expanding, QSizePolicy.Policy.Fixed)
        self.setFocusPolicy(Qt.FocusPolicy.StrongFocus)
        self.setMouseTracking(True)
        self.setAccessibleName(self.tr("Timeline"))
        tip = self.tr("Click a frame to go there; drag the ends to loop a part.")
        self.setToolTip(tip + " " + self.tr("A bar is the count of a frame, red where it is not as expected."))

    def sizeHint(self) -> QSize:
        return QSize(400, 34)

    def show_entries(self, entries: list[Entry]) -> None:
        self.entries = entries
        self.first, self.last = 0, max(len(entries) - 1, 0)
        self.update()

    def place_of(self, number: float) -> float:
        """px from the left of a frame."""
        return 8 + (self.width() - 16) * number / max(len(self.entries) - 1, 1)

    def number_at(self, x: float) -> int:
        share = (x - 8) / max(self.width() - 16, 1)
        return int(np.clip(round(share * (len(self.entries) - 1)), 0, max(len(self.entries) - 1, 0)))

    @guarded
    def paintEvent(self, event: QPaintEvent) -> None:
        painter, theme = QPainter(self), current_theme()
        high = self.height()
        inner = QRectF(8, 4, self.width() - 16, high - 8)
        painter.fillRect(inner, QColor(theme.surround_bar))
        if not self.entries:
            return
        left, right = self.place_of(self.first), self.place_of(self.last)
        painter.fillRect(QRectF(left, 4, right - left, high - 8), QColor(theme.surround))
        self._paint_counts(painter, inner)
        painter.setPen(QPen(QColor(theme.surround_quiet), 1))
        for x in (left, right):
            painter.fillRect(QRectF(x - 2, 4, 4, high - 8), QColor(theme.surround_quiet))
        x = self.place_of(self.current)
        painter.fillRect(QRectF(x - 1.5, 1, 3, high - 2), QColor(theme.accent))
        if self.hasFocus():
            painter.setPen(QPen(QColor(theme.accent), 1))
            painter.drawRect(QRectF(0.5, 0.5, self.width() - 1, high - 1))

    def _paint_counts(self, painter: QPainter, inner: QRectF) -> None:
        """One bar a pixel at most: the highest count of the frames there, and whether one of them is wrong."""
        theme = current_theme()
        counts = np.array([sum(e.result.counts) if e.result is not None else -1 for e in self.entries])
        wrong = np.array([e.is_wrong for e in self.entries])
        most = max(int(counts.max()), 1)
        columns = max(1, min(len(self.entries), int(inner.width()) // 2))
        step = inner.width() / columns
        for column, part in enumerate(np.array_split(np.arange(len(self.entries)), columns)):
            high = counts[part].max()
            if high < 0:
                continue
            bad = bool(wrong[part].any())
            bar = max(2.0, (inner.height() - 2) * high / most)
            box = QRectF(inner.left() + column * step, inner.bottom() - bar, max(step - (1 if step > 3 else 0), 1), bar)
            painter.fillRect(box, QColor(theme.bad if bad else theme.surround_quiet))

    @guarded
    def mousePressEvent(self, event: QMouseEvent) -> None:
        x = event.position().x()
        ends = {"first": self.place_of(self.first), "last": self.place_of(self.last)}
        near = min(ends, key=lambda name: abs(ends[name] - x))
        # The ends are held at their upper and lower edge, so that the frame there can be chosen, too.
        edge = not 10 < event.position().y() < self.height() - 10
        self._hold = near if abs(ends[near] - x) < _HANDLE and edge else "current"
        self._moved(x)

    @guarded
    def mouseMoveEvent(self, event: QMouseEvent) -> None:
        if event.buttons() & Qt.MouseButton.LeftButton:
            self._moved(event.position().x())

    def _moved(self, x: float) -> None:
        number = self.number_at(x)
        if self._hold == "current":
            if number != self.current:
                self.wanted.emit(number)
            return
        if self._hold == "first":
            self.first = min(number, self.last)
        else:
            self.last = max(number, self.first)
        self.looped.emit()
        self.update()


class Timeline(QWidget):
    """Below the panes while a clip is open; goes through the entries of the image list."""

    rested = Signal()
    """The frame on the bench stays."""

    def __init__(self, images: ImageList) -> None:
        super().__init__()
        self.setObjectName("timeline")
        self.images = images
        self.busy: Callable[[], bool] = lambda: False
        """Whether the frame that was asked for is not shown yet."""
        self.playing_changed: Callable[[int], None] = lambda step: None
        """Told how far the next frame will be while it plays, else 0."""
        self.track = Track()
        self.track.wanted.connect(self.go_to)
        self.back = self._button("‹", self.tr("One frame back (,)"), lambda: self.step(-1))
        self.play_button = self._button("▶", self.tr("Play or hold (P)"), self.toggle)
        self.forth = self._button("›", self.tr("One frame on (.)"), lambda: self.step(1))
        self.loop_from = self._button("[", self.tr("Loop from this frame on ([)"), lambda: self.set_loop(self.track.current))
        self.loop_to = self._button("]", self.tr("Loop up to this frame (])"), lambda: self.set_loop(last=self.track.current))
        self.speed = QComboBox()
        for speed in _SPEEDS:
            self.speed.addItem(f"{speed:g} ×", speed)
        self.speed.setCurrentIndex(_SPEEDS.index(1.0))
        self.speed.setToolTip(self.tr("Speed, as far as the detectors keep up; no frame is left out"))
        self.speed.setAccessibleName(self.tr("Speed"))
        self.said = QLabel()
        row = QHBoxLayout(self)
        row.setContentsMargins(8, 2, 8, 2)
        row.setSpacing(4)
        before: tuple[QWidget, ...] = (self.back, self.play_button, self.forth)
        after: tuple[QWidget, ...] = (self.loop_from, self.loop_to, self.speed, self.said)
        for widget in (*before, self.track, *after):
            row.addWidget(widget, 1 if widget is self.track else 0)
        self._timer = QTimer(self)
        self._timer.setInterval(4)
        self._timer.timeout.connect(self._tick)
        self._due = 0.0
        images.listed.connect(self._listed)
        images.result_came.connect(lambda row: self.track.update())
        images.current_changed.connect(self._show_current)
        self.hide()

    def _button(self, text: str, tip: str, call: Callable[[], object]) -> QToolButton:
        button = QToolButton()
        button.setObjectName("tight")
        button.setText(text)
        button.setToolTip(tip)
        button.setAccessibleName(tip)
        button.clicked.connect(call)
        return button

    @property
    def is_clip(self) -> bool:
        """Whether the list is the frames of one clip."""
        entries = self.images.entries
        return len(entries) > 1 and entries[0].place.is_frame and entries[0].place.path == entries[-1].place.path

    @property
    def playing(self) -> bool:
        return self._timer.isActive()

    def _listed(self) -> None:
        self.stop()
        self.track.show_entries(self.images.entries if self.is_clip else [])
        self.setVisible(self.is_clip)
        self._show_current()

    def give_way(self, away: bool) -> None:
        """A camera is on the bench, or no longer."""
        self.stop()
        self.setVisible(self.is_clip and not away)

    def _show_current(self) -> None:
        self.track.current = max(self.images.current, 0)
        self.track.update()
        if self.is_clip:
            count, seconds = len(self.images.entries), self._time_of(self.track.current)
            self.said.setText(self.tr("{}  frame {} of {}").format(clock(seconds), self.track.current + 1, count))

    def _time_of(self, row: int) -> float:
        seconds = self.images.entries[row].place.time
        return seconds if seconds is not None else row / 25.0

    def go_to(self, row: int) -> None:
        """Show a frame."""
        self.images.select(row)

    def step(self, by: int) -> None:
        """One frame on (1) or back (-1); holds."""
        self.stop()
        self.images.step(by)

    def set_loop(self, first: int | None = None, last: int | None = None) -> None:
        """The part that is played over and over; an end that would pass the other opens it."""
        track = self.track
        if first is not None:
            track.first = first
            track.last = track.last if track.last > first else len(track.entries) - 1
        if last is not None:
            track.last = last
            track.first = track.first if track.first < last else 0
        track.update()

    def toggle(self) -> None:
        """Play, or hold."""
        if self.playing:
            self.stop()
        elif self.is_clip:
            self.play_button.setText("❙❙")
            self._due = time.monotonic()
            self._timer.start()
            self.playing_changed(1)

    def stop(self) -> None:
        """Hold."""
        was_playing = self.playing
        self._timer.stop()
        if was_playing:
            self.rested.emit()
        self.play_button.setText("▶")
        self.playing_changed(0)

    def _tick(self) -> None:
        now = time.monotonic()
        if now < self._due or self.busy():
            return
        row = self.images.current
        following = row + 1 if self.track.first <= row < self.track.last else self.track.first
        wait = self._time_of(following) - self._time_of(row) if following > row else 1 / 25.0
        # Later than it should be: the clip goes slower, rather than to leave out frames.
        self._due = max(self._due, now - 0.05) + min(wait, _LONGEST) / float(self.speed.currentData())
        self.images.select(following)

    @guarded
    def keyPressEvent(self, event: QKeyEvent) -> None:
        keys: dict[Qt.Key, Callable[[], None]] = {
            Qt.Key.Key_Left: lambda: self.step(-1), Qt.Key.Key_Right: lambda: self.step(1), Qt.Key.Key_Space: self.toggle,
            Qt.Key.Key_Home: lambda: self.go_to(0), Qt.Key.Key_End: lambda: self.go_to(len(self.images.entries) - 1),
        }  # fmt: skip
        if (call := keys.get(Qt.Key(event.key()))) is not None:
            call()
        else:
            super().keyPressEvent(event)
