"""Pictures inside recipes: PNG or NPY as base64, each under the sha256 of its bytes."""

from __future__ import annotations

import base64
import hashlib
import io
import tempfile
from collections.abc import Callable, Mapping
from pathlib import Path
from typing import Any

import numpy as np
import PIL.Image

from lucid_finch.core.errors import FileError, ParameterError
from lucid_finch.core.image import Image
from lucid_finch.core.outer import provide
from lucid_finch.core.parameter_types.references import Asset, AssetType
from lucid_finch.core.parameters import Parameters
from lucid_finch.core.recipe import AssetData
from lucid_finch.files.images import read_image

_ENDINGS = {"image/png": ".png", "image/jpeg": ".jpg", "image/tiff": ".tif", "application/x-npy": ".npy"}
"""Media types that are read; PNG and NPY are written."""
_LARGEST = 64_000_000
"""Bytes of one picture, at most."""


def asset_of(image: Image) -> tuple[str, AssetData]:
    """A picture as a recipe holds it, and its sha256: PNG where that keeps every value, else NPY. Raises `ParameterError`."""
    stream = io.BytesIO()
    if image.pixels.dtype == np.uint8:
        PIL.Image.fromarray(image.pixels).save(stream, "PNG", optimize=False)
        media_type = "image/png"
    else:
        np.save(stream, image.pixels, allow_pickle=False)
        media_type = "application/x-npy"
    data = stream.getvalue()
    if len(data) > _LARGEST:
        raise ParameterError(f"a picture of {len(data) / 1e6:.0f} MB is too large for a recipe; at most {_LARGEST / 1e6:.0f} MB")
    return hashlib.sha256(data).hexdigest(), AssetData(media_type=media_type, data=base64.b64encode(data).decode())


def decode_asset(data: AssetData) -> Image:
    """The picture that a recipe holds. Raises `ParameterError`."""
    if data.media_type not in _ENDINGS:
        known = ", ".join(_ENDINGS)
        raise ParameterError(f"assets: the media type {data.media_type} is not known; there are: {known}", "assets")
    with tempfile.NamedTemporaryFile(suffix=_ENDINGS[data.media_type]) as file:
        file.write(data.decoded())
        file.flush()
        try:
            return read_image(file.name)
        except FileError as error:
            why = str(error).partition(": ")[2]
            raise ParameterError(f"assets: a picture cannot be read: {why}", "assets") from None


def with_pictures(
    model: type[Parameters], given: Mapping[str, Any], image_of: Callable[[Any], Image]
) -> tuple[dict[str, Any], dict[str, AssetData], dict[str, Image]]:
    """Parameters in which pictures (images, arrays, paths) have become their names; and the pictures, as data and as images.

    Raises `ParameterError`, `FileError`.
    """
    parameters, data, images = dict(given), {}, {}
    for name, declared in model.declarations().items():
        value = parameters.get(name)
        if not isinstance(declared.type, AssetType) or value is None or _is_name(value):
            continue
        image = image_of(Path(value) if isinstance(value, str) else value)
        key, stored = asset_of(image)
        parameters[name], images[key], data[key] = key, image, stored
    return parameters, data, images


def _is_name(value: Any) -> bool:
    return isinstance(value, Asset) or (isinstance(value, str) and not Asset.problem(value))


provide(decode_asset=decode_asset)
