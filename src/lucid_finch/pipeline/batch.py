"""What is done with each image of a run, and what has become of it; how the work is spread is an executor's matter."""

from __future__ import annotations

import logging
from collections.abc import Callable, Iterable, Iterator, Mapping
from contextlib import AbstractContextManager, contextmanager
from dataclasses import dataclass, field
from pathlib import Path
from typing import Any

from lucid_finch.core.errors import FileError, ParameterError
from lucid_finch.core.execution.engine import Engine
from lucid_finch.files.findings import encoded, file_hash, findings_document, table_rows
from lucid_finch.files.recipes import Recipe
from lucid_finch.files.writing import Inputs, inputs_kept
from lucid_finch.pipeline.clip_pictures import Frame, clip_pictures
from lucid_finch.pipeline.run import Done, run_images, unexpected
from lucid_finch.pipeline.sinks import Outputs, failure_row, summary_rows, write_results
from lucid_finch.pipeline.sources import AS_STORED, Place, ReadOptions
from lucid_finch.pipeline.stages import ahead
from lucid_finch.pipeline.tracking import RunTracker

log = logging.getLogger(__name__)


@dataclass(frozen=True)
class Batch:
    """What is done with each image; can be sent to another process."""

    recipe: Recipe
    out: Path | None
    """Folder of the results; None writes none."""
    outputs: Outputs = field(default_factory=Outputs)
    options: ReadOptions = AS_STORED
    kept: Inputs | Iterable[Path] = ()
    """Files that are not written over."""
    lines: bool = False
    """Whether each record carries its findings as a line of JSON."""

    def __post_init__(self) -> None:
        if not isinstance(self.kept, Inputs):
            object.__setattr__(self, "kept", Inputs(self.kept))

    @property
    def follows(self) -> bool:
        """Whether objects are followed from image to image, which then are done in their order."""
        return any(entry.track for entry in self.recipe.running)


@dataclass(frozen=True)
class Record:
    """What has become of one image."""

    place: Place
    failure: str
    unmet: tuple[str, ...]
    rows: tuple[dict[str, Any], ...]
    """For the summary."""
    line: str = ""
    tables: Mapping[str, tuple[tuple[str, ...], list[list[Any]]]] = field(default_factory=dict)
    """Columns and rows of the findings of each detector, where the run writes one table of all."""
    pictures: Mapping[str, Frame] = field(default_factory=dict, repr=False)
    """Frames of the clips that are written, by the name of the clip."""
    sha256: str = ""
    """Of the file that the image is from."""


Executor = Callable[[Iterable[Place]], Iterator[Record]]
"""Does images: one record each, in their order."""


@contextmanager
def in_this_process(batch: Batch) -> Iterator[Executor]:
    """Images one after the other: the next is read and the last one written meanwhile."""
    engine, tracker = Engine(), RunTracker()

    def tracked(places: Iterable[Place]) -> Iterator[Done]:
        for number, done in enumerate(run_images(batch.recipe, places, engine, options=batch.options)):
            yield tracker.followed(done, number) if batch.follows else done

    def work(places: Iterable[Place]) -> Iterator[Record]:
        # What is done when the work is stopped is not lost: it waits to be taken.
        yield from ahead(written(batch, done) for done in ahead(tracked(places), 1))

    yield work


def executor(batch: Batch, jobs: int = 1, scheduler: str = "") -> AbstractContextManager[Executor]:
    """What does the images: this process, several, or a Dask cluster. The results are the same."""
    if scheduler:
        from lucid_finch.pipeline.cluster import in_cluster

        return in_cluster(batch, scheduler)
    if jobs > 1 and not batch.follows:
        from lucid_finch.pipeline.workers import in_processes

        return in_processes(batch, jobs)
    return in_this_process(batch)


def written(batch: Batch, done: Done) -> Record:
    """Write what an image gave."""
    place, failure, run = done.place, done.failure, done.run
    if run is None:
        return Record(place, failure, (), (failure_row(place, failure),))
    files: list[Path] = []
    try:
        line = encoded(findings_document(run, place.path, place.time)) if batch.lines or "lines" in batch.outputs.kinds else ""
        if batch.out is not None:
            with inputs_kept(batch.kept):
                files = write_results(run, batch.out, place.result_name, place.path, batch.outputs, place.time)
        tables = table_rows(run) if batch.outputs.makes_tables else {}
        pictures = clip_pictures(run, batch.outputs)
    except (FileError, ParameterError) as error:
        failure = str(error)
    except MemoryError:
        failure = f"{place.path}: its results do not fit into memory"
    except Exception as error:
        log.exception("%s: its results could not be written", place.path)
        failure = unexpected(place.path, error)
    if failure:
        return Record(place, failure, (), (failure_row(place, failure),))
    unmet = tuple(str(expectation) for expectation in run.unmet)
    rows = tuple(summary_rows(place, run, files, batch.out or Path()))
    return Record(place, "", unmet, rows, line, tables, pictures, hash_of(place.path))


def hash_of(path: Path) -> str:
    """sha256 of a file, "" where there is none."""
    try:
        about = path.stat()
        return file_hash(path, about.st_size, about.st_mtime_ns) if path.is_file() else ""
    except OSError:
        return ""
