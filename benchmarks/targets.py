"""Calibration targets: views in which they are found, errors of their points, of the calibration and of what it measures."""

from __future__ import annotations

import argparse
import math
from dataclasses import dataclass
from typing import Any

import numpy as np
from numpy.typing import NDArray
from scipy import ndimage

import lucid_finch as lf
from benchmarks.corners import bytes_of, pictures
from lucid_finch.core.errors import ParameterError
from lucid_finch.core.inspection.targets import find_target

Floats = NDArray[np.float64]

_FINE = 3
"""Samples of a pixel along each side."""


@dataclass(frozen=True)
class View:
    """A plate before a camera with a bending lens."""

    picture: NDArray[np.uint8]
    rotation: Floats
    place: Floats
    focal: float
    bend: tuple[float, float]
    """Radial distortion, of the second and fourth power of the distance over the focal length."""
    middle: tuple[float, float]
    hidden: tuple[float, float, float] | None
    """x, y and half side of a square that hides a part."""

    def seen(self, points: Floats) -> Floats:
        """Where points of the plate (n, 2) appear."""
        p = np.column_stack([points, np.zeros(len(points))]) @ self.rotation.T + self.place
        u = p[:, :2] / p[:, 2:]
        r2 = (u**2).sum(axis=1, keepdims=True)
        return np.asarray(self.focal * u * (1 + self.bend[0] * r2 + self.bend[1] * r2**2) + self.middle)

    def on_plate(self, x: Any, y: Any) -> tuple[Any, Any]:
        """Which points of the plate appear at places of the picture."""
        p, q = (x - self.middle[0]) / self.focal, (y - self.middle[1]) / self.focal
        u, v = p, q
        for _ in range(8):
            r2 = u**2 + v**2
            factor = 1 + self.bend[0] * r2 + self.bend[1] * r2**2
            u, v = p / factor, q / factor
        back = np.linalg.inv(np.column_stack([self.rotation[:, 0], self.rotation[:, 1], self.place]))
        w = back[2, 0] * u + back[2, 1] * v + back[2, 2]
        return (back[0, 0] * u + back[0, 1] * v + back[0, 2]) / w, (back[1, 0] * u + back[1, 1] * v + back[1, 2]) / w


def turned(tilt: float, way: float, turn: float) -> Floats:
    """Rotation of a plate that is turned in its plane, then tilted about an axis in the picture; radians."""
    c, s = math.cos(turn), math.sin(turn)
    spin = np.array([[c, -s, 0], [s, c, 0], [0, 0, 1.0]])
    x, y = math.cos(way), math.sin(way)
    cross = np.array([[0, 0, y], [0, 0, -x], [-y, x, 0.0]])
    return (np.eye(3) + math.sin(tilt) * cross + (1 - math.cos(tilt)) * cross @ cross) @ spin


def view(
    random: np.random.Generator, kind: str, columns: int, rows: int, size: tuple[int, int] = (900, 700),
    tilt: float | None = None, bend: tuple[float, float] | None = None, hide: bool = False, focal: float | None = None,
) -> tuple[View, Floats]:  # fmt: skip
    """A generated view; and the points of its target, on the plate, pitch 1."""
    width, height = size
    focal = focal or float(random.uniform(0.9, 2.2) * width)
    bend = bend if bend is not None else (float(random.uniform(-0.25, 0.15)), float(random.uniform(-0.05, 0.05)))
    tilt = math.radians(random.uniform(0, 45)) if tilt is None else tilt
    rotation = turned(tilt, random.uniform(0, 2 * np.pi), random.uniform(0, 2 * np.pi))
    grid = np.stack(np.meshgrid(np.arange(columns), np.arange(rows)), axis=-1).reshape(-1, 2).astype(float)
    grid -= [(columns - 1) / 2, (rows - 1) / 2]
    middle = ((width - 1) / 2, (height - 1) / 2)
    far, place = 1.0, np.zeros(3)
    shift = random.uniform(-0.5, 0.5, 2)
    for share in np.linspace(random.uniform(0.7, 1.0), 0.3, 12):
        far = focal * (max(columns, rows) + 2) / (share * width)
        place = np.array([shift[0] * far * 0.2, shift[1] * far * 0.2, far])
        made = View(np.empty((height, width), np.uint8), rotation, place, focal, bend, middle, None)
        seen = made.seen(grid * 1.25)
        if (seen > 10).all() and (seen < np.array([width, height]) - 10).all():
            break
    hidden = None
    if hide:
        at = made.seen(grid)[int(random.integers(len(grid)))]
        hidden = float(at[0]), float(at[1]), float(random.uniform(0.05, 0.11) * width)
    made = View(_painted(random, made, kind, columns, rows, hidden), rotation, place, focal, bend, middle, hidden)
    return made, grid


def _painted(
    random: np.random.Generator, view: View, kind: str, columns: int, rows: int, hidden: tuple[float, float, float] | None
) -> NDArray[np.uint8]:
    height, width = view.picture.shape
    y, x = ((np.mgrid[: height * _FINE, : width * _FINE] + 0.5) / _FINE - 0.5).astype(np.float32)
    u, v = view.on_plate(x, y)
    dark, bright = random.uniform(20, 70), random.uniform(140, 230)
    back = pictures(random)
    back = back[:height, :width]
    ground = np.full((height, width), 90.0)
    ground[: back.shape[0], : back.shape[1]] = back
    plate = (np.abs(u) < (columns + 1) / 2) & (np.abs(v) < (rows + 1) / 2)
    if kind == "chessboard":
        black = (np.floor(u + columns / 2 + 0.5).astype(int) + np.floor(v + rows / 2 + 0.5).astype(int)) % 2 == 0
        rim = (np.abs(u) < (columns + 1) / 2 + 0.3) & (np.abs(v) < (rows + 1) / 2 + 0.3)
        black &= plate
        plate = rim
    else:
        du, dv = (w + (n - 1) / 2 for w, n in ((u, columns), (v, rows)))
        off = np.hypot(du - np.round(du), dv - np.round(dv))
        inside = (np.round(du) >= 0) & (np.round(du) < columns) & (np.round(dv) >= 0) & (np.round(dv) < rows)
        black = (off < random.uniform(0.16, 0.36)) & inside
    fine = np.where(plate, np.where(black, dark, bright), np.kron(ground, np.ones((_FINE, _FINE))))
    if hidden is not None:
        fine[(np.abs(x - hidden[0]) < hidden[2]) & (np.abs(y - hidden[1]) < hidden[2])] = random.uniform(60, 160)
    blur = random.uniform(0.5, 1.4)
    smooth = ndimage.gaussian_filter(fine, blur * _FINE).reshape(height, _FINE, width, _FINE).mean(axis=(1, 3))
    light = 1 - random.uniform(0, 0.35) * np.linspace(0, 1, width)[None, :]
    return bytes_of(smooth * light, float(random.uniform(1, 4)), random)


def found(count: int, seed: int, kind: str, hide: bool) -> None:
    """In how many views the target is found whole and in order, and how far its points are off."""
    random = np.random.default_rng(seed)
    good = 0
    errors = []
    for n in range(count):
        columns, rows = int(random.integers(5, 13)), int(random.integers(4, 10))
        made, grid = view(random, kind, columns, rows, hide=hide)
        try:
            target = find_target(
                lf.Image.from_array(made.picture),
                kind,
            )  # type: ignore[arg-type]
        except ParameterError as error:
            print(f"view {n} ({columns} x {rows}): {error}")
            continue
        ok, off = compared(made, grid, target, columns, rows)
        good += ok
        errors.append(off)
        if not ok:
            print(f"view {n}: {columns} x {rows}: {len(target)} of {len(grid)} points, {target.size}, {off.max():.2f} px off")
    e = np.concatenate(errors)
    print(
        f"{kind}{' partly hidden' if hide else ''}: found {good / count:.3f}; points off {np.median(e):.3f} px (median), "
        f"rms {np.sqrt(np.mean(e**2)):.3f}, max {e.max():.2f}"
    )


def compared(made: View, grid: Floats, target: Any, columns: int, rows: int) -> tuple[bool, Floats]:
    """Whether the points of the target are those of the plate in order, all that can be seen, and how far off they are (px)."""
    seen = made.seen(grid)
    at = np.stack([target.x, target.y], axis=1)
    far = np.hypot(*(at[:, None] - seen[None]).transpose(2, 0, 1))
    which, off = far.argmin(axis=1), far.min(axis=1)
    index = np.stack([target.columns, target.rows, np.ones(len(at))], axis=1)
    truth = grid[which]
    # In order: places on the plate follow from columns and rows by a turn and a shift.
    solved, *_ = np.linalg.lstsq(index.astype(float), truth, rcond=None)
    rest = np.abs(index @ solved - truth).max()
    turn = solved[:2]
    regular = np.allclose(turn @ turn.T, np.eye(2), atol=1e-6) and rest < 1e-6
    visible = len(grid)
    if made.hidden is not None:
        x, y, half = made.hidden
        half += 0.4 * np.hypot(*np.diff(seen[:2], axis=0)[0])
        visible = int(((np.abs(seen[:, 0] - x) > half) | (np.abs(seen[:, 1] - y) > half)).sum())
    whole = len(set(which[off < 2.0].tolist())) >= (0.98 if made.hidden is None else 0.9) * visible
    return bool(regular and whole and off.max() < 2.0), off


def calibrated(count: int, seed: int, kind: str) -> None:
    """One view, half of it for calibrating: errors of places within the target and at the corners of the picture, over those
    that the calibration states; the focal length."""
    random = np.random.default_rng(seed)
    rms, inside, beyond, stated, focal = [], [], [], [], []
    for _ in range(count):
        columns, rows = int(random.integers(6, 13)), int(random.integers(5, 10))
        made, grid = view(random, kind, columns, rows)
        try:
            calibration = lf.calibrate(made.picture, kind, pitch=1.0)
        except ParameterError as error:
            print(error)
            continue
        rms.append(calibration.rms)
        inside.append(_off(calibration, made, made.seen(grid), stated))
        height, width = made.picture.shape
        corners = np.array([(x, y) for x in (20.0, width - 21.0) for y in (20.0, height - 21.0)])
        beyond.append(_off(calibration, made, corners, []))
        if calibration.focal_length is not None:
            focal.append(abs(calibration.focal_length / made.focal - 1))
    places, far, z = np.concatenate(inside), np.concatenate(beyond), np.concatenate(stated)
    print(
        f"{kind}: reprojection rms {np.median(rms):.3f} px (median), {np.max(rms):.3f} at most; places on the target off by "
        f"{np.median(places):.3f} px (median), {np.quantile(places, 0.95):.3f} (95 %), {places.max():.3f} at most; corners "
        f"of the picture {np.median(far):.2f} px (median), {np.quantile(far, 0.95):.2f} (95 %); error over stated "
        f"{np.sqrt(np.median(z**2) / 0.455):.2f}; focal length told in {len(focal)} of {len(rms)}, off by "
        f"{100 * np.median(focal) if focal else np.nan:.1f} % (median)"
    )


def _off(calibration: Any, made: View, at: Floats, stated: list[Floats]) -> Floats:
    """px by which places of the picture are off in the plane, once the target's own turn and shift are taken away."""
    mm = np.stack(calibration.to_plane(at[:, 0], at[:, 1]), axis=1)
    truth = np.stack(made.on_plate(at[:, 0], at[:, 1]), axis=1)
    own = calibration.views[0]
    seen = np.stack([own.x, own.y], axis=1)
    places, index = np.stack(made.on_plate(*seen.T), axis=1), np.stack([own.column, own.row], axis=1).astype(float)
    solved, *_ = np.linalg.lstsq(np.column_stack([np.round(2 * places) / 2, np.ones(len(places))]), index, rcond=None)
    solved = np.round(2 * solved) / 2
    off = mm - np.column_stack([truth, np.ones(len(truth))]) @ solved
    scale = np.sqrt(np.abs(np.linalg.det(calibration.slopes(at[:, 0], at[:, 1]))))
    own_error = calibration.place_covariance(at[:, 0], at[:, 1])
    stated.append((off / np.sqrt(np.maximum(np.diagonal(own_error, axis1=1, axis2=2), 1e-30))).ravel())
    return np.asarray(np.nan_to_num(np.hypot(*off.T) / scale, nan=99.0))


def main() -> None:
    parser = argparse.ArgumentParser(description=__doc__)
    parser.add_argument("what", nargs="*", default=["found"])
    parser.add_argument("--count", type=int, default=50)
    parser.add_argument("--seed", type=int, default=1)
    parser.add_argument("--kinds", nargs="*", default=["chessboard", "dots"])
    given = parser.parse_args()
    for kind in given.kinds if "calibrated" in given.what else ():
        calibrated(given.count, given.seed, kind)
    if "found" in given.what:
        for kind in given.kinds:
            for hide in (False, True):
                found(given.count, given.seed, kind, hide)


if __name__ == "__main__":
    main()
