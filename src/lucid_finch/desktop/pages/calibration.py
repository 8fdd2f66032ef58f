"""The Calibration page: finds a target in the image, shows how well it fits, and puts the calibration into the recipe."""

from __future__ import annotations

from collections.abc import Callable, Sequence
from pathlib import Path
from typing import Any

from PySide6.QtCore import Qt, Signal
from PySide6.QtGui import QHideEvent, QShowEvent
from PySide6.QtWidgets import (
    QComboBox,
    QDoubleSpinBox,
    QFileDialog,
    QGridLayout,
    QHBoxLayout,
    QLabel,
    QPushButton,
    QScrollArea,
    QSpinBox,
    QVBoxLayout,
    QWidget,
)

from lucid_finch.core.errors import FileError, ParameterError
from lucid_finch.core.inspection.calibrating import calibrate, remarks
from lucid_finch.core.inspection.calibration import ENDING, Calibration, View
from lucid_finch.core.viewing.arrows import magnification
from lucid_finch.desktop.canvas.drawing import Drawing
from lucid_finch.desktop.canvas.shapes import Shape
from lucid_finch.desktop.study.study import Study
from lucid_finch.desktop.study.worker import Coordinator, Job
from lucid_finch.desktop.toolkit.guard import guarded
from lucid_finch.pipeline.sources import Place

KEY = "calibration"
"""Of the drawn line among the shapes on the panes."""
_AUTO = 2
"""The least value of the counts stands for: as seen."""


class CalibrationPage(QWidget):
    """What was found last waits here until it is used; the recipe's own calibration is in use."""

    refused = Signal(str)
    said = Signal(str)
    arrows_changed = Signal()
    """Other residuals are to be drawn, or none."""

    def __init__(self, study: Study, drawing: Drawing) -> None:
        super().__init__()
        self.study, self.drawing = study, drawing
        self.listed: Callable[[], Sequence[Place]] = list
        """Gives the images of the list."""
        self.made: Calibration | None = None
        self.problem = ""
        """Why nothing was found last."""
        self.line: tuple[tuple[float, float], tuple[float, float]] | None = None
        self.worker = Coordinator()
        self.worker.setParent(self)
        self.worker.part_done.connect(self._done)
        self.worker.failed.connect(self._failed)
        self.worker.progressed.connect(self._progressed)
        self.worker.idle.connect(self._show_state)
        layout = QHBoxLayout(self)
        layout.setContentsMargins(8, 4, 8, 4)
        layout.setSpacing(16)
        left = QVBoxLayout()
        left.setSpacing(5)
        left.addLayout(self._fields())
        left.addLayout(self._buttons())
        left.addStretch(1)
        layout.addLayout(left)
        self.result = QLabel()
        self.result.setWordWrap(True)
        self.result.setAlignment(Qt.AlignmentFlag.AlignTop | Qt.AlignmentFlag.AlignLeft)
        self.result.setTextInteractionFlags(Qt.TextInteractionFlag.TextSelectableByMouse)
        self.result.setAccessibleName(self.tr("Calibration"))
        area = QScrollArea()
        area.setWidgetResizable(True)
        area.setFrameShape(QScrollArea.Shape.NoFrame)
        area.setWidget(self.result)
        layout.addWidget(area, 1)
        drawing.changed.connect(self._drawn)
        study.recipe_changed.connect(self._recipe_changed)
        study.image_changed.connect(self._image_changed)
        self._in_use = study.recipe.calibration
        self._show_state()

    def _fields(self) -> QGridLayout:
        grid = QGridLayout()
        grid.setHorizontalSpacing(8)
        grid.setVerticalSpacing(4)
        self.target = QComboBox()
        for name, text in (
            ("chessboard", self.tr("Chessboard")), ("dots", self.tr("Grid of dots")), ("line", self.tr("Line of known length"))
        ):  # fmt: skip
            self.target.addItem(text, name)
        self.pitch = QDoubleSpinBox()
        self.pitch.setRange(0.0, 1e6)
        self.pitch.setDecimals(4)
        self.pitch.setSuffix(" mm")
        self.pitch.setStepType(QDoubleSpinBox.StepType.AdaptiveDecimalStepType)
        self.columns, self.rows = QSpinBox(), QSpinBox()
        for box, name in ((self.columns, self.tr("Columns")), (self.rows, self.tr("Rows"))):
            box.setRange(_AUTO, 1000)
            box.setSpecialValueText(self.tr("as seen"))
            box.setAccessibleName(name)
            box.setToolTip(self.tr("Inner corners or dots of the whole target, if part of it may be hidden"))
        self.pictures = QComboBox()
        self.pictures.addItem(self.tr("this image"), "one")
        self.pictures.addItem(self.tr("all images of the list"), "all")
        self.pictures.setToolTip(
            self.tr("Several pictures of the target fix the lens better; millimetres are of its plane in the first one")
        )
        self._labels: dict[str, QLabel] = {}
        for place, (name, text, field) in enumerate(
            (
                ("target", self.tr("Target"), self.target), ("pitch", self.tr("Distance"), self.pitch),
                ("columns", self.tr("Columns"), self.columns), ("rows", self.tr("Rows"), self.rows),
                ("pictures", self.tr("In"), self.pictures),
            )
        ):  # fmt: skip
            label = self._labels[name] = QLabel(text)
            label.setBuddy(field)
            field.setAccessibleName(text)
            grid.addWidget(label, place // 2, 2 * (place % 2))
            grid.addWidget(field, place // 2, 2 * (place % 2) + 1)
        self.target.currentIndexChanged.connect(self._target_changed)
        self.pitch.valueChanged.connect(lambda _: self._line_or_pitch_changed())
        return grid

    def _buttons(self) -> QHBoxLayout:
        row = QHBoxLayout()
        row.setSpacing(4)

        def button(text: str, tip: str, call: Callable[[], None]) -> QPushButton:
            made = QPushButton(text)
            made.setToolTip(tip)
            made.clicked.connect(call)
            row.addWidget(made)
            return made

        self.find_button = button(
            self.tr("Find the target"), self.tr("Look for it and fit scale, perspective and lens"), self.start
        )
        self.use_button = button(
            self.tr("Use"), self.tr("Put this calibration into the recipe: findings carry millimetres, too"), self.use_made
        )
        self.save_button = button(
            self.tr("Save…"), self.tr("To a file that other recipes and the command line take"), self.ask_save
        )
        self.load_button = button(self.tr("Load…"), self.tr("A calibration from a file, into the recipe"), self.ask_load)
        self.drop_button = button(self.tr("Remove"), self.tr("Take the calibration out of the recipe"), self.remove)
        return row

    # What is asked for

    @property
    def kind(self) -> str:
        return str(self.target.currentData())

    def _target_changed(self) -> None:
        self.made, self.problem = None, ""
        line = self.kind == "line"
        for name in ("columns", "rows", "pictures"):
            self._labels[name].setVisible(not line)
            getattr(self, name).setVisible(not line)
        self._labels["pitch"].setText(self.tr("Length") if line else self.tr("Distance"))
        self.pitch.setToolTip(
            self.tr("Known length of the line") if line else self.tr("From the middle of one point of the target to the next")
        )
        self.find_button.setText(self.tr("Draw the line") if line else self.tr("Find the target"))
        self._show_state()
        self.arrows_changed.emit()

    def start(self) -> None:
        """Find the target, or have the line drawn."""
        image = self.study.image
        if image is None:
            self.refused.emit(self.tr("Open a picture of the target first."))
            return
        if self.kind == "line":
            self.drawing.start("line", KEY)
            return
        if self.pitch.value() <= 0:
            self.refused.emit(self.tr("Say how far the points of the target are apart, in mm."))
            self.pitch.setFocus()
            return
        places = list(self.listed()) if self.pictures.currentData() == "all" else []
        path = self.study.image_path
        given: dict[str, Any] = {
            "target": self.kind, "pitch": self.pitch.value(), "name": path.stem if path is not None else Path(image.name).stem,
            "columns": self.columns.value() if self.columns.value() > _AUTO else None,
            "rows": self.rows.value() if self.rows.value() > _AUTO else None,
        }  # fmt: skip

        def work(job: Job) -> None:
            images = [place.read() for place in places] or [image]

            def told(done: int, total: int, name: str) -> None:
                job.emit_progress(done / max(total, 1), self.tr("Looking for the target: {} of {}").format(done + 1, total))

            job.emit_part(calibrate(images, progress=told, cancelled=job.cancelled, **given))

        self.made, self.problem = None, ""
        self.worker.submit(self.tr("calibrating"), work)
        self._show_state()

    def _drawn(self, key: str, shape: Shape | None, moving: bool) -> None:
        if key != KEY:
            return
        if shape is None:
            self.line = None
        else:
            (x1, y1), (x2, y2) = shape["points"]
            self.line = (x1, y1), (x2, y2)
        self._line_or_pitch_changed()

    def _line_or_pitch_changed(self) -> None:
        image = self.study.image
        if self.kind != "line":
            return
        self.made = None
        if image is not None and self.line is not None and self.pitch.value() > 0:
            try:
                self.made = calibrate([image], "line", pitch=self.pitch.value(), line=self.line, name=Path(image.name).stem)
            except ParameterError as error:
                self.refused.emit(str(error))
        self._show_state()

    def _progressed(self, share: float, text: str) -> None:
        self.result.setText(text)

    def _done(self, generation: int, made: object) -> None:
        if isinstance(made, Calibration):
            self.made = made
            self._show_state()
            self.arrows_changed.emit()

    def _failed(self, generation: int, error: Exception) -> None:
        known = isinstance(error, (FileError, ParameterError))
        self.problem = str(error) if known else f"{type(error).__name__}: {error}"
        self._show_state()
        self.refused.emit(self.problem)

    # What becomes of it

    def use_made(self) -> None:
        """Put what was found into the recipe."""
        if self.made is not None:
            made, self.made = self.made, None
            self._put(made, self.tr("calibrate"))

    def remove(self) -> None:
        """Take the calibration out of the recipe."""
        self._put(None, self.tr("remove the calibration"))

    def _put(self, calibration: Calibration | None, text: str) -> None:
        try:
            self.study.edit({"calibration": calibration.plain() if calibration is not None else None}, text)
        except ParameterError as error:
            self.refused.emit(str(error))
        self._show_state()
        self.arrows_changed.emit()

    def ask_save(self) -> None:
        """Choose where the calibration goes."""
        shown = self.shown
        if shown is not None:
            name = f"{shown.name or 'camera'}{ENDING}"
            path, _ = QFileDialog.getSaveFileName(self, self.tr("Save the calibration"), name, f"*{ENDING}")
            if path:
                self.save_to(Path(path))

    def save_to(self, path: Path) -> None:
        """Write the calibration that is shown."""
        shown = self.shown
        if shown is None:
            return
        path = path if path.name.endswith(ENDING) else path.with_name(path.name + ENDING)
        try:
            self.study.save_calibration(shown, path)
        except FileError as error:
            self.refused.emit(str(error))
        else:
            self.said.emit(self.tr("The calibration is in {}.").format(path))

    def ask_load(self) -> None:
        """Choose a file."""
        path, _ = QFileDialog.getOpenFileName(self, self.tr("Load a calibration"), "", f"*{ENDING};;*.json")
        if path:
            self.load_from(Path(path))

    def load_from(self, path: Path) -> None:
        """Put the calibration of a file into the recipe."""
        try:
            loaded = self.study.load_calibration(path)
        except (FileError, ParameterError) as error:
            self.refused.emit(str(error))
            return
        self.made, self.problem = None, ""
        self._put(loaded, self.tr("load a calibration"))

    # What is shown

    @property
    def shown(self) -> Calibration | None:
        """What was found last, else what is in use."""
        return self.made or self.study.recipe.calibration

    @property
    def view(self) -> View | None:
        """The residuals of the image in sight, while the page is in front."""
        shown, image = self.shown, self.study.image
        if shown is None or image is None or not self.isVisible() or shown.target == "line":
            return None
        return next((view for view in shown.views if view.image == image.name), None)

    @property
    def times(self) -> float:
        """How many times longer residuals are drawn than they are."""
        return magnification(self.shown.views) if self.shown is not None else 1.0

    def _take_fields(self) -> None:
        """Begin with the target of the calibration in use, where nothing has been said yet."""
        used = self._in_use
        if used is not None and self.pitch.value() == 0 and used.target != "line":
            self.target.setCurrentIndex(self.target.findData(used.target))
            self.pitch.setValue(used.pitch)

    def _recipe_changed(self) -> None:
        if self.study.recipe.calibration != self._in_use:
            self._in_use = self.study.recipe.calibration
            self._take_fields()
            self._show_state()
            self.arrows_changed.emit()

    def _image_changed(self) -> None:
        self.line, self.problem = None, ""
        self.drawing.put(KEY, None)
        if self.kind == "line":
            self.made = None
        self._show_state()
        self.arrows_changed.emit()

    def _show_state(self) -> None:
        shown, busy = self.shown, self.worker.busy
        self.find_button.setEnabled(not busy)
        self.use_button.setEnabled(self.made is not None)
        self.save_button.setEnabled(shown is not None)
        self.drop_button.setEnabled(self.study.recipe.calibration is not None)
        if busy:
            self.result.setText(self.tr("Looking for the target…"))
        elif self.problem:
            self.result.setText(self.problem)
        elif shown is None:
            self.result.setText(
                self.tr(
                    "No calibration: lengths are in pixels. Open a picture of a chessboard or of a grid of dots, say how far its "
                    "points are apart, and find it; or draw a line of known length. The recipe then gives millimetres, too."
                )
            )
        else:
            self.result.setText(self._words(shown))

    def _words(self, shown: Calibration) -> str:
        state = self.tr("found, not in use yet") if self.made is not None else self.tr("in use")
        lines = [f"<b>{shown.name or shown.target}</b>: {state}"]
        lines.append(
            self.tr("{:.6g} ± {:.2g} mm/px in the middle, {:.4g} px/mm").format(shown.mm_per_px, shown.mm_per_px_std, shown.scale)
        )
        if shown.target != "line":
            count = sum(len(view.x) for view in shown.views)
            lines.append(
                self.tr("{} points in {} columns and {} rows, {:.3f} px rms; arrows {:g} times as long").format(
                    count, shown.columns, shown.rows, shown.rms, self.times
                )
            )
            lens = shown.lens
            lines.append(self.tr("distortion {:.4f}, {:.4f} at half the diagonal").format(lens.k1, lens.k2))
        if shown.tilt is not None and shown.focal_length is not None:
            lines.append(
                self.tr("tilted by {:.1f}°, focal length {:.0f} px").format(shown.tilt, shown.focal_length)
            )  # fmt: skip
        image = self.study.image
        if image is not None and image.source_size != (shown.width, shown.height):
            lines.append(self.tr("<b>It is for pictures of {} × {} px.</b>").format(shown.width, shown.height))
        lines += remarks(shown)
        return "<br>".join(lines)

    @guarded
    def showEvent(self, event: QShowEvent) -> None:
        super().showEvent(event)
        self._show_state()
        self.arrows_changed.emit()

    @guarded
    def hideEvent(self, event: QHideEvent) -> None:
        super().hideEvent(event)
        self.arrows_changed.emit()
