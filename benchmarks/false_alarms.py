"""How often a picture of background alone has a chain: white, correlated, Poisson, compressed; one in a hundred is asked for."""

from __future__ import annotations

import io
import sys
from typing import Any

import numpy as np
from numpy.typing import NDArray
from PIL import Image as Pillow
from scipy import ndimage

from lucid_finch.core.execution.engine import detect
from lucid_finch.core.image import Image

HEIGHT, WIDTH = 480, 640


def backgrounds(random: np.random.Generator) -> dict[str, NDArray[Any]]:
    """One picture of each kind."""

    def white(sigma: float) -> NDArray[Any]:
        return np.asarray(random.normal(0, sigma, (HEIGHT, WIDTH)))

    def bytes_of(values: NDArray[Any]) -> NDArray[Any]:
        return np.clip(np.round(values), 0, 255).astype(np.uint8)

    def correlated(sigma: float, amount: float) -> NDArray[Any]:
        field = ndimage.gaussian_filter(white(1), sigma, mode="wrap")
        return 128 + amount * field / field.std()

    def coloured(power: float, amount: float) -> NDArray[Any]:
        f = np.hypot(np.fft.fftfreq(HEIGHT)[:, None], np.fft.fftfreq(WIDTH))
        f[0, 0] = 1
        field = np.real(np.fft.ifft2(np.fft.fft2(white(1)) / f**power))
        return 128 + amount * field / field.std()

    def compressed(values: NDArray[Any], quality: int) -> NDArray[Any]:
        buffer = io.BytesIO()
        Pillow.fromarray(bytes_of(values)).save(buffer, "JPEG", quality=quality)
        return np.asarray(Pillow.open(buffer))

    ramp = np.linspace(2, 120, WIDTH)[None, :] * np.ones((HEIGHT, 1))
    return {
        "white 1": bytes_of(128 + white(1)),
        "white 4": bytes_of(128 + white(4)),
        "white 20": bytes_of(128 + white(20)),
        "white 0.3 (below a grey level)": bytes_of(128.2 + white(0.3)),
        "white, float": (0.5 + white(0.02)).astype(np.float32),
        "white, 12 bit": (2000 + white(60)).astype(np.uint16),
        "correlated over 1 px": bytes_of(correlated(1, 6)),
        "correlated over 2 px": bytes_of(correlated(2, 8)),
        "correlated over 4 px": bytes_of(correlated(4, 10)),
        "1/f^0.5": bytes_of(coloured(0.5, 10)),
        "1/f": bytes_of(coloured(1.0, 15)),
        "Poisson 20": random.poisson(20, (HEIGHT, WIDTH)).astype(np.uint8),
        "Poisson, shaded": bytes_of(random.poisson(ramp)),
        "JPEG 95 of noise 4": compressed(128 + white(4), 95),
        "JPEG 85 of noise 1.5": compressed(128 + white(1.5), 85),
        "JPEG 75 of noise 2": compressed(128 + white(2), 75),
        "JPEG 50 of noise 4": compressed(128 + white(4), 50),
        "JPEG 30 of noise 6": compressed(128 + white(6), 30),
        "JPEG 20 of noise 12": compressed(128 + white(12), 20),
    }


def main() -> None:
    count = int(sys.argv[1]) if len(sys.argv) > 1 else 50
    seen: dict[str, int] = {}
    for seed in range(count):
        for name, picture in backgrounds(np.random.default_rng(seed)).items():
            found = detect("edges", Image.from_array(picture), {})
            seen[name] = seen.get(name, 0) + bool(len(found.findings))
    for name, hits in seen.items():
        print(f"{name:32} {hits:3} of {count} pictures have a chain")
    print(f"all: {sum(seen.values())} of {count * len(seen)}, {100 * sum(seen.values()) / (count * len(seen)):.2f} %")


if __name__ == "__main__":
    main()
