"""Where images come from: files, pages of files, frames of clips, folders; in one order everywhere."""

from __future__ import annotations

import csv
import os
import re
from collections import Counter
from collections.abc import Iterable, Sequence
from dataclasses import dataclass, field
from pathlib import Path
from types import TracebackType
from typing import Any

from lucid_finch.core.errors import FileError
from lucid_finch.core.image import Image
from lucid_finch.files import clips
from lucid_finch.files.images import ENDINGS, page_count, read_image
from lucid_finch.files.maps import RESULT

SUMMARY_NAME = "summary.csv"
SUMMARY = (
    "image", "detector", "kind", "findings", "near_misses", "met", "error", "seconds", "page", "recipe", "results", "calibration",
    "time", "margin",
)  # fmt: skip
"""The file that sums up a run, and its columns; `results`: the files of that image, relative to the folder of the
summary; `calibration`: the name, or the hash, of the calibration behind its millimetres; `margin`: see `margins`."""
RESULTS_APART = " | "
OF_ALL = "all."
"""What the names of tables and lines of a whole run begin with."""
_HEAD = 4096
"""Bytes at the beginning of a picture in which it says that it is a result."""


@dataclass(frozen=True)
class ReadOptions:
    """What is said of the numbers in files."""

    significant_bits: int | None = None
    value_range: tuple[float, float] | None = None


AS_STORED = ReadOptions()


@dataclass(frozen=True)
class Place:
    """Where an image is: a file, and which of its pictures."""

    path: Path
    page: int = 0
    """From 0; of a clip, the frame."""
    name: str = ""
    """The name of the file, below the folder that was given; "" for that of `path`."""
    time: float | None = field(default=None, compare=False)
    """Of a frame: seconds from the first."""
    image: Image | None = field(default=None, compare=False, repr=False)
    """What a camera has seen, which nobody can read again."""

    def label(self, several: bool) -> str:
        """The name of the file, and the page where `several` are of the same file."""
        return f"{self.path.name} [{self.page + 1}]" if several else self.path.name

    @property
    def result_name(self) -> str:
        """What the names of its results begin with."""
        frame = f".frame-{self.page:06d}" if self.is_frame else f".page-{self.page}" if self.page else ""
        return (self.name or self.path.name) + frame

    @property
    def is_frame(self) -> bool:
        """Whether it is one of a clip or of a camera."""
        return self.image is not None or clips.is_clip(self.path)

    def read(self, options: ReadOptions = AS_STORED) -> Image:
        """Raises `FileError`, `ParameterError`."""
        return read_image(self.path, page=self.page, significant_bits=options.significant_bits, value_range=options.value_range)


class Reader:
    """Reads images one after the other and keeps the clip that they are of open; one thread at a time."""

    def __init__(self, options: ReadOptions = AS_STORED) -> None:
        self.options = options
        self._clip: clips.Clip | None = None

    def read(self, place: Place) -> Image:
        """Raises `FileError`, `ParameterError`."""
        if place.image is not None:
            return place.image
        if not place.is_frame:
            return place.read(self.options)
        if self._clip is None or self._clip.path != place.path:
            self.close()
            self._clip = clips.Clip(place.path)
        return self._clip.frame(place.page).image(place.path.name, len(self._clip))

    def close(self) -> None:
        """Give back what is open."""
        if self._clip is not None:
            self._clip.close()
            self._clip = None

    def __enter__(self) -> Reader:
        return self

    def __exit__(self, kind: type[BaseException] | None, error: BaseException | None, trace: TracebackType | None) -> None:
        self.close()


@dataclass(frozen=True)
class SourceFrame:
    """One image of a source."""

    image: Image
    index: int
    """From 0; of a clip or a camera, the number of the frame."""
    time: float | None
    """Seconds from the first frame; None for pictures, which have none."""


def images_in(
    paths: Sequence[Path], recursive: bool = False, page: int | None = 0, frames: int | None = None, every: int = 1
) -> list[Place]:
    """The images of files and folders, each once; those of a folder in natural order.

    `recursive`: also those of folders in folders. `page`: which picture of each file, None for all. `frames`: which frame of each
    clip, None for all; `every`: and then every so many. Raises `FileError` for a folder without any.
    """
    found: dict[str, tuple[Path, Path]] = {}
    for path in paths:
        files = [(path, Path(path.name))]
        if path.is_dir():
            files = [(file, file.relative_to(path)) for file in _images_of(path, recursive)]
            if not files:
                raise FileError(path, "holds no image that Lucid Finch reads")
        for file, relative in files:
            found.setdefault(os.path.abspath(file), (file, relative))
    names = _different([file for file, _ in found.values()], [relative for _, relative in found.values()])
    places = []
    for (file, _), name in zip(found.values(), names, strict=True):
        if clips.is_clip(file):
            places += _frames_of(file, name, frames, every)
        else:
            places += [Place(file, number, name) for number in ([page] if page is not None else _pages_of(file))]
    return places


def _frames_of(file: Path, name: str, frame: int | None, every: int) -> list[Place]:
    try:
        with clips.Clip(file) as clip:
            chosen = range(0, len(clip), max(1, every)) if frame is None else [frame]
            return [Place(file, n, name, round(clip.time_of(n), 6) if n < len(clip) else None) for n in chosen]
    except FileError:
        # Reading it says what is wrong.
        return [Place(file, frame or 0, name)]


def _images_of(folder: Path, recursive: bool) -> list[Path]:
    written = _Written()
    found = []
    for where, folders, files in os.walk(folder):
        folders[:] = sorted(name for name in folders if not name.startswith(".")) if recursive else []
        paths = [Path(where) / name for name in files if not name.startswith(".")]
        found += [p for p in paths if p.suffix.lower() in (*ENDINGS, *clips.ENDINGS) and p.is_file() and not written.has(p)]
    return sorted(found, key=lambda path: [natural(Path(part)) for part in path.relative_to(folder).parts])


def _pages_of(file: Path) -> Iterable[int]:
    try:
        # A pipe can be read once only.
        return range(page_count(file)) if file.is_file() else [0]
    except FileError:
        # Reading it says what is wrong.
        return [0]


def _different(files: Sequence[Path], relative: Sequence[Path]) -> list[str]:
    """The relative paths as names; where two files share one, with as many folders before it as make them different."""
    names = [path.as_posix() for path in relative]
    whole = [Path(os.path.abspath(file)).parts[1:] for file in files]
    depth = [len(path.parts) for path in relative]
    for _ in range(max(map(len, whole), default=0)):
        same = {name for name, count in Counter(names).items() if count > 1}
        if not same:
            break
        for k, name in enumerate(names):
            if name in same:
                depth[k] = min(depth[k] + 1, len(whole[k]))
                names[k] = "/".join(whole[k][-depth[k] :])
    return names


class _Written:
    """Recognises what a run wrote: the summary, what it lists, and what lies beside the findings file of the same name."""

    def __init__(self) -> None:
        self._listed: dict[Path, set[Path]] = {}

    def has(self, path: Path) -> bool:
        parts = path.name.split(".")
        stems = (".".join(parts[:count]) for count in range(1, len(parts) - 1))
        if any(path.with_name(f"{stem}.findings.json").exists() for stem in stems):
            return True
        of_run = path.suffix == ".csv" and (path.name == SUMMARY_NAME or path.name.startswith(OF_ALL))
        if of_run and (path.parent / SUMMARY_NAME).is_file() and _is_summary(path.parent / SUMMARY_NAME):
            return True
        with path.open("rb") as stream:
            if RESULT.encode() in stream.read(_HEAD):
                return True
        return any(path in self._listed_in(folder) for folder in path.parents)

    def _listed_in(self, folder: Path) -> set[Path]:
        if folder not in self._listed:
            summary = folder / SUMMARY_NAME
            names: set[Path] = set()
            if summary.is_file() and _is_summary(summary):
                with summary.open(encoding="utf-8", errors="replace", newline="") as stream:
                    for row in csv.DictReader(stream):
                        names |= {folder / name for name in (row.get("results") or "").split(RESULTS_APART)}
            self._listed[folder] = names
        return self._listed[folder]


def _is_summary(path: Path) -> bool:
    with path.open(encoding="utf-8", errors="replace") as stream:
        return stream.readline().startswith("image,detector,kind,")


def summary_recipes(path: Path) -> set[str]:
    """Names of the recipes whose results a summary lists; none where there is no summary."""
    if not path.is_file() or not _is_summary(path):
        return set()
    with path.open(encoding="utf-8", errors="replace", newline="") as stream:
        return {row["recipe"] for row in csv.DictReader(stream) if row.get("recipe")}


def natural(path: Path) -> list[Any]:
    """Key of the natural order: img2 comes before img10."""
    return [(1, int(part), "") if part.isdigit() else (0, 0, part.lower()) for part in re.split(r"(\d+)", path.name)]
