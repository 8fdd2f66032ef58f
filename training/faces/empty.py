"""Paints pictures without a face: what the face model must pass over."""

from __future__ import annotations

from collections.abc import Callable
from dataclasses import replace

import numpy as np
from numpy.typing import NDArray
from PIL import Image, ImageDraw
from scipy import ndimage

from training.faces import heads, painting
from training.faces.samples import ground

Random = np.random.Generator
Bytes = NDArray[np.uint8]
Floats = NDArray[np.float64]
HEIGHT, WIDTH = 360, 480


def empty_picture(random: Random) -> Bytes:
    """A picture (360, 480, 3) of one of the kinds below."""
    kinds: tuple[Callable[[Random], Floats], ...] = (_behind, _bodies, _drawn, _drawn, _hands, _creatures, _cloth, _leaves, _room)
    return painting.camera(kinds[int(random.integers(len(kinds)))](random), random)


def _behind(random: Random) -> Floats:
    """Heads from behind."""
    return _people(random, lambda: (heads.head(random), float(random.uniform(115, 245))))


def _bodies(random: Random) -> Floats:
    """Dressed bodies without heads."""
    return _people(random, lambda: (_without_head(heads.head(random)), float(random.uniform(-180, 180))))


def _people(random: Random, one: Callable[[], tuple[heads.Head, float]]) -> Floats:
    picture = ground(random, HEIGHT, WIDTH)
    for _ in range(int(random.integers(3, 9))):
        head, turn = one()
        pose = painting.Pose(turn, float(random.normal(0, 12)), float(random.normal(0, 12)), 8.0)
        side = float(random.uniform(30, 80))
        colour, cover, face = painting.paint(painting.lit(head), pose, painting.light(random), side, random)
        painting.placed(picture, colour, cover, face, random.uniform(0, WIDTH), random.uniform(0, HEIGHT))
    return picture


def _without_head(head: heads.Head) -> heads.Head:
    kept = (head.rest[head.triangles][:, :, 1] < 6.05).all(axis=1)
    return replace(head, triangles=head.triangles[kept], made_of=head.made_of[kept])


# Drawn flat


def _colour(random: Random) -> tuple[int, int, int]:
    r, g, b = (int(v) for v in random.integers(0, 256, 3))
    return r, g, b


def _drawn(random: Random) -> Floats:
    """Text, shapes or dials."""
    picture = ground(random, HEIGHT, WIDTH)
    canvas = Image.fromarray(np.round(255 * np.clip(picture, 0, 1) ** (1 / 2.2)).astype(np.uint8))
    draw = ImageDraw.Draw(canvas)
    draw_one = (_text, _dial, _shape)[int(random.integers(3))]
    for _ in range(int(random.integers(15, 60))):
        draw_one(draw, random, random.uniform(0, WIDTH), random.uniform(0, HEIGHT), random.uniform(8, 90))
    return np.asarray((np.asarray(canvas) / 255.0) ** 2.2)


def _text(draw: ImageDraw.ImageDraw, random: Random, x: float, y: float, size: float) -> None:
    letters = "".join(chr(int(c)) for c in random.integers(48, 123, int(random.integers(3, 25))))
    draw.text((x, y), letters, fill=_colour(random), font_size=0.5 * size + 6)


def _dial(draw: ImageDraw.ImageDraw, random: Random, x: float, y: float, size: float) -> None:
    box = [x - size, y - size, x + size, y + size]
    draw.ellipse(box, fill=_colour(random), outline=_colour(random), width=int(random.integers(1, 6)))
    marks = int(random.choice([4, 8, 12, 60]))
    lines = [(2 * np.pi * k / marks, 0.8, 0.95) for k in range(marks)] + [(random.uniform(0, 6.3), 0.0, 0.7) for _ in range(2)]
    for turn, near, far in lines:
        ends = [(x + f * size * np.cos(turn), y + f * size * np.sin(turn)) for f in (near, far)]
        draw.line(ends, fill=_colour(random), width=2)


def _shape(draw: ImageDraw.ImageDraw, random: Random, x: float, y: float, size: float) -> None:
    if random.random() < 0.5:
        corners = int(random.integers(3, 7))
        draw.polygon([(x + random.normal(0, size), y + random.normal(0, size)) for _ in range(corners)], fill=_colour(random))
    else:
        box = [x - size, y - random.uniform(0.4, 1.2) * size, x + size, y + size]
        draw.ellipse(box, fill=_colour(random), outline=_colour(random))


# Relief


class _Relief:
    """Bodies with a height above the ground, lit from all sides."""

    def __init__(self, random: Random) -> None:
        self.random = random
        self.ground = ground(random, HEIGHT, WIDTH)
        self.height = np.full((HEIGHT, WIDTH), -np.inf)
        self.colour = np.zeros((HEIGHT, WIDTH, 3))
        self.y, self.x = np.mgrid[:HEIGHT, :WIDTH].astype(float)

    def body(self, a: Floats, b: Floats, thick: float, thin: float, colour: Floats, lift: float = 0.0) -> None:
        """A rounded bar between two places, px; its thickness at each end; `colour` in linear light."""
        along, reach = b - a, max(thick, thin) + 1
        (x0, y0), (x1, y1) = (np.clip(f(a, b) + sign * reach, 0, [WIDTH, HEIGHT]).astype(int)
                              for f, sign in ((np.minimum, -1), (np.maximum, 1)))  # fmt: skip
        here = slice(y0, y1), slice(x0, x1)
        x, y = self.x[here], self.y[here]
        t = np.clip(((x - a[0]) * along[0] + (y - a[1]) * along[1]) / max(float(along @ along), 1e-6), 0, 1)
        radius = thick + (thin - thick) * t
        square = radius**2 - (x - a[0] - t * along[0]) ** 2 - (y - a[1] - t * along[1]) ** 2
        height = np.where(square > 0, np.sqrt(np.maximum(square, 0)) + lift, -np.inf)
        over = height > self.height[here]
        self.height[here][over], self.colour[here][over] = height[over], colour

    def painted(self, rough: float) -> Floats:
        """The picture; `rough`: how uneven the surfaces and their colour are."""
        random, inside = self.random, np.isfinite(self.height)
        grain = ndimage.gaussian_filter(random.normal(0, 1, (HEIGHT, WIDTH)), random.uniform(0.5, 2))
        grain /= grain.std()
        height = np.where(inside, self.height, 0.0) + rough * grain
        normal = np.stack([-np.gradient(height, axis=1), np.gradient(height, axis=0), np.ones_like(height)], axis=-1)
        normal /= np.linalg.norm(normal, axis=-1, keepdims=True)
        facing = np.clip(normal.reshape(-1, 3).astype(np.float32) @ painting.WAYS.T.astype(np.float32), 0, None)
        shade = (facing @ painting.light(random).astype(np.float32)).reshape(HEIGHT, WIDTH, 3) * 4.0 / len(painting.WAYS)
        colour = self.colour * np.exp(0.15 * rough * grain)[..., None]
        share = ndimage.gaussian_filter(inside.astype(float), 0.6)[..., None]
        return np.asarray(self.ground * (1 - share) + colour * shade * share)


def _place(random: Random) -> Floats:
    return random.uniform(0, 1, 2) * [WIDTH, HEIGHT]


def _way(turn: float) -> Floats:
    return np.array([np.cos(turn), np.sin(turn)])


def _hands(random: Random) -> Floats:
    """Hands, open or half closed."""
    relief = _Relief(random)
    for _ in range(int(random.integers(2, 6))):
        skin, wrist, turn = heads.looks_of(random)["skin"], _place(random), random.uniform(0, 2 * np.pi)
        size, spread, bend = random.uniform(14, 40), random.uniform(0.05, 0.25), random.uniform(0.0, 1.4)
        palm = wrist + 1.6 * size * _way(turn)
        relief.body(wrist - 3 * size * _way(turn), wrist, 0.65 * size, 0.6 * size, skin)
        relief.body(wrist, palm, 0.75 * size, 0.85 * size, skin)
        side = _way(turn + np.pi / 2)
        for k in range(4):
            way = turn + spread * (k - 1.5)
            knuckle = palm + side * size * 0.45 * (k - 1.5) + 0.4 * size * _way(way)
            joint = knuckle + random.uniform(0.7, 1.0) * size * _way(way)
            tip = joint + random.uniform(0.6, 1.0) * size * _way(way + bend * random.choice([-1, 1]))
            relief.body(knuckle, joint, 0.24 * size, 0.22 * size, skin, 0.3 * size)
            relief.body(joint, tip, 0.22 * size, 0.18 * size, skin, 0.3 * size)
            relief.body(tip, tip, 0.13 * size, 0.13 * size, np.clip(skin * 1.3 + 0.04, 0, 0.95), 0.42 * size)
        thumb = wrist + side * 0.8 * size + 0.6 * size * _way(turn)
        relief.body(thumb, thumb + 1.2 * size * _way(turn + 0.7), 0.3 * size, 0.22 * size, skin, 0.2 * size)
    return relief.painted(random.uniform(0.02, 0.25))


def _creatures(random: Random) -> Floats:
    """Beasts with snouts, eyes and ears."""
    relief = _Relief(random)
    for _ in range(int(random.integers(1, 5))):
        fur = np.exp(random.normal(-1.6, 0.8)) * random.uniform([1, 0.75, 0.5], [1.1, 1.0, 0.9])
        at, size, turn = _place(random), random.uniform(14, 60), random.uniform(-0.6, 0.6)
        up, side = _way(turn - np.pi / 2), _way(turn)
        relief.body(at - 1.5 * size * up, at - 3.5 * size * up, 1.1 * size, 1.5 * size, fur * random.uniform(0.7, 1.3), -size)
        relief.body(at, at, size, size, fur)
        for sign in (-1, 1):
            ear = at + 0.75 * size * up + sign * 0.6 * size * side
            tip = ear + random.uniform(0.3, 1.2) * size * _way(turn - np.pi / 2 + sign * random.uniform(-0.2, 1.8))
            relief.body(ear, tip, 0.3 * size, random.uniform(0.05, 0.3) * size, fur, 0.1 * size)
        long, low = random.uniform(0.2, 0.9), random.uniform(0.1, 0.5)
        relief.body(
            at, at - low * size * up, 0.6 * size, random.uniform(0.3, 0.6) * size, fur * random.uniform(0.8, 1.8), long * size
        )
        nose = at - (low + 0.1) * size * up
        relief.body(nose, nose, 0.16 * size, 0.16 * size, np.full(3, 0.02), (long + 0.55) * size)
        for sign in (-1, 1):
            eye = at + random.uniform(0.1, 0.4) * size * up + sign * random.uniform(0.3, 0.6) * size * side
            relief.body(eye, eye, 0.12 * size, 0.12 * size, random.choice([0.01, 0.1]) * np.ones(3), 1.0 * size)
    return relief.painted(random.uniform(0.1, 1.2))


def _cloth(random: Random) -> Floats:
    """Folds and tears."""
    relief = _Relief(random)
    folds = sum(
        wide * ndimage.gaussian_filter(random.normal(0, 1, (HEIGHT, WIDTH)), (wide, random.uniform(0.4, 1) * wide)) * wide
        for wide in (4.0, 9.0, 22.0)
    )
    relief.height = np.asarray(folds * random.uniform(0.5, 2.5))
    tint = random.uniform(0.02, 0.8, 3)
    relief.colour[:] = tint * np.where(folds > np.quantile(folds, random.uniform(0.0, 0.2)), 1.0, 0.08)[..., None]
    if random.random() < 0.5:
        relief.colour *= 1 + 0.6 * np.sign(np.sin((relief.x + 0.3 * folds) * random.uniform(0.1, 0.8)))[..., None]
    return relief.painted(random.uniform(0.0, 0.3))


def _leaves(random: Random) -> Floats:
    """Leaves and fruit, one over the other."""
    relief = _Relief(random)
    tint = random.uniform([0.02, 0.05, 0.01], [0.4, 0.4, 0.2])
    for _ in range(int(random.integers(40, 110))):
        at, long, turn = _place(random), random.uniform(4, 40), random.uniform(0, 6.3)
        thick = long * random.uniform(0.15, 0.5)
        colour = np.clip(tint * random.uniform(0.5, 1.6, 3), 0.005, 0.9)
        relief.body(at, at + long * _way(turn), thick, random.uniform(0.1, 1) * thick, colour, random.uniform(0, 25))
    return relief.painted(random.uniform(0.0, 0.4))


def _room(random: Random) -> Floats:
    """Frames, panes, shelves, knobs and sockets: pairs of dark holes over a bar are everywhere in rooms and on machines."""
    picture = np.ones((HEIGHT, WIDTH, 3)) * random.uniform(0.1, 0.7, 3)
    picture *= np.linspace(random.uniform(0.5, 1), random.uniform(0.5, 1), WIDTH)[None, :, None]
    canvas = Image.fromarray(np.round(255 * np.clip(picture, 0, 1) ** (1 / 2.2)).astype(np.uint8))
    draw = ImageDraw.Draw(canvas)
    for _ in range(int(random.integers(8, 30))):
        (x, y), wide, high = _place(random), random.uniform(12, 110), random.uniform(12, 110)
        draw.rectangle(
            [x, y, x + wide, y + high], fill=_colour(random), outline=_colour(random), width=int(random.integers(1, 5))
        )
        kind = int(random.integers(4))
        rows, columns = (int(n) for n in random.integers(1, 5, 2))
        for r in range(rows):
            for c in range(columns):
                cx, cy = x + wide * (c + 0.5) / columns, y + high * (r + 0.5) / rows
                w, h = 0.3 * wide / columns, 0.3 * high / rows
                if kind == 0:
                    draw.rectangle([cx - w, cy - h, cx + w, cy + h], fill=_colour(random))
                elif kind == 1:
                    draw.ellipse([cx - min(w, h), cy - min(w, h), cx + min(w, h), cy + min(w, h)], fill=_colour(random))
                elif kind == 2:
                    draw.ellipse([cx - w, cy - h, cx + w, cy + h], fill=(20, 20, 20))
        if kind == 3:
            for sign in (-0.22, 0.22):
                cx, r = x + wide * (0.5 + sign), 0.1 * min(wide, high)
                draw.ellipse([cx - r, y + 0.35 * high - r, cx + r, y + 0.35 * high + r], fill=(15, 15, 15))
            draw.rectangle([x + 0.3 * wide, y + 0.7 * high, x + 0.7 * wide, y + 0.78 * high], fill=_colour(random))
    return np.asarray((np.asarray(canvas) / 255.0) ** 2.2)
