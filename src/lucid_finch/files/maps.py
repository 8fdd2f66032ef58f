"""Writes images and evidence maps: PNG with the display range beside it, float TIFF, NPY."""

from __future__ import annotations

import io
import json
from pathlib import Path
from typing import Any

import numpy as np
from numpy.typing import ArrayLike

from lucid_finch.core.detection import EvidenceMap
from lucid_finch.core.errors import FileError
from lucid_finch.core.image import Image
from lucid_finch.core.viewing.display import display_range, shown
from lucid_finch.files.writing import whole_file, write_text

ENDINGS = (".png", ".tif", ".tiff", ".npy")
RESULT = "Lucid Finch result"
"""Stands in the head of pictures that show results, which tells them from images to work on."""


def write_map(path: str | Path, evidence: EvidenceMap, span: tuple[float, float] | None = None) -> None:
    """PNG (8 bit, colours for signed and cyclic maps; the range goes to PATH.json), float TIFF or NPY, by the ending.

    `span` is what becomes black and white of a PNG, else set from the data.
    """
    values = evidence.values
    ending = _ending(path)
    if ending != ".png":
        _write_array(path, values, RESULT)
        return
    low, high = span if span is not None else display_range(values, evidence.kind)
    write_png(path, shown(values, evidence.kind, low, high), RESULT)
    about = {"map": evidence.name, "unit": evidence.unit, "kind": evidence.kind, "black": low, "white": high}
    write_text(f"{path}.json", json.dumps(about, indent=2) + "\n")


def write_image(path: str | Path, image: Image | ArrayLike) -> None:
    """An image, such as one after preparation, or an array.

    PNG keeps 8 and 16 bit as they are; float goes over the value range to 16 bit.
    """
    if not isinstance(image, Image):
        image = Image.from_array(image)
    if _ending(path) != ".png":
        _write_array(path, image.pixels)
        return
    pixels = image.pixels
    if pixels.dtype == np.float32:
        share = np.clip((pixels - image.black) / image.span, 0, 1)
        deep = not image.is_colour
        pixels = np.round(share * (65535 if deep else 255)).astype(np.uint16 if deep else np.uint8)
        about = {"black": image.black, "white": image.white}
        write_text(f"{path}.json", json.dumps(about, indent=2) + "\n")
    elif pixels.dtype == np.uint16 and image.is_colour:
        raise FileError(path, "colour of 16 bit cannot be written as PNG; use TIFF or NPY")
    write_png(path, pixels)


def write_pages(path: str | Path, pictures: Any) -> None:
    """Pictures (n, H, W) or (n, H, W, 3) as the pages of a TIFF, in their order. Raises `FileError`."""
    import tifffile

    buffer = io.BytesIO()
    with tifffile.TiffWriter(buffer) as writer:
        for picture in pictures:
            photometric = "rgb" if picture.ndim == 3 else "minisblack"
            writer.write(picture, photometric=photometric, software=RESULT, contiguous=False)
    with whole_file(path) as stream:
        stream.write(buffer.getbuffer())


def _ending(path: str | Path) -> str:
    ending = Path(path).suffix.lower()
    if ending not in ENDINGS:
        raise FileError(path, f"maps are written as {', '.join(ENDINGS)}")
    return ending


def _write_array(path: str | Path, values: Any, software: str = "Lucid Finch") -> None:
    buffer = io.BytesIO()
    if Path(path).suffix.lower() == ".npy":
        np.save(buffer, values, allow_pickle=False)
    else:
        import tifffile

        tifffile.imwrite(buffer, values, photometric="rgb" if values.ndim == 3 else "minisblack", software=software)
    with whole_file(path) as stream:
        stream.write(buffer.getbuffer())


def write_png(path: str | Path, pixels: Any, software: str = "Lucid Finch") -> None:
    """Pixels, or a Pillow picture, as PNG that names the software. Raises `FileError`."""
    import PIL.Image
    from PIL.PngImagePlugin import PngInfo

    buffer, about = io.BytesIO(), PngInfo()
    about.add_text("Software", software)
    picture = pixels if isinstance(pixels, PIL.Image.Image) else PIL.Image.fromarray(pixels)
    picture.save(buffer, "PNG", compress_level=3, pnginfo=about)
    with whole_file(path) as stream:
        stream.write(buffer.getvalue())
