"""Rectified pictures as maps: the image without its lens's bending, or from above the calibrated plane."""

from __future__ import annotations

from dataclasses import replace

import numpy as np

from lucid_finch.core.image import Image
from lucid_finch.core.inspection.rectifying import Rectification
from lucid_finch.desktop.study.picture import Picture

RECTIFIED = {"undistorted": False, "from_above": True}
"""Names of the maps, and whether they are seen from above."""


def rectified_picture(name: str, title: str, rectified: Image, how: Rectification) -> Picture:
    """A rectified image with axes of its own: mm of the plane, or undistorted px."""
    made = Picture.of_image(rectified, name, title)
    unit = "mm" if how.from_above else "px"
    across = how.left + how.step * np.arange(how.width)
    down = how.top + how.step * np.arange(how.height)
    return replace(made, axes=(across, down, f"x ({unit})", f"y ({unit})"))
