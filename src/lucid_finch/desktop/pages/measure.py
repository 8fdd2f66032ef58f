"""The Measure page: a line, box, circle or angle drawn on the panes, its numbers, and the profile under a line."""

from __future__ import annotations

from collections.abc import Callable
from functools import partial
from typing import Any

import numpy as np
from numpy.typing import NDArray
from PySide6.QtCore import QPointF, QRectF, QSize, Qt, Signal
from PySide6.QtGui import QColor, QMouseEvent, QPainter, QPaintEvent, QPen, QPolygonF
from PySide6.QtWidgets import (
    QApplication,
    QDoubleSpinBox,
    QHBoxLayout,
    QLabel,
    QMenu,
    QPushButton,
    QToolButton,
    QVBoxLayout,
    QWidget,
)

from lucid_finch.core.inspection.calibration import Calibration
from lucid_finch.core.viewing.profiles import Profile, profile_along
from lucid_finch.desktop.canvas.drawing import Drawing
from lucid_finch.desktop.canvas.shapes import POINTS, Shape, measured, measured_in_plane
from lucid_finch.desktop.study.picture import Picture
from lucid_finch.desktop.toolkit.guard import guarded
from lucid_finch.desktop.toolkit.theme import current_theme

KEY = "measure"
"""Of the drawn shape among those on the panes."""

_CHANNELS = ("#c8504a", "#3d9a5f", "#4a78c8")


class ProfilePlot(QWidget):
    """Values along the line, and below them their derivative; edges are marked in both."""

    pointed = Signal(object)
    """px along the line under the pointer, or None."""

    def __init__(self) -> None:
        super().__init__()
        self.profile: Profile | None = None
        self.unit = ""
        self._at: float | None = None
        self.setMouseTracking(True)
        self.setMinimumSize(QSize(160, 90))
        self.setAccessibleName(self.tr("Profile"))

    def show_profile(self, profile: Profile | None, unit: str) -> None:
        self.profile, self.unit = profile, unit
        self.update()

    def _boxes(self) -> tuple[QRectF, QRectF]:
        left = self.fontMetrics().horizontalAdvance("-0000.0") + 8
        bottom = self.fontMetrics().height() + 4
        whole = QRectF(left, 6, self.width() - left - 10, self.height() - bottom - 8)
        upper = QRectF(whole.left(), whole.top(), whole.width(), whole.height() * 0.6)
        return upper, QRectF(whole.left(), upper.bottom() + 6, whole.width(), whole.height() * 0.4 - 6)

    @guarded
    def paintEvent(self, event: QPaintEvent) -> None:
        theme = current_theme()
        painter = QPainter(self)
        painter.setRenderHint(QPainter.RenderHint.Antialiasing)
        profile = self.profile
        if profile is None or not np.isfinite(profile.values).any():
            painter.setPen(QColor(theme.quiet))
            text = self.tr("Draw a line on the image: the values of the map in the active pane are shown along it.")
            painter.drawText(self.rect().adjusted(8, 8, -8, -8), Qt.AlignmentFlag.AlignCenter | Qt.TextFlag.TextWordWrap, text)
            painter.end()
            return
        upper, lower = self._boxes()
        several = profile.values.shape[1] > 1
        for channel in range(profile.values.shape[1]):
            colour = QColor(_CHANNELS[channel] if several else theme.text)
            self._curve(painter, upper, profile.at, profile.values[:, channel], profile.values, colour, channel == 0, self.unit)
        self._curve(painter, lower, profile.at, profile.slope, profile.slope, QColor(theme.quiet), True, f"{self.unit}/px")
        length = max(float(profile.at[-1]), 1e-9)
        for crossing in profile.crossings:
            # What was not picked is there, but does not count.
            quiet = QPen(QColor(theme.quiet), 1, Qt.PenStyle.DashLine)
            painter.setPen(QPen(QColor(theme.accent), 1.6) if crossing.picked else quiet)
            x = upper.left() + crossing.at / length * upper.width()
            painter.drawLine(QPointF(x, upper.top()), QPointF(x, lower.bottom()))
        if self._at is not None:
            painter.setPen(QPen(QColor(theme.quiet), 1, Qt.PenStyle.DotLine))
            x = upper.left() + self._at / length * upper.width()
            painter.drawLine(QPointF(x, upper.top()), QPointF(x, lower.bottom()))
        painter.setPen(QColor(theme.quiet))
        base = QRectF(upper.left(), lower.bottom() + 2, upper.width(), self.fontMetrics().height() + 2)
        painter.drawText(base, Qt.AlignmentFlag.AlignLeft, "0")
        painter.drawText(base, Qt.AlignmentFlag.AlignRight, f"{length:.1f} px")
        painter.drawText(base, Qt.AlignmentFlag.AlignHCenter, self._words())
        painter.end()

    def _words(self) -> str:
        profile = self.profile
        if profile is None or self._at is None:
            count = len(profile.crossings) if profile is not None else 0
            return self.tr("{} edges").format(count) if count != 1 else self.tr("1 edge")
        n = int(np.argmin(np.abs(profile.at - self._at)))
        return f"{profile.at[n]:.1f} px: " + " ".join(f"{v:.4g}" for v in profile.values[n]) + f" {self.unit}"

    def _curve(
        self, painter: QPainter, box: QRectF, at: NDArray[Any], values: NDArray[Any], all_values: NDArray[Any], colour: QColor,
        labels: bool, unit: str,
    ) -> None:  # fmt: skip
        theme = current_theme()
        low, high = float(np.nanmin(all_values)), float(np.nanmax(all_values))
        span = (high - low) or 1.0
        if labels:
            painter.setPen(QPen(QColor(theme.line), 1))
            painter.drawRect(box)
            painter.setPen(QColor(theme.quiet))
            height = self.fontMetrics().height()
            for text, top in ((f"{high:.4g}", box.top()), (f"{low:.4g}", box.bottom() - height)):
                painter.drawText(QRectF(0, top, box.left() - 4, height), Qt.AlignmentFlag.AlignRight, text)
            painter.drawText(QRectF(box.right() - 90, box.top() + 1, 86, height), Qt.AlignmentFlag.AlignRight, unit)
            if low < 0 < high:
                zero = box.bottom() + low / span * box.height()
                painter.setPen(QPen(QColor(theme.line), 1, Qt.PenStyle.DashLine))
                painter.drawLine(QPointF(box.left(), zero), QPointF(box.right(), zero))
        good = np.isfinite(values)
        x: Any = box.left() + at / max(float(at[-1]), 1e-9) * box.width()
        y: Any = box.bottom() - (values - low) / span * box.height()
        painter.setPen(QPen(colour, 1.3))
        painter.drawPolyline(QPolygonF([QPointF(a, b) for a, b in zip(x[good].tolist(), y[good].tolist(), strict=True)]))

    @guarded
    def mouseMoveEvent(self, event: QMouseEvent) -> None:
        profile = self.profile
        if profile is None:
            return
        upper, _ = self._boxes()
        share = (event.position().x() - upper.left()) / max(upper.width(), 1)
        self._at = float(profile.at[-1]) * min(max(share, 0.0), 1.0)
        self.pointed.emit(self._at)
        self.update()

    @guarded
    def leaveEvent(self, event: Any) -> None:
        self._at = None
        self.pointed.emit(None)
        self.update()


class ValueList(QWidget):
    """Names and values in two columns, painted: labels would lay out the window again at every move."""

    def __init__(self) -> None:
        super().__init__()
        self.lines: list[tuple[str, str]] = []
        self.setMinimumSize(QSize(300, 40))
        self.setAccessibleName(self.tr("Measured"))

    def show_values(self, lines: list[tuple[str, str]]) -> None:
        self.lines = lines
        self.setAccessibleDescription("; ".join(f"{name} {value}" for name, value in lines))
        self.update()

    @guarded
    def paintEvent(self, event: QPaintEvent) -> None:
        theme = current_theme()
        painter = QPainter(self)
        row = self.fontMetrics().height() + 2
        # One below the other where two columns have no room.
        wide = max((self.fontMetrics().horizontalAdvance(f"{n}  {value}") for n, value in self.lines if value), default=0) + 8
        across = 2 if 2 * wide <= self.width() else 1
        column = self.width() / across
        names = max((self.fontMetrics().horizontalAdvance(n) for n, value in self.lines if value), default=0) + 8
        for place, (name, value) in enumerate(self.lines):
            x, y = column * (place % across), row * (place // across)
            wide = int(column if value else self.width())
            painter.setPen(QColor(theme.quiet))
            painter.drawText(QRectF(x, y, wide, row), Qt.AlignmentFlag.AlignVCenter, name)
            painter.setPen(QColor(theme.text))
            painter.drawText(QRectF(x + names, y, column - names, row), Qt.AlignmentFlag.AlignVCenter, value)
        painter.end()


class MeasurePage(QWidget):
    """What is drawn to be measured; a number can be taken over as a length of the selected card."""

    use_wanted = Signal(str, float)
    """Name of a parameter of the selected card, and the length in px."""

    def __init__(self, drawing: Drawing) -> None:
        super().__init__()
        self.drawing = drawing
        self.shape: Shape | None = None
        self.picture: Picture | None = None
        self.seen: tuple[str, Profile] | None = None
        """Heading and profile that the selected finding was found in."""
        self.calibration: Callable[[], Calibration | None] = lambda: None
        """Gives the calibration of the image in sight."""
        self.lengths: Any = list
        """Gives name and label of every length parameter of the selected card."""
        layout = QHBoxLayout(self)
        layout.setContentsMargins(8, 4, 8, 4)
        left = QVBoxLayout()
        left.setSpacing(4)
        tools = QHBoxLayout()
        tools.setSpacing(4)
        self.tools: dict[str, QPushButton] = {}
        tips = {
            "line": self.tr("Drag a line: length, angle, and the profile under it"),
            "box": self.tr("Drag a box: sides and area"),
            "circle": self.tr("Click three points of a rim: centre and radius"),
            "angle": self.tr("Click two points of one line, then two of another"),
        }
        names = {"line": self.tr("Line"), "box": self.tr("Box"), "circle": self.tr("Circle"), "angle": self.tr("Angle")}
        for kind in POINTS:
            button = QPushButton(names[kind])
            button.setCheckable(True)
            button.setToolTip(tips[kind])
            button.clicked.connect(partial(self.start, kind))
            tools.addWidget(button)
            self.tools[kind] = button
        left.addLayout(tools)
        self.values = ValueList()
        left.addWidget(self.values, 1)
        below = QHBoxLayout()
        below.setSpacing(4)
        self.use = QToolButton()
        self.use.setText(self.tr("Use as…"))
        self.use.setToolTip(self.tr("Put a measured length, or half of it, into a parameter of the selected card"))
        self.use.setPopupMode(QToolButton.ToolButtonPopupMode.InstantPopup)
        self.menu = QMenu(self.use)
        self.menu.aboutToShow.connect(self._fill_menu)
        self.use.setMenu(self.menu)
        self.copy_button = QPushButton(self.tr("Copy"))
        self.copy_button.setToolTip(self.tr("The numbers, edges and profile as tab-separated text"))
        self.copy_button.clicked.connect(self.copy)
        self.width_box = QDoubleSpinBox()
        self.width_box.setRange(1, 200)
        self.width_box.setDecimals(0)
        self.width_box.setSuffix(" px")
        self.width_box.setAccessibleName(self.tr("Averaged over"))
        self.width_box.setToolTip(self.tr("The profile is averaged over so many pixels across the line"))
        self.width_box.valueChanged.connect(lambda _: self.refresh())
        self.clear_button = QPushButton("×")
        self.clear_button.setObjectName("bare")
        self.clear_button.setAccessibleName(self.tr("Take the drawing away"))
        self.clear_button.setToolTip(self.tr("Take the drawing away"))
        self.clear_button.clicked.connect(lambda: self._changed(KEY, None, False))
        below.addWidget(QLabel(self.tr("mean of")))
        for widget in (self.width_box, self.use, self.copy_button, self.clear_button):
            below.addWidget(widget)
        left.addLayout(below)
        layout.addLayout(left)
        self.plot = ProfilePlot()
        layout.addWidget(self.plot, 1)
        drawing.changed.connect(self._changed)
        drawing.drawing_changed.connect(self._show_tool)
        self.refresh()

    def start(self, kind: str) -> None:
        """Have the user draw a shape to be measured."""
        if self.drawing.kind == kind:
            self.drawing.stop()
        else:
            self.drawing.start(kind, KEY)

    def _show_tool(self, kind: str) -> None:
        for name, button in self.tools.items():
            button.setChecked(name == kind)

    def _changed(self, key: str, shape: Shape | None, moving: bool) -> None:
        if key != KEY:
            return
        self.shape = shape
        if shape is None:
            self.drawing.put(KEY, None)
        self.refresh()

    def show_picture(self, picture: Picture | None) -> None:
        """The map whose values the profile shows."""
        if picture is not self.picture:
            self.picture = picture
            if self.isVisible():
                self.refresh()

    def show_seen(self, heading: str, profile: Profile) -> None:
        """The profile that a selected finding was found in, until something is drawn."""
        self.seen = heading, profile
        if self.shape is None:
            self.refresh()

    def show_nothing_seen(self) -> None:
        """The finding whose profile was shown is no more."""
        self.seen = None
        if self.shape is None:
            self.refresh()

    def refresh(self) -> None:
        shape = self.shape
        if shape is None and self.seen is not None:
            heading, seen = self.seen
            self.plot.show_profile(seen, self.tr("grey"))
            shown = [
                (f"{c.at:.2f} ± {c.std:.2f} px", self.tr("picked") if c.picked else "–")
                for c in sorted(seen.crossings, key=lambda c: not c.picked)[:6]
            ]
            self.values.show_values([(heading, ""), *shown])
            self.use.setEnabled(False)
            return
        rows = measured(shape) if shape is not None and len(shape["points"]) == POINTS[shape["shape"]] else []
        profile = None
        if shape is not None and shape["shape"] == "line" and self.picture is not None:
            start, end = (tuple(p) for p in shape["points"])
            profile = profile_along(self.picture.sampled, start, end, self.width_box.value())
            rows += [
                (self.tr("edge {}").format(n + 1), c.at, f"± {c.std:.2f} px" if c.std >= 0.005 else "px")
                for n, c in enumerate(profile.crossings[:4])
            ]
        self.plot.show_profile(profile, self.picture.unit if self.picture is not None else "")
        metric = self._metric()
        lines = [(name, _both(f"{value:.2f} {unit}", metric.get(name))) for name, value, unit in rows]
        if shape is not None and not lines:
            lines = [(self.tr("The three points lie on one line."), "")]
        self.values.show_values(lines)
        self.use.setEnabled(bool(self._lengths()))

    def _metric(self) -> dict[str, tuple[float, str]]:
        """What the shape measures in the calibrated plane; nothing without a calibration of the picture in sight."""
        calibration, shape = self.calibration(), self.shape
        if calibration is None or shape is None or len(shape["points"]) != POINTS[shape["shape"]]:
            return {}
        return measured_in_plane(shape, calibration)

    def _lengths(self) -> list[tuple[str, float]]:
        shape = self.shape
        if shape is None or len(shape["points"]) != POINTS[shape["shape"]]:
            return []
        return [(name, value) for name, value, unit in measured(shape) if unit == "px" and name not in ("x", "y", "left", "top")]

    def _fill_menu(self) -> None:
        """Every length there is, whole and halved, for every length that the selected card wants."""
        self.menu.clear()
        offered = self.lengths()
        for name, value in self._lengths():
            for what, number in ((name, value), (self.tr("half the {}").format(name), value / 2)):
                if number < 0.05 or (what != name and name in ("radius", "diameter")):
                    continue
                for parameter, label in offered:
                    text = self.tr("{} {:.1f} px as {}").format(what, number, label)
                    self.menu.addAction(text, partial(self.use_wanted.emit, parameter, float(f"{number:.4g}")))
        if self.menu.isEmpty():
            self.menu.addAction(self.tr("the selected card takes no length")).setEnabled(False)

    def text(self) -> str:
        """Numbers, edges and profile as tab-separated text."""
        if self.shape is None and self.seen is None:
            return ""
        rows = [self.seen[0]] if self.shape is None and self.seen is not None else []
        metric = self._metric()
        for name, value, unit in measured(self.shape) if self.shape else []:
            more = f"\t{metric[name][0]:.6g}\t{metric[name][1]}" if name in metric else ""
            rows.append(f"{name}\t{value:.4f}\t{unit}{more}")
        profile = self.plot.profile
        if profile is not None:
            rows += ["", "edge\tat\tstd\tslope\tx\ty"]
            for n, c in enumerate(profile.crossings, 1):
                rows.append(f"{n}\t{c.at:.3f}\t{c.std:.3f}\t{c.slope:.4g}\t{c.x:.3f}\t{c.y:.3f}")
            rows += ["", "at\tvalue\tslope"]
            for at, values, slope in zip(profile.at, profile.values, profile.slope, strict=True):
                rows.append(f"{at:.3f}\t" + "\t".join(f"{v:.5g}" for v in values) + f"\t{slope:.5g}")
        return "\n".join(rows) + "\n"

    def copy(self) -> None:
        QApplication.clipboard().setText(self.text())


def _both(pixels: str, metric: tuple[float, str] | None) -> str:
    """A number in pixels, and in the calibrated plane where there is one."""
    if metric is None:
        return pixels
    return f"{pixels}   {metric[0]:.2f}{metric[1]}" if metric[1] == "°" else f"{pixels}   {metric[0]:.4g} {metric[1]}"
