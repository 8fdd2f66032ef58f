"""Geometry of what is drawn by hand on a picture: regions and measured shapes as plain data, their outlines and handles.

Regions are the mappings that recipes hold. What is only measured has points alone: "line" (2), "box" (2 corners), "circle" (3
on the rim), "angle" (2 lines of 2).
"""

from __future__ import annotations

import math
from typing import Any

import numpy as np
from numpy.typing import NDArray

from lucid_finch.core.inspection.calibration import Calibration
from lucid_finch.core.regions import region_of

Shape = dict[str, Any]
Place = tuple[float, float]

POINTS = {"line": 2, "box": 2, "circle": 3, "angle": 4}
"""How many points each measured shape has."""

DRAGGED = ("line", "box", "rectangle", "ellipse", "annulus")
"""Shapes that are drawn by one drag; the others by clicks."""

REGIONS = ("rectangle", "ellipse", "polygon", "annulus")

_LEAST = 1.0
"""Sides and radii below so many px are not made by hand."""


def circle_through(points: Any) -> tuple[float, float, float] | None:
    """Centre and radius of the circle through three points; None where they lie on a line."""
    (x1, y1), (x2, y2), (x3, y3) = points
    d = 2 * (x1 * (y2 - y3) + x2 * (y3 - y1) + x3 * (y1 - y2))
    if abs(d) < 1e-9 * (1 + abs(x1) + abs(y1)):
        return None
    s1, s2, s3 = (x * x + y * y for x, y in ((x1, y1), (x2, y2), (x3, y3)))
    x = (s1 * (y2 - y3) + s2 * (y3 - y1) + s3 * (y1 - y2)) / d
    y = (s1 * (x3 - x2) + s2 * (x1 - x3) + s3 * (x2 - x1)) / d
    return x, y, math.hypot(x1 - x, y1 - y)


def _turned(shape: Shape, u: Any, v: Any) -> NDArray[np.float64]:
    """Places (n, 2) at u, v half sides from the centre of a rectangle or ellipse."""
    c, s = math.cos(math.radians(shape.get("angle", 0.0))), math.sin(math.radians(shape.get("angle", 0.0)))
    a, b = np.asarray(u, float) * shape["width"] / 2, np.asarray(v, float) * shape["height"] / 2
    return np.stack([shape["x"] + a * c - b * s, shape["y"] + a * s + b * c], axis=-1)


def _arc(x: float, y: float, radius: float, start: float = 0.0, sweep: float = 360.0) -> NDArray[np.float64]:
    turns = np.radians(start + np.linspace(0, sweep, max(8, int(sweep / 4))))
    return np.stack([x + radius * np.cos(turns), y + radius * np.sin(turns)], axis=1)


def outlines(shape: Shape) -> list[NDArray[np.float64]]:
    """The lines that show a shape, each (n, 2)."""
    kind = shape["shape"]
    if kind in POINTS:
        points = np.array(shape["points"], float)
        if kind == "box" and len(points) == 2:
            (x1, y1), (x2, y2) = points
            return [np.array([(x1, y1), (x2, y1), (x2, y2), (x1, y2), (x1, y1)])]
        if kind == "circle" and len(points) == 3:
            found = circle_through(points)
            return [points] if found is None else [_arc(*found)]
        if kind == "angle":
            return [part for part in (points[:2], points[2:]) if len(part)]
        return [points]
    if kind == "rectangle":
        return [_turned(shape, [-1, 1, 1, -1, -1], [-1, -1, 1, 1, -1])]
    if kind == "ellipse":
        turns = np.linspace(0, 2 * np.pi, 73)
        return [_turned(shape, np.cos(turns), np.sin(turns))]
    if kind == "polygon":
        points = np.array(shape["points"], float)
        return [np.concatenate([points, points[:1]])]
    start, sweep = shape.get("start", 0.0), shape.get("sweep", 360.0)
    rims = [_arc(shape["x"], shape["y"], r, start, sweep) for r in (shape["outer"], shape["inner"]) if r > 0]
    if sweep < 360:
        ends = [(r[0], r[-1]) for r in rims] if len(rims) == 2 else [(rims[0][0], rims[0][-1]), ((shape["x"], shape["y"]),) * 2]
        rims += [np.array([ends[0][side], ends[1][side]]) for side in (0, 1)]
    return rims


def handles(shape: Shape) -> list[Place]:
    """Places that can be dragged; the whole shape is moved by what lies between."""
    kind = shape["shape"]
    if kind in POINTS or kind == "polygon":
        return [(float(x), float(y)) for x, y in shape["points"]]
    if kind in ("rectangle", "ellipse"):
        corners = _turned(shape, [-1, 1, 1, -1], [-1, -1, 1, 1])
        knob = _turned(shape, [1.0], [0.0])
        return [(float(x), float(y)) for x, y in (*corners, *knob)]
    turn = math.radians(shape.get("start", 0.0))
    c, s = math.cos(turn), math.sin(turn)
    places = [(shape["x"] + r * c, shape["y"] + r * s) for r in (shape["inner"], shape["outer"])]
    end = turn + math.radians(shape.get("sweep", 360.0))
    middle = (shape["inner"] + shape["outer"]) / 2
    return [*places, (shape["x"] + middle * math.cos(end), shape["y"] + middle * math.sin(end))]


def with_handle(shape: Shape, number: int, x: float, y: float) -> Shape:
    """The shape with one of its handles taken to a place."""
    kind = shape["shape"]
    if kind in POINTS or kind == "polygon":
        points = [list(p) for p in shape["points"]]
        points[number] = [x, y]
        return {**shape, "points": points}
    if kind in ("rectangle", "ellipse"):
        if number == 4:
            return {**shape, "angle": math.degrees(math.atan2(y - shape["y"], x - shape["x"])) % 180.0}
        # The corner across stays where it is.
        fixed = handles(shape)[(number + 2) % 4]
        c, s = math.cos(math.radians(shape.get("angle", 0.0))), math.sin(math.radians(shape.get("angle", 0.0)))
        dx, dy = x - fixed[0], y - fixed[1]
        width, height = abs(dx * c + dy * s), abs(dy * c - dx * s)
        return {
            **shape, "x": (x + fixed[0]) / 2, "y": (y + fixed[1]) / 2, "width": max(width, _LEAST), "height": max(height, _LEAST)
        }  # fmt: skip
    radius = math.hypot(x - shape["x"], y - shape["y"])
    if number == 0:
        return {**shape, "inner": min(max(radius, 0.0), shape["outer"] - _LEAST)}
    if number == 1:
        return {**shape, "outer": max(radius, shape["inner"] + _LEAST)}
    sweep = (math.degrees(math.atan2(y - shape["y"], x - shape["x"])) - shape.get("start", 0.0)) % 360.0
    return {**shape, "sweep": sweep if 3 < sweep < 357 else 360.0}


def moved(shape: Shape, dx: float, dy: float) -> Shape:
    """The shape, with its exclusions, elsewhere."""
    taken = dict(shape)
    if "points" in shape:
        taken["points"] = [[x + dx, y + dy] for x, y in shape["points"]]
    else:
        taken |= {"x": shape["x"] + dx, "y": shape["y"] + dy}
    if shape.get("exclude"):
        taken["exclude"] = [moved(hole, dx, dy) for hole in shape["exclude"]]
    return taken


def dragged(kind: str, start: Place, end: Place) -> Shape:
    """What one drag draws."""
    (x1, y1), (x2, y2) = start, end
    if kind in ("line", "box"):
        return {"shape": kind, "points": [[x1, y1], [x2, y2]]}
    if kind == "annulus":
        outer = max(math.hypot(x2 - x1, y2 - y1), 2 * _LEAST)
        return {"shape": kind, "x": x1, "y": y1, "inner": outer / 2, "outer": outer}
    return {
        "shape": kind, "x": (x1 + x2) / 2, "y": (y1 + y2) / 2, "width": max(abs(x2 - x1), _LEAST),
        "height": max(abs(y2 - y1), _LEAST), "angle": 0.0,
    }  # fmt: skip


def rounded(shape: Shape, digits: int = 2) -> Shape:
    """The shape with numbers as they are shown: what is seen is what is kept."""

    def one(value: Any) -> Any:
        if isinstance(value, (list, tuple)):
            return [one(v) for v in value]
        if isinstance(value, dict):
            return {k: one(v) for k, v in value.items()}
        return round(float(value), digits) if isinstance(value, (int, float)) and not isinstance(value, bool) else value

    return dict(one(shape))


def nearness(shape: Shape, x: float, y: float) -> float:
    """Distance of a place from the shape's lines; 0 inside a region."""
    if shape["shape"] in REGIONS and region_of(shape).contains(np.array([x]), np.array([y]))[0]:
        return 0.0
    best = math.inf
    for line in outlines(shape):
        if len(line) < 2:
            continue
        a, b = line[:-1], line[1:]
        along = ((x - a[:, 0]) * (b - a)[:, 0] + (y - a[:, 1]) * (b - a)[:, 1]) / np.maximum(((b - a) ** 2).sum(axis=1), 1e-12)
        foot = a + np.clip(along, 0, 1)[:, None] * (b - a)
        best = min(best, float(np.hypot(foot[:, 0] - x, foot[:, 1] - y).min()))
    return best


def measured_in_plane(shape: Shape, calibration: Calibration) -> dict[str, tuple[float, str]]:
    """Number and unit, by label, of what a drawn shape measures in a calibrated plane: mm, and degrees of angles there."""
    points = np.array(shape["points"], float)
    if shape["shape"] == "box":
        (x1, y1), (x2, y2) = points
        points = np.array([(x1, y1), (x2, y1), (x2, y2), (x1, y2)])
    there = np.stack(calibration.to_plane(points[:, 0], points[:, 1]), axis=1)
    if not np.isfinite(there).all():
        return {}
    if shape["shape"] != "box":
        found = measured({**shape, "points": there.tolist()})
        return {name: (value, unit.replace("px", "mm")) for name, value, unit in found}
    sides = np.hypot(*(np.roll(there, -1, axis=0) - there).T)
    x, y = there.T
    area = 0.5 * abs(float((x * np.roll(y, -1) - np.roll(x, -1) * y).sum()))
    # In perspective opposite sides differ.
    return {
        "width": (float(sides[0] + sides[2]) / 2, "mm"), "height": (float(sides[1] + sides[3]) / 2, "mm"), "area": (area, "mm²")
    }  # fmt: skip


def measured(shape: Shape) -> list[tuple[str, float, str]]:
    """Label, number and unit of what a drawn shape measures, px and degrees as everywhere (angles from +x towards +y)."""
    points = shape["points"]
    kind = shape["shape"]
    if kind == "line":
        (x1, y1), (x2, y2) = points
        return [
            ("length", math.hypot(x2 - x1, y2 - y1), "px"), ("angle", math.degrees(math.atan2(y2 - y1, x2 - x1)) % 180.0, "°"),
            ("across", abs(x2 - x1), "px"), ("down", abs(y2 - y1), "px"),
        ]  # fmt: skip
    if kind == "box":
        (x1, y1), (x2, y2) = points
        width, height = abs(x2 - x1), abs(y2 - y1)
        return [
            ("left", min(x1, x2), "px"), ("top", min(y1, y2), "px"), ("width", width, "px"), ("height", height, "px"),
            ("area", width * height, "px²"),
        ]  # fmt: skip
    if kind == "circle":
        found = circle_through(points)
        if found is None:
            return []
        x, y, radius = found
        return [("x", x, "px"), ("y", y, "px"), ("radius", radius, "px"), ("diameter", 2 * radius, "px")]
    turns = [math.degrees(math.atan2(b[1] - a[1], b[0] - a[0])) for a, b in (points[:2], points[2:])]
    between = abs(turns[1] - turns[0]) % 180.0
    return [("angle", min(between, 180 - between), "°"), ("supplement", max(between, 180 - between), "°")]
