"""Faces: a window of every size is scored by boosted trees over channels of its cells; overlapping hits are one face.

The model is our own, learnt from painted heads (`training/faces`); its card tells what it can do. Trees, channels and pyramid:
`numerics.windows`.
"""

from __future__ import annotations

from collections.abc import Callable
from dataclasses import dataclass
from functools import cache
from importlib.resources import files
from typing import Any, ClassVar, Literal

import numpy as np
from numpy.typing import NDArray

from lucid_finch.core.detection import EvidenceMap, Outlines
from lucid_finch.core.detector import Candidates, Detector, DetectorParameters, Example, Finished, Reason, Task
from lucid_finch.core.detectors.shared.edge_features import smoothing_of
from lucid_finch.core.detectors.shared.image_variants import Variant, calmed
from lucid_finch.core.image import Frame, Image
from lucid_finch.core.judging import Exclusions
from lucid_finch.core.luma import as_luma
from lucid_finch.core.numerics.edges.gradients import gaussian_kernel, smoothed
from lucid_finch.core.numerics.runtime.threads import cancellable
from lucid_finch.core.numerics.suppression import close_pairs
from lucid_finch.core.numerics.windows import detecting
from lucid_finch.core.numerics.windows.channels import CELL, NAMES, cells_of_views, planes
from lucid_finch.core.numerics.windows.model import Looked, Model
from lucid_finch.core.numerics.windows.pyramid import Octaves
from lucid_finch.core.numerics.windows.trees import scores
from lucid_finch.core.parameters import Range, gathers, judges
from lucid_finch.core.regions import masked_pixels
from lucid_finch.core.table import Array, Column

_SMALLEST = 24.0
"""px of the smallest face that is searched unless told otherwise."""
_NEAR_MISS = 0.02
"""Score from which on a candidate is listed as a near miss."""
_PART = 0.6
"""A candidate that shares more than this part of itself, or of the other, with a surer one is of the same face."""
_LABEL = 22.0
"""px of the width of a number, on faces of 40 px."""
_CALMING = 2.2
"""px of the smoothing where noise or a pattern hides edges."""
_HIDDEN = 0.5
"""A face of which more than this part lies outside the region, or on invalid pixels, is none."""


@cache
def model() -> Model:
    """The face model that ships. Raises `ParameterError` where its file is damaged."""
    data = files("lucid_finch.core.detectors.shared").joinpath("models", "faces.npz").read_bytes()
    return Model.read(data, "the face model")


class FacesParameters(DetectorParameters):
    """Parameters of `faces`."""

    size: Range | None = gathers(
        None,
        label="Size",
        unit="px",
        least=8.0,
        usual=(16.0, 400.0),
        is_range=True,
        criterion="height",
        auto=f"{_SMALLEST:g} px to the whole picture",
        help="Minimum and maximum side of the box, from hairline to chin.",
    )
    score_min: float = judges(
        0.5,
        label="Score, min",
        least=0.0,
        most=1.0,
        usual=(0.0, 1.0),
        criterion="score",
        help="The probability that it is a face, as measured on painted pictures that the model had not seen.",
    )
    sigma: float | None = gathers(
        None,
        label="Smoothing",
        unit="px",
        least=0.0,
        most=20.0,
        usual=(0.0, 5.0),
        auto=f"none; {_CALMING:g} px where noise or a pattern hides edges",
        help="Standard deviation of the Gaussian smoothing of the picture before faces are looked for.",
        more=True,
    )
    overlap_max: float = gathers(
        0.3,
        label="Overlap, max",
        least=0.0,
        most=1.0,
        help="Of two faces that share more than this part of the smaller one, the surer counts.",
        more=True,
    )


@dataclass(frozen=True)
class Gathered:
    """What was found, in px of the image."""

    groups: detecting.Groups
    looked: Looked
    octaves: Octaves
    scales: list[float]
    sigma: float
    """px of the smoothing."""
    nbytes: int
    notes: tuple[str, ...] = ()


class Faces(Detector):
    kind = "faces"
    purpose = "Faces of people, of every size, for counting or for a recogniser."
    Parameters = FacesParameters
    reads: ClassVar[Literal["luma", "colour"]] = "colour"
    columns = (
        Column("angle", "angle", "deg", "by which the head leans, from up towards +x", 0, "pose angle"),
        Column("left", "left", "px", "of the box, by its outer edge", 1, "x", "top"),
        Column("top", "top", "px", "of the box, by its outer edge", 1, "y"),
        Column("width", "width", "px", "side of the box", 1, "length"),
        Column("height", "height", "px", "side of the box: from hairline to chin", 1, "length"),
        Column("hits", "windows", "", "how many windows agree on it", 0),
    )
    main_maps = ("score", "channel_magnitude")
    sized_by = "size"
    numbers_beside = True
    near = 60.0
    here = 30.0
    examples = (Example(), Example({"size": (30.0, 40.0)}))

    # Stages

    def gather(self, task: Task) -> Gathered:
        seen, m, given = calmed(task.image, task.context), model(), task.parameters
        image = seen.image
        at = _scales(given.size, image, m)
        sigma, notes = (given.sigma, seen.notes) if given.sigma is not None else _smoothing(seen, given)
        with cancellable(task.context.cancelled):
            colours = planes(np.asarray(image.pixels), image.black, image.white)
            if sigma > 0:
                colours = tuple(smoothed(plane, gaussian_kernel(sigma)) for plane in colours)
            octaves = Octaves(colours)
            groups = m.found(octaves, at)
            looked = m.looked_at(octaves, groups)
        pixels = image.width * image.height
        return Gathered(groups, looked, octaves, at, sigma, 16 * pixels, notes)

    def settle(self, task: Task) -> Any:
        return task.parameters.model_copy(update={"sigma": task.gathered.sigma})

    def remedies(self, task: Task) -> list[dict[str, Any]]:
        automatic = [{"sigma": None}] if task.given.sigma is not None else []
        return [*automatic, *({"sigma": other} for other in (_CALMING, 0.0) if other != task.parameters.sigma)]

    def form(self, task: Task) -> Candidates:
        g: Gathered = task.gathered
        groups, frame = g.groups, task.image.frame
        score = model().probability(groups.score, groups.count, g.looked)
        kept = _seen(task, groups) & _heads(groups, score)
        x, y = frame.to_source(groups.x, groups.y)
        side = groups.side * frame.scale
        angle = (g.looked.lean + frame.turn + 180.0) % 360.0 - 180.0
        columns: dict[str, Array] = {
            "x": x, "y": y, "score": score, "angle": angle, "left": x - side / 2, "top": y - side / 2, "width": side,
            "height": side, "hits": groups.count,
        }  # fmt: skip
        columns = {name: np.asarray(values)[kept] for name, values in columns.items()}
        # So that what is sure beyond all digits still has an order.
        rank = score[kept] + 1e-4 * groups.score[kept]
        pairs, shares = _overlaps(columns["x"], columns["y"], columns["height"])
        exclusions = Exclusions("overlap_max", pairs, shares, task.parameters.overlap_max)
        typical = float(np.median(columns["height"])) if kept.any() else 40.0
        return Candidates(columns, rank, typical, exclusions, in_source=True)

    def finish(self, task: Task, chosen: NDArray[np.int64]) -> Finished:
        columns = {name: values[chosen] for name, values in task.candidates.columns.items()}
        half = columns["height"][:, None] / 2
        corners = np.array([[-1, -1], [1, -1], [1, 1], [-1, 1]])
        boxes = np.stack([columns["x"], columns["y"]], axis=1)[:, None] + half[..., None] * corners
        places = _label_places(columns["x"], columns["y"], half[:, 0])
        return Finished(columns, Outlines.of(list(boxes), closed=True), places=places, outlines_in_source=True)

    def plausible(self, candidates: Candidates) -> NDArray[np.bool_]:
        return np.asarray(candidates.columns["score"] >= _NEAR_MISS)

    # What is reported

    def measured(self, task: Task) -> dict[str, Any]:
        sides = [model().inside / scale * task.image.frame.scale for scale in task.gathered.scales]
        return {"sizes": [round(side, 1) for side in sides]}

    def notes(self, task: Task) -> tuple[str, ...]:
        if not task.gathered.scales:
            return ("the sizes asked for are larger than the picture, so nothing is searched",)
        return tuple(task.gathered.notes)

    def evidence(self, task: Task) -> list[EvidenceMap]:
        g: Gathered = task.gathered
        if not g.scales:
            return []
        chosen = g.scales[_usual(task, g)]
        maps = [_channel_map(task, chosen, k) for k in (0, 7, 8)]
        maps.append(_score_map(task, "score", "score, all sizes", g.scales, "the best sum of the trees of all sizes, by place"))
        for number, scale in enumerate(dict.fromkeys((g.scales[0], chosen, g.scales[-1]))):
            side = model().inside / scale * task.image.frame.scale
            text = f"sum of the trees for faces of {side:.0f} px, by the middle of the window"
            maps.append(_score_map(task, f"score_{number + 1}", f"score, {side:.0f} px", [scale], text))
        return maps

    def distances(self, task: Task, x: float, y: float) -> Array:
        """From the box; inside, from the middle, less the more so."""
        c = task.candidates.columns
        far = np.maximum(np.abs(c["x"] - x), np.abs(c["y"] - y))
        return np.where(far <= c["height"] / 2, 0.1 * far, far - 0.45 * c["height"])

    def probe(self, task: Task, x: float, y: float) -> list[Reason]:
        if reasons := self.outside(task, x, y):
            return reasons
        m, image = model(), task.image
        u, v = image.frame.from_source(x, y)
        best: tuple[float, float] | None = None
        for scale in m.scales((image.width, image.height), (12.0, 1e9)):
            sum_here = _best_near(task.gathered.octaves, m, scale, float(u), float(v))
            if best is None or sum_here > best[0]:
                best = sum_here, m.inside / scale * image.frame.scale
        if best is None:
            return []
        low, high = task.parameters.size or (None, None)
        least, most = low or _SMALLEST, high or float("inf")
        across, down, side, score = (np.array([number]) for number in (float(u), float(v), best[1] / image.frame.scale, best[0]))
        # As if as many windows agreed as on a face.
        here = detecting.Groups(across, down, side, score, np.array([20]))
        looked = m.looked_at(task.gathered.octaves, here)
        found = float(m.probability(here.score, here.count, looked)[0]) if best[0] > -1e8 else 0.0
        size = f"the best window here is for a face of {best[1]:.0f} px"
        if not least <= best[1] <= most and found >= 0.1:
            change = (min(least, 0.8 * best[1]), None if most == float("inf") else max(most, 1.2 * best[1]))
            return [Reason("size", best[1], least, "px", False, f"{size}, outside of the sizes searched", {"size": change})]
        text = f"{size}; its score is {found:.2f}" if best[0] > -1e8 else "no window here resembles a face"
        return [Reason("score", found, task.parameters.score_min, "", False, text, nothing=found < 0.1)]

    def sized_like(self, parameters: Any, size: float, ratio: float | None = None) -> tuple[float, float]:
        # What a line across the face, or half of it, tells: a face is as high as its box.
        return max(8.0, 1.4 * size), 2.8 * size


def _smoothing(seen: Variant, given: FacesParameters) -> tuple[float, tuple[str, ...]]:
    """px of smoothing that suits a picture, and what to tell of it."""
    choice = smoothing_of(as_luma(seen.image), given.region, None, seen.context)
    # What is only blurred gets no better with more blur.
    if not choice.hides_edges:
        return 0.0, seen.notes
    return _CALMING, (*seen.notes, f"smoothed by {_CALMING:g} px, since {choice.reason}")


def _scales(size: Range | None, image: Image, m: Model) -> list[float]:
    low, high = size or (None, None)
    scale = image.frame.scale
    least = (_SMALLEST if low is None else low) / scale
    most = float("inf") if high is None else high / scale
    return m.scales((image.width, image.height), (least, most))


def _heads(groups: detecting.Groups, score: Array) -> NDArray[np.bool_]:
    """Which candidates are no part of a surer one: eyes and mouth within a face, or head and shoulders around it."""
    kept = np.ones(len(score), bool)
    order = np.argsort(-(score + 1e-4 * groups.score), kind="stable")
    for place, n in enumerate(order):
        if not kept[n]:
            continue
        rest = order[place + 1 :]
        small = np.minimum(groups.side[rest], groups.side[n])
        half = 0.5 * (groups.side[rest] + groups.side[n])
        across = np.clip(half - np.abs(groups.x[rest] - groups.x[n]), 0, small)
        down = np.clip(half - np.abs(groups.y[rest] - groups.y[n]), 0, small)
        kept[rest[across * down > _PART * small**2]] = False
    return kept


def _seen(task: Task, groups: detecting.Groups) -> NDArray[np.bool_]:
    """Which faces lie mostly on valid pixels within the region."""
    masked = masked_pixels(task.image, task.parameters.region, 0)
    kept = np.ones(len(groups.x), bool)
    if masked is None:
        return kept
    height, width = masked.shape
    for n in range(len(kept)):
        half = groups.side[n] / 2
        x0, x1 = (int(np.clip(round(groups.x[n] + s * half), 0, width)) for s in (-1, 1))
        y0, y1 = (int(np.clip(round(groups.y[n] + s * half), 0, height)) for s in (-1, 1))
        part = masked[y0:y1, x0:x1]
        kept[n] = part.size > 0 and float(part.mean()) <= _HIDDEN
    return kept


def _overlaps(x: Array, y: Array, side: Array) -> tuple[NDArray[np.int64], Array]:
    """Pairs of boxes that overlap, and the part of the smaller one that they share."""
    if len(x) < 2:
        return np.empty((0, 2), np.int64), np.empty(0)
    pairs = close_pairs(x, y, 1.5 * float(side.max()))
    a, b = pairs[:, 0], pairs[:, 1]
    half, small = 0.5 * (side[a] + side[b]), np.minimum(side[a], side[b])
    across = np.clip(half - np.abs(x[a] - x[b]), 0, small)
    down = np.clip(half - np.abs(y[a] - y[b]), 0, small)
    share = across * down / small**2
    return pairs[share > 0], share[share > 0]


def _label_places(x: Array, y: Array, half: Array) -> Array:
    """Where the number of each face stands, (n, 2): beside its box, where it hides least of faces and of other numbers."""
    size = np.array([_LABEL, 0.6 * _LABEL]) * max(1.0, float(np.median(half)) / 20 if len(half) else 1.0)
    taken = np.stack([x, y, half, half], axis=1)
    found = np.empty((len(x), 2))
    for n in range(len(x)):
        up, side = half[n] + size[1] / 2 + 1, half[n] + size[0] / 2 + 1
        offers = np.array([x[n], y[n]]) + np.array(
            [(0, -up), (-half[n] + size[0] / 2, -up), (half[n] - size[0] / 2, -up), (0, up), (side, 0), (-side, 0)]
        )
        across = np.clip(size[0] / 2 + taken[:, 2] - np.abs(offers[:, None, 0] - taken[:, 0]), 0, size[0])
        down = np.clip(size[1] / 2 + taken[:, 3] - np.abs(offers[:, None, 1] - taken[:, 1]), 0, size[1])
        found[n] = offers[int(np.argmin((across * down).sum(axis=1)))]
        taken = np.concatenate([taken, [[*found[n], *size / 2]]])
    return found


def _usual(task: Task, g: Gathered) -> int:
    """Which of the scales fits the faces that were found, else the smallest faces."""
    found = task.candidates.columns["height"][task.judgement.found] if task.judgement is not None else np.empty(0)
    if not len(found):
        return 0
    wanted = model().inside * task.image.frame.scale / float(np.median(found))
    return int(np.argmin(np.abs(np.log(np.array(g.scales) / wanted))))


def _best_near(octaves: Octaves, m: Model, scale: float, u: float, v: float) -> float:
    """The best sum of the trees of windows whose middle lies close to a place of the image; -1e9 if all were given up."""
    reach = m.trees.side // 2 + 9
    left, top = ((w + 0.5) * scale - 0.5 - reach * CELL for w in (u, v))
    size = 2 * reach * CELL
    found = scores(cells_of_views([octaves.view(scale, left, top, size, size)]), m.scan)[0]
    middle = found.shape[0] // 2
    return float(found[middle - 2 : middle + 3, middle - 2 : middle + 3].max())


def _level_frame(image: Image, scale: float) -> Frame:
    """From cells of a level to the source."""
    step = CELL / scale
    x, y = detecting.place(0.5, 0.5, 0, scale)
    return image.frame.after(Frame(((step, 0.0), (0.0, step)), (float(x), float(y))))


def _channel_map(task: Task, scale: float, channel: int) -> EvidenceMap:
    """A channel of the level of one scale."""
    octaves: Octaves = task.gathered.octaves
    side = model().inside / scale * task.image.frame.scale
    made = _once(lambda: cells_of_views([detecting.level(octaves, scale)])[0])
    rows, columns = (int(n * scale) // CELL + 2 * detecting.PAD for n in (task.image.height, task.image.width))
    name = ("magnitude", *(f"orientation_{k}" for k in range(6)), "luma", "red", "blue")[channel]

    def compute(left: int, top: int, right: int, bottom: int) -> Array:
        return made()[top:bottom, left:right, channel]

    text = f"{NAMES[channel]} of cells, over its surroundings, at the size of faces of {side:.0f} px"
    frame = _level_frame(task.image, scale)
    return EvidenceMap(f"channel_{name}", f"{NAMES[channel]}, {side:.0f} px", "", "grey", columns, rows, compute, frame, text)


def _score_map(task: Task, name: str, label: str, at: list[float], text: str) -> EvidenceMap:
    """The best sum of the trees by place, in cells of the largest of some levels; 0 where all windows were given up."""
    octaves: Octaves = task.gathered.octaves
    m, first = model(), at[0]
    rows, columns = (int(n * first) // CELL + 2 * detecting.PAD for n in (task.image.height, task.image.width))

    def whole() -> Array:
        best = np.zeros((rows, columns), np.float32)
        for scale, found in detecting.score_maps(octaves, m.scan, at):
            if not found.size:
                continue
            # Where the middle of each cell of the map lies among the windows of this level.
            x, y = detecting.place(np.arange(rows) + 0.5, np.arange(columns) + 0.5, 0, first)[::-1]
            lines, across = (
                np.round(((w + 0.5) * scale) / CELL + detecting.PAD - m.trees.side / 2).astype(int) for w in (x, y)
            )  # fmt: skip
            inside_rows = np.flatnonzero((lines >= 0) & (lines < found.shape[0]))
            inside_columns = np.flatnonzero((across >= 0) & (across < found.shape[1]))
            part = found[np.ix_(lines[inside_rows], across[inside_columns])]
            to = np.ix_(inside_rows, inside_columns)
            best[to] = np.maximum(best[to], part)
        return best

    made = _once(whole)

    def compute(left: int, top: int, right: int, bottom: int) -> Array:
        return made()[top:bottom, left:right]

    return EvidenceMap(name, label, "", "grey", columns, rows, compute, _level_frame(task.image, first), text)


def _once(make: Callable[[], Array]) -> Callable[[], Array]:
    kept: list[Array] = []

    def made() -> Array:
        if not kept:
            kept.append(make())
        return kept[0]

    return made


__all__ = ["Faces", "FacesParameters", "model"]
