"""Corners: where the grey levels change along more than one direction, placed where the edges meet.

Maxima of a response of the structure tensor (`numerics.corners.structure_tensor`) are compared with what the background makes
(`numerics.corners.significance`), and refined by fitting the edges (`numerics.corners.corner_fits`).
"""

from __future__ import annotations

from dataclasses import dataclass, replace
from typing import Any, Literal

import numpy as np
from numpy.typing import NDArray

from lucid_finch.core.detection import EvidenceMap, Outlines
from lucid_finch.core.detector import Candidates, Detector, DetectorParameters, Finished, Reason, Task
from lucid_finch.core.detectors.shared.declarations import FALSE_ALARMS_COLUMN, false_alarms_parameter
from lucid_finch.core.detectors.shared.edge_features import GradientMaps, background_of, blocks_of, smoothing_of, with_margin
from lucid_finch.core.detectors.shared.image_variants import Variant, calmed, shrunk_by
from lucid_finch.core.image import Image
from lucid_finch.core.judging import EvenExclusions, Exclusions
from lucid_finch.core.numerics.corners import corner_fits, structure_tensor
from lucid_finch.core.numerics.corners.significance import (
    Surroundings,
    corner_log_nfa,
    degrees_of_freedom,
    scale_at,
    surroundings_at,
)
from lucid_finch.core.numerics.edges.background import Background
from lucid_finch.core.numerics.edges.gradients import noise_gain
from lucid_finch.core.numerics.edges.smoothing_choice import SMOOTHINGS, SmoothingChoice
from lucid_finch.core.numerics.matching.views import noise_of
from lucid_finch.core.numerics.runtime.threads import cancellable
from lucid_finch.core.numerics.suppression import close_pairs
from lucid_finch.core.parameters import forms, gathers, judges
from lucid_finch.core.regions import masked_pixels
from lucid_finch.core.table import Array, Column

_MOST = 100_000
"""Maxima that are measured: the strongest."""
_LEAST = 1e-12
"""Response, in squared value ranges, that rounding alone may leave."""
_FITTED, _FITTED_ISOTROPY = -1.0, 0.02
"""log_nfa and isotropy from which on a corner is fitted."""
_STRONGEST = 3000
"""Of the strongest maxima so many are fitted in any case."""
_EXACT, _CLEAR = 0.06, 8.0
"""A saddle fits well if its residual is below this share of the contrast, and its contrast above so many times the noise."""
_FEWEST, _MOSTLY, _ALIKE, _SMOOTH = 6, 0.75, 0.35, 1.5
"""Saddles that make a pattern, the part of all that must be alike, how far they may be from the usual contrast and blur, and
a blur (px) that smooth texture has, too."""
_ARMS = 3.0
"""Length of the lines that are drawn along the edges, in windows."""
_SIGMAS, _WINDOW = (1.0, 2.0, 3.0), 2.0
"""px of smoothing that is chosen from, and the window in units of it."""
_VERY = 2.2, 4.2
"""px of blur (median, and nine of ten) from which on windows of twice the usual size see all edges alike, too."""
_MORE = 1.25
"""Times as many corners must stand out with the wider smoothing for it to pay, and `_FEWEST` more."""
_CLEARLY = 2.0, 0.15
"""log_nfa and isotropy of a corner that counts for that."""
_LEAST_SIDE = 48
"""px of the shorter side of what is still shrunk."""
_SCALES = ((1.0, 0.5), (1.0, 2.0), (0.5, 0.5), (2.0, 2.0))
"""Smoothing and window, over those that are given, at which a corner must be one, too."""


class CornersParameters(DetectorParameters):
    """Parameters of `corners`."""

    response: Literal["harris", "min_eigenvalue", "foerstner"] = gathers(
        "foerstner",
        label="Response",
        help="Of the structure tensor: harris: det - k trace squared; min_eigenvalue: its smaller eigenvalue; foerstner: "
        "det / trace.",
    )
    k: float = gathers(
        0.05,
        label="Harris k",
        least=0.0,
        most=0.24,
        usual=(0.02, 0.15),
        only_with=("response", ("harris",)),
        help="Weight of the trace in the Harris response. More rejects more of the straight edges.",
        more=True,
    )
    sigma_gradient: float | None = gathers(
        None,
        label="Smoothing",
        unit="px",
        least=0.3,
        most=20.0,
        usual=(0.5, 4.0),
        auto=f"{_SIGMAS[0]:g} px; {_SIGMAS[1]:g} or {_SIGMAS[2]:g} where blur or noise leaves no use for less",
        help="Standard deviation of the Gaussian smoothing before the gradient.",
    )
    sigma_window: float | None = gathers(
        None,
        label="Window",
        unit="px",
        least=0.5,
        most=40.0,
        usual=(1.0, 8.0),
        auto=f"{_WINDOW:g} times the smoothing",
        help="Standard deviation of the Gaussian window over which the structure tensor is averaged.",
    )
    false_alarms: float = false_alarms_parameter(
        "Accept corners that the image's background produces less often than this in one image."
    )
    strength_min_pct: float = judges(
        1.0,
        label="Response, min",
        unit="% of the strongest",
        least=0.0,
        most=100.0,
        usual=(0.0, 30.0),
        criterion="strength_pct",
        help="Weaker responses are rejected.",
    )
    isotropy_min: float = judges(
        0.15,
        label="Isotropy, min",
        least=0.0,
        most=1.0,
        criterion="isotropy",
        help="4 det / trace squared of the structure tensor: 1 where the gradient has all directions alike, 0 on a straight "
        "edge. The least in windows of half, one and two times the size.",
        more=True,
    )
    spacing: float = forms(
        5.0,
        label="Distance, min",
        unit="px",
        least=0.0,
        most=1000.0,
        usual=(0.0, 60.0),
        help="Of corners closer than this, the stronger counts.",
    )
    spread: bool = forms(
        False,
        label="Even spread",
        help="With a maximum count: take those that are farthest from any stronger one, so that they spread over the image.",
    )
    subpixel: bool = forms(
        True,
        label="Sub-pixel",
        help="Place each corner where its edges meet; otherwise at the maximum of the response.",
        more=True,
    )


@dataclass(frozen=True)
class Gathered:
    """Maxima of the response, one entry each, in px of the image."""

    rows: NDArray[np.int32]
    columns: NDArray[np.int32]
    response: NDArray[np.float32]
    isotropy: NDArray[np.float64]
    log_nfa: NDArray[np.float64]
    fitted: corner_fits.RefinedCorners
    background: Background
    sigmas: tuple[float, float]
    """Smoothing and window, px of the image."""
    image: Image
    """What was looked at."""
    notes: tuple[str, ...]

    @property
    def nbytes(self) -> int:
        return int(120 * len(self.rows) + self.background.nbytes + self.image.pixels.nbytes)


class Corners(Detector):
    kind = "corners"
    purpose = "Points where edges meet, as sub-pixel places for matching, recognition and calibration."
    Parameters = CornersParameters
    columns = (
        Column("response", "response", "", "of the structure tensor at the maximum; grey/px to the power of 4 (harris) or 2", 2),
        FALSE_ALARMS_COLUMN,
        Column("strength_pct", "response", "%", "response in percent of the strongest", 1),
        Column("isotropy", "isotropy", "", "4 det / trace squared of the structure tensor, 0 on a straight edge", 2),
        Column("form", "form", "", "saddle: chessboard; wedge: of two edges; point: neither", names=corner_fits.FORMS),
        Column("contrast", "contrast", "grey", "between both sides of the edges; below 0: a dark wedge", 1),
        Column("opening", "opening", "deg", "angle between both edges", 1),
        Column("direction", "direction", "deg", "of the middle of a wedge; along one edge of a saddle", 1, "direction"),
        Column("x_std", "x ±", "px", "one standard deviation, from the noise alone", 3, "x error", "y_std"),
        Column("y_std", "y ±", "px", "one standard deviation, from the noise alone", 3, "y error"),
    )
    main_maps = ("response",)

    # Stages

    def gather(self, task: Task) -> Gathered:
        seen, given = calmed(task.image, task.context), task.parameters
        sigma, why = given.sigma_gradient, ""
        if sigma is None:
            sigma, why = _suitable(smoothing_of(seen.image, given.region, None, seen.context))
        with cancellable(task.context.cancelled):
            chosen = _maxima(seen, given, sigma)
            if given.sigma_gradient is None and sigma == _SIGMAS[0]:
                # In a rough surface most corners drown at the scale of its grains.
                wider = _maxima(seen, given, _SIGMAS[1])
                if wider.clear >= _MORE * chosen.clear + _FEWEST:
                    why = f"{wider.clear:,} corners stand out, with {sigma:g} px {chosen.clear:,}"
                    chosen = wider
            found = _fitted(seen, given, chosen)
        notes = (*found.notes, *seen.notes, *((f"smoothed by {found.sigmas[0]:g} px, since {why}",) if why else ()))
        return replace(found, notes=notes)

    def settle(self, task: Task) -> Any:
        g: Gathered = task.gathered
        return task.parameters.model_copy(update={"sigma_gradient": g.sigmas[0], "sigma_window": g.sigmas[1]})

    def remedies(self, task: Task) -> list[dict[str, Any]]:
        automatic = [{"sigma_gradient": None, "sigma_window": None}] if task.given.sigma_gradient is not None else []
        now = task.parameters.sigma_gradient
        return [*automatic, *({"sigma_gradient": other, "sigma_window": None} for other in _SIGMAS if other != now)]

    def form(self, task: Task) -> Candidates:
        g: Gathered = task.gathered
        fitted, given = g.fitted, task.parameters
        x, y = (fitted.x, fitted.y) if given.subpixel else (g.columns.astype(float), g.rows.astype(float))
        sure = np.maximum(g.log_nfa, 0.0)
        response = g.response.astype(float)
        columns: dict[str, Array] = {
            "x": x, "y": y, "score": sure / (sure + 10.0), "response": response, "log_nfa": g.log_nfa,
            "strength_pct": 100.0 * response / max(float(response.max(initial=0.0)), 1e-30), "isotropy": g.isotropy,
            "form": fitted.form.astype(np.int64), "contrast": fitted.contrast, "opening": fitted.opening,
            "direction": fitted.direction, "x_std": fitted.x_std, "y_std": fitted.y_std,
        }  # fmt: skip
        pairs = close_pairs(x, y, given.spacing / task.image.frame.scale)
        apart = np.hypot(*(w[pairs[:, 0]] - w[pairs[:, 1]] for w in (x, y)))
        near = "spacing", pairs, -apart, -given.spacing / task.image.frame.scale
        exclusions = EvenExclusions(*near, np.stack([x, y], axis=1)) if given.spread else Exclusions(*near)
        return Candidates(columns, response, 3.0 * given.sigma_window, exclusions)

    def finish(self, task: Task, chosen: NDArray[np.int64]) -> Finished:
        columns = {name: values[chosen] for name, values in task.candidates.columns.items()}
        reach = _ARMS * max(task.parameters.sigma_window, 1.5)
        arms = task.gathered.fitted.arms(chosen, reach)
        # Numbers stand beside the corner, not on it.
        places = np.stack([columns["x"], columns["y"]], axis=1) + 1.6 * reach * task.image.frame.scale * np.array([1.0, -0.6])
        return Finished(columns, Outlines.of(arms), places=places)

    def plausible(self, candidates: Candidates) -> NDArray[np.bool_]:
        return np.asarray((candidates.columns["log_nfa"] > -1.0) & (candidates.columns["isotropy"] > _FITTED_ISOTROPY))

    def measured(self, task: Task) -> dict[str, Any]:
        return {"background": task.gathered.background.typical / task.image.frame.scale}

    def notes(self, task: Task) -> tuple[str, ...]:
        return tuple(task.gathered.notes)

    # What is reported

    def evidence(self, task: Task) -> list[EvidenceMap]:
        image, maps, op = task.gathered.image, self._maps(task), _operator(task.parameters)

        def response(*box: int) -> Array:
            part, inner = with_margin(image, box, op.margin)  # type: ignore[arg-type]
            return structure_tensor.response_plane(part, op)[inner]

        unit = "(grey/px)^4" if task.parameters.response == "harris" else "(grey/px)^2"
        text = f"{task.parameters.response} of the structure tensor; its maxima are the candidates"
        kind = "signed" if task.parameters.response == "harris" else "grey"
        return [*maps.listed()[:4], maps.map("response", "response", unit, kind, response, text, op.margin)]

    def _maps(self, task: Task) -> GradientMaps:
        return GradientMaps(task.gathered.image, None, task.gathered.background, task.parameters.sigma_gradient)

    def probe(self, task: Task, x: float, y: float) -> list[Reason]:
        image, given, op = task.gathered.image, task.parameters, _operator(task.parameters)
        if reasons := self.outside(task, x, y, op.margin):
            return reasons
        u, v = image.frame.from_source(x, y)
        column, row = (min(max(round(float(w)), 0), n - 1) for w, n in ((u, image.width), (v, image.height)))
        if not (op.margin <= column < image.width - op.margin and op.margin <= row < image.height - op.margin):
            text = f"no corner is sought within {op.margin} px of the border, where half of its surroundings are missing"
            return [Reason("border", float(min(column, row)), float(op.margin), "px", False, text)]
        reach = max(2, round(given.sigma_window))
        rows, columns = (
            w.ravel().astype(np.int32) for w in np.mgrid[row - reach : row + reach + 1, column - reach : column + reach + 1]
        )
        tensors = structure_tensor.tensors_at(image.pixels, rows, columns, given.sigma_gradient, given.sigma_window)
        best = int(np.argmax(tensors.least))
        at = image.frame.to_source(float(columns[best]), float(rows[best]))
        isotropy = float(tensors.isotropy[best])
        background: Background = task.gathered.background
        around = surroundings_at(background, rows, columns, tensors.direction)
        sure = float(_log_nfa(image, (given.sigma_gradient, given.sigma_window), background, tensors.least, around)[best])
        edge = sure >= 0 and isotropy < given.isotropy_min
        text = f"the smaller eigenvalue is largest at ({at[0]:.0f}, {at[1]:.0f}), "
        if edge:
            text += f"where the isotropy is {isotropy:.2f}: a straight edge"
            return [Reason("isotropy", isotropy, given.isotropy_min, "", False, text)]
        times = float(tensors.least[best]) / max(float(around.scale[best]) ** 2, 1e-30)
        text += f"{times:.1f} times that of the background; no maximum is here"
        return [Reason("response", sure, None, "", False, text, nothing=sure < 0)]


def _suitable(choice: SmoothingChoice) -> tuple[float, str]:
    """The smoothing (px) for an image, and why it is not the narrow one."""
    if choice.is_blurred:
        very = choice.blur >= _VERY[0] and choice.softest >= _VERY[1]
        return _SIGMAS[2 if very else 1], f"edges are blurred by {choice.blur:.1f} px"
    return (_SIGMAS[2], choice.reason) if choice.sigma > SMOOTHINGS[0] else (_SIGMAS[0], "")


@dataclass(frozen=True)
class _Maxima:
    """Maxima of the response in an image that is shrunk as far as its wide filters allow."""

    seen: Variant
    side: int
    """px of the image to one of the shrunk one."""
    sigmas: tuple[float, float]
    """px of the shrunk image."""
    background: Background
    rows: NDArray[np.int32]
    columns: NDArray[np.int32]
    response: NDArray[np.float32]
    tensors: structure_tensor.Tensors
    log_nfa: NDArray[np.float64]
    of_blocks: NDArray[np.bool_]
    """Where blocks of compression meet."""
    notes: tuple[str, ...]

    @property
    def clear(self) -> int:
        """How many the background does not explain, whatever the limits are."""
        return int(((self.log_nfa >= _CLEARLY[0]) & (self.tensors.isotropy >= _CLEARLY[1])).sum())


def _maxima(seen: Variant, given: CornersParameters, sigma: float) -> _Maxima:
    """Those of a smoothing of `sigma` px."""
    window = given.sigma_window or _WINDOW * sigma
    blocks, smoothing = blocks_of(seen.image, seen.context), sigma
    side = max(1, int(min(sigma, window / _WINDOW)))
    side = side if min(seen.image.width, seen.image.height) >= side * _LEAST_SIDE else 1
    seen, sigma, window = shrunk_by(seen.image, side, seen.context), sigma / side, window / side
    image, op = seen.image, structure_tensor.operator(given.response, sigma, window, given.k)
    background = background_of(image, given.region, sigma, seen.context)
    plane = structure_tensor.response_plane(image.pixels, op)
    masked = masked_pixels(image, given.region, op.margin)
    rows, columns = structure_tensor.maxima(plane, _LEAST * image.span**2, op.margin, masked)
    response = plane[rows, columns]
    notes: tuple[str, ...] = ()
    if len(rows) > _MOST:
        notes = (f"the strongest {_MOST:,} of {len(rows):,} maxima were measured",)
        strongest = np.sort(np.argsort(-response, kind="stable")[:_MOST])
        rows, columns, response = rows[strongest], columns[strongest], response[strongest]
    tensors = structure_tensor.tensors_at(image.pixels, rows, columns, sigma, window)
    around = surroundings_at(background, rows, columns, tensors.direction)
    log_nfa = _log_nfa(image, (sigma, window), background, tensors.least, around)
    of_blocks = np.zeros(len(rows), bool)
    if blocks is not None:
        x, y = (w * side + 0.5 * (side - 1) for w in (columns, rows))
        of_blocks = blocks.are_corners(x, y, tensors.least / side**2, smoothing)
    return _Maxima(seen, side, (sigma, window), background, rows, columns, response, tensors, log_nfa, of_blocks, notes)


def _fitted(seen: Variant, given: CornersParameters, maxima: _Maxima) -> Gathered:
    """The same with the corners that were fitted there, in px of the image `seen`."""
    image, (sigma, window), rows, columns = maxima.seen.image, maxima.sigmas, maxima.rows, maxima.columns
    op = structure_tensor.operator(given.response, sigma, window, given.k)
    log_nfa, isotropy = maxima.log_nfa.copy(), maxima.tensors.isotropy
    # Against the noise of single pixels alone: where corners fill the image, they are its background.
    noise = max(noise_of(np.asarray(image.pixels, np.float32)), 0.3 * image.quantum, 1e-6 * image.span)
    of_noise = Surroundings(np.full(len(rows), noise * noise_gain(*op.gradient)), np.ones(len(rows)))
    above_noise = _log_nfa(image, maxima.sigmas, maxima.background, maxima.tensors.least, of_noise)
    strongest = np.zeros(len(rows), bool)
    strongest[np.argsort(-maxima.response, kind="stable")[:_STRONGEST]] = True
    clear = np.flatnonzero(((log_nfa > _FITTED) | (strongest & (above_noise > 2))) & (isotropy > _FITTED_ISOTROPY))
    usual = scale_at(maxima.background, rows[clear], columns[clear])
    local = np.minimum(usual / noise_gain(*op.gradient), 3.0 * noise)
    fitted = corner_fits.refine_corners(image.pixels, rows[clear], columns[clear], local, window)
    alike = _of_a_board(fitted, noise)
    log_nfa[clear] = np.where(alike, np.maximum(log_nfa[clear], above_noise[clear]), log_nfa[clear])
    log_nfa[maxima.of_blocks] = -np.inf
    v, u = (np.floor(w + 0.5).astype(np.int32) for w in (fitted.y, fitted.x))
    for wider, longer in _SCALES:
        other = structure_tensor.tensors_at(image.pixels, v, u, wider * sigma, longer * window)
        isotropy[clear] = np.minimum(isotropy[clear], other.isotropy)
    side, whole = maxima.side, fitted.among(len(rows), clear, rows, columns, window).enlarged(maxima.side)
    background, response = maxima.background, maxima.response
    if side > 1:
        rows, columns = (np.round(w * side + 0.5 * (side - 1)).astype(np.int32) for w in (rows, columns))
        response = response * np.float32(side ** (-4.0 if given.response == "harris" else -2.0))
        background = background_of(seen.image, given.region, side * sigma, seen.context)
    sigmas = side * sigma, side * window
    return Gathered(rows, columns, response, isotropy, log_nfa, whole, background, sigmas, seen.image, maxima.notes)


def _log_nfa(
    image: Image, sigmas: tuple[float, float], background: Background, least: Array, around: Surroundings
) -> NDArray[np.float64]:
    """-log10 of how many corners as strong as eigenvalues `least` the background makes where it is as in `around`; `sigmas`: of
    the smoothing and of the window."""
    sigma, window = sigmas
    tests = image.width * image.height / (2.0 * window) ** 2
    return corner_log_nfa(least, around.scale, degrees_of_freedom(background, window, around.elongation, sigma), tests)


def _of_a_board(fitted: corner_fits.RefinedCorners, noise: float) -> NDArray[np.bool_]:
    """Which corners are saddles that fit well and are like most others: those of a pattern, which texture does not make."""
    size = np.abs(fitted.contrast)
    exact = (fitted.form == corner_fits.FORMS.index("saddle")) & (fitted.residual < _EXACT * size) & (size > _CLEAR * noise)
    if exact.sum() < _FEWEST:
        return np.zeros(len(size), bool)
    blur = fitted.blur
    usual = float(np.median(size[exact])), float(np.median(blur[exact]))
    alike = exact & (np.abs(size / usual[0] - 1) < _ALIKE) & (np.abs(blur / usual[1] - 1) < _ALIKE)
    return alike if alike.sum() >= _MOSTLY * exact.sum() and usual[1] < _SMOOTH else np.zeros(len(size), bool)


def _operator(given: Any) -> structure_tensor.Operator:
    """With the settled parameters."""
    return structure_tensor.operator(given.response, given.sigma_gradient, given.sigma_window, given.k)


__all__ = ["Corners", "CornersParameters"]
