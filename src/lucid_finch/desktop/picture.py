"""A map made ready for looking: half-size levels, display range and colours, drawn into one reused buffer."""

from __future__ import annotations

from dataclasses import dataclass, field, replace
from typing import Any

import numpy as np
from numpy.typing import NDArray

from lucid_finch.core.detection import EvidenceMap, MapKind
from lucid_finch.core.display import colour_table, display_range
from lucid_finch.core.image import Frame, Image
from lucid_finch.core.numerics.viewing import halved, sample

SURROUND = 0xFF23272A


def _packed(colours: NDArray[np.uint8]) -> NDArray[np.uint32]:
    c = colours.astype(np.uint32)
    return np.uint32(0xFF000000) | (c[:, 0] << np.uint32(16)) | (c[:, 1] << np.uint32(8)) | c[:, 2]


@dataclass(frozen=True)
class Picture:
    """What a pane shows. Made in the worker (`of_image`, `of_map`), drawn in the window's thread."""

    name: str
    title: str
    unit: str
    kind: MapKind
    low: float
    high: float
    frame: Frame
    levels: tuple[NDArray[Any], ...] = field(repr=False)

    @staticmethod
    def of_image(image: Image, name: str, title: str) -> Picture:
        if image.pixels.dtype == np.uint8:
            low, high = 0.0, 255.0
        else:
            low, high = display_range(image.pixels if not image.is_colour else image.pixels[..., 1], "grey")
        return Picture(name, title, "grey", "grey", low, high, image.frame, _levels(image.pixels))

    @staticmethod
    def of_map(evidence: EvidenceMap) -> Picture:
        values = evidence.values
        low, high = display_range(values, evidence.kind)
        return Picture(
            evidence.name, evidence.label, evidence.unit, evidence.kind, low, high, evidence.frame, _levels(values, evidence.kind)
        )

    @property
    def width(self) -> int:
        return int(self.levels[0].shape[1])

    @property
    def height(self) -> int:
        return int(self.levels[0].shape[0])

    @property
    def box(self) -> tuple[float, float, float, float]:
        """Outer edges left, top, right, bottom in the source frame."""
        x, y = self.frame.to_source(np.array([-0.5, self.width - 0.5]), np.array([-0.5, self.height - 0.5]))
        return float(x[0]), float(y[0]), float(x[1]), float(y[1])

    def with_range(self, low: float, high: float) -> Picture:
        return replace(self, low=low, high=high)

    def value_at(self, x: float, y: float) -> Any:
        """Value of the pixel at a place of the source, or None outside."""
        u, v = self.frame.from_source(x, y)
        column, row = int(np.floor(u + 0.5)), int(np.floor(v + 0.5))
        if not (0 <= column < self.width and 0 <= row < self.height):
            return None
        value = self.levels[0][row, column]
        return value if len(value) > 1 else value[0]

    def draw(self, left: float, top: float, scale: float, out: NDArray[np.uint32]) -> None:
        """Into `out`: its top left corner shows the source place (left, top), `scale` view pixels a source pixel."""
        step = 1.0 / (scale * self.frame.scale)
        number = 0
        # Of a mask no pixel may be passed over; of the rest, every second one at most.
        most = 1.001 if self.kind == "mask" else 2.0
        while step >= most and number + 1 < len(self.levels):
            step, number = step / 2, number + 1
        level = self.levels[number]
        u, v = self.frame.from_source(left, top)
        shrink = 2.0**number
        factor = 255.999 / (self.high - self.low) if self.high > self.low else 0.0
        table = _packed(
            np.repeat(np.arange(256, dtype=np.uint8)[:, None], 3, 1) if self.kind == "grey" else colour_table(self.kind)
        )
        sample(
            level, (u + 0.5) / shrink, (v + 0.5) / shrink, step, np.float32(self.low), np.float32(factor), table,
            np.uint32(SURROUND), out,
        )  # fmt: skip

    def thumbnail(self, width: int, height: int) -> NDArray[np.uint32]:
        """The whole picture in that many pixels, centred."""
        out = np.empty((height, width), np.uint32)
        scale = min(width / self.width, height / self.height) / self.frame.scale
        left, top, right, bottom = self.box
        self.draw((left + right) / 2 - width / scale / 2, (top + bottom) / 2 - height / scale / 2, scale, out)
        return out


def _strongest(level: NDArray[Any]) -> NDArray[Any]:
    """At half the size, the largest of four pixels: thin marks must not fade away."""
    height, width = level.shape[:2]
    even = np.pad(level, ((0, height % 2), (0, width % 2), (0, 0)))
    rows = np.maximum(even[::2], even[1::2])
    return np.ascontiguousarray(np.maximum(rows[:, ::2], rows[:, 1::2]))


def _levels(values: NDArray[Any], kind: MapKind = "grey") -> tuple[NDArray[Any], ...]:
    first = values if values.ndim == 3 else values[..., None]
    if first.dtype not in (np.uint8, np.uint16, np.float32):
        first = first.astype(np.float32)
    levels = [np.require(first, requirements=["C", "W"])]
    while max(levels[-1].shape[:2]) > 128:
        levels.append(_strongest(levels[-1]) if kind == "mask" else halved(levels[-1]))
    return tuple(levels)
