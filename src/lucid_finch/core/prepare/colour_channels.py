"""From colour to one channel: sums, colour channels, hue and saturation, CIE L*a*b*."""

from __future__ import annotations

from dataclasses import replace
from typing import Any, Literal

import numpy as np
from numpy.typing import NDArray

from lucid_finch.core.errors import ParameterError
from lucid_finch.core.image import LUMA, Image
from lucid_finch.core.numerics.filtering.channels import mix

Take = Literal[
    "luma", "luma709", "mean", "red", "green", "blue", "hue", "saturation", "value", "lightness", "a", "b", "weights"
]  # fmt: skip

_WEIGHTS = {"luma": LUMA, "luma709": (0.2126, 0.7152, 0.0722), "mean": (1 / 3, 1 / 3, 1 / 3)}
_PLAIN = {"red": 0, "green": 1, "blue": 2}
# Linear sRGB to CIE XYZ over the D65 white (IEC 61966-2-1).
_XYZ = np.array([[0.4124564, 0.3575761, 0.1804375], [0.2126729, 0.7151522, 0.0721750], [0.0193339, 0.1191920, 0.9503041]])


def take_channel(image: Image, take: Take, weights: tuple[float, float, float] | None = None) -> Image:
    """One channel of a colour image; a grey image stays as it is. Raises `ParameterError` if weights are needed."""
    if take == "weights" and weights is None:
        raise ParameterError("channel: weights is needed with take = weights; it must be 3 numbers", "weights")
    if not image.is_colour:
        return image
    if take in _PLAIN:
        return image.with_pixels(image.pixels[..., _PLAIN[take]])
    if take == "weights" and weights is not None:
        return image.with_pixels(mix(image.pixels, weights))
    if take in _WEIGHTS:
        return image.with_pixels(mix(image.pixels, _WEIGHTS[take]))
    return _converted(image, take)


def _converted(image: Image, take: str) -> Image:
    share = (image.pixels.astype(np.float32) - np.float32(image.black)) / np.float32(image.span)
    if take in ("hue", "saturation", "value"):
        top, bottom = share.max(axis=2), share.min(axis=2)
        spread = top - bottom
        if take == "value":
            return image.with_pixels(top * np.float32(image.span) + np.float32(image.black))
        if take == "saturation":
            values = np.divide(spread, top, out=np.zeros_like(top), where=top > 0)
            return replace(image.with_pixels(values), black=0.0, white=1.0, quantum=0.0)
        return replace(image.with_pixels(_hue(share, top, spread)), black=0.0, white=360.0, quantum=0.0)
    lightness, a, b = _lab(np.clip(share, 0, 1))
    values, black, white = {"lightness": (lightness, 0.0, 100.0), "a": (a, -128.0, 127.0), "b": (b, -128.0, 127.0)}[take]
    return replace(image.with_pixels(values.astype(np.float32)), black=black, white=white, quantum=0.0)


def _hue(share: NDArray[Any], top: NDArray[Any], spread: NDArray[Any]) -> NDArray[np.float32]:
    """Degrees in [0, 360), 0 where there is no colour."""
    red, green, blue = share[..., 0], share[..., 1], share[..., 2]
    safe = np.where(spread > 0, spread, 1)
    sixths = np.where(
        top == red, (green - blue) / safe, np.where(top == green, (blue - red) / safe + 2, (red - green) / safe + 4)
    )
    return np.asarray(np.where(spread > 0, 60.0 * sixths % 360.0, 0.0), np.float32)


def _lab(share: NDArray[Any]) -> tuple[NDArray[Any], NDArray[Any], NDArray[Any]]:
    """CIE L*a*b* (CIE 15:2004) of sRGB shares, D65."""
    linear = np.where(share <= 0.04045, share / 12.92, ((share + 0.055) / 1.055) ** 2.4)
    xyz = linear @ _XYZ.T / _XYZ.sum(axis=1)
    f = np.where(xyz > (6 / 29) ** 3, np.cbrt(xyz), xyz * (29 / 6) ** 2 / 3 + 4 / 29)
    return 116 * f[..., 1] - 16, 500 * (f[..., 0] - f[..., 1]), 200 * (f[..., 1] - f[..., 2])
