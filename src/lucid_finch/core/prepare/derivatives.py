"""Derivatives of first and second order at any size, and weighted sums with coefficients of one's own."""

from __future__ import annotations

from collections.abc import Mapping
from dataclasses import replace
from typing import Annotated, Any, Literal

import numpy as np
from numpy.typing import NDArray
from pydantic import BeforeValidator

from lucid_finch.core.errors import ParameterError
from lucid_finch.core.image import LARGEST, Image
from lucid_finch.core.numerics.edges.gradients import magnitude
from lucid_finch.core.numerics.filtering import filters
from lucid_finch.core.parameter_types.structures import rows_of_numbers
from lucid_finch.core.parameters import Coefficients, gathers
from lucid_finch.core.prepare.step import BorderedParameters, PreparationStep, odd, over_planes

Line = NDArray[np.float64]

MOST_SIZE = 401


class DerivativeParameters(BorderedParameters):
    """Parameters of `derivative`."""

    of: Literal["x", "y", "magnitude", "xx", "yy", "laplacian"] = gathers(
        "magnitude",
        label="Derivative",
        help="x, y (first order, grey levels per px), magnitude (root of their squares), xx, yy (second order, grey levels "
        "per px squared), laplacian (xx + yy).",
    )
    sigma: float = gathers(
        1.0,
        label="Sigma",
        unit="px",
        above=0.0,
        most=100.0,
        usual=(0.3, 20.0),
        help="Of the Gaussian that is differentiated; not used where a size is given.",
    )
    size: int | None = gathers(
        None,
        label="Size",
        unit="px",
        least=3,
        most=MOST_SIZE,
        usual=(3, 61),
        odd=True,
        help="Side of the kernel, odd: differences of a binomial (3 is the well-known 1 2 1 by -1 0 1).",
        auto="follows from sigma",
    )


def derivative_lines(parameters: DerivativeParameters) -> tuple[Line, Line, Line]:
    """(smooth, first, second), of one odd length, to be correlated with rows or columns.

    A ramp of 1 a pixel has first derivative 1 and x squared has second derivative 2, whatever the size. Gaussian ones are
    sampled derivatives of a Gaussian (Canny 1986) brought to those moments; with a size, binomial ones: repeated [1 1] / 2,
    with one or two of them replaced by [-1 1].
    """
    if parameters.size is None:
        sigma = parameters.sigma
        radius = max(1, int(4 * sigma + 0.5))
        k = np.arange(-radius, radius + 1, dtype=float)
        smooth = np.exp(-0.5 * (k / max(sigma, 1e-3)) ** 2)
        # Narrower than half a pixel or so the samples beside the middle vanish: differences are their limit.
        smooth[[radius - 1, radius + 1]] = np.maximum(smooth[[radius - 1, radius + 1]], 1e-9)
        first = k * smooth
        second = (k * k - sigma * sigma) * smooth
        smooth = smooth / smooth.sum()
        second = second - smooth * second.sum()
    else:
        count = odd(parameters.size, "derivative") - 1

        def binomial(times: int) -> Line:
            line = np.ones(1)
            for _ in range(times):
                line = np.convolve(line, [0.5, 0.5])
            return line

        smooth = binomial(count)
        first = np.convolve(binomial(count - 1), [-1.0, 1.0])
        second = np.convolve(binomial(count - 2), [1.0, -2.0, 1.0])
        k = np.arange(-(count // 2), count // 2 + 1, dtype=float)
    return smooth, first / np.sum(first * k), second * 2 / np.sum(second * k * k)


class Derivative(PreparationStep):
    name = "derivative"
    purpose = "How fast the grey level changes: slopes and curvature, signed."
    Parameters = DerivativeParameters

    def summary(self, given: Mapping[str, Any]) -> str:
        width = f"size {given['size']}" if given.get("size") is not None else f"sigma {given['sigma']:g}"
        return f"{given['of']}, {width} px"

    def apply(self, image: Image, parameters: DerivativeParameters) -> Image:
        smooth, first, second = derivative_lines(parameters)
        margin = len(smooth) // 2

        def run(plane: NDArray[Any]) -> NDArray[np.float32]:
            if parameters.of == "x":
                return filters.separable(plane, smooth, first)
            if parameters.of == "y":
                return filters.separable(plane, first, smooth)
            if parameters.of == "magnitude":
                return magnitude(filters.separable(plane, smooth, first), filters.separable(plane, first, smooth))
            across = filters.separable(plane, smooth, second) if parameters.of != "yy" else np.float32(0)
            down = filters.separable(plane, second, smooth) if parameters.of != "xx" else np.float32(0)
            return np.asarray(across + down, np.float32)

        result = over_planes(image, run, (margin, margin), parameters.border, "derivative")
        # The value range of a slope: what a step over the whole of the image's range would give.
        most = image.span * float(np.abs(first if parameters.of in ("x", "y", "magnitude") else second).sum()) / 2
        return replace(result, black=0.0 if parameters.of == "magnitude" else -most, white=most)

    def reach(self, image: Image, parameters: DerivativeParameters) -> float:
        return len(derivative_lines(parameters)[0]) // 2

    def kernels(self, parameters: DerivativeParameters) -> dict[str, NDArray[np.float64]]:
        smooth, first, second = derivative_lines(parameters)
        tables = {"x": (smooth, first), "y": (first, smooth), "xx": (smooth, second), "yy": (second, smooth)}
        if parameters.of == "laplacian":
            return {"xx + yy": np.outer(smooth, second) + np.outer(second, smooth)}
        names = ("x", "y") if parameters.of == "magnitude" else (parameters.of,)
        return {name: np.outer(*tables[name]) for name in names}


def _rows(given: Any) -> Any:
    return rows_of_numbers(given) if isinstance(given, str) else given


class KernelParameters(BorderedParameters):
    """Parameters of `kernel`."""

    coefficients: Annotated[Coefficients, BeforeValidator(_rows)] = gathers(
        ((0.0, -1.0, 0.0), (-1.0, 4.0, -1.0), (0.0, -1.0, 0.0)),
        label="Coefficients",
        help="Applied as written, not flipped: the result is the sum of coefficient times pixel.",
    )
    divide_by: float | None = gathers(
        None, label="Divide by", help="What the sum is divided by.", auto="the sum of the coefficients, or 1 where that is 0"
    )


class Kernel(PreparationStep):
    name = "kernel"
    purpose = "A weighted sum of each pixel's neighbours, with coefficients of your own."
    Parameters = KernelParameters
    examples = ({"coefficients": ((0.0, 1.0, 0.0), (1.0, -4.0, 1.0), (0.0, 1.0, 0.0))},)

    def summary(self, given: Mapping[str, Any]) -> str:
        rows = given["coefficients"]
        return f"{len(rows)} × {len(rows[0])}"

    def apply(self, image: Image, parameters: KernelParameters) -> Image:
        table = self.kernels(parameters)["coefficients"]
        margin = (table.shape[0] // 2, table.shape[1] // 2)
        result = over_planes(image, lambda plane: filters.correlated(plane, table), margin, parameters.border, "kernel")
        low, high = (np.minimum(table, 0).sum(), np.maximum(table, 0).sum())
        ends = sorted((image.black * high + image.white * low, image.white * high + image.black * low))
        return replace(result, black=float(ends[0]), white=float(ends[1]))

    def reach(self, image: Image, parameters: KernelParameters) -> float:
        return max(self.kernels(parameters)["coefficients"].shape) // 2

    def kernels(self, parameters: KernelParameters) -> dict[str, NDArray[np.float64]]:
        """The coefficients, divided. Raises `ParameterError`."""
        rows = parameters.coefficients
        if not rows or any(len(row) != len(rows[0]) for row in rows):
            lengths = ", ".join(str(len(row)) for row in rows)
            raise ParameterError(
                f"kernel: coefficients has rows of {lengths or 'no'} numbers; all must be equally long", "coefficients"
            )
        table = np.array(rows)
        if table.shape[0] % 2 == 0 or table.shape[1] % 2 == 0:
            raise ParameterError(
                f"kernel: coefficients is {table.shape[0]} by {table.shape[1]}; both counts must be odd, so that one "
                "coefficient is the middle",
                "coefficients",
            )
        if max(table.shape) > 101:
            raise ParameterError(
                f"kernel: coefficients is {table.shape[0]} by {table.shape[1]}; at most 101 by 101", "coefficients"
            )
        if not table.any():
            raise ParameterError("kernel: coefficients are all 0, so the result would be empty", "coefficients")
        total = float(table.sum())
        balanced = abs(total) < 1e-9 * float(np.abs(table).sum())
        divide_by = parameters.divide_by if parameters.divide_by is not None else 1.0 if balanced else total
        if divide_by == 0:
            raise ParameterError("kernel: divide_by = 0 is not allowed; it must be a number other than 0", "divide_by")
        with np.errstate(over="ignore"):
            divided = table / divide_by
        if not float(np.abs(divided).max()) <= LARGEST:
            raise ParameterError(
                f"kernel: divide_by = {divide_by:g} gives coefficients above {LARGEST:g}, too large to sum up", "divide_by"
            )
        return {"coefficients": divided}
