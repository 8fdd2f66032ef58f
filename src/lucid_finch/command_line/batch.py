"""Batches on the command line: progress, messages on stderr, the summary file."""

from __future__ import annotations

import json
import sys
import time
from collections.abc import Callable, Iterator, Sequence
from contextlib import contextmanager
from functools import partial
from pathlib import Path
from typing import IO, Any

import click
from rich.console import Console
from rich.progress import BarColumn, MofNCompleteColumn, Progress, TextColumn, TimeRemainingColumn

from lucid_finch.core.errors import FileError
from lucid_finch.files.findings import write_rows
from lucid_finch.files.maps import write_image
from lucid_finch.files.recipes import ENDING, Recipe
from lucid_finch.files.writing import inputs_kept, whole_file, write_text
from lucid_finch.pipeline.batch import Batch, records
from lucid_finch.pipeline.sinks import Outputs, check_maps
from lucid_finch.pipeline.sources import SUMMARY, SUMMARY_NAME, Place, images_in, summary_recipes

_EVERY = 10.0
"""Seconds between lines of progress where stderr is no terminal."""


def run_batch(
    batch: Batch, places: Sequence[Place], jobs: int = 1, lines_to: str | None = None, overwrite: bool = False
) -> tuple[int, int]:
    """Every image through the recipe; one that fails is named and the others are done. Returns (failed, unmet).

    The summary is written in any case. Raises `ParameterError`, `FileError` before anything is run, `KeyboardInterrupt`.
    """
    recipe, out = batch.recipe, batch.out
    check_maps(recipe, batch.outputs.maps)
    if out is not None and not overwrite:
        _refuse_other_results(out, recipe)
    for field in recipe.unused:
        click.echo(f"lucid-finch: the recipe's {field} is kept but not applied by this version", err=True)
    rows: list[dict[str, Any]] = []
    failed = unmet = 0
    try:
        kept = inputs_kept(batch.kept)
        with kept, _progress(recipe.name or "recipe", len(places)) as advance, _lines(lines_to) as lines:
            for record in records(batch, places, jobs):
                rows += record.rows
                if record.failure:
                    failed += 1
                    click.echo(f"lucid-finch: {record.failure}", err=True)
                unmet += bool(record.unmet)
                for expectation in record.unmet:
                    click.echo(f"{record.place.path}: {expectation}", err=True)
                if lines is not None and record.line:
                    lines.write(record.line + "\n")
                    lines.flush()
                advance()
    finally:
        if out is not None:
            with inputs_kept(batch.kept):
                write_rows(out / SUMMARY_NAME, rows, list(SUMMARY))
    where = f", results in {out}" if out is not None else ""
    click.echo(f"{len(places) - failed} of {len(places)} images done{where}", err=True)
    return failed, unmet


def _refuse_other_results(out: Path, recipe: Recipe) -> None:
    """Raises `FileError` where a summary of another recipe would be replaced."""
    others = summary_recipes(out / SUMMARY_NAME) - {recipe.name}
    if others:
        names = ", ".join(f'"{name}"' for name in sorted(others))
        raise FileError(out, f"holds results of the recipe {names}; choose another folder, or pass --overwrite")


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
        outputs = Outputs.named(("findings", "csv", "svg", "annotated"))
        batch = Batch(recipe, folder / "results", outputs)
        counts = run_batch(batch, images_in([folder / f"{name}.png"]))
        failed, unmet = failed + counts[0], unmet + counts[1]
    return failed, unmet


@contextmanager
def _lines(path: str | None) -> Iterator[IO[str] | None]:
    """Where lines of JSON go: stdout for "-"."""
    if path is None:
        yield None
    elif path == "-":
        yield sys.stdout
    else:
        with whole_file(path, text=True) as stream:
            yield stream


@contextmanager
def _progress(title: str, total: int) -> Iterator[Callable[[], None]]:
    """A bar on a terminal; elsewhere a line now and then."""
    console = Console(stderr=True)
    if console.is_terminal:
        columns = (TextColumn("{task.description}"), BarColumn(), MofNCompleteColumn(), TimeRemainingColumn())
        with Progress(*columns, console=console, transient=True) as progress:
            task = progress.add_task(title, total=total)
            yield partial(progress.advance, task)
        return
    begun = last = time.monotonic()
    done = 0

    def advance() -> None:
        nonlocal done, last
        done += 1
        now = time.monotonic()
        if now - last >= _EVERY and done < total:
            last = now
            left = (now - begun) / done * (total - done)
            click.echo(f"{title}: {done} of {total} images, about {left:.0f} s left", err=True)

    yield advance
