"""Small squares of the image around findings, upright or turned along their direction, for a matcher downstream."""

from __future__ import annotations

from typing import Any

import numpy as np
from numpy.typing import NDArray

from lucid_finch.core.errors import ParameterError
from lucid_finch.core.image import Image
from lucid_finch.core.numerics.matching.alignment import sampled
from lucid_finch.core.table import Table

LARGEST = 1024
_DIRECTIONS = ("direction", "angle")
"""Columns along which a crop is turned, the first that a table has."""
_MOST_BYTES = 2_000_000_000


def crops_of(image: Image, table: Table, size: int = 32, turned: bool = False, fitted: bool = False) -> NDArray[Any]:
    """(n, size, size) or (n, size, size, 3), of the image's own type: a square around each row's x, y; 0 beyond the image.

    The place is the middle of the square: at (size - 1) / 2 of both axes. `turned`: so that the row's direction (or angle) points
    to the right; without one, upright. `fitted`: so that each finding, by its height or radius, fills the square. Pixels are read
    by cubic interpolation. Raises `ParameterError`.
    """
    if not 2 <= size <= LARGEST:
        raise ParameterError(f"size = {size} is not allowed; crops are 2 to {LARGEST} px wide", "size")
    channels = 3 if image.is_colour else 1
    if len(table) * size**2 * channels * image.pixels.itemsize > _MOST_BYTES:
        raise ParameterError(
            f"size = {size}: {len(table)} crops of this size take too much memory; take fewer or smaller ones", "size"
        )
    name = next((n for n in _DIRECTIONS if n in table.declared), "") if turned else ""
    angle = np.nan_to_num(np.asarray(table[name], float)) if name else np.zeros(len(table))
    x, y = (np.asarray(table[n], float) for n in ("x", "y"))
    poses = np.stack([x, y, np.radians(angle), _sizes(table) / size if fitted else np.ones(len(table))], axis=1)
    offset = np.arange(size) - 0.5 * (size - 1)
    v, u = (a.ravel() for a in np.meshgrid(offset, offset, indexing="ij"))
    planes = np.moveaxis(image.pixels, 2, 0) if image.is_colour else image.pixels[None]
    found = np.zeros((len(table), size, size, channels), image.pixels.dtype)
    for number, plane in enumerate(planes):
        seen = sampled(np.ascontiguousarray(plane, np.float32), (1.0, 1.0), (u, v), poses).reshape(-1, size, size)
        seen = np.nan_to_num(seen, nan=0.0)
        if found.dtype.kind == "u":
            seen = np.clip(np.round(seen), 0, np.iinfo(found.dtype).max)
        found[..., number] = seen
    return found if image.is_colour else found[..., 0]


def _sizes(table: Table) -> NDArray[np.float64]:
    """px that each finding is high. Raises `ParameterError` where a table does not say."""
    for name, times in (("height", 1.0), ("radius", 2.0), ("semi_major", 2.0)):
        if name in table.declared:
            return np.maximum(np.nan_to_num(times * np.asarray(table[name], float)), 1.0)
    raise ParameterError("fitted: these findings have no size that a crop could be fitted to", "fitted")
