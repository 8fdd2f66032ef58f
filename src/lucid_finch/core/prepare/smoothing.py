"""Smoothing and its opposite: Gaussian, box, median and bilateral filters, and sharpening."""

from __future__ import annotations

from collections.abc import Mapping
from typing import Any, Literal

import numpy as np
from numpy.typing import NDArray

from lucid_finch.core.image import Image
from lucid_finch.core.numerics.edges.gradients import gaussian_kernel, smoothed
from lucid_finch.core.numerics.filtering import filters, median_filters
from lucid_finch.core.parameters import gathers
from lucid_finch.core.prepare.step import BorderedParameters, PreparationStep, odd, over_planes


class SmoothParameters(BorderedParameters):
    """Parameters of `smooth`."""

    method: Literal["gaussian", "box", "median", "bilateral"] = gathers(
        "gaussian",
        label="Method",
        help="gaussian (weighted by distance), box (plain mean), median (keeps edges, drops specks), bilateral (weighted by "
        "distance and by likeness: keeps edges, evens out faint texture).",
    )
    sigma: float = gathers(
        1.0,
        label="Sigma",
        unit="px",
        least=0.0,
        most=100.0,
        usual=(0.0, 10.0),
        only_with=("method", ("gaussian", "bilateral")),
        help="Standard deviation, for gaussian and bilateral (there at most 20).",
    )
    size: int = gathers(
        3,
        label="Size",
        unit="px",
        least=1,
        most=201,
        usual=(1, 31),
        odd=True,
        only_with=("method", ("box", "median")),
        help="Side of the square, odd, for box and median.",
    )
    range_pct: float = gathers(
        5.0,
        label="Likeness",
        unit="%",
        above=0.0,
        most=100.0,
        usual=(0.5, 30.0),
        only_with=("method", ("bilateral",)),
        help="For bilateral: standard deviation of the weight over differences in grey level, of the value range.",
    )


_MOST_BILATERAL = 20.0


class Smooth(PreparationStep):
    name = "smooth"
    purpose = "Reduce noise."
    Parameters = SmoothParameters
    examples = (
        {"method": "gaussian"},
        {"method": "box", "size": 5},
        {"method": "box", "size": 99},
        {"method": "median", "size": 3},
        {"method": "median", "size": 5},
        {"method": "median", "size": 7},
        {"method": "bilateral"},
    )

    def summary(self, given: Mapping[str, Any]) -> str:
        by_sigma = given["method"] in ("gaussian", "bilateral")
        return f"{given['method']} {given['sigma']:g} px" if by_sigma else f"{given['method']} {given['size']} px"

    def apply(self, image: Image, parameters: SmoothParameters) -> Image:
        method, size = parameters.method, parameters.size
        margin = int(self.reach(image, parameters))
        # Smoothing makes new grey levels, but what was rounded when it was read stays rounded: a floor of the noise.
        if not margin:
            return image if method == "median" else image.with_pixels(image.pixels.astype(np.float32))
        spread = parameters.range_pct / 100 * image.span
        weights = gaussian_kernel(parameters.sigma)
        run = {
            "gaussian": lambda plane: smoothed(plane, weights),
            "box": lambda plane: filters.box_mean(plane, size),
            "median": lambda plane: median_filters.median(plane, size),
            "bilateral": lambda plane: filters.bilateral(plane, min(parameters.sigma, _MOST_BILATERAL), spread),
        }[method]
        return over_planes(image, run, (margin, margin), parameters.border, "smooth", quantum=image.quantum)

    def reach(self, image: Image, parameters: SmoothParameters) -> float:
        if parameters.method in ("box", "median"):
            return odd(parameters.size, "smooth") // 2
        if parameters.method == "gaussian":
            return len(gaussian_kernel(parameters.sigma)) // 2
        sigma = min(parameters.sigma, _MOST_BILATERAL)
        return float(filters.bilateral_offsets(sigma)[0].max()) if sigma > 0 else 0.0

    def kernels(self, parameters: SmoothParameters) -> dict[str, NDArray[np.float64]]:
        if parameters.method == "gaussian":
            line = gaussian_kernel(parameters.sigma)
            return {"weights": np.outer(line, line)}
        if parameters.method == "box":
            return {"weights": np.full((parameters.size, parameters.size), 1.0 / parameters.size**2)}
        return {}


class SharpenParameters(BorderedParameters):
    """Parameters of `sharpen`."""

    sigma: float = gathers(
        2.0, label="Sigma", unit="px", above=0.0, most=100.0, usual=(0.3, 10.0), help="How coarse what is brought out is."
    )
    amount: float = gathers(
        1.0, label="Amount", least=0.0, most=20.0, usual=(0.0, 5.0), help="How often the detail is added; 0 changes nothing."
    )


class Sharpen(PreparationStep):
    name = "sharpen"
    purpose = "Add again what smoothing would take away; noise grows too."
    Parameters = SharpenParameters

    def apply(self, image: Image, parameters: SharpenParameters) -> Image:
        """image + amount * (image - smoothed image); values may leave the value range and are kept."""
        weights = gaussian_kernel(parameters.sigma)
        amount = np.float32(parameters.amount)
        margin = len(weights) // 2

        def run(plane: NDArray[np.generic]) -> NDArray[np.float32]:
            value = plane.astype(np.float32)
            return np.asarray(value + amount * (value - smoothed(plane, weights)), np.float32)

        return over_planes(image, run, (margin, margin), parameters.border, "sharpen", quantum=image.quantum)

    def reach(self, image: Image, parameters: SharpenParameters) -> float:
        return len(gaussian_kernel(parameters.sigma)) // 2

    def kernels(self, parameters: SharpenParameters) -> dict[str, NDArray[np.float64]]:
        line = gaussian_kernel(parameters.sigma)
        table = -parameters.amount * np.outer(line, line)
        table[len(line) // 2, len(line) // 2] += 1 + parameters.amount
        return {"weights": table}
