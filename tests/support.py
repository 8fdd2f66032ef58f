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
