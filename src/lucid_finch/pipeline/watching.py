"""Takes the images that arrive in folders, once they are whole."""

from __future__ import annotations

import time
from collections.abc import Iterator, Sequence
from pathlib import Path

from lucid_finch.core.errors import FileError
from lucid_finch.pipeline.sources import Place, images_in

_EVERY = 0.25
"""Seconds between looks."""
_SETTLED = 1.0
"""Seconds for which a file has to stay as it is before it counts as whole."""


def arriving(
    paths: Sequence[Path], recursive: bool = False, page: int | None = 0, frames: int | None = None, every: int = 1
) -> Iterator[list[Place]]:
    """Images of files and folders, as `images_in` finds them: those that are there, then new and changed ones. Never ends."""
    done: dict[Path, tuple[int, int]] = {}
    waiting: dict[Path, tuple[tuple[int, int], float]] = {}
    begun = False
    while True:
        now = time.monotonic()
        whole = []
        for file in _files(paths, recursive):
            try:
                about = file.stat()
            except OSError:
                continue
            state = about.st_size, about.st_mtime_ns
            if done.get(file) == state:
                continue
            before = waiting.get(file)
            if before is None or before[0] != state:
                # What has not been touched for a while is whole already.
                waiting[file] = state, now - max(0.0, time.time() - about.st_mtime)
            if about.st_size > 0 and now - waiting[file][1] >= _SETTLED:
                whole.append(file)
                done[file] = state
                del waiting[file]
        if whole:
            # Named as if all had been there from the beginning.
            names = {place.path: place.name for place in images_in(paths, recursive, 0, 0)}
            places = images_in(whole, recursive, page, frames, every)
            yield [Place(p.path, p.page, names.get(p.path, p.name), p.time) for p in places]
        elif not begun:
            yield []
        begun = True
        time.sleep(_EVERY)


def _files(paths: Sequence[Path], recursive: bool) -> list[Path]:
    found = []
    for path in paths:
        try:
            found += [place.path for place in images_in([path], recursive, 0, 0)]
        except FileError:
            # An empty folder, into which images will come.
            continue
    return found
