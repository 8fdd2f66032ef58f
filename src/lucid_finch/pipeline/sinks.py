"""What is written of each run: the outputs by name, and one summary."""

from __future__ import annotations

import json
import re
from collections.abc import Callable, Iterable, Sequence
from dataclasses import dataclass
from pathlib import Path
from typing import Any

import numpy as np

from lucid_finch.core.detectors import KINDS
from lucid_finch.core.errors import FileError, ParameterError, nearest
from lucid_finch.core.execution.engine import Engine, Run
from lucid_finch.core.image import Image
from lucid_finch.core.inspection.margins import weakest_margin
from lucid_finch.core.recipe import DetectorEntry, Recipe
from lucid_finch.core.table import Table
from lucid_finch.core.viewing.crops import crops_of
from lucid_finch.files.annotated import write_annotated
from lucid_finch.files.findings import write_csv, write_findings, write_parquet, write_svg
from lucid_finch.files.maps import write_image, write_map, write_pages
from lucid_finch.pipeline.sources import RESULTS_APART, SUMMARY, Place

DEFAULT_OUTPUTS = ("findings", "csv")
OUTPUTS_OF_CLIPS = ("lines", "table")
"""Of clips, unless told otherwise: files of each frame would be thousands."""
_HEAD = 65_536
"""Bytes of a findings file in which its recipe is named."""


@dataclass(frozen=True)
class Outputs:
    """What is written of each image."""

    kinds: tuple[str, ...] = DEFAULT_OUTPUTS
    """Names of `OUTPUTS`."""
    maps: tuple[str, ...] = ()
    """Maps besides those of `maps`, each as DETECTOR.NAME; the name `prepared` is the image that the detector sees."""
    map_format: str = "png"
    crop_size: int = 32
    """px of the squares around findings."""
    crop_turned: bool = False
    """Whether they are turned along the direction of each finding."""
    crop_fitted: bool = False
    """Whether each finding fills its square."""
    clip_format: str = "mkv"
    """Ending of clips: mkv, without loss, or webm."""
    overwrite: bool = False
    """Whether results of another recipe are replaced."""

    @property
    def makes_tables(self) -> bool:
        """Whether the findings of all images go into one table."""
        return "table" in self.kinds or "table-parquet" in self.kinds

    @property
    def makes_clips(self) -> bool:
        """Whether frames are put together to clips."""
        return "clip" in self.kinds or "map-clip" in self.kinds

    @staticmethod
    def named(kinds: Sequence[str], **others: Any) -> Outputs:
        """Raises `ParameterError` for an unknown kind of output."""
        known = (*OUTPUTS, *RUN_OUTPUTS)
        for kind in kinds:
            if kind not in known:
                listed = ", ".join(known)
                raise ParameterError(f'outputs: "{kind}" is not known{nearest(kind, known)}; there are: {listed}', "outputs")
        return Outputs(tuple(dict.fromkeys(kinds)), **others)


@dataclass(frozen=True)
class _Target:
    """One run and where its files go."""

    run: Run
    out: Path
    name: str
    image_path: str | Path | None
    outputs: Outputs
    time: float | None = None

    def path(self, ending: str) -> Path:
        return self.out / f"{self.name}.{ending}"

    def tables(self) -> dict[str, Table]:
        """Findings by detector and by merged list, under names that files can have."""
        merged = {combined.name: combined.findings for combined in self.run.combined}
        found: dict[str, Table] = {name: detection.findings for name, detection in self.run.detections.items()}
        names = file_names([*(entry.name for entry in self.run.recipe.detectors), *merged])
        return {names[name]: table for name, table in (found | merged).items()}

    def maps(self, wanted: Iterable[str]) -> list[Path]:
        names = file_names([entry.name for entry in self.run.recipe.detectors])
        written = []
        for one in wanted:
            detector, _, map_name = one.rpartition(".")
            path = self.path(f"{names[detector]}.{map_name}.{self.outputs.map_format}")
            detection = self.run.detections[detector]
            if map_name == "prepared":
                write_image(path, detection.task.image)
            else:
                write_map(path, detection.evidence[map_name])
            written.append(path)
        return written


def _findings(target: _Target) -> list[Path]:
    path = target.path("findings.json")
    write_findings(path, target.run, target.image_path, target.time)
    return [path]


def _csv(target: _Target) -> list[Path]:
    return [_written(target.path(f"{name}.csv"), write_csv, table) for name, table in target.tables().items()]


def _parquet(target: _Target) -> list[Path]:
    return [_written(target.path(f"{name}.parquet"), write_parquet, table) for name, table in target.tables().items()]


def _svg(target: _Target) -> list[Path]:
    return [_written(target.path("svg"), write_svg, target.run)]


def _annotated(target: _Target) -> list[Path]:
    return [_written(target.path("annotated.png"), write_annotated, target.run)]


def _maps(target: _Target) -> list[Path]:
    return target.maps(f"{name}.{one}" for name, d in target.run.detections.items() for one in d.main_maps if one in d.evidence)


def _crops(target: _Target) -> list[Path]:
    """A TIFF a detector, a page a finding, in the order of its table; none where there are no findings."""
    written = []
    for name, table in target.tables().items():
        if len(table):
            asked = target.outputs
            pictures = crops_of(target.run.image, table, asked.crop_size, asked.crop_turned, asked.crop_fitted)
            written.append(_written(target.path(f"{name}.crops.tif"), write_pages, pictures))
    return written


def _written(path: Path, write: Callable[[Path, Any], None], what: Any) -> Path:
    write(path, what)
    return path


OUTPUTS: dict[str, Callable[[_Target], list[Path]]] = {
    "findings": _findings, "csv": _csv, "parquet": _parquet, "svg": _svg, "annotated": _annotated, "maps": _maps,
    "crops": _crops,
}  # fmt: skip
"""Every kind of output and what writes it: the findings file, a table a detector, the overlay, the picture with marks, the main
maps of each detector, squares of the image around findings."""

RUN_OUTPUTS = ("table", "table-parquet", "lines", "clip", "map-clip")
"""What is written of the whole run: one table a detector of the findings of all images, all findings files as lines of one, the
frames with marks and the frames of maps as clips."""


def clip_maps(run: Run, outputs: Outputs) -> list[tuple[str, str]]:
    """Detector and map of each clip of maps: those that are named, else what each detector makes (edges), or its main map."""
    if outputs.maps:
        return [(one.rpartition(".")[0], one.rpartition(".")[2]) for one in outputs.maps]
    found = run.detections.items()
    return [(name, d.kind if d.kind in d.evidence else d.main_maps[0]) for name, d in found if d.main_maps]


def write_results(
    run: Run,
    out: Path,
    name: str,
    image_path: str | Path | None = None,
    outputs: Outputs | None = None,
    time: float | None = None,
) -> list[Path]:
    """Write a run into a folder, as files whose names begin with `name`; returns them. Raises `FileError`, `ParameterError`."""
    outputs = outputs or Outputs()
    check_maps(run.recipe, outputs.maps)
    target = _Target(run, out, name, image_path, outputs, time)
    if not outputs.overwrite:
        _refuse_other_recipe(target.path("findings.json"), run.recipe)
    written = [path for kind in outputs.kinds if kind in OUTPUTS for path in OUTPUTS[kind](target)]
    return list(dict.fromkeys([*written, *(target.maps(outputs.maps) if "map-clip" not in outputs.kinds else ())]))


def planned_files(recipe: Recipe, name: str, outputs: Outputs) -> list[str]:
    """Names of the files that `write_results` writes."""
    running = [entry.name for entry in recipe.running]
    names = file_names([*(entry.name for entry in recipe.detectors), *(" + ".join(group) for group in recipe.combine)])
    tables = [names[one] for one in (*running, *(" + ".join(group) for group in recipe.combine))]
    maps = [f"{names[entry.name]}.{one}" for entry in recipe.running for one in KINDS[entry.kind].main_maps]
    endings = {
        "findings": ["findings.json"],
        "csv": [f"{table}.csv" for table in tables],
        "parquet": [f"{table}.parquet" for table in tables],
        "svg": ["svg"],
        "annotated": ["annotated.png"],
        "maps": [f"{one}.{outputs.map_format}" for one in maps],
        "crops": [f"{table}.crops.tif" for table in tables],
    }
    return [f"{name}.{ending}" for kind in outputs.kinds for ending in endings.get(kind, ())]


def save_run(run: Run, folder: str | Path, outputs: Sequence[str], name: str = "", image_path: str | Path = "") -> list[Path]:
    """`Run.save`. Raises `ParameterError`, `FileError`."""
    if isinstance(outputs, str):
        outputs = [part.strip() for part in outputs.split(",")]
    return write_results(run, Path(folder), name or run.image.name or "image", image_path or None, Outputs.named(outputs))


def _refuse_other_recipe(path: Path, recipe: Recipe) -> None:
    """Raises `FileError` where a findings file of a recipe with another name exists."""
    if not path.is_file():
        return
    with path.open("rb") as stream:
        head = stream.read(_HEAD).decode("utf-8", "replace")
    found = re.search(r'"recipe": \{\s*"name":\s*("(?:[^"\\]|\\.)*")', head)
    if found is None:
        return
    name = json.loads(found[1])
    if name != recipe.name:
        raise FileError(path, f'holds results of the recipe "{name}"; choose another folder, or allow it to be overwritten')


def check_maps(recipe: Recipe, maps: Sequence[str]) -> None:
    """Raises `ParameterError` for a map that no detector of the recipe has; found out on a small image, before the work."""
    entries = {entry.name: entry for entry in recipe.running}
    for wanted in maps:
        detector, _, name = wanted.rpartition(".")
        if detector not in entries:
            raise ParameterError(
                f'--save-map: "{wanted}" names no detector of the recipe{nearest(detector, entries)}; '
                f"write DETECTOR.NAME with one of: {', '.join(entries)}"
            )
        known = _map_names(entries[detector])
        if known and name not in known:
            raise ParameterError(
                f'--save-map: detector {detector} has no map "{name}"{nearest(name, known)}; there are: {", ".join(known)}'
            )


def _map_names(entry: DetectorEntry) -> list[str]:
    """Names of the maps of a detector; none where only a run on the real image can tell."""
    steps = np.arange(64, dtype=np.uint8)
    small = Image.from_array(np.add.outer(steps, steps))
    try:
        evidence = Engine().detect(entry.kind, small, entry.made_parameters()).evidence
    except ParameterError:
        return []
    return [*evidence, "prepared"]


def file_names(names: Iterable[str]) -> dict[str, str]:
    """Each name as part of a file's name: letters, digits, - and _; different names stay different, whatever their order."""
    plain: dict[str, list[str]] = {}
    for name in dict.fromkeys(names):
        safe = "".join(c if c.isalnum() or c in "-_" else "_" for c in name)
        plain.setdefault(safe, []).append(name)
    found = {}
    for safe, same in plain.items():
        for number, name in enumerate(sorted(same), 1):
            found[name] = safe if len(same) == 1 else f"{safe}-{number}"
    return found


def summary_rows(place: Place, run: Run, written: Sequence[Path], out: Path) -> list[dict[str, Any]]:
    """The rows of one image: one a detector, one a merged list."""
    missed = {unmet.detector for unmet in run.unmet}
    calibration = run.recipe.calibration
    common = _common(place) | {
        "recipe": run.recipe.name,
        "results": RESULTS_APART.join(str(path.relative_to(out)) for path in written),
        "calibration": (calibration.name or calibration.sha256[:12]) if calibration is not None else "",
    }
    rows = [
        common
        | {
            "detector": name,
            "kind": d.kind,
            "findings": len(d.findings),
            "near_misses": len(d.near_misses),
            "met": "no" if name in missed else "yes",
            "seconds": f"{d.seconds:.4f}",
            "margin": weakest_margin(d),
        }
        for name, d in run.detections.items()
    ]
    return rows + [common | {"detector": c.name, "kind": "merged", "findings": len(c.findings)} for c in run.combined]


def failure_row(place: Place, failure: str) -> dict[str, Any]:
    """The row of an image that failed."""
    return _common(place) | {"error": failure}


def _common(place: Place) -> dict[str, Any]:
    return dict[str, Any](dict.fromkeys(SUMMARY, "")) | {
        "image": str(place.path), "page": place.page, "time": "" if place.time is None else place.time,
    }  # fmt: skip
