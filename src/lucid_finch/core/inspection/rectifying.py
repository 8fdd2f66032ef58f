"""Pictures without the lens's distortion, or as seen straight from above the calibrated plane."""

from __future__ import annotations

import math
from collections.abc import Callable
from dataclasses import dataclass, replace
from typing import Any

import numpy as np
from numpy.typing import NDArray

from lucid_finch.core.errors import Cancelled, ParameterError
from lucid_finch.core.image import Image
from lucid_finch.core.inspection.calibration import Calibration
from lucid_finch.core.numerics.targets.lens import distorted, undistorted

Floats = NDArray[np.float64]

_BAND = 256
"""Rows that are sampled at a time."""
_LARGEST = 2.0
"""Pixels of the result, at most so many times those of the picture."""
_STEEP = 4.0
"""Of a view from above, what the picture shows so many times coarser than its middle is cut off."""
_BORDER = 65
"""Places along each side of the picture whose images bound the result."""


@dataclass(frozen=True)
class Rectification:
    """How a rectified picture and its source belong together."""

    calibration: Calibration
    from_above: bool
    left: float
    top: float
    step: float
    """Of pixel (0, 0): mm if from above, else undistorted px; and what one pixel is of it."""
    width: int
    height: int

    def to_source(self, x: Any, y: Any) -> tuple[Any, Any]:
        """Places of the source picture that are shown at places of the rectified one; NaN where there is none."""
        u, v = self.left + self.step * np.asarray(x, float), self.top + self.step * np.asarray(y, float)
        if self.from_above:
            return self.calibration.to_image(u, v)
        lens = self.calibration.lens
        at = distorted(np.stack(np.broadcast_arrays(u - lens.x, v - lens.y), axis=-1) / lens.reference, lens.k1, lens.k2)
        return at[..., 0] * lens.reference + lens.x, at[..., 1] * lens.reference + lens.y

    def from_source(self, x: Any, y: Any) -> tuple[Any, Any]:
        """Places of the rectified picture of places of the source."""
        u, v = _ideal(self.calibration, self.from_above, np.asarray(x, float), np.asarray(y, float))
        return (u - self.left) / self.step, (v - self.top) / self.step

    def picture(self, image: Image, cancelled: Callable[[], bool] | None = None) -> Image:
        """The rectified picture, by cubic interpolation; what the source does not show is masked. Raises `Cancelled`,
        `ParameterError` for a picture of another size."""
        from scipy import ndimage  # here, since loading it takes time

        self.calibration.check_size(image.source_size)
        if not image.frame.is_identity:
            raise ParameterError("rectify: only pictures as loaded can be rectified, none that were cropped, resized or turned")
        pixels = image.pixels if image.is_colour else image.pixels[..., None]
        high, wide = pixels.shape[:2]
        out = np.zeros((self.height, self.width, pixels.shape[2]), pixels.dtype)
        valid = np.zeros((self.height, self.width), bool)
        for top in range(0, self.height, _BAND):
            if cancelled is not None and cancelled():
                raise Cancelled()
            y, x = np.mgrid[top : min(top + _BAND, self.height), : self.width]
            u, v = self.to_source(x, y)
            inside = (u >= -0.5) & (u <= wide - 0.5) & (v >= -0.5) & (v <= high - 0.5)
            at = np.stack([np.where(inside, v, 0.0), np.where(inside, u, 0.0)])
            if image.mask is not None:
                rows, columns = (np.clip(np.round(w).astype(int), 0, n - 1) for w, n in zip(at, (high, wide), strict=True))
                inside &= image.mask[rows, columns]
            for channel in range(pixels.shape[2]):
                # Cubic pieces of each band; the whole plane once would need eight times its memory.
                first, last = _rows_of(at[0], inside, high)
                part = np.asarray(pixels[first:last, :, channel], np.float32)
                seen = ndimage.map_coordinates(part, at - np.array([first, 0])[:, None, None], order=3, mode="mirror")
                out[top : top + len(y), :, channel] = np.where(inside, _as(seen, pixels.dtype, image), 0)
            valid[top : top + len(y)] = inside
        return replace(
            Image.from_array(
                out if image.is_colour else out[..., 0], mask=None if valid.all() else valid, name=image.name,
                value_range=(image.black, image.white),
            ),
            notes=image.notes,
        )  # fmt: skip


def rectification(calibration: Calibration, from_above: bool = True) -> Rectification:
    """How a picture is rectified: at the scale of its middle, all of it as far as that is not blown up."""
    width, height = calibration.width, calibration.height
    step = calibration.mm_per_px if from_above else 1.0
    x, y = np.meshgrid(np.linspace(-0.5, width - 0.5, _BORDER), np.linspace(-0.5, height - 0.5, _BORDER))
    u, v = _ideal(calibration, from_above, x.ravel(), y.ravel())
    good = np.isfinite(u) & np.isfinite(v)
    if from_above:
        # Towards the horizon a pixel is many millimetres: what is left out there shows nothing.
        size = np.sqrt(np.abs(np.linalg.det(calibration.slopes(x.ravel(), y.ravel()))))
        good &= np.nan_to_num(size, nan=np.inf) < _STEEP * step
    left, right, top, bottom = (float(w) for w in (u[good].min(), u[good].max(), v[good].min(), v[good].max()))
    count = (right - left) / step * (bottom - top) / step
    step *= max(1.0, math.sqrt(count / (_LARGEST * width * height)))
    across, down = max(1, round((right - left) / step)), max(1, round((bottom - top) / step))
    return Rectification(calibration, from_above, left + 0.5 * step, top + 0.5 * step, step, across, down)


def _ideal(calibration: Calibration, from_above: bool, x: Floats, y: Floats) -> tuple[Any, Any]:
    """mm, or undistorted px, of places of the source."""
    if from_above:
        return calibration.to_plane(x, y)
    lens = calibration.lens
    at = undistorted(np.stack([x - lens.x, y - lens.y], axis=-1) / lens.reference, lens.k1, lens.k2)
    return at[..., 0] * lens.reference + lens.x, at[..., 1] * lens.reference + lens.y


def _rows_of(at: Floats, inside: NDArray[np.bool_], high: int) -> tuple[int, int]:
    """Rows of the source, with some beside, that a band needs."""
    used = at[inside] if inside.any() else np.zeros(1)
    # The spline's prefilter rings over some rows.
    return max(0, int(used.min()) - 24), min(high, int(used.max()) + 25)


def _as(values: NDArray[Any], dtype: Any, image: Image) -> NDArray[Any]:
    if dtype.kind == "f":
        return values.astype(dtype)
    return np.clip(np.round(values), 0, np.iinfo(dtype).max).astype(dtype)
