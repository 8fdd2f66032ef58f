"""The image that everything works on: pixels with their value range, validity mask and place in the source image."""

from __future__ import annotations

import itertools
from dataclasses import dataclass, field, replace
from typing import Any

import numpy as np
from numpy.typing import ArrayLike, NDArray

from lucid_finch.core.errors import ParameterError, within_memory
from lucid_finch.core.outer import provided

Pixels = NDArray[Any]
Mask = NDArray[np.bool_]

LUMA = (0.299, 0.587, 0.114)
"""Rec. 601 weights of red, green and blue."""


@dataclass(frozen=True)
class Frame:
    """Affine map from an image's own pixel frame to that of the source image: source = matrix @ (x, y) + offset."""

    matrix: tuple[tuple[float, float], tuple[float, float]] = ((1.0, 0.0), (0.0, 1.0))
    offset: tuple[float, float] = (0.0, 0.0)

    @staticmethod
    def shifted(x: float, y: float) -> Frame:
        """The frame of a crop whose pixel (0, 0) is pixel (x, y) of the image it was cut from."""
        return Frame(offset=(float(x), float(y)))

    @property
    def is_identity(self) -> bool:
        return self == Frame()

    @property
    def scale(self) -> float:
        """Source pixels per pixel (square root of the area ratio)."""
        (a, b), (c, d) = self.matrix
        return float(abs(a * d - b * c) ** 0.5)

    @property
    def is_similarity(self) -> bool:
        """Whether the map keeps shapes: no axis is stretched against the other."""
        (a, b), (c, d) = self.matrix
        return abs(a - d) + abs(b + c) <= 1e-9 * (abs(a) + abs(b) + abs(c) + abs(d))

    @property
    def is_upright(self) -> bool:
        """Whether rows and columns run along the source's, equally stretched."""
        (a, b), (c, d) = self.matrix
        return b == 0 and c == 0 and a == d and a > 0

    @property
    def turn(self) -> float:
        """Degrees from this frame's x axis to the source's, growing from +x towards +y."""
        return float(np.degrees(np.arctan2(self.matrix[1][0], self.matrix[0][0])))

    def angle_to_source(self, angle: Any) -> Any:
        """Degrees in the source of lines at `angle` (degrees) in this frame, in [-180, 180]."""
        (a, b), (c, d) = self.matrix
        x, y = np.cos(np.radians(angle)), np.sin(np.radians(angle))
        return np.degrees(np.arctan2(c * x + d * y, a * x + b * y))

    def errors_to_source(self, x: Any, y: Any) -> tuple[Any, Any]:
        """Standard deviations along x and y in the source of places with independent ones in this frame."""
        (a, b), (c, d) = self.matrix
        return np.hypot(a * x, b * y), np.hypot(c * x, d * y)

    def gradient_direction(self, direction: Any) -> Any:
        """Degrees in [0, 360) in the source of gradients that point along `direction` (degrees) in this frame."""
        if self.is_similarity:
            return (direction + self.turn) % 360.0
        # A gradient is no arrow between two points: it goes over by the inverse transpose.
        (a, b), (c, d) = self.matrix
        x, y = np.cos(np.radians(direction)), np.sin(np.radians(direction))
        return np.degrees(np.arctan2((a * y - b * x) * np.sign(a * d - b * c), (d * x - c * y) * np.sign(a * d - b * c))) % 360.0

    def after(self, inner: Frame) -> Frame:
        """The map that applies `inner` first and then this one."""
        outer, other = np.array(self.matrix), np.array(inner.matrix)
        product = outer @ other
        offset = outer @ np.array(inner.offset) + np.array(self.offset)
        rows = ((float(product[0, 0]), float(product[0, 1])), (float(product[1, 0]), float(product[1, 1])))
        return Frame(rows, (float(offset[0]), float(offset[1])))

    def to_source(self, x: Any, y: Any) -> tuple[Any, Any]:
        """Source coordinates of points given in this frame (numbers or arrays)."""
        (a, b), (c, d) = self.matrix
        return a * x + b * y + self.offset[0], c * x + d * y + self.offset[1]

    def from_source(self, x: Any, y: Any) -> tuple[Any, Any]:
        """Coordinates in this frame of points given in the source."""
        (a, b), (c, d) = self.matrix
        determinant = a * d - b * c
        u, v = x - self.offset[0], y - self.offset[1]
        return (d * u - b * v) / determinant, (a * v - c * u) / determinant


_identities = itertools.count()


@dataclass(frozen=True, eq=False, repr=False)
class Image:
    """Pixels (H, W) or (H, W, 3) RGB, uint8, uint16 or float32, C-contiguous. Make one with `Image.from_array`."""

    pixels: Pixels
    black: float
    """Lower end of the value range, in grey levels as loaded."""
    white: float
    quantum: float = 0.0
    """Step between neighbouring grey levels; 0 where values are continuous."""
    mask: Mask | None = None
    """True where a pixel is valid; None if all are."""
    frame: Frame = field(default_factory=Frame)
    source_size: tuple[int, int] = (0, 0)
    """Width and height of the source image, px."""
    name: str = ""
    notes: tuple[str, ...] = ()
    """What was assumed on loading, in words for the user."""
    page: int = 0
    """Which of the pictures in its file this is, from 0."""
    pages: int = 1
    valid_region: tuple[tuple[float, float], ...] | None = None
    """Corners, in the source, of the pixels whose filter support lies inside the image; None: all pixels."""
    identity: int = field(default_factory=_identities.__next__, init=False, repr=False, compare=False)
    """Different for every image of this process: what results of it are kept by."""

    @staticmethod
    def from_array(
        array: ArrayLike,
        *,
        significant_bits: int | None = None,
        value_range: tuple[float, float] | None = None,
        mask: ArrayLike | None = None,
        name: str = "",
        notes: tuple[str, ...] = (),
        page: int = 0,
        pages: int = 1,
        copy: bool = True,
    ) -> Image:
        """An image from an array (H, W), (H, W, 1 or 3) RGB, or with an alpha channel (2 or 4).

        uint8 and uint16 are kept, other integers become one of them if they fit, floats become float32. NaN, infinite and
        fully transparent pixels are marked as invalid, and so is what a `numpy.ma` array masks. `value_range` (black, white)
        is [0, 1] for floats unless given; for floats far outside it is the range of the data, which a note says.
        The array is copied; with `copy` False it may be used as it is and must not be changed afterwards. Raises
        `ParameterError`.
        """
        with within_memory("image"):
            return Image._made(array, significant_bits, value_range, mask, name, notes, page, pages, copy)

    @staticmethod
    def _made(
        array: ArrayLike,
        significant_bits: int | None,
        value_range: tuple[float, float] | None,
        mask: ArrayLike | None,
        name: str,
        notes: tuple[str, ...],
        page: int,
        pages: int,
        copy: bool,
    ) -> Image:
        given_array = np.asarray(array)
        pixels, valid = _split_alpha(given_array)
        if isinstance(array, np.ma.MaskedArray):
            hidden = np.ma.getmaskarray(array)
            shown: Mask = np.logical_not(hidden if hidden.ndim == 2 else hidden.any(axis=2))
            valid = shown if valid is None else valid & shown
        if mask is not None:
            given = np.asarray(mask)
            if given.shape != pixels.shape[:2]:
                raise ParameterError(f"mask: has shape {given.shape}, the image {pixels.shape[:2]}", "mask")
            valid = np.array(given, bool) if valid is None else valid & given.astype(bool)
        pixels, finite = _normalised(pixels)
        if copy and np.may_share_memory(pixels, given_array):
            pixels = pixels.copy()
        if finite is not None:
            valid = finite if valid is None else valid & finite
        if valid is not None and valid.all():
            valid = None
        added: list[str] = []
        quantum = 0.0 if pixels.dtype == np.float32 else 1.0
        if value_range is not None:
            black, white = (float(v) for v in value_range)
            if not (np.isfinite([black, white]).all() and black < white):
                raise ParameterError(f"value_range: {value_range} is not allowed; black must be below white", "value_range")
        elif pixels.dtype == np.float32:
            black, white, quantum = _float_range(pixels, valid, added)
        else:
            bits = _significant_bits(pixels, significant_bits, added)
            black, white = 0.0, float(2**bits - 1)
        size = (pixels.shape[1], pixels.shape[0])
        return Image(pixels, black, white, quantum, valid, Frame(), size, name, (*notes, *added), page, pages)

    @property
    def width(self) -> int:
        return int(self.pixels.shape[1])

    @property
    def height(self) -> int:
        return int(self.pixels.shape[0])

    @property
    def is_colour(self) -> bool:
        return self.pixels.ndim == 3

    @property
    def span(self) -> float:
        """Width of the value range, grey levels."""
        return self.white - self.black

    @property
    def nbytes(self) -> int:
        return int(self.pixels.nbytes + (self.mask.nbytes if self.mask is not None else 0))

    def __repr__(self) -> str:
        called = f' "{self.name}"' if self.name else ""
        colour = "RGB" if self.is_colour else "grey"
        return f"<Image{called} {self.width} x {self.height} {colour} {self.pixels.dtype}, {self.black:g} to {self.white:g}>"

    def _repr_png_(self) -> bytes:
        return bytes(provided("image_png")(self))

    def __setstate__(self, state: dict[str, Any]) -> None:
        # Another process counts its images for itself.
        self.__dict__.update(state, identity=next(_identities))

    @property
    def corners(self) -> tuple[tuple[float, float], ...]:
        """Outer corners in the source frame, in order around the image."""
        right, bottom = self.width - 0.5, self.height - 0.5
        places = ((-0.5, -0.5), (right, -0.5), (right, bottom), (-0.5, bottom))
        return tuple((float(x), float(y)) for x, y in (self.frame.to_source(*place) for place in places))

    def with_pixels(self, pixels: Pixels, **changes: Any) -> Image:
        """The same image with other pixels (of the same frame unless `frame` is given)."""
        return replace(self, pixels=np.ascontiguousarray(pixels), **changes)


LARGEST = 1e15
"""Largest absolute value of a pixel: gradients are squared and summed in single precision."""


def _split_alpha(pixels: Pixels) -> tuple[Pixels, Mask | None]:
    if pixels.ndim == 3 and pixels.shape[2] in (1, 2, 4):
        valid = None if pixels.shape[2] == 1 else pixels[..., -1] > 0
        colours = pixels[..., :3] if pixels.shape[2] == 4 else pixels[..., 0]
        return colours, valid
    if pixels.ndim == 2 or (pixels.ndim == 3 and pixels.shape[2] == 3):
        return pixels, None
    raise ParameterError(
        f"image: an array of shape {pixels.shape} is not an image; allowed are (height, width) and (height, width, 1 to 4)",
        "image",
    )


def _normalised(pixels: Pixels) -> tuple[Pixels, Mask | None]:
    """C-contiguous, writable, known dtype: every other layout would compile all kernels again."""
    if pixels.size == 0:
        raise ParameterError(f"image: has no pixels (shape {pixels.shape})", "image")
    finite: Mask | None = None
    if pixels.dtype == np.bool_:
        pixels = pixels.astype(np.uint8) * 255
    elif pixels.dtype.kind in "iu" and pixels.dtype not in (np.uint8, np.uint16):
        low, high = int(pixels.min()), int(pixels.max())
        if low < 0 or high > 65535:
            raise ParameterError(f"image: whole numbers from {low} to {high} do not fit 16 bits; pass them as float32", "image")
        pixels = pixels.astype(np.uint8 if high < 256 and pixels.dtype.itemsize == 1 else np.uint16)
    elif pixels.dtype.kind == "f":
        with np.errstate(over="ignore"):
            pixels = pixels.astype(np.float32, copy=False)
        with np.errstate(invalid="ignore"):
            total = pixels.sum(dtype=np.float64)
        if not np.isfinite(total):
            every = np.isfinite(pixels)
            finite = every if pixels.ndim == 2 else np.asarray(every.all(axis=2))
            good = pixels[finite]
            if not good.size:
                raise ParameterError("image: holds no finite pixel", "image")
            # A neutral value, so that nothing that is not finite spreads; the mask keeps features away.
            where = finite if pixels.ndim == 2 else finite[..., None]
            pixels = np.where(where, pixels, np.float32(np.median(good)))
        most = float(np.abs(pixels).max())
        if most > LARGEST:
            raise ParameterError(
                f"image: values up to {most:.3g}; squares of more than {LARGEST:g} do not fit: scale them", "image"
            )
    elif pixels.dtype.kind not in "iu":
        raise ParameterError(f"image: pixels of type {pixels.dtype} are not numbers that Lucid Finch can read", "image")
    return np.require(pixels, requirements=["C", "W", "A"]), finite


def _float_range(pixels: Pixels, valid: Mask | None, notes: list[str]) -> tuple[float, float, float]:
    """Black, white and quantum of floats without a stated range: 0 and 1, or the range of data far outside."""
    good = pixels if valid is None or not valid.any() else pixels[valid]
    low, high = float(good.min()), float(good.max())
    if low >= -1.0 and high <= 4.0:
        return 0.0, 1.0, 0.0
    notes.append(f"floats from {low:g} to {high:g} are taken with this value range; value_range sets another")
    # Whole numbers keep the step between two levels.
    whole = bool((good[:: max(1, len(good) // 1000)] % 1 == 0).all())
    return low, high if high > low else low + 1.0, 1.0 if whole else 0.0


def _significant_bits(pixels: Pixels, given: int | None, notes: list[str]) -> int:
    most = 8 * pixels.dtype.itemsize
    if given is not None:
        if isinstance(given, bool) or not isinstance(given, int) or not 1 <= given <= most:
            raise ParameterError(f"significant_bits: {given} is not allowed; a whole number from 1 to {most}", "significant_bits")
        return given
    if most == 8:
        return 8
    needed = int(pixels.max()).bit_length()
    bits = next(b for b in (8, 10, 12, 14, 16) if needed <= b)
    if bits < 16:
        notes.append(f"{bits} significant bits, guessed from the largest value")
    return bits
