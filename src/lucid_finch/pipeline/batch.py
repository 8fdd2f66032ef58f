"""A batch: every image through a recipe and its results written, one after the other or in several processes."""

from __future__ import annotations

import logging
import multiprocessing
import os
import signal
import threading
from collections import deque
from collections.abc import Iterator, Sequence
from concurrent.futures import Future, ProcessPoolExecutor, ThreadPoolExecutor
from concurrent.futures.process import BrokenProcessPool
from dataclasses import dataclass, field
from pathlib import Path
from typing import Any

from lucid_finch.core.errors import Cancelled, FileError, ParameterError
from lucid_finch.core.execution.engine import Engine
from lucid_finch.core.numerics.runtime.threads import set_thread_count, thread_count
from lucid_finch.files.findings import encoded, findings_document
from lucid_finch.files.recipes import Recipe
from lucid_finch.files.writing import inputs_kept
from lucid_finch.pipeline.run import Done, run_images, unexpected
from lucid_finch.pipeline.sinks import Outputs, failure_row, summary_rows, write_results
from lucid_finch.pipeline.sources import AS_STORED, Place, ReadOptions

log = logging.getLogger(__name__)

_WRITERS = 1
"""Threads that encode and write while the next image is worked on."""


@dataclass(frozen=True)
class Batch:
    """What is done with each image; can be sent to another process."""

    recipe: Recipe
    out: Path | None
    """Folder of the results; None writes none."""
    outputs: Outputs = field(default_factory=Outputs)
    options: ReadOptions = AS_STORED
    kept: tuple[Path, ...] = ()
    """Files that are not written over."""
    lines: bool = False
    """Whether each record carries its findings as a line of JSON."""


@dataclass(frozen=True)
class Record:
    """What has become of one image."""

    place: Place
    failure: str
    unmet: tuple[str, ...]
    rows: tuple[dict[str, Any], ...]
    """For the summary."""
    line: str = ""


def records(batch: Batch, places: Sequence[Place], jobs: int = 1) -> Iterator[Record]:
    """One record an image, in their order; the results are the same for any number of jobs."""
    yield from _in_processes(batch, places, jobs) if jobs > 1 and len(places) > 1 else _in_threads(batch, places)


def _in_threads(batch: Batch, places: Sequence[Place]) -> Iterator[Record]:
    """Images one after the other, whose results are written while the next one is worked on."""
    waiting: deque[Future[Record]] = deque()
    with ThreadPoolExecutor(_WRITERS) as pool:
        stopped: BaseException | None = None
        try:
            for done in run_images(batch.recipe, places, Engine(), options=batch.options):
                waiting.append(pool.submit(_written, batch, done))
                if len(waiting) > _WRITERS:
                    yield waiting.popleft().result()
        except (Cancelled, KeyboardInterrupt) as error:
            stopped = error
        # What is done when the work is stopped is not lost.
        while waiting:
            yield waiting.popleft().result()
        if stopped is not None:
            raise stopped


def _written(batch: Batch, done: Done) -> Record:
    """Write what an image gave."""
    place, failure, run = done.place, done.failure, done.run
    if run is None:
        return Record(place, failure, (), (failure_row(place, failure),))
    written: list[Path] = []
    try:
        line = encoded(findings_document(run, place.path)) if batch.lines else ""
        if batch.out is not None:
            with inputs_kept(batch.kept):
                written = write_results(run, batch.out, place.result_name, place.path, batch.outputs)
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
    return Record(place, "", unmet, tuple(summary_rows(place, run, written, batch.out or Path())), line)


class _Worker:
    """What a worker process keeps between images."""

    engine: Engine
    batch: Batch


def _begin(batch: Batch, threads: int) -> None:
    # Ctrl-C reaches the whole group of processes; the first one ends the others.
    signal.signal(signal.SIGINT, signal.SIG_IGN)
    threading.Thread(target=_end_with_parent, daemon=True).start()
    set_thread_count(threads)
    _Worker.engine, _Worker.batch = Engine(), batch


def _end_with_parent() -> None:
    parent = multiprocessing.parent_process()
    if parent is not None:
        parent.join()
        os._exit(1)


def _one(place: Place) -> Record:
    batch = _Worker.batch
    (done,) = run_images(batch.recipe, [place], _Worker.engine, options=batch.options)
    return _written(batch, done)


def _in_processes(batch: Batch, places: Sequence[Place], jobs: int) -> Iterator[Record]:
    """A process that dies takes its image with it and no other."""
    jobs = min(jobs, len(places))
    left = deque(places)
    waiting: deque[tuple[Place, Future[Record]]] = deque()
    pool = _pool(batch, jobs)
    try:
        while left or waiting:
            while left and len(waiting) < 2 * jobs:
                waiting.append((left[0], pool.submit(_one, left.popleft())))
            place, future = waiting[0]
            try:
                record = future.result()
            except BrokenProcessPool:
                # Which image it was is not known: those under way are tried again, each in a process of its own.
                again = [place for place, _ in waiting]
                waiting.clear()
                for place in again:
                    yield _alone(batch, place)
                _end(pool)
                pool = _pool(batch, jobs)
                continue
            waiting.popleft()
            yield record
    finally:
        _end(pool)


def _alone(batch: Batch, place: Place) -> Record:
    pool = _pool(batch, 1)
    try:
        return pool.submit(_one, place).result()
    except BrokenProcessPool:
        failure = f"{place.path}: the process that worked on it died (out of memory?)"
        return Record(place, failure, (), (failure_row(place, failure),))
    finally:
        _end(pool)


def _pool(batch: Batch, jobs: int) -> ProcessPoolExecutor:
    spawn = multiprocessing.get_context("spawn")
    return ProcessPoolExecutor(jobs, spawn, _begin, (batch, max(1, thread_count() // jobs)))


def _end(pool: ProcessPoolExecutor) -> None:
    """Without waiting for what is under way: it may take long, and nobody wants it any more."""
    # The library ends workers at once only from Python 3.14 on.
    workers = list((getattr(pool, "_processes", None) or {}).values())
    pool.shutdown(wait=False, cancel_futures=True)
    for worker in workers:
        worker.terminate()
    for worker in workers:
        worker.join(5)
