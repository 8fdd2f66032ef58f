"""The settings panel: the editors of whatever card is chosen, made from the declarations."""

from __future__ import annotations

import math
from functools import partial
from typing import Any

from PySide6.QtCore import Qt, Signal
from PySide6.QtWidgets import QHBoxLayout, QLabel, QLineEdit, QPushButton, QScrollArea, QSpinBox, QVBoxLayout, QWidget

from lucid_finch.core.detection import Detection
from lucid_finch.core.detectors import detector_of
from lucid_finch.core.errors import ParameterError
from lucid_finch.core.execution.assets import Assets
from lucid_finch.core.inspection.millimetres import metric_name
from lucid_finch.core.judging import Limit
from lucid_finch.core.parameter_types.base import ParameterType
from lucid_finch.core.parameter_types.numbers import LengthType
from lucid_finch.core.parameter_types.references import AssetType
from lucid_finch.core.parameter_types.structures import CoefficientsType, RegionType
from lucid_finch.core.parameters import Declaration, Parameters, Stage
from lucid_finch.core.prepare import step_of
from lucid_finch.core.prepare.separation import channel_separations
from lucid_finch.core.recipe import MarkStyle
from lucid_finch.core.regions import Region
from lucid_finch.desktop.recipe_panel.editors import ParameterEditor
from lucid_finch.desktop.recipe_panel.fold import Fold
from lucid_finch.desktop.recipe_panel.picture_editor import PictureEditor
from lucid_finch.desktop.recipe_panel.structured_editors import BorderSketch, CoefficientsEditor, RegionEditor, shape_key
from lucid_finch.desktop.study.study import SOURCE, Study, step_place

Editor = ParameterEditor | RegionEditor | CoefficientsEditor | PictureEditor
EDITORS: tuple[tuple[type[ParameterType], type[Editor]], ...] = (
    (RegionType, RegionEditor),
    (CoefficientsType, CoefficientsEditor),
    (AssetType, PictureEditor),
)
"""The editor of each type of parameter; all others have a `ParameterEditor`."""

COMMON = "common"
"""Owner of what belongs to the whole recipe."""

MARKS = "marks"
"""Owner of the style of annotated pictures."""

COMMON_REGION = Declaration(
    name="region",
    stage=Stage.GATHER,
    label="Region of all detectors",
    help="Where every detector looks that has none of its own.",
    default=None,
    annotation=Region | None,
    auto="the whole image",
)


class SettingsPanel(QWidget):
    """Follows the study; edits go through it and so can be undone."""

    region_wanted = Signal(object)
    """Called with a function that takes the region of the part in view."""
    draw_wanted = Signal(str, str)
    """Kind of region to draw, and the key of the shape that it becomes."""
    sweep_wanted = Signal(str)
    """A parameter of the selected card that shall be shown over a range."""
    teach_wanted = Signal(str, str)
    """A parameter that is a picture, and the shape of the region that it shall be taught from."""
    average_wanted = Signal()
    """The picture shall become the mean of its matches."""
    paint_wanted = Signal()
    """What does not count shall be painted."""
    differences_wanted = Signal()
    """What differs from match to match shall not count."""
    file_wanted = Signal(str)
    """A parameter whose picture shall be read from a file."""
    samples_wanted = Signal()
    """Two areas shall be sampled, to compare channels by."""
    refused = Signal(str)
    page_wanted = Signal(int)
    """Another picture of the file that is open, from 0."""

    def __init__(self, study: Study) -> None:
        super().__init__()
        self.setObjectName("settings")
        self.study = study
        self.editors: dict[tuple[str, str], Editor] = {}
        """By owner ("" for the detector, "0", "1", ... for a step) and parameter."""
        self._shape: Any = None
        self.fold: Fold | None = None
        """The parameters that are rarely changed, of the selected card."""
        self.unfolded = False
        self._movement = 0
        outer = QVBoxLayout(self)
        outer.setContentsMargins(12, 8, 4, 6)
        self.heading = QLabel()
        self.heading.setObjectName("heading")
        outer.addWidget(self.heading)
        self.area = QScrollArea()
        self.area.setWidgetResizable(True)
        self.area.setAccessibleName(self.tr("Settings"))
        self.area.setHorizontalScrollBarPolicy(Qt.ScrollBarPolicy.ScrollBarAlwaysOff)
        outer.addWidget(self.area, 1)
        study.chosen_changed.connect(self.refresh)
        study.recipe_changed.connect(self.refresh)
        study.image_changed.connect(self.refresh)
        study.image_changed.connect(self._show_detection)
        study.samples_changed.connect(self._show_separation)
        study.detection_changed.connect(lambda name: self._show_detection())
        self.refresh()

    def refresh(self) -> None:
        """Show the current values; widgets are rebuilt only when other parameters are to be shown."""
        shape = self._wanted_shape()
        fresh = shape != self._shape
        if fresh:
            self._shape = shape
            self._build()
        self._show_values()
        if fresh:
            self._show_detection()

    def _wanted_shape(self) -> Any:
        chosen = self.study.chosen
        place = step_place(chosen)
        if chosen == SOURCE:
            return ("source", id(self.study.image))
        if place is not None:
            return ("step", place, self.study.title(chosen))
        kind = next((e.kind for e in self.study.recipe.detectors if e.name == chosen), "")
        return ("detector", chosen, kind)

    def _build(self) -> None:
        self.editors = {}
        self.fold = None
        page = QWidget()
        layout = QVBoxLayout(page)
        layout.setContentsMargins(0, 4, 8, 4)
        layout.setSpacing(6)
        what = self._shape[0]
        if what == "source":
            self._build_source(layout)
        elif what == "step":
            self._build_step(layout)
        elif self._shape[2]:
            self._build_detector(layout)
        layout.addStretch(1)
        self.area.setWidget(page)

    def _build_source(self, layout: QVBoxLayout) -> None:
        self.heading.setText(self.tr("SOURCE"))
        image = self.study.image
        lines = [self.tr("No image is open.")]
        if image is not None:
            kind = "RGB" if image.is_colour else self.tr("grey")
            lines = [
                image.name,
                f"{image.width} × {image.height} px, {kind}, {image.pixels.dtype}",
                self.tr("Value range {:g} to {:g}").format(image.black, image.white),
                *image.notes,
            ]
            if image.mask is not None:
                lines.append(self.tr("{} pixels are not valid").format(int((~image.mask).sum())))
        for line in lines:
            label = QLabel(line)
            label.setWordWrap(True)
            layout.addWidget(label)
        self._add_editor(layout, COMMON, COMMON_REGION)
        heading = QLabel(self.tr("ANNOTATED PICTURES"))
        heading.setObjectName("heading")
        heading.setToolTip(self.tr("How findings are drawn on the pictures that Export and the command line write"))
        layout.addWidget(heading)
        for declared in MarkStyle.declarations().values():
            self._add_editor(layout, MARKS, declared)
        if image is not None and image.pages > 1:
            pages = QSpinBox()
            pages.setRange(1, image.pages)
            pages.setValue(image.page + 1)
            pages.setPrefix(self.tr("picture "))
            pages.setSuffix(self.tr(" of {}").format(image.pages))
            pages.setKeyboardTracking(False)
            pages.setAccessibleName(self.tr("Picture of the file"))
            pages.setToolTip(self.tr("Which picture of this file is open"))
            pages.valueChanged.connect(lambda number: self.page_wanted.emit(number - 1))
            layout.addWidget(pages)

    def _build_step(self, layout: QVBoxLayout) -> None:
        _, (owner, number), name = self._shape
        whose = f"{owner} · " if owner else self.tr("PREPARATION ")
        self.heading.setText(f"{whose}{number + 1} · {name}".upper())
        purpose = QLabel(step_of(name).purpose)
        purpose.setObjectName("quiet")
        purpose.setWordWrap(True)
        layout.addWidget(purpose)
        self._add_editors(layout, str(number), step_of(name).Parameters)
        self.separation: QLabel | None = None
        if step_of(name).separates:
            self._add_separation(layout, owner, number)

    def _add_separation(self, layout: QVBoxLayout, owner: str, number: int) -> None:
        """The separation of object and surroundings, on every channel."""
        compare = QPushButton(self.tr("Compare all channels"))
        compare.setToolTip(self.tr("Small pictures of every channel, the best separation of the two sampled areas first"))
        compare.clicked.connect(lambda: self.sweep_wanted.emit(""))
        step = self.study.steps_of(owner)[number]
        if step_of(step["step"]).sampled(step) is None:
            sample = QPushButton(self.tr("Sample object and surroundings"))
            sample.setToolTip(self.tr("Two areas on the image, to be dragged to an object and beside it"))
            sample.clicked.connect(self.samples_wanted)
            layout.addWidget(sample)
        layout.addWidget(compare)
        self.separation = QLabel()
        self.separation.setWordWrap(True)
        self.separation.setTextFormat(Qt.TextFormat.PlainText)
        layout.addWidget(self.separation)

    def _show_separation(self) -> None:
        if self._shape[0] != "step" or self.separation is None:
            return
        text = ""
        sampled, image = self.study.sampled, self.study.image
        if sampled is not None and image is not None:
            try:
                found = channel_separations(image, *sampled)
            except ParameterError as error:
                text = str(error)
            else:
                first = self.tr(
                    "Separation in standard deviations (noise and 10 % light variation). Above 3, object and surroundings "
                    "differ clearly."
                )
                text = "\n".join([first, *(f"{name}  {apart:.1f}" for name, apart in found[:6])])
        self.separation.setText(text)

    def _build_detector(self, layout: QVBoxLayout) -> None:
        _, name, kind = self._shape
        self.heading.setText((f"{name} · {kind}" if name != kind else kind).upper())
        detector = detector_of(kind)
        purpose = QLabel(detector.purpose)
        purpose.setObjectName("quiet")
        purpose.setWordWrap(True)
        layout.addWidget(purpose)
        self._add_editors(layout, "", detector.Parameters)
        self._add_expected(layout, name)
        note = QLabel(self.tr("All candidates in this image (log counts). Grey: rejected by this limit."))
        note.setObjectName("quiet")
        note.setWordWrap(True)
        layout.addWidget(note)
        reset = QPushButton(self.tr("Reset to defaults"))
        reset.clicked.connect(self._reset)
        layout.addWidget(reset)

    def _add_expected(self, layout: QVBoxLayout, name: str) -> None:
        """How many findings there should be: where it differs, cards and images are marked and the command line says so."""
        row = QHBoxLayout()
        label = QLabel(self.tr("<b>Expected count</b>"))
        self.expected = QLineEdit()
        self.expected.setAlignment(Qt.AlignmentFlag.AlignRight)
        self.expected.setFixedWidth(self.fontMetrics().horizontalAdvance("auto (00–000)") + 22)
        self.expected.setPlaceholderText(self.tr("any"))
        self.expected.setAccessibleName(self.tr("Expected count"))
        tip = self.tr("How many findings an image should have: a number, or the least and the most, as in 10, 12")
        for widget in (label, self.expected):
            widget.setToolTip(tip)
        self.expected.editingFinished.connect(lambda: self._expect(name))
        row.addWidget(label, 1)
        row.addWidget(self.expected)
        layout.addLayout(row)

    def _expect(self, name: str) -> None:
        text = self.expected.text().strip()
        if text == self._expected_text():
            return
        try:
            numbers = [int(part) for part in text.replace(";", ",").replace("to", ",").split(",") if part.strip()]
            if len(numbers) > 2:
                raise ValueError
            self.study.expect_count(name, None if not numbers else numbers[0] if len(numbers) == 1 else numbers)
        except ValueError as error:
            text = self.tr("Expected count: one or two whole numbers are needed")
            self.refused.emit(str(error) if isinstance(error, ParameterError) else text)

    def _expected_text(self) -> str:
        entry = next((e for e in self.study.recipe.detectors if e.name == self.study.chosen), None)
        count = entry.expect.get("count") if entry is not None else None
        if count is None:
            return ""
        return ", ".join(f"{n:g}" for n in (count if isinstance(count, tuple) else (count,)))

    def _add_editors(self, layout: QVBoxLayout, owner: str, model: type[Parameters]) -> None:
        # Own parameters first, those that all detectors share last; what is rarely changed is folded away.
        declared = sorted((d for d in model.declarations().values() if not d.of_picture), key=lambda d: d.shared)
        for declaration in declared:
            if not declaration.more:
                self._add_editor(layout, owner, declaration)
        rest = [declaration for declaration in declared if declaration.more]
        if not rest:
            return
        self.fold = Fold(self.unfolded)
        self.fold.toggled.connect(self._remember_fold)
        layout.addWidget(self.fold.button)
        for declaration in rest:
            self._add_editor(self.fold.content, owner, declaration)
        layout.addWidget(self.fold)

    def _remember_fold(self, unfolded: bool) -> None:
        self.unfolded = unfolded

    def _show_fold(self) -> None:
        """How many of the folded parameters are not at their defaults."""
        if self.fold is None:
            return
        folded = [(owner, e.declared) for (owner, _), e in self.editors.items() if e.declared.more]
        changed = [d.label for owner, d in folded if self._values(owner).get(d.name, d.plain_default()) != d.plain_default()]
        self.fold.show_changed(len(folded), changed)

    def _add_editor(self, layout: QVBoxLayout, owner: str, declaration: Declaration) -> None:
        make = next((editor for kind, editor in EDITORS if isinstance(declaration.type, kind)), ParameterEditor)
        editor = make(declaration)
        if isinstance(editor, RegionEditor):
            editor.view_wanted.connect(partial(self._want_region, owner))
            editor.draw_wanted.connect(lambda name, kind, hole: self.draw_wanted.emit(kind, shape_key(name, hole)))
        if isinstance(editor, PictureEditor):
            editor.picture_of = lambda key: Assets(self.study.recipe.assets)[key]
            editor.teach_wanted.connect(self.teach_wanted)
            editor.file_wanted.connect(self.file_wanted)
            editor.average_wanted.connect(self.average_wanted)
            editor.paint_wanted.connect(self.paint_wanted)
            editor.differences_wanted.connect(self.differences_wanted)
        if isinstance(editor, ParameterEditor):
            editor.sweep_wanted.connect(self.sweep_wanted)
            if owner == MARKS and editor.sweep is not None:
                editor.sweep.hide()
        editor.edited.connect(partial(self.edit, owner))
        self.editors[owner, declaration.name] = editor
        layout.addWidget(editor)
        if declaration.sketch == "border":
            self.border = BorderSketch()
            layout.addWidget(self.border)

    def lengths(self) -> list[tuple[str, str]]:
        """Name and label of the parameters of the selected card that a measured length can be put into."""
        found = []
        for (owner, name), editor in self.editors.items():
            declared = editor.declared
            if (
                owner not in (COMMON, MARKS)
                and (isinstance(declared.type, LengthType) or declared.unit == "px")
                and not declared.is_region
            ):
                found.append((name, declared.label))
        return found

    def _want_region(self, owner: str, name: str) -> None:
        self.region_wanted.emit(lambda region: self.edit(owner, name, region, False))

    def _show_values(self) -> None:
        if self._shape[0] == "detector" and self._shape[2] and not (self.expected.hasFocus() and self.expected.isModified()):
            self.expected.setText(self._expected_text())
        for (owner, name), editor in self.editors.items():
            values = self._values(owner)
            editor.show_value(values.get(name))
            other = editor.declared.only_with
            editor.setVisible(other is None or values.get(other[0]) in other[1])
        for (owner, name), editor in self.editors.items():
            if editor.declared.sketch == "border" and self.study.image is not None:
                self.border.show_border(str(self._values(owner).get(name)), self.study.image)
        self._show_separation()
        self._show_fold()

    def _values(self, owner: str) -> dict[str, Any]:
        place = step_place(self.study.chosen)
        if owner == COMMON:
            return {"region": self.study.recipe.plain()["region"]}
        if owner == MARKS:
            return dict(self.study.recipe.plain()["marks"])
        if owner and place is not None:
            return self.study.steps_of(place[0])[place[1]]
        entry = next((e for e in self.study.recipe.detectors if e.name == self.study.chosen), None)
        return entry.made_parameters().plain() if entry is not None else {}

    def _show_detection(self) -> None:
        detection: Detection | None = self.study.detections.get(self.study.chosen)
        for (owner, name), editor in self.editors.items():
            if owner or not isinstance(editor, ParameterEditor):
                continue
            if detection is None:
                # Results that are on their way replace those shown; without an image there are none.
                if self.study.image is None:
                    editor.forget_measured()
                continue
            if editor.histogram is not None:
                self._show_histogram(editor, detection)
                if editor.declared.over:
                    continue
            if editor.declared.optional and editor.value is None:
                editor.show_auto(_automatic(editor.declared, detection.resolved.get(name)))

    def _show_histogram(self, editor: ParameterEditor, detection: Detection) -> None:
        """What the candidates, or the grey levels of the image, are, under the limit."""
        assert editor.histogram is not None
        name = editor.declared.name
        if editor.declared.over:
            level, pixels = detection.resolved.get(name), detection.task.image.pixels
            handles = (Limit(name, "", "at least", float(level)),) if isinstance(level, float) else ()
            step = max(1, int(math.sqrt(pixels.size / 200_000)))
            editor.histogram.show_values(pixels[::step, ::step].ravel(), handles)
            return
        # A limit on another column of the same parameter has no place on this axis.
        columns = {editor.declared.criterion, editor.declared.upper_criterion} - {""}
        own = [limit for limit in detection.task.judgement.limits if limit.parameter == name]
        # Of a limit in millimetres, the axis is millimetres, too.
        in_mm = {metric_name(detection.task.detector.criterion(column)) for column in columns}
        metric = [limit for limit in own if limit.criterion in in_mm]
        axis = metric[0].criterion if metric else editor.declared.criterion
        limits = tuple(limit for limit in own if limit.criterion in (in_mm if metric else columns))
        editor.histogram.show_values(detection.measured(axis), limits)

    def edit(self, owner: str, name: str, value: Any, moving: bool) -> None:
        """Change a parameter of the selected card, or of the whole recipe, as its editor would."""
        editor = self.editors.get((owner, name))
        label = editor.declared.label if editor is not None else name
        # What is moved in one go is one step of undo; letting go ends it.
        key = f"{self.study.chosen} {owner} {name} {self._movement}" if moving else ""
        self._movement += not moving
        try:
            place = step_place(self.study.chosen)
            if owner == COMMON:
                self.study.edit({name: value}, label, key)
            elif owner == MARKS:
                self.study.edit({"marks": {**self.study.recipe.plain()["marks"], name: value}}, label, key)
            elif place is not None:
                self.study.edit_step(place[1], {name: value}, label, key, place[0])
            else:
                self.study.edit_detector(self.study.chosen, {name: value}, label, key)
        except ParameterError as error:
            if editor is not None:
                editor.show_wrong(str(error))
            self.refused.emit(str(error))

    def _reset(self) -> None:
        model = detector_of(self._shape[2]).Parameters
        values = {name: declared.plain_default() for name, declared in model.declarations().items()}
        self.study.edit_detector(self.study.chosen, values, self.tr("reset to defaults"))


def _automatic(declared: Declaration, value: Any) -> str:
    """An automatic value in few digits, or nothing if it is none that could be typed."""
    if isinstance(value, (list, tuple)):
        return "–".join("" if end is None else f"{end:.3g}" for end in value)
    return f"{value:.3g}" if isinstance(value, float) else value if isinstance(value, str) else ""
