"""Made-up heads: a shape drawn from the targets of the material, hair, beard, glasses, hat, clothes; no person is meant."""

from __future__ import annotations

from dataclasses import dataclass, field
from functools import cache
from pathlib import Path
from typing import Any

import numpy as np
from numpy.typing import NDArray

Floats = NDArray[np.float64]
Random = np.random.Generator

_MATERIAL = Path(__file__).parent / "material" / "heads.npz"
CHIN, HAIRLINE, EYES = 6.15, 8.0, 7.284
"""Heights of landmarks of the mesh before it is shaped (decimetres)."""
SKIN, EYE, TEETH, TONGUE, LONG_HAIR, HAIR, FRAME, LENS, HAT = range(9)
"""What a triangle is made of."""
_OF_PART = {0: SKIN, 1: EYE, 2: EYE, 3: TEETH, 4: TEETH, 5: TONGUE, 6: LONG_HAIR}


@dataclass(frozen=True)
class Material:
    """The mesh and its shape targets."""

    places: Floats
    triangles: NDArray[np.int32]
    made_of: NDArray[np.int64]
    masks: Floats
    targets: dict[str, tuple[NDArray[np.int64], Floats]]

    def named(self, start: str) -> list[str]:
        return [name for name in self.targets if name.startswith(start)]


@cache
def material() -> Material:
    z = np.load(_MATERIAL, allow_pickle=False)
    targets = {}
    for number, name in enumerate(z["names"].tolist()):
        part = slice(int(z["start"][number]), int(z["start"][number + 1]))
        targets[name] = z["index"][part].astype(np.int64), z["steps"][part].astype(float) / 1000
    made_of = np.array([_OF_PART[int(p)] for p in z["part"]])
    return Material(z["places"].astype(float), z["triangles"].astype(np.int32), made_of, z["masks"] / 255.0, targets)


@dataclass(frozen=True)
class Head:
    """One head: triangles with what they are made of, and where each vertex lies on the mesh before it is shaped."""

    places: Floats
    rest: Floats
    triangles: NDArray[np.int32]
    made_of: NDArray[np.int64]
    chin: Floats
    hairline: Floats
    looks: dict[str, Any] = field(default_factory=dict)
    """Colours and patterns."""

    @property
    def middle(self) -> Floats:
        return 0.5 * (self.chin + self.hairline)

    @property
    def side(self) -> float:
        """From hairline to chin."""
        return float(np.linalg.norm(self.hairline - self.chin))


def shaped(random: Random) -> Floats:
    """The places of the mesh, shaped at random."""
    m = material()
    places = m.places.copy()

    def add(name: str, amount: float) -> None:
        index, steps = m.targets[name]
        places[index] += amount * steps

    macros = m.named("macrodetails/")
    weights = random.dirichlet(np.full(len(macros), 0.25))
    for name, weight in zip(macros, weights, strict=True):
        # Small children are rarer than others.
        add(name, float(weight) * (0.5 if "child" in name else 1.0))
    for group, amount, chosen in (
        ("head/", 0.7, 5), ("nose/", 0.6, 8), ("mouth/", 0.5, 8), ("chin/", 0.6, 4), ("cheek/", 0.6, 4), ("eyes/", 0.5, 8),
        ("ears/", 0.6, 4), ("forehead/", 0.5, 3), ("eyebrows/", 0.6, 2),
    ):  # fmt: skip
        for name in random.choice(m.named(group), chosen, replace=False):
            add(str(name), float(random.uniform(0, amount)))
    for name in random.choice(m.named("face/"), int(random.integers(0, 4)), replace=False):
        add(str(name), float(random.uniform(0, 0.9)))
    mood = random.random()
    if mood < 0.45:
        for name, most in (("mouth-corner-puller", 1.0), ("mouth-retraction", 0.5), ("mouth-upward-retraction", 0.4)):
            if f"face/{name}" in m.targets:
                add(f"face/{name}", float(random.uniform(0, most)))
        if random.random() < 0.5:
            add("face/mouth-open", float(random.uniform(0, 0.5)))
    elif mood < 0.6:
        add("face/mouth-open", float(random.uniform(0, 0.9)))
    if random.random() < 0.15:
        add("face/eye-closure", float(random.uniform(0.3, 1.0)))
    return places


def normals(places: Floats, triangles: NDArray[np.int32]) -> Floats:
    """Unit normals of vertices, by area."""
    a, b, c = (places[triangles[:, k]] for k in range(3))
    own = np.cross(b - a, c - a)
    found = np.zeros_like(places)
    for k in range(3):
        np.add.at(found, triangles[:, k], own)
    return np.asarray(found / np.maximum(np.linalg.norm(found, axis=1, keepdims=True), 1e-12))


class _Parts:
    """Meshes put together."""

    def __init__(self) -> None:
        self.places: list[Floats] = []
        self.rest: list[Floats] = []
        self.triangles: list[NDArray[Any]] = []
        self.made_of: list[NDArray[np.int64]] = []
        self.count = 0

    def add(self, places: Floats, rest: Floats, triangles: NDArray[Any], made_of: Any) -> None:
        self.places.append(places)
        self.rest.append(rest)
        self.triangles.append(triangles + self.count)
        self.made_of.append(np.broadcast_to(np.asarray(made_of, np.int64), len(triangles)))
        self.count += len(places)


def head(random: Random) -> Head:
    """A head at random."""
    m = material()
    places, rest = shaped(random), m.places
    parts = _Parts()
    kept = m.made_of != LONG_HAIR
    parts.add(places, rest, m.triangles[kept], m.made_of[kept])
    looks = looks_of(random)
    _add_hair(parts, places, rest, looks, random)
    if random.random() < 0.27:
        _add_glasses(parts, places, rest, looks, random)
    if random.random() < 0.16:
        _add_hat(parts, places, rest, random)

    def landmark(height: float) -> Floats:
        front = np.flatnonzero((np.abs(rest[:, 0]) < 0.12) & (rest[:, 2] > 1.0) & (np.abs(rest[:, 1] - height) < 0.15))
        return np.asarray(places[front[np.argsort(np.abs(rest[front, 1] - height))[:4]]].mean(axis=0) * [0, 1, 1])

    return Head(
        np.concatenate(parts.places), np.concatenate(parts.rest), np.concatenate(parts.triangles).astype(np.int32),
        np.concatenate(parts.made_of), landmark(CHIN), landmark(HAIRLINE), looks,
    )  # fmt: skip


def looks_of(random: Random) -> dict[str, Any]:
    tone = float(random.uniform(0, 1) ** 1.25)
    # From light to dark, in linear light, with undertones of their own.
    light, dark = np.array([0.68, 0.42, 0.31]), np.array([0.085, 0.048, 0.033])
    skin = np.exp((1 - tone) * np.log(light) + tone * np.log(dark)) * random.uniform([0.92, 0.9, 0.85], [1.08, 1.05, 1.12])
    grey = random.random() < 0.22
    hair = np.array([0.02, 0.015, 0.012]) * random.uniform(0.5, 1.6)
    if grey:
        hair = np.full(3, random.uniform(0.15, 0.65)) * random.uniform(0.95, 1.05, 3)
    elif tone < 0.55 and random.random() < 0.55:
        hair = np.array([0.32, 0.2, 0.1]) * random.uniform(0.15, 1.5) * random.uniform([0.9, 0.85, 0.7], [1.2, 1.0, 1.0])
    random.uniform(0.02, 0.8) * random.dirichlet([2, 2, 2]) * 3
    irises = np.array([[0.05, 0.025, 0.012], [0.12, 0.09, 0.04], [0.1, 0.17, 0.25], [0.12, 0.16, 0.1]])

    def colour(least: float, most: float) -> Floats:
        return np.clip(random.uniform(least, most) * random.dirichlet([2, 2, 2]) * 3, 0.01, 0.9)

    def sometimes(least: float, most: float) -> float:
        """Nothing where the number drawn is below 0."""
        return float(max(0.0, random.uniform(least, most)))

    return {
        "tone": tone, "skin": np.clip(skin, 0.01, 0.9), "hair": np.clip(hair, 0.006, 0.8), "cloth": colour(0.02, 0.8),
        "collar": float(5.75 + random.uniform(-0.5, 0.25)), "iris": irises[int(random.choice(4, p=[0.6, 0.15, 0.15, 0.1]))],
        "lip": float(random.uniform(0.3, 1.0)), "brow": float(random.uniform(0.35, 1.0)),
        "brow_height": float(random.uniform(-0.03, 0.04)), "brow_thick": float(random.uniform(0.035, 0.09)),
        "beard": sometimes(-1.2, 1.0), "moustache": sometimes(-1.6, 1.0), "stubble": sometimes(-0.6, 0.6),
        "gloss": float(random.uniform(0.0, 0.09)), "stripes": float(random.choice([0.0, 0.0, 4.0, 9.0])),
        "freckles": sometimes(-0.7, 0.35), "hat": colour(0.02, 0.7),
        "frame": np.full(3, random.uniform(0.005, 0.3)) * random.uniform(0.7, 1.0, 3),
        "lens": float(random.choice([0.0, 0.0, 0.05, 0.9])),
    }  # fmt: skip


def _hairline(rest: Floats, style: dict[str, float]) -> Floats:
    """How far above the line of the hair a place of the scalp is."""
    x, y, z = rest.T
    # The line runs from the forehead over the temples, around the ears, to the nape.
    forehead = HAIRLINE + style["forehead"] - 0.5 * np.clip(np.abs(x) - 0.35, 0, 1)
    side = 7.3 + style["side"] - 0.55 * np.clip(0.5 - z, 0, 1.2)
    front = 1 / (1 + np.exp(-(z - 0.95) / 0.09))
    return np.asarray(y - (front * forehead + (1 - front) * side))


def _add_hair(parts: _Parts, places: Floats, rest: Floats, looks: dict[str, Any], random: Random) -> None:
    """None, a cap of short or full hair, or hair that falls to the shoulders."""
    m = material()
    kind = str(random.choice(["bald", "short", "full", "long"], p=[0.12, 0.38, 0.25, 0.25]))
    style = {"forehead": float(random.uniform(-0.18, 0.22)), "side": float(random.uniform(-0.15, 0.35))}
    looks["hair_style"], looks["hairline"] = kind, style
    if kind == "bald":
        style["forehead"] = 0.4 if random.random() < 0.5 else style["forehead"] + 0.2
        return
    thick = {"short": random.uniform(0.03, 0.12), "full": random.uniform(0.12, 0.4), "long": random.uniform(0.06, 0.25)}[kind]
    own = normals(places, m.triangles)
    above = _hairline(rest, style)
    bumps = sum(
        np.sin(rest @ random.normal(0, 3.5, 3) + random.uniform(0, 6.28)) for _ in range(5)
    ) / 5  # fmt: skip
    rise = thick * np.clip(above / 0.18, 0, 1) * (1 + 0.5 * np.asarray(bumps)) * (1 + 0.7 * np.clip(rest[:, 1] - 8.0, 0, 1))
    scalp = (m.made_of == SKIN) & (above[m.triangles] > -0.02).any(axis=1) & (rest[m.triangles][:, :, 1] > 6.3).all(axis=1)
    ears = (m.masks[1][m.triangles] > 0.5).any(axis=1)
    parts.add(places + own * rise[:, None], rest, m.triangles[scalp & ~ears], HAIR)
    if kind == "long":
        falling = m.triangles[m.made_of == LONG_HAIR]
        middle = rest[falling].mean(axis=1)
        open_face = (middle[:, 2] < 0.75 + random.uniform(-0.2, 0.2)) & (middle[:, 1] > random.uniform(3.5, 6.3))
        wide = places.copy()
        wide[:, 0] *= random.uniform(0.88, 1.1)
        parts.add(wide, rest, falling[open_face], HAIR)


def _tube(line: Floats, radius: float) -> tuple[Floats, NDArray[np.int64]]:
    """A tube of four sides along a line (n, 3)."""
    along = np.gradient(line, axis=0)
    along /= np.maximum(np.linalg.norm(along, axis=1, keepdims=True), 1e-12)
    one = np.cross(along, [0.1, 0.2, 0.97])
    one /= np.maximum(np.linalg.norm(one, axis=1, keepdims=True), 1e-12)
    other = np.cross(along, one)
    ring = np.stack([line + radius * w for w in (one, other, -one, -other)], axis=1)
    faces = []
    for n in range(len(line) - 1):
        for k in range(4):
            a, b, c, d = 4 * n + k, 4 * n + (k + 1) % 4, 4 * n + 4 + k, 4 * n + 4 + (k + 1) % 4
            faces += [[a, b, c], [b, d, c]]
    return ring.reshape(-1, 3), np.array(faces)


def _add_glasses(parts: _Parts, places: Floats, rest: Floats, looks: dict[str, Any], random: Random) -> None:
    turn = np.linspace(0, 2 * np.pi, 28)
    wide, high, square = random.uniform(0.2, 0.31), random.uniform(0.14, 0.27), random.uniform(2.0, 5.0)
    thick = random.uniform(0.012, 0.045)
    eyes = [
        places[(np.hypot(rest[:, 0] - s * 0.308, rest[:, 1] - EYES) < 0.16) & (rest[:, 2] > 1.1)].mean(axis=0) for s in (-1, 1)
    ]
    ears = [
        places[(rest[:, 0] * s > 0.7) & (np.abs(rest[:, 1] - 7.25) < 0.12) & (rest[:, 2] > 0.25)].mean(axis=0) for s in (-1, 1)
    ]
    lift, ahead = random.uniform(-0.06, 0.03), 0.26
    rims = []
    for side, eye in zip((-1, 1), eyes, strict=True):
        c, s = np.cos(turn), np.sin(turn)
        x = wide * np.sign(c) * np.abs(c) ** (2 / square)
        y = high * np.sign(s) * np.abs(s) ** (2 / square)
        bend = -0.18 * np.abs(x + side * 0.2) ** 1.5
        rim = np.stack([eye[0] + side * 0.03 + x, eye[1] + lift + y, eye[2] + ahead + bend], axis=1)
        rims.append(rim)
        for line in (rim,):
            tube, faces = _tube(line, thick)
            parts.add(tube, tube, faces, FRAME)
        middle = rim.mean(axis=0)
        fan = np.array([[0, k, k + 1] for k in range(1, len(rim))])
        if looks["lens"] > 0:
            both = np.concatenate([middle[None], rim])
            parts.add(both, both, fan, LENS)
        outer = rim[np.argmax(side * rim[:, 0])]
        temple = np.stack([outer, outer + np.array([side * 0.05, 0.02, -0.3]), ears[(side + 1) // 2] + [0, 0.05, 0]])
        tube, faces = _tube(temple, 0.8 * thick)
        parts.add(tube, tube, faces, FRAME)
    bridge = np.stack([rims[0][np.argmax(rims[0][:, 0])], rims[1][np.argmin(rims[1][:, 0])]])
    bridge = np.stack([bridge[0], bridge.mean(axis=0) + np.array([0, 0.03, 0.05]), bridge[1]])
    tube, faces = _tube(bridge, thick)
    parts.add(tube, tube, faces, FRAME)


def _add_hat(parts: _Parts, places: Floats, rest: Floats, random: Random) -> None:
    """A cap with a peak, a hat with a brim, or a woollen cap."""
    kind = str(random.choice(["peak", "brim", "wool", "helmet"]))
    skull = places[(rest[:, 1] > 7.7) & (rest[:, 1] < 8.6) & (rest[:, 2] < 1.7)]
    middle = skull.mean(axis=0)
    base = np.quantile(skull[:, 1], 0.35) + random.uniform(-0.1, 0.15)
    half = np.array([np.abs(skull[:, 0]).max(), 0, 0.5 * np.ptp(skull[:, 2])]) * random.uniform(1.04, 1.15)
    high = random.uniform(0.6, 1.2) if kind != "brim" else random.uniform(0.8, 1.5)
    around, up = np.meshgrid(np.linspace(0, 2 * np.pi, 33), np.linspace(0, np.pi / 2, 9))
    power = 0.6 if kind == "brim" else 1.0
    r = np.cos(up) ** power
    dome = np.stack([
        half[0] * r * np.sin(around), base - middle[1] + high * np.sin(up), half[2] * r * np.cos(around)
    ], axis=-1).reshape(-1, 3) + middle  # fmt: skip
    grid = np.arange(9 * 33).reshape(9, 33)
    faces = np.concatenate([
        np.stack([grid[:-1, :-1], grid[1:, :-1], grid[:-1, 1:]], axis=-1).reshape(-1, 3),
        np.stack([grid[1:, :-1], grid[1:, 1:], grid[:-1, 1:]], axis=-1).reshape(-1, 3),
    ])  # fmt: skip
    parts.add(dome, dome, faces, HAT)
    if kind in ("peak", "brim"):
        reach = random.uniform(0.5, 0.9)
        share = np.clip(np.cos(np.linspace(0, 2 * np.pi, 33)), 0, 1) ** 0.7 if kind == "peak" else np.ones(33)
        inner = dome[:33]
        out = inner - middle
        out[:, 1] = 0
        out /= np.maximum(np.linalg.norm(out, axis=1, keepdims=True), 1e-9)
        outer = inner + reach * share[:, None] * out - [0, random.uniform(0.0, 0.2), 0]
        ring = np.concatenate([inner, outer])
        k = np.arange(32)
        faces = np.concatenate([np.stack([k, k + 1, k + 33], axis=1), np.stack([k + 1, k + 34, k + 33], axis=1)])
        parts.add(ring, ring, faces, HAT)
