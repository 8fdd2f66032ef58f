"""Blobs: spots, pinholes and grains of either polarity over a range of sizes, on textured ground.

`scale_space`: extrema of a response over place and scale (`numerics.blobs.scale_space`), compared with those that the texture
makes (`numerics.blobs.texture`) and fitted as blurred discs (`numerics.blobs.spot_fits`). `components`: the components of a
binary image, as the detector of outlines finds and measures them.
"""

from __future__ import annotations

import math
from collections.abc import Mapping
from dataclasses import dataclass, replace
from typing import Any, ClassVar, Literal

import numpy as np
from numpy.typing import NDArray

from lucid_finch.core.detection import EvidenceMap, Outlines
from lucid_finch.core.detector import Candidates, Detector, DetectorParameters, Example, Finished, Reason, Task
from lucid_finch.core.detectors.shared.declarations import FALSE_ALARMS_COLUMN, false_alarms_parameter
from lucid_finch.core.detectors.shared.edge_features import blocks_of, with_margin
from lucid_finch.core.detectors.shared.image_variants import Variant, calmed
from lucid_finch.core.detectors.shared.thresholds import Method
from lucid_finch.core.image import Image
from lucid_finch.core.judging import Exclusions, Limit, judge
from lucid_finch.core.numerics.blobs import scale_space, spot_fits
from lucid_finch.core.numerics.blobs.evidence import (
    DECAY,
    DECAY_ALONE,
    TYPICAL,
    TYPICAL_ALONE,
    Measures,
    evidence,
    evidence_alone,
)
from lucid_finch.core.numerics.blobs.rims import Rims, rim_changes, rims_around
from lucid_finch.core.numerics.blobs.scale_space import Extrema, Scale
from lucid_finch.core.numerics.blobs.texture import joint_log_nfa, response_rarity, rim_rarity, usual_beside
from lucid_finch.core.numerics.corners.significance import scale_at
from lucid_finch.core.numerics.edges.background import measure_background
from lucid_finch.core.numerics.edges.gradients import gaussian_kernel, operator_kernels
from lucid_finch.core.numerics.filtering.filters import separable
from lucid_finch.core.numerics.matching.views import noise_of
from lucid_finch.core.numerics.runtime.threads import cancellable
from lucid_finch.core.numerics.suppression import close_pairs
from lucid_finch.core.parameters import Range, gathers, judges
from lucid_finch.core.regions import masked_pixels
from lucid_finch.core.table import Array, Column

Floats = NDArray[np.float64]

_SMALLEST, _LARGEST = 2.0, 1.0 / 16.0
"""Radius that is sought by default: px, and part of the shorter side."""
_FITTED, _FITTED_RATIO = 1.2, 8.0
"""A blob is fitted from this rarity on (-log10 of the share of the texture's extrema that are as clear), and up to this ratio of
the curvatures."""
_STRONGEST = 2000
"""Of the strongest responses so many are fitted in any case."""
_CLOSED = 0.15
"""Change across the rim in nine directions of ten, over the contrast, below which a response may be a piece of an edge."""
_SHARP = 3.0
"""Radius over blur from which on a spot may be told by its fit alone."""
_OVERLAPPING = -1.0
"""log_nfa from which on overlaps are looked at."""
_ROUND = 1.25
"""A spot's contrast over its normalised response: 2 for a Gaussian, 1.36 for a disc."""
_RIM_SIGMA = 0.8
"""Smoothing before rims are compared, px of the image that is fitted."""
_POLARITIES = ("dark", "bright")
_BY_COMPONENTS = ("method", ("components",))
_BY_SCALE = ("method", ("scale_space",))


class BlobsParameters(DetectorParameters):
    """Parameters of `blobs`."""

    method: Literal["scale_space", "components"] = gathers(
        "scale_space",
        label="Method",
        help="scale_space: extrema of a response over place and size; finds spots on texture. components: connected parts of a "
        "thresholded image; finds parts of any shape.",
    )
    radius: Range | None = gathers(
        None,
        label="Radius",
        unit="px",
        least=0.5,
        usual=(1.0, 60.0),
        is_range=True,
        criterion="radius",
        auto=f"{_SMALLEST:g} px to a sixteenth of the shorter side of the image",
        help="Minimum and maximum radius: of a disc; sqrt(2) standard deviations of a Gaussian spot; of the circle of the same "
        "area. Draw a line across a blob to set it.",
    )
    polarity: Literal["dark", "bright", "either"] = gathers(
        "either", label="Polarity", help="Whether blobs are darker or brighter than their surroundings."
    )
    operator: Literal["laplacian", "determinant"] = gathers(
        "laplacian",
        label="Response",
        only_with=_BY_SCALE,
        help="laplacian: sum of both curvatures; determinant: root of their product, less along edges. Normalised over scale.",
        more=True,
    )
    false_alarms: float = false_alarms_parameter(
        "Accept blobs that the image's texture produces less often than this in one image. Texture holds spots of its own: "
        "those of three times its contrast need 1 or more.",
        default=1.0,
    )
    contrast_min_pct: float = judges(
        0.0,
        label="Contrast, min",
        unit="%",
        least=0.0,
        most=100.0,
        usual=(0.0, 40.0),
        criterion="contrast_pct",
        help="Against the ground around it, in % of the value range.",
    )
    eccentricity_max: float = judges(
        0.92,
        label="Eccentricity, max",
        least=0.0,
        most=1.0,
        criterion="eccentricity",
        sense="at most",
        help="0 is round. 0.87 is twice as long as broad; edges and strokes are above 0.95.",
    )
    overlap_max: float = gathers(
        0.3,
        label="Overlap, max",
        least=0.0,
        most=1.0,
        help="Of two blobs that share more than this part of the smaller one, the more significant counts.",
        more=True,
    )
    binarize: Method | None = gathers(
        None,
        label="Threshold method",
        only_with=_BY_COMPONENTS,
        auto="as for contours",
        help="How the threshold between foreground and background is found, as for contours.",
    )
    level: float | None = gathers(
        None,
        label="Threshold",
        unit="grey",
        over="grey",
        only_with=_BY_COMPONENTS,
        auto="the Otsu level",
        help="Grey level between dark and bright, for the methods fixed, hysteresis and iso.",
    )
    area: Range | None = judges(
        None,
        label="Area",
        unit="px²",
        least=0.0,
        usual=(0.0, 1e4),
        is_range=True,
        criterion="area",
        auto="no limit",
        help="Minimum and maximum area.",
        more=True,
    )
    circularity_min: float | None = judges(
        None,
        label="Circularity, min",
        least=0.0,
        most=1.0,
        criterion="circularity",
        only_with=_BY_COMPONENTS,
        auto="no limit",
        help="4 pi area / perimeter squared; 1 is a disc.",
        more=True,
    )
    solidity_min: float | None = judges(
        None,
        label="Solidity, min",
        least=0.0,
        most=1.0,
        criterion="solidity",
        only_with=_BY_COMPONENTS,
        auto="no limit",
        help="Area over that of the convex hull; 1 is convex.",
        more=True,
    )
    perimeter: Range | None = judges(
        None,
        label="Perimeter",
        unit="px",
        least=0.0,
        usual=(0.0, 1000.0),
        is_range=True,
        criterion="perimeter",
        only_with=_BY_COMPONENTS,
        auto="no limit",
        help="Minimum and maximum length of the outline.",
        more=True,
    )
    drop_frame: bool = judges(
        False,
        label="Drop border objects",
        criterion="framed",
        sense="at most",
        admits=False,
        only_with=_BY_COMPONENTS,
        help="Reject components that touch the border of the image or of the region.",
        more=True,
    )


@dataclass(frozen=True)
class Gathered:
    """Blobs as measured: extrema of the response, or components."""

    columns: dict[str, Floats]
    """In px of the image for extrema, of the source for components."""
    scales: tuple[Scale, ...]
    measures: Measures | None
    """Of the extrema that were fitted."""
    inner: Task | None
    """Of components: the work of `contours`."""
    which: NDArray[np.int64]
    """The extrema that were fitted; of components, the outline of each."""
    notes: tuple[str, ...] = ()

    @property
    def nbytes(self) -> int:
        own = sum(column.nbytes for column in self.columns.values())
        return own + (self.inner.gathered.nbytes if self.inner is not None else 0)


class Blobs(Detector):
    kind = "blobs"
    purpose = "Spots, pinholes and grains over a range of sizes, dark and bright, also on textured ground."
    Parameters = BlobsParameters
    columns = (
        Column("radius", "radius", "px", "of a disc; sqrt(2) standard deviations of a Gaussian spot", 2, "length"),
        FALSE_ALARMS_COLUMN,
        Column("contrast", "contrast", "grey", "of the middle against the ground around it", 1),
        Column("contrast_pct", "contrast", "%", "the same in percent of the value range", 1),
        Column("area", "area", "px²", "of the circle of that radius; of the component", 1, "area"),
        Column("eccentricity", "eccentricity", "", "0 is round", 2),
        Column("polarity", "polarity", "", "dark or bright against the ground", names=_POLARITIES),
        Column("circularity", "circularity", "", "of a component: 4 pi area / perimeter squared", 2),
        Column("solidity", "solidity", "", "of a component: area over that of the convex hull", 2),
        Column("perimeter", "perimeter", "px", "of a component", 1, "path"),
        Column("x_std", "x ±", "px", "one standard deviation, from the noise alone", 3, "x error", "y_std"),
        Column("y_std", "y ±", "px", "one standard deviation, from the noise alone", 3, "y error"),
    )
    criteria = (Column("framed", "on the border", "", "share of the outline on the border of the image", 2),)
    main_maps = ("response", "binary")
    sized_by = "radius"
    outliner: ClassVar[Detector | None] = None
    """The detector that finds the components of a thresholded image: given by the table of detectors."""
    examples = (Example(), Example({"operator": "determinant"}), Example({"method": "components", "binarize": "otsu"}))

    # Stages

    def gather(self, task: Task) -> Gathered:
        return self._components(task) if task.parameters.method == "components" else self._extrema(task)

    def _extrema(self, task: Task) -> Gathered:
        seen = calmed(task.image, task.context)
        image, given, context = seen.image, task.parameters, seen.context
        scales = _scales(given.radius, image)
        masked = masked_pixels(image, given.region, 2)
        noise = max(noise_of(np.asarray(image.pixels[:: max(1, image.height // 400)], np.float32)), 0.3 * image.quantum)
        floor = max(noise, 1e-6 * image.span) * 0.1
        with cancellable(context.cancelled):
            found, dropped = scale_space.find_extrema(image.pixels, scales, given.operator == "determinant", floor, masked)
            if given.polarity != "either":
                found = found.take((found.response > 0) == (given.polarity == "dark"))
            # White noise has this response at a scale; less cannot be told from it.
            least = np.maximum(0.4 * noise / found.sigma, floor)
            clear = np.abs(found.response) / np.maximum(found.typical, least)
            by_response, like_noise = response_rarity(clear, found.scale)
            rarity = by_response, self._rims(seen, found, clear)
            columns = _measured(found)
            strongest = np.zeros(len(clear), bool)
            # Large ones are most of what their neighbourhood holds, and so not rare in it.
            strongest[np.argsort(-np.abs(found.response), kind="stable")[:_STRONGEST]] = True
            wanted = np.flatnonzero(((np.maximum(*rarity) > _FITTED) | strongest) & (found.ratio < _FITTED_RATIO))
            octaves = spot_fits.fitted_octave(columns["radius"][wanted])
            rims, sharpness = np.zeros((4, len(wanted))), np.zeros(len(wanted))
            for octave in np.unique(octaves).tolist():
                here = octaves == octave
                around, sharpness[here] = self._fit(seen, columns, found, wanted[here], octave)
                rims[:, here] = around.change, around.lower_quarter, around.lower_tenth, around.outside
            measures = Measures(
                rarity[0][wanted], rarity[1][wanted], columns["radius"][wanted], columns["contrast"][wanted], Rims(*rims),
                found.ratio[wanted], np.abs(found.response[wanted]),
            )  # fmt: skip
            speaks = evidence(measures)
            usual = usual_beside(speaks, measures.contrast, TYPICAL)
            joint = joint_log_nfa(speaks, usual, DECAY)
            # Whichever is less likely; a clear response alone may as well be a piece of an edge.
            as_noise = np.where(like_noise, by_response - math.log10(max(len(clear), 1)), -np.inf)[wanted]
            closed = rims[2] > _CLOSED * columns["contrast"][wanted]
            as_noise[(speaks < usual) | ~closed] = -np.inf
            alone = joint_log_nfa(evidence_alone(measures), TYPICAL_ALONE, DECAY_ALONE)
            # Smooth texture is full of smooth spots.
            alone[sharpness < _SHARP] = -np.inf
            columns["log_nfa"][wanted] = np.maximum(np.maximum(as_noise, joint), alone)
            blocks = blocks_of(image, context)
            if blocks is not None:
                of_blocks = blocks.are_blocks(*(columns[n][wanted] for n in ("x", "y", "radius", "contrast")))
                columns["log_nfa"][wanted[of_blocks]] = -np.inf
        notes = (*(("some of many extrema close together were left out",) if dropped else ()), *seen.notes)
        return Gathered(columns, tuple(scales), measures, None, wanted, notes)

    def _rims(self, seen: Variant, found: Extrema, clear: Floats) -> Floats:
        """-log10 of the share of the extrema of the texture that have as sharp a rim all around."""
        rarity = np.zeros(len(clear))
        some = np.flatnonzero((clear > np.median(clear) if len(clear) else clear > 0) & (found.ratio < _FITTED_RATIO))
        radius = math.sqrt(2.0) * found.sigma[some]
        octaves = spot_fits.fitted_octave(radius)
        change = np.zeros(len(some))
        kernels = operator_kernels("gaussian", _RIM_SIGMA)
        for octave in np.unique(octaves).tolist():
            here = np.flatnonzero(octaves == octave)
            pitch = 2.0**octave
            plane = self._halved(seen, octave)
            if min(plane.shape) < 2:
                continue
            level = separable(plane, gaussian_kernel(_RIM_SIGMA), gaussian_kernel(_RIM_SIGMA))
            background = measure_background(plane, kernels, seen.image.quantum / pitch, None, seen.context.cancelled)
            u, v = ((w[some[here]] + 0.5) / pitch - 0.5 for w in (found.x, found.y))
            dark = found.response[some[here]] > 0
            change[here] = rim_changes(level, u, v, radius[here] / pitch, dark)[0] / np.maximum(scale_at(background, v, u), 1e-9)
        rarity[some] = rim_rarity(change, found.scale[some])
        return rarity

    def _halved(self, seen: Variant, octave: int) -> NDArray[np.float32]:
        plane: NDArray[np.float32] = seen.context.shared(
            f"halved {octave}", lambda: scale_space.octave_of(seen.image.pixels, octave)
        )
        return plane

    def _fit(
        self, seen: Variant, columns: dict[str, Floats], found: Extrema, chosen: NDArray[np.int64], octave: int
    ) -> tuple[Rims, Floats]:
        """Fit some on the image halved so many times, in place; their rims, and how sharp these are."""
        pitch = 2.0**octave
        plane = self._halved(seen, octave)
        u, v = ((w[chosen] + 0.5) / pitch - 0.5 for w in (found.x, found.y))
        response = found.response[chosen]
        spots = spot_fits.fit_spots(plane, u, v, columns["radius"][chosen] / pitch, -_ROUND * response)
        for name, values in (("x", spots.x), ("y", spots.y)):
            columns[name][chosen] = (values + 0.5) * pitch - 0.5
        columns["radius"][chosen], columns["contrast"][chosen] = spots.radius * pitch, np.abs(spots.contrast)
        columns["area"][chosen] = np.pi * columns["radius"][chosen] ** 2
        columns["x_std"][chosen], columns["y_std"][chosen] = spots.x_std * pitch, spots.y_std * pitch
        weights = gaussian_kernel(_RIM_SIGMA)
        level = separable(plane, weights, weights)
        return rims_around(level, spots.x, spots.y, spots.radius, response > 0), spots.sharpness

    def _components(self, task: Task) -> Gathered:
        given = task.parameters
        sides = _POLARITIES if given.polarity == "either" else (given.polarity,)
        parts = [_outlined(task, side) for side in sides]
        inner, columns, which, notes = parts[0]
        if len(parts) > 1:
            # Of both sides the one that is not the ground has more outlines of its own.
            inner, columns, which, notes = max(parts, key=lambda part: len(part[2]))
        return Gathered(columns, (), None, inner, which, notes)

    def form(self, task: Task) -> Candidates:
        g: Gathered = task.gathered
        c = g.columns
        sure = np.maximum(c["log_nfa"], 0.0)
        columns: dict[str, Array] = {
            **{name: values.copy() for name, values in c.items()},
            "score": sure / (sure + 10.0),
            "contrast_pct": 100.0 * c["contrast"] / task.image.span,
            "polarity": c["polarity"].astype(np.int64),
        }
        pairs, shares = _overlaps(c)
        exclusions = Exclusions("overlap_max", pairs, shares, task.parameters.overlap_max)
        size = 2.0 * float(np.median(c["radius"])) if len(sure) else 10.0
        return Candidates(columns, c["log_nfa"], size, exclusions, in_source=g.inner is not None)

    def limits(self, task: Task) -> tuple[Limit, ...]:
        """Without those of the other method."""
        declared = self.Parameters.declarations()
        method = task.parameters.method
        return tuple(
            limit
            for limit in super().limits(task)
            if (other := declared[limit.parameter].only_with) is None or method in other[1]
        )

    def finish(self, task: Task, chosen: NDArray[np.int64]) -> Finished:
        columns = {name: values[chosen] for name, values in task.candidates.columns.items()}
        if task.gathered.inner is not None:
            return Finished(columns, self.outlines(task, chosen), outlines_in_source=True)
        # Numbers stand beside small spots, not on them.
        beside = np.stack([columns["x"], columns["y"]], axis=1) + (columns["radius"][:, None] + 9.0) * np.array([1.0, -0.7])
        return Finished(columns, self.outlines(task, chosen), places=beside, outlines_in_source=True)

    def outlines(self, task: Task, chosen: NDArray[np.int64]) -> Outlines:
        g: Gathered = task.gathered
        if g.inner is not None:
            return g.inner.detector.outlines(g.inner, g.which[chosen])
        turn = np.linspace(0, 2 * np.pi, 48, endpoint=False)
        x, y, radius = (np.asarray(task.candidates.columns[name])[chosen, None] for name in ("x", "y", "radius"))
        rims = np.stack([x + radius * np.cos(turn), y + radius * np.sin(turn)], axis=2)
        return Outlines.of(list(rims), closed=True)

    def plausible(self, candidates: Candidates) -> NDArray[np.bool_]:
        return np.asarray(candidates.columns["log_nfa"] > -1.0)

    def sized_like(self, parameters: Any, size: float, ratio: float | None = None) -> tuple[float, float]:
        return 0.7 * size, 1.4 * size

    def notes(self, task: Task) -> tuple[str, ...]:
        return tuple(task.gathered.notes)

    # What is reported

    def evidence(self, task: Task) -> list[EvidenceMap]:
        g: Gathered = task.gathered
        if g.inner is not None:
            return g.inner.detector.evidence(g.inner)
        image, determinant = calmed(task.image, task.context).image, task.parameters.operator == "determinant"

        def response(scales: tuple[Scale, ...]) -> Any:
            margin = math.ceil(4 * max(scale.sigma for scale in scales)) + 4

            def part(*box: int) -> Array:
                pixels, inner = with_margin(image, box, margin)  # type: ignore[arg-type]
                best = np.zeros(pixels.shape, np.float32)
                for scale in scales:
                    seen = scale_space.response_plane(pixels, scale, determinant)
                    best = np.where(np.abs(seen) > np.abs(best), seen, best)
                return np.ascontiguousarray(best[inner])

            return part

        def one(name: str, label: str, scales: tuple[Scale, ...], text: str) -> EvidenceMap:
            return EvidenceMap(name, label, "grey", "signed", image.width, image.height, response(scales), image.frame, text)

        middle = g.scales[len(g.scales) // 2]
        some = [g.scales[0], middle, g.scales[-1]] if len(g.scales) > 2 else list(g.scales)
        maps = [one("response", "response", g.scales, "strongest response over all sizes; positive in dark spots")]
        for number, scale in enumerate(dict.fromkeys(some)):
            radius = math.sqrt(2.0) * scale.sigma * image.frame.scale
            maps.append(
                one(
                    f"response_{number + 1}", f"response, radius {radius:.3g} px", (scale,), f"response at radius {radius:.3g} px"
                )
            )
        return maps

    def distances(self, task: Task, x: float, y: float) -> Array:
        """From the rim or, inside, from the middle, whichever is nearer."""
        c = task.candidates.columns
        far = np.hypot(c["x"] - x, c["y"] - y)
        return np.where(far <= c["radius"], 0.25 * far, far - c["radius"] + 0.25 * c["radius"])

    def probe(self, task: Task, x: float, y: float) -> list[Reason]:
        if reasons := self.outside(task, x, y):
            return reasons
        g: Gathered = task.gathered
        if g.inner is not None:
            return g.inner.detector.probe(g.inner, x, y)
        image = task.image
        u, v = image.frame.from_source(x, y)
        column, row = (min(max(round(float(w)), 0), n - 1) for w, n in ((u, image.width), (v, image.height)))
        best: tuple[float, Scale] | None = None
        for scale in g.scales:
            margin = math.ceil(4 * scale.sigma) + 4
            pixels, inner = with_margin(image, (column, row, column + 1, row + 1), margin)
            value = float(scale_space.response_plane(pixels, scale, task.parameters.operator == "determinant")[inner][0, 0])
            if best is None or abs(value) > abs(best[0]):
                best = value, scale
        if best is None:
            return []
        radius = math.sqrt(2.0) * best[1].sigma * image.frame.scale
        side = "dark" if best[0] > 0 else "bright"
        text = (
            f"the response here is largest at radius {radius:.3g} px ({side}), {abs(best[0]):.1f} grey; it is no extremum, which "
        )
        text += "means that it belongs to something larger, or that nothing stands out"
        return [Reason("response", abs(best[0]), None, "grey", False, text, nothing=True)]


def _scales(radius: Range | None, image: Image) -> list[Scale]:
    low, high = radius or (None, None)
    scale = image.frame.scale
    least = _SMALLEST if low is None else low / scale
    most = max(_LARGEST * min(image.width, image.height), 2.0 * least) if high is None else max(high / scale, least)
    most = min(most, 0.5 * max(min(image.width, image.height), 4))
    # What is fitted may come out a little off the scale that responds most.
    return scale_space.scales_between(max(0.85 * min(least, most), 1.0) / math.sqrt(2.0), 1.15 * most / math.sqrt(2.0))


def _measured(found: Extrema) -> dict[str, Floats]:
    """Columns of extrema before they are fitted."""
    radius = math.sqrt(2.0) * found.sigma
    count = len(radius)
    nothing = np.full(count, np.nan)
    return {
        "x": found.x.copy(), "y": found.y.copy(), "radius": radius, "log_nfa": np.full(count, -math.log10(max(count, 1))),
        "contrast": _ROUND * np.abs(found.response), "area": np.pi * radius**2,
        "eccentricity": np.sqrt(np.maximum(1.0 - 1.0 / found.ratio**2, 0.0)),
        "polarity": (found.response < 0).astype(float), "circularity": nothing, "solidity": nothing.copy(),
        "perimeter": nothing.copy(), "framed": np.zeros(count), "x_std": 0.3 * radius, "y_std": 0.3 * radius,
    }  # fmt: skip


def _outlined(task: Task, side: str) -> tuple[Task, dict[str, Floats], NDArray[np.int64], tuple[str, ...]]:
    """Components of one side of the threshold: the work of `contours`, their columns, which outlines they are, and notes."""
    given = task.parameters
    detector = Blobs.outliner
    assert detector is not None
    shared = {name: getattr(given, name) for name in ("region", "binarize", "level")}
    parameters = detector.Parameters.model_validate({**shared, "foreground": side})
    inner = replace(task, detector=detector, given=parameters, parameters=parameters, keys=None)
    inner = replace(inner, gathered=detector.gather(inner))
    inner = inner.settled(parameters)
    inner = replace(inner, candidates=detector.form(inner))
    limits = detector.limits(inner)
    inner = replace(inner, judgement=judge(inner.candidates.columns, limits, inner.candidates.rank_score))
    c = inner.candidates.columns
    low = inner.parameters.area[0] if inner.parameters.area is not None else 0.0
    support = inner.parameters.support_min
    which = np.flatnonzero((c["border"] == 0) & (c["area"] >= low) & (c["support"] >= support if support is not None else True))
    area, contrast, length = (np.asarray(c[n], float)[which] for n in ("area", "contrast", "perimeter"))
    radius = np.sqrt(area / np.pi)
    noise = max(noise_of(np.asarray(task.image.pixels, np.float32)), 0.3 * task.image.quantum, 1e-6 * task.image.span)
    # Along the rim every other pixel compares both sides anew.
    clear = np.maximum(contrast, 0.0) / noise * np.sqrt(np.maximum(0.5 * length, 1.0)) / 2.0
    log_nfa = np.minimum(0.5 * clear**2 / math.log(10), 300.0) - math.log10(max(task.image.width * task.image.height, 10))
    # A rim whose points are off by s, two px of it together, moves the middle by s / sqrt(pi r / 2).
    error = 2.5 * noise / np.maximum(contrast, 0.1 * noise) / np.sqrt(np.maximum(0.5 * np.pi * radius, 0.5))
    taken = {n: np.asarray(c[n], float)[which] for n in ("x", "y", "area", "eccentricity", "circularity", "solidity", "framed")}
    columns = {
        **taken, "radius": radius, "perimeter": length, "contrast": contrast, "log_nfa": log_nfa,
        "polarity": np.full(len(which), float(side == "bright")), "x_std": error, "y_std": error.copy(),
    }  # fmt: skip
    return inner, columns, which, detector.notes(inner)


def _overlaps(c: Mapping[str, Floats]) -> tuple[NDArray[np.int64], Floats]:
    """Pairs of blobs that overlap, and the share of the smaller one, as circles; of those that may be found."""
    clear = np.flatnonzero(c["log_nfa"] > _OVERLAPPING)
    x, y, r = (c[name][clear] for name in ("x", "y", "radius"))
    found, shares = [np.empty((0, 2), np.int64)], [np.empty(0)]
    # By size, so that a few large ones do not pair all small ones with each other.
    octave = np.floor(np.log2(np.maximum(r, 0.5))).astype(int)
    for number in np.unique(octave):
        near = np.flatnonzero(octave <= number)
        pairs = close_pairs(x[near], y[near], 2.0 * float(r[octave == number].max(initial=0.0)))
        pairs = near[pairs]
        pairs = pairs[(octave[pairs] == number).any(axis=1)]
        one, other = pairs.T
        far = np.hypot(x[one] - x[other], y[one] - y[other])
        meet = far < r[one] + r[other]
        found.append(clear[pairs[meet]])
        shares.append(_shared(far[meet], r[one][meet], r[other][meet]))
    return np.concatenate(found), np.concatenate(shares)


def _shared(far: Floats, one: Floats, other: Floats) -> Floats:
    """Part of the smaller of two circles that lies in the other."""
    small, large = np.minimum(one, other), np.maximum(one, other)
    inside = far <= large - small
    d = np.where(inside, large, np.maximum(far, 1e-9))
    a = np.clip((d**2 + small**2 - large**2) / (2 * d * small), -1, 1)
    b = np.clip((d**2 + large**2 - small**2) / (2 * d * large), -1, 1)
    lens = small**2 * (np.arccos(a) - a * np.sqrt(1 - a**2)) + large**2 * (np.arccos(b) - b * np.sqrt(1 - b**2))
    return np.where(inside, 1.0, lens / (np.pi * small**2))


__all__ = ["Blobs", "BlobsParameters"]
