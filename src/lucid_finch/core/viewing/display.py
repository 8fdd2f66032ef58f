"""How the numbers of a map become something to look at: display range and colours. The data never change."""

from __future__ import annotations

from functools import cache
from typing import Any

import numpy as np
from numpy.typing import NDArray

from lucid_finch.core.detection import MapKind
from lucid_finch.core.image import Image

Colours = NDArray[np.uint8]

# Anchor colours, evenly spaced. Signed: cold below zero, dark neutral at zero, warm above, distinguishable by the colour-blind
# too. Cyclic: four hues of one lightness that meet again at the ends. Grey: plain.
_ANCHORS: dict[str, tuple[tuple[int, int, int], ...]] = {
    "grey": ((0, 0, 0), (255, 255, 255)),
    "mask": ((0, 0, 0), (255, 255, 255)),
    "signed": ((126, 208, 255), (32, 116, 178), (24, 25, 28), (186, 98, 22), (255, 208, 128)),
    "cyclic": ((214, 139, 60), (155, 168, 70), (60, 165, 175), (160, 125, 200), (214, 139, 60)),
}


@cache
def colour_table(kind: MapKind) -> Colours:
    """(256, 3) colours from the low to the high end of the display range."""
    anchors = np.array(_ANCHORS[kind], float)
    place = np.linspace(0, len(anchors) - 1, 256)
    table = np.stack([np.interp(place, np.arange(len(anchors)), anchors[:, c]) for c in range(3)], axis=1)
    return np.round(table).astype(np.uint8)


def display_range(values: NDArray[Any], kind: MapKind) -> tuple[float, float]:
    """Black and white of a map, set from its data: nearly all of it, and around zero if it is signed."""
    if kind == "cyclic":
        return 0.0, 360.0
    step = max(1, int(np.sqrt(values.size / 60_000)))
    sample = np.asarray(values[::step, ::step], float).ravel()
    sample = sample[np.isfinite(sample)]
    if not sample.size:
        return 0.0, 1.0
    if kind == "signed":
        most = float(np.quantile(np.abs(sample), 0.998)) or float(np.abs(sample).max()) or 1.0
        return -most, most
    if kind == "mask":
        return 0.0, float(np.max(values)) or 1.0
    low, high = (float(q) for q in np.quantile(sample, (0.002, 0.998)))
    if high <= low:
        low, high = float(sample.min()), float(sample.max())
    return (low, high) if high > low else (low - 0.5, high + 0.5)


def shown(values: NDArray[Any], kind: MapKind, low: float, high: float) -> Colours:
    """8-bit picture of a map: (H, W) for grey ones, else (H, W, 3)."""
    factor = np.float32(255.999 / (high - low)) if high > low else np.float32(0)
    level = np.clip((np.asarray(values, np.float32) - np.float32(low)) * factor, 0, 255)
    index = np.nan_to_num(level, nan=0.0).astype(np.uint8)
    return index if kind in ("grey", "mask") else colour_table(kind)[index]


def picture_of(image: Image) -> Any:
    """8-bit picture of an image (H, W) or (H, W, 3), over its value range or, for other than 8 bit, its data's."""
    if image.pixels.dtype == np.uint8:
        return image.pixels
    low, high = display_range(image.pixels if not image.is_colour else image.pixels[..., 1], "grey")
    return shown(image.pixels, "grey", low, high)
