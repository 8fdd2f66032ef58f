"""Makes the model that ships of trained trees: the lean of heads, the law of the score, figures on pictures kept aside; its card.

python -m training.faces.finish --from DIR [--out FILE]
"""

from __future__ import annotations

import argparse
import datetime
import itertools
import multiprocessing
import os
from concurrent.futures import ProcessPoolExecutor
from dataclasses import replace
from pathlib import Path
from typing import Any

import numpy as np
from numpy.typing import NDArray

from lucid_finch.core.numerics.runtime.threads import set_thread_count
from lucid_finch.core.numerics.windows import detecting
from lucid_finch.core.numerics.windows.channels import CELL, planes
from lucid_finch.core.numerics.windows.model import Model
from lucid_finch.core.numerics.windows.pyramid import Octaves
from lucid_finch.core.numerics.windows.trees import Trees
from training.faces import samples
from training.faces.crowds import crowd, matched
from training.faces.painting import Face

SHIPPED = Path("src/lucid_finch/core/detectors/shared/models/faces.npz")
Bytes = NDArray[np.uint8]
_RIDGE = 1e6
_DEFAULT = 0.4
"""`score_min` unless told otherwise."""


def lean(windows: Bytes, degrees: NDArray[Any]) -> NDArray[np.float32]:
    """Linear weights from the values of a window to degrees, by ridge regression."""
    values = windows.astype(np.float64)
    middle, mean = values.mean(axis=0), float(degrees.mean())
    centred = values - middle
    square = centred.T @ centred
    square[np.diag_indices_from(square)] += _RIDGE * len(values) / 1000
    weights = np.linalg.solve(square, centred.T @ (degrees - mean))
    return np.append(weights, mean - middle @ weights).astype(np.float32)


def crowd_of(seed: int, number: int, wide: float = 1.0) -> tuple[Bytes, list[Face]]:
    """A crowd of heads that training has not seen."""
    set_thread_count(1)
    random = np.random.default_rng((seed, 91, number))
    return crowd(random, int(random.integers(8, 20)), wide=wide)


def crowds(seed: int, count: int, wide: float = 1.0) -> list[tuple[Bytes, list[Face]]]:
    with ProcessPoolExecutor(os.cpu_count(), mp_context=multiprocessing.get_context("spawn")) as pool:
        return list(pool.map(crowd_of, *zip(*((seed, n, wide) for n in range(count)), strict=True)))


def measured(picture: Bytes, model: Model, smallest: float = 24.0) -> tuple[detecting.Groups, NDArray[np.float64]]:
    """All candidates of a picture, and what the network says of each."""
    height, width = picture.shape[:2]
    trees, octaves = model.trees, Octaves(planes(picture))
    at = detecting.scales((width, height), trees.side * CELL, model.inside, (smallest, float("inf")))
    groups = detecting.joined(detecting.find(octaves, trees, model.inside, at, 0.0))
    windows = detecting.windows_of(octaves, groups.x, groups.y, groups.side, trees.side, model.inside)
    return groups, model.looked_again(windows)


def near_faces(groups: detecting.Groups, faces: list[Face]) -> NDArray[np.bool_]:
    """Which candidates lie on or beside a face: of those one is right, and the others overlap it."""
    near = np.zeros(len(groups.x), bool)
    for face in faces:
        reach = 0.5 * (groups.side + face.side)
        near |= (np.abs(groups.x - face.x) < 0.8 * reach) & (np.abs(groups.y - face.y) < 0.8 * reach)
    return near


def law_of(model: Model, pictures: list[tuple[Bytes, list[Face]]]) -> NDArray[np.float64]:
    """The logit of the probability, from candidates in crowds and in photographs kept aside."""
    rows, truth = [], []
    crowds_and_empty = [*pictures, *((samples.read(path), []) for path in samples.photographs(True)[::2])]
    for picture, faces in crowds_and_empty:
        g, again = measured(picture, model)
        _, used = matched([face for face in faces if face.visible > 0.6], g.x, g.y, g.side)
        kept = used | ~near_faces(g, faces)
        rows.append(np.stack([np.ones(len(g.x)), g.score, np.log(g.count), again], axis=1)[kept])
        truth.append(used[kept])
    values, is_face = np.concatenate(rows), np.concatenate(truth).astype(float)
    law = np.zeros(4)
    for _ in range(80):
        chance = 1 / (1 + np.exp(-np.clip(values @ law, -40, 40)))
        weight = chance * (1 - chance)
        hessian = (values * weight[:, None]).T @ values + 1e-2 * np.eye(4)
        law = law + np.linalg.solve(hessian, values.T @ (is_face - chance) - 1e-2 * law)
    return law


def figures(model: Model, pictures: list[tuple[Bytes, list[Face]]]) -> dict[str, Any]:
    """Recall by yaw, roll, skin tone and size at the default score, and false alarms."""
    seen, about, false = [], [], 0
    for picture, faces in pictures:
        listed = [face for face in faces if face.visible > 0.6]
        g, again = measured(picture, model)
        kept = model.probability(g.score, g.count, again) >= _DEFAULT
        of_face, _ = matched(listed, g.x[kept], g.y[kept], g.side[kept])
        false += int((kept & ~near_faces(g, faces)).sum())
        for n, face in enumerate(listed):
            seen.append(of_face[n] >= 0)
            about.append((abs(face.yaw), abs(face.angle), face.tone, face.side))
    hit, a = np.array(seen), np.array(about)
    front = a[:, 0] < 30

    def share(chosen: NDArray[np.bool_]) -> list[float]:
        return [round(float(hit[chosen].mean()), 4) if chosen.any() else float("nan"), int(chosen.sum())]

    photographs, area = 0, 0.0
    for path in samples.photographs(True)[1::2]:
        picture = samples.read(path)
        g, again = measured(picture, model)
        photographs += int((model.probability(g.score, g.count, again) >= _DEFAULT).sum())
        area += picture.shape[0] * picture.shape[1] / 1e6

    def parts(column: int, ends: tuple[float, ...], of: NDArray[np.bool_]) -> dict[str, list[float]]:
        pairs = itertools.pairwise(ends)
        return {f"{lo:g}-{hi:g}": share(of & (a[:, column] >= lo) & (a[:, column] < hi)) for lo, hi in pairs}

    every = np.ones(len(hit), bool)
    return {
        "faces": len(hit), "pictures": len(pictures), "recall": share(every), "recall_from_30_px": share(a[:, 3] >= 30),
        "false_alarms_per_crowd": round(false / len(pictures), 3), "false_alarms_per_megapixel": round(photographs / area, 4),
        "photographs": len(samples.photographs(True)[1::2]), "by_yaw": parts(0, (0, 20, 30, 40, 60), every),
        "by_roll": parts(1, (0, 10, 20, 25, 35), front), "by_tone": parts(2, (0, 0.25, 0.5, 0.75, 1.01), front),
        "by_size": parts(3, (30, 40, 60, 99), front),
    }  # fmt: skip


def in_words(f: dict[str, Any]) -> str:
    """The figures as the guide has them."""

    def row(part: dict[str, list[float]]) -> str:
        return " · ".join(f"{name}: {100 * share:.0f} % ({count:.0f})" for name, (share, count) in part.items())

    return f"""Measured on {f["pictures"]} painted crowds with {f["faces"]} faces, and on {f["photographs"]} photographs without
people, none of which the model had seen, at the default score (in brackets: how many faces):

| | found |
|---|---|
| all, at most 0.4 hidden | {100 * f["recall"][0]:.1f} % |
| by yaw, degrees | {row(f["by_yaw"])} |
| by lean, degrees (yaw below 30) | {row(f["by_roll"])} |
| by skin tone, light 0 to dark 1 (yaw below 30) | {row(f["by_tone"])} |
| by size, px (yaw below 30) | {row(f["by_size"])} |

False alarms: {f["false_alarms_per_crowd"]} a crowd of 960 x 640 px, {f["false_alarms_per_megapixel"]} a megapixel of
photographs."""


def main() -> None:
    parser = argparse.ArgumentParser(description=__doc__)
    parser.add_argument("--from", dest="source", required=True)
    parser.add_argument("--out", default=str(SHIPPED))
    parser.add_argument("--crowds", type=int, default=30)
    parser.add_argument("--seed", type=int, default=1)
    given = parser.parse_args()
    source = Path(given.source)
    z, w = np.load(source / "trees.npz"), np.load(source / "windows.npz")
    trees = Trees(samples.SIDE, z["feature"], z["threshold"], z["leaf"], float(z["reject"]))
    weights = lean(w["windows"], w["about"][:, 2])
    second = dict(np.load(source / "network.npz"))
    card: dict[str, Any] = {
        "seed": given.seed, "date": datetime.datetime.now(datetime.UTC).date().isoformat(), "trees": len(trees),
        "windows_with_faces": len(w["windows"]), "material": "painted heads (CC0 mesh), photographs without people",
    }  # fmt: skip
    model = Model(trees, samples.INSIDE, second, np.zeros(4), weights, card)
    model = replace(model, law=law_of(model, crowds(given.seed, given.crowds)))
    model = replace(model, card={**card, "figures": figures(model, crowds(given.seed + 1, given.crowds))})
    Path(given.out).parent.mkdir(parents=True, exist_ok=True)
    Path(given.out).write_bytes(model.written())
    print(len(model.written()), "bytes; law", model.law)
    print(in_words(model.card["figures"]))


if __name__ == "__main__":
    main()
