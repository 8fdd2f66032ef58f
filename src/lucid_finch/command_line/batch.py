"""Batches on the command line: progress, messages on stderr, the summary file."""

from __future__ import annotations

import json
import logging
from collections.abc import Sequence
from pathlib import Path
from typing import Any

import click
from rich.console import Console
from rich.progress import BarColumn, MofNCompleteColumn, Progress, TextColumn, TimeRemainingColumn

from lucid_finch.core.errors import FileError, ParameterError
from lucid_finch.core.execution.engine import Engine
from lucid_finch.files.findings import write_rows
from lucid_finch.files.maps import write_image
from lucid_finch.files.recipes import ENDING, Recipe
from lucid_finch.files.writing import inputs_kept, write_text
from lucid_finch.pipeline.run import run_images, unexpected
from lucid_finch.pipeline.sinks import check_maps, failure_row, image_names, summary_rows, write_results
from lucid_finch.pipeline.sources import AS_STORED, SUMMARY, SUMMARY_NAME, ReadOptions, images_in

log = logging.getLogger(__name__)


def run_batch(
    recipe: Recipe,
    images: Sequence[str],
    out: Path,
    maps: Sequence[str],
    map_format: str,
    options: ReadOptions = AS_STORED,
    overwrite: bool = False,
) -> tuple[int, int]:
    """Every image through the recipe; one that fails is named and the others are done. Returns (failed, unmet).

    The summary is written in any case. Raises `KeyboardInterrupt` after that.
    """
    check_maps(recipe, maps)
    for field in recipe.unused:
        click.echo(f"lucid-finch: the recipe's {field} is kept but not applied by this version", err=True)
    places = images_in([Path(given) for given in images])
    names = image_names([place.path for place in places])
    rows: list[dict[str, Any]] = []
    failed = unmet = 0
    try:
        with _progress() as progress:
            task = progress.add_task(recipe.name or "recipe", total=len(places))
            done = run_images(recipe, places, Engine(), options=options)
            for one, name in zip(done, names, strict=True):
                path, failure = one.place.path, one.failure
                if one.run is not None:
                    try:
                        with inputs_kept(() if overwrite else (place.path for place in places)):
                            write_results(one.run, path, out, maps, map_format, name)
                    except (FileError, ParameterError) as error:
                        failure = str(error)
                    except Exception as error:
                        log.exception("%s: its results could not be written", path)
                        failure = unexpected(path, error)
                if failure or one.run is None:
                    failed += 1
                    rows.append(failure_row(path, failure))
                    click.echo(f"lucid-finch: {failure}", err=True)
                else:
                    unmet += bool(one.run.unmet)
                    rows += summary_rows(path, one.run)
                    for expectation in one.run.unmet:
                        click.echo(f"{path}: {expectation}", err=True)
                progress.advance(task)
    finally:
        write_rows(out / SUMMARY_NAME, rows, list(SUMMARY))
    click.echo(f"{len(places) - failed} of {len(places)} images done, results in {out}", err=True)
    return failed, unmet


def run_demo(scenes: Sequence[str], out: Path) -> tuple[int, int]:
    """Demo scenes with their truth, and their recipes' results, into a folder."""
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
