"""Runs the examples of every detector and step for each pixel type, so that all kernels are compiled and kept on disk."""

from __future__ import annotations

from collections.abc import Callable, Iterator
from functools import partial

import numpy as np

from lucid_finch.core.detectors import KINDS
from lucid_finch.core.execution import engine
from lucid_finch.core.image import Image
from lucid_finch.core.numerics.rendering import viewing
from lucid_finch.core.numerics.runtime.kernel_cache import cache_folder, complete_marker
from lucid_finch.core.numerics.suppression import suppress
from lucid_finch.core.prepare import STEPS

_REGION = {"shape": "rectangle", "x": 40.0, "y": 40.0, "width": 50.0, "height": 50.0, "angle": 5.0}


def is_warm() -> bool:
    """Whether every kernel of these sources has been compiled on this machine."""
    return complete_marker().exists()


def example_images() -> dict[str, Image]:
    """A disc and two bars in noise, so that every detector finds something, in every pixel type; the most usual first."""
    random = np.random.default_rng(1)
    y, x = np.mgrid[:80, :90]
    flat = random.integers(0, 60, (80, 90)) + 120 * ((x - 52) ** 2 + (y - 40) ** 2 < 24**2) + 70 * (np.abs(x - 12) < 3)
    grey = {"8 bit": flat.astype(np.uint8), "float": (flat / 255).astype(np.float32), "16 bit": (flat * 200).astype(np.uint16)}
    images = {name: Image.from_array(pixels) for name, pixels in grey.items()}
    for name, pixels in grey.items():
        images[f"colour, {name}"] = Image.from_array(np.repeat(pixels[..., None], 3, axis=2))
    return images


def warm_up_tasks() -> list[tuple[str, Callable[[], None]]]:
    """What has to run once, the most usual first, each with its name."""
    images = example_images()
    tasks: list[tuple[str, Callable[[], None]]] = [("display", viewing.warm_up), ("judging", _judge)]
    for name, image in images.items():
        if not image.is_colour:
            tasks += [(f"{kind}, {name}", partial(_detect, kind, image)) for kind in KINDS]
    for name, image in images.items():
        tasks += [(f"{step}, {name}", partial(_prepare, step, image)) for step in STEPS]
    return tasks


def warm_up_steps() -> Iterator[tuple[float, str]]:
    """Do the work step by step; yields the share done and what comes next."""
    tasks = warm_up_tasks()
    for number, (name, run) in enumerate(tasks):
        yield number / len(tasks), name
        run()
    cache_folder().mkdir(parents=True, exist_ok=True)
    complete_marker().touch()
    yield 1.0, "done"


def _judge() -> None:
    suppress(np.arange(2), np.array([[0, 1]]), np.ones(2, bool))


def _detect(kind: str, image: Image) -> None:
    for number, example in enumerate(KINDS[kind].examples):
        for given in (example.parameters, {**example.parameters, "region": _REGION}) if number == 0 else (example.parameters,):
            detection = engine.detect(kind, image, given)
            for evidence in detection.evidence.values():
                _ = evidence.values
            _ = detection.near_misses["failed"], dict(detection.points)


def _prepare(step: str, image: Image) -> None:
    for example in STEPS[step].examples:
        engine.Engine().prepared(image, [{"step": step, **example}])
