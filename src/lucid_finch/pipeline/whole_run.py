"""A whole run: every image through a recipe, noted in a journal, with what is written of all; goes on where it broke off."""

from __future__ import annotations

import signal
import sys
import threading
from collections.abc import Callable, Generator, Iterable, Iterator, Sequence
from contextlib import contextmanager
from dataclasses import dataclass, field, replace
from pathlib import Path
from typing import TypeVar

from lucid_finch.files.writing import inputs_kept
from lucid_finch.pipeline.batch import Batch, Executor, Record, executor
from lucid_finch.pipeline.journal import Journal
from lucid_finch.pipeline.run_outputs import Clips, with_clips, write_of_run
from lucid_finch.pipeline.sources import Place
from lucid_finch.pipeline.stages import ahead

Item = TypeVar("Item")

_TURN = 0.0001
"""Seconds after which a thread gives way to another."""


@dataclass(frozen=True)
class Wish:
    """How a run is done."""

    jobs: int = 1
    scheduler: str = ""
    resume: bool = False
    """Only what is missing or has changed."""
    retry: bool = False
    """Also what has failed before."""


@dataclass
class Report:
    """What has become of a run."""

    done: int = 0
    kept: int = 0
    """Of `done`: from an earlier run."""
    failed: int = 0
    unmet: int = 0
    begun_anew: bool = False
    """There was a journal to go on with, but of another recipe, other versions or outputs."""
    made: list[Path] = field(default_factory=list)
    """Files of the whole run."""
    failures: list[str] = field(default_factory=list)
    """Files of the whole run that could not be written."""


def run_all(
    batch: Batch, rounds: Iterable[Sequence[Place]], wish: Wish | None = None, report: Report | None = None
) -> Generator[Record, None, None]:
    """Records of all images, in the order in which they are done. `rounds`: images as they arrive, such as all at once.

    What is written of the whole run is written in any case, also when this iterator is closed early. `report` is filled. Raises
    `FileError`, `ParameterError`.
    """
    wish, report = wish or Wish(), report if report is not None else Report()
    clips = Clips(batch)
    # Nothing of an earlier run is touched before it is known that this one can be done.
    with inputs_kept(batch.kept), _quick_turns(), executor(batch, wish.jobs, wish.scheduler) as do:
        journal = Journal(batch.out, batch, wish.resume) if batch.out is not None else None
        report.begun_anew = journal is not None and journal.is_other
        number, is_whole = 0, False
        try:
            for places in rounds:
                for record, at, is_kept in _round(batch, places, number, do, journal, wish, clips):
                    if journal is not None and not is_kept:
                        journal.add(record, at)
                    report.done += 1
                    report.kept += is_kept
                    report.failed += bool(record.failure)
                    report.unmet += bool(record.unmet)
                    yield record
                number += len(places)
            is_whole = True
        finally:
            report.failures, report.made = clips.failures, clips.made
            if journal is not None:
                with journal, _undisturbed():
                    journal.settle(is_whole)
                    report.made = [*write_of_run(batch, journal), *clips.made]


@contextmanager
def _quick_turns() -> Iterator[None]:
    """Threads that hand images on to one another wait less for their turn: of small images, that is most of the time."""
    before = sys.getswitchinterval()
    sys.setswitchinterval(_TURN)
    try:
        yield
    finally:
        sys.setswitchinterval(before)


@contextmanager
def _undisturbed() -> Iterator[None]:
    """A second Ctrl-C does not cut off what the first one has begun."""
    if threading.current_thread() is not threading.main_thread():
        yield
        return
    before = signal.signal(signal.SIGINT, signal.SIG_IGN)
    try:
        yield
    finally:
        signal.signal(signal.SIGINT, before)


def _round(
    batch: Batch, places: Sequence[Place], first: int, do: Executor, journal: Journal | None, wish: Wish, clips: Clips
) -> Iterator[tuple[Record, int, bool]]:
    """Records with their number, and whether they are from an earlier run: those first."""
    missing: list[tuple[int, Place]] = []
    for group in _groups(batch, list(enumerate(places, first))):
        kept = [journal.kept(place, n, wish.retry) if journal is not None and wish.resume else None for n, place in group]
        # A clip is written in one go.
        whole = not batch.outputs.makes_clips or all(record is not None for record in kept)
        for (n, place), record in zip(group, kept, strict=True):
            if record is not None and whole:
                yield record, n, True
            else:
                missing.append((n, place))
    made = do([place for _, place in missing])
    # Frames are packed while the next ones are worked on.
    records = ahead(with_clips(made, clips), 1) if batch.outputs.makes_clips else made
    try:
        for (n, _), record in zip(missing, records, strict=True):
            yield replace(record, pictures={}), n, False
    finally:
        _close(records)


def _groups(batch: Batch, numbered: list[tuple[int, Place]]) -> Iterator[list[tuple[int, Place]]]:
    """Images that belong together: the frames of a clip where clips are written or objects followed."""
    if not batch.outputs.makes_clips and not batch.follows:
        yield from ([one] for one in numbered)
        return
    group: list[tuple[int, Place]] = []
    for n, place in numbered:
        if group and group[-1][1].path != place.path and (group[-1][1].is_frame or place.is_frame):
            yield group
            group = []
        group.append((n, place))
    if group:
        yield group


def _close(items: Iterator[Item]) -> None:
    close: Callable[[], None] | None = getattr(items, "close", None)
    if close is not None:
        close()
