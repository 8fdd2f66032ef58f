"""The bar of a camera: live or held, frames captured to the image list, what can be set, and how old what one sees is."""

from __future__ import annotations

import time
from collections.abc import Callable
from functools import partial
from pathlib import Path

from PySide6.QtCore import Qt, QTimer, Signal
from PySide6.QtWidgets import (
    QHBoxLayout,
    QInputDialog,
    QLabel,
    QMenu,
    QPushButton,
    QSizePolicy,
    QSlider,
    QToolButton,
    QWidget,
    QWidgetAction,
)

from lucid_finch.core.image import Image
from lucid_finch.core.numerics.runtime.memory import give_back
from lucid_finch.desktop.toolkit.labels import Elided
from lucid_finch.pipeline.cameras import Control, Shot, cameras, is_camera
from lucid_finch.pipeline.live import Live
from lucid_finch.pipeline.sources import Place

_LOOK = 4
"""Milliseconds between looks for a new frame."""
_GIVE_BACK = 15.0
"""Seconds between two times at which free memory is given back."""
_STEPS = 400
"""Places of a slider."""


class CameraBar(QWidget):
    """Below the panes while a camera is open; shows its newest frame whenever the one before is done."""

    seen = Signal(object)
    """An `Image` that is to be shown."""
    captured = Signal(object)
    """A `Place` that is to be listed."""

    open_changed = Signal(bool)
    rested = Signal()
    """The frame on the bench stays."""

    def __init__(self) -> None:
        super().__init__()
        self.setObjectName("timeline")
        self.busy: Callable[[], bool] = lambda: False
        """Whether the frame before is not done yet."""
        self.live: Live | None = None
        self.source = ""
        self.shot: Shot | None = None
        """The frame on the bench."""
        self.ages: list[float] = []
        """Of late: seconds from a frame's arrival to its findings on the bench."""
        self._shown: list[float] = []
        self._given_back = time.monotonic()
        self.name = Elided("")
        self.go = QPushButton(self.tr("Hold"))
        self.go.setCheckable(True)
        self.go.setToolTip(self.tr("Keep this frame on the bench, or go on live (P)"))
        self.capture = QPushButton(self.tr("Capture"))
        self.capture.setToolTip(self.tr("Put this frame into the list of images (Ctrl+Return)"))
        self.settings = QToolButton()
        self.settings.setText(self.tr("Camera settings"))
        self.settings.setToolTip(self.tr("What the camera can be told, while it runs"))
        self.settings.setPopupMode(QToolButton.ToolButtonPopupMode.InstantPopup)
        self.menu = QMenu(self.settings)
        self.menu.aboutToShow.connect(self._fill_settings)
        self.settings.setMenu(self.menu)
        self.end = QPushButton(self.tr("Close camera"))
        self.said = QLabel()
        self.said.setSizePolicy(QSizePolicy.Policy.Ignored, QSizePolicy.Policy.Preferred)
        self.said.setAlignment(Qt.AlignmentFlag.AlignRight | Qt.AlignmentFlag.AlignVCenter)
        row = QHBoxLayout(self)
        row.setContentsMargins(8, 2, 8, 2)
        row.setSpacing(6)
        for widget in (self.go, self.capture, self.settings, self.end):
            row.addWidget(widget)
        row.addWidget(self.name, 1)
        row.addWidget(self.said, 3)
        self.go.toggled.connect(self._held)
        self.capture.clicked.connect(self.capture_now)
        self.end.clicked.connect(self.close_camera)
        self._timer = QTimer(self)
        self._timer.setInterval(_LOOK)
        self._timer.timeout.connect(self._look)
        self._tell = QTimer(self)
        self._tell.setInterval(250)
        self._tell.timeout.connect(self._say)
        self.hide()

    @property
    def is_open(self) -> bool:
        return self.live is not None

    @property
    def is_live(self) -> bool:
        """Whether frames follow one another."""
        return self.live is not None and not self.go.isChecked()

    def open_camera(self, source: str, live: Live | None = None) -> None:
        """Begin with a camera; the one before is given back. `live`: one that runs already."""
        self._end()
        self.source, self.live, self.shot = source, live or Live(source), None
        self.ages, self._shown = [], []
        self.name.setText(source)
        self.go.setChecked(False)
        self.show()
        self.open_changed.emit(True)
        self._timer.start()
        self._tell.start()
        self._say()

    def give_way(self) -> None:
        """Something else comes upon the bench."""
        self._end()

    def close_camera(self) -> None:
        """Give the camera back; its last frame stays on the bench."""
        if self.live is not None:
            self._end()
            self.rested.emit()

    def _end(self) -> None:
        self._timer.stop()
        self._tell.stop()
        if self.live is not None:
            # In its own thread: a silent camera may take seconds.
            self.live.end()
            self.live = None
            self.open_changed.emit(False)
        self.hide()

    def close_worker(self) -> None:
        """The window closes: wait a little for the device to be free."""
        live = self.live
        self._end()
        if live is not None:
            live.close(2.0)

    def toggle(self) -> None:
        """Hold, or go on."""
        self.go.toggle()

    def _held(self, held: bool) -> None:
        self.go.setText(self.tr("Live") if held else self.tr("Hold"))
        if held:
            self.rested.emit()

    def capture_now(self) -> None:
        """List the frame on the bench."""
        if self.shot is None:
            return
        name = f"{self.source.split('?')[0].replace('/', '-').replace(':', '-')}-{self.shot.number}"
        self.captured.emit(Place(Path(name), self.shot.number, name, round(self.shot.time, 6), self.shot.image(name)))

    def _look(self) -> None:
        if self.live is None or self.go.isChecked() or self.busy():
            return
        shot = self.live.newest(0.0)
        if shot is not None:
            self.shot = shot
            image: Image = shot.image(self.source.split("?")[0])
            self.seen.emit(image)

    def answered(self) -> None:
        """The findings of the frame on the bench are shown."""
        if self.shot is None or self.live is None:
            return
        now = time.monotonic()
        self.ages = [*self.ages[-99:], now - self.shot.taken]
        self._shown = [*self._shown[-29:], now]

    def _say(self) -> None:
        if self.live is None:
            return
        if time.monotonic() - self._given_back > _GIVE_BACK:
            self._given_back = time.monotonic()
            give_back()
        watched = self.live.watched
        if not self.live.running and self.live.failure:
            self.said.setText(self.live.failure)
            return
        if watched.said or self.shot is None:
            self.said.setText(watched.said or self.tr("waiting for the first frame"))
            return
        spans = self._shown[-1] - self._shown[0] if len(self._shown) > 1 else 0.0
        rate = (len(self._shown) - 1) / spans if spans > 0 else 0.0
        age = 1000 * sorted(self.ages)[len(self.ages) // 2] if self.ages else 0.0
        text = self.tr("camera {:.0f}/s, shown {:.0f}/s · {:.0f} ms old · {} lost, {} passed over")
        self.said.setText(text.format(watched.rate, rate, age, watched.lost, watched.passed))

    def _fill_settings(self) -> None:
        self.menu.clear()
        camera = self.live.camera if self.live is not None else None
        controls = camera.controls() if camera is not None else []
        for control in controls:
            self.menu.addAction(self._slider(control))
        if not controls:
            self.menu.addAction(self.tr("This camera says nothing that can be set")).setEnabled(False)

    def _slider(self, control: Control) -> QWidgetAction:
        box = QWidget()
        row = QHBoxLayout(box)
        row.setContentsMargins(10, 3, 10, 3)
        value = QLabel(f"{control.value:g}")
        value.setMinimumWidth(48)
        slider = QSlider(Qt.Orientation.Horizontal)
        slider.setRange(0, _STEPS)
        slider.setMinimumWidth(180)
        slider.setAccessibleName(control.label)
        span = max(control.most - control.least, 1e-12)
        slider.setValue(round(_STEPS * (control.value - control.least) / span))

        def moved(place: int) -> None:
            number = control.least + span * place / _STEPS
            number = round(number / control.step) * control.step if control.step else number
            value.setText(f"{number:g}")
            if self.live is not None:
                self.live.set_control(control.name, number)

        slider.valueChanged.connect(moved)
        label = QLabel(control.label)
        label.setMinimumWidth(110)
        for widget in (label, slider, value):
            row.addWidget(widget)
        action = QWidgetAction(self.menu)
        action.setDefaultWidget(box)
        return action

    def fill_cameras(self, menu: QMenu) -> None:
        """The cameras that there are, and a field for an address."""
        menu.clear()
        for entry in cameras():
            menu.addAction(entry.label, partial(self.open_camera, entry.source)).setToolTip(", ".join(entry.sizes))
        menu.addSeparator()
        menu.addAction(self.tr("Address of a network camera…"), self.ask_address)

    def ask_address(self) -> None:
        """Ask for a URL."""
        text, given = QInputDialog.getText(self, self.tr("Network camera"), self.tr("Address, such as rtsp://host/stream"))
        if given and is_camera(text.strip()):
            self.open_camera(text.strip())
