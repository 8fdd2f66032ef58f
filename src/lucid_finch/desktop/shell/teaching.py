"""Teaching templates: a region drawn on the image, or a file, becomes a picture of the recipe."""

from __future__ import annotations

from typing import Any

import numpy as np
from numpy.typing import NDArray
from PySide6.QtCore import QObject
from PySide6.QtWidgets import QFileDialog

from lucid_finch.core.errors import FileError, ParameterError
from lucid_finch.core.execution.assets import Assets
from lucid_finch.core.image import Image
from lucid_finch.core.luma import as_luma
from lucid_finch.core.regions import masked_pixels, region_of
from lucid_finch.core.teaching import Averaged, averaged, taught_kind, teach
from lucid_finch.core.viewing.display import picture_of
from lucid_finch.desktop.canvas.shapes import Shape
from lucid_finch.desktop.recipe_panel.mask_painter import MaskPainter
from lucid_finch.desktop.shell.parts import Parts
from lucid_finch.desktop.study.pasting import pasted_image
from lucid_finch.files.assets import asset_of
from lucid_finch.files.images import read_image

_KEY = "teach"


class Teaching(QObject):
    """Each time one step of undo."""

    def __init__(self, parts: Parts) -> None:
        super().__init__(parts)
        self.parts = parts
        self._name = "template"
        parts.settings.teach_wanted.connect(self.start)
        parts.settings.file_wanted.connect(self.ask_for_file)
        parts.settings.average_wanted.connect(self.average)
        parts.settings.paint_wanted.connect(self.paint)
        parts.settings.differences_wanted.connect(self.mask_differences)
        parts.drawing.changed.connect(self._drawn)

    def start(self, name: str = "template", shape: str = "rectangle") -> None:
        """Have the user draw around the pattern."""
        if self.parts.study.image is None:
            self.parts.show_failure(self.tr("Open an image first: a template is taught from it."))
            return
        self._name = name
        self.parts.drawing.start(shape, _KEY)

    def _drawn(self, key: str, shape: Shape | None, moving: bool) -> None:
        if key != _KEY or moving or shape is None:
            return
        self.parts.drawing.put(_KEY, None)
        self.teach(shape)

    def teach(self, shape: Shape) -> None:
        """Take what a region of the image holds."""
        image = self.parts.study.image
        if image is None:
            return
        try:
            taught = teach(image, shape)
            self._take(taught.image, {"outline": taught.outline, "mask": None, "reference": None})
        except ParameterError as error:
            self.parts.show_failure(str(error))
            return
        self.parts.notice.tell(self.tr("Template taught: {}.").format(taught.quality))

    def ask_for_file(self, name: str) -> None:
        """Choose a picture."""
        path, _ = QFileDialog.getOpenFileName(self.parts, self.tr("Picture of the {}").format(name))
        if path:
            self.take_file(name, path)

    def take_file(self, name: str, path: str) -> None:
        """Take the picture in a file."""
        self._name = name
        try:
            changes = {"outline": None, "mask": None, "reference": None} if name == "template" else {}
            self._take(read_image(path), changes)
        except (FileError, ParameterError) as error:
            self.parts.show_failure(str(error))

    def paste(self) -> None:
        """Take the picture or the numbers in the clipboard."""
        self._name = "template"
        try:
            self._take(pasted_image(), {"outline": None, "mask": None, "reference": None})
        except ParameterError as error:
            self.parts.show_failure(str(error))

    def paint(self) -> None:
        """Have what does not count painted over the template."""
        painter = self.painter()
        if painter is not None and painter.exec():
            self.take_mask(painter.canvas.hidden)

    def painter(self) -> MaskPainter | None:
        """The dialog on the template of the selected detector; None, and why, where there is none."""
        study = self.parts.study
        entry = next((e for e in study.recipe.detectors if e.name == study.chosen), None)
        name = None if entry is None else entry.parameters.get("template")
        if entry is None or entry.kind != taught_kind() or not isinstance(name, str):
            self.parts.show_failure(self.tr("A mask is painted over a template: select a detector that has one."))
            return None
        try:
            held = Assets(study.recipe.assets)
            pixels = picture_of(held[name])
            hidden = np.zeros(pixels.shape[:2], bool)
            mask = entry.parameters.get("mask")
            if isinstance(mask, str) and held[mask].pixels.shape[:2] == hidden.shape:
                hidden = as_luma(held[mask]).pixels == 0
        except ParameterError as error:
            self.parts.show_failure(str(error))
            return None
        if pixels.ndim == 2:
            pixels = np.repeat(pixels[..., None], 3, axis=2)
        outline = entry.parameters.get("outline")
        outside = None if outline is None else masked_pixels(held[name], region_of(outline), 0)
        if outside is not None:
            # The margin does not count in any case.
            pixels = np.where((outside != 0)[..., None], pixels // 2, pixels)
        return MaskPainter(self.parts, pixels, hidden)

    def take_mask(self, hidden: NDArray[np.bool_]) -> None:
        """Let pixels of the template not count; where none is hidden, there is no mask."""
        self._name = "mask"
        if hidden.any():
            self._take(Image.from_array(np.where(hidden, 0, 255).astype(np.uint8)), {})
        else:
            self.parts.study.edit_detector(self.parts.study.chosen, {"mask": None}, "no mask")

    def average(self) -> None:
        """Replace the picture by the mean of the matches found in this image."""
        mean = self._averaged()
        if mean is not None:
            self._take(mean.image, {})
            text = self.tr("Template averaged over its matches; a pixel differs by {:.3g} grey levels typically.")
            self.parts.notice.tell(text.format(mean.typical))

    def mask_differences(self) -> None:
        """Let pixels that differ from match to match not count."""
        mean = self._averaged()
        if mean is None:
            return
        share = float(mean.differs.mean())
        if not mean.differs.any():
            self.parts.notice.tell(self.tr("Nothing differs from match to match beyond the noise."))
            return
        self.take_mask(mean.differs)
        self.parts.notice.tell(
            self.tr("{:.0f} % of the picture differ from match to match and no longer count.").format(100 * share)
        )

    def _averaged(self) -> Averaged | None:
        """The mean of the matches of the selected detector; None, and why, where there is none."""
        study = self.parts.study
        detection = study.detections.get(study.chosen)
        entry = next((e for e in study.recipe.detectors if e.name == study.chosen), None)
        image, name = study.image, None if entry is None else entry.parameters.get("template")
        try:
            if entry is None or entry.kind != taught_kind() or detection is None or image is None or not isinstance(name, str):
                raise ParameterError(self.tr("template: select a detector of a template that has run on this image"))
            self._name = "template"
            found = detection.findings
            poses = np.stack([np.asarray(found[c], float) for c in ("x", "y", "angle", "scale")], axis=1)
            given = detection.task.parameters
            return averaged(image, Assets(study.recipe.assets)[name], given.outline, given.reference, poses)
        except ParameterError as error:
            self.parts.show_failure(str(error))
            return None

    def _take(self, picture: Image, changes: dict[str, Any]) -> None:
        study = self.parts.study
        name, data = asset_of(picture)
        chosen = next((e for e in study.recipe.detectors if e.name == study.chosen), None)
        given = {self._name: name, **changes}
        kind = taught_kind()
        study.hold_picture(chosen.name if chosen is not None and chosen.kind == kind else "", kind, given, name, data)
