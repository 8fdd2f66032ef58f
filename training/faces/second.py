"""Gathers what the second stage learns from: windows as the trees find them, with faces and without.

python -m training.faces.second --from DIR [--heads N] [--torch-python PYTHON]
"""

from __future__ import annotations

import argparse
import multiprocessing
import os
import subprocess
import time
from concurrent.futures import ProcessPoolExecutor
from pathlib import Path
from typing import Any

import numpy as np
from numpy.typing import NDArray

from lucid_finch.core.numerics.runtime.threads import set_thread_count
from lucid_finch.core.numerics.windows import detecting
from lucid_finch.core.numerics.windows.channels import CELL, COUNT, planes
from lucid_finch.core.numerics.windows.pyramid import Octaves
from lucid_finch.core.numerics.windows.trees import Trees
from training.faces import samples
from training.faces.finish import crowd_of
from training.windows.searching import Picture, clear_of

Bytes = NDArray[np.uint8]
_TREES = (180, 900)
"""After how many trees candidates are taken: the first are many, the last are the hardest."""
_PER_PICTURE = 110


def trees_in(folder: Path) -> Trees:
    z = np.load(folder / "trees.npz")
    return Trees(samples.SIDE, z["feature"], z["threshold"], z["leaf"], float(z["reject"]))


def others(picture: Picture, trees: Trees, seed: int) -> Bytes:
    """Windows around what the trees take for faces where there are none."""
    random = np.random.default_rng(seed)
    height, width = picture.pixels.shape[:2]
    octaves = Octaves(planes(picture.pixels))
    at = detecting.scales((width, height), trees.side * CELL, samples.INSIDE, (24.0, float("inf")))
    found = []
    for count in _TREES:
        groups = detecting.joined(detecting.find(octaves, trees.first(count), samples.INSIDE, at, 0.0))
        places = zip(groups.x, groups.y, groups.side, strict=True)
        clear = [bool(clear_of(picture.objects, np.array([x]), np.array([y]), float(side))[0]) for x, y, side in places]
        rows = np.flatnonzero(np.array(clear, bool))
        rows = random.permutation(rows)[:_PER_PICTURE]
        found.append(detecting.windows_of(octaves, groups.x[rows], groups.y[rows], groups.side[rows], trees.side, samples.INSIDE))
    return np.concatenate(found)


def _job(kind: str, folder: str, seed: int, number: int) -> tuple[bool, Bytes]:
    set_thread_count(1)
    if kind == "faces":
        return True, samples.face_windows(number, 10, seed + 1000)[0]
    random = np.random.default_rng((seed, 56, number))
    if kind == "crowd":
        pixels, faces = crowd_of(seed + 500, number)
        picture = Picture(pixels, np.array([(f.x, f.y, f.side) for f in faces]).reshape(-1, 3))
    elif kind == "empty":
        picture = Picture(samples.empty_picture(np.random.default_rng((seed, 78, number))))
    else:
        path = samples.photographs(False)[number // 3]
        picture = Picture(samples.read(path) if number % 3 == 0 else samples.photograph_again(path, random))
    return False, others(picture, trees_in(Path(folder)), number)


def main() -> None:
    parser = argparse.ArgumentParser(description=__doc__)
    parser.add_argument("--from", dest="source", required=True)
    parser.add_argument("--heads", type=int, default=600)
    parser.add_argument("--seed", type=int, default=1)
    parser.add_argument("--torch-python", default="/usr/bin/python3")
    given = parser.parse_args()
    folder, begun = Path(given.source), time.perf_counter()
    jobs: list[tuple[Any, ...]] = [("faces", given.source, given.seed, n) for n in range(0, given.heads, 10)]
    jobs += [("photograph", given.source, given.seed, n) for n in range(3 * len(samples.photographs(False)))]
    jobs += [("empty", given.source, given.seed, n) for n in range(40)] + [
        ("crowd", given.source, given.seed, n) for n in range(16)
    ]
    with ProcessPoolExecutor(os.cpu_count(), mp_context=multiprocessing.get_context("spawn")) as pool:
        made = list(pool.map(_job, *zip(*jobs, strict=True), chunksize=2))
    faces = np.concatenate([np.load(folder / "windows.npz")["windows"], *(windows for is_face, windows in made if is_face)])
    rest = np.concatenate([windows for is_face, windows in made if not is_face])
    truth = np.concatenate([np.ones(len(faces), bool), np.zeros(len(rest), bool)])
    order = np.random.default_rng(given.seed).permutation(len(truth))
    data = folder / "second.npz"
    np.savez(data, windows=np.concatenate([faces, rest])[order], truth=truth[order], side=samples.SIDE, channels=COUNT)
    print(f"{len(faces)} with faces, {len(rest)} without; {time.perf_counter() - begun:.0f} s", flush=True)
    script = Path(__file__).parents[1] / "windows" / "network_torch.py"
    subprocess.run([given.torch_python, str(script), str(data), str(folder / "network.npz")], check=True)
    print(f"{time.perf_counter() - begun:.0f} s in all")


if __name__ == "__main__":
    main()
