"""Regions of interest in source coordinates: rectangle, ellipse, polygon, annulus, each with exclusions."""

from __future__ import annotations

from collections.abc import Mapping
from typing import Annotated, Any, Literal

import numpy as np
from numpy.typing import NDArray
from pydantic import BaseModel, ConfigDict, Field, Tag, TypeAdapter, ValidationError, model_validator
from pydantic import Discriminator as ChosenBy

from lucid_finch.core.errors import ParameterError
from lucid_finch.core.image import Image

Coordinates = NDArray[np.float64]
Positive = Annotated[float, Field(gt=0)]


class _Shape(BaseModel):
    model_config = ConfigDict(extra="forbid", strict=True, frozen=True, allow_inf_nan=False)
    exclude: tuple[Region, ...] = ()

    def inside(self, x: Coordinates, y: Coordinates) -> NDArray[np.bool_]:
        raise NotImplementedError

    def contains(self, x: Coordinates, y: Coordinates) -> NDArray[np.bool_]:
        """Which points lie in the region and in none of its exclusions; the outline belongs to it."""
        result = self.inside(x, y)
        for hole in self.exclude:
            result &= ~hole.contains(x, y)
        return result


class _Turned(_Shape):
    x: float
    y: float
    width: Positive
    height: Positive
    angle: float = 0.0

    def own(self, x: Coordinates, y: Coordinates) -> tuple[Coordinates, Coordinates]:
        """Coordinates along the shape's own axes, in half widths and half heights."""
        c, s = np.cos(np.radians(self.angle)), np.sin(np.radians(self.angle))
        dx, dy = x - self.x, y - self.y
        return 2 * (dx * c + dy * s) / self.width, 2 * (dy * c - dx * s) / self.height


class Rectangle(_Turned):
    """x, y is the centre; `angle` turns the width's direction."""

    shape: Literal["rectangle"] = "rectangle"

    def inside(self, x: Coordinates, y: Coordinates) -> NDArray[np.bool_]:
        u, v = self.own(x, y)
        return (np.abs(u) <= 1) & (np.abs(v) <= 1)


class Ellipse(_Turned):
    """The ellipse that fills the rectangle of the same numbers."""

    shape: Literal["ellipse"] = "ellipse"

    def inside(self, x: Coordinates, y: Coordinates) -> NDArray[np.bool_]:
        u, v = self.own(x, y)
        return np.asarray(u * u + v * v <= 1)


class Polygon(_Shape):
    """Points x, y in order; even-odd rule."""

    shape: Literal["polygon"] = "polygon"
    points: Annotated[tuple[tuple[float, float], ...], Field(min_length=3)]

    def inside(self, x: Coordinates, y: Coordinates) -> NDArray[np.bool_]:
        result = np.zeros(np.broadcast(x, y).shape, bool)
        before = self.points[-1]
        for point in self.points:
            (x1, y1), (x2, y2) = before, point
            before = point
            if y1 == y2:
                continue
            crosses = (y1 <= y) != (y2 <= y)
            result ^= crosses & (x < x1 + (y - y1) * (x2 - x1) / (y2 - y1))
        return result


class Annulus(_Shape):
    """The ring between two radii about x, y, from the direction `start` over `sweep` degrees."""

    shape: Literal["annulus"] = "annulus"
    x: float
    y: float
    inner: Annotated[float, Field(ge=0)]
    outer: Positive
    start: float = 0.0
    sweep: Annotated[float, Field(gt=0, le=360)] = 360.0

    @model_validator(mode="after")
    def _ordered(self) -> Annulus:
        if self.inner >= self.outer:
            raise ValueError("inner must be below outer")
        return self

    def inside(self, x: Coordinates, y: Coordinates) -> NDArray[np.bool_]:
        dx, dy = x - self.x, y - self.y
        r = np.hypot(dx, dy)
        turn = (np.degrees(np.arctan2(dy, dx)) - self.start) % 360.0
        return (r >= self.inner) & (r <= self.outer) & (turn <= self.sweep)


def _shape_of(value: Any) -> Any:
    return value.get("shape") if isinstance(value, dict) else getattr(value, "shape", None)


Region = Annotated[
    Annotated[Rectangle, Tag("rectangle")]
    | Annotated[Ellipse, Tag("ellipse")]
    | Annotated[Polygon, Tag("polygon")]
    | Annotated[Annulus, Tag("annulus")],
    ChosenBy(_shape_of),
]
for _model in (Rectangle, Ellipse, Polygon, Annulus):
    _model.model_rebuild()
_ADAPTER: TypeAdapter[Any] = TypeAdapter(Region)


def _around(region: Any) -> tuple[float, float, float, float]:
    """An upright box that surely holds the region: left, top, right, bottom in the source."""
    if isinstance(region, Polygon):
        x, y = zip(*region.points, strict=True)
        return min(x), min(y), max(x), max(y)
    reach = region.outer if isinstance(region, Annulus) else 0.5 * float(np.hypot(region.width, region.height))
    return region.x - reach, region.y - reach, region.x + reach, region.y + reach


def box_in(image: Image, region: Any) -> tuple[int, int, int, int]:
    """Columns and rows (left, top, right, bottom; the last not included) of an image outside which no pixel of the region
    lies; of no extent where it lies beside the image."""
    left, top, right, bottom = _around(region)
    u, v = image.frame.from_source(np.array([left, right, right, left]), np.array([top, top, bottom, bottom]))
    columns = np.clip([np.floor(u.min()), np.ceil(u.max()) + 1], 0, image.width).astype(int)
    rows = np.clip([np.floor(v.min()), np.ceil(v.max()) + 1], 0, image.height).astype(int)
    return int(columns[0]), int(rows[0]), int(columns[1]), int(rows[1])


def lies_outside(region: Any, size: tuple[int, int]) -> bool:
    """Whether a region surely holds nothing of an image of that width and height."""
    left, top, right, bottom = _around(region)
    return right < -0.5 or bottom < -0.5 or left > size[0] - 0.5 or top > size[1] - 0.5


def region_of(given: Any) -> Any:
    """A region from plain data, as recipes have it. Raises `ParameterError`."""
    try:
        return _ADAPTER.validate_python(with_tuples(given))
    except ValidationError as error:
        problem = error.errors()[0]
        where = ".".join(str(part) for part in problem["loc"])
        raise ParameterError(f"region: {where}: {problem['msg'].removeprefix('Value error, ')}", "region") from None


def with_tuples(value: Any) -> Any:
    """Plain data with tuples instead of lists at any depth, as strict models want them; whole numbers stay."""
    if isinstance(value, (list, tuple)):
        return tuple(with_tuples(v) for v in value)
    return {k: with_tuples(v) for k, v in value.items()} if isinstance(value, Mapping) else value


def masked_pixels(image: Image, region: _Shape | None, margin: int) -> NDArray[np.uint8] | None:
    """1 where no feature may lie: outside the region, or within `margin` px of an invalid pixel. None if nowhere."""
    masked: NDArray[np.bool_] | None = None
    if image.mask is not None:
        from scipy import ndimage  # here, since loading it takes half a second

        masked = ndimage.maximum_filter(~image.mask, 2 * margin + 1, mode="nearest")
    if region is not None:
        x = np.arange(image.width, dtype=float)[None, :]
        y = np.arange(image.height, dtype=float)[:, None]
        outside = ~region.contains(*image.frame.to_source(x, y))
        masked = outside if masked is None else masked | outside
    return None if masked is None else masked.astype(np.uint8)
