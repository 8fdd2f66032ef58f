"""What `import lucid_finch` offers: the core's functions with paths resolved."""

from __future__ import annotations

from pathlib import Path
from typing import Any

from lucid_finch.core import detection
from lucid_finch.core.detection import Detection, EvidenceMap, Findings, NearMisses
from lucid_finch.core.errors import Cancelled, FileError, ParameterError
from lucid_finch.core.execution import engine
from lucid_finch.core.execution.engine import Engine, Run
from lucid_finch.core.explaining import Explanation, explain
from lucid_finch.core.image import Frame, Image
from lucid_finch.core.prepare import step_of
from lucid_finch.core.recipe import MarkStyle, json_schema
from lucid_finch.files.annotated import write_annotated
from lucid_finch.files.findings import write_csv, write_findings, write_svg
from lucid_finch.files.images import read_image
from lucid_finch.files.maps import write_image, write_map
from lucid_finch.files.recipes import Recipe

detection.MAP_WRITER = write_map

__all__ = [
    "Cancelled", "Detection", "Engine", "EvidenceMap", "Explanation", "FileError", "Findings", "Frame", "Image", "MarkStyle",
    "NearMisses", "ParameterError", "Recipe", "Run", "detect", "explain", "json_schema", "prepare", "read_image", "run",
    "write_annotated", "write_csv", "write_findings", "write_image", "write_map", "write_svg",
]  # fmt: skip


def _image(given: Any) -> Image:
    if isinstance(given, Image):
        return given
    return read_image(given) if isinstance(given, (str, Path)) else Image.from_array(given)


def prepare(step: str, image: Image | str | Path, /, **parameters: Any) -> Image:
    """One preparation step. `image` may be a path or an array. Raises `ParameterError`, `FileError`.

    >>> import lucid_finch as lf, numpy as np
    >>> lf.prepare("smooth", lf.Image.from_array(np.zeros((8, 8), np.uint8)), sigma=1.5).pixels.shape
    (8, 8)
    """
    chosen = step_of(step)
    return chosen.run(_image(image), chosen.Parameters.make(parameters, step))


def detect(kind: str, image: Image | str | Path, /, **parameters: Any) -> Detection:
    """One detector on one image (a path, an array or an `Image`); colour is taken as luma.

    >>> import lucid_finch as lf, numpy as np
    >>> step = np.full((60, 80), 50, np.uint8); step[:, 40:] = 150
    >>> result = lf.detect("edges", lf.Image.from_array(step))
    >>> len(result.findings), round(float(result.findings["x"][0]), 2)
    (1, 39.5)
    """
    return engine.detect(kind, _image(image), parameters)


def run(recipe: Recipe | str | Path, image: Image | str | Path) -> Run:
    """A recipe on one image. Raises `ParameterError`, `FileError`."""
    made = recipe if not isinstance(recipe, (str, Path)) else Recipe.load(recipe)
    return Engine().run(made, _image(image))
