"""Edge points that several detectors start from: measured once per image, with the maps of the steps to them."""

from __future__ import annotations

import math
from collections.abc import Callable
from dataclasses import dataclass, replace
from typing import Any

import numpy as np
from numpy.typing import NDArray

from lucid_finch.core.detection import Arithmetic, EvidenceMap
from lucid_finch.core.detector import Context
from lucid_finch.core.image import Image
from lucid_finch.core.numerics.edges import chain_significance
from lucid_finch.core.numerics.edges.background import Background, measure_background
from lucid_finch.core.numerics.edges.block_steps import BlockSteps, block_steps
from lucid_finch.core.numerics.edges.chain_normals import chain_normals
from lucid_finch.core.numerics.edges.chains import Chains, link_chains
from lucid_finch.core.numerics.edges.edge_points import EdgePoints, find_edge_points, scale_plane
from lucid_finch.core.numerics.edges.gradients import (
    Kernel1D,
    gaussian_kernel,
    gradient_planes,
    magnitude,
    operator_kernels,
    smoothed,
)
from lucid_finch.core.numerics.edges.significant_chains import SignificantChains, significant_chains
from lucid_finch.core.numerics.edges.smoothing_choice import SMOOTHINGS, SmoothingChoice, choose_smoothing
from lucid_finch.core.regions import Region, masked_pixels
from lucid_finch.core.table import Array
from lucid_finch.core.valid_region import clipped, shrunk

SLOPE = "grey/px"

_BORDER = 1.2
"""Times a wide smoothing, within which of the border of the image edge points are not to be believed."""
_CHAIN = 5
_ALONE = 4.0
"""Points of shorter chains are used only from so many times the background on."""


def _key(region: Region | None, sigma: float, operator: str) -> str:
    return f"{operator} {sigma!r} {region.model_dump_json() if region is not None else ''}"


def background_of(image: Image, region: Region | None, sigma: float, context: Context, operator: str = "gaussian") -> Background:
    """Statistics of the gradient of the image's background. Raises `Cancelled`."""
    kernels = operator_kernels(operator, sigma)

    def make() -> Background:
        masked = masked_pixels(image, region, len(kernels[0]) // 2)
        return measure_background(image.pixels, kernels, image.quantum, masked, context.cancelled)

    found: Background = context.shared(f"background {_key(region, sigma, operator)}", make)
    return found


def blocks_of(image: Image, context: Context) -> BlockSteps | None:
    """The steps that compression left between its blocks, if any."""
    found: BlockSteps | None = context.shared("blocks", lambda: block_steps(image.pixels, image.span))
    return found


def measured_points(
    image: Image, region: Region | None, sigma: float, context: Context, operator: str = "gaussian", floor: float | None = None
) -> tuple[EdgePoints, Background]:
    """Thinned points above `floor` (grey levels per px), or above the background, and the background. Raises `Cancelled`."""
    kernels = operator_kernels(operator, sigma)
    masked = masked_pixels(image, region, len(kernels[0]) // 2)
    background = background_of(image, region, sigma, context, operator)
    factor, least = (chain_significance.Z_LOW, 0.0) if floor is None else (0.0, floor)
    least = max(least, 1e-6 * image.span)

    def make() -> EdgePoints:
        found = find_edge_points(image.pixels, kernels, background, factor, least, masked, context.cancelled)
        if floor is not None:
            return found
        blocks = blocks_of(image, context)
        if blocks is not None:
            found = found.take(~blocks.of_blocks(found, sigma))
        # The mirror image beyond the border meets a pattern out of step.
        margin = _BORDER * sigma if sigma > SMOOTHINGS[0] else 0.0
        if margin:
            x, y, right, bottom = found.x, found.y, image.width - 1 - margin, image.height - 1 - margin
            found = found.take((x >= margin) & (y >= margin) & (x <= right) & (y <= bottom))
        return found

    points = context.shared(f"points {_key(region, sigma, operator)} {floor!r}", make)
    return points, background


def chains_of(
    image: Image, region: Region | None, sigma: float, context: Context, operator: str = "gaussian"
) -> SignificantChains:
    """The chains of the points above the background. Raises `Cancelled`."""

    def make() -> SignificantChains:
        points, background = measured_points(image, region, sigma, context, operator)
        return significant_chains(points, background, (image.width, image.height))

    found: SignificantChains = context.shared(f"chains {_key(region, sigma, operator)}", make)
    return found


def other_smoothings(sigma: float, given: float | None) -> list[dict[str, Any]]:
    """What to try where a smoothing shows nothing: the automatic one first, where a number was given."""
    if given is not None:
        return [{"sigma": None}, *other_smoothings(sigma, None)]
    # Of noise so heavy that a wide one was taken, more may be needed.
    every = (*SMOOTHINGS, 6.0) if sigma > SMOOTHINGS[0] else SMOOTHINGS
    return [{"sigma": other} for other in every if abs(other - sigma) > 0.2 * sigma]


def smoothing_of(image: Image, region: Region | None, sigma: float | None, context: Context) -> SmoothingChoice:
    """The smoothing that was asked for, or that suits an image (px of it). Raises `Cancelled`."""
    if sigma is not None:
        return SmoothingChoice(sigma, math.nan, math.nan)

    def make() -> SmoothingChoice:
        narrow = SMOOTHINGS[0]
        masked = masked_pixels(image, region, len(operator_kernels("gaussian", narrow)[0]) // 2)
        points, background = measured_points(image, region, narrow, context)
        blocks = blocks_of(image, context)
        return choose_smoothing(
            image.pixels, masked, image.quantum, points, background, lambda: chains_of(image, region, narrow, context),
            context.cancelled, 0.0 if blocks is None else blocks.height,
        )  # fmt: skip

    where = region.model_dump_json() if region is not None else ""
    found: SmoothingChoice = context.shared(f"smoothing {where}", make)
    return found


@dataclass(frozen=True)
class OrientedPoints:
    """Edge points with directions that are smoothed along their chains."""

    points: EdgePoints
    background: Background
    smoothing: SmoothingChoice
    chains: Chains
    nx: NDArray[np.float32]
    ny: NDArray[np.float32]
    """Unit vectors from dark to bright."""
    clear: NDArray[np.float32]
    """Strength over the scale of the background's gradient."""
    chain_of: NDArray[np.int32]
    """Number of the chain of each point."""
    along: NDArray[np.int32]
    """Place of each point along all chains, one after the other with a gap between."""
    members: NDArray[np.int32]
    """Points of its chain."""

    def listed(self, points: NDArray[Any], chain: NDArray[np.int64]) -> dict[str, Array]:
        """Columns of some points as findings list them; `chain` ascends and names the owner of each."""
        p = self.points
        return {
            "x": p.x[points],
            "y": p.y[points],
            "direction": np.degrees(np.arctan2(p.gy[points], p.gx[points])) % 360.0,
            "strength": p.strength[points],
            "chain": chain,
            "place": np.arange(len(points)) - np.searchsorted(chain, chain),
        }

    def reliable(self) -> NDArray[np.int64]:
        """The points that may vote for a shape: of weak ones only those in longer chains, since most others are noise."""
        return np.flatnonzero((self.members >= _CHAIN) | (self.clear >= _ALONE))

    @property
    def nbytes(self) -> int:
        return self.points.nbytes + 6 * self.nx.nbytes


def oriented_points(
    image: Image, region: Region | None, sigma: float | None, context: Context, floor: float | None = None
) -> OrientedPoints:
    """Thinned points above the background, or above `floor`, as `edges` has them, with the directions of their chains; without
    a `sigma`, at the smoothing that suits the image. Raises `Cancelled`."""
    smoothing = smoothing_of(image, region, sigma, context)
    sigma = smoothing.sigma
    points, background = measured_points(image, region, sigma, context, floor=floor)

    def make() -> OrientedPoints:
        clear = np.asarray(points.strength / np.maximum(points.scale, np.float32(1e-12)), np.float32)
        # Shapes do not need the significance of each chain.
        chains = link_chains(points, image.width, clear)
        found = chain_normals(chains.order, chains.start, chains.closed, points.gx, points.gy, clear)
        return OrientedPoints(
            points, background, smoothing, chains, found.nx, found.ny, clear, found.chain, found.along, found.members
        )

    where = region.model_dump_json() if region is not None else ""
    found: OrientedPoints = context.shared(f"oriented {sigma!r} {where} {floor!r}", make)
    # Shared with whoever has the same smoothing for another reason.
    return replace(found, smoothing=smoothing)


ABOVE_NOISE = 1.75
"""The strongest of some dozens of gradients of noise stays below so many times the limit of a single one."""


@dataclass(frozen=True)
class Strongest:
    """The strongest gradient near a place and the low threshold there, grey levels per px of the source."""

    measured: float
    limit: float
    x: float
    y: float
    """Where it is, in the source."""
    reach: int
    """px of the image that were searched to each side."""


def with_margin(image: Image, box: tuple[int, int, int, int], margin: int) -> tuple[Array, tuple[slice, slice]]:
    """The pixels of a rectangle with a margin, as far as the image goes, and where the rectangle lies among them."""
    left, top, right, bottom = box
    x0, y0 = max(left - margin, 0), max(top - margin, 0)
    part = image.pixels[y0 : bottom + margin, x0 : right + margin]
    return np.ascontiguousarray(part), (slice(top - y0, bottom - y0), slice(left - x0, right - x0))


class GradientMaps:
    """The plain steps from grey levels to thinned edge points, for a rectangle, from the image with a margin."""

    def __init__(
        self, image: Image, points: EdgePoints | None, background: Background, sigma: float, operator: str = "gaussian",
        low: float | None = None,
    ) -> None:  # fmt: skip
        self.image, self.points, self.background, self.sigma, self.low = image, points, background, sigma, low
        self.kernels: tuple[Kernel1D, Kernel1D] = operator_kernels(operator, sigma)

    def smoothed(self, *box: int) -> Array:
        weights = gaussian_kernel(self.sigma)
        part, inner = with_margin(self.image, box, len(weights) // 2)  # type: ignore[arg-type]
        return smoothed(part, weights)[inner]

    def gradient(self, *box: int) -> tuple[Array, Array]:
        part, inner = with_margin(self.image, box, len(self.kernels[0]) // 2)  # type: ignore[arg-type]
        gx, gy = gradient_planes(part, self.kernels)
        return gx[inner], gy[inner]

    def gradient_x(self, *box: int) -> Array:
        return self.gradient(*box)[0]

    def gradient_y(self, *box: int) -> Array:
        return self.gradient(*box)[1]

    def magnitude(self, *box: int) -> Array:
        return magnitude(*self.gradient(*box))

    def direction(self, *box: int) -> Array:
        gx, gy = self.gradient(*box)
        return np.asarray(np.degrees(np.arctan2(gy, gx)) % np.float32(360.0), np.float32)

    def limit(self, *box: int) -> Array:
        """The low threshold at every pixel."""
        left, top, right, bottom = box
        if self.low is not None:
            return np.full((bottom - top, right - left), self.low, np.float32)
        plane = scale_plane(self.background.scale, self.image.width, top, bottom)[:, left:right]
        return np.asarray(chain_significance.Z_LOW * plane, np.float32)

    def above(self, *box: int) -> Array:
        magnitude = self.magnitude(*box)
        return np.where(magnitude >= self.limit(*box), magnitude, np.float32(0))

    def thinned(self, left: int, top: int, right: int, bottom: int) -> Array:
        points = self.points
        out = np.zeros((bottom - top, right - left), np.float32)
        if points is None:
            return out
        row, column, here = points.within(left, top, right, bottom)
        out[row, column] = points.strength[here]
        return out

    def strongest_near(self, x: float, y: float, reach: int = 3) -> Strongest:
        """The strongest gradient within `reach` px of a place of the source."""
        image = self.image
        u, v = image.frame.from_source(x, y)
        column, row = (min(max(round(float(w)), 0), n - 1) for w, n in ((u, image.width), (v, image.height)))
        left, top = max(column - reach, 0), max(row - reach, 0)
        box = left, top, min(column + reach + 1, image.width), min(row + reach + 1, image.height)
        magnitude = self.magnitude(*box)
        at = np.unravel_index(int(np.argmax(magnitude)), magnitude.shape)
        place = image.frame.to_source(left + float(at[1]), top + float(at[0]))
        scale = image.frame.scale
        limit = float(self.limit(*box).max())
        return Strongest(float(magnitude.max(initial=0.0)) / scale, limit / scale, float(place[0]), float(place[1]), reach)

    def listed(self) -> list[EvidenceMap]:
        """The maps of these steps as evidence, in their order."""
        smooth, derive = (line.astype(float) for line in self.kernels)
        x, y = np.outer(smooth, derive), np.outer(derive, smooth)
        blur = gaussian_kernel(self.sigma)
        sums: dict[str, tuple[dict[str, Any], bool]] = {
            "smoothed": ({"weights": np.outer(blur, blur)}, False),
            "gradient_x": ({"x": x}, False),
            "gradient_y": ({"y": y}, False),
            "magnitude": ({"x": x, "y": y}, True),
        }
        reach = (len(blur) if self.sigma > 0 else 1) // 2, len(smooth) // 2

        def one(name: str, label: str, unit: str, kind: Any, compute: Any, help: str) -> EvidenceMap:
            arithmetic = Arithmetic("prepared", *sums[name]) if name in sums else None
            return replace(
                self.map(name, label, unit, kind, compute, help, reach[0 if name == "smoothed" else 1]), arithmetic=arithmetic
            )

        return [
            one("smoothed", "smoothed", "grey", "grey", self.smoothed, "the image after the Gaussian smoothing"),
            one("gradient_x", "gradient x", SLOPE, "signed", self.gradient_x, "positive where it brightens to the right"),
            one("gradient_y", "gradient y", SLOPE, "signed", self.gradient_y, "positive where it brightens downwards"),
            one("magnitude", "magnitude", SLOPE, "grey", self.magnitude, "length of the gradient"),
            one("direction", "direction", "deg", "cyclic", self.direction, "from dark to bright, 0 is right, 90 down"),
            one("above", "above threshold", SLOPE, "grey", self.above, "magnitude where it reaches the low threshold"),
            one("thinned", "thinned", SLOPE, "mask", self.thinned, "maxima of the magnitude along the gradient"),
        ]

    def map(self, name: str, label: str, unit: str, kind: Any, compute: Any, help: str, margin: int) -> EvidenceMap:
        """A map in the frame of the image, its valid region `margin` px within that of the image."""
        image = self.image
        region = shrunk(clipped(image.corners, image.valid_region), margin * image.frame.scale)
        return EvidenceMap(name, label, unit, kind, image.width, image.height, compute, image.frame, help, valid_region=region)

    def marked(self, name: str, label: str, help: str, chosen: Callable[[], tuple[EdgePoints, NDArray[np.bool_]]]) -> EvidenceMap:
        """A mask of chosen edge points; which ones is asked when the map is looked at, since it changes with the limits."""

        def compute(left: int, top: int, right: int, bottom: int) -> Array:
            points, kept = chosen()
            out = np.zeros((bottom - top, right - left), np.uint8)
            row, column, here = points.within(left, top, right, bottom)
            out[row, column] = kept[here]
            return out

        return replace(self.map(name, label, "", "mask", compute, help, len(self.kernels[0]) // 2), judged=True)
