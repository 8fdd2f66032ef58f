"""Batches on the command line: progress, messages on stderr, the summary file."""

from __future__ import annotations

import json
import shutil
import sys
import time
from collections.abc import Callable, Iterable, Iterator, Mapping, Sequence
from contextlib import contextmanager
from dataclasses import dataclass
from functools import partial
from pathlib import Path
from typing import IO, Any

import click
from rich.console import Console
from rich.progress import BarColumn, MofNCompleteColumn, Progress, TextColumn, TimeRemainingColumn

from lucid_finch.core.errors import FileError
from lucid_finch.files.maps import write_image
from lucid_finch.files.recipes import ENDING, Recipe
from lucid_finch.files.writing import inputs_kept, whole_file, write_text
from lucid_finch.pipeline.batch import Batch
from lucid_finch.pipeline.cameras import is_camera
from lucid_finch.pipeline.live import camera_rounds
from lucid_finch.pipeline.sinks import OUTPUTS_OF_CLIPS, Outputs, check_maps
from lucid_finch.pipeline.sources import SUMMARY_NAME, Place, images_in, summary_recipes
from lucid_finch.pipeline.watching import arriving
from lucid_finch.pipeline.whole_run import Report, Wish, run_all

_EVERY = 10.0
"""Seconds between lines of progress where stderr is no terminal."""


@dataclass(frozen=True)
class Given:
    """The images that a command was given."""

    rounds: Iterable[Sequence[Place]]
    """As they arrive."""
    total: int | None
    """How many; None where nobody knows."""
    are_frames: bool
    """Whether all are of clips or of a camera."""
    files: tuple[Path, ...]


def given_images(images: Sequence[str], values: Mapping[str, Any]) -> Given:
    """What the arguments and options of `run` name: files, folders, clips, a camera. Raises `UsageError`, `FileError`."""
    if cameras := [given for given in images if is_camera(given)]:
        if len(images) > 1:
            raise click.UsageError("a camera is run by itself: name one camera and nothing else")
        if values["jobs"] > 1 or values["scheduler"]:
            raise click.UsageError("the frames of a camera are worked on here: leave out --jobs and --scheduler")
        return Given(camera_rounds(cameras[0], values["frames"] or 0, values["every"]), values["frames"], True, ())
    paths = [Path("/dev/stdin") if given == "-" else Path(given) for given in images]
    page = None if values["page"] == "all" else _whole(values["page"] or "0")
    # Of a clip all frames, unless one is asked for.
    chosen = (values["recursive"], page, page if values["page"] is not None else None, values["every"])
    if values["watch"]:
        if not any(path.is_dir() for path in paths):
            raise click.UsageError("--watch needs a folder")
        return Given(arriving(paths, *chosen), None, False, ())
    places = images_in(paths, *chosen)
    files = tuple(dict.fromkeys(place.path for place in places))
    return Given([places], len(places), all(place.is_frame for place in places), files)


def _whole(text: str) -> int:
    if not text.isdigit():
        raise click.UsageError(f'--page "{text}" is not allowed; a whole number from 0, or all')
    return int(text)


def run_batch(
    batch: Batch,
    rounds: Iterable[Sequence[Place]],
    total: int | None,
    wish: Wish | None = None,
    lines_to: str | None = None,
    overwrite: bool = False,
) -> tuple[int, int]:
    """Every image through the recipe; one that fails is named and the others are done. Returns (failed, unmet).

    `rounds`: images as they arrive, `total` of them if that is known. What is written of the whole run is written in any case.
    Raises `ParameterError`, `FileError` before anything is run, `KeyboardInterrupt`.
    """
    recipe, out, wish = batch.recipe, batch.out, wish or Wish()
    check_maps(recipe, batch.outputs.maps)
    if out is not None and not overwrite:
        _refuse_other_results(out, recipe)
    for field in recipe.unused:
        click.echo(f"lucid-finch: the recipe's {field} is kept but not applied by this version", err=True)
    report = Report()
    records = run_all(batch, rounds, wish, report)
    try:
        with inputs_kept(batch.kept), _progress(recipe.name or "recipe", total) as advance, _lines(lines_to) as lines:
            for record in records:
                if report.begun_anew and report.done == 1:
                    click.echo("the recipe, the versions or the outputs have changed: all images are done again", err=True)
                if record.failure:
                    click.echo(f"lucid-finch: {record.failure}", err=True)
                for expectation in record.unmet:
                    click.echo(f"{record.place.path}: {expectation}", err=True)
                if lines is not None and record.line:
                    lines.write(record.line + "\n")
                    lines.flush()
                advance()
    finally:
        records.close()
    for failure in report.failures:
        click.echo(f"lucid-finch: {failure}", err=True)
    where = f", results in {out}" if out is not None else ""
    kept = f" ({report.kept} of them before)" if report.kept else ""
    count = total if total is not None else report.done
    click.echo(f"{report.done - report.failed} of {count} images done{kept}{where}", err=True)
    return report.failed + len(report.failures), report.unmet


def _refuse_other_results(out: Path, recipe: Recipe) -> None:
    """Raises `FileError` where a summary of another recipe would be replaced."""
    others = summary_recipes(out / SUMMARY_NAME) - {recipe.name}
    if others:
        names = ", ".join(f'"{name}"' for name in sorted(others))
        raise FileError(out, f"holds results of the recipe {names}; choose another folder, or pass --overwrite")


def run_demo(scenes: Sequence[str], out: Path) -> tuple[int, int]:
    """Demo scenes with their truth, and their recipes' results, into a folder."""
    from lucid_finch.demo import CLIPS, SCENES, recipe_text, scene

    failed = unmet = 0
    for name in scenes or [*SCENES, *CLIPS]:
        folder = out / name
        if name in CLIPS:
            file, truth = folder / f"{name}.mkv", CLIPS[name].truth()
            kinds: tuple[str, ...] = (*OUTPUTS_OF_CLIPS, "clip")
            folder.mkdir(parents=True, exist_ok=True)
            shutil.copyfile(CLIPS[name].file(), file)
        else:
            file, truth = folder / f"{name}.png", scene(name).truth()
            kinds = ("findings", "csv", "svg", "annotated")
            write_image(file, scene(name).image)
        write_text(folder / f"{name}.truth.json", json.dumps(truth) + "\n")
        write_text(folder / f"{name}{ENDING}", recipe_text(name))
        recipe = Recipe.load(folder / f"{name}{ENDING}")
        batch = Batch(recipe, folder / "results", Outputs.named(kinds))
        places = images_in([file])
        counts = run_batch(batch, [places], len(places))
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
def _progress(title: str, total: int | None) -> Iterator[Callable[[], None]]:
    """A bar on a terminal; elsewhere a line now and then. `total`: None where nobody knows."""
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
        if now - last >= _EVERY and (total is None or done < total):
            last = now
            left = f" of {total} images, about {(now - begun) / done * (total - done):.0f} s left" if total else " images"
            click.echo(f"{title}: {done}{left}", err=True)

    yield advance
