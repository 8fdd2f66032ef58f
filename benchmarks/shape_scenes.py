"""Crowded made-up pictures of circles, ellipses and lines among look-alikes, with what of each is to be seen."""

from __future__ import annotations

import math
from collections.abc import Callable
from dataclasses import dataclass
from typing import Any

import numpy as np
from numpy.typing import NDArray

from lucid_finch.core.image import Image
from lucid_finch.core.numerics.edges.gradients import gaussian_kernel, smoothed

FINE = 3
WIDTH, HEIGHT = 640, 480
Plane = NDArray[np.float32]


@dataclass(frozen=True)
class Oval:
    """An ellipse that was painted, and the share of its rim that can be told from what is beside it."""

    x: float
    y: float
    major: float
    minor: float
    turn: float
    contrast: float
    seen: float = 0.0


@dataclass(frozen=True)
class Stroke:
    """A line that was painted: its middle, direction (radians), length, and how it is broken."""

    x: float
    y: float
    turn: float
    length: float
    kind: str


def _places() -> tuple[Plane, Plane]:
    y, x = (np.mgrid[: HEIGHT * FINE, : WIDTH * FINE].astype(np.float32) + 0.5) / FINE - 0.5
    return x, y


def _photographed(picture: Plane, blur: float, noise: float, random: np.random.Generator) -> Image:
    plane = smoothed(np.clip(picture, 5, 250), gaussian_kernel(blur * FINE))
    plane = plane.reshape(HEIGHT, FINE, WIDTH, FINE).mean(axis=(1, 3)) + random.normal(0, noise, (HEIGHT, WIDTH))
    return Image.from_array(np.clip(np.round(plane), 0, 255).astype(np.uint8))


def _other(what: str, u: Plane, v: Plane, random: np.random.Generator) -> NDArray[np.bool_]:
    """The inside of a look-alike in its own frame."""
    wide, high = random.uniform(18, 50), random.uniform(15, 35)
    if what == "bar":
        return (np.abs(u) < random.uniform(40, 120)) & (np.abs(v) < random.uniform(2, 10))
    if what == "rectangle":
        return (np.abs(u) < wide) & (np.abs(v) < high)
    if what == "hexagon":
        turned = [np.abs(u * math.cos(k * math.pi / 3) + v * math.sin(k * math.pi / 3)) < wide for k in range(3)]
        return turned[0] & turned[1] & turned[2]
    if what == "triangle":
        return (v > -wide) & (np.abs(u) < 0.6 * (wide - v)) & (v < wide)
    wide = max(wide, 1.5 * high) if what == "capsule" else wide
    corner = min(wide, high) * (1.0 if what == "capsule" else random.uniform(0.2, 0.6))
    return np.hypot(np.maximum(np.abs(u) - wide + corner, 0), np.maximum(np.abs(v) - high + corner, 0)) < corner


OTHERS = ("bar", "rectangle", "hexagon", "triangle", "capsule", "rounded")


def ovals(seed: int, ratios: tuple[float, float], others: bool) -> tuple[Image, list[Oval]]:
    """Fourteen ovals of those ratios of axes, contrast from 2 times the noise, over one another; some nested, some touching;
    `others`: six look-alikes among them."""
    random = np.random.default_rng(seed)
    noise, blur, base = random.uniform(1.0, 4.0), random.uniform(0.7, 1.4), random.uniform(90, 150)
    x, y = _places()
    picture = np.full(x.shape, base, np.float32)
    made: list[Oval] = []
    todo = ["oval"] * 14 + (list(OTHERS) if others else [])
    random.shuffle(todo)
    for what in todo:
        contrast = float(random.choice([-1, 1]) * math.exp(random.uniform(math.log(max(4.0, 2.0 * noise)), math.log(70))))
        cx, cy, turn = random.uniform(-5, WIDTH + 5), random.uniform(-5, HEIGHT + 5), random.uniform(0, math.pi)
        major = random.uniform(14, 65)
        minor = max(major * random.uniform(*ratios), 7.0)
        how = random.random()
        if what == "oval" and made and how < 0.2:
            near = made[random.integers(len(made))]
            cx, cy, turn = near.x, near.y, near.turn
            if how < 0.1:
                share = random.uniform(0.5, 0.7)
                major, minor = near.major * share, near.minor * share
            else:
                cx, cy = cx + (near.major + major) * math.cos(turn), cy + (near.major + major) * math.sin(turn)
        c, s = math.cos(turn), math.sin(turn)
        u, v = (x - cx) * c + (y - cy) * s, (y - cy) * c - (x - cx) * s
        if what == "oval":
            picture[(u / major) ** 2 + (v / minor) ** 2 < 1] = base + contrast
            made.append(Oval(float(cx), float(cy), float(major), float(minor), float(turn), contrast))
        else:
            picture[_other(what, u, v, random)] = base + contrast
    marks = [
        Oval(*(getattr(o, n) for n in ("x", "y", "major", "minor", "turn", "contrast")), _seen(o, picture, noise)) for o in made
    ]
    return _photographed(picture, blur, noise, random), marks


def _seen(oval: Oval, picture: Plane, noise: float) -> float:
    """Share of the rim where the levels to either side differ as they should."""
    t = np.linspace(0, 2 * math.pi, max(int(2 * math.pi * oval.major), 60), endpoint=False)
    c, s = math.cos(oval.turn), math.sin(oval.turn)
    nu, nv = np.cos(t) / oval.major, np.sin(t) / oval.minor
    size = np.hypot(nu, nv)
    sides = []
    inside = np.ones(len(t), bool)
    for off in (-1.5, 1.5):
        u, v = oval.major * np.cos(t) + off * nu / size, oval.minor * np.sin(t) + off * nv / size
        px, py = oval.x + u * c - v * s, oval.y + u * s + v * c
        inside &= (px > 2) & (py > 2) & (px < WIDTH - 3) & (py < HEIGHT - 3)
        column, row = (np.clip(((p + 0.5) * FINE).astype(int), 0, n * FINE - 1) for p, n in ((px, WIDTH), (py, HEIGHT)))
        sides.append(picture[row, column])
    step = np.abs(sides[0] - sides[1])
    told = inside & (np.sign(sides[0] - sides[1]) == np.sign(oval.contrast)) & (step >= max(4.0, 1.9 * noise))
    told &= step >= 0.7 * min(abs(oval.contrast), 40.0)
    weight = np.hypot(oval.major * np.sin(t), oval.minor * np.cos(t))
    return float((told * weight).sum() / weight.sum())


def strokes(seed: int) -> tuple[Image, list[Stroke]]:
    """Nine strokes 1.5 to 5 px wide: solid, dashed, or broken by one to three gaps of 6 to 24 px."""
    random = np.random.default_rng(seed)
    noise, blur, base = random.uniform(1, 5), random.uniform(0.7, 1.3), random.uniform(90, 150)
    x, y = _places()
    picture = np.full(x.shape, base, np.float32)
    marks: list[Stroke] = []
    for _ in range(9):
        for _ in range(60):
            turn, length = random.uniform(0, math.pi), random.uniform(90, 330)
            cx, cy = random.uniform(30, WIDTH - 30), random.uniform(30, HEIGHT - 30)
            c, s = math.cos(turn), math.sin(turn)
            ends = np.array([[cx - c * length / 2, cy - s * length / 2], [cx + c * length / 2, cy + s * length / 2]])
            inside = (ends > 8).all() and (ends[:, 0] < WIDTH - 8).all() and (ends[:, 1] < HEIGHT - 8).all()
            if inside and all(_apart(ends, turn, m) for m in marks):
                break
        else:
            continue
        u, v = (x - cx) * c + (y - cy) * s, (y - cy) * c - (x - cx) * s
        here = (np.abs(u) < length / 2) & (np.abs(v) < random.uniform(1.5, 5) / 2)
        kind = str(random.choice(["solid", "dashed", "broken"]))
        if kind == "dashed":
            period = random.uniform(14, 30)
            here &= ((u + length / 2) % period) < random.uniform(0.5, 0.75) * period
        elif kind == "broken":
            count = random.integers(1, 4)
            for k in range(count):
                gap = ((k + 1) / (count + 1) - 0.5 + random.uniform(-0.08, 0.08)) * length
                here &= np.abs(u - gap) > random.uniform(3, min(12, 0.11 * length))
        picture[here] += random.choice([-1, 1]) * random.uniform(max(8, 4 * noise), 70)
        marks.append(Stroke(float(cx), float(cy), float(turn), float(length), kind))
    return _photographed(picture, blur, noise, random), marks


def _apart(ends: Any, turn: float, other: Stroke) -> bool:
    """Whether a stroke is not nearly a continuation of another."""
    off = np.abs((ends[:, 1] - other.y) * math.cos(other.turn) - (ends[:, 0] - other.x) * math.sin(other.turn))
    return bool(abs(math.sin(turn - other.turn)) > 0.12 or off.min() > 25)


Scorer = Callable[[Any, list[Any]], tuple[int, int, int]]


def score_ovals(found: Any, marks: list[Oval]) -> tuple[int, int, int]:
    """Found, missed and wrong; ovals of which less than half is seen are asked of nobody."""
    f = found.findings
    round_ = "radius" in f
    major, minor = (f["radius"],) * 2 if round_ else (f["semi_major"], f["semi_minor"])
    turn = np.zeros(len(f)) if round_ else np.radians(f["angle"])
    used = np.zeros(len(f), bool)
    counts = [0, 0]
    for must in (True, False):
        for m in marks:
            if (m.seen >= 0.5) is not must:
                continue
            near = 2.0 + 0.04 * m.major
            fits = (
                (np.hypot(f["x"] - m.x, f["y"] - m.y) < near)
                & (np.abs(major - m.major) < near)
                & (np.abs(minor - m.minor) < near)
            )
            if not round_ and m.minor < 0.9 * m.major:
                fits &= np.abs((turn - m.turn + math.pi / 2) % math.pi - math.pi / 2) * (m.major - m.minor) < 4
            here = np.flatnonzero(fits & ~used)
            used[here[:1]] = True
            if must:
                counts[0 if len(here) else 1] += 1
    return counts[0], counts[1], int((~used).sum())


def score_strokes(found: Any, marks: list[Stroke]) -> tuple[int, int, int]:
    """Found, missed and wrong: direction within 1.7 degrees, 4 px beside, 70 % of both in common."""
    f = found.findings
    used = np.zeros(len(f), bool)
    right = 0
    for m in marks:
        c, s = math.cos(m.turn), math.sin(m.turn)
        turned = np.abs((np.radians(f["angle"]) - m.turn + math.pi / 2) % math.pi - math.pi / 2)
        beside = np.abs((f["y"] - m.y) * c - (f["x"] - m.x) * s)
        ends = [(f["x" + end] - m.x) * c + (f["y" + end] - m.y) * s for end in "12"]
        low, high, half = np.minimum(*ends), np.maximum(*ends), m.length / 2
        common = np.clip(np.minimum(high, half) - np.maximum(low, -half), 0, None)
        common /= np.maximum(high, half) - np.minimum(low, -half)
        here = np.flatnonzero((turned < 0.03) & (beside < 4) & (common > 0.7) & ~used)
        used[here[:1]] = True
        right += len(here) > 0
    return right, len(marks) - right, int((~used).sum())
