"""The settings panel: the editors of whatever card is chosen, made from the declarations."""

from __future__ import annotations

from functools import partial
from typing import Any

from PySide6.QtCore import Qt, Signal
from PySide6.QtWidgets import QHBoxLayout, QLabel, QMenu, QPushButton, QScrollArea, QToolButton, QVBoxLayout, QWidget

from lucid_finch.core.detection import Detection
from lucid_finch.core.detectors import detector_of
from lucid_finch.core.documentation import default_of
from lucid_finch.core.errors import ParameterError
from lucid_finch.core.parameters import Parameters
from lucid_finch.core.prepare import STEPS, step_of
from lucid_finch.desktop.document import Study
from lucid_finch.desktop.editors import ParameterEditor

_FIRST = {"crop": {"region": {"shape": "rectangle", "x": 0.0, "y": 0.0, "width": 1.0, "height": 1.0}}}


class SettingsPanel(QWidget):
    """Follows the study; edits go through it and so can be undone."""

    region_wanted = Signal(object)
    """Called with a function that takes the region of the part in view."""
    refused = Signal(str)

    def __init__(self, study: Study) -> None:
        super().__init__()
        self.setObjectName("settings")
        self.study = study
        self.editors: dict[tuple[str, str], ParameterEditor] = {}
        """By owner ("" for the detector, "0", "1", ... for a step) and parameter."""
        self._shape: Any = None
        outer = QVBoxLayout(self)
        outer.setContentsMargins(14, 12, 6, 8)
        self.heading = QLabel()
        self.heading.setObjectName("heading")
        outer.addWidget(self.heading)
        self.area = QScrollArea()
        self.area.setWidgetResizable(True)
        self.area.setHorizontalScrollBarPolicy(Qt.ScrollBarPolicy.ScrollBarAlwaysOff)
        outer.addWidget(self.area, 1)
        study.chosen_changed.connect(self.refresh)
        study.recipe_changed.connect(self.refresh)
        study.image_changed.connect(self.refresh)
        study.detection_changed.connect(lambda name: self._show_detection())
        self.refresh()

    def refresh(self) -> None:
        """Show the current values; widgets are built anew only when other parameters are to be shown."""
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
        if chosen == "source":
            return ("source", id(self.study.image))
        if chosen == "preparation":
            return ("preparation", *(step.step for step in self.study.recipe.prepare))
        kind = next((e.kind for e in self.study.recipe.detectors if e.name == chosen), "")
        return ("detector", chosen, kind)

    def _build(self) -> None:
        self.editors = {}
        page = QWidget()
        layout = QVBoxLayout(page)
        layout.setContentsMargins(0, 4, 8, 4)
        layout.setSpacing(6)
        what = self._shape[0]
        if what == "source":
            self._build_source(layout)
        elif what == "preparation":
            self._build_preparation(layout)
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

    def _build_preparation(self, layout: QVBoxLayout) -> None:
        self.heading.setText(self.tr("PREPARATION"))
        for number, step in enumerate(self.study.recipe.prepare):
            head = QHBoxLayout()
            label = QLabel(f"{number + 1}. {step.step}")
            label.setObjectName("heading")
            label.setToolTip(step_of(step.step).purpose)
            head.addWidget(label, 1)
            remove = QPushButton(self.tr("remove"))
            remove.setObjectName("bare")
            remove.setAccessibleName(self.tr("Remove step {}").format(number + 1))
            remove.clicked.connect(partial(self._remove_step, number))
            head.addWidget(remove)
            layout.addLayout(head)
            self._add_editors(layout, str(number), step_of(step.step).Parameters)
        add = QToolButton()
        add.setText(self.tr("+ Step"))
        add.setToolTip(self.tr("Add a preparation step; it is applied to the image before every detector."))
        add.setPopupMode(QToolButton.ToolButtonPopupMode.InstantPopup)
        menu = QMenu(add)
        for name, step_type in STEPS.items():
            menu.addAction(f"{name}: {step_type.purpose}", partial(self._add_step, name))
        add.setMenu(menu)
        layout.addWidget(add)

    def _build_detector(self, layout: QVBoxLayout) -> None:
        _, name, kind = self._shape
        self.heading.setText(f"{name} · {kind}".upper())
        detector = detector_of(kind)
        purpose = QLabel(detector.purpose)
        purpose.setObjectName("quiet")
        purpose.setWordWrap(True)
        layout.addWidget(purpose)
        self._add_editors(layout, "", detector.Parameters)
        note = QLabel(self.tr("Bars: every candidate on this image, counts as logarithms. Grey ones are rejected by this limit."))
        note.setObjectName("quiet")
        note.setWordWrap(True)
        layout.addWidget(note)
        reset = QPushButton(self.tr("All back to defaults"))
        reset.clicked.connect(self._reset)
        layout.addWidget(reset)

    def _add_editors(self, layout: QVBoxLayout, owner: str, model: type[Parameters]) -> None:
        # What a detector is tuned by comes first; what all detectors share comes last.
        common = ("region", "keep", "sort")
        declared = sorted(model.declarations().values(), key=lambda d: d.name in common)
        for declaration in declared:
            editor = ParameterEditor(declaration)
            editor.edited.connect(partial(self._edited, owner))
            editor.region_wanted.connect(partial(self._want_region, owner))
            self.editors[owner, declaration.name] = editor
            layout.addWidget(editor)

    def _want_region(self, owner: str, name: str) -> None:
        self.region_wanted.emit(lambda region: self._edited(owner, name, region, False))

    def _show_values(self) -> None:
        for (owner, name), editor in self.editors.items():
            editor.show_value(self._values(owner).get(name))

    def _values(self, owner: str) -> dict[str, Any]:
        if owner:
            return self.study.recipe.prepare[int(owner)].plain()
        entry = next((e for e in self.study.recipe.detectors if e.name == self.study.chosen), None)
        return entry.made_parameters().plain() if entry is not None else {}

    def _show_detection(self) -> None:
        detection: Detection | None = self.study.detections.get(self.study.chosen)
        for (owner, name), editor in self.editors.items():
            if owner or detection is None:
                continue
            work = detection.work
            if editor.histogram is not None:
                limits = {limit.parameter: limit for limit in work.judgement.limits}
                values = work.candidates.columns[editor.declared.criterion]
                plausible = work.detector.plausible(work.candidates)
                # Hardly anything can be seen among ten thousand specks: those that could matter, if there are any.
                editor.histogram.show_values(values[plausible] if plausible.sum() >= 5 else values, limits.get(name))
            if editor.declared.optional and editor.value is None and editor.declared.criterion == "":
                resolved = detection.resolved.get(name)
                editor.show_open(f"{resolved:.3g}" if isinstance(resolved, float) else "")

    def _edited(self, owner: str, name: str, value: Any, moving: bool) -> None:
        editor = self.editors.get((owner, name))
        label = editor.declared.label if editor is not None else name
        key = f"{self.study.chosen} {owner} {name}" if moving else ""
        try:
            if owner:
                self.study.edit_step(int(owner), {name: value}, label, key)
            else:
                self.study.edit_detector(self.study.chosen, {name: value}, label, key)
        except ParameterError as error:
            if editor is not None:
                editor.show_wrong(str(error))
            self.refused.emit(str(error))

    def _remove_step(self, number: int, *_: Any) -> None:
        steps = [step.plain() for step in self.study.recipe.prepare]
        removed = steps.pop(number)
        self.study.edit({"prepare": steps}, self.tr("remove {}").format(removed["step"]))

    def _add_step(self, name: str) -> None:
        step = {"step": name, **_FIRST.get(name, {})}
        image = self.study.image
        if name == "crop" and image is not None:
            step["region"] = {
                "shape": "rectangle",
                "x": (image.width - 1) / 2,
                "y": (image.height - 1) / 2,
                "width": float(image.width),
                "height": float(image.height),
            }
        self.study.edit({"prepare": [*(s.plain() for s in self.study.recipe.prepare), step]}, self.tr("add {}").format(name))

    def _reset(self) -> None:
        model = detector_of(self._shape[2]).Parameters
        values = {name: default_of(model, declared) for name, declared in model.declarations().items()}
        self.study.edit_detector(self.study.chosen, values, self.tr("all back to defaults"))
