"""Runs recipes over many images and writes everything that goes downstream."""

from __future__ import annotations

from collections.abc import Sequence
from pathlib import Path
from typing import Any

import click
from rich.console import Console
from rich.progress import BarColumn, MofNCompleteColumn, Progress, TextColumn, TimeRemainingColumn

from lucid_finch.core.engine import Engine, Run
from lucid_finch.core.errors import FileError, ParameterError, nearest
from lucid_finch.files.annotated import write_annotated
from lucid_finch.files.findings import write_csv, write_findings, write_rows, write_svg
from lucid_finch.files.images import ENDINGS, read_image
from lucid_finch.files.maps import write_image, write_map
from lucid_finch.files.recipes import ENDING, Recipe
from lucid_finch.files.writing import write_text

_SUMMARY = ("image", "detector", "kind", "findings", "near_misses", "met", "error", "seconds")


def write_results(
    run: Run, image_path: str | Path | None, out: Path, maps: Sequence[str], map_format: str, name: str
) -> list[Path]:
    """Findings file, a CSV a detector and a merged list, SVG overlay, annotated PNG, maps asked for; returns what was written."""
    check_maps(run.recipe, maps)
    written = [out / f"{name}.findings.json", out / f"{name}.svg", out / f"{name}.annotated.png"]
    write_findings(written[0], run, image_path)
    write_svg(written[1], run)
    write_annotated(written[2], run)
    for detector, detection in run.detections.items():
        path = out / f"{name}.{_safe(detector)}.csv"
        write_csv(path, detection.findings)
        written.append(path)
    for combined in run.combined:
        path = out / f"{name}.{_safe(combined.name)}.csv"
        write_csv(path, combined.findings)
        written.append(path)
    return [*written, *write_maps(run, out, maps, map_format, name)]


def write_maps(run: Run, out: Path, maps: Sequence[str], map_format: str, name: str) -> list[Path]:
    """The maps asked for, each as DETECTOR.NAME; the name `prepared` is the image that the detector sees."""
    check_maps(run.recipe, maps)
    written = []
    for wanted in maps:
        detector, _, map_name = wanted.rpartition(".")
        path = out / f"{name}.{_safe(detector)}.{map_name}.{map_format}"
        detection = run.detections[detector]
        if map_name == "prepared":
            write_image(path, detection.work.image)
        else:
            write_map(path, detection.evidence[map_name])
        written.append(path)
    return written


def check_maps(recipe: Recipe | Any, maps: Sequence[str]) -> None:
    """Raises `ParameterError` for a map asked of a detector that the recipe has not."""
    names = [entry.name for entry in recipe.running]
    for wanted in maps:
        detector = wanted.rpartition(".")[0]
        if detector not in names:
            raise ParameterError(
                f'--save-map: "{wanted}" names no detector of the recipe{nearest(detector, names)}; '
                f"write DETECTOR.NAME with one of: {', '.join(names)}"
            )


def _safe(name: str) -> str:
    return "".join(c if c.isalnum() or c in "-_" else "_" for c in name)


def expanded(images: Sequence[str]) -> list[Path]:
    """The paths, folders replaced by the pictures in them, sorted."""
    found: list[Path] = []
    for given in map(Path, images):
        if given.is_dir():
            found += sorted(p for p in given.iterdir() if p.suffix.lower() in ENDINGS and not p.name.startswith("."))
        else:
            found.append(given)
    return found


def _names(paths: Sequence[Path]) -> list[str]:
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


def run_batch(
    recipe: Recipe,
    images: Sequence[str],
    out: Path,
    maps: Sequence[str],
    map_format: str,
    significant_bits: int | None = None,
) -> tuple[int, int]:
    """Every image through the recipe; one that fails is named and the others are done. Returns (failed, unmet)."""
    check_maps(recipe, maps)
    paths = expanded(images)
    if not paths:
        raise ParameterError(f"no image was found in {', '.join(images)}")
    engine = Engine()
    rows: list[dict[str, Any]] = []
    failed = unmet = 0
    with _progress() as progress:
        task = progress.add_task(recipe.name or "recipe", total=len(paths))
        for path, name in zip(paths, _names(paths), strict=True):
            try:
                result = engine.run(recipe, read_image(path, significant_bits=significant_bits))
                write_results(result, path, out, maps, map_format, name)
            except (FileError, ParameterError, MemoryError) as error:
                failed += 1
                text = str(error) if isinstance(error, FileError) else f"{path}: {error or 'does not fit into memory'}"
                rows.append(dict.fromkeys(_SUMMARY, "") | {"image": str(path), "error": text})
                click.echo(f"lucid-finch: {text}", err=True)
            else:
                unmet += bool(result.unmet)
                rows += _summary(path, result)
                for expectation in result.unmet:
                    click.echo(f"{path}: {expectation}", err=True)
            progress.advance(task)
    write_rows(out / "summary.csv", rows, list(_SUMMARY))
    click.echo(f"{len(paths) - failed} of {len(paths)} images done, results in {out}", err=True)
    return failed, unmet


def _summary(path: Path, result: Run) -> list[dict[str, Any]]:
    missed = {u.detector for u in result.unmet}
    return [
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
        for name, d in result.detections.items()
    ] + [
        dict.fromkeys(_SUMMARY, "") | {"image": str(path), "detector": c.name, "kind": "merged", "findings": len(c.findings)}
        for c in result.combined
    ]


def run_demo(scenes: Sequence[str], out: Path) -> tuple[int, int]:
    """Demo scenes with their truth, and their recipes' results, into a folder."""
    import json

    from lucid_finch.demo import SCENES, recipe_text, scene

    failed = unmet = 0
    for name in scenes or list(SCENES):
        drawn = scene(name)
        folder = out / name
        write_image(folder / f"{name}.png", drawn.image)
        write_text(folder / f"{name}.truth.json", json.dumps(drawn.truth()) + "\n")
        write_text(folder / f"{name}{ENDING}", recipe_text(name))
        recipe = Recipe.load(folder / f"{name}{ENDING}")
        counts = run_batch(recipe, [str(folder / f"{name}.png")], folder / "results", (), "png")
        failed, unmet = failed + counts[0], unmet + counts[1]
    return failed, unmet


def _progress() -> Progress:
    return Progress(
        TextColumn("{task.description}"), BarColumn(), MofNCompleteColumn(), TimeRemainingColumn(),
        console=Console(stderr=True), transient=True,
    )  # fmt: skip
