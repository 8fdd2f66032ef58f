"""What `import lucid_finch` offers: the core's functions with paths resolved."""

from __future__ import annotations

from collections.abc import Callable, Iterator, Sequence
from pathlib import Path
from typing import Any, TypeVar

from numpy.typing import ArrayLike, NDArray

from lucid_finch.core.detection import Detection, EvidenceMap
from lucid_finch.core.detectors import detector_of
from lucid_finch.core.documentation import described
from lucid_finch.core.errors import Cancelled, FileError, ParameterError, within_memory
from lucid_finch.core.execution.engine import Engine, Run
from lucid_finch.core.explanation.explaining import Explanation, explain
from lucid_finch.core.image import Frame, Image
from lucid_finch.core.inspection.calibrating import calibrate as core_calibrate
from lucid_finch.core.inspection.calibration import Calibration as CoreCalibration
from lucid_finch.core.inspection.rectifying import rectification
from lucid_finch.core.numerics.runtime.threads import cancellable
from lucid_finch.core.outer import provide
from lucid_finch.core.prepare import step_of
from lucid_finch.core.recipe import MarkStyle, json_schema
from lucid_finch.core.table import Findings, NearMisses, Table
from lucid_finch.core.viewing.crops import crops_of
from lucid_finch.files import notebooks
from lucid_finch.files.annotated import write_annotated
from lucid_finch.files.assets import with_pictures
from lucid_finch.files.calibrations import Calibration
from lucid_finch.files.findings import write_csv, write_findings, write_svg
from lucid_finch.files.images import read_image
from lucid_finch.files.maps import write_image, write_map
from lucid_finch.files.recipes import Recipe
from lucid_finch.pipeline.cameras import is_camera
from lucid_finch.pipeline.live import camera_rounds
from lucid_finch.pipeline.sinks import save_run
from lucid_finch.pipeline.sources import Reader, SourceFrame, images_in

__all__ = [
    "Calibration",
    "Cancelled",
    "Detection",
    "Engine",
    "EvidenceMap",
    "Explanation",
    "FileError",
    "Findings",
    "Frame",
    "Image",
    "MarkStyle",
    "NearMisses",
    "ParameterError",
    "Recipe",
    "Run",
    "SourceFrame",
    "calibrate",
    "crops",
    "detect",
    "explain",
    "json_schema",
    "kinds",
    "open_source",
    "prepare",
    "read_image",
    "rectify",
    "run",
    "steps",
    "write_annotated",
    "write_csv",
    "write_findings",
    "write_image",
    "write_map",
    "write_svg",
]  # fmt: skip

ImageLike = Image | str | Path | ArrayLike
Progress = Callable[[int, int, str], None]
Cancel = Callable[[], bool]
Result = TypeVar("Result")


def _image(given: Any) -> Image:
    if isinstance(given, Image):
        return given
    return read_image(given) if isinstance(given, (str, Path)) else Image.from_array(given)


def crops(image: ImageLike, table: Table, size: int = 32, *, turned: bool = False, fitted: bool = False) -> NDArray[Any]:
    """Squares of an image around the rows of a table of findings: (n, size, size), or (n, size, size, 3) in colour, of the
    image's own type; 0 beyond the image.

    `turned`: so that each row's direction, or angle, points to the right. `fitted`: so that each finding, by its height
    or radius, fills the square. Raises `ParameterError`.

    >>> import lucid_finch as lf, numpy as np
    >>> picture = np.zeros((60, 60), np.uint8); picture[30:, 25:] = 200
    >>> lf.crops(picture, lf.detect("corners", picture).findings, size=16).shape
    (1, 16, 16)
    """
    return crops_of(_image(image), table, size, turned, fitted)


def open_source(source: str | Path, *, every: int = 1, recursive: bool = False, page: int | None = None) -> Iterator[SourceFrame]:
    """The images of a source, one after the other: a file, all its pages, a folder in natural order, a clip frame by frame, or a
    camera (`camera:simulated`, `camera:/dev/video0`, a URL), which gives its newest frame whenever one is asked for.

    `every`: of frames, only every so many. `page`: only this picture of each file. What is open is given back when the iterator
    ends or is closed. Raises `FileError`, `ParameterError`.

    >>> import lucid_finch as lf
    >>> frame = next(lf.open_source("camera:simulated?size=320x240"))
    >>> frame.image.width, frame.index
    (320, 0)
    """
    if is_camera(str(source)):
        for (place,) in camera_rounds(str(source), every=every):
            assert place.image is not None
            yield SourceFrame(place.image, place.page, place.time)
        return
    with Reader() as reader:
        for number, place in enumerate(images_in([Path(source)], recursive, page, page, every)):
            yield SourceFrame(reader.read(place), place.page if place.is_frame else number, place.time)


def calibrate(
    images: ImageLike | Sequence[ImageLike],
    target: str = "chessboard",
    *,
    columns: int | None = None,
    rows: int | None = None,
    pitch: float,
    line: Sequence[Sequence[float]] | None = None,
    name: str = "",
    progress: Progress | None = None,
    cancelled: Cancel | None = None,
) -> Calibration:
    """From pixels to millimetres: a calibration from one or several pictures of a `target`.

    `chessboard`: its inner corners, or `dots`: a grid of dots, `pitch` mm apart; tilted, partly hidden or cut by the border;
    `columns` and `rows` if known. Millimetres are of the target's plane in the first picture, from its first point, x along its
    columns. `line`: scale alone, from a line ((x1, y1), (x2, y2)), px, that is `pitch` mm long. Raises `ParameterError`,
    `FileError`, `Cancelled`.

    >>> import lucid_finch as lf, numpy as np
    >>> lf.calibrate(np.zeros((90, 120), np.uint8), "line", pitch=20.0, line=((10, 40), (110, 40)))
    <Calibration line: 0.2 mm/px, 0 px rms>
    """
    several = images if isinstance(images, (list, tuple)) else [images]
    read = [_image(image) for image in several]
    return Calibration.of(
        core_calibrate(
            read, target, columns=columns, rows=rows, pitch=pitch, line=line, name=name, progress=progress, cancelled=cancelled
        )
    )


def rectify(image: ImageLike, calibration: Calibration | str | Path, *, keep_perspective: bool = False) -> Image:
    """A picture as seen straight from above the calibrated plane; with `keep_perspective`, only without the lens's bending.

    Raises `ParameterError`, `FileError`.
    """
    return rectification(_calibration(calibration), not keep_perspective).picture(_image(image))


def _calibration(given: Any) -> CoreCalibration:
    return Calibration.load(given) if isinstance(given, (str, Path)) else given


def prepare(
    step: str, image: ImageLike, /, *, progress: Progress | None = None, cancelled: Cancel | None = None, **parameters: Any
) -> Image:
    """One preparation step. `image` may be a path or an array. Raises `ParameterError`, `FileError`, `Cancelled`.

    >>> import lucid_finch as lf, numpy as np
    >>> lf.prepare("smooth", np.zeros((8, 8), np.uint8), sigma=1.5)
    <Image 8 x 8 grey float32, 0 to 255>
    """
    chosen = step_of(step)
    made = chosen.Parameters.make(parameters, step)
    return _reported(step, progress, cancelled, lambda: chosen.run(_image(image), made))


def detect(
    kind: str,
    image: ImageLike,
    /,
    *,
    calibration: Calibration | str | Path | None = None,
    progress: Progress | None = None,
    cancelled: Cancel | None = None,
    **parameters: Any,
) -> Detection:
    """One detector on one image (a path, an array or an `Image`); colour is taken as luma.

    With a `calibration`, findings have columns in millimetres, too, and lengths may be given as such, as in "1.2mm".

    `progress` is called with how much is done, how much there is and the name of it; `cancelled` is asked now and then.
    Raises `ParameterError`, `FileError`, `Cancelled`.

    >>> import lucid_finch as lf, numpy as np
    >>> step = np.full((60, 80), 50, np.uint8); step[:, 40:] = 150
    >>> result = lf.detect("edges", step)
    >>> len(result.findings), round(float(result.findings["x"][0]), 2)
    (1, 39.5)
    """
    model = detector_of(kind).Parameters
    parameters, _, pictures = with_pictures(model, parameters, _image)
    made = model.make(parameters, kind)
    engine = Engine()
    plane = None if calibration is None else _calibration(calibration)

    def work() -> Detection:
        return engine.detect(kind, _image(image), made, cancelled=cancelled, assets=pictures, calibration=plane)

    return _reported(kind, progress, cancelled, work)


def run(
    recipe: Recipe | str | Path, image: ImageLike, /, *, progress: Progress | None = None, cancelled: Cancel | None = None
) -> Run:
    """A recipe, or the file of one, on one image. Raises `ParameterError`, `FileError`, `Cancelled`."""
    made = recipe if not isinstance(recipe, (str, Path)) else Recipe.load(recipe)
    return Engine().run(made, _image(image), progress, cancelled)


def kinds() -> dict[str, Any]:
    """Every kind of detector by name: its purpose, parameters and columns."""
    return dict(described()["detectors"])


def steps() -> dict[str, Any]:
    """Every preparation step by name: its purpose and parameters."""
    return dict(described()["steps"])


def _reported(name: str, progress: Progress | None, cancelled: Cancel | None, work: Callable[[], Result]) -> Result:
    """The result of one piece of work."""
    if progress is not None:
        progress(0, 1, name)
    if cancelled is not None and cancelled():
        raise Cancelled()
    with cancellable(cancelled), within_memory(name):
        result = work()
    if progress is not None:
        progress(1, 1, name)
    return result


def _save_detection(detection: Detection, folder: str | Path, outputs: Sequence[str]) -> list[Path]:
    found = notebooks.run_of(detection)
    return save_run(found, folder, outputs, found.image.name or detection.name)


provide(
    save_map=write_map,
    save_run=save_run,
    save_detection=_save_detection,
    image_png=notebooks.image_png,
    map_png=notebooks.map_png,
    run_html=notebooks.run_html,
    detection_html=notebooks.detection_html,
)
