"""Edge scans: where one boundary crosses many scan lines, and the line, circle or polynomial through those places.

Each scan line is averaged along the boundary and differentiated by a Gaussian; the extrema of the slope, refined by a parabola,
are the candidates. The inliers of a robust rule are fitted (`numerics.fitting.robust_fits`).
"""

from __future__ import annotations

import math
from collections.abc import Callable, Mapping
from dataclasses import dataclass
from typing import Any, Literal

import numpy as np
from numpy.typing import NDArray

from lucid_finch.core.detection import EvidenceMap, Overlay
from lucid_finch.core.detector import Candidates, Detector, DetectorParameters, Example, Finished, Reason, Task
from lucid_finch.core.errors import ParameterError
from lucid_finch.core.image import Image
from lucid_finch.core.judging import OneOfEach, Outcome
from lucid_finch.core.numerics.fitting import robust_fits
from lucid_finch.core.numerics.profiles.scan_lines import ScanLines, find_extrema, sample_scans, slope_kernel, slopes
from lucid_finch.core.parameter_types.references import Reference
from lucid_finch.core.parameters import forms, gathers, judges
from lucid_finch.core.regions import Annulus, Rectangle
from lucid_finch.core.table import Array, Column
from lucid_finch.core.viewing.profiles import Crossing, Profile

_SLOPE = "grey/px"

_CLEAR = 5.0
"""Automatic: a pick must have so many times the standard deviation of the slope along all scans."""

_FLOOR = 2.0
"""Extrema below so many times that standard deviation are not gathered."""

_WIDE = 1.5
"""px of blur from which on an edge is so wide that it is left out of what is measured of the background;"""
_AROUND = 2.5
"""so many times as far;"""
_BESIDE = 0.15
"""if so large a share of the scans is left."""

_LIKE = 0.8
"""Share of the strength of an edge from which on another one may be taken for it."""

_MOST_SCANS = 20_000

_SAMPLED = 12_000
"""Slopes that give their standard deviation to a percent."""

_SHOWN_SCANS = 16


class EdgeScanParameters(DetectorParameters):
    """Parameters of `edge_scan`."""

    spacing: float = gathers(
        2.0,
        label="Spacing",
        unit="px",
        above=0.0,
        most=1000.0,
        usual=(0.5, 20.0),
        help="Distance between scan lines.",
    )
    average: int | None = gathers(
        None,
        label="Averaging width",
        unit="px",
        least=1,
        most=200,
        usual=(1, 30),
        auto="the spacing",
        help="Width along the boundary over which each scan line is averaged.",
        more=True,
    )
    # The extremum of the slope errs least for 2.2 times the blur of the boundary; nearer to it, closer ones are separated.
    sigma: float = gathers(
        2.0,
        label="Smoothing",
        unit="px",
        least=0.3,
        most=50.0,
        usual=(0.3, 6.0),
        help="Standard deviation of the Gaussian along the scan whose derivative is taken.",
    )
    pick: Literal["first", "last", "strongest", "all"] = forms(
        "strongest", label="Pick", help="Which edge of a scan line is used, in the direction of the scan."
    )
    polarity: Literal["rising", "falling", "either"] = forms(
        "either", label="Polarity", help="rising: from dark to bright along the scan."
    )
    strength_min: float | None = judges(
        None,
        label="Strength, min",
        unit=_SLOPE,
        above=0.0,
        usual=(0.0, 30.0),
        criterion="strength",
        auto=f"{_CLEAR:g} times the standard deviation of the slope along all scans",
        help="Edges with a smaller slope are rejected.",
    )
    fit: Literal["none", "line", "circle", "polynomial"] | None = judges(
        None,
        label="Fit",
        auto="a line in a rectangle, a circle in an annulus",
        help="What is fitted to the picked points.",
    )
    degree: int = judges(
        2,
        label="Degree",
        least=1,
        most=6,
        only_with=("fit", ("polynomial",)),
        help="Of the polynomial along the boundary.",
    )
    outliers: Literal["none", "ransac", "median", "huber"] = judges(
        "ransac",
        label="Outlier rule",
        help="ransac (the model that most points agree on), median (median of the slopes of many pairs), huber (far points "
        "have less weight), none. Then the points within three standard deviations are fitted.",
    )
    outlier_limit: float | None = judges(
        None,
        label="Outlier limit",
        unit="px",
        above=0.0,
        usual=(0.1, 10.0),
        auto="three standard deviations of the inliers",
        help="Points farther from the fit are outliers.",
        more=True,
    )
    reference: float = judges(
        0.0,
        label="Reference angle",
        unit="degrees",
        least=-360.0,
        most=360.0,
        help="The angle of the fitted line is also given relative to this direction.",
        more=True,
    )
    reference_line: Reference | None = judges(
        None,
        label="Reference line",
        help="Name of another edge_scan of the recipe: the angle is given relative to the line fitted there instead.",
        more=True,
    )


@dataclass(frozen=True)
class Gathered:
    """Extrema of all scans, and what they were measured on; places are of the source."""

    scan: NDArray[np.int64]
    at: NDArray[np.float64]
    """px along the scan."""
    slope: NDArray[np.float64]
    """Signed, grey levels per px."""
    std: NDArray[np.float64]
    """px along the scan, from the noise."""
    spread: float
    """Standard deviation of the slope from noise and texture."""
    blur2: float
    """px²: variance of the blur across the strongest edges, without the smoothing."""
    start: NDArray[np.float64]
    """(scans, 2), source."""
    way: NDArray[np.float64]
    """(scans, 2), unit vectors along the scans, source."""
    length: float
    profiles: NDArray[np.float32]
    margin: int
    """Samples before and after the scan proper."""
    weights: NDArray[np.float64]

    @property
    def nbytes(self) -> int:
        return int(self.profiles.nbytes + 4 * self.at.nbytes)


class EdgeScan(Detector):
    kind = "edge_scan"
    purpose = "One boundary along many scan lines, with a robust line, circle or polynomial through it."
    Parameters = EdgeScanParameters
    columns = (
        Column("scan", "scan", "", "number of the scan line, from 1", 0),
        Column("strength", "strength", _SLOPE, "slope along the scan", 2),
        Column("x_std", "x ±", "px", "one standard deviation, from the noise alone", 3, "x error", "y_std"),
        Column("y_std", "y ±", "px", "one standard deviation, from the noise alone", 3, "y error"),
        Column("used", "inlier", "", "1 if it is an inlier of the fit", 0, scale="flag", sets_apart=True),
        Column("residual", "residual", "px", "distance from the fit; NaN without one", 3, "length"),
    )
    fit_columns = (
        Column("x", "x", "px", quantity="x", pair="y"),
        Column("y", "y", "px", quantity="y"),
        Column("radius", "radius", "px", quantity="length"),
        Column("rms", "rms", "px", quantity="length"),
        Column("x_std", "x ±", "px", quantity="x error", pair="y_std"),
        Column("y_std", "y ±", "px", quantity="y error"),
        Column("radius_std", "radius ±", "px", quantity="length error", pair="radius"),
    )
    near = 6.0
    main_maps = ("slope", "profiles")
    examples = (Example(), Example({"pick": "all", "fit": "circle", "outliers": "huber"}))

    def gather(self, task: Task) -> Gathered:
        image: Image = task.image
        parameters: EdgeScanParameters = task.parameters
        start, way, across, length = scan_geometry(image, parameters)
        weights = slope_kernel(parameters.sigma)
        margin = len(weights) // 2 + 1
        if length < 2:
            raise ParameterError(f"edge_scan: region is {length:g} px along the scans; at least 2 px are needed", "region")
        lines = max(1, round(parameters.spacing)) if parameters.average is None else parameters.average
        scans = _in_frame(image, start - margin * way, way, across, math.floor(length) + 1 + 2 * margin)
        profiles = sample_scans(image.pixels, image.mask, scans, lines)
        task.context.check()
        slope = slopes(profiles, weights)
        scan, at, height, std, spread, blur2 = _extrema(
            slope, profiles, margin, length, image, parameters.sigma, self.floor(parameters)
        )
        return Gathered(scan, at, height, std, spread, blur2, start, way, length, profiles, margin, weights)

    def floor(self, parameters: EdgeScanParameters) -> float | None:
        # Automatic, the limit follows from the scans; given, the floor is the next power of two below it.
        return None if parameters.strength_min is None else 2.0 ** math.floor(math.log2(parameters.strength_min))

    def settle(self, task: Task) -> EdgeScanParameters:
        given: EdgeScanParameters = task.parameters
        strength = given.strength_min
        return given.model_copy(
            update={
                "strength_min": _clear_slope(task) if strength is None else strength,
                "fit": given.fit or ("circle" if isinstance(given.region, Annulus) else "line"),
                "average": max(1, round(given.spacing)) if given.average is None else given.average,
            }
        )

    def form(self, task: Task) -> Candidates:
        gathered: Gathered = task.gathered
        parameters: EdgeScanParameters = task.parameters
        wanted = {"rising": gathered.slope > 0, "falling": gathered.slope < 0}
        rows = np.flatnonzero(wanted.get(parameters.polarity, np.ones(len(gathered.slope), bool)))
        scan, at, strength = gathered.scan[rows], gathered.at[rows], np.abs(gathered.slope[rows])
        place = gathered.start[scan] + at[:, None] * gathered.way[scan]
        rank_score = {"first": -at, "last": at}.get(parameters.pick, strength)
        std = np.abs(gathered.way[scan]) * gathered.std[rows][:, None]
        columns = {
            "x": place[:, 0], "y": place[:, 1], "scan": scan + 1, "strength": strength,
            "x_std": std[:, 0], "y_std": std[:, 1], "lead": _leads(scan, strength),
            "clear": strength / max(gathered.spread, 1e-12),
        }  # fmt: skip
        exclusions = OneOfEach("pick", scan) if parameters.pick != "all" else None
        return Candidates(columns, rank_score, 4.0 * task.image.frame.scale, exclusions, in_source=True)

    def measured(self, task: Task) -> dict[str, Any]:
        return {"slope_spread": task.gathered.spread, "scans": len(task.gathered.start)}

    def notes(self, task: Task) -> tuple[str, ...]:
        gathered: Gathered = task.gathered
        parameters: EdgeScanParameters = task.parameters
        if parameters.pick != "strongest" or parameters.polarity != "either" or _two_sided(gathered) < 0.5:
            return ()
        return ("most scans cross two edges of like strength, one rising and one falling: a polarity, or first or last, chooses",)

    def finish(self, task: Task, chosen: NDArray[np.int64]) -> Finished:
        fit, residuals, used = fitted(_places(task, chosen), task.gathered, task.parameters)
        return self._finished(task, chosen, residuals, used, fit)

    def finish_near(self, task: Task, chosen: NDArray[np.int64], found: Finished) -> Finished:
        """How far what was not picked is from the fit of the rest."""
        residuals = np.full(len(chosen), np.nan)
        if found.fit is not None:
            residuals = residuals_of(found.fit, _places(task, chosen), task.gathered)
        return self._finished(task, chosen, residuals, np.zeros(len(chosen), bool), None)

    def _finished(
        self, task: Task, chosen: NDArray[np.int64], residuals: NDArray[np.float64], used: NDArray[np.bool_],
        fit: dict[str, Any] | None,
    ) -> Finished:  # fmt: skip
        columns = {name: values[chosen] for name, values in task.candidates.columns.items()}
        clear = columns["clear"]
        columns |= {"score": clear / (clear + _CLEAR), "used": used.astype(np.int8), "residual": residuals}
        return Finished(columns, fit=fit)

    def overlays(self, task: Task, fit: Mapping[str, Any] | None) -> list[Overlay]:
        scans = Overlay("scan", _arrows(task.gathered))
        return [scans] if fit is None else [scans, Overlay("fit", _fit_outlines(task.gathered, fit))]

    def related_fit(self, parameters: EdgeScanParameters, fit: dict[str, Any], fits: Mapping[str, Any]) -> dict[str, Any]:
        if parameters.reference_line is None or fit["kind"] != "line":
            return fit
        name = parameters.reference_line.text
        other = fits.get(name)
        if other is None or other["kind"] != "line":
            return {**fit, "angle_to_reference": math.nan, "reference": name}
        apart = (fit["angle"] - other["angle"] + 90.0) % 180.0 - 90.0
        both = math.hypot(fit["angle_std"], other["angle_std"])
        return {**fit, "angle_to_reference": apart, "angle_to_reference_std": both, "reference": name}

    def profile(self, task: Task, candidate: int) -> tuple[str, Profile]:
        """The scan that a candidate lies on, with all candidates of it; the accepted ones are picked."""
        gathered: Gathered = task.gathered
        columns = task.candidates.columns
        number = int(columns["scan"][candidate])
        inner = slice(gathered.margin, gathered.profiles.shape[1] - gathered.margin)
        values = gathered.profiles[number - 1, inner].astype(float)
        slope = slopes(gathered.profiles[number - 1 : number], gathered.weights)[0, inner].astype(float)
        found = []
        for row in np.flatnonzero(columns["scan"] == number).tolist():
            place = np.array([columns["x"][row], columns["y"][row]])
            at = float((place - gathered.start[number - 1]) @ gathered.way[number - 1])
            std = float(np.hypot(columns["x_std"][row], columns["y_std"][row]))
            steep = float(np.interp(at, np.arange(len(slope)), np.nan_to_num(slope)))
            picked = task.judgement.outcome[row] == Outcome.FOUND
            found.append(Crossing(at, std, steep, float(place[0]), float(place[1]), bool(picked)))
        return f"scan {number}", Profile(np.arange(len(values), dtype=float), values[:, None], slope, tuple(found))

    @classmethod
    def fit_text(cls, fit: Mapping[str, Any]) -> str:
        if fit["kind"] == "line":
            what = f"line {fit['angle']:.3f} ± {fit['angle_std']:.3f}°"
            if isinstance(fit.get("reference"), str):
                known = math.isfinite(fit["angle_to_reference"])
                what += f", {fit['angle_to_reference']:.3f}° to " if known else ", no line of "
                what += fit["reference"]
        elif fit["kind"] == "circle":
            what = f"circle, radius {fit['radius']:.2f} ± {fit['radius_std']:.2f} px"
        else:
            what = f"polynomial of degree {len(fit['coefficients']) - 1}"
        return f"{what}, rms {fit['rms']:.2f} px, {fit['used']} of {fit['of']}"

    def plausible(self, candidates: Candidates) -> NDArray[np.bool_]:
        """The strongest of its scan, and all clear ones: the rest is noise."""
        return np.asarray(candidates.columns["lead"] | (candidates.columns["clear"] >= _CLEAR))

    def evidence(self, task: Task) -> list[EvidenceMap]:
        gathered: Gathered = task.gathered
        inner = slice(gathered.margin, gathered.profiles.shape[1] - gathered.margin)
        axes = (
            np.arange(inner.stop - inner.start, dtype=float), np.arange(1, len(gathered.start) + 1, dtype=float),
            "px along the scan", "scan",
        )  # fmt: skip

        def one(name: str, label: str, unit: str, kind: Any, rows_of: Callable[[int, int], Array], help: str) -> EvidenceMap:
            def compute(left: int, top: int, right: int, bottom: int) -> Array:
                return np.ascontiguousarray(np.nan_to_num(rows_of(top, bottom)[:, inner][:, left:right]))

            width, height = len(axes[0]), len(axes[1])
            return EvidenceMap(name, label, unit, kind, width, height, compute, help=help, axes=axes)

        def levels(top: int, bottom: int) -> Array:
            return gathered.profiles[top:bottom]

        def steepness(top: int, bottom: int) -> Array:
            return slopes(gathered.profiles[top:bottom], gathered.weights)

        return [
            one("profiles", "profiles", "grey", "grey", levels, "grey levels of every scan, one below the other"),
            one("slope", "slope", _SLOPE, "signed", steepness, "derivative of every scan along itself"),
        ]

    def probe(self, task: Task, x: float, y: float) -> list[Reason]:
        gathered: Gathered = task.gathered
        off = np.array([x, y], float) - gathered.start
        along = (off * gathered.way).sum(axis=1)
        beside = np.abs(off[:, 0] * gathered.way[:, 1] - off[:, 1] * gathered.way[:, 0])
        inside = (along >= -1) & (along <= gathered.length + 1) & (beside <= max(task.parameters.spacing, 1.0))
        if not inside.any():
            return [Reason("region", 0.0, None, "", False, "no scan line runs through this place")]
        n = int(np.flatnonzero(inside)[np.argmin(beside[inside])])
        slope = slopes(gathered.profiles[n : n + 1], gathered.weights)[0]
        k = int(np.clip(round(float(along[n])) + gathered.margin, 0, len(slope) - 1))
        part = slope[max(k - 3, 0) : k + 4]
        if not np.isfinite(part).any():
            return [Reason("gradient", 0.0, None, _SLOPE, False, "the scan leaves the image or meets invalid pixels here")]
        measured, limit = float(np.nanmax(np.abs(part))), float(task.parameters.strength_min)
        enough = measured >= limit
        text = f"the steepest slope of scan {n + 1} within 3 px is {measured:.2f} {_SLOPE}"
        text += "; it is no extremum, or of the other polarity" if enough else f", the minimum is {limit:.2f}"
        nothing = not enough and measured < _clear_slope(task)
        change = None if enough or nothing else {"strength_min": float(f"{0.98 * measured:.3g}")}
        return [Reason("slope", measured, limit, _SLOPE, enough, text, change, nothing)]

    def is_background(self, task: Task, candidate: int) -> bool:
        strength = float(task.candidates.columns["strength"][candidate])
        return strength < min(_clear_slope(task), float(task.parameters.strength_min))


def _clear_slope(task: Task) -> float:
    """The slope from which an extremum stands out, grey levels per px of the source: neither noise nor shading, whose steps are
    of one grey level."""
    step = 1.2 * task.image.quantum * float(np.abs(task.gathered.weights).sum()) / 2
    return max(_CLEAR * task.gathered.spread, step, 1e-6 * task.image.span)


def _arrows(gathered: Gathered) -> list[Array]:
    """The scan lines, or some of them if there are many, each with an arrow head."""
    count = len(gathered.start)
    found = []
    for n in np.unique(np.linspace(0, count - 1, min(count, _SHOWN_SCANS)).astype(np.int64)).tolist():
        way = gathered.way[n]
        side = np.array([-way[1], way[0]])
        end = gathered.start[n] + gathered.length * way
        size = min(14.0, 0.2 * gathered.length)
        wings = [end - size * (way - 0.5 * side), end, end - size * (way + 0.5 * side)]
        found.append(np.array([gathered.start[n], end, *wings]))
    return found


def _fit_outlines(gathered: Gathered, fit: Mapping[str, Any]) -> list[Array]:
    """The line, circle or polynomial over the length of the scanned boundary."""
    places = np.concatenate([gathered.start, gathered.start + gathered.length * gathered.way])
    if fit["kind"] == "circle":
        turns = np.linspace(0, 2 * np.pi, 181)
        return [np.stack([fit["x"] + fit["radius"] * np.cos(turns), fit["y"] + fit["radius"] * np.sin(turns)], axis=1)]
    if fit["kind"] == "line":
        turn = math.radians(fit["angle"])
        way, middle = np.array([math.cos(turn), math.sin(turn)]), np.array([fit["x"], fit["y"]])
        reach = (places - middle) @ way
        return [middle + np.array([[reach.min()], [reach.max()]]) * way]
    origin, side, way = _own_axes(gathered)
    reach = (places - origin) @ side
    u = np.linspace(float(reach.min()), float(reach.max()), 100)
    v = sum(c * u**k for k, c in enumerate(fit["coefficients"]))
    return [origin + u[:, None] * side + v[:, None] * way]


def _places(task: Task, chosen: NDArray[np.int64]) -> NDArray[np.float64]:
    """(n, 2) positions of some candidates."""
    columns = task.candidates.columns
    return np.stack([columns["x"][chosen], columns["y"][chosen]], axis=1)


def scan_geometry(
    image: Image, parameters: EdgeScanParameters
) -> tuple[NDArray[np.float64], NDArray[np.float64], NDArray[np.float64], float]:
    """Start, direction and direction across (unit vectors) of every scan, (n, 2) in the source, and their length in px.

    A rectangle's scans run along its width and follow each other along its height; an annulus' run outwards. Raises
    `ParameterError` for other regions.
    """
    width, height = image.source_size
    region: Any = parameters.region or Rectangle(x=(width - 1) / 2, y=(height - 1) / 2, width=width, height=height)
    if isinstance(region, Rectangle):
        count = max(1, math.floor(region.height / parameters.spacing))
        _bounded(count)
        turn = math.radians(region.angle)
        way, side = np.array([math.cos(turn), math.sin(turn)]), np.array([-math.sin(turn), math.cos(turn)])
        offsets = (np.arange(count) - (count - 1) / 2) * parameters.spacing
        start = np.array([region.x, region.y]) - 0.5 * region.width * way + offsets[:, None] * side
        return start, np.broadcast_to(way, (count, 2)).copy(), np.broadcast_to(side, (count, 2)).copy(), region.width
    if isinstance(region, Annulus):
        arc = math.radians(region.sweep) * 0.5 * (region.inner + region.outer)
        count = max(3, math.floor(arc / parameters.spacing))
        _bounded(count)
        shares = np.arange(count) / count if region.sweep >= 360 else (np.arange(count) + 0.5) / count
        turns = np.radians(region.start + shares * region.sweep)
        ways = np.stack([np.cos(turns), np.sin(turns)], axis=1)
        sides = np.stack([-ways[:, 1], ways[:, 0]], axis=1)
        return np.array([region.x, region.y]) + region.inner * ways, ways, sides, region.outer - region.inner
    raise ParameterError(
        f"edge_scan: region is a {region.shape}; it must be a rectangle (scans run along its width) or an annulus (they run "
        "outwards)",
        "region",
    )


def _bounded(count: int) -> None:
    if count > _MOST_SCANS:
        raise ParameterError(f"edge_scan: spacing gives {count:,} scan lines; at most {_MOST_SCANS:,}", "spacing")


def _in_frame(image: Image, start: Any, way: Any, across: Any, count: int) -> ScanLines:
    """Scan lines of the source as lines of the image's own frame, still a source pixel a step."""
    x0, y0 = image.frame.from_source(start[:, 0], start[:, 1])
    ends = [image.frame.from_source(start[:, 0] + d[:, 0], start[:, 1] + d[:, 1]) for d in (way, across)]
    first = np.stack([x0, y0], axis=1)
    steps = [np.ascontiguousarray(np.stack(end, axis=1) - first, float) for end in ends]
    return ScanLines(np.ascontiguousarray(first, float), steps[0], steps[1], count)


def _extrema(
    slope: NDArray[np.float32],
    profiles: NDArray[np.float32],
    margin: int,
    length: float,
    image: Image,
    sigma: float,
    floor: float | None,
) -> tuple[NDArray[np.int64], NDArray[np.float64], NDArray[np.float64], NDArray[np.float64], float, float]:
    """Scan, place, slope and standard deviation of every extremum above the floor, the spread of the slope, and the variance of
    the blur across the strongest edges."""
    step = max(1, slope.size // _SAMPLED)
    spread = _typical(slope.ravel()[::step])
    blur2 = _blur_of_strongest(slope) - sigma**2
    if blur2 > _WIDE**2:
        # A wide edge is much of every scan, and no background.
        spread = min(spread, _spread_beside(slope, profiles, sigma, math.sqrt(blur2 + sigma**2), image.quantum))
    least = max(_FLOOR * spread, 1e-9 * image.span)
    if floor is not None:
        least = min(least, floor)
    scan, k, sizes = find_extrema(slope, least)
    a, b, c = sizes.T
    bend = a - 2 * b + c
    place = k + 0.5 * (a - c) / np.where(bend < 0, bend, -1.0) - margin
    inside = np.flatnonzero((bend < 0) & (place >= 0) & (place <= length))
    scan, k, place, bend, b = scan[inside], k[inside], place[inside], bend[inside], b[inside]
    sign = np.sign(slope[scan, k].astype(float))
    # The place errs by the noise of the slope's own slope over its curvature there.
    few = slope[:: max(1, slope.size // _SAMPLED)]
    noise = _typical(0.5 * (few[:, 2:] - few[:, :-2]))
    return scan, place, sign * b, noise / np.maximum(-bend, 1e-12), spread, max(blur2, 0.0)


def _blur_of_strongest(slope: NDArray[np.float32]) -> float:
    """Median over the scans of the variance (px²) of the bell that the slope makes at its strongest, from its logarithm; 0 where
    none has one."""
    sizes = np.abs(np.nan_to_num(slope[:, 1:-1]))
    if not sizes.size:
        return 0.0
    rows, k = np.arange(len(slope)), np.argmax(sizes, axis=1) + 1
    a, b, c = (np.abs(slope[rows, k + off]).astype(float) for off in (-1, 0, 1))
    with np.errstate(divide="ignore", invalid="ignore"):
        bend = np.log(a) - 2 * np.log(b) + np.log(c)
        variance = -1 / bend
    known = variance[np.isfinite(variance) & (bend < 0)]
    return float(np.median(known)) if len(known) else 0.0


def _spread_beside(slope: NDArray[np.float32], profiles: NDArray[np.float32], sigma: float, blur: float, quantum: float) -> float:
    """Standard deviation of the slope away from the strongest edge of each scan; where there is no room beside it, what follows
    from the noise of the profiles."""
    at = np.argmax(np.abs(np.nan_to_num(slope)), axis=1)
    far = np.abs(np.arange(slope.shape[1]) - at[:, None]) > _AROUND * blur
    if np.isfinite(slope[far]).sum() > _BESIDE * slope.size:
        return _typical(slope[far])
    noise = _typical((profiles[:, :-2] - 2 * profiles[:, 1:-1] + profiles[:, 2:]).ravel()) / math.sqrt(6.0)
    weights = slope_kernel(sigma)
    # Levels between pixels are means of some, so that neighbours err alike.
    return 1.5 * max(noise, 0.3 * quantum) * math.sqrt(float((weights**2).sum()))


def _typical(values: NDArray[np.float32]) -> float:
    """Standard deviation of values around zero, most of which are noise; 0 if there are none."""
    sizes = np.abs(values[np.isfinite(values)])
    return float(np.median(sizes)) / 0.6745 if len(sizes) else 0.0


def _two_sided(gathered: Gathered) -> float:
    """Share of the scans whose strongest rising and strongest falling edge are of like strength."""
    count = len(gathered.start)
    rising, falling = np.zeros(count), np.zeros(count)
    np.maximum.at(rising, gathered.scan, np.maximum(gathered.slope, 0.0))
    np.maximum.at(falling, gathered.scan, np.maximum(-gathered.slope, 0.0))
    clear = np.maximum(rising, falling) > _CLEAR * gathered.spread
    return float((clear & (np.minimum(rising, falling) > _LIKE * np.maximum(rising, falling))).mean()) if count else 0.0


def _leads(scan: NDArray[np.int64], strength: NDArray[np.float64]) -> NDArray[np.bool_]:
    """Whether each candidate is the strongest of its scan; `scan` ascends."""
    starts = np.flatnonzero(np.diff(scan, prepend=-1))
    if not len(starts):
        return np.zeros(0, bool)
    best = np.maximum.reduceat(strength, starts)
    return np.asarray(strength == np.repeat(best, np.diff(starts, append=len(scan))))


def _own_axes(gathered: Gathered) -> tuple[NDArray[np.float64], NDArray[np.float64], NDArray[np.float64]]:
    """Origin, direction of the boundary and of the scans, for polynomials: those of the middle scan."""
    way = gathered.way[len(gathered.way) // 2]
    return gathered.start.mean(axis=0), np.array([-way[1], way[0]]), way


def fitted(
    places: NDArray[np.float64], gathered: Gathered, parameters: EdgeScanParameters
) -> tuple[dict[str, Any] | None, NDArray[np.float64], NDArray[np.bool_]]:
    """The fit in the source frame, residuals, and which places it rests on."""
    kind = parameters.fit or "line"
    shape = {"line": robust_fits.LINE, "circle": robust_fits.CIRCLE}.get(kind)
    points = places
    origin, side, way = _own_axes(gathered)
    if kind == "polynomial":
        points = np.stack([(places - origin) @ side, (places - origin) @ way], axis=1)
        shape = robust_fits.polynomial(parameters.degree, max(float(np.abs(points[:, 0]).max(initial=1.0)), 1.0))
    nothing = None, np.full(len(places), np.nan), np.zeros(len(places), bool)
    if shape is None:
        return nothing
    found = robust_fits.robust_fit(points, shape, parameters.outliers, parameters.outlier_limit)
    if found is None:
        return nothing
    used = points[found.used]
    about: dict[str, Any] = {"kind": kind, "used": int(found.used.sum()), "of": len(places), "rms": found.rms}
    about["outliers"] = parameters.outliers
    if kind == "line":
        about |= _line_numbers(found, used, parameters.reference)
    elif kind == "circle":
        x, y, radius = (float(v) for v in found.model)
        off = used - (x, y)
        far = np.maximum(np.hypot(*off.T), 1e-9)
        jacobian = np.stack([off[:, 0] / far, off[:, 1] / far, np.ones(len(used))], axis=1)
        alike = _alike(found.residuals[found.used], np.arctan2(off[:, 1], off[:, 0]))
        std = alike * found.rms * np.sqrt(np.abs(np.diag(np.linalg.pinv(jacobian.T @ jacobian))))
        # Blur moves the steepest place of a curved edge inwards, and so does the averaging along it.
        inwards = (gathered.blur2 + ((parameters.average or 1) ** 2 - 1) / 12) / (2 * max(radius, 1.0))
        inwards = min(inwards, 0.25 * radius)
        about |= {"x": x, "y": y, "radius": radius + inwards, "inwards": inwards}
        about |= {f"{name}_std": float(value) for name, value in zip(("x", "y", "radius"), std, strict=True)}
    else:
        scale = max(float(np.abs(points[:, 0]).max(initial=1.0)), 1.0)
        about |= {
            "coefficients": [float(c / scale**k) for k, c in enumerate(found.model)],
            "x": float(origin[0]), "y": float(origin[1]),
            "angle": math.degrees(math.atan2(way[1], way[0])) % 360.0,
        }  # fmt: skip
    return about, found.residuals, found.used


def _alike(residuals: NDArray[np.float64], place: NDArray[np.float64]) -> float:
    """Factor on standard deviations, since neighbours along a boundary (by `place`) see some of the same pixels and err alike."""
    errors = residuals[np.argsort(place, kind="stable")]
    total = float((errors**2).mean()) if len(errors) else 0.0
    if len(errors) < 12 or total <= 0:
        return 1.0
    shared = 0.0
    for lag in range(1, 6):
        correlation = float((errors[lag:] * errors[:-lag]).mean()) / total
        if correlation <= 0:
            break
        shared += correlation
    return math.sqrt(min(1 + 2 * shared, 6.0))


def _line_numbers(found: robust_fits.Fit, used: NDArray[np.float64], reference: float) -> dict[str, Any]:
    a, b, c = (float(v) for v in found.model)
    theta = math.degrees(math.atan2(b, a))
    if theta < 0 or theta >= 180:
        theta, c = theta % 180.0, -c
    middle = used.mean(axis=0)
    angle = (theta + 90.0) % 180.0
    along = (used - middle) @ (-b, a)
    extent = math.sqrt(max(float((along**2).sum()), 1e-12))
    rms = found.rms * _alike(found.residuals[found.used], along)
    return {
        "angle": angle, "angle_std": math.degrees(rms / extent), "x": float(middle[0]), "y": float(middle[1]),
        "theta": theta, "rho": c, "offset_std": rms / math.sqrt(len(used)), "reference": reference,
        "angle_to_reference": (angle - reference + 90.0) % 180.0 - 90.0,
    }  # fmt: skip


def residuals_of(fit: dict[str, Any], places: NDArray[np.float64], gathered: Gathered) -> NDArray[np.float64]:
    """Signed distances of other places from a fit."""
    if fit["kind"] == "line":
        theta = math.radians(fit["theta"])
        return np.asarray(places @ (math.cos(theta), math.sin(theta)) - fit["rho"])
    if fit["kind"] == "circle":
        return np.asarray(np.hypot(*(places - (fit["x"], fit["y"])).T) - (fit["radius"] - fit["inwards"]))
    origin, side, way = _own_axes(gathered)
    u, v = (places - origin) @ side, (places - origin) @ way
    return np.asarray(v - sum(c * u**k for k, c in enumerate(fit["coefficients"])))
