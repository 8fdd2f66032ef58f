"""Applies what was seen, drawn or measured to parameters: sizes by ruler, the part in view, a change that admits a candidate."""

from __future__ import annotations

import math
from collections.abc import Callable
from dataclasses import replace
from typing import Any

import numpy as np
from PySide6.QtCore import QObject
from PySide6.QtGui import QColor

from lucid_finch.core.detectors import detector_of
from lucid_finch.core.errors import ParameterError
from lucid_finch.core.explanation.explaining import candidate_shapes
from lucid_finch.core.explanation.proposing import Change
from lucid_finch.core.parameter_types.numbers import WholeNumber
from lucid_finch.core.recipe import DetectorEntry
from lucid_finch.desktop.canvas.pane import Marks
from lucid_finch.desktop.shell.parts import Parts
from lucid_finch.desktop.study.study import step_place
from lucid_finch.desktop.toolkit.theme import GAIN_COLOUR

_RULER = "ruler"


class Applier(QObject):
    """Edits the selected card; each time one step of undo."""

    def __init__(self, parts: Parts) -> None:
        super().__init__(parts)
        self.parts = parts

    def admit(self, values: dict[str, Any]) -> None:
        """Set limits as the answer to a question offers."""
        self.parts.explanation.put_away()
        try:
            self.parts.study.edit_detector(self.parts.study.detector, values, self.tr("admit what was missed"))
        except ParameterError as error:
            self.parts.show_failure(str(error))

    def preview(self, change: Change | None) -> None:
        """Mark what a change would admit; None: nothing."""
        found = self.parts.study.detection
        if change is None or found is None:
            self.parts.overlays.show()
            return
        columns, outlines = candidate_shapes(found, change.gained[:300])
        count = len(outlines)
        marks = Marks.of(outlines, columns["x"], columns["y"], np.arange(count), QColor(GAIN_COLOUR))
        self.parts.overlays.show([replace(marks, chosen=frozenset(range(count)))])

    def give_region_in_view(self, take: Callable[[dict[str, Any]], None]) -> None:
        """The part of the image that the active pane shows, as a region."""
        image = self.parts.study.image
        if image is None:
            return
        pane = self.parts.active_frame.pane
        left, top = pane.to_source(pane.rect().topLeft().toPointF())
        right, bottom = pane.to_source(pane.rect().bottomRight().toPointF())
        width, height = image.source_size
        left, right = max(left, -0.5), min(right, width - 0.5)
        top, bottom = max(top, -0.5), min(bottom, height - 0.5)
        if left >= right or top >= bottom:
            self.parts.show_failure(self.tr("No part of the image is in view."))
            return
        numbers = {"x": (left + right) / 2, "y": (top + bottom) / 2, "width": right - left, "height": bottom - top}
        take({"shape": "rectangle", **{k: round(v, 1) for k, v in numbers.items()}})

    def start_ruler(self) -> None:
        """Have the user draw a line across an object; its half becomes the middle of the sizes looked for."""
        if self._size_parameter() is None:
            self.parts.notice.tell(self.tr("The selected card has no range of sizes. Choose a detector of round shapes."))
            return
        self.parts.drawing.start("line", _RULER)

    def ruled(self, key: str, shape: Any, moving: bool) -> None:
        """The ruler has been drawn."""
        if key != _RULER or moving or shape is None:
            return
        (x1, y1), (x2, y2) = shape["points"]
        self.parts.drawing.put(_RULER, None)
        self._look_for_size(0.5 * math.hypot(x2 - x1, y2 - y1))

    def like_chosen(self) -> None:
        """Search sizes around that of the selected finding."""
        name, rows = self._size_parameter(), self.parts.drawer.findings.chosen_rows()
        detection = self.parts.study.detection
        if name is None or detection is None or not len(rows):
            self.parts.notice.tell(self.tr("Select a finding of a detector with a range of sizes first."))
            return
        detector, findings = detection.task.detector, detection.findings
        size = float(np.median(findings[detector.Parameters.declarations()[name].upper_criterion or name][rows]))
        ratio = float(np.min(findings["ratio"][rows])) if "ratio" in findings.declared else 1.0
        self._look_for_size(size, ratio)

    def _chosen_entry(self) -> DetectorEntry | None:
        return next((e for e in self.parts.study.recipe.detectors if e.name == self.parts.study.chosen), None)

    def _size_parameter(self) -> str | None:
        """The parameter of the selected card that is a range of sizes."""
        entry = self._chosen_entry()
        return (detector_of(entry.kind).sized_by or None) if entry is not None else None

    def _look_for_size(self, size: float, ratio: float | None = None) -> None:
        """Around a size; of what has two axes, `ratio` is the shorter over the longer one, None: any that is accepted."""
        name, entry = self._size_parameter(), self._chosen_entry()
        if name is None or entry is None or size < 1.0:
            return
        sizes = detector_of(entry.kind).sized_like(entry.made_parameters(), size, ratio)
        low, high = (float(f"{end:.3g}") for end in sizes)
        self.parts.settings.edit("", name, (low, high), False)
        calibration, text = self.parts.study.calibration, ""
        if calibration is not None:
            text = self.tr(" ({:.3g} to {:.3g} mm)").format(low * calibration.mm_per_px, high * calibration.mm_per_px)
        self.parts.notice.tell(self.tr("Searching sizes from {:g} to {:g} px{}, around {:.1f}.").format(low, high, text, size))

    def take_value(self, name: str, value: Any) -> None:
        """Take a value over into a parameter of the selected card."""
        if name == self._size_parameter() and isinstance(value, float):
            self._look_for_size(value)
            return
        step = self.parts.sweep.step_for(value) if self.parts.sweep.card.isVisible() else None
        place = step_place(self.parts.study.chosen)
        self.parts.sweep.card.put_away()
        if step is not None and place is not None:
            self.parts.recipe_cards.do(lambda: self.parts.study.replace_step(self.parts.study.chosen, step))
        else:
            owner = "" if place is None else str(place[1])
            editor = self.parts.settings.editors.get((owner, name))
            if editor is not None and isinstance(editor.declared.type, WholeNumber) and isinstance(value, float):
                value = editor.declared.type.fit(value, editor.declared)
            self.parts.settings.edit(owner, name, value, False)
