"""The evidence strip: the stages of the selected detector as a row of live thumbnails."""

from __future__ import annotations

from functools import partial

import numpy as np
from numpy.typing import NDArray
from PySide6.QtCore import QEvent, QRect, QSize, Qt, Signal
from PySide6.QtGui import QColor, QImage, QKeyEvent, QMouseEvent, QPainter, QPaintEvent, QPen, QWheelEvent
from PySide6.QtWidgets import QFrame, QHBoxLayout, QScrollArea, QWidget

from lucid_finch.desktop.study.picture import Picture
from lucid_finch.desktop.toolkit.guard import guarded
from lucid_finch.desktop.toolkit.theme import current_theme

WIDTH, HEIGHT = 78, 48


class Stage(QWidget):
    """One thumbnail with its label."""

    chosen = Signal(str)
    stepped = Signal(int)
    """To the thumbnail after it (1) or before it (-1)."""

    def __init__(self, name: str, label: str) -> None:
        super().__init__()
        self.name, self.label = name, label
        self.active = False
        self._pixels: NDArray[np.uint32] | None = None
        self._fit()
        self.setFocusPolicy(Qt.FocusPolicy.StrongFocus)
        self.setAccessibleName(label)
        self.setToolTip(self.tr("{}: show it in the active pane").format(label))
        self.setCursor(Qt.CursorShape.PointingHandCursor)

    def _fit(self) -> None:
        # A label is never cut off.
        self.wide = max(WIDTH, self.fontMetrics().horizontalAdvance(self.label) + 10)
        self.setFixedSize(self.wide + 4, HEIGHT + self.fontMetrics().height() + 9)

    @guarded
    def changeEvent(self, event: QEvent) -> None:
        super().changeEvent(event)
        if event.type() in (QEvent.Type.FontChange, QEvent.Type.StyleChange):
            self._fit()

    def show_picture(self, picture: Picture) -> None:
        ratio = self.devicePixelRatioF()
        self._pixels = picture.thumbnail(round(self.wide * ratio), round(HEIGHT * ratio))
        self.update()

    @guarded
    def paintEvent(self, event: QPaintEvent) -> None:
        theme = current_theme()
        painter = QPainter(self)
        box = QRect(2, 2, self.wide, HEIGHT)
        painter.fillRect(self.rect().adjusted(1, 1, -1, -1), QColor(theme.surround_bar))
        if self._pixels is not None:
            height, width = self._pixels.shape
            painter.drawImage(box, QImage(self._pixels.data, width, height, 4 * width, QImage.Format.Format_RGB32))
        painter.setPen(QColor("#f0b140" if self.active else theme.surround_text))
        line = QRect(6, HEIGHT + 3, self.wide, self.fontMetrics().height() + 3)
        painter.drawText(line, Qt.AlignmentFlag.AlignVCenter, self.label)
        if self.active or self.hasFocus():
            painter.setPen(QPen(QColor("#f0b140"), 1.4))
            painter.drawRect(self.rect().adjusted(1, 1, -2, -2))
        painter.end()

    @guarded
    def mousePressEvent(self, event: QMouseEvent) -> None:
        self.chosen.emit(self.name)

    @guarded
    def keyPressEvent(self, event: QKeyEvent) -> None:
        if event.key() in (Qt.Key.Key_Return, Qt.Key.Key_Enter, Qt.Key.Key_Space):
            self.chosen.emit(self.name)
        elif event.key() in (Qt.Key.Key_Left, Qt.Key.Key_Right):
            self.stepped.emit(1 if event.key() == Qt.Key.Key_Right else -1)
        else:
            super().keyPressEvent(event)


class EvidenceStrip(QScrollArea):
    """The row of stages."""

    chosen = Signal(str)

    def __init__(self) -> None:
        super().__init__()
        self.setWidgetResizable(True)
        self.setFrameShape(QFrame.Shape.NoFrame)
        self.setAccessibleName(self.tr("Stages"))
        self.setFocusPolicy(Qt.FocusPolicy.NoFocus)
        self.setVerticalScrollBarPolicy(Qt.ScrollBarPolicy.ScrollBarAlwaysOff)
        # The wheel and the arrow keys move along the row.
        self.setHorizontalScrollBarPolicy(Qt.ScrollBarPolicy.ScrollBarAlwaysOff)
        self.stages: dict[str, Stage] = {}
        self._page = QWidget()
        self._page.setObjectName("strip")
        self._row = QHBoxLayout(self._page)
        self._row.setContentsMargins(5, 3, 5, 3)
        self._row.setSpacing(4)
        self._row.addStretch(1)
        self.setWidget(self._page)
        self._fit()

    def _fit(self) -> None:
        self.setFixedHeight(HEIGHT + self.fontMetrics().height() + 18)

    @guarded
    def changeEvent(self, event: QEvent) -> None:
        super().changeEvent(event)
        if event.type() in (QEvent.Type.FontChange, QEvent.Type.StyleChange):
            self._fit()

    def show_stages(self, stages: list[tuple[str, str]]) -> None:
        """Names and labels in order; kept as they are if they are the same."""
        if [(s.name, s.label) for s in self.stages.values()] == stages:
            return
        for stage in self.stages.values():
            self._row.removeWidget(stage)
            stage.hide()
            stage.deleteLater()
        self.stages = {name: Stage(name, label) for name, label in stages}
        # Qt orders only what takes the focus.
        self.setFocusPolicy(Qt.FocusPolicy.StrongFocus)
        before: QWidget = self
        for number, stage in enumerate(self.stages.values()):
            stage.chosen.connect(self.chosen)
            stage.stepped.connect(partial(self._step, number))
            self._row.insertWidget(number, stage)
            self.setTabOrder(before, stage)
            before = stage
        self.setFocusPolicy(Qt.FocusPolicy.NoFocus)
        self._mark_stop()

    def _mark_stop(self) -> None:
        """Tab stops once in the row, at what is shown in a pane; the arrows go on from there."""
        stages = list(self.stages.values())
        stop = next((s for s in stages if s.active), stages[0] if stages else None)
        for stage in stages:
            stage.setFocusPolicy(Qt.FocusPolicy.StrongFocus if stage is stop else Qt.FocusPolicy.ClickFocus)

    def _step(self, number: int, by: int) -> None:
        stages = list(self.stages.values())
        stage = stages[min(max(number + by, 0), len(stages) - 1)]
        stage.setFocus()
        self.ensureWidgetVisible(stage)

    @guarded
    def wheelEvent(self, event: QWheelEvent) -> None:
        turned = event.angleDelta()
        bar = self.horizontalScrollBar()
        bar.setValue(bar.value() - (turned.y() or turned.x()))
        event.accept()

    def show_picture(self, picture: Picture) -> None:
        if picture.name in self.stages:
            self.stages[picture.name].show_picture(picture)

    def show_active(self, names: set[str]) -> None:
        for name, stage in self.stages.items():
            if stage.active != (name in names):
                stage.active = name in names
                stage.update()
                if stage.active:
                    self.ensureWidgetVisible(stage)
        self._mark_stop()

    def sizeHint(self) -> QSize:
        return QSize(400, self.height())
