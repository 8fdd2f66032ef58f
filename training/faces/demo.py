"""Paints the demo's pictures of made-up heads: python -m training.faces.demo. They ship as files, with the truth beside them."""

from __future__ import annotations

import json
from pathlib import Path

import numpy as np
from PIL import Image
from scipy import ndimage

from training.faces import heads, painting

OUT = Path("src/lucid_finch/demo/pictures")


def mark(face: painting.Face) -> dict[str, object]:
    """A face as truth files have it."""
    half = face.side / 2
    return {
        "kind": "faces", "x": round(face.x, 2), "y": round(face.y, 2), "left": round(face.x - half, 2),
        "top": round(face.y - half, 2), "width": round(face.side, 2), "height": round(face.side, 2),
        "angle": round(face.angle, 1),
    }  # fmt: skip


def plaques() -> tuple[np.ndarray, list[painting.Face]]:
    """Twelve portrait plaques on a plastered wall."""
    random = np.random.default_rng(20261205)
    height, width = 800, 1100
    rough = ndimage.gaussian_filter(random.normal(0, 1, (height, width)), 2) + ndimage.gaussian_filter(
        random.normal(0, 6, (height, width)), 14
    )  # fmt: skip
    wall = np.array([0.36, 0.33, 0.29]) * (1 + 0.1 * rough / rough.std())[..., None]
    faces = []
    glazes = np.array([[0.05, 0.16, 0.22], [0.32, 0.24, 0.1], [0.08, 0.2, 0.12], [0.4, 0.36, 0.3], [0.24, 0.07, 0.05]])
    y, x = np.mgrid[:height, :width]
    for number in range(12):
        cx, cy = 150 + 266 * (number % 4), 150 + 250 * (number // 4)
        inside = ((x - cx) / 106) ** 2 + ((y - cy) / 112) ** 2
        rim = (inside < 1.16) & (inside >= 1)
        wall[rim] = np.array([0.5, 0.45, 0.34]) * (0.7 + 0.5 * (x + y - cx - cy)[rim, None] / -300)
        plate = wall.copy()
        glaze = glazes[number % 5] * random.uniform(0.7, 1.3)
        plate[:] = glaze * (1 + 0.25 * (cy - y) / 112)[..., None]
        pose = painting.Pose(float(random.uniform(-22, 22)), float(random.uniform(-6, 8)), float(random.uniform(-14, 14)), 9.0)
        lit = painting.lit(heads.head(random))
        colour, cover, face = painting.paint(lit, pose, painting.light(random), float(random.uniform(76, 90)), random)
        faces.append(painting.placed(plate, colour, cover, face, cx, cy + 6))
        wall[inside < 1] = plate[inside < 1]
    light = 1 - 0.25 * np.hypot((x - 430) / width, (y - 200) / height)
    exposed = ndimage.gaussian_filter(wall * light[..., None] * 1.35, (0.7, 0.7, 0))
    exposed += random.normal(0, 0.006, exposed.shape)
    return np.round(255 * np.clip(exposed, 0, 1) ** (1 / 2.2)).astype(np.uint8), faces


def open_day() -> tuple[np.ndarray, list[painting.Face]]:
    """Visitors in the yard, in rows, the nearer ones before the others."""
    random = np.random.default_rng(20261207)
    height, width = 800, 1200
    y, _x = np.mgrid[:height, :width]
    ground = (np.array([0.42, 0.5, 0.6]) * (1.1 - y / height)[..., None]) + 0.05
    ground *= 1 + 0.03 * ndimage.gaussian_filter(random.normal(0, 8, (height, width)), 5)[..., None]
    sky, faces = painting.light(random), []
    middle = 110.0
    for row in range(6):
        side = 34.0 + 12.0 * row
        for place in np.arange(random.uniform(0.3, 1.3) * side, width - 0.4 * side, 2.35 * side):
            pose = painting.Pose(
                float(np.clip(random.normal(0, 16), -40, 40)), float(random.normal(2, 6)), float(random.normal(0, 7)), 12.0
            )
            lit = painting.lit(heads.head(random))
            colour, cover, face = painting.paint(lit, pose, sky, side * float(random.uniform(0.92, 1.08)), random)
            at = float(place + random.normal(0, 0.12 * side)), float(middle + random.normal(0, 0.14 * side))
            faces.append(painting.placed(ground, colour, cover, face, *at))
        middle += 1.72 * side
    seen = ndimage.gaussian_filter(ground, (0.6, 0.6, 0)) * 0.9 + random.normal(0, 0.006, ground.shape)
    picture = np.round(255 * np.clip(seen, 0, 1) ** (1 / 2.2)).astype(np.uint8)
    clear = [f for n, f in enumerate(faces) if not any(_hides(other, f) for other in faces[n + 1 :])]
    return picture, [f for f in clear if 0.3 * f.side < f.y < height - 0.3 * f.side]


def _hides(other: painting.Face, face: painting.Face) -> bool:
    """Whether the head or the shoulders of a later one lie over much of a face."""
    return bool(abs(other.x - face.x) < 0.8 * other.side and other.y - 0.95 * other.side < face.y + 0.1 * face.side)


def main() -> None:
    OUT.mkdir(parents=True, exist_ok=True)
    for name, make in (("plaques", plaques), ("open_day", open_day)):
        picture, faces = make()
        Image.fromarray(picture).save(OUT / f"{name}.webp", lossless=False, quality=92, method=6)
        (OUT / f"{name}.json").write_text(json.dumps([mark(face) for face in faces], indent=1) + "\n")
        print(name, picture.shape, len(faces), (OUT / f"{name}.webp").stat().st_size)


if __name__ == "__main__":
    main()
