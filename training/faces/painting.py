"""Paints made-up heads: light with shadows, skin, eyes, hair; then what a camera does to them; with the place of each face.

The box of a face is a square: its side is the distance from hairline to chin as it would be seen straight on, its middle halfway
between both; `angle` is the way its upright leans, degrees from up towards +x.
"""

from __future__ import annotations

import io
from dataclasses import dataclass, replace

import numpy as np
from numpy.typing import NDArray
from PIL import Image
from scipy import ndimage

from training.faces import heads
from training.faces.rasterising import carried, openness, rendered

Floats = NDArray[np.float64]
Random = np.random.Generator

_EVEN = 0.75
"""How far a camera's exposure evens out how bright a picture is."""


def _sphere(count: int) -> Floats:
    """Directions spread evenly over the sphere."""
    n = np.arange(count) + 0.5
    height, turn = 1 - 2 * n / count, np.pi * (1 + 5**0.5) * n
    flat = np.sqrt(1 - height**2)
    return np.stack([flat * np.cos(turn), height, flat * np.sin(turn)], axis=1)


WAYS = _sphere(80)
"""Directions from which light comes."""


@dataclass(frozen=True)
class Lit:
    """A head and from which directions each vertex sees light."""

    head: heads.Head
    normals: Floats
    open: NDArray[np.bool_]
    """(ways, vertices)."""


def lit(head: heads.Head) -> Lit:
    """Work out what shades what."""
    return Lit(head, heads.normals(head.places, head.triangles), openness(head.places.astype(np.float32), head.triangles, WAYS))


@dataclass(frozen=True)
class Pose:
    """Degrees; `far`: distance of the camera in sides of the face."""

    yaw: float = 0.0
    pitch: float = 0.0
    roll: float = 0.0
    far: float = 10.0


@dataclass(frozen=True)
class Face:
    """Where a face is."""

    x: float
    y: float
    side: float
    angle: float
    yaw: float
    pitch: float
    tone: float
    """0 light to 1 dark."""
    visible: float = 1.0
    """Share of the box that is in the picture and not hidden by others."""


def turned(pose: Pose) -> Floats:
    """The head's rotation: columns are where its right, up and front go; the camera looks along -z."""
    y, p, r = (np.radians(v) for v in (pose.yaw, pose.pitch, -pose.roll))
    yaw = np.array([[np.cos(y), 0, np.sin(y)], [0, 1, 0], [-np.sin(y), 0, np.cos(y)]])
    pitch = np.array([[1, 0, 0], [0, np.cos(p), -np.sin(p)], [0, np.sin(p), np.cos(p)]])
    roll = np.array([[np.cos(r), -np.sin(r), 0], [np.sin(r), np.cos(r), 0], [0, 0, 1]])
    return np.asarray(roll @ pitch @ yaw)


def light(random: Random) -> Floats:
    """(ways, 3): how much light comes from each direction, in the camera's frame; its mean is about 1."""
    sky = random.uniform(0.25, 1.0)
    up, ahead = WAYS[:, 1], WAYS[:, 2]
    ambient = sky * (1 + random.uniform(0, 0.9) * up + random.uniform(-0.3, 0.5) * ahead)
    found = np.clip(ambient, 0.02, None)[:, None] * random.uniform(0.85, 1.15, 3)
    for _ in range(int(random.choice([0, 1, 1, 1, 2, 2, 3]))):
        way = random.normal(0, 1, 3) * [1.0, 0.7, 0.9] + [0, 0.55, 0.35]
        way /= np.linalg.norm(way)
        sharp = np.exp(random.uniform(np.log(2), np.log(60)))
        lobe = np.exp(sharp * (WAYS @ way - 1))
        strength = random.uniform(0.4, 3.0) / max(lobe.mean(), 1e-3) * 0.5
        found += strength * lobe[:, None] * random.uniform(0.8, 1.2, 3)
    return np.asarray(found / found.mean() * random.uniform(0.7, 1.1))


def paint(lit: Lit, pose: Pose, sky: Floats, side: float, random: Random) -> tuple[Floats, Floats, Face]:
    """Linear light (h, w, 3) and cover (h, w) of a head, the face's side so many px, and the face in that picture."""
    head = lit.head
    # Samples of a pixel along each side.
    fine = 3 if side < 40 else 2
    rotation = turned(pose)
    scale = side * fine / head.side
    local = (head.places - head.middle) @ rotation.T
    far = pose.far * head.side
    near = far / np.maximum(far - local[:, 2], 0.2 * far)
    u, v = local[:, 0] * near * scale, -local[:, 1] * near * scale
    left, top = u.min() - 2, v.min() - 2
    wide, high = int(np.ceil(u.max() - left + 3)), int(np.ceil(v.max() - top + 3))
    wide, high = min(wide, int(4.2 * side * fine)), min(high, int(3.2 * side * fine))
    left = max(left, -2.1 * side * fine)
    places = np.stack([u - left, v - top, -local[:, 2]], axis=1)
    seen, weights, _ = rendered(places, head.triangles, (high, wide))
    hit = seen >= 0
    made_of = head.made_of[seen[hit]]
    rest = carried(head.rest.astype(np.float32), head.triangles, seen, weights).astype(float)
    # The light of the camera's frame, turned into the head's.
    facing = np.clip(lit.normals @ (WAYS.T), 0, None) * lit.open.T
    turned_sky = np.zeros_like(sky)
    np.add.at(turned_sky, np.arange(len(WAYS)), sky[nearest_of(rotation)])
    received = 4.0 / len(WAYS) * (facing @ turned_sky)
    view = rotation.T @ np.array([0, 0, 1.0])
    halves = WAYS + view
    halves /= np.maximum(np.linalg.norm(halves, axis=1, keepdims=True), 1e-9)
    gloss = (np.clip(lit.normals @ halves.T, 0, None) ** 24 * lit.open.T) @ turned_sky * (4.0 / len(WAYS))
    shade = carried(np.concatenate([received, gloss], axis=1).astype(np.float32), head.triangles, seen, weights).astype(float)
    albedo, shine = _surface(head, made_of, rest, random)
    out = np.zeros((high, wide, 3))
    out[hit] = albedo * shade[:, :3] + shine[:, None] * shade[:, 3:]
    rows, columns = (n // fine for n in (high, wide))
    cut = (slice(rows * fine), slice(columns * fine))

    def shrunk(values: Floats) -> Floats:
        shape = (rows, fine, columns, fine, *values.shape[2:])
        return np.asarray(values[cut].reshape(shape).mean(axis=(1, 3)))

    cover = shrunk(hit.astype(float))
    colour = shrunk(out) / np.maximum(cover, 1e-6)[..., None]
    at = (np.array([-left, -top]) + 0.5) / fine - 0.5
    upright = rotation @ (head.hairline - head.chin)
    angle = float(np.degrees(np.arctan2(upright[0], upright[1])))
    face = Face(float(at[0]), float(at[1]), side, angle, pose.yaw, pose.pitch, head.looks["tone"])
    return colour, cover, face


def nearest_of(rotation: Floats) -> NDArray[np.int64]:
    """For each direction of the head's frame the nearest one of the camera's."""
    return np.asarray(np.argmax((WAYS @ rotation.T) @ WAYS.T, axis=1))


def _noise(rest: Floats, random: Random, fine: float, octaves: int = 2) -> Floats:
    """Smooth noise over the mesh, about -1 to 1."""
    total = np.zeros(len(rest), np.float32)
    places = rest.astype(np.float32)
    for octave in range(octaves):
        way = random.normal(0, fine * 2**octave, (3, 2)).astype(np.float32)
        waves = np.sin(places @ way + random.uniform(0, 6.28, 2).astype(np.float32))
        total += waves[:, 0] * waves[:, 1] / (1 + octave)
    return total


def _surface(head: heads.Head, made_of: NDArray[np.int64], rest: Floats, random: Random) -> tuple[Floats, Floats]:
    """Albedo and gloss of each pixel, from where it lies on the mesh before it was shaped."""
    looks = head.looks
    x, y, z = rest.T
    front = 1 / (1 + np.exp(-(z - 0.9) / 0.06))
    albedo = np.tile(looks["skin"], (len(rest), 1)) * (1 + 0.05 * _noise(rest, random, 2.5))[:, None]
    albedo *= 1 - looks["freckles"] * (np.clip(_noise(rest, random, 22.0, 1) - 0.45, 0, 1) * (np.abs(y - 7.0) < 0.4))[:, None]
    # Cheeks, nose and ears are redder, the hollows of the eyes darker.
    red = np.exp(-(((np.abs(x) - 0.42) / 0.22) ** 2) - ((y - 6.95) / 0.2) ** 2) + np.exp(
        -((x / 0.12) ** 2) - ((y - 6.97) / 0.12) ** 2
    )
    albedo *= 1 - 0.16 * np.clip(red, 0, 1)[:, None] * [0.0, 1.0, 0.8]
    hollow = np.exp(-(((np.abs(x) - 0.3) / 0.2) ** 2) - ((y - 7.24) / 0.13) ** 2) * front
    albedo *= 1 - 0.22 * hollow[:, None]
    lips = (
        front
        * (np.abs(x) < 0.27)
        * np.exp(-(((y - 6.6 - 0.0 * x) / (0.085 * np.sqrt(np.clip(1 - (x / 0.27) ** 2, 0.05, 1)))) ** 4))
    )
    albedo *= 1 - lips[:, None] * looks["lip"] * np.array([0.12, 0.5, 0.42])
    strands = 1 + 0.45 * _noise(rest * [6, 0.7, 6], random, 4.0)
    hair = looks["hair"] * np.clip(strands, 0.3, 2)[:, None]

    def cover_with(colour: Floats, share: Floats) -> None:
        nonlocal albedo
        share = np.clip(share, 0, 1)[:, None]
        albedo = albedo * (1 - share) + colour * share

    arch = 7.5 + looks["brow_height"] + 0.1 * np.abs(x) - 0.42 * np.clip(np.abs(x) - 0.3, 0, 1) ** 1.6
    brow = front * np.exp(-(((y - arch) / looks["brow_thick"]) ** 4)) * (np.abs(x) > 0.1) * (np.abs(x) < 0.56)
    cover_with(0.8 * hair, looks["brow"] * brow * (0.75 + 0.35 * _noise(rest, random, 14.0, 2)))
    lash = front * np.exp(-(((np.hypot((np.abs(x) - 0.31) / 1.35, y - 7.285) - 0.115) / 0.022) ** 2)) * (y > 7.27)
    cover_with(np.full((len(rest), 3), 0.015), 0.8 * lash)
    grain = 0.6 + 0.5 * _noise(rest, random, 12.0, 3)
    jaw = (y < 6.9 - 0.25 * np.clip(z - 1.2, 0, 1)) * (y > 5.95) * np.clip((z - 0.35) / 0.2, 0, 1) * (1 - lips)
    cheeks = np.clip((6.75 + 0.25 * (np.abs(x) > 0.55) - y) / 0.1, 0, 1)
    cover_with(hair, np.clip(2.2 * looks["beard"], 0, 1) * jaw * cheeks * np.clip(grain + looks["beard"] - 0.2, 0, 1))
    lip_above = front * np.exp(-(((y - 6.76) / 0.07) ** 4)) * (np.abs(x) < 0.34)
    cover_with(hair, np.clip(2.2 * looks["moustache"], 0, 1) * lip_above * np.clip(grain + 0.2, 0, 1))
    cover_with(hair, 0.5 * looks["stubble"] * jaw * cheeks)
    if looks["hair_style"] != "bald":
        above = heads._hairline(rest, looks["hairline"])
        cover_with(hair, np.clip((above + 0.06 * _noise(rest, random, 9.0, 2)) / 0.08, 0, 1) * (y > 6.4))
    shine = np.full(len(rest), looks["gloss"])
    eyes = made_of == heads.EYE
    off = np.hypot(np.abs(x[eyes]) - 0.308, y[eyes] - heads.EYES)
    ball = np.where((off < 0.062)[:, None], np.where((off < 0.027)[:, None], 0.006, looks["iris"]), [0.62, 0.58, 0.54])
    albedo[eyes], shine[eyes] = ball, 0.25
    albedo[(made_of == heads.TEETH)] = [0.6, 0.57, 0.5]
    albedo[made_of == heads.TONGUE] = [0.3, 0.09, 0.08]
    is_hair = made_of == heads.HAIR
    albedo[is_hair], shine[is_hair] = hair[is_hair], 0.06
    cloth = looks["cloth"] * (1 + 0.35 * np.sign(np.sin(looks["stripes"] * (x + 3 * y))) * (looks["stripes"] > 0))[:, None]
    is_cloth = (made_of == heads.SKIN) & (y < head.looks["collar"] + 0.25 * np.minimum(np.abs(x), 0.6) - 0.15 * (z > 0.4))
    albedo[is_cloth], shine[is_cloth] = (cloth * (1 + 0.15 * _noise(rest, random, 6.0))[:, None])[is_cloth], 0.0
    for kind, name, gloss in ((heads.FRAME, "frame", 0.3), (heads.HAT, "hat", 0.02)):
        chosen = made_of == kind
        albedo[chosen], shine[chosen] = looks[name], gloss
    lens = made_of == heads.LENS
    albedo[lens], shine[lens] = 0.012, 0.5
    return np.clip(albedo, 0.002, 0.95), shine


def camera(picture: Floats, random: Random, scale: float = 1.0) -> NDArray[np.uint8]:
    """What a camera makes of linear light (h, w, 3): exposure, blur, noise, tone, compression. `scale`: of what is blurred."""
    bright = float(np.exp(np.log(picture.mean(axis=2) + 0.01).mean()))
    exposed = picture * (0.2 / bright) ** _EVEN * np.exp(random.normal(0, 0.35)) * random.uniform(0.85, 1.18, 3)
    if random.random() < 0.7:
        exposed = ndimage.gaussian_filter(exposed, (*[scale * random.uniform(0.2, 1.1)] * 2, 0))
    if random.random() < 0.1:
        exposed = ndimage.uniform_filter1d(exposed, int(1 + scale * random.integers(1, 5)), axis=int(random.integers(2)))
    noise = random.choice([0.0, 0.004, 0.01, 0.025])
    exposed = exposed + random.normal(0, 1, exposed.shape) * np.sqrt(noise**2 + noise * np.clip(exposed, 0, 1) * 0.03)
    if random.random() < 0.15:
        exposed = exposed.mean(axis=2, keepdims=True) * random.uniform(0.9, 1.1, 3)
    toned = np.clip(exposed, 0, 1) ** (1 / random.uniform(1.8, 2.6))
    contrast = random.uniform(0.8, 1.2)
    toned = np.clip((toned - 0.5) * contrast + 0.5 + random.uniform(-0.08, 0.08), 0, 1)
    if random.random() < 0.2:
        toned = np.repeat((toned @ [0.299, 0.587, 0.114])[..., None], 3, axis=2)
    seen = np.round(255 * toned).astype(np.uint8)
    if random.random() < 0.5:
        buffer = io.BytesIO()
        Image.fromarray(seen).save(buffer, "JPEG", quality=int(random.integers(30, 96)))
        seen = np.asarray(Image.open(buffer))
    return seen


def placed(ground: Floats, colour: Floats, cover: Floats, face: Face, x: float, y: float) -> Face:
    """Put a head into a picture so that its face's middle is at x, y (to a pixel); returns the face there."""
    left, top = round(x - face.x), round(y - face.y)
    high, wide = ground.shape[:2]
    rows, columns = cover.shape
    y0, y1, x0, x1 = max(0, top), min(high, top + rows), max(0, left), min(wide, left + columns)
    if y0 < y1 and x0 < x1:
        own = cover[y0 - top : y1 - top, x0 - left : x1 - left, None]
        ground[y0:y1, x0:x1] = ground[y0:y1, x0:x1] * (1 - own) + colour[y0 - top : y1 - top, x0 - left : x1 - left] * own
    return replace(face, x=face.x + left, y=face.y + top)


def random_pose(random: Random, wide: float = 1.0) -> Pose:
    """A pose as people have before a camera: mostly towards it."""
    yaw = float(np.clip(random.normal(0, 20 * wide), -60, 60))
    pitch = float(np.clip(random.normal(2, 10 * wide), -30, 30))
    roll = float(np.clip(random.normal(0, 9), -34, 34)) if random.random() < 0.65 else float(random.uniform(-34, 34))
    return Pose(yaw, pitch, roll, float(np.exp(random.uniform(np.log(2.6), np.log(25)))))
