"""Takes what was seen, drawn or measured over into parameters: sizes by ruler, what is in view, what a change would admit."""

from __future__ import annotations

import math
from collections.abc import Callable
from dataclasses import replace
from typing import TYPE_CHECKING, Any

import numpy as np
from PySide6.QtCore import QObject
from PySide6.QtGui import QColor

from lucid_finch.core.errors import ParameterError
from lucid_finch.core.explaining import Change
from lucid_finch.desktop.canvas.pane import Marks
from lucid_finch.desktop.study.study import step_place

if TYPE_CHECKING:
    from lucid_finch.desktop.shell.window import Bench

_GAIN_COLOUR = QColor("#ff8fb1")
_RULER = "ruler"


class Adopter(QObject):
    """Edits the chosen card; each time one step of undo."""

    def __init__(self, bench: Bench) -> None:
        super().__init__(bench)
        self.bench = bench

    def admit(self, values: dict[str, Any]) -> None:
        """Set limits as the answer to a question offers."""
        self.bench.answer.put_away()
        try:
            self.bench.study.edit_detector(self.bench.study.detector, values, self.tr("admit what was missed"))
        except ParameterError as error:
            self.bench.show_failure(str(error))

    def preview(self, change: Change | None) -> None:
        """Mark what a change would admit; None: nothing."""
        found = self.bench.study.detection
        if change is None or found is None:
            self.bench.show_marks()
            return
        work = found.work
        gained = np.array(change.gained[:300], np.int64)
        finished = work.detector.finish(work.image, work.gathered, work.candidates, gained, work.parameters)
        outlines = finished.outlines.take(np.arange(len(gained)), work.image.frame)
        x, y = work.image.frame.to_source(finished.columns["x"], finished.columns["y"])
        marks = Marks.of(outlines, x, y, np.arange(len(gained)), _GAIN_COLOUR)
        self.bench.show_marks([replace(marks, chosen=frozenset(range(len(gained))))])

    def give_region_in_view(self, take: Callable[[dict[str, Any]], None]) -> None:
        """The part of the image that the active pane shows, as a region."""
        image = self.bench.study.image
        if image is None:
            return
        pane = self.bench.active_frame.pane
        left, top = pane.to_source(pane.rect().topLeft().toPointF())
        right, bottom = pane.to_source(pane.rect().bottomRight().toPointF())
        width, height = image.source_size
        left, right = max(left, -0.5), min(right, width - 0.5)
        top, bottom = max(top, -0.5), min(bottom, height - 0.5)
        if left >= right or top >= bottom:
            self.bench.show_failure(self.tr("No part of the image is in view."))
            return
        numbers = {"x": (left + right) / 2, "y": (top + bottom) / 2, "width": right - left, "height": bottom - top}
        take({"shape": "rectangle", **{k: round(v, 1) for k, v in numbers.items()}})

    def start_ruler(self) -> None:
        """Have the user draw a line across an object; its half becomes the middle of the sizes looked for."""
        if self._size_parameter() is None:
            self.bench.notice.tell(self.tr("The chosen card looks for no size. Choose one of circles or ellipses."))
            return
        self.bench.drawing.start("line", _RULER)

    def ruled(self, key: str, shape: Any, moving: bool) -> None:
        """The ruler has been drawn."""
        if key != _RULER or moving or shape is None:
            return
        (x1, y1), (x2, y2) = shape["points"]
        self.bench.drawing.put(_RULER, None)
        self._look_for_size(0.5 * math.hypot(x2 - x1, y2 - y1))

    def like_chosen(self) -> None:
        """Look for sizes around that of the chosen finding."""
        name, rows = self._size_parameter(), self.bench.findings.chosen_rows()
        detection = self.bench.study.detection
        if name is None or detection is None or not len(rows):
            self.bench.notice.tell(self.tr("Choose a circle or an ellipse in the table or on the image first."))
            return
        findings, measured = detection.findings, detection.work.detector.Parameters.declarations()[name].criterion
        size = float(np.median(findings[measured][rows]))
        flat = float(np.min(findings["ratio"][rows])) if "ratio" in findings.declared else 1.0
        self._look_for_size(size, flat)

    def _chosen_parameters(self) -> Any:
        entry = next((e for e in self.bench.study.recipe.detectors if e.name == self.bench.study.chosen), None)
        return entry.made_parameters() if entry is not None else None

    def _size_parameter(self) -> str | None:
        """The parameter of the chosen card that is a range of sizes."""
        parameters = self._chosen_parameters()
        declared = parameters.declarations() if parameters is not None else {}
        return next((n for n, d in declared.items() if d.is_range and d.unit == "px" and d.criterion), None)

    def _look_for_size(self, size: float, flat: float | None = None) -> None:
        """Around a size; of what has two axes, `flat` is the ratio of the shorter one to it, None: as flat as is looked for."""
        name = self._size_parameter()
        if name is None or size < 1.0:
            return
        if flat is None:
            flat = float(getattr(self._chosen_parameters(), "ratio_min", 1.0))
        low, high = (float(f"{size * share:.3g}") for share in (0.75 * flat, 1.3))
        self.bench.settings.edit("", name, (low, high), False)
        self.bench.notice.tell(self.tr("Sizes from {:g} to {:g} px are looked for, around {:.1f}.").format(low, high, size))

    def take_value(self, name: str, value: Any) -> None:
        """Take a value over into a parameter of the chosen card."""
        if name == self._size_parameter() and isinstance(value, float):
            self._look_for_size(value)
            return
        step = self.bench.spread.step_for(value) if self.bench.spread.card.isVisible() else None
        place = step_place(self.bench.study.chosen)
        self.bench.spread.card.put_away()
        if step is not None and place is not None:
            self.bench.column.do(lambda: self.bench.study.replace_step(self.bench.study.chosen, step))
        else:
            owner = "" if place is None else str(place[1])
            editor = self.bench.settings.editors.get((owner, name))
            if editor is not None and editor.declared.type is int and isinstance(value, float):
                # Sizes in whole pixels are odd.
                value = round(value) | 1
            self.bench.settings.edit(owner, name, value, False)
