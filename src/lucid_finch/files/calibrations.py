"""Calibrations in files, and pictures of their residuals."""

from __future__ import annotations

from pathlib import Path
from typing import Any, Self

import numpy as np

import lucid_finch.core.inspection.calibration as core
from lucid_finch.core.image import Image
from lucid_finch.core.viewing.arrows import magnification, residual_arrows
from lucid_finch.core.viewing.display import picture_of
from lucid_finch.files.findings import json_text
from lucid_finch.files.writing import read_document, whole_file, write_text

_USED, _OUTLIER = (214, 69, 32), (40, 120, 190)


class Calibration(core.Calibration):
    """A calibration that can be loaded and saved."""

    @classmethod
    def of(cls, made: core.Calibration) -> Self:
        """The same calibration."""
        return made if isinstance(made, cls) else cls.model_construct(**dict(made))

    @classmethod
    def load(cls, path: str | Path) -> Self:
        """From a file. Raises `FileError` if it cannot be read, `ParameterError` naming the file and field if it is wrong."""
        return cls.parse(read_document(path), str(path))

    def save(self, path: str | Path) -> None:
        """To a file, whole or not at all. Raises `FileError`."""
        write_text(path, json_text(self.plain()) + "\n")

    def save_residuals(self, path: str | Path, image: Image, view: int = 0) -> None:
        """A picture with the residuals of one view as arrows, as PNG; outliers in another colour. Raises `FileError`."""
        write_residuals(path, image, self, view)


def write_residuals(path: str | Path, image: Image, calibration: core.Calibration, view: int = 0) -> None:
    """The picture with arrows and what they mean. Raises `FileError`."""
    import PIL.Image
    import PIL.ImageDraw

    seen = calibration.views[view]
    times = magnification(calibration.views)
    shown = picture_of(image)
    canvas = PIL.Image.fromarray(shown if shown.ndim == 3 else np.repeat(shown[..., None], 3, axis=2))
    draw = PIL.ImageDraw.Draw(canvas)
    thick = max(1, round(max(canvas.size) / 700))
    for used, line in zip(seen.used, residual_arrows(seen, times), strict=True):
        colour: Any = _USED if used else _OUTLIER
        draw.line([(float(x), float(y)) for x, y in line], fill=colour, width=thick)
        x, y = line[0]
        draw.ellipse([x - 1.5 * thick, y - 1.5 * thick, x + 1.5 * thick, y + 1.5 * thick], outline=colour)
    text = f"residuals x {times:g}, rms {calibration.rms:.3f} px"
    size = max(14, canvas.size[0] // 60)
    box = draw.textbbox((8, 6), text, font_size=size)
    draw.rectangle([box[0] - 4, box[1] - 3, box[2] + 4, box[3] + 3], fill=(255, 255, 255))
    draw.text((8, 6), text, fill=_USED, font_size=size)
    with whole_file(path) as stream:
        canvas.save(stream, "PNG")
