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
from lucid_finch.core.numerics.runtime.threads import over_bands

Floats = NDArray[np.float32]

NAMES = tuple(f"{layer}_{kind}" for layer in ("one", "two", "three", "four", "five") for kind in ("weight", "bias"))
_AT_ONCE = 8
"""Windows that go through together: their values stay in the processor's cache."""


def _shapes(side: int, channels: int) -> dict[str, tuple[int, ...]]:
    """Of the weights of each layer."""
    return {
        "one": (24, channels, 3, 3), "two": (32, 24, 3, 3), "three": (48, 32, 3, 3), "four": (24, 48 * (side // 4) ** 2),
        "five": (1, 24),
    }  # fmt: skip


def nothing(side: int, channels: int) -> dict[str, Floats]:
    """A network that says 0 of everything."""
    found = {}
    for name, shape in _shapes(side, channels).items():
        found[f"{name}_weight"], found[f"{name}_bias"] = np.zeros(shape, np.float32), np.zeros(shape[0], np.float32)
    return found


def check(arrays: Mapping[str, Any], side: int, channels: int) -> None:
    """Raises `ParameterError` where the arrays are no network for windows of `side` cells."""
    for name, shape in _shapes(side, channels).items():
        weight, bias = arrays.get(f"{name}_weight"), arrays.get(f"{name}_bias")
        sound = weight is not None and bias is not None and weight.shape == shape and bias.shape == shape[:1]
        if weight is None or bias is None or not sound or not np.isfinite(weight).all() or not np.isfinite(bias).all():
            raise ParameterError(f"the layer {name} of the network does not fit")


def _filtered(x: Floats, weight: Floats, bias: Floats) -> Floats:
    """3 x 3 filters over (n, rows, columns, channels), zero beyond the border; what is below 0 becomes 0."""
    n, rows, columns, channels = x.shape
    padded = np.zeros((n, rows + 2, columns + 2, channels), np.float32)
    padded[:, 1:-1, 1:-1] = x
    around = np.empty((n, rows, columns, 3, 3, channels), np.float32)
    for dy in range(3):
        for dx in range(3):
            around[:, :, :, dy, dx] = padded[:, dy : dy + rows, dx : dx + columns]
    total = around.reshape(-1, 9 * channels) @ weight.transpose(2, 3, 1, 0).reshape(9 * channels, -1)
    total += bias
    return np.maximum(total, np.float32(0), out=total).reshape(n, rows, columns, len(bias))


def _halved(x: Floats) -> Floats:
    """The largest of each block of 2 x 2; a last odd row or column is left out."""
    rows, columns = x.shape[1:3]
    x = x[:, : rows // 2 * 2, : columns // 2 * 2]
    lines = np.maximum(x[:, ::2], x[:, 1::2])
    return np.maximum(lines[:, :, ::2], lines[:, :, 1::2])


def outputs(windows: NDArray[np.uint8], side: int, arrays: Mapping[str, Floats]) -> NDArray[np.float64]:
    """(n,): above 0 where a window (values as `trees` take them) is more likely the object than not."""
    found = np.empty(len(windows))

    def work(first: int, last: int) -> None:
        part = windows[first:last]
        x = part.reshape(len(part), side, side, -1).astype(np.float32) / np.float32(128) - np.float32(1)
        x = _halved(_filtered(x, arrays["one_weight"], arrays["one_bias"]))
        x = _halved(_filtered(x, arrays["two_weight"], arrays["two_bias"]))
        x = _filtered(x, arrays["three_weight"], arrays["three_bias"])
        # The sums were learnt channel by channel.
        flat = x.transpose(0, 3, 1, 2).reshape(len(part), -1)
        hidden = np.maximum(flat @ arrays["four_weight"].T + arrays["four_bias"], np.float32(0))
        found[first:last] = (hidden @ arrays["five_weight"].T + arrays["five_bias"])[:, 0]

    over_bands(work, len(windows), band_height=_AT_ONCE)
    return found
