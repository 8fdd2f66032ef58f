"""Runs the examples of every detector and step for each pixel type, so that all kernels are compiled and kept on disk."""

from __future__ import annotations

import multiprocessing
import os
import threading
from collections.abc import Callable, Iterator
from concurrent.futures import FIRST_COMPLETED, ProcessPoolExecutor, wait
from functools import cache, partial
from multiprocessing import connection
from typing import Any

import numpy as np
from numpy.typing import NDArray

from lucid_finch.core.detectors import KINDS
from lucid_finch.core.execution import engine
from lucid_finch.core.image import Image
from lucid_finch.core.numerics.matching.correlation import correlation_sums
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
    grey = _of_every_type(flat)
    images = {name: Image.from_array(pixels) for name, pixels in grey.items()}
    for name, pixels in grey.items():
        images[f"colour, {name}"] = Image.from_array(np.repeat(pixels[..., None], 3, axis=2))
    return images


def noisy_images() -> dict[str, Image]:
    """Bars that noise hides from a narrow smoothing, in every type of grey pixels."""
    random = np.random.default_rng(1)
    x = np.mgrid[:240, :320][1]
    flat = 100 + 50 * (np.abs(x % 80 - 40) < 12) + random.normal(0, 48, x.shape)
    return {name: Image.from_array(pixels) for name, pixels in _of_every_type(np.clip(flat, 0, 255).astype(int)).items()}


def _of_every_type(flat: NDArray[Any]) -> dict[str, NDArray[Any]]:
    return {"8 bit": flat.astype(np.uint8), "float": (flat / 255).astype(np.float32), "16 bit": (flat * 200).astype(np.uint16)}


def warm_up_tasks() -> dict[str, Callable[[], None]]:
    """What has to run once, by name. The first detector comes first, alone: the others build on its kernels."""
    images = example_images()
    usual, *others = images
    first, *kinds = KINDS
    tasks: dict[str, Callable[[], None]] = {f"{first}, {usual}": partial(_detect, first, images[usual])}
    tasks["display"], tasks["judging"], tasks["small templates"] = viewing.warm_up, _judge, _correlate
    tasks |= {f"{step}, {usual}": partial(_prepare, step, images[usual]) for step in STEPS}
    tasks |= {f"{kind}, {usual}": partial(_detect, kind, images[usual]) for kind in kinds}
    for name in others:
        tasks |= {f"{kind}, {name}": partial(_detect, kind, images[name]) for kind in KINDS}
        tasks |= {f"{step}, {name}": partial(_prepare, step, images[name]) for step in STEPS}
    for name, image in noisy_images().items():
        tasks |= {f"{kind} in noise, {name}": partial(_detect, kind, image) for kind in KINDS}
    return tasks


@cache
def _tasks() -> dict[str, Callable[[], None]]:
    return warm_up_tasks()


def _end_with_parent() -> None:
    """End this process when its parent ends, however that happens: the pool alone would wait for more work for ever."""
    parent = multiprocessing.parent_process()
    if parent is not None:
        ended = parent.sentinel
        threading.Thread(target=lambda: (connection.wait([ended]), os._exit(1)), daemon=True).start()


def _run(name: str, nice: int = 0) -> None:
    """Run one task; in a process of its own, `nice` at first."""
    if nice and os.nice(0) < nice:
        os.nice(nice)
    _tasks()[name]()


def warm_up_steps(processes: int = 2, behind_a_window: bool = False) -> Iterator[tuple[float, str]]:
    """Do the work in so many processes; yields the share done and what has just been compiled.

    Behind a window that is used meanwhile the work gives way to it, and what most images need first is done last: the window
    compiles that itself. Where no process can be started, the work is done in this one.
    """
    names = list(_tasks())
    if behind_a_window:
        names.reverse()
    yield 0.0, names[0]
    before = set(multiprocessing.active_children())
    try:
        pool = ProcessPoolExecutor(processes, multiprocessing.get_context("spawn"), _end_with_parent)
    except (OSError, ImportError, NotImplementedError):
        for number, name in enumerate(names):
            _run(name)
            yield (number + 1) / len(names), name
    else:
        try:
            waiting = {pool.submit(_run, name, 10 if behind_a_window else 0): name for name in names}
            latest = names[0]
            while waiting:
                for done in wait(waiting, timeout=0.3, return_when=FIRST_COMPLETED).done:
                    done.result()
                    latest = waiting.pop(done)
                # Also where nothing is done yet, so that whoever asks can stop.
                yield 1 - len(waiting) / len(names), latest
        finally:
            pool.shutdown(wait=False, cancel_futures=True)
            for child in set(multiprocessing.active_children()) - before:
                child.terminate()
    cache_folder().mkdir(parents=True, exist_ok=True)
    complete_marker().touch()
    yield 1.0, "done"


def _judge() -> None:
    suppress(np.arange(2), np.array([[0, 1]]), np.ones(2, bool))


def _correlate() -> None:
    correlation_sums(np.ones((4, 4), np.float32), np.ones((2, 2)))


def _detect(kind: str, image: Image) -> None:
    for number, example in enumerate(KINDS[kind].examples):
        for given in (example.parameters, {**example.parameters, "region": _REGION}) if number == 0 else (example.parameters,):
            detection = engine.detect(kind, image, given, example.assets)
            for evidence in detection.evidence.values():
                _ = evidence.values
            _ = detection.near_misses["failed"], dict(detection.points)


def _prepare(step: str, image: Image) -> None:
    for example in STEPS[step].examples:
        engine.Engine().prepared(image, [{"step": step, **example}])
