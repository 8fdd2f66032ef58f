"""Spreads the images of a run over processes of this machine."""

from __future__ import annotations

import multiprocessing
import os
import signal
import threading
from collections import deque
from collections.abc import Iterable, Iterator
from concurrent.futures import Future, ProcessPoolExecutor
from concurrent.futures.process import BrokenProcessPool
from contextlib import contextmanager

from lucid_finch.core.execution.engine import Engine
from lucid_finch.core.numerics.runtime.threads import set_thread_count, thread_count
from lucid_finch.pipeline.batch import Batch, Executor, Record, written
from lucid_finch.pipeline.run import Done, run_image
from lucid_finch.pipeline.sinks import failure_row
from lucid_finch.pipeline.sources import Place, Reader


class Worker:
    """What a process keeps between images."""

    def __init__(self, batch: Batch) -> None:
        self.batch, self.engine, self.reader = batch, Engine(), Reader(batch.options)

    def record(self, place: Place) -> Record:
        """Do one image."""
        done: Done = run_image(self.batch.recipe, place, self.engine, self.reader)
        return written(self.batch, done)


class _Here:
    worker: Worker


def _begin(batch: Batch, threads: int) -> None:
    # Ctrl-C reaches the whole group of processes; the first one ends the others.
    signal.signal(signal.SIGINT, signal.SIG_IGN)
    threading.Thread(target=_end_with_parent, daemon=True).start()
    set_thread_count(threads)
    _Here.worker = Worker(batch)


def _end_with_parent() -> None:
    parent = multiprocessing.parent_process()
    if parent is not None:
        parent.join()
        os._exit(1)


def _one(place: Place) -> Record:
    return _Here.worker.record(place)


class _Pool:
    """Processes that stay between rounds; one that dies takes its image with it and no other."""

    def __init__(self, batch: Batch, jobs: int) -> None:
        self.batch, self.jobs = batch, jobs
        self._pool: ProcessPoolExecutor | None = None

    def work(self, places: Iterable[Place]) -> Iterator[Record]:
        left = iter(places)
        waiting: deque[tuple[Place, Future[Record]]] = deque()
        while True:
            while len(waiting) < 2 * self.jobs and (place := next(left, None)) is not None:
                if self._pool is None:
                    self._pool = _pool(self.batch, self.jobs)
                waiting.append((place, self._pool.submit(_one, place)))
            if not waiting:
                return
            try:
                record = waiting[0][1].result()
            except BrokenProcessPool:
                # Which image it was is not known: those under way are tried again, each in a process of its own.
                again = [place for place, _ in waiting]
                waiting.clear()
                self.close()
                for place in again:
                    yield _alone(self.batch, place)
                continue
            waiting.popleft()
            yield record

    def close(self) -> None:
        if self._pool is not None:
            _end(self._pool)
            self._pool = None


@contextmanager
def in_processes(batch: Batch, jobs: int) -> Iterator[Executor]:
    """Images in `jobs` processes."""
    pool = _Pool(batch, jobs)
    try:
        yield pool.work
    finally:
        pool.close()


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
