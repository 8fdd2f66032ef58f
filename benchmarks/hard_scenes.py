"""Hard made-up pictures with truth: shapes on natural grounds, seen through blur, noise, compression, bad light and print.

A scene is shapes of one kind on a ground; a condition is what the camera or the printer makes of it. No two shapes touch.
"""

from __future__ import annotations

import io
import json
import math
from collections.abc import Callable
from dataclasses import dataclass, field
from pathlib import Path

import numpy as np
from numpy.typing import NDArray
from PIL import Image as Pillow
from scipy import ndimage, special

from benchmarks.shape_scenes import Oval, Stroke
from lucid_finch import demo
from lucid_finch.core.image import Image

PICTURES = Path(demo.__file__).parent / "pictures"
FINE = 2
WIDTH, HEIGHT = 960, 720
Plane = NDArray[np.float32]


@dataclass(frozen=True)
class Piece:
    """A filled shape that was painted: its name, centroid, area and size in px."""

    what: str
    x: float
    y: float
    area: float
    size: float


@dataclass
class Scene:
    """A picture at `FINE` samples a pixel and a side, and what is on it."""

    plane: Plane
    ovals: list[Oval] = field(default_factory=list)
    strokes: list[Stroke] = field(default_factory=list)
    pieces: list[Piece] = field(default_factory=list)
    corners: list[tuple[float, float]] = field(default_factory=list)
    template: NDArray[np.uint8] | None = None
    """A clear picture of what `pieces` named "mark" are."""


def _smooth_noise(random: np.random.Generator, scale: tuple[float, float], size: tuple[int, int]) -> Plane:
    """Noise of unit deviation, smooth over that many px down and across."""
    shape = [max(4, math.ceil(n / max(s, 1))) + 3 for n, s in zip(size, scale, strict=True)]
    rough = random.normal(0, 1, shape).astype(np.float32)
    zoomed = ndimage.zoom(rough, [(n + 2 * s) / (m - 1) for n, s, m in zip(size, scale, shape, strict=True)], order=3)
    part = zoomed[: size[0], : size[1]]
    return np.asarray(part / part.std(), np.float32)


def ground(what: str, random: np.random.Generator, size: tuple[int, int] = (HEIGHT, WIDTH)) -> Plane:
    """A ground at one sample a pixel, about 110 to 140 grey."""
    y, x = (v.astype(np.float32) for v in np.mgrid[: size[0], : size[1]])
    level = random.uniform(105, 140)
    if what == "plain":
        turn = random.uniform(0, 2 * math.pi)
        return np.asarray(level + 18 * (x * math.cos(turn) + y * math.sin(turn)) / size[1], np.float32)
    if what == "wood":
        bend = 14 * _smooth_noise(random, (160, 260), size) + 0.02 * x
        rings = np.sin(2 * math.pi * (y + 3 * bend) / random.uniform(14, 22)) + 0.6 * np.sin(2 * math.pi * (y + 3 * bend) / 5.3)
        grain = _smooth_noise(random, (1.2, 22), size)
        return np.asarray(level + 6 * rings + 5 * grain + 5 * _smooth_noise(random, (90, 200), size), np.float32)
    if what == "stone":
        parts = [(1.5, 5.0), (4, 5.0), (12, 4.0), (40, 5.0)]
        return np.asarray(level + sum(a * _smooth_noise(random, (s, s), size) for s, a in parts), np.float32)
    if what == "noisy":
        return np.asarray(level + random.normal(0, 12, size) + 6 * _smooth_noise(random, (30, 30), size), np.float32)
    if what == "metal":
        brushed = ndimage.gaussian_filter1d(random.normal(0, 1, size), 25, axis=1)
        light = np.exp(-(((y - random.uniform(0.2, 0.8) * size[0]) / (0.22 * size[0])) ** 2))
        return np.asarray(level - 20 + 6 * brushed / brushed.std() + 45 * light, np.float32)
    if what == "foliage":
        return leaves(random, size)
    if what == "bricks":
        return bricks(random, size)
    if what == "slats":
        return slats(random, size)
    if what == "page":
        return page(random, size)
    raise ValueError(what)


def leaves(random: np.random.Generator, size: tuple[int, int]) -> Plane:
    """Leaves over one another, lit from one side."""
    y, x = (v.astype(np.float32) for v in np.mgrid[: size[0], : size[1]])
    plane = np.full(size, 60.0, np.float32)
    for _ in range(size[0] * size[1] // 260):
        cx, cy, turn = random.uniform(0, size[1]), random.uniform(0, size[0]), random.uniform(0, math.pi)
        long, wide, tone = random.uniform(9, 26), random.uniform(3, 8), random.uniform(50, 190)
        reach = int(long) + 1
        part = np.s_[max(int(cy) - reach, 0) : int(cy) + reach, max(int(cx) - reach, 0) : int(cx) + reach]
        u = (x[part] - cx) * math.cos(turn) + (y[part] - cy) * math.sin(turn)
        v = (y[part] - cy) * math.cos(turn) - (x[part] - cx) * math.sin(turn)
        inside = np.abs(v) < wide * (1 - (u / long) ** 2)
        plane[part] = np.where(inside, tone + 12 * np.sign(v) * (np.abs(v) > 0.5), plane[part])
    return plane


def bricks(random: np.random.Generator, size: tuple[int, int]) -> Plane:
    """A wall: bricks of several tones, bright joints."""
    y, x = np.mgrid[: size[0], : size[1]]
    high, wide, joint = random.uniform(26, 40), random.uniform(70, 110), random.uniform(3, 6)
    row = (y // high).astype(int)
    across = x + (row % 2) * wide / 2
    column = (across // wide).astype(int)
    tones = random.uniform(70, 130, (row.max() + 2, column.max() + 2))
    plane = tones[row, column] + 6 * _smooth_noise(random, (2, 2), size)
    inside = (y % high < high - joint) & (across % wide < wide - joint)
    return np.asarray(np.where(inside, plane, 165 + 4 * _smooth_noise(random, (2, 2), size)), np.float32)


def slats(random: np.random.Generator, size: tuple[int, int]) -> Plane:
    """A wall of slats: each catches light at its upper edge and throws a shadow below."""
    y, x = np.mgrid[: size[0], : size[1]]
    high = random.uniform(14, 30)
    place = (y + 0.01 * x) % high / high
    plane = 110 + 45 * np.exp(-(((place - 0.12) / 0.08) ** 2)) - 50 * (place > 0.86)
    return np.asarray(plane + 4 * _smooth_noise(random, (1.5, 30), size), np.float32)


def page(random: np.random.Generator, size: tuple[int, int]) -> Plane:
    """A printed page: lines of made-up signs of strokes and bows."""
    plane = np.full(size, 215.0, np.float32)
    high = random.uniform(11, 20)
    signs = []
    for _ in range(20):
        y, x = np.mgrid[: int(high), : int(0.7 * high)]
        sign = np.zeros(y.shape, bool)
        for _ in range(random.integers(1, 4)):
            at, turn, wide = (
                random.uniform(0.2, 0.8, 2) * high * (0.7, 1.0),
                random.choice([0, math.pi / 2, 0.9, 2.2]),
                0.08 * high,
            )
            if random.random() < 0.4:
                sign |= np.abs(np.hypot(x - at[0], y - at[1]) - 0.28 * high) < wide
            else:
                sign |= np.abs((y - at[1]) * math.cos(turn) - (x - at[0]) * math.sin(turn)) < wide
        signs.append(sign)
    for top in np.arange(high, size[0] - 2 * high, 1.6 * high):
        left = 1.5 * high
        while left < size[1] - 2.5 * high:
            sign = signs[random.integers(len(signs))]
            part = np.s_[int(top) : int(top) + sign.shape[0], int(left) : int(left) + sign.shape[1]]
            if random.random() < 0.85:
                plane[part] = np.where(sign, 45.0, plane[part])
            left += 0.8 * high
    return plane


def _fine(ground_: Plane) -> Plane:
    return np.ascontiguousarray(np.repeat(np.repeat(ground_, FINE, axis=0), FINE, axis=1))


class _Painter:
    """Puts shapes beside one another on a ground."""

    def __init__(self, ground_: Plane, random: np.random.Generator) -> None:
        self.random, self.scene, self.taken = random, Scene(_fine(ground_)), []
        y, x = (np.mgrid[: HEIGHT * FINE, : WIDTH * FINE].astype(np.float32) + 0.5) / FINE - 0.5
        self._x, self._y = x, y

    def place(self, reach: float, gap: float = 12.0) -> tuple[float, float] | None:
        """A free place for a shape of that radius."""
        for _ in range(200):
            x = self.random.uniform(reach + 14, WIDTH - reach - 14)
            y = self.random.uniform(reach + 14, HEIGHT - reach - 14)
            if all(math.hypot(x - a, y - b) > reach + r + gap for a, b, r in self.taken):
                self.taken.append((x, y, reach))
                return x, y
        return None

    def contrast(self, least: float = 35.0, most: float = 85.0) -> float:
        return float(self.random.choice([-1, 1]) * self.random.uniform(least, most))

    def around(self, x: float, y: float, turn: float, reach: float) -> tuple[tuple[slice, slice], Plane, Plane]:
        """A part of the picture, and its places in the frame of a shape."""
        low, high = (math.floor((p - reach - 2) * FINE) for p in (x, y)), (math.ceil((p + reach + 2) * FINE) for p in (x, y))
        (x0, y0), (x1, y1) = (tuple(max(v, 0) for v in ends) for ends in (low, high))
        part = np.s_[y0:y1, x0:x1]
        u, v = self._x[part] - x, self._y[part] - y
        c, s = math.cos(turn), math.sin(turn)
        return part, u * c + v * s, v * c - u * s

    def put(self, part: tuple[slice, slice], inside: NDArray[np.bool_], contrast: float) -> None:
        self.scene.plane[part] += np.float32(contrast) * inside

    def piece(self, what: str, reach: float, contrast: float, turn: float | None = None) -> None:
        """A named shape at a free place."""
        at = self.place(reach)
        if at is None:
            return
        turn = self.random.uniform(0, 2 * math.pi) if turn is None else turn
        part, u, v = self.around(*at, turn, reach)
        inside = inside_of(what, u, v, reach)
        self.put(part, inside, contrast)
        area = inside.sum() / FINE**2
        if area:
            px, py = (float((w[part] * inside).sum() / inside.sum()) for w in (self._x, self._y))
            self.scene.pieces.append(Piece(what, px, py, float(area), reach))
            if what == "disc":
                self.scene.ovals.append(Oval(*at, reach, reach, 0.0, contrast, 1.0))


def inside_of(what: str, u: Plane, v: Plane, reach: float) -> NDArray[np.bool_]:
    """The inside of a shape of that outer radius in its own frame."""
    far, angle = np.hypot(u, v), np.arctan2(v, u)
    if what == "disc":
        return far < reach
    if what in ("triangle", "square", "pentagon", "hexagon", "octagon"):
        count = {"triangle": 3, "square": 4, "pentagon": 5, "hexagon": 6, "octagon": 8}[what]
        sector = (angle + math.pi / count) % (2 * math.pi / count) - math.pi / count
        return far * np.cos(sector) < reach * math.cos(math.pi / count)
    if what == "rectangle":
        return (np.abs(u) < 0.87 * reach) & (np.abs(v) < 0.48 * reach)
    if what == "oval":
        return (u / reach) ** 2 + (v / (0.62 * reach)) ** 2 < 1
    if what == "gear":
        count = max(10, round(reach * 0.55))
        return far < reach * np.where(np.sin(count * angle) > 0, 1.0, 0.86)
    if what == "washer":
        return (far < reach) & (far > 0.5 * reach)
    if what == "blob":
        return far < reach * (0.72 + 0.16 * np.sin(3 * angle + 1) + 0.1 * np.sin(5 * angle))
    raise ValueError(what)


def circles(seed: int, ground_: str = "plain") -> Scene:
    """Fourteen discs and washers, with bolts and gears that are none."""
    random = np.random.default_rng(seed)
    painter = _Painter(ground(ground_, random), random)
    for k in range(14):
        reach = random.uniform(11, 55)
        if k % 4 == 3:
            painter.piece(
                "gear" if k == 3 else "octagon" if k % 8 == 7 else "hexagon", random.uniform(25, 45), painter.contrast()
            )
        painter.piece("disc", reach, painter.contrast())
    return painter.scene


def ellipses(seed: int, ground_: str = "plain") -> Scene:
    """Fourteen ellipses."""
    random = np.random.default_rng(seed)
    painter = _Painter(ground(ground_, random), random)
    for _ in range(14):
        major = random.uniform(16, 60)
        minor, turn, at = max(major * random.uniform(0.4, 0.85), 9.0), random.uniform(0, math.pi), painter.place(major)
        if at is not None:
            part, u, v = painter.around(*at, turn, major)
            contrast = painter.contrast()
            painter.put(part, (u / major) ** 2 + (v / minor) ** 2 < 1, contrast)
            painter.scene.ovals.append(Oval(*at, major, minor, turn, contrast, 1.0))
    return painter.scene


def lines(seed: int, ground_: str = "plain") -> Scene:
    """Twelve strokes 2 to 8 px wide and 90 to 300 px long that do not cross."""
    random = np.random.default_rng(seed)
    painter = _Painter(ground(ground_, random), random)
    covered = np.zeros((HEIGHT, WIDTH), bool)
    for _ in range(12):
        for _ in range(200):
            length, turn, wide = random.uniform(90, 300), random.uniform(0, math.pi), random.uniform(2, 8)
            reach = length / 2
            x, y = random.uniform(20, WIDTH - 20), random.uniform(20, HEIGHT - 20)
            t = np.linspace(-reach - 15, reach + 15, 100)
            column, row = (x + t * math.cos(turn)).astype(int), (y + t * math.sin(turn)).astype(int)
            if column.min() < 12 or row.min() < 12 or column.max() > WIDTH - 12 or row.max() > HEIGHT - 12:
                continue
            if not covered[row, column].any():
                break
        else:
            continue
        spot = np.zeros_like(covered)
        spot[row, column] = True
        covered |= ndimage.binary_dilation(spot, iterations=24)
        part, u, v = painter.around(x, y, turn, reach)
        painter.put(part, (np.abs(u) < reach) & (np.abs(v) < wide / 2), painter.contrast())
        painter.scene.strokes.append(Stroke(float(x), float(y), float(turn), float(length), "solid"))
    return painter.scene


def pieces(seed: int, ground_: str = "plain") -> Scene:
    """Sixteen filled shapes, all darker or all brighter than the ground."""
    random = np.random.default_rng(seed)
    painter = _Painter(ground(ground_, random), random)
    sign = random.choice([-1, 1])
    names = ("disc", "rectangle", "triangle", "square", "hexagon", "oval", "blob", "gear")
    for k in range(16):
        painter.piece(names[k % len(names)], random.uniform(16, 52), float(sign * random.uniform(35, 85)))
    return painter.scene


def seals(seed: int, ground_: str = "wood", count: int = 7) -> Scene:
    """Stamped clay seals: discs that are not quite round, with a raised rim, a relief and a shadow."""
    random = np.random.default_rng(seed)
    painter = _Painter(ground(ground_, random), random)
    light = random.uniform(0, 2 * math.pi)
    for _ in range(count):
        reach = random.uniform(26, 70)
        at = painter.place(reach + 10)
        if at is None:
            continue
        part, u, v = painter.around(*at, 0.0, reach + 12)
        angle = np.arctan2(v, u)
        uneven = sum(
            random.normal(0, s) * np.cos(k * angle + random.uniform(0, 7)) for k, s in ((2, 0.9), (3, 0.6), (4, 0.4), (7, 0.3))
        )
        far = np.hypot(u, v) - uneven * min(reach / 40, 1.4)
        height = 5 * special.expit((reach - far) / 0.7) + 2.5 * np.exp(-(((far - 0.86 * reach) / (0.05 * reach)) ** 2))
        relief = _smooth_noise(random, (0.16 * reach * FINE,) * 2, (u.shape[0], u.shape[1]))
        height += 1.6 * relief * special.expit((0.7 * reach - far) / 1.5)
        gy, gx = np.gradient(height.astype(np.float32) * FINE)
        shade = -26 * np.clip(gx * math.cos(light) + gy * math.sin(light), -1.6, 1.6)
        inside = special.expit((reach - far) / 0.5)
        su, sv = u - 5 * math.cos(light), v - 5 * math.sin(light)
        shadow = -25 * special.expit((reach - np.hypot(su, sv)) / 2.5) * (1 - inside)
        tone = random.uniform(100, 190)
        plane = painter.scene.plane
        rough = 3 * random.normal(0, 1, u.shape)
        plane[part] = (plane[part] + shadow) * (1 - inside) + (tone + shade + rough) * inside
        painter.scene.ovals.append(Oval(*at, reach, reach, 0.0, tone - 120, 1.0))
    return painter.scene


def corners(seed: int, ground_: str = "plain") -> Scene:
    """Ten polygons and a small chessboard: the corners of all."""
    random = np.random.default_rng(seed)
    painter = _Painter(ground(ground_, random), random)
    side, turn, contrast = random.uniform(16, 26), random.uniform(0, math.pi), painter.contrast()
    at = painter.place(3.9 * side)
    if at is not None:
        part, u, v = painter.around(*at, turn, 4 * side)
        inside = (np.abs(u) < 3 * side) & (np.abs(v) < 2.5 * side)
        dark = (np.floor(u / side) + np.floor(v / side + 0.5)) % 2 == 0
        painter.put(part, inside & dark, contrast)
        # Saddles inside, and the corners that stand alone along the border.
        tones = {(i, j): (i + j) % 2 == 0 for i in range(-3, 3) for j in range(-2, 3)}
        for i in range(-3, 4):
            for j in range(-3, 3):
                dark = sum(tones.get((i + a, j + b), False) for a in (-1, 0) for b in (0, 1))
                if dark in (1, 2):
                    painter.scene.corners.append(_turned(*at, turn, i * side, (j + 0.5) * side))
    for k in range(10):
        count, reach = (3, 4, 4, 5)[k % 4], random.uniform(28, 60)
        at, turn = painter.place(reach), random.uniform(0, 2 * math.pi)
        if at is None:
            continue
        part, u, v = painter.around(*at, turn, reach)
        painter.put(part, inside_of({3: "triangle", 4: "square", 5: "pentagon"}[count], u, v, reach), painter.contrast())
        angles = [math.pi / count + 2 * math.pi * j / count for j in range(count)]
        painter.scene.corners += [_turned(*at, turn, reach * math.cos(a), reach * math.sin(a)) for a in angles]
    return painter.scene


def _turned(x: float, y: float, turn: float, u: float, v: float) -> tuple[float, float]:
    """A place in the frame of a shape, in the picture."""
    return x + u * math.cos(turn) - v * math.sin(turn), y + u * math.sin(turn) + v * math.cos(turn)


def spots(seed: int, ground_: str = "plain") -> Scene:
    """Thirty discs of 3 to 10 px radius, dark and bright."""
    random = np.random.default_rng(seed)
    painter = _Painter(ground(ground_, random), random)
    for _ in range(30):
        painter.piece("disc", random.uniform(3, 10), painter.contrast())
    return painter.scene


def marks(seed: int, ground_: str = "plain") -> Scene:
    """Eight stamped marks of one kind among eight of other kinds, upright, with the clear picture of one."""
    random = np.random.default_rng(seed)
    painter = _Painter(ground(ground_, random), random)
    kinds = [[(random.uniform(0, 2 * math.pi), random.uniform(5, 20), random.uniform(4, 9)) for _ in range(6)] for _ in range(5)]
    contrast = float(random.uniform(35, 85))
    for k in range(16):
        at = painter.place(34)
        if at is None:
            continue
        part, u, v = painter.around(*at, 0.0, 30)
        painter.put(part, _stamped(u, v, kinds[0 if k < 8 else 1 + k % 4]), contrast)
        if k < 8:
            painter.scene.pieces.append(Piece("mark", *at, 0.0, 28.0))
    y, x = (np.mgrid[: 56 * FINE, : 56 * FINE].astype(np.float32) + 0.5) / FINE - 28
    clear = ndimage.gaussian_filter(110 + contrast * _stamped(x, y, kinds[0]).astype(np.float32), 0.8 * FINE)
    painter.scene.template = np.round(clear.reshape(56, FINE, 56, FINE).mean(axis=(1, 3))).astype(np.uint8)
    return painter.scene


def _stamped(u: Plane, v: Plane, strokes: list[tuple[float, float, float]]) -> NDArray[np.bool_]:
    """Dots and a ring's part: a mark without a symmetry."""
    inside = np.zeros(u.shape, bool)
    for angle, far, wide in strokes:
        inside |= np.hypot(u - far * math.cos(angle), v - far * math.sin(angle)) < wide
    far, start = np.hypot(u, v), strokes[0][0]
    return inside | ((np.abs(far - 24) < 2) & ((np.arctan2(v, u) - start) % (2 * math.pi) < 2.5))


def people(seed: int, ground_: str = "plain") -> Scene:
    """The faces of one of two pictures of the demo, in grey."""
    name = ("plaques", "open_day")[seed % 2]
    with Pillow.open(PICTURES / f"{name}.webp") as picture:
        scene = Scene(_fine(np.asarray(picture.convert("L"), np.float32)))
    truth = json.loads((PICTURES / f"{name}.json").read_text())
    scene.pieces = [Piece("face", m["x"], m["y"], 0.0, m["width"]) for m in truth if m["kind"] == "faces"]
    return scene


def nothing(seed: int, ground_: str) -> Scene:
    """A ground with nothing on it."""
    return Scene(_fine(ground(ground_, np.random.default_rng(seed))))


Condition = Callable[[Plane, np.random.Generator], NDArray[np.uint8]]


def _camera(fine: Plane, blur: float = 0.8) -> Plane:
    plane = ndimage.gaussian_filter(fine, blur * FINE)
    height, width = (n // FINE for n in fine.shape)
    return np.asarray(plane.reshape(height, FINE, width, FINE).mean(axis=(1, 3)), np.float32)


def _bytes(plane: Plane, random: np.random.Generator, noise: float = 2.0) -> NDArray[np.uint8]:
    return np.clip(np.round(plane + random.normal(0, noise, plane.shape)), 0, 255).astype(np.uint8)


def _moved(length: float) -> Condition:
    def seen(fine: Plane, random: np.random.Generator) -> NDArray[np.uint8]:
        turn = random.uniform(0, math.pi)
        plane, steps = _camera(fine), np.linspace(-0.5, 0.5, max(3, round(2 * length))) * length
        shifted = [
            ndimage.shift(plane, (s * math.sin(turn), s * math.cos(turn)), order=1, mode="nearest") for s in steps
        ]  # fmt: skip
        return _bytes(np.mean(shifted, axis=0), random)

    return seen


def _defocused(radius: float) -> Condition:
    def seen(fine: Plane, random: np.random.Generator) -> NDArray[np.uint8]:
        reach = math.ceil(radius)
        y, x = np.mgrid[-reach : reach + 1, -reach : reach + 1]
        disc = np.clip(radius + 0.5 - np.hypot(x, y), 0, 1)
        return _bytes(ndimage.convolve(_camera(fine), disc / disc.sum(), mode="nearest"), random)

    return seen


def _compressed(fine: Plane, random: np.random.Generator) -> NDArray[np.uint8]:
    stream = io.BytesIO()
    Pillow.fromarray(_bytes(_camera(fine), random, 3.0)).save(stream, "JPEG", quality=30)
    return np.asarray(Pillow.open(stream))


def _salted(share: float) -> Condition:
    def seen(fine: Plane, random: np.random.Generator) -> NDArray[np.uint8]:
        picture = _bytes(_camera(fine), random)
        where = random.random(picture.shape) < share
        picture[where] = random.choice([0, 255], int(where.sum()))
        return picture

    return seen


def _counted(photons: float) -> Condition:
    def seen(fine: Plane, random: np.random.Generator) -> NDArray[np.uint8]:
        plane = np.clip(_camera(fine), 1, 255)
        gain = 120 / photons
        return np.clip(np.round(random.poisson(plane / gain) * gain), 0, 255).astype(np.uint8)

    return seen


def _glaring(fine: Plane, random: np.random.Generator) -> NDArray[np.uint8]:
    """Highlights that saturate, as of metal under lamps."""
    plane = _camera(fine)
    height, width = plane.shape
    y, x = np.mgrid[:height, :width]
    for _ in range(6):
        cx, cy, turn = random.uniform(0, width), random.uniform(0, height), random.uniform(0, math.pi)
        u = (x - cx) * math.cos(turn) + (y - cy) * math.sin(turn)
        v = (y - cy) * math.cos(turn) - (x - cx) * math.sin(turn)
        plane = plane + random.uniform(60, 140) * np.exp(
            -((u / random.uniform(60, 160)) ** 2) - (v / random.uniform(12, 40)) ** 2
        )
    return _bytes(plane, random)


def _grated(fine: Plane, random: np.random.Generator) -> NDArray[np.uint8]:
    plane, turn, period = _camera(fine), random.uniform(0, math.pi), random.uniform(5, 8)
    y, x = np.mgrid[: plane.shape[0], : plane.shape[1]]
    return _bytes(plane + 22 * np.sin(2 * math.pi * (x * math.cos(turn) + y * math.sin(turn)) / period), random)


def _printed(fine: Plane, random: np.random.Generator) -> NDArray[np.uint8]:
    """A halftone of cells of 7 px at 45 degrees."""
    y, x = np.mgrid[: fine.shape[0], : fine.shape[1]] / FINE
    u, v = (x + y) / math.sqrt(2) * 2 * math.pi / 7, (x - y) / math.sqrt(2) * 2 * math.pi / 7
    screen = 127.5 + 63 * (np.cos(u) + np.cos(v))
    return _bytes(_camera(np.where(fine > screen, 230, 30).astype(np.float32), 0.9), random)


def _vignetted(fine: Plane, random: np.random.Generator) -> NDArray[np.uint8]:
    plane = _camera(fine)
    height, width = plane.shape
    y, x = np.mgrid[:height, :width]
    off = ((x - width / 2) ** 2 + (y - height / 2) ** 2) / ((width / 2) ** 2 + (height / 2) ** 2)
    return _bytes(plane * (1 - 0.75 * off), random)


CONDITIONS: dict[str, Condition] = {
    "clear": lambda fine, random: _bytes(_camera(fine), random),
    "motion 7": _moved(7), "motion 13": _moved(13), "defocus 3": _defocused(3), "defocus 5": _defocused(5),
    "JPEG 30": _compressed, "salt 1": _salted(0.01), "salt 5": _salted(0.05), "photons 8": _counted(8), "photons 3": _counted(3),
    "glare": _glaring, "grating": _grated, "halftone 7": _printed, "vignette": _vignetted,
}  # fmt: skip


def photographed(scene: Scene, condition: str, seed: int) -> Image:
    """What the camera makes of a scene."""
    return Image.from_array(CONDITIONS[condition](scene.plane, np.random.default_rng(seed + 7919)), name=condition)
