"""Smoothing: Gaussian, box and median."""

from __future__ import annotations

from typing import Any, Literal

import numpy as np
from numpy.typing import NDArray

from lucid_finch.core.errors import ParameterError
from lucid_finch.core.image import Image
from lucid_finch.core.numerics.gradients import gaussian_kernel, smoothed
from lucid_finch.core.parameters import gathers
from lucid_finch.core.prepare.cut import without_margin
from lucid_finch.core.prepare.step import BorderedParameters, PreparationStep


class SmoothParameters(BorderedParameters):
    """Parameters of `smooth`."""

    method: Literal["gaussian", "box", "median"] = gathers(
        "gaussian", label="Method", help="gaussian (weighted by distance), box (plain mean), median (keeps edges, drops specks)."
    )
    sigma: float = gathers(
        1.0, label="Sigma", unit="px", least=0.0, most=100.0, usual=(0.0, 10.0), help="Standard deviation, for gaussian."
    )
    size: int = gathers(
        3, label="Size", unit="px", least=1, most=201, usual=(1, 31), help="Side of the square, odd, for box and median."
    )


_MODES = {"mirror": "mirror", "replicate": "nearest", "constant": "constant", "trim": "mirror"}


class Smooth(PreparationStep):
    name = "smooth"
    purpose = "Even out noise."
    Parameters = SmoothParameters

    def apply(self, image: Image, parameters: SmoothParameters) -> Image:
        if parameters.method == "gaussian":
            weights = gaussian_kernel(parameters.sigma)
        else:
            if parameters.size % 2 == 0:
                raise ParameterError(f"smooth: size = {parameters.size} is not allowed; it must be odd", "size")
            weights = np.full(parameters.size, 1.0 / parameters.size)
        planes = [image.pixels] if not image.is_colour else [np.ascontiguousarray(image.pixels[..., c]) for c in range(3)]
        results = [_one_plane(plane, parameters, weights, image.black) for plane in planes]
        pixels = results[0] if len(results) == 1 else np.stack(results, axis=2)
        quantum = image.quantum if parameters.method == "median" else 0.0 if len(weights) > 1 else image.quantum
        # An average over invalid pixels is no value of the scene: their neighbourhood becomes invalid with them.
        mask = image.mask
        if mask is not None and len(weights) > 1:
            from scipy import ndimage

            mask = ~ndimage.maximum_filter(~mask, len(weights), mode="nearest")
        result = image.with_pixels(pixels, quantum=quantum, mask=mask)
        return without_margin(result, len(weights) // 2, "smooth") if parameters.border == "trim" else result


def _one_plane(plane: NDArray[Any], parameters: SmoothParameters, weights: NDArray[np.float64], black: float) -> NDArray[Any]:
    mode = _MODES[parameters.border]
    if parameters.method != "median" and mode == "mirror":
        return smoothed(plane, weights)
    from scipy import ndimage  # here, since loading it takes half a second

    if parameters.method == "median":
        return np.asarray(ndimage.median_filter(plane, parameters.size, mode=mode, cval=black))
    middle = plane.astype(np.float32)
    for axis in (0, 1):
        middle = ndimage.correlate1d(middle, weights, axis=axis, mode=mode, cval=black)
    return middle
