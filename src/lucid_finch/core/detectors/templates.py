"""Templates: where a taught pattern occurs, at which angle and size, how well it agrees and how much of it is visible.

Without rotation and scaling the peaks of the zero-mean normalised cross-correlation are found, coarse to fine where that is
faster (`numerics.matching.upright`), else by computing it at every place (`numerics.matching.correlation`). Else a coarse
search over all poses under local normalisation is followed by alignment from level to level (`numerics.matching.locating`).
Every candidate is measured at full size, and compared with what chance gives in this image (`numerics.matching.verifying`).
"""

from __future__ import annotations

import math
from collections.abc import Callable, Mapping
from dataclasses import dataclass
from functools import cache
from typing import Any, Literal

import numpy as np
from numpy.typing import NDArray

from lucid_finch.core.detection import Correlation, EvidenceMap, Outlines
from lucid_finch.core.detector import Candidates, Detector, DetectorParameters, Example, Finished, Reason, Task
from lucid_finch.core.detectors.shared.declarations import FALSE_ALARMS_COLUMN, false_alarms_parameter
from lucid_finch.core.errors import ParameterError
from lucid_finch.core.image import Frame, Image
from lucid_finch.core.judging import Exclusions
from lucid_finch.core.luma import as_luma
from lucid_finch.core.numerics.matching import verifying
from lucid_finch.core.numerics.matching.alignment import sampled
from lucid_finch.core.numerics.matching.chance import by_correlation
from lucid_finch.core.numerics.matching.correlation import Pattern, correlation_map
from lucid_finch.core.numerics.matching.locating import MOST, Located, Model, Pyramid, Ranges, locate
from lucid_finch.core.numerics.matching.search import local_maxima
from lucid_finch.core.numerics.matching.upright import SURE, correlation_peaks
from lucid_finch.core.numerics.matching.views import noise_of
from lucid_finch.core.numerics.matching.visibility import gain_and_offset
from lucid_finch.core.parameter_types.references import Asset
from lucid_finch.core.parameters import Range, gathers, judges
from lucid_finch.core.regions import Region, masked_pixels
from lucid_finch.core.table import Array, Column

_SHOWN = 40
"""Findings that are shown beside the template, at most."""
_FLOOR = 0.2
"""Agreement under local normalisation below which a pose is not followed."""
_LEAST_LEFT = 0.4
"""What noise is said to leave of a correlation, at least."""
_SURE, _SURELY = 25.0, 0.6
"""log_nfa from which on a match is as sure as can be, and what that adds to its score in the ranking."""
_POLARITIES = ("same", "reversed")


class TemplatesParameters(DetectorParameters):
    """Parameters of `templates`."""

    template: Asset | None = gathers(
        None, label="Template", help="The picture of what is sought.", auto="none yet: teach one from a region of an image"
    )
    outline: Region | None = gathers(
        None,
        label="Outline",
        help="Which part of the picture is sought, in its own pixels; the rest is margin.",
        auto="the whole picture",
        more=True,
        of_picture=True,
    )
    mask: Asset | None = gathers(
        None,
        label="Mask",
        help="A picture as large as the template: pixels that are 0 do not count.",
        auto="all count",
        more=True,
    )
    reference: tuple[float, float] | None = gathers(
        None,
        label="Reference",
        unit="px",
        help="The point of the picture, x and y, whose place is reported.",
        auto="the middle of the outline",
        more=True,
    )
    similarity: Literal["intensity", "gradient"] = gathers(
        "intensity",
        label="Similarity",
        help="intensity: zero-mean normalised cross-correlation; gradient: agreement of the directions of gradients, for light "
        "that changes across the pattern.",
    )
    rotation: Range = gathers(
        (0.0, 0.0), label="Rotation", unit="degrees", least=-360.0, most=360.0, is_range=True, help="Smallest and largest angle."
    )
    scale: Range = gathers(
        (1.0, 1.0), label="Scale", least=0.1, most=10.0, is_range=True, help="Smallest and largest size against the template."
    )
    polarity: Literal["same", "either"] = gathers(
        "same", label="Polarity", help="either: also with light and dark exchanged.", more=True
    )
    score_min: float = judges(
        0.4,
        label="Score, min",
        least=-1.0,
        most=1.0,
        usual=(0.0, 1.0),
        criterion="score",
        help="1 is a perfect match. A hidden part lowers it by its share.",
    )
    visible_min: float = judges(
        0.4,
        label="Visible, min",
        least=0.0,
        most=1.0,
        criterion="visible",
        help="Share of the template that is in the image and fits.",
        more=True,
    )
    false_alarms: float = false_alarms_parameter(
        "Expected number of matches that chance gives in an image like this one, measured with the template in random poses and "
        "by its look-alikes."
    )
    overlap_max: float = gathers(
        0.3,
        label="Overlap, max",
        least=0.0,
        most=1.0,
        help="Of two matches that share more than this part of the smaller one, the better counts.",
        more=True,
    )


@dataclass(frozen=True)
class _Template:
    """A template as the detector compares it."""

    model: Model
    frame: Frame
    """From its own prepared pixels to those of its picture."""
    box: tuple[float, float, float, float]
    """Outer edges of the outline's box in its prepared pixels: left, top, right, bottom."""


@dataclass(frozen=True)
class Gathered:
    """Candidates as measured, in px of the prepared image."""

    template: _Template
    verified: verifying.Verified
    map: Callable[[], NDArray[np.float32]]
    """Best agreement at each place, all poses together; computed when it is first asked for, where peaks came without it."""
    shape: tuple[int, ...]
    """Of the map: rows, columns."""
    frame: Frame
    """From the map's pixels to those of the prepared image."""
    searched: bool
    """Whether candidates come from the search, not from a map of correlations."""
    notes: tuple[str, ...]

    @property
    def nbytes(self) -> int:
        return 4 * self.shape[0] * self.shape[1]


@dataclass(frozen=True)
class _Placed:
    """One entry a candidate."""

    corners: NDArray[np.float64]
    """(n, 4, 2): of its frame, in the source."""
    poses: NDArray[np.float64]
    """(n, 4), in px of the prepared image."""


class Templates(Detector):
    kind = "templates"
    purpose = "Places of a taught pattern, turned, scaled and partly hidden."
    Parameters = TemplatesParameters
    columns = (
        Column("angle", "angle", "deg", "against the template, from +x towards +y", 2),
        Column("scale", "scale", "", "size against the template", 4),
        Column("visible", "visible", "", "share of the template that is in the image and fits", 2),
        FALSE_ALARMS_COLUMN,
        Column("left", "left", "px", "of the upright box, by its outer edge", 1, "x", "top"),
        Column("top", "top", "px", "of the upright box, by its outer edge", 1, "y"),
        Column("width", "width", "px", "of the upright box", 1, "length"),
        Column("height", "height", "px", "of the upright box", 1, "length"),
        Column("correlation", "correlation", "", "of all pixels within the image, -1 to 1", 3),
        Column("polarity", "polarity", "", "whether light and dark are exchanged", names=_POLARITIES),
        Column("x_std", "x ±", "px", "one standard deviation, from the noise alone", 3, "x error", "y_std"),
        Column("y_std", "y ±", "px", "one standard deviation, from the noise alone", 3, "y error"),
        Column("angle_std", "angle ±", "deg", "one standard deviation, from the noise alone", 3),
        Column("scale_std", "scale ±", "", "one standard deviation, from the noise alone", 5),
    )
    near = 30.0
    main_maps = ("score", "matches")

    # Stages

    def gather(self, task: Task) -> Gathered:
        parameters = task.parameters
        template = _template_of(task)
        ranges = _ranges(parameters)
        image = task.image
        pixels = np.ascontiguousarray(image.pixels, np.float32)
        masked = masked_pixels(image, None, 0)
        valid = None if masked is None else masked == 0
        quantum = image.quantum
        # Grey levels do not agree where the light changes.
        searched = any(ranges.free) or parameters.similarity == "gradient"
        noise = max(noise_of(pixels), 0.3 * quantum, 1e-6 * image.span)
        pyramid = Pyramid(pixels, valid, noise, template.model.floor)
        least, many = self.floor(parameters)
        if searched:
            _check_size(template, image, ranges)
            found, responses = locate(pyramid, template.model, ranges, _FLOOR, MOST, task.context.cancelled)
            fx, fy = found.coarse
            frame = Frame(((fx, 0.0), (0.0, fy)), (0.5 * fx - 0.5, 0.5 * fy - 0.5))
            shape = responses.shape

            def whole() -> NDArray[np.float32]:
                return responses

        else:
            found, whole, frame = _by_map(task, template, pixels, valid, ranges, least * _left_in_noise(template, noise))
            shape = pixels.shape
        verified = verifying.verify(
            pyramid, template.model, ranges, found, quantum, parameters.similarity, many, task.context.cancelled
        )
        notes = (f"{found.dropped} further places of weaker agreement were not followed",) if found.dropped > 0 else ()
        return Gathered(template, verified, whole, shape, frame, searched, notes)

    def floor(self, parameters: TemplatesParameters) -> tuple[float, float]:
        """Correlation below which no peak is gathered, and false alarms from which on a candidate is not measured, in decades."""
        least = max(0.3, math.floor(10 * min(abs(parameters.score_min), 0.9) - 1) / 10)
        return least, 10.0 ** math.ceil(math.log10(max(parameters.false_alarms, verifying.MANY)) - 1e-9)

    def form(self, task: Task) -> Candidates:
        gathered: Gathered = task.gathered
        v, template = gathered.verified, gathered.template
        x, y = task.image.frame.to_source(v.poses[:, 0], v.poses[:, 1])
        angle, scale = _in_source(v.poses, task.image.frame, template.frame)
        x_std, y_std = task.image.frame.errors_to_source(v.errors[:, 0], v.errors[:, 1])
        corners = _corners(v.poses, template, task.image.frame)
        low, high = (corners.min(axis=1), corners.max(axis=1)) if len(v.poses) else (np.zeros((0, 2)), np.zeros((0, 2)))
        columns: dict[str, Array] = {
            "x": x, "y": y, "score": np.clip(v.score, 0.0, 1.0), "angle": angle, "scale": scale, "visible": v.visible,
            "log_nfa": v.log_nfa, "left": low[:, 0], "top": low[:, 1], "width": high[:, 0] - low[:, 0],
            "height": high[:, 1] - low[:, 1], "correlation": v.correlation, "polarity": v.reversed_.astype(np.int64),
            "x_std": x_std, "y_std": y_std, "angle_std": v.errors[:, 2], "scale_std": v.errors[:, 3],
        }  # fmt: skip
        # Alignment may leave the ranges; what is sought does not.
        inside = _in_ranges(v.poses, _ranges(task.parameters))
        if task.parameters.region is not None and len(x):
            inside &= np.asarray(task.parameters.region.contains(x, y), bool)
        columns = {name: values[inside] for name, values in columns.items()}
        poses = v.poses[inside]
        size = float(np.median(columns["height"])) if inside.any() else 20.0
        pairs, shares = _overlaps(poses, template)
        exclusions = Exclusions("overlap_max", pairs, shares, task.parameters.overlap_max)
        # Of two that overlap a smooth look-alike may score as well; what chance hardly gives goes first.
        ranked = columns["score"] + _SURELY * np.clip(columns["log_nfa"] / _SURE, 0.0, 1.0)
        return Candidates(columns, ranked, size, exclusions, _Placed(corners[inside], poses), True)

    def finish(self, task: Task, chosen: NDArray[np.int64]) -> Finished:
        columns = {name: values[chosen] for name, values in task.candidates.columns.items()}
        frames = task.candidates.detail.corners[chosen]
        return Finished(columns, Outlines.of(list(frames), closed=True), outlines_in_source=True)

    def notes(self, task: Task) -> tuple[str, ...]:
        gathered: Gathered = task.gathered
        score, judgement = task.candidates.columns["score"], task.judgement
        found = judgement.found
        failed = judgement.outcome == 1
        margin: tuple[str, ...] = ()
        if len(found) and failed.any():
            margin = (f"worst match {score[found].min():.2f}, best of what was rejected {score[failed].max():.2f}",)
        return (*gathered.notes, *margin)

    # What is reported

    def evidence(self, task: Task) -> list[EvidenceMap]:
        gathered: Gathered = task.gathered
        height, width = gathered.shape

        def part(left: int, top: int, right: int, bottom: int) -> Array:
            return np.ascontiguousarray(gathered.map()[top:bottom, left:right], np.float32)

        text = (
            "best agreement of all poses with the place, both locally normalised, at the pitch of the coarse search"
            if gathered.searched
            else "correlation if the template's reference lies on this pixel; 0 where the template hangs over the border"
        )
        frame = task.image.frame.after(gathered.frame)
        arithmetic = None if gathered.searched else _arithmetic(gathered.template)
        score = EvidenceMap("score", "score", "", "signed", width, height, part, frame, text, arithmetic=arithmetic)
        return [score, *_side_by_side(task)]

    def distances(self, task: Task, x: float, y: float) -> Array:
        """From the reference, or from the box of the placed template where the place is outside of it."""
        c = task.candidates.columns
        across = np.maximum(np.maximum(c["left"] - x, x - c["left"] - c["width"]), 0.0)
        down = np.maximum(np.maximum(c["top"] - y, y - c["top"] - c["height"]), 0.0)
        inside = np.hypot(c["x"] - x, c["y"] - y) / np.maximum(np.hypot(c["width"], c["height"]), 1.0)
        return np.hypot(across, down) + 4.0 * inside

    def probe(self, task: Task, x: float, y: float) -> list[Reason]:
        if reasons := self.outside(task, x, y):
            return reasons
        gathered: Gathered = task.gathered
        frame = task.image.frame.after(gathered.frame)
        u, v = frame.from_source(x, y)
        best = gathered.map()
        reach = max(1, round(0.25 * gathered.template.model.side / frame.scale))
        column, row = (min(max(round(float(w)), 0), n - 1) for w, n in ((u, best.shape[1]), (v, best.shape[0])))
        around = best[max(row - reach, 0) : row + reach + 1, max(column - reach, 0) : column + reach + 1]
        most = float(around.max())
        place = np.unravel_index(int(np.argmax(around)), around.shape)
        at = frame.to_source(max(column - reach, 0) + int(place[1]), max(row - reach, 0) + int(place[0]))
        text = f"the template agrees best here at ({at[0]:.0f}, {at[1]:.0f}), with {most:.2f}; nothing stood out"
        return [Reason("score", most, task.parameters.score_min, "", False, text, nothing=True)]


def _arithmetic(template: _Template) -> Correlation:
    """How a value of the score map is made."""
    left, top, right, bottom = (math.floor(v + 0.5) for v in template.box)
    model = template.model
    used = np.where(model.mask, model.pixels, np.nan)[top:bottom, left:right].astype(np.float64)
    return Correlation("prepared", used, (model.reference[0] - left, model.reference[1] - top))


def _side_by_side(task: Task) -> list[EvidenceMap]:
    """Each finding as a row: the template, the image turned upright in the template's grey levels, and how far both differ."""
    gathered: Gathered = task.gathered
    rows = task.rows[:_SHOWN]
    if not len(rows):
        return []
    left, top, right, bottom = (math.floor(v + 0.5) for v in gathered.template.box)
    model = gathered.template.model
    part, used = model.pixels[top:bottom, left:right], model.mask[top:bottom, left:right]
    height, width = part.shape
    y, x = (a.ravel().astype(float) for a in np.mgrid[top:bottom, left:right])
    places = x - model.reference[0], y - model.reference[1]

    @cache
    def whole() -> Array:
        pixels, poses = np.ascontiguousarray(task.image.pixels, np.float32), task.candidates.detail.poses[rows]
        seen = sampled(pixels, (1.0, 1.0), places, poses)
        strips = []
        for values in seen.reshape(-1, height, width):
            shown = used & np.isfinite(values)
            flat = np.nan_to_num(values).ravel().astype(np.float64)
            gain, offset = gain_and_offset(flat, part.ravel().astype(np.float64), shown.ravel())
            upright = np.where(np.isfinite(values), (values - offset) / (gain or 1.0), 0.0)
            strips.append(np.concatenate([part, upright, np.where(shown, np.abs(upright - part), 0.0)], axis=1))
        return np.concatenate(strips).astype(np.float32)

    def box(first: int, upper: int, last: int, lower: int) -> Array:
        return np.ascontiguousarray(whole()[upper:lower, first:last])

    axes = np.arange(3 * width, dtype=float), 1 + np.arange(len(rows) * height) / height
    text = "each finding in a row: the template, the image at its place turned upright, and their difference"
    if len(task.rows) > _SHOWN:
        text += f"; the first {_SHOWN} of {len(task.rows)}"
    return [
        EvidenceMap(
            "matches", "matches", "grey", "grey", 3 * width, len(rows) * height, box, help=text, judged=True,
            axes=(axes[0], axes[1], "px: template, match, difference", "row of the findings"),
        )
    ]  # fmt: skip


def _ranges(parameters: TemplatesParameters) -> Ranges:
    """The ranges with both ends; an open one is as wide as makes sense."""
    low, high = (v if v is not None else d for v, d in zip(parameters.rotation, (-180.0, 180.0), strict=True))
    least, most = (v if v is not None else d for v, d in zip(parameters.scale, (0.5, 2.0), strict=True))
    if high - low > 360.0:
        high = low + 360.0
    return Ranges((low, max(low, high)), (least, max(least, most)), parameters.polarity == "either")


def _in_ranges(poses: NDArray[np.float64], ranges: Ranges) -> NDArray[np.bool_]:
    """Which poses lie within the ranges, less what an error bar may be: a degree, a hundredth of the size."""
    low, high = ranges.rotation
    off = (np.degrees(poses[:, 2]) - 0.5 * (low + high) + 180.0) % 360.0 - 180.0
    turned = np.abs(off) <= 0.5 * (high - low) + 1.0
    return np.asarray(turned & (poses[:, 3] >= 0.99 * ranges.scale[0]) & (poses[:, 3] <= 1.01 * ranges.scale[1]))


def _template_of(task: Task) -> _Template:
    """The taught picture with its mask. Raises `ParameterError` that says what is missing or wrong."""
    given = task.parameters
    if given.template is None:
        raise ParameterError(
            "templates: template is missing; teach one from a region of an image in the window, or give a picture of it",
            "template",
        )
    image: Image = task.context.assets[given.template.text]
    image = as_luma(image)
    masked = masked_pixels(image, given.outline, 0)
    mask = np.ones(image.pixels.shape, bool) if masked is None else masked == 0
    if given.mask is not None:
        mask &= _mask_at(task.context.assets, given.mask.text, image)
    if not mask.any():
        raise ParameterError("templates: the outline and the mask leave no pixel of the template", "outline")
    pixels = np.ascontiguousarray(image.pixels, np.float32)
    if mask.sum() < 4:
        raise ParameterError(f"templates: {int(mask.sum())} pixels are too few for a template; at least 4", "template")
    inside = pixels[mask]
    if float(inside.max() - inside.min()) <= 0.0:
        raise ParameterError("templates: the template has the same value everywhere, so that it agrees with nothing", "template")
    rows, columns = np.flatnonzero(mask.any(axis=1)), np.flatnonzero(mask.any(axis=0))
    box = columns[0] - 0.5, rows[0] - 0.5, columns[-1] + 0.5, rows[-1] + 0.5
    middle = 0.5 * (box[0] + box[2]), 0.5 * (box[1] + box[3])
    reference = middle if given.reference is None else image.frame.from_source(*given.reference)
    noise = max(noise_of(pixels), 0.3 * image.quantum, 1e-6 * image.span)
    model = Model(pixels, mask, (float(reference[0]), float(reference[1])), noise)
    frame = image.frame
    if Frame(frame.matrix).is_identity:
        # A picture without steps of its own is in the pixels of the image as it is searched.
        frame = Frame(task.image.frame.matrix, frame.offset)
    return _Template(model, frame, box)


def _mask_at(assets: Mapping[str, Any], name: str, image: Image) -> NDArray[np.bool_]:
    """Where the mask's picture is not 0, at the pixels of the prepared template."""
    original = getattr(assets, "original", assets.__getitem__)(name)
    values = original.pixels if not original.is_colour else original.pixels.max(axis=2)
    x, y = image.frame.to_source(np.arange(image.width)[None, :], np.arange(image.height)[:, None])
    columns, rows = np.floor(x + 0.5).astype(int), np.floor(y + 0.5).astype(int)
    within = (columns >= 0) & (columns < original.width) & (rows >= 0) & (rows < original.height)
    picked = values[np.clip(rows, 0, original.height - 1), np.clip(columns, 0, original.width - 1)] != 0
    if image.frame.is_identity and (original.width, original.height) != (image.width, image.height):
        raise ParameterError(
            f"templates: mask has {original.width} x {original.height} pixels, the template {image.width} x {image.height}",
            "mask",
        )
    return np.asarray(within & picked)


def _check_size(template: _Template, image: Image, ranges: Ranges) -> None:
    left, top, right, bottom = template.box
    smallest = ranges.scale[0]
    if min(right - left, bottom - top) * smallest > 1.2 * max(image.width, image.height):
        raise ParameterError(
            f"templates: the template, {right - left:.0f} x {bottom - top:.0f} px, is larger than the image, "
            f"{image.width} x {image.height} px",
            "template",
        )


def _left_in_noise(template: _Template, noise: float) -> float:
    """What noise (grey levels) leaves of the correlation of a template with itself."""
    levels = template.model.pixels[template.model.mask > 0]
    contrast = float(levels.std()) if len(levels) else 0.0
    return max(contrast / math.hypot(contrast, noise), _LEAST_LEFT) if contrast > 0 else 1.0


def _by_map(
    task: Task, template: _Template, pixels: NDArray[np.float32], valid: Any, ranges: Ranges, least: float
) -> tuple[Located, Callable[[], NDArray[np.float32]], Frame]:
    """Peaks of the correlation, the map of every place, and its frame: pixel (x, y) is where the reference falls."""
    model = template.model
    left, top, right, bottom = (math.floor(v + 0.5) for v in template.box)
    part = model.pixels[top:bottom, left:right]
    mask = model.mask[top:bottom, left:right]
    height, width = part.shape
    if height > pixels.shape[0] or width > pixels.shape[1]:
        raise ParameterError(
            f"templates: the template, {width} x {height} px, is larger than the image, {pixels.shape[1]} x {pixels.shape[0]} px",
            "template",
        )
    image = task.image
    pattern = Pattern.of(part, mask)
    offset = model.reference[0] - left, model.reference[1] - top
    # The map as large as the image: each pixel where the reference falls, to the nearest.
    across, down = (math.floor(v + 0.5) for v in offset)

    def scores() -> NDArray[np.float32]:
        found = correlation_map(pixels, pattern, image.quantum, image.span)
        if valid is not None:
            holes = np.pad(np.cumsum(np.cumsum(~valid, axis=0), axis=1), ((1, 0), (1, 0)))
            inside = holes[height:, width:] - holes[:-height, width:] - holes[height:, :-width] + holes[:-height, :-width]
            found[inside > 0] = 0.0
        return found

    def placed(found: NDArray[np.float32]) -> NDArray[np.float32]:
        whole = np.zeros(pixels.shape, np.float32)
        _paste(whole, found, across, down)
        return whole

    size = (pixels.shape[0] - height + 1) * (pixels.shape[1] - width + 1)
    # Below, coarse to fine would lose some of the weak ones.
    strong = least >= SURE - 0.1 - 1e-9 and valid is None
    peaks = correlation_peaks(pixels, pattern, image.quantum, image.span, least, ranges.either) if strong else None
    dropped = 0
    if peaks is None:
        known = scores()
        judged = np.abs(known) if ranges.either else known
        rows, columns, dropped = local_maxima(judged, least, MOST)
        values = judged[rows, columns].astype(float)
        varied = float(np.mean(np.square(known[:: max(1, len(known) // 400)])))
        whole = cache(lambda: placed(known))
    else:
        rows, columns, values, varied = peaks.rows, peaks.columns, np.abs(peaks.values), peaks.varied
        whole = cache(lambda: placed(scores()))
    poses = np.stack([columns + offset[0], rows + offset[1], np.zeros(len(rows)), np.ones(len(rows))], axis=1).astype(float)
    poses[:, 2], poses[:, 3] = math.radians(ranges.rotation[0]), ranges.scale[0]
    expected = by_correlation(values, varied, model.mask.sum(), size)
    frame = Frame.shifted(offset[0] - across, offset[1] - down)
    return Located(poses, dropped, (1.0, 1.0), expected, (varied, float(size))), whole, frame


def _paste(whole: NDArray[np.float32], part: NDArray[np.float32], left: int, top: int) -> None:
    """Put a part into a plane where both overlap."""
    height, width = whole.shape
    x0, y0 = max(left, 0), max(top, 0)
    x1, y1 = min(left + part.shape[1], width), min(top + part.shape[0], height)
    if x1 > x0 and y1 > y0:
        whole[y0:y1, x0:x1] = part[y0 - top : y1 - top, x0 - left : x1 - left]


def _in_source(poses: NDArray[np.float64], image: Frame, template: Frame) -> tuple[Array, Array]:
    """Angle (degrees, in (-180, 180]) and scale of poses between the template's picture and the source image."""
    outer, inner = np.array(image.matrix), np.linalg.inv(np.array(template.matrix))
    cosine, sine = poses[:, 3] * np.cos(poses[:, 2]), poses[:, 3] * np.sin(poses[:, 2])
    turned = np.stack([np.stack([cosine, -sine], axis=1), np.stack([sine, cosine], axis=1)], axis=1)
    whole = outer @ turned @ inner
    angle = np.degrees(np.arctan2(whole[:, 1, 0] - whole[:, 0, 1], whole[:, 0, 0] + whole[:, 1, 1]))
    angle = np.where(angle <= -180.0, angle + 360.0, angle)
    return angle + 0.0, np.sqrt(np.abs(np.linalg.det(whole)))


def _corners(poses: NDArray[np.float64], template: _Template, frame: Frame) -> NDArray[np.float64]:
    """(n, 4, 2): corners of the placed outline box in the source, in order around it."""
    left, top, right, bottom = template.box
    rx, ry = template.model.reference
    x, y = np.array([left, right, right, left]) - rx, np.array([top, top, bottom, bottom]) - ry
    cosine, sine = (poses[:, 3] * f(poses[:, 2]) for f in (np.cos, np.sin))
    u = poses[:, :1] + cosine[:, None] * x - sine[:, None] * y
    v = poses[:, 1:2] + sine[:, None] * x + cosine[:, None] * y
    return np.stack(frame.to_source(u, v), axis=2)


_SAMPLES = 12
"""Points along each side of a template by which overlap is measured."""


def _overlaps(poses: NDArray[np.float64], template: _Template) -> tuple[NDArray[np.int64], NDArray[np.float64]]:
    """Pairs of poses whose boxes meet, and which share of the smaller one lies in the other."""
    left, top, right, bottom = template.box
    rx, ry = template.model.reference
    if len(poses) < 2:
        return np.zeros((0, 2), np.int64), np.zeros(0)
    from scipy.spatial import cKDTree  # here, since loading it takes a tenth of a second

    middle = np.array([0.5 * (left + right) - rx, 0.5 * (top + bottom) - ry])
    cosine, sine = poses[:, 3] * np.cos(poses[:, 2]), poses[:, 3] * np.sin(poses[:, 2])
    centres = np.stack(
        [poses[:, 0] + cosine * middle[0] - sine * middle[1], poses[:, 1] + sine * middle[0] + cosine * middle[1]], axis=1
    )
    width, height = right - left, bottom - top
    reach = math.hypot(width, height) * float(poses[:, 3].max())
    pairs = cKDTree(centres).query_pairs(reach, output_type="ndarray").astype(np.int64)
    if not len(pairs):
        return np.zeros((0, 2), np.int64), np.zeros(0)
    # Points of the smaller one, seen from the other.
    smaller = np.where(poses[pairs[:, 0], 3] <= poses[pairs[:, 1], 3], pairs[:, 0], pairs[:, 1])
    other = pairs.sum(axis=1) - smaller
    steps = (np.arange(_SAMPLES) + 0.5) / _SAMPLES - 0.5
    gx, gy = (a.ravel() for a in np.meshgrid(steps * width, steps * height))
    shares = np.empty(len(pairs))
    for first in range(0, len(pairs), 20_000):
        a, b = smaller[first : first + 20_000, None], other[first : first + 20_000, None]
        u = centres[a, 0] + cosine[a] * gx - sine[a] * gy - centres[b, 0]
        v = centres[a, 1] + sine[a] * gx + cosine[a] * gy - centres[b, 1]
        squared = poses[b, 3] ** 2
        x, y = (cosine[b] * u + sine[b] * v) / squared, (-sine[b] * u + cosine[b] * v) / squared
        shares[first : first + 20_000] = ((np.abs(x) <= 0.5 * width) & (np.abs(y) <= 0.5 * height)).mean(axis=1)
    return pairs, shares


def _example() -> tuple[Image, Asset]:
    y, x = np.mgrid[:24, :24]
    pixels = (60 + 120 * ((x - 12) ** 2 + (y - 14) ** 2 < 60)).astype(np.uint8)
    return Image.from_array(pixels), Asset("0" * 64)


_picture, _name = _example()
Templates.examples = (
    Example({"template": _name.text, "score_min": 0.3}, {_name.text: _picture}),
    Example({"template": _name.text, "rotation": (-20.0, 20.0), "scale": (0.9, 1.1)}, {_name.text: _picture}),
)

__all__ = ["Templates", "TemplatesParameters"]
