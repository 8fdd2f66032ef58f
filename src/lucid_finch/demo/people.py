"""The scenes `plaques` and `open_day`: made-up heads, painted by `training/faces/demo.py` and kept as files with their truth."""

from __future__ import annotations

import json
from importlib import resources
from typing import Any

import numpy as np

from lucid_finch.core.image import Image
from lucid_finch.demo.painter import colour_image


def _kept(name: str) -> tuple[Image, list[dict[str, Any]]]:
    import PIL.Image  # here, since only these scenes are files

    folder = resources.files("lucid_finch.demo").joinpath("pictures")
    with folder.joinpath(f"{name}.webp").open("rb") as stream:
        pixels = np.array(PIL.Image.open(stream).convert("RGB"))
    return colour_image(pixels, name), json.loads(folder.joinpath(f"{name}.json").read_text("utf-8"))


def plaques() -> tuple[Image, list[dict[str, Any]]]:
    """Twelve portrait plaques on a wall (1100 x 800, RGB) and the box of each face."""
    return _kept("plaques")


def open_day() -> tuple[Image, list[dict[str, Any]]]:
    """Visitors in rows (1200 x 800, RGB) and the boxes of the faces that nothing hides."""
    return _kept("open_day")
