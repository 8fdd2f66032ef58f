"""Calls every kernel once for each pixel type, so that all are compiled and kept on disk."""

from __future__ import annotations

from collections.abc import Iterator
from typing import Any

import numpy as np

from lucid_finch.core.image import Image
from lucid_finch.core.numerics.runtime.kernel_cache import cache_folder, complete_marker

# A step for each pixel loop.
_STEPS: tuple[tuple[str, dict[str, Any]], ...] = (
    ("smooth", {"method": "gaussian", "sigma": 1.0}),
    ("smooth", {"method": "box", "size": 5}),
    ("smooth", {"method": "box", "size": 99}),
    ("smooth", {"method": "median", "size": 3}),
    ("smooth", {"method": "median", "size": 5}),
    ("smooth", {"method": "median", "size": 7}),
    ("smooth", {"method": "bilateral", "sigma": 1.0}),
    ("derivative", {"of": "x", "sigma": 1.0}),
    ("kernel", {"coefficients": ((0.0, 1.0, 0.0), (1.0, -4.0, 1.0), (0.0, 1.0, 0.0))}),
    ("resize", {"factor": 0.7}),
    ("rotate", {"angle": 10.0}),
    ("flatten", {}),
)


# What the defaults of the detectors do not reach.
_DETECTIONS: tuple[tuple[str, dict[str, Any]], ...] = (
    ("contours", {"binarize": "otsu", "area": (0.0, None), "simplify": 1.0}),
    ("contours", {"binarize": "hysteresis", "points": "ends"}),
    ("contours", {"binarize": "local"}),
)


def is_warm() -> bool:
    """Whether every kernel of these sources has been compiled on this machine."""
    return complete_marker().exists()


def warm_up_steps() -> Iterator[tuple[float, str]]:
    """Do the work step by step; yields the share done and what comes next."""
    from lucid_finch.core import engine
    from lucid_finch.core.numerics.suppression import compete

    random = np.random.default_rng(1)
    y, x = np.mgrid[:80, :90]
    # A disc and a bar in noise, so that circles and lines have something to lay through.
    flat = random.integers(0, 60, (80, 90)) + 120 * ((x - 52) ** 2 + (y - 40) ** 2 < 24**2) + 70 * (np.abs(x - 12) < 3)
    pictures: dict[str, Image] = {
        "8 bit": Image.from_array(flat.astype(np.uint8)),
        "16 bit": Image.from_array(flat.astype(np.uint16) * 200),
        "float": Image.from_array(flat.astype(np.float32) / 255),
        "colour": Image.from_array(np.repeat(flat[..., None], 3, axis=2).astype(np.uint8)),
        "colour, 16 bit": Image.from_array(np.repeat(flat[..., None], 3, axis=2).astype(np.uint16) * 200),
        "colour, float": Image.from_array(np.repeat(flat[..., None], 3, axis=2).astype(np.float32) / 255),
    }
    for number, (name, picture) in enumerate(pictures.items()):
        yield number / (len(pictures) + 1), f"pixel loops, {name}"
        for kind in engine.kinds():
            for parameters in (
                {},
                {"region": {"shape": "rectangle", "x": 40.0, "y": 40.0, "width": 50.0, "height": 50.0, "angle": 5.0}},
            ):
                detection = engine.detect(kind, picture, parameters)
                for evidence in detection.evidence.values():
                    _ = evidence.values
        for kind, given in _DETECTIONS:
            engine.detect(kind, picture, given)
        for step, parameters in _STEPS:
            engine.Engine().prepared(picture, [{"step": step, **parameters}])
    yield len(pictures) / (len(pictures) + 1), "competition"
    compete(np.arange(2), np.array([[0, 1]]), np.ones(2, bool))
    _warm_up_viewing()
    cache_folder().mkdir(parents=True, exist_ok=True)
    complete_marker().touch()
    yield 1.0, "done"


def _warm_up_viewing() -> None:
    """The loops of the window: levels, views and strokes."""
    from lucid_finch.core.numerics.rendering.viewing import (
        halved,
        load,
        sample,
        sample_linear,
        sample_turned,
        sample_values,
        strokes,
        tint,
    )

    load()
    out = np.zeros((4, 4), np.uint32)
    table = np.zeros(256, np.uint32)
    places = np.array([[1.0, 0.0, 0.0], [0.0, 1.0, 0.0]])
    for dtype in (np.uint8, np.uint16, np.float32):
        for channels in (1, 3):
            level = halved(np.zeros((4, 4, channels), dtype))
            sample(level, 0.0, 0.0, 1.0, np.float32(0), np.float32(1), table, np.uint32(0), out)
            sample_turned(level, places, np.float32(0), np.float32(1), table, np.uint32(0), out)
            sample_linear(level, np.zeros(2), np.zeros(2), np.zeros((2, channels)))
            sample_values(level, places, np.zeros((4, 4), np.float32))
    cover = np.zeros((4, 4), np.uint8)
    points, start, chosen, closed = np.zeros((2, 2), np.float32), np.array([0, 2]), np.array([0]), np.zeros(1, bool)
    strokes(points, 0.0, 0.0, 1.0, start, chosen, closed, 0.0, 1.0, 2.0, cover, cover.copy())
    tint(cover, 1, 1, 1, 1.0, out)
