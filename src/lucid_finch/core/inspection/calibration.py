"""A calibration: how pixels of one camera's pictures become millimetres in the plane that is measured, and how sure that is."""

from __future__ import annotations

import hashlib
import json
from collections.abc import Mapping
from functools import cached_property
from typing import Annotated, Any, Literal, Self

import numpy as np
from numpy.typing import NDArray
from pydantic import BaseModel, ConfigDict, Field, ValidationError, model_validator

from lucid_finch.core.errors import ParameterError, nearest
from lucid_finch.core.numerics.targets.homographies import mapped
from lucid_finch.core.numerics.targets.lens import distorted, undistorted
from lucid_finch.core.regions import with_tuples

Floats = NDArray[np.float64]

TargetKind = Literal["chessboard", "dots", "line"]
VERSION = 1
ENDING = ".calibration.json"
"""Of the names of files."""
_HALF = 0.5
"""px: slopes are differences over twice this."""
_GRID = 17
"""Places along each side of a picture at which its scale is looked at."""


class _Part(BaseModel):
    model_config = ConfigDict(extra="forbid", strict=True, frozen=True, allow_inf_nan=False)


class Lens(_Part):
    """Radial distortion: a point at u from the centre, over the reference length, is seen at u (1 + k1 u^2 + k2 u^4)."""

    x: float
    y: float
    """px: centre of distortion."""
    reference: Annotated[float, Field(gt=0)]
    """px."""
    k1: float = 0.0
    k2: float = 0.0


class View(_Part):
    """The target in one picture: where its points were seen, and how far from where the calibration puts them."""

    image: str = ""
    column: tuple[int, ...]
    row: tuple[int, ...]
    x: tuple[float, ...]
    y: tuple[float, ...]
    dx: tuple[float, ...]
    dy: tuple[float, ...]
    """px: seen less computed."""
    used: tuple[bool, ...]
    """False for outliers, which the calibration leaves out."""

    @model_validator(mode="after")
    def _as_long(self) -> View:
        if len({len(getattr(self, name)) for name in ("column", "row", "x", "y", "dx", "dy", "used")}) != 1:
            raise ValueError("its columns differ in length")
        return self


Row3 = tuple[float, float, float]


class Calibration(_Part):
    """From pixels to millimetres. `to_plane` and `to_image` convert places; the file is described in `docs/formats.md`."""

    lucid_finch_calibration: Literal[1] = 1
    name: str = ""
    target: TargetKind
    columns: Annotated[int, Field(ge=1)]
    rows: Annotated[int, Field(ge=1)]
    """Points of the target: inner corners or dots; of a line, 2 and 1."""
    pitch: Annotated[float, Field(gt=0)]
    """mm between neighbouring points; of a line, its length."""
    width: Annotated[int, Field(ge=1)]
    height: Annotated[int, Field(ge=1)]
    """px of the pictures that it is for."""
    plane: tuple[Row3, Row3, Row3]
    """From undistorted places, from the centre of distortion over the reference length, to mm: a homography, last number 1."""
    lens: Lens
    covariance: tuple[tuple[float, ...], ...]
    """(12, 12): of the first eight numbers of `plane` and of k1, k2, x, y of the lens."""
    rms: Annotated[float, Field(ge=0)] = 0.0
    """px: root of the mean squared distance between seen and computed points."""
    focal_length: float | None = None
    """px; where the views tell."""
    tilt: float | None = None
    """deg between the line of sight and the normal of the plane; where the views tell."""
    views: tuple[View, ...] = ()

    @model_validator(mode="after")
    def _sound(self) -> Calibration:
        if len(self.covariance) != 12 or any(len(row) != 12 for row in self.covariance):
            raise ValueError("covariance: it must be 12 rows of 12 numbers")
        if self.plane[2][2] != 1.0:
            raise ValueError("plane: its last number must be 1")
        if abs(np.linalg.det(np.array(self.plane))) < 1e-12:
            raise ValueError("plane: it maps the picture to a line")
        return self

    # Places

    def to_plane(self, x: Any, y: Any) -> tuple[Any, Any]:
        """mm of places of the picture (px, numbers or arrays); NaN beyond the horizon and where the lens model ends."""
        return _to_plane(self._numbers, self.lens.reference, x, y)

    def to_image(self, x: Any, y: Any) -> tuple[Any, Any]:
        """px of places of the plane (mm); NaN for those behind the camera."""
        u = mapped(self._back, np.stack(np.broadcast_arrays(np.asarray(x, float), np.asarray(y, float)), axis=-1))
        at = self.lens.reference * distorted(u, self.lens.k1, self.lens.k2)
        return at[..., 0] + self.lens.x, at[..., 1] + self.lens.y

    def slopes(self, x: Any, y: Any) -> Floats:
        """(n, 2, 2): mm along the plane's x and y for each px along the picture's x and y, at places of the picture."""
        return _slopes(self._numbers, self.lens.reference, np.asarray(x, float), np.asarray(y, float))

    def place_covariance(self, x: Any, y: Any) -> Floats:
        """(n, 2, 2), mm²: how unsure the calibration itself makes the mm of places of the picture."""
        x, y = np.asarray(x, float), np.asarray(y, float)
        moved = [
            np.stack(_to_plane(numbers, self.lens.reference, x, y), axis=-1) for numbers in self._nearby
        ]  # fmt: skip
        found = np.zeros((*x.shape, 2, 2))
        middle = np.stack(self.to_plane(x, y), axis=-1)
        for one in moved:
            away = one - middle
            found += away[..., :, None] * away[..., None, :]
        return found

    def relative_scale_error(self, x: Any, y: Any) -> Floats:
        """(n,): one standard deviation of the scale at places of the picture, over the scale."""
        x, y = np.asarray(x, float), np.asarray(y, float)
        middle = np.abs(np.linalg.det(self.slopes(x, y)))
        total = np.zeros(x.shape)
        for numbers in self._nearby:
            total += (np.abs(np.linalg.det(_slopes(numbers, self.lens.reference, x, y))) / middle - 1.0) ** 2
        # An area's error is twice that of a length.
        return np.asarray(0.5 * np.sqrt(total))

    @cached_property
    def _numbers(self) -> Floats:
        return np.array([*np.array(self.plane).ravel()[:8], self.lens.k1, self.lens.k2, self.lens.x, self.lens.y])

    @cached_property
    def _back(self) -> Floats:
        return np.asarray(np.linalg.inv(np.array(self.plane)))

    @cached_property
    def _nearby(self) -> list[Floats]:
        """The numbers moved by one standard deviation along each axis of their covariance."""
        size, axes = np.linalg.eigh(np.array(self.covariance))
        return [
            self._numbers + np.sqrt(s) * axis for s, axis in zip(size, axes.T, strict=True) if s > 1e-16 * max(size[-1], 1e-300)
        ]

    # Scale

    @property
    def scale(self) -> float:
        """px for each mm in the middle of the picture."""
        return 1.0 / self.mm_per_px

    @cached_property
    def mm_per_px(self) -> float:
        """mm for each px in the middle of the picture."""
        return float(np.sqrt(np.abs(np.linalg.det(self.slopes(*self._middle)))))

    @cached_property
    def mm_per_px_std(self) -> float:
        """One standard deviation of `mm_per_px`."""
        return self.mm_per_px * float(self.relative_scale_error(*self._middle))

    @property
    def _middle(self) -> tuple[float, float]:
        return (self.width - 1) / 2, (self.height - 1) / 2

    @cached_property
    def scale_range(self) -> tuple[float, float]:
        """The least and the most px for each mm, anywhere in the picture and along any direction."""
        x, y = np.meshgrid(np.linspace(0, self.width - 1, _GRID), np.linspace(0, self.height - 1, _GRID))
        slopes = self.slopes(x.ravel(), y.ravel())
        strength = np.linalg.svd(slopes[np.isfinite(slopes).all(axis=(1, 2))], compute_uv=False)
        return float(1.0 / strength.max()), float(1.0 / max(strength.min(), 1e-12))

    # As a document

    @property
    def sha256(self) -> str:
        """Hash of what it does: of its numbers, without name and views."""
        core = {k: v for k, v in self.plain().items() if k not in ("name", "views")}
        return hashlib.sha256(json.dumps(core, sort_keys=True).encode()).hexdigest()

    @property
    def summary(self) -> dict[str, Any]:
        """What outputs say of it."""
        return {
            "name": self.name, "sha256": self.sha256, "target": self.target, "width": self.width, "height": self.height,
            "mm_per_px": self.mm_per_px, "mm_per_px_std": self.mm_per_px_std, "rms": self.rms,
        }  # fmt: skip

    def check_size(self, size: tuple[int, int]) -> None:
        """Raises `ParameterError` for pictures of another size than it was made for."""
        if size != (self.width, self.height):
            raise ParameterError(
                f"calibration: it is for pictures of {self.width} x {self.height} px; this one has {size[0]} x {size[1]} px",
                "calibration",
            )

    def plain(self) -> dict[str, Any]:
        return self.model_dump(mode="json")

    def text(self) -> str:
        """JSON as it is written to a file."""
        return json.dumps(self.plain(), indent=1, ensure_ascii=False, allow_nan=False) + "\n"

    def __repr__(self) -> str:
        return f"<Calibration {self.name or self.target}: {self.mm_per_px:.5g} mm/px, {self.rms:.2g} px rms>"

    __str__ = __repr__

    def __eq__(self, other: object) -> bool:
        """Whether all numbers are the same; whether it can be saved does not matter."""
        if not isinstance(other, Calibration):
            return NotImplemented
        return self is other or all(getattr(self, name) == getattr(other, name) for name in Calibration.model_fields)

    def __hash__(self) -> int:
        return hash(self.sha256)

    @classmethod
    def make(cls, given: Mapping[str, Any], what: str = "calibration") -> Self:
        """Validate. Raises `ParameterError` that names the field."""
        version = given.get("lucid_finch_calibration")
        if isinstance(version, bool) or not isinstance(version, int):
            raise ParameterError(f'{what}: is no calibration of Lucid Finch (no "lucid_finch_calibration" with a version)')
        if version > VERSION:
            raise ParameterError(f"{what}: is of version {version}, made by a newer Lucid Finch; this one reads up to {VERSION}")
        try:
            return cls.model_validate(with_tuples(given))
        except ValidationError as error:
            problem = error.errors()[0]
            where = ".".join(str(part) for part in problem["loc"])
            if problem["type"] == "extra_forbidden":
                raise ParameterError(f'{what}: unknown field "{where}"{nearest(where, cls.model_fields)}') from None
            reason = problem["msg"].removeprefix("Value error, ")
            raise ParameterError(f"{what}: {where}: {reason}" if where else f"{what}: {reason}") from None

    @classmethod
    def parse(cls, text: str | bytes, what: str = "calibration") -> Self:
        """From JSON text. Raises `ParameterError`."""
        try:
            data = json.loads(text)
        except (ValueError, RecursionError, MemoryError) as error:
            raise ParameterError(f"{what}: is not valid JSON ({error})") from None
        if not isinstance(data, dict):
            raise ParameterError(f"{what}: is no calibration of Lucid Finch (the outermost part is no object)")
        return cls.make(data, what)


def _to_plane(numbers: Floats, reference: float, x: Any, y: Any) -> tuple[Any, Any]:
    x, y = np.broadcast_arrays(np.asarray(x, float), np.asarray(y, float))
    at = np.stack([x - numbers[10], y - numbers[11]], axis=-1) / reference
    there = mapped(np.append(numbers[:8], 1.0).reshape(3, 3), undistorted(at, numbers[8], numbers[9]))
    return there[..., 0], there[..., 1]


def _slopes(numbers: Floats, reference: float, x: Floats, y: Floats) -> Floats:
    ways = []
    for dx, dy in ((_HALF, 0.0), (0.0, _HALF)):
        ahead, behind = _to_plane(numbers, reference, x + dx, y + dy), _to_plane(numbers, reference, x - dx, y - dy)
        ways.append(np.stack([(a - b) / (2 * _HALF) for a, b in zip(ahead, behind, strict=True)], axis=-1))
    return np.stack(ways, axis=-1)
