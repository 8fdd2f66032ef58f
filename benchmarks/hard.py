"""What the defaults find in hard pictures: of each kind and condition, how many of all, and how many others a scene.

Usage: python -m benchmarks.hard [--scenes N] [--kinds circles,lines] [--conditions "motion 13,clear"] [--given JSON] [--more]
       python -m benchmarks.hard --sheet docs/pictures/hard.png   (the picture of the guide)
"""

from __future__ import annotations

import argparse
import json
from collections.abc import Callable
from concurrent.futures import ProcessPoolExecutor
from pathlib import Path
from typing import Any

import numpy as np
from PIL import Image as Pillow

import lucid_finch as lf
from benchmarks import hard_scenes
from benchmarks.hard_scenes import CONDITIONS, Scene, photographed
from benchmarks.shape_scenes import score_ovals, score_strokes
from lucid_finch.core.execution.engine import Engine, detect
from lucid_finch.core.image import Image
from lucid_finch.core.numerics.runtime.threads import set_thread_count
from lucid_finch.core.recipe import MarkStyle, Recipe
from lucid_finch.files.annotated import annotated_picture

Counts = tuple[int, int, int]

SCENES: dict[str, Callable[..., Scene]] = {
    "circles": hard_scenes.circles, "ellipses": hard_scenes.ellipses, "lines": hard_scenes.lines, "contours": hard_scenes.pieces,
    "corners": hard_scenes.corners, "blobs": hard_scenes.spots, "templates": hard_scenes.marks,
    "faces": hard_scenes.people,
}  # fmt: skip
ASKED = ("circles", "ellipses", "lines", "contours")
"""Kinds whose missed objects are asked about."""
GROUNDS = ("wood", "stone", "metal")
"""On these the pictures are clear otherwise."""
EMPTY = ("foliage", "bricks", "slats", "stone", "wood", "noisy", "page")


def score_pieces(found: Any, scene: Scene) -> Counts:
    """Found, missed and wrong: centre within 3 px and 8 % of the size, area within a quarter; gears must not be named circle."""
    f = found.findings
    used = np.zeros(len(f), bool)
    right = 0
    for piece in scene.pieces:
        near = np.hypot(f["x"] - piece.x, f["y"] - piece.y) < 3 + 0.08 * piece.size
        here = np.flatnonzero(near & (np.abs(np.log(f["area"] / piece.area)) < 0.25) & ~used)
        used[here[:1]] = True
        right += len(here) > 0
    return right, len(scene.pieces) - right, int((~used).sum())


def score_places(found: Any, places: list[tuple[float, float, float]]) -> Counts:
    """Found, missed and wrong: one finding within so many px of each place; a second one, or one farther off, is wrong."""
    f = found.findings
    used = np.zeros(len(f), bool)
    right = 0
    for x, y, within in places:
        far = np.where(used, np.inf, np.hypot(f["x"] - x, f["y"] - y))
        if len(far) and far.min() < within:
            used[int(np.argmin(far))] = True
            right += 1
    return right, len(places) - right, int((~used).sum())


def score(kind: str, found: Any, scene: Scene) -> Counts:
    """Found, missed and wrong."""
    if kind == "lines":
        return score_strokes(found, scene.strokes)
    if kind == "contours":
        return score_pieces(found, scene)
    if kind == "corners":
        return score_places(found, [(x, y, 3.0) for x, y in scene.corners])
    if kind in ("blobs", "templates", "faces"):
        return score_places(found, [(p.x, p.y, 0.3 * p.size if kind == "faces" else 2.5) for p in scene.pieces])
    right, missed, wrong = score_ovals(found, scene.ovals)
    # A gear whose teeth are blurred away is round.
    f = found.findings
    geared = sum(bool(np.any(np.hypot(f["x"] - p.x, f["y"] - p.y) < 4)) for p in scene.pieces if p.what == "gear")
    return right, missed, max(wrong - geared, 0)


def one(job: tuple[str, str, str, int, dict[str, Any]]) -> Counts:
    """Counts of a scene on a ground under a condition."""
    kind, ground, condition, seed, given = job
    set_thread_count(1)
    scene = SCENES[kind](seed, ground)
    if scene.template is not None:
        given = {"template": Image.from_array(scene.template), **given}
    return score(kind, lf.detect(kind, photographed(scene, condition, seed), **given), scene)


def _objects(kind: str, scene: Scene) -> list[tuple[float, float, Scene]]:
    """Each object with a place on it, alone in a scene."""
    alone = [Scene(scene.plane, ovals=[o]) for o in scene.ovals] if kind in ("circles", "ellipses") else []
    alone += [Scene(scene.plane, strokes=[t]) for t in scene.strokes] if kind == "lines" else []
    alone += [Scene(scene.plane, pieces=[p]) for p in scene.pieces] if kind == "contours" else []
    places = [(part.ovals or part.strokes or part.pieces)[0] for part in alone]
    return [(place.x, place.y, part) for place, part in zip(places, alone, strict=True)]


def why(job: tuple[str, str, str, int, dict[str, Any]]) -> Counts:
    """Of the objects that are missed: how many, for how many a change is proposed, how many of these it admits with at most
    three other findings more or less."""
    kind, ground, condition, seed, given = job
    set_thread_count(1)
    scene = SCENES[kind](seed, ground)
    image = photographed(scene, condition, seed)
    found = lf.detect(kind, image, **given)
    missed = proposed = helped = 0
    for x, y, alone in _objects(kind, scene):
        if score(kind, found, alone)[0]:
            continue
        answer = lf.explain(found, (x, y))
        if any(near.outcome == "found" and near.distance < 3 for near in answer.candidates):
            # It was found, only less exactly than the score asks for.
            continue
        missed += 1
        change = answer.change or next((near.change for near in answer.candidates if near.change is not None), None)
        if change is not None:
            proposed += 1
            after = lf.detect(kind, image, **{**given, **change.values})
            helped += bool(score(kind, after, alone)[0]) and change.gains - 1 <= 3 and change.loses <= 3
    return missed, proposed, helped


def seals(job: tuple[str, int, dict[str, Any]]) -> Counts:
    """Counts of circles on a picture of stamped seals."""
    ground, seed, given = job
    set_thread_count(1)
    scene = hard_scenes.seals(seed, ground)
    return score_ovals(detect("circles", photographed(scene, "clear", seed), given), scene.ovals)


def on_nothing(job: tuple[str, str, int, dict[str, Any]]) -> int:
    """Findings on a ground with nothing on it."""
    kind, ground, seed, given = job
    set_thread_count(1)
    image: Image = photographed(hard_scenes.nothing(seed, ground), "clear", seed)
    return len(detect(kind, image, given).findings)


_ON_SHEET = (
    ("circles", "plain", "motion 13"), ("ellipses", "plain", "photons 8"), ("lines", "plain", "defocus 5"),
    ("contours", "plain", "halftone 7"), ("circles", "metal", "glare"), ("contours", "wood", "JPEG 30"),
    ("lines", "plain", "grating"), ("circles", "plain", "photons 3"), ("contours", "plain", "salt 5"),
)  # fmt: skip


def sheet(path: Path) -> None:
    """Nine hard pictures with what the defaults find in them."""
    tiles = []
    for number, (kind, ground, condition) in enumerate(_ON_SHEET):
        image = photographed(SCENES[kind](number + 3, ground), condition, number)
        recipe = Recipe.make({"lucid_finch_recipe": 2, "name": kind, "detectors": [{"name": kind, "kind": kind}]})
        tile = annotated_picture(Engine().run(recipe, image), MarkStyle(thickness=4.0, numbers=False), factor=1)
        tiles.append(np.asarray(tile.convert("RGB").resize((480, 360))))
    rows = [np.hstack(tiles[k : k + 3]) for k in range(0, len(tiles), 3)]
    path.parent.mkdir(parents=True, exist_ok=True)
    Pillow.fromarray(np.vstack(rows)).quantize(128).save(path, optimize=True)


def main() -> None:
    parser = argparse.ArgumentParser(description=__doc__)
    parser.add_argument("--scenes", type=int, default=4)
    parser.add_argument("--first", type=int, default=0)
    parser.add_argument("--kinds", default=",".join(SCENES))
    parser.add_argument("--conditions", default=",".join(CONDITIONS))
    parser.add_argument("--given", default="{}")
    parser.add_argument("--more", action="store_true", help="also grounds, seals, and pictures without shapes")
    parser.add_argument("--why", action="store_true", help="what the explanation proposes for objects that are missed")
    parser.add_argument("--sheet", type=Path)
    args = parser.parse_args()
    if args.sheet is not None:
        sheet(args.sheet)
        return
    given, seeds = json.loads(args.given), range(args.first, args.first + args.scenes)
    megapixels = hard_scenes.WIDTH * hard_scenes.HEIGHT / 1e6
    with ProcessPoolExecutor(2) as pool:
        for kind in args.kinds.split(","):
            views = [("plain", condition) for condition in args.conditions.split(",")]
            views += [(ground, "clear") for ground in GROUNDS] if args.more and kind != "faces" else []
            if args.why and kind in ASKED:
                jobs = [(kind, *view, seed, given) for view in views for seed in seeds]
                missed, proposed, helped = np.sum(list(pool.map(why, jobs)), axis=0)
                print(f"{kind:9} {missed} missed: a change is proposed for {proposed}, which admits {helped} and little else")
                continue
            jobs = [(kind, *view, seed, given) for view in views for seed in seeds]
            done = np.array(list(pool.map(one, jobs))).reshape(len(views), args.scenes, 3).sum(axis=1)
            for (ground, condition), (right, missed, wrong) in zip(views, done, strict=True):
                share = right / max(right + missed, 1)
                told = f"{share:5.2f} ({right} of {right + missed}), {wrong / args.scenes:5.2f} others"
                print(f"{kind:9} {ground:6} {condition:11} {told}")
            if args.more and kind not in ("faces", "templates"):
                empty = list(pool.map(on_nothing, [(kind, ground, seed, given) for ground in EMPTY for seed in seeds]))
                rates = np.array(empty).reshape(len(EMPTY), -1).mean(axis=1) / megapixels
                print(f"{kind:9} a megapixel of nothing:", {g: round(float(r), 2) for g, r in zip(EMPTY, rates, strict=True)})
        if args.more and "circles" in args.kinds:
            for ground in ("wood", "noisy"):
                right, missed, wrong = np.sum(list(pool.map(seals, [(ground, seed, given) for seed in seeds])), axis=0)
                print(f"seals on {ground}: {right} of {right + missed}, {wrong / args.scenes:.2f} others a picture")


if __name__ == "__main__":
    main()
