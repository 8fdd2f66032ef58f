"""Trains the face model from nothing: python -m training.faces.train --out DIR [--heads N] [--seed S]."""

from __future__ import annotations

import argparse
import multiprocessing
import os
import time
from collections.abc import Callable
from concurrent.futures import ProcessPoolExecutor
from pathlib import Path
from typing import Any

import numpy as np
from numpy.typing import NDArray

from lucid_finch.core.numerics.runtime.threads import set_thread_count
from training.faces import samples
from training.faces.crowds import crowd
from training.windows.searching import Picture
from training.windows.training import Plan, train

Bytes = NDArray[np.uint8]
_AT_ONCE = 10


def _job(call: Callable[..., Any], arguments: tuple[Any, ...]) -> Any:
    set_thread_count(1)
    return call(*arguments)


def _crowd(seed: int, number: int) -> Picture:
    random = np.random.default_rng((seed, 31, number))
    pixels, faces = crowd(random, int(random.integers(5, 12)), (640, 480), (26.0, 90.0), held_out=False)
    # Windows on faces that are half hidden are neither.
    return Picture(pixels, np.array([(f.x, f.y, f.side) for f in faces]).reshape(-1, 3))


def _empty(seed: int, number: int) -> Picture:
    return Picture(samples.empty_picture(np.random.default_rng((seed, 77, number))))


def _photograph(seed: int, number: int, again: bool) -> Picture:
    path = samples.photographs(False)[number]
    return Picture(samples.photograph_again(path, np.random.default_rng((seed, 55, number))) if again else samples.read(path))


def material(seed: int, heads: int, crowds: int, empty: int) -> tuple[Bytes, NDArray[np.float32], list[Picture]]:
    """Windows with faces, what they are of, and pictures to search for others."""
    photographs = range(len(samples.photographs(False)))
    jobs: list[tuple[Callable[..., Any], tuple[Any, ...]]] = [
        (samples.face_windows, (first, min(_AT_ONCE, heads - first), seed)) for first in range(0, heads, _AT_ONCE)
    ]
    jobs += [(_crowd, (seed, number)) for number in range(crowds)] + [(_empty, (seed, number)) for number in range(empty)]
    jobs += [(_photograph, (seed, number, again)) for number in photographs for again in (False, True)]
    context = multiprocessing.get_context("spawn")
    with ProcessPoolExecutor(os.cpu_count(), mp_context=context) as pool:
        made = list(pool.map(_job, *zip(*jobs, strict=True)))
    windows = [one for one in made if isinstance(one, tuple)]
    pictures = [one for one in made if isinstance(one, Picture)]
    return np.concatenate([w for w, _ in windows]), np.concatenate([a for _, a in windows]), pictures


def main() -> None:
    parser = argparse.ArgumentParser(description=__doc__)
    parser.add_argument("--out", required=True)
    parser.add_argument("--heads", type=int, default=1500)
    parser.add_argument("--crowds", type=int, default=40)
    parser.add_argument("--empty", type=int, default=60)
    parser.add_argument("--seed", type=int, default=1)
    given = parser.parse_args()
    out = Path(given.out)
    out.mkdir(parents=True, exist_ok=True)
    begun = time.perf_counter()
    windows, about, pictures = material(given.seed, given.heads, given.crowds, given.empty)
    print(f"{len(windows)} windows with faces, {len(pictures)} pictures; {time.perf_counter() - begun:.0f} s", flush=True)
    np.savez(out / "windows.npz", windows=windows, about=about)
    set_thread_count(1)
    trees = train(windows, pictures, samples.SIDE, samples.INSIDE, Plan(), given.seed, lambda text: print(text, flush=True))
    np.savez(out / "trees.npz", feature=trees.feature, threshold=trees.threshold, leaf=trees.leaf, reject=trees.reject)
    print(f"{time.perf_counter() - begun:.0f} s in all", flush=True)


if __name__ == "__main__":
    main()
