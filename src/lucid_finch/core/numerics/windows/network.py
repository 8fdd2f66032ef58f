"""A small network that looks again at what the trees found: three layers of 3 x 3 filters, two of sums; run with NumPy.

After LeCun, Bottou, Bengio and Haffner, "Gradient-based learning applied to document recognition", Proceedings of the IEEE
86(11), 1998.
"""

from __future__ import annotations

from collections.abc import Mapping
from typing import Any

import numpy as np
from numpy.typing import NDArray

from lucid_finch.core.errors import ParameterError

Floats = NDArray[np.float32]

NAMES = tuple(f"{layer}_{kind}" for layer in ("one", "two", "three", "four", "five") for kind in ("weight", "bias"))
_AT_ONCE = 64


def check(arrays: Mapping[str, Any], side: int, channels: int) -> None:
    """Raises `ParameterError` where the arrays are no network for windows of `side` cells."""
    shapes = {
        "one": (24, channels, 3, 3), "two": (32, 24, 3, 3), "three": (48, 32, 3, 3), "four": (24, 48 * (side // 4) ** 2),
        "five": (1, 24),
    }  # fmt: skip
    for name, shape in shapes.items():
        weight, bias = arrays.get(f"{name}_weight"), arrays.get(f"{name}_bias")
        sound = weight is not None and bias is not None and weight.shape == shape and bias.shape == shape[:1]
        if weight is None or bias is None or not sound or not np.isfinite(weight).all() or not np.isfinite(bias).all():
            raise ParameterError(f"the layer {name} of the network does not fit")


def _filtered(x: Floats, weight: Floats, bias: Floats) -> Floats:
    """3 x 3 filters over (n, rows, columns, channels), zero beyond the border; what is below 0 becomes 0."""
    n, rows, columns, channels = x.shape
    padded = np.zeros((n, rows + 2, columns + 2, channels), np.float32)
    padded[:, 1:-1, 1:-1] = x
    total = np.zeros((n * rows * columns, len(bias)), np.float32)
    for dy in range(3):
        for dx in range(3):
            part = padded[:, dy : dy + rows, dx : dx + columns].reshape(-1, channels)
            total += part @ weight[:, :, dy, dx].T
    return np.maximum(total + bias, np.float32(0)).reshape(n, rows, columns, len(bias))


def _halved(x: Floats) -> Floats:
    """The largest of each block of 2 x 2; a last odd row or column is left out."""
    n, rows, columns, channels = x.shape
    blocks = x[:, : rows // 2 * 2, : columns // 2 * 2].reshape(n, rows // 2, 2, columns // 2, 2, channels)
    return np.asarray(blocks.max(axis=(2, 4)))


def outputs(windows: NDArray[np.uint8], side: int, arrays: Mapping[str, Floats]) -> NDArray[np.float64]:
    """(n,): above 0 where a window (values as `trees` take them) is more likely the object than not."""
    found = np.empty(len(windows))
    for first in range(0, len(windows), _AT_ONCE):
        part = windows[first : first + _AT_ONCE]
        x = part.reshape(len(part), side, side, -1).astype(np.float32) / np.float32(128) - np.float32(1)
        x = _halved(_filtered(x, arrays["one_weight"], arrays["one_bias"]))
        x = _halved(_filtered(x, arrays["two_weight"], arrays["two_bias"]))
        x = _filtered(x, arrays["three_weight"], arrays["three_bias"])
        # The sums were learnt channel by channel.
        flat = x.transpose(0, 3, 1, 2).reshape(len(part), -1)
        hidden = np.maximum(flat @ arrays["four_weight"].T + arrays["four_bias"], np.float32(0))
        found[first : first + _AT_ONCE] = (hidden @ arrays["five_weight"].T + arrays["five_bias"])[:, 0]
    return found
