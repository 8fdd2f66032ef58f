"""Makes the model that ships of trees and network: the lean of heads, the law of the score, figures on pictures kept aside."""

from __future__ import annotations

import datetime
import itertools
from collections.abc import Callable
from dataclasses import replace
from pathlib import Path
from typing import Any

import numpy as np
from numpy.typing import NDArray

from lucid_finch.core.numerics.windows import detecting
from lucid_finch.core.numerics.windows.channels import planes
from lucid_finch.core.numerics.windows.model import Looked, Model, evidence
from lucid_finch.core.numerics.windows.pyramid import Octaves
from training.faces import samples
from training.faces.amount import Amount
from training.faces.crowds import crowd, matched
from training.faces.jobs import done
from training.faces.painting import Face
from training.faces.trees import trees_in
from training.windows.limits import limited

Bytes = NDArray[np.uint8]
Crowds = list[tuple[Bytes, list[Face]]]
_RIDGE = 1e6
_DEFAULT = 0.5
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
    random = np.random.default_rng((seed, 91, number))
    return crowd(random, int(random.integers(8, 20)), wide=wide)


def crowds(seed: int, count: int, wide: float = 1.0) -> Crowds:
    return done([(crowd_of, (seed, n, wide)) for n in range(count)])


def measured(picture: Bytes, model: Model, smallest: float = 24.0) -> tuple[detecting.Groups, Looked]:
    """All candidates of a picture, and what the model sees there."""
    octaves = Octaves(planes(picture))
    groups = model.found(octaves, model.scales((picture.shape[1], picture.shape[0]), (smallest, float("inf"))))
    return groups, model.looked_at(octaves, groups)


def near_faces(groups: detecting.Groups, faces: list[Face]) -> NDArray[np.bool_]:
    """Which candidates lie on or beside a face: of those one is right, and the others overlap it."""
    near = np.zeros(len(groups.x), bool)
    for face in faces:
        reach = 0.5 * (groups.side + face.side)
        near |= (np.abs(groups.x - face.x) < 0.8 * reach) & (np.abs(groups.y - face.y) < 0.8 * reach)
    return near


def law_of(model: Model, pictures: Crowds, empty: list[Path]) -> NDArray[np.float64]:
    """The logit of the probability, from candidates in crowds and in photographs kept aside."""
    rows, truth = [], []
    crowds_and_empty: Crowds = [*pictures, *((samples.read(path), []) for path in empty)]
    for picture, faces in crowds_and_empty:
        g, looked = measured(picture, model)
        _, used = matched([face for face in faces if face.visible > 0.6], g.x, g.y, g.side)
        kept = used | ~near_faces(g, faces)
        rows.append(evidence(g.score, g.count, looked)[kept])
        truth.append(used[kept])
    values, is_face = np.concatenate(rows), np.concatenate(truth).astype(float)
    law = np.zeros(5)
    for _ in range(80):
        chance = 1 / (1 + np.exp(-np.clip(values @ law, -40, 40)))
        weight = chance * (1 - chance)
        hessian = (values * weight[:, None]).T @ values + 1e-2 * np.eye(5)
        law = law + np.linalg.solve(hessian, values.T @ (is_face - chance) - 1e-2 * law)
    return law


def figures(model: Model, pictures: Crowds, empty: list[Path]) -> dict[str, Any]:
    """Recall by yaw, roll, skin tone and size at the default score, and false alarms."""
    seen, about, false = [], [], 0
    for picture, faces in pictures:
        listed = [face for face in faces if face.visible > 0.6]
        g, looked = measured(picture, model)
        kept = model.probability(g.score, g.count, looked) >= _DEFAULT
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
    for path in empty:
        picture = samples.read(path)
        g, looked = measured(picture, model)
        photographs += int((model.probability(g.score, g.count, looked) >= _DEFAULT).sum())
        area += picture.shape[0] * picture.shape[1] / 1e6

    def parts(column: int, ends: tuple[float, ...], of: NDArray[np.bool_]) -> dict[str, list[float]]:
        pairs = itertools.pairwise(ends)
        return {f"{lo:g}-{hi:g}": share(of & (a[:, column] >= lo) & (a[:, column] < hi)) for lo, hi in pairs}

    every = np.ones(len(hit), bool)
    a_megapixel = round(photographs / max(area, 1e-9), 4)
    return {
        "faces": len(hit), "pictures": len(pictures), "recall": share(every), "recall_from_30_px": share(a[:, 3] >= 30),
        "false_alarms_per_crowd": round(false / len(pictures), 3), "false_alarms_per_megapixel": a_megapixel,
        "photographs": len(empty), "by_yaw": parts(0, (0, 20, 30, 40, 60), every),
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


def finished(out: Path, seed: int, amount: Amount, say: Callable[[str], None]) -> Model:
    """The model of what was taught into a folder, with its figures."""
    w = np.load(out / "windows.npz")
    trees, weights = trees_in(out), lean(w["windows"], w["about"][:, 2])
    second = dict(np.load(out / "network.npz").items())
    card: dict[str, Any] = {
        "seed": seed, "date": datetime.datetime.now(datetime.UTC).date().isoformat(), "trees": len(trees),
        "windows_with_faces": len(w["windows"]), "material": "painted heads (CC0 mesh), photographs without people",
    }  # fmt: skip
    held = done([(samples.face_windows, (first, 10, seed + 2000)) for first in range(0, amount.limits, 10)])
    scanned = min(amount.scanned, len(trees))
    trees = limited(trees, np.concatenate([windows for windows, _ in held]), scanned)
    model = Model(trees, samples.INSIDE, second, np.zeros(5), weights, card, scanned)
    kept_aside = samples.photographs(True) if amount.photographs else []
    model = replace(model, law=law_of(model, crowds(seed, amount.measured), kept_aside[::2]))
    measured_on = crowds(seed + 1, amount.measured), kept_aside[1::2]
    model = replace(model, card={**card, "figures": figures(model, *measured_on)})
    say(in_words(model.card["figures"]))
    return model
