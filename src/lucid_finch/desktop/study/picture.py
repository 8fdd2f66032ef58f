"""A map made ready for looking: half-size levels, display range and colours, drawn into one reused buffer."""

from __future__ import annotations

import math
from collections.abc import Callable
from dataclasses import dataclass, field, replace
from typing import Any

import numpy as np
from numpy.typing import NDArray

from lucid_finch.core.detection import Arithmetic, Correlation, EvidenceMap, MapKind
from lucid_finch.core.image import Frame, Image
from lucid_finch.core.numerics.rendering.viewing import halved, sample_linear, sample_values, view
from lucid_finch.core.viewing.display import colour_table, display_range

SURROUND = 0xFF23272A

WHOLE = 6_000_000
"""Maps of up to so many pixels are computed whole; of larger ones an overview, and what is in sight."""

_OVERVIEW = 400_000

Box = tuple[int, int, int, int]
"""Left, top, right, bottom in pixels of a map."""


def _packed(colours: NDArray[np.uint8]) -> NDArray[np.uint32]:
    c = colours.astype(np.uint32)
    return np.uint32(0xFF000000) | (c[:, 0] << np.uint32(16)) | (c[:, 1] << np.uint32(8)) | c[:, 2]


def packed_table(kind: MapKind) -> NDArray[np.uint32]:
    """256 colours 0xFFRRGGBB from the low to the high end of the display range."""
    return _packed(colour_table(kind))


@dataclass
class Detail:
    """A rectangle of a map at one level, computed because it came into sight."""

    number: int
    """Level: shrunk by 2 ** number."""
    box: Box
    values: NDArray[Any]


@dataclass(eq=False)
class Picture:
    """What a pane shows. Made in the worker (`of_image`, `of_map`), drawn in the window's thread."""

    name: str
    title: str
    unit: str
    kind: MapKind
    low: float
    high: float
    frame: Frame
    width: int
    height: int
    levels: tuple[NDArray[Any], ...] = field(repr=False)
    first: int = 0
    """The first level is shrunk by 2 ** first: what is finer is computed when it comes into sight."""
    evidence: EvidenceMap | None = field(default=None, repr=False)
    """Where `first` is not 0: what finer levels are computed from."""
    axes: tuple[NDArray[Any], NDArray[Any], str, str] | None = field(default=None, repr=False)
    """Values and labels of both axes where the map is no image."""
    arithmetic: Arithmetic | Correlation | None = field(default=None, repr=False)
    valid_region: tuple[tuple[float, float], ...] | None = None
    """As `EvidenceMap` has them."""
    details: list[Detail] = field(default_factory=list, repr=False)
    """What has been computed finer, the newest first."""

    @staticmethod
    def of_image(image: Image, name: str, title: str, arithmetic: Arithmetic | None = None) -> Picture:
        if image.pixels.dtype == np.uint8:
            low, high = 0.0, 255.0
        else:
            low, high = display_range(image.pixels if not image.is_colour else image.pixels[..., 1], "grey")
        kind: MapKind = "signed" if image.black < 0 < image.white and image.black == -image.white else "grey"
        if kind == "signed":
            low, high = display_range(image.pixels if not image.is_colour else image.pixels[..., 1], kind)
        return Picture(
            name, title, "grey", kind, low, high, image.frame, image.width, image.height, _levels(image.pixels),
            arithmetic=arithmetic, valid_region=image.valid_region,
        )  # fmt: skip

    def renamed(self, name: str, title: str) -> Picture:
        """The same pixels under another name."""
        return replace(self, name=name, title=title, details=[])

    @staticmethod
    def of_map(evidence: EvidenceMap) -> Picture:
        first = 0
        pixels = evidence.width * evidence.height
        while pixels > (WHOLE if first == 0 else _OVERVIEW * 4**first):
            first += 1
        values = evidence.values if first == 0 else evidence.reduced(2**first)
        low, high = display_range(values, evidence.kind)
        return Picture(
            evidence.name, evidence.label, evidence.unit, evidence.kind, low, high, evidence.frame, evidence.width,
            evidence.height, _levels(values, evidence.kind), first, evidence if first else None, evidence.axes,
            evidence.arithmetic, evidence.valid_region,
        )  # fmt: skip

    @property
    def box(self) -> tuple[float, float, float, float]:
        """The upright box around it: left, top, right, bottom in the source frame."""
        right, bottom = self.width - 0.5, self.height - 0.5
        x, y = self.frame.to_source(np.array([-0.5, right, right, -0.5]), np.array([-0.5, -0.5, bottom, bottom]))
        return float(x.min()), float(y.min()), float(x.max()), float(y.max())

    def value_at(self, x: float, y: float) -> Any:
        """Value of the pixel at a place of the source, or None outside."""
        u, v = self.frame.from_source(x, y)
        column, row = int(np.floor(u + 0.5)), int(np.floor(v + 0.5))
        if not (0 <= column < self.width and 0 <= row < self.height):
            return None
        value = self.pixels(column, row, column + 1, row + 1)[0, 0]
        return value if len(value) > 1 else value[0]

    def pixels(self, left: int, top: int, right: int, bottom: int) -> NDArray[Any]:
        """The values themselves of a small rectangle, (rows, columns, channels)."""
        if self.first == 0:
            return self.levels[0][top:bottom, left:right]
        detail = self._detail(0, (left, top, right, bottom))
        if detail is not None:
            x0, y0 = detail.box[:2]
            return detail.values[top - y0 : bottom - y0, left - x0 : right - x0]
        assert self.evidence is not None
        return _with_channel(self.evidence.part(left, top, right, bottom))

    def sampled(self, x: NDArray[Any], y: NDArray[Any]) -> NDArray[np.float64]:
        """(n, channels) values at places of the source, linear between pixels; NaN outside."""
        u, v = self.frame.from_source(np.asarray(x, float), np.asarray(y, float))
        shrink = 2.0**self.first
        level = self.levels[0]
        values = np.empty((u.size, level.shape[2]))
        sample_linear(level, (u.ravel() + 0.5) / shrink - 0.5, (v.ravel() + 0.5) / shrink - 0.5, values)
        return values

    # Drawing

    def _level_for(self, scale: float) -> int:
        """The level to draw from at so many view pixels a source pixel."""
        step = 1.0 / (scale * self.frame.scale)
        # Of a mask no pixel may be passed over; of the rest, every second one at most.
        most = 1.001 if self.kind == "mask" else 2.0
        number = 0
        while step >= most and number + 1 < self.first + len(self.levels):
            step, number = step / 2, number + 1
        return number

    def _source_of(
        self, left: float, top: float, scale: float, size: tuple[int, int]
    ) -> tuple[NDArray[Any], NDArray[np.float64]]:
        """The array to draw from, and the map (2, 3) from places in the view to its pixels."""
        number = self._level_for(scale)
        u, v = self.frame.from_source(left, top)
        (right_x, down_x), (right_y, down_y) = self._steps(scale)

        def places(shrink: float, x0: float, y0: float) -> NDArray[np.float64]:
            x, y = (u + 0.5) / shrink - x0, (v + 0.5) / shrink - y0
            return np.array([[right_x / shrink, down_x / shrink, x], [right_y / shrink, down_y / shrink, y]])

        if number < self.first:
            needed = self._in_sight(left, top, scale, size)
            detail = self._detail(number, needed) if needed is not None else None
            if detail is not None:
                shrink = 2.0**number
                return detail.values, places(shrink, detail.box[0] / shrink, detail.box[1] / shrink)
            number = self.first
        return self.levels[number - self.first], places(2.0**number, 0.0, 0.0)

    def _steps(self, scale: float) -> tuple[tuple[float, float], tuple[float, float]]:
        """Pixels of the map a view pixel to the right and down: (x, x), (y, y)."""
        origin = np.array(self.frame.from_source(0.0, 0.0))
        right = (np.array(self.frame.from_source(1.0 / scale, 0.0)) - origin).tolist()
        down = (np.array(self.frame.from_source(0.0, 1.0 / scale)) - origin).tolist()
        if self.frame.is_upright:
            step = 1.0 / (scale * self.frame.scale)
            return (step, 0.0), (0.0, step)
        return (right[0], down[0]), (right[1], down[1])

    def _in_sight(self, left: float, top: float, scale: float, size: tuple[int, int]) -> Box | None:
        """The pixels that a view of `size` (rows, columns) shows."""
        x = np.array([left, left + size[1] / scale, left, left + size[1] / scale])
        y = np.array([top, top, top + size[0] / scale, top + size[0] / scale])
        u, v = self.frame.from_source(x, y)
        x0, y0 = max(math.floor(u.min()), 0), max(math.floor(v.min()), 0)
        x1, y1 = min(math.ceil(u.max()) + 1, self.width), min(math.ceil(v.max()) + 1, self.height)
        return (x0, y0, x1, y1) if x0 < x1 and y0 < y1 else None

    def wanted(self, left: float, top: float, scale: float, size: tuple[int, int]) -> tuple[int, Box] | None:
        """Level and rectangle that should be computed for this view, with a margin; None if all is there."""
        number = self._level_for(scale)
        sight = self._in_sight(left, top, scale, size)
        if number >= self.first or sight is None:
            return None
        if self._detail(number, sight) is not None:
            return None
        block = 2**number
        # A margin, so that not every step of a pan asks again; smaller where it costs more.
        dx, dy = (sight[2] - sight[0]) // (4 + 4 * number), (sight[3] - sight[1]) // (4 + 4 * number)
        x0, y0 = max(sight[0] - dx, 0) // block * block, max(sight[1] - dy, 0) // block * block
        return number, (x0, y0, min(sight[2] + dx, self.width), min(sight[3] + dy, self.height))

    def _detail(self, number: int, box: Box) -> Detail | None:
        return next((d for d in self.details if d.number == number and _covers(d.box, box)), None)

    def add_detail(self, detail: Detail) -> None:
        """Keep what was computed; the oldest goes, so that memory stays bounded."""
        self.details[:] = [detail, *self.details[:3]]

    def parts(self) -> tuple[Picture, ...]:
        """The pictures that this one is drawn from."""
        return (self,)

    def compute(self, number: int, box: Box, cancelled: Callable[[], bool] | None = None) -> Detail:
        """What `wanted` asked for; slow, and called in a worker. Raises `Cancelled`."""
        assert self.evidence is not None
        return Detail(number, box, _with_channel(self.evidence.reduced(2**number, box, cancelled)))

    def draw(self, left: float, top: float, scale: float, out: NDArray[np.uint32]) -> None:
        """Into `out`: its top left corner shows the source place (left, top), `scale` view pixels a source pixel."""
        if self.kind == "mask" and scale * self.frame.scale < 1.0 and self.axes is None:
            # Thin marks must not fade away, nor have steps: drawn twice as large and averaged.
            fine = np.empty((2 * out.shape[0], 2 * out.shape[1]), np.uint32)
            self._draw(left, top, 2 * scale, fine)
            rows = _averaged(fine[::2], fine[1::2])
            np.copyto(out, _brightened(_averaged(rows[:, ::2], rows[:, 1::2])))
            return
        self._draw(left, top, scale, out)

    def _draw(self, left: float, top: float, scale: float, out: NDArray[np.uint32]) -> None:
        level, places = self._source_of(left, top, scale, out.shape)
        factor = 255.999 / (self.high - self.low) if self.high > self.low else 0.0
        table = packed_table(self.kind)
        view(level, places, self.low, factor, table, SURROUND, out)

    def draw_values(self, left: float, top: float, scale: float, out: NDArray[np.float32]) -> None:
        """As `draw`, but the values; NaN outside."""
        level, places = self._source_of(left, top, scale, out.shape)
        sample_values(level, places, out)

    def thumbnail(self, width: int, height: int) -> NDArray[np.uint32]:
        """The whole picture, as it lies itself, in that many pixels, centred."""
        out = np.empty((height, width), np.uint32)
        scale = min(width / self.width, height / self.height)
        upright = replace(self, frame=Frame(), details=[]) if not self.frame.is_upright else self
        left, top, right, bottom = upright.box
        scale /= upright.frame.scale
        upright.draw((left + right) / 2 - width / scale / 2, (top + bottom) / 2 - height / scale / 2, scale, out)
        return out

    def coarse(self) -> NDArray[Any]:
        """The values at a size that a histogram can be made of at once."""
        level = next((one for one in self.levels if one.size <= 400_000), self.levels[-1])
        return level[..., 0] if level.shape[2] == 1 else level.mean(axis=2)


@dataclass(eq=False)
class Difference(Picture):
    """One map less another, pixel by pixel of the source; nothing is computed but what is in sight."""

    minuend: Picture | None = None
    subtrahend: Picture | None = None

    @staticmethod
    def of(a: Picture, b: Picture) -> Difference:
        unit = a.unit if a.unit == b.unit else ""
        found = Difference(
            f"{a.name} - {b.name}", f"{a.title} − {b.title}", unit, "signed", -1.0, 1.0, a.frame, a.width, a.height, a.levels,
            minuend=a, subtrahend=b,
        )  # fmt: skip
        found.low, found.high = display_range(found.coarse(), "signed")
        return found

    def parts(self) -> tuple[Picture, ...]:
        assert self.minuend is not None and self.subtrahend is not None
        return self.minuend, self.subtrahend

    def value_at(self, x: float, y: float) -> Any:
        values = [part.value_at(x, y) for part in self.parts()]
        if any(v is None for v in values):
            return None
        return float(np.mean(values[0], dtype=float) - np.mean(values[1], dtype=float))

    def pixels(self, left: int, top: int, right: int, bottom: int) -> NDArray[Any]:
        rows = []
        for row in range(top, bottom):
            places = [self.frame.to_source(float(column), float(row)) for column in range(left, right)]
            rows.append([v if (v := self.value_at(x, y)) is not None else np.nan for x, y in places])
        return np.array(rows, np.float32).reshape(bottom - top, right - left, 1)

    def sampled(self, x: NDArray[Any], y: NDArray[Any]) -> NDArray[np.float64]:
        a, b = (part.sampled(x, y).mean(axis=1, keepdims=True) for part in self.parts())
        return np.asarray(a - b)

    def wanted(self, left: float, top: float, scale: float, size: tuple[int, int]) -> tuple[int, Box] | None:
        return None

    def draw_values(self, left: float, top: float, scale: float, out: NDArray[np.float32]) -> None:
        other = np.empty_like(out)
        a, b = self.parts()
        a.draw_values(left, top, scale, out)
        b.draw_values(left, top, scale, other)
        out -= other

    def draw(self, left: float, top: float, scale: float, out: NDArray[np.uint32]) -> None:
        values = np.empty(out.shape, np.float32)
        self.draw_values(left, top, scale, values)
        factor = np.float32(255.999 / (self.high - self.low) if self.high > self.low else 0.0)
        outside = np.isnan(values)
        index = np.clip((np.nan_to_num(values) - np.float32(self.low)) * factor, 0, 255).astype(np.uint8)
        out[:] = packed_table("signed")[index]
        out[outside] = SURROUND

    def coarse(self) -> NDArray[Any]:
        size = min(1.0, 500 / max(self.width, self.height))
        values = np.empty((max(1, int(self.height * size)), max(1, int(self.width * size))), np.float32)
        left, top, _, _ = self.box
        self.draw_values(left, top, size / self.frame.scale, values)
        return values[np.isfinite(values)][:, None] if np.isfinite(values).any() else np.zeros((1, 1))


def _covers(outer: Box, inner: Box) -> bool:
    return outer[0] <= inner[0] and outer[1] <= inner[1] and outer[2] >= inner[2] and outer[3] >= inner[3]


def _with_channel(values: NDArray[Any]) -> NDArray[Any]:
    """(H, W, C), in a layout that the kernels know."""
    first = values if values.ndim == 3 else values[..., None]
    if first.dtype not in (np.uint8, np.uint16, np.float32):
        first = first.astype(np.float32)
    return np.require(first, requirements=["C", "W"])


def _averaged(a: NDArray[np.uint32], b: NDArray[np.uint32]) -> NDArray[np.uint32]:
    """The mean of packed colours, channel by channel."""
    return (a & b) + (((a ^ b) & np.uint32(0xFEFEFEFE)) >> np.uint32(1))


def _brightened(out: NDArray[np.uint32]) -> NDArray[np.uint32]:
    """Greys twice as bright, so that a line narrower than a pixel is seen; colours around the map stay."""
    grey = out & np.uint32(0xFF)
    brighter = np.minimum(grey + grey, np.uint32(0xFF)) * np.uint32(0x010101) | np.uint32(0xFF000000)
    return np.where(out & np.uint32(0xFFFFFF) == grey * np.uint32(0x010101), brighter, out)


def _strongest(level: NDArray[Any]) -> NDArray[Any]:
    """At half the size, the largest of four pixels: thin marks must not fade away."""
    height, width = level.shape[:2]
    even = np.pad(level, ((0, height % 2), (0, width % 2), (0, 0)))
    rows = np.maximum(even[::2], even[1::2])
    return np.ascontiguousarray(np.maximum(rows[:, ::2], rows[:, 1::2]))


def _levels(values: NDArray[Any], kind: MapKind = "grey") -> tuple[NDArray[Any], ...]:
    levels = [_with_channel(values)]
    while max(levels[-1].shape[:2]) > 128:
        levels.append(_strongest(levels[-1]) if kind == "mask" else halved(levels[-1]))
    return tuple(levels)
