"""What `import lucid_finch` offers, typed; made by `lucid-finch kinds --stub`, do not edit by hand."""

from collections.abc import Callable, Mapping, Sequence
from pathlib import Path
from typing import Any, Literal, overload

import numpy as np
from numpy.typing import NDArray

from lucid_finch.api import calibrate as calibrate
from lucid_finch.api import crops as crops
from lucid_finch.api import open_source as open_source
from lucid_finch.api import rectify as rectify
from lucid_finch.core.detection import Detection as Detection
from lucid_finch.core.detection import EvidenceMap as EvidenceMap
from lucid_finch.core.errors import Cancelled as Cancelled
from lucid_finch.core.errors import FileError as FileError
from lucid_finch.core.errors import ParameterError as ParameterError
from lucid_finch.core.execution.engine import Engine as Engine
from lucid_finch.core.execution.engine import Run as Run
from lucid_finch.core.explanation.explaining import Explanation as Explanation
from lucid_finch.core.explanation.explaining import explain as explain
from lucid_finch.core.image import Frame as Frame
from lucid_finch.core.image import Image as Image
from lucid_finch.core.recipe import MarkStyle as MarkStyle
from lucid_finch.core.recipe import json_schema as json_schema
from lucid_finch.core.table import Findings as Findings
from lucid_finch.core.table import NearMisses as NearMisses
from lucid_finch.files.annotated import write_annotated as write_annotated
from lucid_finch.files.calibrations import Calibration as Calibration
from lucid_finch.files.findings import write_csv as write_csv
from lucid_finch.files.findings import write_findings as write_findings
from lucid_finch.files.findings import write_svg as write_svg
from lucid_finch.files.images import read_image as read_image
from lucid_finch.files.maps import write_image as write_image
from lucid_finch.files.maps import write_map as write_map
from lucid_finch.files.recipes import Recipe as Recipe
from lucid_finch.pipeline.sources import SourceFrame as SourceFrame

__version__: str

Kind = Literal["edges", "edge_scan", "contours", "lines", "circles", "ellipses", "corners", "blobs", "templates", "faces"]
Step = Literal["channel", "contrast_axis", "tone", "flatten", "smooth", "sharpen", "derivative", "kernel", "crop", "resize", "rotate", "morphology"]
ImageLike = Image | str | Path | NDArray[Any] | np.ma.MaskedArray[Any, Any]


@overload
def prepare(
    step: Literal["channel"],
    image: ImageLike,
    /,
    *,
    take: Literal["luma", "luma709", "mean", "red", "green", "blue", "hue", "saturation", "value", "lightness", "a", "b", "weights"] = ...,
    weights: Sequence[float] | None = ...,
    progress: Callable[[int, int, str], None] | None = ...,
    cancelled: Callable[[], bool] | None = ...,
) -> Image:
    """Turn colour to one channel."""

@overload
def prepare(
    step: Literal["contrast_axis"],
    image: ImageLike,
    /,
    *,
    inside: Mapping[str, Any],
    outside: Mapping[str, Any],
    progress: Callable[[int, int, str], None] | None = ...,
    cancelled: Callable[[], bool] | None = ...,
) -> Image:
    """Turn colour to the axis on which an object differs most from its surroundings."""

@overload
def prepare(
    step: Literal["tone"],
    image: ImageLike,
    /,
    *,
    gamma: float = ...,
    black_pct: float = ...,
    white_pct: float = ...,
    invert: bool = ...,
    progress: Callable[[int, int, str], None] | None = ...,
    cancelled: Callable[[], bool] | None = ...,
) -> Image:
    """Stretch, bend or invert the grey levels."""

@overload
def prepare(
    step: Literal["flatten"],
    image: ImageLike,
    /,
    *,
    method: Literal["median", "gaussian", "polynomial"] = ...,
    size: float | str = ...,
    by: Literal["division", "difference"] = ...,
    progress: Callable[[int, int, str], None] | None = ...,
    cancelled: Callable[[], bool] | None = ...,
) -> Image:
    """Remove uneven light."""

@overload
def prepare(
    step: Literal["smooth"],
    image: ImageLike,
    /,
    *,
    border: Literal["mirror", "replicate", "constant", "trim"] = ...,
    method: Literal["gaussian", "box", "median", "bilateral"] = ...,
    sigma: float = ...,
    size: int = ...,
    range_pct: float = ...,
    progress: Callable[[int, int, str], None] | None = ...,
    cancelled: Callable[[], bool] | None = ...,
) -> Image:
    """Reduce noise."""

@overload
def prepare(
    step: Literal["sharpen"],
    image: ImageLike,
    /,
    *,
    border: Literal["mirror", "replicate", "constant", "trim"] = ...,
    sigma: float = ...,
    amount: float = ...,
    progress: Callable[[int, int, str], None] | None = ...,
    cancelled: Callable[[], bool] | None = ...,
) -> Image:
    """Add again what smoothing would take away; noise grows too."""

@overload
def prepare(
    step: Literal["derivative"],
    image: ImageLike,
    /,
    *,
    border: Literal["mirror", "replicate", "constant", "trim"] = ...,
    of: Literal["x", "y", "magnitude", "xx", "yy", "laplacian"] = ...,
    sigma: float = ...,
    size: int | None = ...,
    progress: Callable[[int, int, str], None] | None = ...,
    cancelled: Callable[[], bool] | None = ...,
) -> Image:
    """How fast the grey level changes: slopes and curvature, signed."""

@overload
def prepare(
    step: Literal["kernel"],
    image: ImageLike,
    /,
    *,
    border: Literal["mirror", "replicate", "constant", "trim"] = ...,
    coefficients: Sequence[Sequence[float]] = ...,
    divide_by: float | None = ...,
    progress: Callable[[int, int, str], None] | None = ...,
    cancelled: Callable[[], bool] | None = ...,
) -> Image:
    """A weighted sum of each pixel's neighbours, with coefficients of your own."""

@overload
def prepare(
    step: Literal["crop"],
    image: ImageLike,
    /,
    *,
    region: Mapping[str, Any],
    progress: Callable[[int, int, str], None] | None = ...,
    cancelled: Callable[[], bool] | None = ...,
) -> Image:
    """Keep a part of the image; positions stay those of the source."""

@overload
def prepare(
    step: Literal["resize"],
    image: ImageLike,
    /,
    *,
    factor: float | None = ...,
    width: int | None = ...,
    height: int | None = ...,
    width_max: int | None = ...,
    height_max: int | None = ...,
    progress: Callable[[int, int, str], None] | None = ...,
    cancelled: Callable[[], bool] | None = ...,
) -> Image:
    """Fewer or more pixels; results keep the coordinates of the source."""

@overload
def prepare(
    step: Literal["rotate"],
    image: ImageLike,
    /,
    *,
    angle: float = ...,
    expand: bool = ...,
    progress: Callable[[int, int, str], None] | None = ...,
    cancelled: Callable[[], bool] | None = ...,
) -> Image:
    """Rotate the image; results keep the coordinates of the source."""

@overload
def prepare(
    step: Literal["morphology"],
    image: ImageLike,
    /,
    *,
    border: Literal["mirror", "replicate", "constant", "trim"] = ...,
    operation: Literal["open", "close", "erode", "dilate", "gradient", "top_hat", "bottom_hat"] = ...,
    shape: Literal["disc", "square", "line"] = ...,
    size: int = ...,
    angle: float = ...,
    progress: Callable[[int, int, str], None] | None = ...,
    cancelled: Callable[[], bool] | None = ...,
) -> Image:
    """Remove, fill or outline what is smaller than a shape."""

@overload
def detect(
    kind: Literal["edges"],
    image: ImageLike,
    /,
    *,
    region: Mapping[str, Any] | None = ...,
    keep: int | None = ...,
    sort: str = ...,
    operator: Literal["gaussian", "sobel", "scharr", "prewitt", "difference"] = ...,
    sigma: float | None = ...,
    low: float | None = ...,
    high: float | None = ...,
    false_alarms: float = ...,
    length_min: float | str = ...,
    subpixel: bool = ...,
    calibration: Calibration | str | Path | None = ...,
    progress: Callable[[int, int, str], None] | None = ...,
    cancelled: Callable[[], bool] | None = ...,
) -> Detection:
    """Where grey levels change fastest: ordered chains of sub-pixel points."""

@overload
def detect(
    kind: Literal["edge_scan"],
    image: ImageLike,
    /,
    *,
    region: Mapping[str, Any] | None = ...,
    keep: int | None = ...,
    sort: str = ...,
    spacing: float = ...,
    average: int | None = ...,
    sigma: float = ...,
    pick: Literal["first", "last", "strongest", "all"] = ...,
    polarity: Literal["rising", "falling", "either"] = ...,
    strength_min: float | None = ...,
    fit: Literal["none", "line", "circle", "polynomial"] | None = ...,
    degree: int = ...,
    outliers: Literal["none", "ransac", "median", "huber"] = ...,
    outlier_limit: float | None = ...,
    reference: float = ...,
    reference_line: str | None = ...,
    calibration: Calibration | str | Path | None = ...,
    progress: Callable[[int, int, str], None] | None = ...,
    cancelled: Callable[[], bool] | None = ...,
) -> Detection:
    """One boundary along many scan lines, with a robust line, circle or polynomial through it."""

@overload
def detect(
    kind: Literal["contours"],
    image: ImageLike,
    /,
    *,
    region: Mapping[str, Any] | None = ...,
    keep: int | None = ...,
    sort: str = ...,
    binarize: Literal["fixed", "otsu", "local", "hysteresis", "edges", "iso"] | None = ...,
    level: float | None = ...,
    window: int | None = ...,
    offset_pct: float | None = ...,
    sigma: float | None = ...,
    foreground: Literal["dark", "bright"] | None = ...,
    nesting: Literal["outermost", "all"] = ...,
    points: Literal["subpixel", "all", "ends"] = ...,
    area: Sequence[float | None] | tuple[float | str | None, float | str | None] | None = ...,
    circularity_min: float | None = ...,
    solidity_min: float | None = ...,
    support_min: float | None = ...,
    contrast_min: float | None = ...,
    drop_frame: bool = ...,
    simplify: float | None = ...,
    calibration: Calibration | str | Path | None = ...,
    progress: Callable[[int, int, str], None] | None = ...,
    cancelled: Callable[[], bool] | None = ...,
) -> Detection:
    """Outlines of what is darker or brighter than its surroundings: nesting, size, centre, shape."""

@overload
def detect(
    kind: Literal["lines"],
    image: ImageLike,
    /,
    *,
    region: Mapping[str, Any] | None = ...,
    keep: int | None = ...,
    sort: str = ...,
    sigma: float | None = ...,
    angle_step: float = ...,
    offset_step: float = ...,
    angles: Sequence[float | None] | tuple[float | str | None, float | str | None] | None = ...,
    bridge: float | str | None = ...,
    pair: bool | None = ...,
    extent: Literal["segments", "full"] = ...,
    false_alarms: float = ...,
    length_min: float | str = ...,
    coverage_min: float | None = ...,
    bow_max: float = ...,
    sharpness_min: float = ...,
    calibration: Calibration | str | Path | None = ...,
    progress: Callable[[int, int, str], None] | None = ...,
    cancelled: Callable[[], bool] | None = ...,
) -> Detection:
    """Straight edges and strokes, broken and dashed ones joined."""

@overload
def detect(
    kind: Literal["circles"],
    image: ImageLike,
    /,
    *,
    region: Mapping[str, Any] | None = ...,
    keep: int | None = ...,
    sort: str = ...,
    radius: Sequence[float | None] | tuple[float | str | None, float | str | None] | None = ...,
    sigma: float | None = ...,
    polarity: Literal["dark", "bright", "either"] = ...,
    false_alarms: float = ...,
    coverage_min: float | None = ...,
    roundness_min: float = ...,
    deviation_max: float = ...,
    turning_min: float = ...,
    contrast_min_pct: float = ...,
    spacing: float = ...,
    calibration: Calibration | str | Path | None = ...,
    progress: Callable[[int, int, str], None] | None = ...,
    cancelled: Callable[[], bool] | None = ...,
) -> Detection:
    """Discs, holes and rings over a whole range of radii, dark and bright, hidden up to half."""

@overload
def detect(
    kind: Literal["ellipses"],
    image: ImageLike,
    /,
    *,
    region: Mapping[str, Any] | None = ...,
    keep: int | None = ...,
    sort: str = ...,
    axis: Sequence[float | None] | tuple[float | str | None, float | str | None] | None = ...,
    ratio_min: float = ...,
    sigma: float | None = ...,
    polarity: Literal["dark", "bright", "either"] = ...,
    false_alarms: float = ...,
    coverage_min: float | None = ...,
    roundness_min: float = ...,
    deviation_max: float = ...,
    turning_min: float = ...,
    contrast_min_pct: float = ...,
    spacing: float = ...,
    calibration: Calibration | str | Path | None = ...,
    progress: Callable[[int, int, str], None] | None = ...,
    cancelled: Callable[[], bool] | None = ...,
) -> Detection:
    """Oval rims and circles seen at a slant, of any direction, dark and bright, hidden up to half."""

@overload
def detect(
    kind: Literal["corners"],
    image: ImageLike,
    /,
    *,
    region: Mapping[str, Any] | None = ...,
    keep: int | None = ...,
    sort: str = ...,
    response: Literal["harris", "min_eigenvalue", "foerstner"] = ...,
    k: float = ...,
    sigma_gradient: float | None = ...,
    sigma_window: float | None = ...,
    false_alarms: float = ...,
    strength_min_pct: float = ...,
    isotropy_min: float = ...,
    spacing: float = ...,
    spread: bool = ...,
    subpixel: bool = ...,
    calibration: Calibration | str | Path | None = ...,
    progress: Callable[[int, int, str], None] | None = ...,
    cancelled: Callable[[], bool] | None = ...,
) -> Detection:
    """Points where edges meet, as sub-pixel places for matching, recognition and calibration."""

@overload
def detect(
    kind: Literal["blobs"],
    image: ImageLike,
    /,
    *,
    region: Mapping[str, Any] | None = ...,
    keep: int | None = ...,
    sort: str = ...,
    method: Literal["scale_space", "components"] = ...,
    radius: Sequence[float | None] | tuple[float | str | None, float | str | None] | None = ...,
    polarity: Literal["dark", "bright", "either"] = ...,
    operator: Literal["laplacian", "determinant"] = ...,
    false_alarms: float = ...,
    contrast_min_pct: float = ...,
    eccentricity_max: float = ...,
    overlap_max: float = ...,
    binarize: Literal["fixed", "otsu", "local", "hysteresis", "edges", "iso"] | None = ...,
    level: float | None = ...,
    area: Sequence[float | None] | tuple[float | str | None, float | str | None] | None = ...,
    circularity_min: float | None = ...,
    solidity_min: float | None = ...,
    perimeter: Sequence[float | None] | tuple[float | str | None, float | str | None] | None = ...,
    drop_frame: bool = ...,
    calibration: Calibration | str | Path | None = ...,
    progress: Callable[[int, int, str], None] | None = ...,
    cancelled: Callable[[], bool] | None = ...,
) -> Detection:
    """Spots, pinholes and grains over a range of sizes, dark and bright, also on textured ground."""

@overload
def detect(
    kind: Literal["templates"],
    image: ImageLike,
    /,
    *,
    region: Mapping[str, Any] | None = ...,
    keep: int | None = ...,
    sort: str = ...,
    template: ImageLike | None = ...,
    outline: Mapping[str, Any] | None = ...,
    mask: ImageLike | None = ...,
    reference: Sequence[float] | None = ...,
    similarity: Literal["intensity", "gradient"] = ...,
    rotation: Sequence[float | None] | tuple[float | str | None, float | str | None] = ...,
    scale: Sequence[float | None] | tuple[float | str | None, float | str | None] = ...,
    polarity: Literal["same", "either"] = ...,
    score_min: float = ...,
    visible_min: float = ...,
    false_alarms: float = ...,
    overlap_max: float = ...,
    calibration: Calibration | str | Path | None = ...,
    progress: Callable[[int, int, str], None] | None = ...,
    cancelled: Callable[[], bool] | None = ...,
) -> Detection:
    """Places of a taught pattern, turned, scaled and partly hidden."""

@overload
def detect(
    kind: Literal["faces"],
    image: ImageLike,
    /,
    *,
    region: Mapping[str, Any] | None = ...,
    keep: int | None = ...,
    sort: str = ...,
    size: Sequence[float | None] | tuple[float | str | None, float | str | None] | None = ...,
    score_min: float = ...,
    sigma: float | None = ...,
    overlap_max: float = ...,
    calibration: Calibration | str | Path | None = ...,
    progress: Callable[[int, int, str], None] | None = ...,
    cancelled: Callable[[], bool] | None = ...,
) -> Detection:
    """Faces of people, of every size, for counting or for a recogniser."""

def run(
    recipe: Recipe | str | Path,
    image: ImageLike,
    /,
    *,
    progress: Callable[[int, int, str], None] | None = ...,
    cancelled: Callable[[], bool] | None = ...,
) -> Run: ...
def kinds() -> dict[Kind, dict[str, Any]]: ...
def steps() -> dict[Step, dict[str, Any]]: ...
__all__ = ["Calibration", "Cancelled", "Detection", "Engine", "EvidenceMap", "Explanation", "FileError", "Findings", "Frame", "Image", "MarkStyle", "NearMisses", "ParameterError", "Recipe", "Run", "SourceFrame", "calibrate", "crops", "detect", "explain", "json_schema", "kinds", "open_source", "prepare", "read_image", "rectify", "run", "steps", "write_annotated", "write_csv", "write_findings", "write_image", "write_map", "write_svg"]
