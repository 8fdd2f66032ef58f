"""What is written of each run: findings, tables, overlays, annotated pictures, maps, and one summary."""

from __future__ import annotations

from collections.abc import Iterable, Sequence
from pathlib import Path
from typing import Any

from lucid_finch.core.detection import Table
from lucid_finch.core.errors import ParameterError, nearest
from lucid_finch.core.execution.engine import Run
from lucid_finch.core.recipe import Recipe
from lucid_finch.files.annotated import write_annotated
from lucid_finch.files.findings import write_csv, write_findings, write_svg
from lucid_finch.files.maps import write_image, write_map
from lucid_finch.pipeline.sources import SUMMARY


def write_results(
    run: Run, image_path: str | Path | None, out: Path, maps: Sequence[str], map_format: str, name: str
) -> list[Path]:
    """Findings file, a CSV per detector and per merged list, SVG overlay, annotated PNG, maps asked for; returns the files."""
    check_maps(run.recipe, maps)
    written = [out / f"{name}.findings.json", out / f"{name}.svg", out / f"{name}.annotated.png"]
    write_findings(written[0], run, image_path)
    write_svg(written[1], run)
    write_annotated(written[2], run)
    tables: dict[str, Table] = {d: detection.findings for d, detection in run.detections.items()}
    tables |= {combined.name: combined.findings for combined in run.combined}
    names = file_names([*(entry.name for entry in run.recipe.detectors), *(combined.name for combined in run.combined)])
    for detector, table in tables.items():
        written.append(out / f"{name}.{names[detector]}.csv")
        write_csv(written[-1], table)
    return [*written, *write_maps(run, out, maps, map_format, name)]


def write_maps(run: Run, out: Path, maps: Sequence[str], map_format: str, name: str) -> list[Path]:
    """The maps asked for, each as DETECTOR.NAME; the name `prepared` is the image that the detector sees."""
    check_maps(run.recipe, maps)
    names = file_names([entry.name for entry in run.recipe.detectors])
    written = []
    for wanted in maps:
        detector, _, map_name = wanted.rpartition(".")
        path = out / f"{name}.{names[detector]}.{map_name}.{map_format}"
        detection = run.detections[detector]
        if map_name == "prepared":
            write_image(path, detection.task.image)
        else:
            write_map(path, detection.evidence[map_name])
        written.append(path)
    return written


def check_maps(recipe: Recipe, maps: Sequence[str]) -> None:
    """Raises `ParameterError` for a map of a detector that is not in the recipe."""
    names = [entry.name for entry in recipe.running]
    for wanted in maps:
        detector = wanted.rpartition(".")[0]
        if detector not in names:
            raise ParameterError(
                f'--save-map: "{wanted}" names no detector of the recipe{nearest(detector, names)}; '
                f"write DETECTOR.NAME with one of: {', '.join(names)}"
            )


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


def image_names(paths: Sequence[Path]) -> list[str]:
    """A name for the output of each image: its stem, made different where two images share it."""
    names: list[str] = []
    for path in paths:
        name = path.stem
        if name in names:
            name = path.name.replace(".", "_")
        number = 2
        while name in names:
            name, number = f"{path.stem}_{number}", number + 1
        names.append(name)
    return names


def summary_rows(path: Path, run: Run) -> list[dict[str, Any]]:
    """The rows of one image."""
    missed = {unmet.detector for unmet in run.unmet}
    rows = [
        {
            "image": str(path),
            "detector": name,
            "kind": d.kind,
            "findings": len(d.findings),
            "near_misses": len(d.near_misses),
            "met": "no" if name in missed else "yes",
            "error": "",
            "seconds": f"{d.seconds:.4f}",
        }
        for name, d in run.detections.items()
    ]
    empty = dict.fromkeys(SUMMARY, "")
    return rows + [
        empty | {"image": str(path), "detector": c.name, "kind": "merged", "findings": len(c.findings)} for c in run.combined
    ]


def failure_row(path: Path, failure: str) -> dict[str, Any]:
    """The row of an image that failed."""
    return dict.fromkeys(SUMMARY, "") | {"image": str(path), "error": failure}
