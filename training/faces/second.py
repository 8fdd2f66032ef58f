"""Teaches the second look of the face model, a small network: windows as the trees find them, with faces and without."""

from __future__ import annotations

import subprocess
import time
from collections.abc import Callable
from pathlib import Path

import numpy as np
from numpy.typing import NDArray

from lucid_finch.core.numerics.windows import detecting, network
from lucid_finch.core.numerics.windows.channels import CELL, COUNT, planes
from lucid_finch.core.numerics.windows.pyramid import Octaves
from lucid_finch.core.numerics.windows.trees import Trees
from training.faces import samples
from training.faces.amount import Amount
from training.faces.empty import empty_picture
from training.faces.finish import crowd_of
from training.faces.jobs import Job, done
from training.faces.trees import trees_in
from training.windows.searching import Picture, clear_of

Bytes = NDArray[np.uint8]
_FEW = 180
"""After so many trees, and after all, candidates are taken: the first are many, the last are the hardest."""
_PER_PICTURE = 110
_AT_ONCE = 10


def others(picture: Picture, trees: Trees, seed: int) -> Bytes:
    """Windows around what the trees take for faces where there are none."""
    random = np.random.default_rng(seed)
    height, width = picture.pixels.shape[:2]
    octaves = Octaves(planes(picture.pixels))
    at = detecting.scales((width, height), trees.side * CELL, samples.INSIDE, (24.0, float("inf")))
    found = []
    for count in (_FEW, len(trees)):
        groups = detecting.joined(detecting.find(octaves, trees.first(count), samples.INSIDE, at, 0.0))
        places = zip(groups.x, groups.y, groups.side, strict=True)
        clear = [bool(clear_of(picture.objects, np.array([x]), np.array([y]), float(side))[0]) for x, y, side in places]
        rows = np.flatnonzero(np.array(clear, bool))
        rows = random.permutation(rows)[:_PER_PICTURE]
        found.append(detecting.windows_of(octaves, groups.x[rows], groups.y[rows], groups.side[rows], trees.side, samples.INSIDE))
    return np.concatenate(found)


def _faces(first: int, seed: int) -> Bytes:
    return samples.face_windows(first, _AT_ONCE, seed + 1000)[0]


def _in_crowd(folder: Path, seed: int, number: int) -> Bytes:
    pixels, faces = crowd_of(seed + 500, number)
    return others(Picture(pixels, np.array([(f.x, f.y, f.side) for f in faces]).reshape(-1, 3)), trees_in(folder), number)


def _in_empty(folder: Path, seed: int, number: int) -> Bytes:
    return others(Picture(empty_picture(np.random.default_rng((seed, 78, number)))), trees_in(folder), number)


def _in_photograph(folder: Path, seed: int, number: int) -> Bytes:
    path = samples.photographs(False)[number // 3]
    random = np.random.default_rng((seed, 56, number))
    picture = samples.read(path) if number % 3 == 0 else samples.photograph_again(path, random)
    return others(Picture(picture), trees_in(folder), number)


def teach_network(out: Path, seed: int, amount: Amount, torch_python: str, say: Callable[[str], None]) -> None:
    """Write `network.npz`. With nothing to learn from, a network that always says 0."""
    if amount.again == 0:
        np.savez(out / "network.npz", **network.nothing(samples.SIDE, COUNT))  # type: ignore[arg-type]
        return
    begun = time.perf_counter()
    with_faces: list[Job] = [(_faces, (n, seed)) for n in range(0, amount.again, _AT_ONCE)]
    without: list[Job] = [(_in_crowd, (out, seed, n)) for n in range(amount.crowds // 3)]
    without += [(_in_empty, (out, seed, n)) for n in range(amount.empty // 2)]
    without += [(_in_photograph, (out, seed, n)) for n in range(3 * len(samples.photographs(False)))]
    made = done(with_faces + without)
    faces = np.concatenate([np.load(out / "windows.npz")["windows"], *made[: len(with_faces)]])
    rest = np.concatenate(made[len(with_faces) :])
    truth = np.concatenate([np.ones(len(faces), bool), np.zeros(len(rest), bool)])
    order = np.random.default_rng(seed).permutation(len(truth))
    data = out / "second.npz"
    np.savez(data, windows=np.concatenate([faces, rest])[order], truth=truth[order], side=samples.SIDE, channels=COUNT)
    say(f"{len(faces)} windows with faces, {len(rest)} without; {time.perf_counter() - begun:.0f} s")
    script = Path(__file__).parents[1] / "windows" / "network_torch.py"
    subprocess.run([torch_python, str(script), str(data), str(out / "network.npz")], check=True)
