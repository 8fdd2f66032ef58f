"""Teaching a template: cuts it out of an image with a margin, and says how well it fixes its own place."""

from __future__ import annotations

from collections.abc import Mapping
from dataclasses import dataclass, replace
from typing import Any

import numpy as np

from lucid_finch.core.detectors import KINDS
from lucid_finch.core.errors import ParameterError
from lucid_finch.core.image import Frame, Image
from lucid_finch.core.luma import as_luma
from lucid_finch.core.numerics.matching.correlation import Pattern, correlation_map
from lucid_finch.core.regions import box_in, masked_pixels, region_of

MARGIN = 12
"""px of surroundings that are kept around a template: what its preparation needs."""
_INDISTINCT = 0.97


@dataclass(frozen=True)
class Taught:
    """A template as it was cut out."""

    image: Image
    """Pixels of the source, with the margin."""
    outline: dict[str, Any] | None
    """The taught region in pixels of that picture; None: all of it."""
    across: float
    """Its correlation with itself one px along x: 1 would not fix the place."""
    down: float

    @property
    def quality(self) -> str:
        """How good a template it is, in words."""
        if max(self.across, self.down) < _INDISTINCT:
            return f"a shift by 1 px lowers its score to {self.across:.2f} along x and {self.down:.2f} along y"
        along = " and ".join(axis for axis, value in (("x", self.across), ("y", self.down)) if value >= _INDISTINCT)
        return f"it hardly fixes the place along {along}: a shift by 1 px keeps a score of {max(self.across, self.down):.3f}"


def taught_kind() -> str:
    """The kind of detector that looks for what was taught: the one that takes a picture and a region of it."""
    return next(name for name, kind in KINDS.items() if any(d.of_picture for d in kind.Parameters.declarations().values()))


def teach(image: Image, region: Mapping[str, Any]) -> Taught:
    """Cut a template out of an image that nothing was done to. `region` as plain data. Raises `ParameterError`."""
    shape = region_of(dict(region))
    left, top, right, bottom = box_in(image, shape)
    inside = shape.contains(np.arange(left, right, dtype=float)[None, :], np.arange(top, bottom, dtype=float)[:, None])
    rows, columns = np.flatnonzero(inside.any(axis=1)), np.flatnonzero(inside.any(axis=0))
    if len(rows) < 2 or len(columns) < 2:
        raise ParameterError("template: the region holds too little of the image for a template")
    x0, y0 = max(left + int(columns[0]) - MARGIN, 0), max(top + int(rows[0]) - MARGIN, 0)
    x1, y1 = min(left + int(columns[-1]) + 1 + MARGIN, image.width), min(top + int(rows[-1]) + 1 + MARGIN, image.height)
    part = np.ascontiguousarray(image.pixels[y0:y1, x0:x1])
    cut = replace(
        image, pixels=part, mask=None, frame=Frame(), source_size=(x1 - x0, y1 - y0), name="template", notes=(), valid_region=None
    )
    outline = _moved(dict(region), -x0, -y0)
    grey = as_luma(cut).pixels.astype(np.float32)
    masked = masked_pixels(cut, region_of(outline), 0)
    mask = np.ones(grey.shape, bool) if masked is None else masked == 0
    if mask.sum() < 4:
        raise ParameterError("template: the region holds too little of the image for a template")
    if float(np.ptp(grey[mask])) <= 0.0:
        raise ParameterError("template: the region has the same value everywhere, so that it would agree with nothing")
    return Taught(cut, outline, *_sharpness(grey, mask, image))


def _moved(region: dict[str, Any], dx: float, dy: float) -> dict[str, Any]:
    """A region, its exclusions included, at another place."""
    moved = dict(region)
    if "points" in moved:
        moved["points"] = [[x + dx, y + dy] for x, y in moved["points"]]
    else:
        moved["x"], moved["y"] = moved["x"] + dx, moved["y"] + dy
    if moved.get("exclude"):
        moved["exclude"] = [_moved(dict(hole), dx, dy) for hole in moved["exclude"]]
    return moved


def _sharpness(grey: np.ndarray, mask: np.ndarray, image: Image) -> tuple[float, float]:
    """Correlation of a template with what lies one px beside it, along x and y."""
    rows, columns = np.flatnonzero(mask.any(axis=1)), np.flatnonzero(mask.any(axis=0))
    window = slice(rows[0], rows[-1] + 1), slice(columns[0], columns[-1] + 1)
    padded = np.pad(grey, 1, mode="reflect")
    around = padded[rows[0] : rows[-1] + 3, columns[0] : columns[-1] + 3]
    scores = correlation_map(np.ascontiguousarray(around), Pattern.of(grey[window], mask[window]), image.quantum, image.span)
    return float(max(scores[1, 0], scores[1, 2])), float(max(scores[0, 1], scores[2, 1]))
