"""What images, maps and results show of themselves in a notebook: small pictures and tables."""

from __future__ import annotations

import io
from dataclasses import replace
from html import escape
from typing import Any

import numpy as np

from lucid_finch.core.detection import Detection, EvidenceMap
from lucid_finch.core.errors import ParameterError
from lucid_finch.core.execution.engine import Run
from lucid_finch.core.image import Image
from lucid_finch.core.recipe import VERSION, Recipe
from lucid_finch.core.viewing.display import display_range, picture_of, shown
from lucid_finch.files.findings import svg_overlay

_LARGEST = 900
"""px of the longer side of a picture."""


def image_png(image: Image) -> bytes:
    """A small PNG of an image."""
    return _png(picture_of(image))


def map_png(evidence: EvidenceMap) -> bytes:
    """A small PNG of a map in its colours."""
    values = evidence.reduced(max(1, -(-max(evidence.width, evidence.height) // _LARGEST)))
    return _png(shown(values, evidence.kind, *display_range(values, evidence.kind)))


def detection_html(detection: Detection) -> str:
    """Marks on the picture, counts and the first rows."""
    picture = "" if detection.task.image is None else _overlay(run_of(detection, with_picture=True))
    return f"{picture}{_rows(detection)}"


def run_html(run: Run) -> str:
    """Marks on the picture, then each detector's counts and first rows."""
    return _overlay(run) + "".join(_rows(d) for d in run.detections.values())


def run_of(detection: Detection, with_picture: bool = False) -> Run:
    """A run of one detector, for what writes and shows runs. Without a picture if the source is not the image that it saw.

    Raises `ParameterError` for a detection that was pickled without its image.
    """
    image = detection.task.image
    if image is None:
        raise ParameterError("the detection was pickled without its image; run the detector again", "result")
    entry = {"name": detection.name, "kind": detection.kind, "parameters": detection.task.given.plain()}
    calibration = detection.task.calibration
    made = calibration.plain() if calibration is not None else None
    recipe = Recipe.make({"lucid_finch_recipe": VERSION, "name": detection.name, "detectors": [entry], "calibration": made})
    if not image.frame.is_identity:
        if not with_picture:
            raise ParameterError("the source of the image is not known here: use a recipe and run.save", "result")
        blank = np.full((image.source_size[1], image.source_size[0]), 128, np.uint8)
        image = replace(Image.from_array(blank), name=image.name)
    return Run(recipe, image, {detection.name: detection}, (), detection.seconds)


def _rows(detection: Detection) -> str:
    notes = "".join(f"<br>{escape(note)}" for note in detection.notes)
    heading = f"<p><b>{escape(detection.name)}</b>: {len(detection.findings)} findings, {len(detection.near_misses)} near misses"
    return f"{heading}{notes}</p>{detection.findings._repr_html_()}"


def _overlay(run: Run) -> str:
    import PIL.Image

    picture = PIL.Image.fromarray(picture_of(run.image))
    picture.thumbnail((_LARGEST, _LARGEST))
    width, height = run.image.source_size
    factor = min(1.0, _LARGEST / max(width, height))
    svg = svg_overlay(run, picture=picture)
    size = f'width="{width}" height="{height}"'
    return svg.replace(size, f'width="{round(width * factor)}" height="{round(height * factor)}"', 1)


def _png(pixels: Any) -> bytes:
    import PIL.Image

    picture = PIL.Image.fromarray(pixels)
    picture.thumbnail((_LARGEST, _LARGEST))
    buffer = io.BytesIO()
    picture.save(buffer, "PNG")
    return buffer.getvalue()
