"""Contours: outlines of what is darker or brighter than its surroundings, with their nesting, measures and shapes.

The image is thresholded (`shared.thresholds`, `numerics.regions.thresholding`), borders are followed (`numerics.regions.borders`)
and placed between pixels where the grey level crosses the threshold (`numerics.regions.iso_contours`); outlines are measured
(`numerics.regions.outlines`) and classified by fits (`numerics.regions.shape_classification`). Smoothing moves an outline inwards
by half its variance times the curvature; over a closed outline that adds up to an area of pi times the variance whatever its
shape, which is added back.
"""

from __future__ import annotations

import math
from dataclasses import dataclass, field
from typing import Any, Literal

import numpy as np
from numpy.typing import NDArray

from lucid_finch.core.detection import EvidenceMap, Outlines
from lucid_finch.core.detector import HERE, Candidates, Detector, DetectorParameters, Example, Finished, Reason, Task
from lucid_finch.core.detectors.shared.image_variants import Variant, calmed
from lucid_finch.core.detectors.shared.thresholds import (
    Level,
    Method,
    at_halfway,
    choose_level,
    level_part,
    signed_level,
    smoothed_image,
    smoothed_part,
)
from lucid_finch.core.errors import ParameterError
from lucid_finch.core.image import Image
from lucid_finch.core.judging import Outcome
from lucid_finch.core.numerics.edges.gradients import gaussian_kernel
from lucid_finch.core.numerics.ragged import take_rows
from lucid_finch.core.numerics.regions import shape_classification
from lucid_finch.core.numerics.regions.borders import Borders, rings_of
from lucid_finch.core.numerics.regions.components import Parts, parts_of, reconstructed
from lucid_finch.core.numerics.regions.iso_contours import MASKED, cross_level
from lucid_finch.core.numerics.regions.outlines import label_places, measure_outlines, points_of, simplified
from lucid_finch.core.numerics.regions.thresholding import pixel_noise
from lucid_finch.core.numerics.runtime.threads import cancelled_here
from lucid_finch.core.parameters import Range, forms, gathers, judges
from lucid_finch.core.regions import masked_pixels
from lucid_finch.core.table import Array, Column
from lucid_finch.core.valid_region import clipped, shrunk

Floats = NDArray[np.float64]
_WITH_LEVEL = ("fixed", "hysteresis", "iso")
_SUPPORT = 0.5, 0.25
"""Share of an outline that must lie on edges, and where noise, a pattern or blur hides some of them."""
_FAINT = 0.12
"""Share of the contrast of the clearest outlines below which one is a shade of the ground."""
_STANDS_OUT, _GRAIN, _DENSE = 8.0, 30.0, 60.0
"""Standard deviations of the sum of its pixels by which an outline stands out of noise; px^2 of what is no speck; and outlines
without edges in a megapixel that noise makes at most."""
_BESIDE = 3.0
"""px outside an outline within which a place still means it."""
_MOST_OUTLINES = 200_000


class ContoursParameters(DetectorParameters):
    """Parameters of `contours`."""

    binarize: Method | None = gathers(
        None,
        label="Threshold method",
        auto="edges; otsu where edges explain little and the histogram has two clear classes",
        help="How the threshold between foreground and background is found. fixed: one level. otsu: the level that separates the "
        "histogram best. local: the mean of a window. hysteresis: one level, and all that touches it above a lower one. edges: a "
        "level that follows the grey levels on the edges. iso: outlines of one level, always sub-pixel.",
    )
    level: float | None = gathers(
        None,
        label="Threshold",
        unit="grey",
        auto="the Otsu level",
        over="grey",
        only_with=("binarize", _WITH_LEVEL),
        help="Grey level between dark and bright.",
    )
    window: int | None = gathers(
        None,
        label="Window",
        unit="px",
        least=3,
        most=4001,
        usual=(3, 401),
        auto="a quarter of the shorter side",
        only_with=("binarize", ("local",)),
        help="Side of the square whose mean each pixel is compared with. Larger than the objects.",
        odd=True,
    )
    offset_pct: float | None = gathers(
        None,
        label="Offset",
        unit="%",
        least=0.0,
        most=100.0,
        usual=(0.0, 30.0),
        auto="three times the noise",
        only_with=("binarize", ("local", "hysteresis")),
        help="local: how far a pixel of the foreground is from the mean of its window. hysteresis: distance of the lower "
        "threshold from the upper one. In % of the value range.",
    )
    sigma: float | None = gathers(
        None,
        label="Smoothing",
        unit="px",
        least=0.0,
        most=50.0,
        usual=(0.0, 5.0),
        auto="1 px if the image has noise, else none",
        help="Standard deviation of the Gaussian smoothing before the threshold.",
        more=True,
    )
    foreground: Literal["dark", "bright"] | None = gathers(
        None, label="Foreground", auto="the opposite of the image border", help="Which side of the threshold the objects are on."
    )
    nesting: Literal["outermost", "all"] = judges(
        "all",
        label="Nesting",
        criterion="nest",
        sense="at most",
        admits="all",
        help="outermost: only outlines that are inside no other. all: holes and pieces in holes as well.",
    )
    points: Literal["subpixel", "all", "ends"] = forms(
        "subpixel",
        label="Points",
        help="Points of the outlines. subpixel: where the threshold is crossed. all: every pixel along the border. ends: only "
        "where its direction changes. Measures always use sub-pixel positions.",
        more=True,
    )
    area: Range | None = judges(
        None,
        label="Area",
        unit="px²",
        least=0.0,
        usual=(0.0, 1e5),
        criterion="area",
        is_range=True,
        auto="from the largest that noise produces after the smoothing (8 pi sigma squared)",
        help="Area without holes, minimum and maximum.",
    )
    circularity_min: float | None = judges(
        None,
        label="Circularity, min",
        least=0.0,
        most=1.0,
        usual=(0.0, 1.0),
        criterion="circularity",
        auto="no limit",
        help="1 is a disc.",
    )
    solidity_min: float | None = judges(
        None,
        label="Solidity, min",
        least=0.0,
        most=1.0,
        usual=(0.0, 1.0),
        criterion="solidity",
        auto="no limit",
        help="1 is convex.",
    )
    support_min: float | None = judges(
        None,
        label="Edge support, min",
        least=0.0,
        most=1.0,
        usual=(0.0, 1.0),
        criterion="backing",
        auto=f"{_SUPPORT[0]:g} if the threshold follows edges, {_SUPPORT[1]:g} if noise or blur hides some, else no limit",
        help="Share of the outline along which there is an edge.",
        more=True,
    )
    contrast_min: float | None = judges(
        None,
        label="Contrast, min",
        unit="grey",
        least=0.0,
        usual=(0.0, 100.0),
        criterion="contrast",
        auto=f"{100 * _FAINT:g} % of the clearest outlines if the threshold follows edges, the classes or the surroundings,"
        " else no limit",
        help="Difference of the foreground from the background, three pixels from the outline; of thin parts, their middle.",
        more=True,
    )
    drop_frame: bool = judges(
        False,
        label="Drop border objects",
        criterion="framed",
        sense="at most",
        admits=False,
        help="Reject outlines that touch the border of the image or of the region.",
        more=True,
    )
    simplify: float | None = forms(
        None,
        label="Simplify, tolerance",
        unit="px",
        least=0.0,
        most=1000.0,
        usual=(0.0, 20.0),
        auto="not simplified",
        help="Reported outlines keep only corners; no point of the outline is farther from them than this.",
        more=True,
    )


@dataclass
class Gathered:
    """Outlines of all components, one entry each in the columns; positions are of the source."""

    image: Image
    """What was thresholded."""
    is_calmed: bool
    """Whether single pixels far off their neighbours were left out of it."""
    level: Level
    binary: NDArray[np.uint8]
    borders: Borders
    x: Floats
    y: Floats
    hole: NDArray[np.bool_]
    parent: NDArray[np.int64]
    """The outline around each, or -1."""
    depth: NDArray[np.int64]
    framed: Floats
    contrast: Floats
    support: Floats
    blur: float
    """Standard deviation of the blur across the outlines, px of the image."""
    edges: NDArray[np.uint8] | None
    """Pixels on or beside an edge, if the threshold follows edges."""
    measures: dict[str, Floats]
    notes: tuple[str, ...] = ()
    named: dict[int, tuple[int, int, float, int]] = field(default_factory=dict)
    """Code, next code, score and corners of the outlines classified so far."""

    @property
    def nbytes(self) -> int:
        calmed = self.image.pixels.nbytes if self.is_calmed else 0
        moved = self.level.halfway.nbytes if self.level.halfway is not None else 0
        return int(calmed + moved + self.binary.nbytes + self.borders.nbytes + 2 * self.x.nbytes + 30 * self.parent.nbytes)


class Contours(Detector):
    kind = "contours"
    purpose = "Outlines of what is darker or brighter than its surroundings: nesting, size, centre, shape."
    Parameters = ContoursParameters
    columns = (
        Column("shape", "shape", "", "the shape that fits best", names=shape_classification.NAMES),
        Column("runner_up", "second best", "", "the shape that fits second best", names=shape_classification.NAMES),
        Column("area", "area", "px²", "without holes", 1, "area"),
        Column("perimeter", "perimeter", "px", "length of the outline, without the staircase of the pixels", 1, "path"),
        Column("left", "left", "px", "of the upright box, by its outer edge", 1, "x", "top"),
        Column("top", "top", "px", "of the upright box, by its outer edge", 1, "y"),
        Column("width", "width", "px", "of the upright box", 1, "length"),
        Column("height", "height", "px", "of the upright box", 1, "length"),
        Column("box_width", "length", "px", "longer side of the smallest rectangle around it", 2, "box"),
        Column("box_height", "breadth", "px", "shorter side of the smallest rectangle around it", 2, "box"),
        Column("angle", "angle", "deg", "of the longer side of the smallest rectangle, in [0, 180)", 1),
        Column("circularity", "circularity", "", "4 pi area / perimeter squared of the outline; 1 is a disc", 3),
        Column("solidity", "solidity", "", "area by that of the convex hull; 1 is convex", 3),
        Column("eccentricity", "eccentricity", "", "of the ellipse with the same second moments; 0 is a disc", 3),
        Column("parent", "inside", "", "number of the outline around it, or 0", 0, "row", scale="number"),
        Column("depth", "depth", "", "how many outlines are around it", 0),
        Column("holes", "holes", "", "how many holes it has", 0),
        Column("corners", "corners", "", "of the shape that fits; 0 for a circle or an ellipse", 0),
        Column("border", "border", "", "outer outline, or that of a hole", names=("outer", "hole")),
        Column("contrast", "contrast", "grey", "foreground against background, three pixels from the outline", 1),
        Column("support", "edge support", "", "share of the outline along which there is an edge", 2),
    )
    criteria = (
        Column("framed", "on the border", "", "share of the outline on the border of the image", 2),
        Column("nest", "depth", "", "how many outlines are around it", 0),
        Column(
            "backing",
            "edge support",
            "",
            "share of the outline along which there is an edge; the minimum, if it is clear in noise without",
            2,
        ),
    )
    near = 40.0
    named_by = "shape"
    main_maps = ("binary", "above", "level")
    examples = (
        Example(),
        Example({"binarize": "otsu", "area": (0.0, None), "simplify": 1.0}),
        Example({"binarize": "hysteresis", "points": "ends"}),
        Example({"binarize": "local"}),
    )

    def gather(self, task: Task) -> Gathered:
        image, cancelled = task.image, task.context.cancelled
        given: ContoursParameters = task.parameters
        if given.level is not None and not image.black <= given.level <= image.white:
            low, high = f"{image.black:g}", f"{image.white:g}"
            raise ParameterError(
                f"contours: level = {given.level:g} is outside the value range of this image, {low} to {high}", "level"
            )
        masked = masked_pixels(image, given.region, 0)
        seen = calmed(image, task.context) if given.binarize in (None, "edges") else Variant(image, task.context)
        image = seen.image
        level, edges = choose_level(image, given, masked, seen.context)
        plane = smoothed_image(image, level.sigma)
        if level.method == "local":
            level = at_halfway(plane, level)
        elif level.method == "edges" and level.smoothing is not None and level.smoothing.reason:
            level = at_halfway(plane, level, edges)
        signed = signed_level(plane, level)
        if masked is not None:
            signed[masked != 0] = MASKED
        binary = (signed > 0).astype(np.uint8)
        if level.method == "hysteresis":
            binary = reconstructed(binary, (signed > level.offset).astype(np.uint8), cancelled)
            signed[(signed > 0) & (binary == 0)] = -1e-3
        rings = rings_of(binary, cancelled)
        chosen, notes = _worth_keeping(parts_of(rings), binary.shape, masked)
        borders = rings.borders.only(chosen)
        crossed = cross_level(signed, edges, borders, cancelled)
        x, y = image.frame.to_source(crossed.x, crossed.y)
        measures = measure_outlines(x, y, borders.start, cancelled)
        parent = borders.around.astype(np.int64)
        depth = _nearest_around(parent, np.ones(len(parent), bool))[1]
        blur = _outline_blur(crossed.rise, crossed.contrast, crossed.clear, measures, np.diff(borders.start), image.frame.scale)
        return Gathered(
            image, seen.is_calmed, level, binary, borders, x, y, borders.hole, parent, depth, crossed.framed,
            crossed.contrast, crossed.support, blur, edges, measures, (*notes, *seen.notes),
        )  # fmt: skip

    def settle(self, task: Task) -> ContoursParameters:
        given: ContoursParameters = task.parameters
        gathered: Gathered = task.gathered
        level = gathered.level
        values: dict[str, Any] = {
            "binarize": level.method, "foreground": "bright" if level.bright else "dark", "sigma": level.sigma,
        }  # fmt: skip
        if given.area is None:
            values["area"] = (8 * math.pi * level.sigma**2 * task.image.frame.scale**2, None)
        if level.value is not None:
            values["level"] = level.value
        if level.window:
            values["window"] = level.window
        if level.method in ("local", "hysteresis"):
            values["offset_pct"] = 100 * level.offset / task.image.span
        if gathered.edges is not None and given.support_min is None:
            values["support_min"] = _needed_support(level)
        # A level that was chosen by hand is taken at its word.
        if given.contrast_min is None and (gathered.edges is not None or level.method in ("local", "otsu")):
            values["contrast_min"] = _FAINT * _clearest(gathered)
        return given.model_copy(update=values)

    def form(self, task: Task) -> Candidates:
        image = task.image
        g: Gathered = task.gathered
        m = g.measures
        lost = max(math.pi * g.blur**2, 0.5) * image.frame.scale**2
        filled = m["area"] + np.minimum(lost, 0.5 * m["area"] + 0.5)
        # Holes: outlines directly inside that are on edges.
        inside = np.flatnonzero((g.parent >= 0) & (g.support >= _needed_support(g.level) if g.edges is not None else True))
        count = len(filled)
        cut, cut_x, cut_y = (
            np.bincount(g.parent[inside], weights=filled[inside] * w[inside], minlength=count)[:count]
            for w in (np.ones(count), m["x"], m["y"])
        )
        area = np.maximum(filled - cut, 0.0)
        sound = area > 1e-6 * filled
        net = np.where(sound, area, 1.0)
        x = np.where(sound, (filled * m["x"] - cut_x) / net, m["x"])
        y = np.where(sound, (filled * m["y"] - cut_y) / net, m["y"])
        half = np.hypot((m["xx"] - m["yy"]) / 2, m["xy"])
        major = (m["xx"] + m["yy"]) / 2 + half
        columns: dict[str, Array] = {
            "x": x, "y": y, "area": area,
            "perimeter": m["perimeter"] * (1 + 0.5 * (filled / np.maximum(m["area"], 1e-9) - 1)),
            "left": m["left"], "top": m["top"], "width": m["right"] - m["left"], "height": m["bottom"] - m["top"],
            "box_width": m["box_width"], "box_height": m["box_height"], "angle": m["angle"],
            "circularity": np.minimum(4 * np.pi * m["area"] / np.maximum(m["perimeter"], 1e-9) ** 2, 1.0),
            "solidity": np.minimum(m["area"] / np.maximum(m["hull_area"], 1e-9), 1.0),
            "eccentricity": np.sqrt(np.clip(2 * half / np.maximum(major, 1e-12), 0.0, 1.0)),
            "border": g.hole.astype(np.int8), "contrast": g.contrast, "support": g.support,
            "framed": g.framed, "nest": g.depth, "backing": _backing(g, area / image.frame.scale**2),
        }  # fmt: skip
        size = float(np.median(columns["height"])) if count else 1.0
        return Candidates(columns, area, size, in_source=True)

    def measured(self, task: Task) -> dict[str, Any]:
        gathered: Gathered = task.gathered
        level = gathered.level
        found = {"otsu_level": level.otsu, "otsu_share": level.share, "noise": level.noise, "rim_blur": gathered.blur}
        return {name: value for name, value in found.items() if value is not None}

    def remedies(self, task: Task) -> list[dict[str, Any]]:
        level = task.gathered.level
        wide = max(3.0, 1.5 * level.sigma)
        given = [name for name in ("binarize", "sigma") if getattr(task.given, name) is not None]
        others: list[dict[str, Any]] = [dict.fromkeys(given)] if given else []
        others += [{"foreground": "dark" if level.bright else "bright"}]
        others += [{"support_min": 0.25}] if task.gathered.edges is not None else []
        others += [{"binarize": method} for method in ("edges", "local", "otsu", "hysteresis") if method != level.method]
        wider = [{"binarize": method, "sigma": wide} for method in ("local", "otsu")]
        return [*others, *wider, {"sigma": wide}, {"sigma": 0.0}]

    def notes(self, task: Task) -> tuple[str, ...]:
        gathered: Gathered = task.gathered
        smoothing = gathered.level.smoothing
        chosen = smoothing.notes() if smoothing is not None and task.given.sigma is None else ()
        return (*gathered.notes, *chosen)

    def finish(self, task: Task, chosen: NDArray[np.int64]) -> Finished:
        g: Gathered = task.gathered
        candidates = task.candidates
        columns = {name: values[chosen] for name, values in candidates.columns.items()}
        row_of = np.full(len(candidates), -1, np.int64)
        row_of[chosen] = np.arange(len(chosen))
        stands = np.zeros(len(candidates), bool)
        stands[chosen] = True
        up, depth = _nearest_around(g.parent, stands)
        around = np.where(up[chosen] >= 0, row_of[up[chosen]], -1)
        # Holes count whether they are listed or not.
        sound = np.ones(len(candidates), bool)
        for limit in task.judgement.limits:
            if limit.parameter in ("area", "support_min"):
                sound &= limit.passed(candidates.columns[limit.criterion])
        inner = np.flatnonzero(sound & (g.parent >= 0))
        columns["parent"], columns["depth"] = around, depth[chosen]
        columns["holes"] = np.bincount(g.parent[inner], minlength=len(candidates))[: len(candidates)][chosen]
        named = _names(g, chosen)
        columns["shape"], columns["runner_up"] = named[:, 0].astype(np.int8), named[:, 1].astype(np.int8)
        columns["score"] = named[:, 2]
        columns["corners"] = named[:, 3].astype(np.int64)
        other = columns["shape"] == shape_classification.NAMES.index("other")
        for k in np.flatnonzero(other).tolist()[:2000]:
            columns["corners"][k] = len(simplified(_outline(g, int(chosen[k])), _tolerance(g, int(chosen[k]))))
        # The number of each is written in the shape, in none of its holes.
        x, y, start = _joined(g, chosen)
        places = label_places(x, y, start, columns["parent"], columns["x"], columns["y"])
        return Finished(columns, self.outlines(task, chosen), places=places, outlines_in_source=True)

    def outlines(self, task: Task, chosen: NDArray[np.int64]) -> Outlines:
        return _reported(task, chosen)

    def plausible(self, candidates: Candidates) -> NDArray[np.bool_]:
        """Larger than specks of some pixels."""
        return np.asarray(candidates.columns["area"] > 4.0)

    def evidence(self, task: Task) -> list[EvidenceMap]:
        g: Gathered = task.gathered
        image = g.image
        reach = (len(gaussian_kernel(g.level.sigma)) // 2) * image.frame.scale if g.level.sigma > 0 else 0.0
        region = shrunk(clipped(image.corners, image.valid_region), reach)

        def one(name: str, label: str, unit: str, kind: Any, compute: Any, help: str) -> EvidenceMap:
            return EvidenceMap(
                name, label, unit, kind, image.width, image.height, compute, image.frame, help, valid_region=region
            )

        def smooth(left: int, top: int, right: int, bottom: int) -> Array:
            return smoothed_part(image, g.level.sigma, left, top, right, bottom)

        def level(left: int, top: int, right: int, bottom: int) -> Array:
            return level_part(image, g.level, left, top, right, bottom)

        def above(left: int, top: int, right: int, bottom: int) -> Array:
            return smooth(left, top, right, bottom) - level(left, top, right, bottom)

        def binary(left: int, top: int, right: int, bottom: int) -> Array:
            return np.ascontiguousarray(g.binary[top:bottom, left:right])

        maps = [
            one("smoothed", "smoothed", "grey", "grey", smooth, "the image after the smoothing"),
            one("level", "threshold", "grey", "grey", level, "the threshold of each pixel"),
            one("above", "above threshold", "grey", "signed", above, "difference from the threshold"),
            one("binary", "binary", "", "mask", binary, "foreground (objects) and background"),
        ]
        if g.edges is not None:
            near = g.edges

            def edges(left: int, top: int, right: int, bottom: int) -> Array:
                return np.ascontiguousarray(near[top:bottom, left:right])

            maps.insert(1, one("edges", "edges", "", "mask", edges, "pixels on or beside the edges that the threshold follows"))
        return maps

    def distances(self, task: Task, x: float, y: float) -> Array:
        """To the centroid, scaled by the size of the upright box: at most `near` within the box. Outside an outline at least the
        distance from it beyond `here`; inside it up to `here`, in proportion to the distance from its centroid, unless it is
        very large; inside that of a finding what counts as the place itself."""
        c = task.candidates.columns
        size = np.maximum(np.maximum(c["width"], c["height"]), 1.0)
        off = np.hypot(c["x"] - x, c["y"] - y)
        far = off * np.minimum(1.0, 2.5 * self.near / (2.5 * self.near + size))
        aside = np.maximum(c["left"] - x, x - c["left"] - c["width"])
        aside = np.maximum(aside, np.maximum(c["top"] - y, y - c["top"] - c["height"]))
        outside = aside > _BESIDE
        found = np.zeros(len(far), bool)
        found[task.judgement.found] = True
        for k in np.flatnonzero(~outside & (far <= self.near)):
            inside, aside[k] = _beside(_outline(task.gathered, int(k)), x, y)
            outside[k] = not inside and aside[k] > _BESIDE
            if inside and (found[k] or size[k] <= 4 * self.near):
                radius = math.sqrt(max(float(c["area"][k]), 1.0) / math.pi)
                far[k] = min(far[k], HERE if found[k] else self.here * min(off[k] / radius, 1.0))
        return np.where(outside, np.maximum(far, self.here + aside), far)

    here = 12.0

    def probe(self, task: Task, x: float, y: float) -> list[Reason]:
        if reasons := self.outside(task, x, y):
            return reasons
        gathered: Gathered = task.gathered
        image = gathered.image
        u, v = image.frame.from_source(x, y)
        column, row = min(max(round(float(u)), 0), image.width - 1), min(max(round(float(v)), 0), image.height - 1)
        box = (column, row, column + 1, row + 1)
        value = float(smoothed_part(image, gathered.level.sigma, *box)[0, 0])
        level = float(level_part(image, gathered.level, *box)[0, 0])
        side = "above" if value > level else "below"
        wanted = "bright" if gathered.level.bright else "dark"
        inside = bool(gathered.binary[row, column])
        text = f"the grey level here, {value:.1f}, is {side} the threshold of {level:.1f}, and the foreground is {wanted}: "
        text += f"it belongs to {self._piece_at(task, x, y)}" if inside else "it belongs to the background"
        change: dict[str, Any] | None = None
        if not inside and value != level:
            change = {"foreground": "dark" if gathered.level.bright else "bright"}
        return [Reason("threshold", value, level, "grey", inside, text, change)]

    def _piece_at(self, task: Task, x: float, y: float) -> str:
        """The piece of foreground at a place of the source, in words: its size, and what became of it."""
        c, judgement = task.candidates.columns, task.judgement
        beyond = (c["left"] > x) | (x > c["left"] + c["width"]) | (c["top"] > y) | (y > c["top"] + c["height"])
        rows = np.flatnonzero(~beyond & (c["border"] == 0))
        for row in rows[np.argsort(c["width"][rows] * c["height"][rows])].tolist():
            if not _beside(_outline(task.gathered, row), x, y)[0]:
                continue
            piece = f"a piece of {c['area'][row]:.0f} px²"
            if judgement.outcome[row] != Outcome.FAILED:
                return f"{piece} that is found" if judgement.outcome[row] == Outcome.FOUND else piece
            limits = [limit for limit in judgement.limits if not limit.passed(float(c[limit.criterion][row]))]
            return f"{piece} that fails: {', '.join(dict.fromkeys(self.criterion(l.criterion).label for l in limits))}"
        return "foreground whose outline is not kept, such as what reaches all sides of the image"


def _needed_support(level: Level) -> float:
    """Share of an outline on edges that it needs; where noise hides some edges, a shade hides more."""
    smoothing = level.smoothing
    return _SUPPORT[1 if smoothing is not None and (smoothing.hides_edges or smoothing.is_blurred) else 0]


def _backing(gathered: Gathered, area: Floats) -> Floats:
    """Edge support of each outline; the automatic minimum for those whose pixels together stand out of the noise without edges.

    Where outlines without edges are many, they belong to a texture, and none is accepted. `area`: px^2 of the image.
    """
    support, smoothing = gathered.support, gathered.level.smoothing
    if gathered.edges is None or smoothing is None or not smoothing.is_noisy:
        return support
    image, needed = gathered.image, _needed_support(gathered.level)
    loose = (support < needed) & (area > _GRAIN)
    if np.count_nonzero(loose) > _DENSE * image.width * image.height / 1e6:
        return support
    noise = max(pixel_noise(image.pixels), 0.3 * image.quantum)
    clear = np.nan_to_num(gathered.contrast) * np.sqrt(np.maximum(area, 0.0)) >= _STANDS_OUT * noise
    return np.where(loose & clear, needed, support)


def _clearest(gathered: Gathered) -> float:
    """Contrast that a tenth of the length of all outlines exceeds, of those on edges if these are known."""
    supported = (
        np.ones(len(gathered.support), bool) if gathered.edges is None else gathered.support >= _needed_support(gathered.level)
    )
    on = np.flatnonzero(supported & np.isfinite(gathered.contrast))
    if not len(on):
        return 0.0
    order = on[np.argsort(gathered.contrast[on])]
    length = np.cumsum(gathered.measures["perimeter"][order])
    return float(gathered.contrast[order[int(np.searchsorted(length, 0.9 * length[-1]))]])


def _worth_keeping(
    parts: Parts, shape: tuple[int, ...], masked: NDArray[np.uint8] | None
) -> tuple[NDArray[np.int64], tuple[str, ...]]:
    """Borders of all components but the image frame; if there are too many, of the largest."""
    chosen = np.arange(1, len(parts))
    height, width = shape
    left, top, right, bottom = 0, 0, width, height
    if masked is not None and not masked.all():
        rows, columns = np.flatnonzero((masked == 0).any(axis=1)), np.flatnonzero((masked == 0).any(axis=0))
        left, top, right, bottom = columns[0], rows[0], columns[-1] + 1, rows[-1] + 1
    # Foreground that reaches all four sides is the ground behind the others.
    ground = (
        (parts.foreground == 1) & (parts.left <= left) & (parts.top <= top) & (parts.right >= right) & (parts.bottom >= bottom)
    )
    ground &= parts.area > 0.25 * (right - left) * (bottom - top)
    notes: tuple[str, ...] = ()
    if ground.any():
        notes = ("the foreground reaches all sides of the image and is not reported; is the foreground the other one?",)
        chosen = chosen[~ground[1:]]
    if len(chosen) > _MOST_OUTLINES:
        least = int(np.sort(parts.area[chosen])[-_MOST_OUTLINES])
        notes += (f"{len(chosen)} outlines are too many: those of {least} pixels or fewer are left out",)
        kept = chosen[parts.area[chosen] > least]
        chosen = kept if len(kept) else chosen[:_MOST_OUTLINES]
    return chosen - 1, notes


def _nearest_around(around: NDArray[np.int64], stands: NDArray[np.bool_]) -> tuple[NDArray[np.int64], NDArray[np.int64]]:
    """The nearest accepted entry around each (-1 if there is none), and their number; `around` is the next one out, or -1."""
    up = around.copy()
    for _ in range(len(around)):
        climbs = (up >= 0) & ~stands[up]
        if not climbs.any():
            break
        up = np.where(climbs, around[up], up)
    depth, out = np.zeros(len(up), np.int64), up
    for _ in range(len(around)):
        further = out >= 0
        if not further.any():
            break
        depth += further
        out = np.where(further, up[out], -1)
    return up, depth


def _outline_blur(
    rise: Floats, contrast: Floats, clear: Floats, measures: dict[str, Floats], cracks: NDArray[np.int64], scale: float
) -> float:
    """Standard deviation of the blur across outlines in px: a blurred step of height C has the slope C / (sigma sqrt(2 pi)) at
    its middle; along rows and columns, that times the length of an outline over the number of its cracks. The difference of two
    pixels adds a twelfth to the variance."""
    clear_steps = (measures["area"] > 150 * scale**2) & (clear > 0.7) & (rise > 0) & (contrast > 0)
    if not clear_steps.any():
        return 0.0
    ratio = (
        contrast[clear_steps]
        / rise[clear_steps]
        * measures["perimeter"][clear_steps]
        / scale
        / cracks[clear_steps]
        / math.sqrt(2 * math.pi)
    )
    return math.sqrt(max(float(np.median(ratio)) ** 2 - 1 / 12, 0.0))


def _names(gathered: Gathered, rows: NDArray[np.int64]) -> Floats:
    """Code, next code, score and corners of some outlines; each is classified once."""
    known = gathered.named
    new = np.array([row for row in rows.tolist() if row not in known], np.int64)
    if len(new):
        m = gathered.measures
        named = shape_classification.classify_outlines(
            gathered.x, gathered.y, gathered.borders.start, m["jitter"], new, cancelled_here()
        )
        values = zip(named.code.tolist(), named.second.tolist(), named.score.tolist(), named.corners.tolist(), strict=True)
        known.update(zip(new.tolist(), values, strict=True))
    return np.array([known[row] for row in rows.tolist()], float).reshape(-1, 4)


def _outline(gathered: Gathered, n: int) -> Floats:
    return points_of(gathered.x, gathered.y, gathered.borders.start, n)


def _beside(outline: Floats, x: float, y: float) -> tuple[bool, float]:
    """Whether a place lies inside an outline, by the even-odd rule, and its distance from the nearest point."""
    (x1, y1), (x2, y2) = outline.T, np.roll(outline, -1, axis=0).T
    rising = np.where(y1 == y2, 1.0, y2 - y1)
    crosses = ((y1 <= y) != (y2 <= y)) & (x < x1 + (y - y1) * (x2 - x1) / rising)
    return bool(np.count_nonzero(crosses) % 2), float(np.min(np.hypot(x1 - x, y1 - y)))


def _tolerance(gathered: Gathered, n: int) -> float:
    """Distance that a polygon may have from an outline: what its noise and its size make of a straight side."""
    m = gathered.measures
    return max(0.75, 3 * float(m["jitter"][n]), 0.015 * math.sqrt(float(m["area"][n])))


def _joined(gathered: Gathered, rows: NDArray[np.int64]) -> tuple[Floats, Floats, NDArray[np.int64]]:
    """Points of some outlines, one after the other."""
    index, first = take_rows(gathered.borders.start, rows)
    return gathered.x[index], gathered.y[index], first


def _reported(task: Task, rows: NDArray[np.int64]) -> Outlines:
    """Outlines as asked for, in the source."""
    gathered: Gathered = task.gathered
    parameters: ContoursParameters = task.parameters
    kind = "subpixel" if gathered.level.method == "iso" else parameters.points
    if kind == "subpixel" and parameters.simplify is None:
        x, y, start = _joined(gathered, rows)
        return Outlines(np.stack([x, y], axis=1), start, np.ones(len(rows), bool))
    found = []
    for n in rows.tolist():
        points = _outline(gathered, n)
        if kind != "subpixel":
            points = np.stack(task.image.frame.to_source(*gathered.borders.pixels(n, kind == "ends").T), axis=1)
        found.append(points if parameters.simplify is None else simplified(points, parameters.simplify))
    return Outlines.of(found, True)
