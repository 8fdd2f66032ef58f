"""Masks as kernels take them: an array always, also where there is no mask."""

from __future__ import annotations

from typing import Any

import numpy as np
from numpy.typing import NDArray


def kernel_mask(mask: NDArray[Any] | None, height: int) -> NDArray[np.uint8]:
    """The mask (H, W) as uint8; for None an array of another height than the image, which kernels take for no mask."""
    return np.zeros((1 if height > 1 else 2, 1), np.uint8) if mask is None else np.asarray(mask, np.uint8)
