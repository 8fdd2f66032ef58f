"""What several tests need: rendered steps, noise of many kinds, a test-only detector."""

from __future__ import annotations

import io
from typing import Any

import numpy as np
from numpy.typing import NDArray
from PIL import Image as Pillow
from scipy import ndimage, special

from lucid_finch.core.detector import Candidates, Detector, DetectorParameters, Task
from lucid_finch.core.image import Image
from lucid_finch.core.inspection.calibrating import calibrate
from lucid_finch.core.inspection.calibration import Calibration
from lucid_finch.core.judging import Exclusions
from lucid_finch.core.parameters import gathers, judges
from lucid_finch.core.table import Column


def step(angle: float, offset: float, contrast: float, blur: float, noise: float, size: int = 121, seed: int = 0) -> NDArray[Any]:
    """A straight step, its gradient towards `angle` degrees, `offset` px from the centre of a square picture."""
    y, x = np.mgrid[0:size, 0:size].astype(float) - (size - 1) / 2
    distance = x * np.cos(np.radians(angle)) + y * np.sin(np.radians(angle)) - offset
    picture = 100 + contrast * 0.5 * (1 + special.erf(distance / blur / np.sqrt(2)))
    return np.asarray(picture + np.random.default_rng(seed).normal(0, noise, picture.shape), np.float32)


def disc(radius: float, contrast: float = 60.0, noise: float = 0.0, size: int = 160, blur: float = 0.9) -> Image:
    """A bright disc in the middle of a square picture, 8 bit."""
    y, x = np.mgrid[0:size, 0:size].astype(float) - (size - 1) / 2
    picture = 100 + contrast * 0.5 * (1 + special.erf((radius - np.hypot(x, y)) / blur / np.sqrt(2)))
    picture += np.random.default_rng(1).normal(0, noise, picture.shape) if noise else 0
    return Image.from_array(np.clip(np.round(picture), 0, 255).astype(np.uint8))


def noise_pictures(seed: int, height: int = 256, width: int = 320) -> dict[str, NDArray[Any]]:
    """Backgrounds with nothing in them: white, correlated, Poisson, compressed."""
    random = np.random.default_rng(seed)

    def white(sigma: float) -> NDArray[Any]:
        return np.asarray(random.normal(0, sigma, (height, width)))

    def bytes_of(values: NDArray[Any]) -> NDArray[Any]:
        return np.clip(np.round(values), 0, 255).astype(np.uint8)

    def correlated(sigma: float, amount: float) -> NDArray[Any]:
        field = ndimage.gaussian_filter(white(1), sigma, mode="wrap")
        return 128 + amount * field / field.std()

    def compressed(values: NDArray[Any], quality: int) -> NDArray[Any]:
        buffer = io.BytesIO()
        Pillow.fromarray(bytes_of(values)).save(buffer, "JPEG", quality=quality)
        return np.asarray(Pillow.open(buffer))

    ramp = np.linspace(5, 110, width)[None, :] * np.ones((height, 1))
    return {
        "white": bytes_of(128 + white(4)),
        "faint": bytes_of(128 + white(0.3)),
        "float": (0.5 + white(0.02)).astype(np.float32),
        "correlated": bytes_of(correlated(2.0, 8.0)),
        "poisson": bytes_of(random.poisson(ramp)),
        "jpeg 90": compressed(128 + white(4), 90),
        "jpeg 50": compressed(128 + white(4), 50),
        "deep": (2000 + white(60)).astype(np.uint16),
    }


class DotsParameters(DetectorParameters):
    """Parameters of the test-only detector."""

    step: int = gathers(1, label="Step", help="Look at every so many rows and columns.", least=1, unit="px")
    level_min: float = judges(200.0, label="Brightness, min", help="Darker ones are no dots.", criterion="level", unit="grey")
    spacing: float = judges(5.0, label="Spacing, min", help="Of two closer dots the brighter one is kept.", unit="px", least=0.0)


class Dots(Detector):
    """Bright pixels: the smallest detector there can be, to prove that one module is enough."""

    kind = "dots"
    purpose = "Pixels brighter than a limit."
    Parameters = DotsParameters
    columns = (Column("level", "brightness", "grey", "grey level of the pixel", 0),)

    def gather(self, task: Task) -> Any:
        step = task.parameters.step
        y, x = np.nonzero(task.image.pixels[::step, ::step] > 100)
        return x * step, y * step

    def form(self, task: Task) -> Candidates:
        x, y = task.gathered
        level = task.image.pixels[y, x].astype(float)
        far = np.hypot(x[:, None] - x, y[:, None] - y)
        a, b = np.nonzero(np.triu(np.ones_like(far), 1))
        exclusions = Exclusions("spacing", np.stack([a, b], axis=1), -far[a, b], -task.parameters.spacing)
        columns = {"x": x.astype(float), "y": y.astype(float), "level": level, "score": level / 255}
        return Candidates(columns, level, 3.0, exclusions)


def line_calibration(mm_per_px: float = 0.1, width: int = 160, height: int = 160) -> Calibration:
    """Scale alone, from a line of 100 px."""
    blank = Image.from_array(np.zeros((height, width), np.uint8))
    return calibrate([blank], "line", pitch=100 * mm_per_px, line=((10.0, 20.0), (110.0, 20.0)), name="line")


def leaning_camera(tilt: float = 30.0, bend: float = -0.08, width: int = 640, height: int = 480) -> Calibration:
    """A camera whose numbers are known: a plane that leans by `tilt` degrees, 0.1 mm to the pixel in the middle."""
    focal, far = 1.2 * width, 0.12 * width
    c, s = np.cos(np.radians(tilt)), np.sin(np.radians(tilt))
    # From the plane (mm) to places over the focal length: x, y cos, and farther away with y sin.
    forward = np.array([[1.0, 0.0, 0.0], [0.0, c, 0.0], [0.0, s, far]])
    back = np.linalg.inv(forward)
    back /= back[2, 2]
    return Calibration.make(
        {
            "lucid_finch_calibration": 1, "name": "leaning", "target": "dots", "columns": 5, "rows": 5, "pitch": 5.0,
            "width": width, "height": height, "plane": back.tolist(), "covariance": np.zeros((12, 12)).tolist(),
            "lens": {"x": (width - 1) / 2, "y": (height - 1) / 2, "reference": focal, "k1": bend, "k2": 0.0},
        }
    )  # fmt: skip


def seen_by(calibration: Calibration, value: Any, blur: float = 0.8, noise: float = 1.5, seed: int = 0) -> Image:
    """What a calibrated camera sees of a plane whose grey level at x, y (mm) is value(x, y)."""
    fine = 4
    y, x = (np.mgrid[: calibration.height * fine, : calibration.width * fine] + 0.5) / fine - 0.5
    levels = np.asarray(value(*calibration.to_plane(x, y)), float)
    smooth = ndimage.gaussian_filter(levels, blur * fine)
    picture = smooth.reshape(calibration.height, fine, calibration.width, fine).mean(axis=(1, 3))
    picture += np.random.default_rng(seed).normal(0, noise, picture.shape)
    return Image.from_array(np.clip(np.round(picture), 0, 255).astype(np.uint8), name="plane.png")


def chessboard(x: Any, y: Any, columns: int = 8, rows: int = 6, pitch: float = 5.0) -> NDArray[Any]:
    """A board of squares around the middle of the plane, dark on bright."""
    u, v = x / pitch + columns / 2, y / pitch + rows / 2
    inside = (u >= 0) & (u < columns) & (v >= 0) & (v < rows)
    return np.where(inside & ((np.floor(u) + np.floor(v)) % 2 == 0), 45.0, 190.0)


def dot_grid(x: Any, y: Any, columns: int = 8, rows: int = 6, pitch: float = 5.0, radius: float = 1.2) -> NDArray[Any]:
    """Dark dots around the middle of the plane."""
    u, v = x / pitch + (columns - 1) / 2, y / pitch + (rows - 1) / 2
    inside = (np.round(u) >= 0) & (np.round(u) < columns) & (np.round(v) >= 0) & (np.round(v) < rows)
    return np.where(inside & (np.hypot(u - np.round(u), v - np.round(v)) * pitch < radius), 40.0, 185.0)
