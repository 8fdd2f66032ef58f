"""Makes a calibration from pictures of a target, or from a line of known length."""

from __future__ import annotations

from collections.abc import Callable, Sequence
from typing import Any

import numpy as np
from numpy.typing import NDArray

from lucid_finch.core.errors import Cancelled, ParameterError, nearest
from lucid_finch.core.image import Image
from lucid_finch.core.inspection.calibration import Calibration, Lens, TargetKind, View
from lucid_finch.core.inspection.targets import TARGETS, Target, find_target, reference_of
from lucid_finch.core.numerics.targets.plane_fits import PlaneFit, Seen, fit_planes

Floats = NDArray[np.float64]
Progress = Callable[[int, int, str], None]
Cancel = Callable[[], bool]

LINE_END_STD = 0.5
"""px: how exactly the end of a line is drawn by hand."""
_SURE_FOCUS = 0.15
"""A focal length is told if it is known to this part of itself."""
_POOR = 0.5
"""px rms from which on the target itself is doubted."""


def calibrate(
    images: Sequence[Image], target: str = "chessboard", *, columns: int | None = None, rows: int | None = None, pitch: float,
    line: Any = None, name: str = "", progress: Progress | None = None, cancelled: Cancel | None = None,
) -> Calibration:  # fmt: skip
    """The calibration that pictures of a target give; millimetres are of the plane of the target in the first of them.

    `columns`, `rows`: inner corners of the chessboard or dots, if known; `pitch`: mm from one to the next. For `target="line"`,
    `pitch` is the length in mm of `line` ((x1, y1), (x2, y2)), px, in the one picture. Raises `ParameterError`, `Cancelled`.
    """
    if target not in (*TARGETS, "line"):
        known = (*TARGETS, "line")
        raise ParameterError(
            f'calibrate: target = "{target}" is not known{nearest(target, known)}; there are: {", ".join(known)}'
        )
    _check_number("pitch", pitch)
    for word, count in (("columns", columns), ("rows", rows)):
        if count is not None and (isinstance(count, bool) or not isinstance(count, (int, np.integer)) or count < 3):
            raise ParameterError(f"calibrate: {word} = {count!r} is not allowed; it must be a whole number of at least 3", word)
    if not images:
        raise ParameterError("calibrate: no picture is given", "images")
    size = images[0].source_size
    for image in images:
        if image.source_size != size:
            raise ParameterError(
                f"calibrate: {image.name or 'a picture'} has {image.source_size[0]} x {image.source_size[1]} px, the first one "
                f"{size[0]} x {size[1]}; all must be of one camera at one setting",
                "images",
            )
    if target == "line":
        return _from_line(images, pitch, line, name)
    if line is not None:
        raise ParameterError('calibrate: line belongs to target = "line"', "line")
    kind = next(k for k in TARGETS if k == target)
    found = []
    for number, image in enumerate(images):
        if cancelled is not None and cancelled():
            raise Cancelled()
        if progress is not None:
            progress(number, len(images), image.name)
        try:
            found.append(find_target(image, kind, columns, rows))
        except ParameterError as error:
            raise ParameterError(f"{image.name or f'picture {number + 1}'}: {error}", error.parameter) from None
    if progress is not None:
        progress(len(images), len(images), "")
    return calibrated(found, [image.name for image in images], size, columns, rows, float(pitch), name)


def calibrated(
    found: Sequence[Target], names: Sequence[str], size: tuple[int, int], columns: int | None, rows: int | None, pitch: float,
    name: str = "",
) -> Calibration:  # fmt: skip
    """The calibration from targets that have been found. Raises `ParameterError`."""
    reference, middle = reference_of(size), ((size[0] - 1) / 2, (size[1] - 1) / 2)
    views = [Seen(t.places, np.stack([t.x, t.y], axis=1)) for t in found]
    fit = fit_planes(views, middle, reference)
    if fit is not None and found[0].kind == "dots":
        # The middle of a tilted dot is not where its picture's middle is: that needs its size, which needs the plane.
        radii = [_dot_radius(h, t, reference) for h, t in zip(fit.homographies, found, strict=True)]
        fit = fit_planes([Seen(v.places, v.at, r) for v, r in zip(views, radii, strict=True)], middle, reference)
    if fit is None:
        raise ParameterError("the points of the target do not fix a plane: they lie on a line", "target")
    plane, covariance = _plane(fit, pitch)
    focal, tilt = _focal(fit, reference)
    kind: TargetKind = found[0].kind
    return Calibration(
        name=name, target=kind,
        columns=columns or max(t.size[0] for t in found), rows=rows or max(t.size[1] for t in found), pitch=pitch,
        width=size[0], height=size[1], plane=_rows(plane),  # type: ignore[arg-type]
        lens=Lens(x=fit.centre[0], y=fit.centre[1], reference=reference, k1=fit.k1, k2=fit.k2),
        covariance=_rows(covariance), rms=fit.rms, focal_length=focal, tilt=tilt,
        views=tuple(
            _view(t, n, r, u) for t, n, r, u in zip(found, names, fit.residuals, fit.used, strict=True)
        ),
    )  # fmt: skip


def _check_number(name: str, value: Any) -> None:
    if isinstance(value, bool) or not isinstance(value, (int, float, np.integer, np.floating)) or not 0 < value < np.inf:
        raise ParameterError(f"calibrate: {name} = {value!r} is not allowed; it must be a number above 0, in mm", name)


def _from_line(images: Sequence[Image], length: float, line: Any, name: str) -> Calibration:
    """Scale alone. Raises `ParameterError`."""
    if len(images) != 1:
        raise ParameterError("calibrate: a line is drawn in one picture", "images")
    try:
        ends = np.asarray(line, float)
    except (TypeError, ValueError):
        ends = np.empty(0)
    if ends.shape != (2, 2) or not np.isfinite(ends).all():
        raise ParameterError("calibrate: line must be two places ((x1, y1), (x2, y2)) in px", "line")
    far = float(np.hypot(*(ends[1] - ends[0])))
    if far < 1.0:
        raise ParameterError(f"calibrate: the line is {far:.2g} px long; it must be at least 1 px", "line")
    width, height = images[0].source_size
    scale = length / far
    covariance = np.zeros((12, 12))
    # The scale of both axes is one number.
    covariance[np.ix_((0, 4), (0, 4))] = (scale * np.sqrt(2.0) * LINE_END_STD / far) ** 2
    (x1, y1), (x2, y2) = ends.tolist()
    view = View(
        image=images[0].name, column=(0, 1), row=(0, 0), x=(x1, x2), y=(y1, y2), dx=(0.0, 0.0), dy=(0.0, 0.0), used=(True, True)
    )
    return Calibration(
        name=name, target="line", columns=2, rows=1, pitch=float(length), width=width, height=height,
        plane=((scale, 0.0, 0.0), (0.0, scale, 0.0), (0.0, 0.0, 1.0)), lens=Lens(x=0.0, y=0.0, reference=1.0),
        covariance=_rows(covariance), views=(view,),
    )  # fmt: skip


def _dot_radius(homography: Floats, target: Target, reference: float) -> float:
    """Radius of the dots in steps of their grid: the median over all, each by the scale at its place."""
    x, y = target.places.T
    w = homography[2, 0] * x + homography[2, 1] * y + homography[2, 2]
    scale = np.sqrt(np.abs(np.linalg.det(homography) / w**3)) * reference
    return float(np.clip(np.median(target.radius / scale), 0.0, 0.5))


def _inverse(numbers: Floats) -> Floats:
    """The first eight numbers of the inverse of a homography, its last made 1."""
    back = np.linalg.inv(np.append(numbers, 1.0).reshape(3, 3))
    return np.asarray((back / back[2, 2]).ravel()[:8])


def _plane(fit: PlaneFit, pitch: float) -> tuple[Floats, Floats]:
    """From undistorted places to mm, and the covariance of its numbers and the lens's."""
    forward = fit.homographies[0].ravel()[:8]
    back = _inverse(forward)
    slopes = np.eye(12)
    for k in range(8):
        step = 1e-6 * max(abs(forward[k]), 1e-3)
        ahead, behind = forward.copy(), forward.copy()
        ahead[k] += step
        behind[k] -= step
        slopes[:8, k] = (_inverse(ahead) - _inverse(behind)) / (2 * step)
    to_mm = np.diag([pitch] * 6 + [1.0] * 6)
    covariance = to_mm @ slopes @ fit.covariance @ slopes.T @ to_mm
    plane = np.append(back * np.diag(to_mm)[:8], 1.0).reshape(3, 3)
    return plane, 0.5 * (covariance + covariance.T)


def _focal(fit: PlaneFit, reference: float) -> tuple[float | None, float | None]:
    """Focal length (px) and tilt of the first view (deg), where the homographies tell them: square pixels, and the centre of
    distortion taken for the principal point (Zhang 2000, section 3.1)."""

    def inverse_square(homographies: Sequence[Floats]) -> float:
        rows = []
        for h in homographies:
            h = h / np.linalg.norm(h)
            (a1, b1, c1), (a2, b2, c2) = h[:, 0], h[:, 1]
            rows += [(a1 * a2 + b1 * b2, -c1 * c2), (a1**2 + b1**2 - a2**2 - b2**2, -(c1**2) + c2**2)]
        left, right = np.array(rows).T
        return float(left @ right / max(left @ left, 1e-300))

    value = inverse_square(fit.homographies)
    if value <= 0:
        return None, None
    # How unsure the first view's homography makes it; more views only help.
    change = 0.0
    size, axes = np.linalg.eigh(fit.covariance[:8, :8])
    for s, axis in zip(np.maximum(size, 0.0), axes.T, strict=True):
        moved = np.append(fit.homographies[0].ravel()[:8] + np.sqrt(s) * axis, 1.0).reshape(3, 3)
        change += (inverse_square([moved, *fit.homographies[1:]]) - value) ** 2
    if 0.5 * np.sqrt(change) / value > _SURE_FOCUS:
        return None, None
    focal = reference / np.sqrt(value)
    # The normal of the plane before a camera of this focal length.
    camera = np.diag([np.sqrt(value), np.sqrt(value), 1.0]) @ fit.homographies[0]
    normal = np.cross(camera[:, 0], camera[:, 1])
    return float(focal), float(np.degrees(np.arccos(min(abs(normal[2]) / np.linalg.norm(normal), 1.0))))


def _view(target: Target, name: str, residuals: Floats, used: NDArray[np.bool_]) -> View:
    def numbers(values: Any) -> tuple[float, ...]:
        return tuple(round(float(v), 5) for v in values)

    return View(
        image=name, column=tuple(int(c) for c in target.columns), row=tuple(int(r) for r in target.rows), x=numbers(target.x),
        y=numbers(target.y), dx=numbers(residuals[:, 0]), dy=numbers(residuals[:, 1]), used=tuple(bool(u) for u in used),
    )  # fmt: skip


def _rows(matrix: Floats) -> tuple[tuple[float, ...], ...]:
    return tuple(tuple(float(v) for v in row) for row in matrix)


def remarks(calibration: Calibration) -> tuple[str, ...]:
    """What one should know before trusting a calibration."""
    found = []
    left_out = sum(used.count(False) for used in (view.used for view in calibration.views))
    if left_out:
        found.append(f"{left_out} points were left out as outliers")
    if calibration.rms > _POOR:
        found.append(
            f"points are off by {calibration.rms:.2g} px: the target may be bent, its pitch uneven, or the focus poor"
        )  # fmt: skip
    if calibration.target != "line" and calibration.views:
        x, y = (np.concatenate([getattr(view, axis) for view in calibration.views]) for axis in ("x", "y"))
        share = float(np.ptp(x) * np.ptp(y)) / (calibration.width * calibration.height)
        if share < 0.5:
            found.append(f"the target covers {100 * share:.0f} % of the picture: towards its border millimetres are less sure")
    return tuple(found)
