"""Teaches the trees of the face model: painted heads, and what is taken for them in pictures without."""

from __future__ import annotations

import time
from collections.abc import Callable
from pathlib import Path

import numpy as np
from numpy.typing import NDArray

from lucid_finch.core.numerics.windows.trees import Trees
from training.faces import samples
from training.faces.amount import Amount
from training.faces.crowds import crowd
from training.faces.empty import empty_picture
from training.faces.jobs import Job, done
from training.windows.searching import Picture
from training.windows.training import train

Bytes = NDArray[np.uint8]
_AT_ONCE = 10
_TIMES = 3
"""Each photograph as it is, and through other cameras."""


def _crowd(seed: int, number: int) -> Picture:
    random = np.random.default_rng((seed, 31, number))
    pixels, faces = crowd(random, int(random.integers(5, 12)), (640, 480), (26.0, 90.0), held_out=False)
    # Windows on faces that are half hidden are neither.
    return Picture(pixels, np.array([(f.x, f.y, f.side) for f in faces]).reshape(-1, 3))


def _empty(seed: int, number: int) -> Picture:
    return Picture(empty_picture(np.random.default_rng((seed, 77, number))))


def _photograph(seed: int, number: int, again: int) -> Picture:
    path = samples.photographs(False)[number]
    return Picture(
        samples.photograph_again(path, np.random.default_rng((seed, 55, number, again))) if again else samples.read(path)
    )


def material(seed: int, amount: Amount) -> tuple[Bytes, NDArray[np.float32], list[Picture]]:
    """Windows with faces, what they are of, and pictures to search for others."""
    heads = amount.heads
    jobs: list[Job] = [(samples.face_windows, (first, min(_AT_ONCE, heads - first), seed)) for first in range(0, heads, _AT_ONCE)]
    jobs += [(_crowd, (seed, number)) for number in range(amount.crowds)]
    jobs += [(_empty, (seed, number)) for number in range(amount.empty)]
    if amount.photographs:
        photographs = range(len(samples.photographs(False)))
        jobs += [(_photograph, (seed, number, again)) for number in photographs for again in range(_TIMES)]
    made = done(jobs)
    windows = [one for one in made if isinstance(one, tuple)]
    pictures = [one for one in made if isinstance(one, Picture)]
    return np.concatenate([w for w, _ in windows]), np.concatenate([a for _, a in windows]), pictures


def teach_trees(out: Path, seed: int, amount: Amount, say: Callable[[str], None]) -> None:
    """Write `windows.npz` (with faces) and `trees.npz`."""
    begun = time.perf_counter()
    windows, about, pictures = material(seed, amount)
    say(f"{len(windows)} windows with faces, {len(pictures)} pictures; {time.perf_counter() - begun:.0f} s")
    np.savez(out / "windows.npz", windows=windows, about=about)
    trees = train(windows, pictures, samples.SIDE, samples.INSIDE, amount.plan, seed, say)
    np.savez(out / "trees.npz", feature=trees.feature, threshold=trees.threshold, leaf=trees.leaf, reject=trees.reject)


def trees_in(folder: Path) -> Trees:
    z = np.load(folder / "trees.npz")
    return Trees(samples.SIDE, z["feature"], z["threshold"], z["leaf"], np.broadcast_to(z["reject"], (len(z["leaf"]),)))
