"""Where images come from: files, pages of files, folders; in one order everywhere."""

from __future__ import annotations

import re
from collections.abc import Sequence
from dataclasses import dataclass
from pathlib import Path
from typing import Any

from lucid_finch.core.errors import FileError
from lucid_finch.core.image import Image
from lucid_finch.files.images import ENDINGS, read_image

SUMMARY_NAME = "summary.csv"
SUMMARY = ("image", "detector", "kind", "findings", "near_misses", "met", "error", "seconds")
"""The file that sums up a run, and its columns."""


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

    def label(self, several: bool) -> str:
        """The name of the file, and the page where `several` are of the same file."""
        return f"{self.path.name} [{self.page + 1}]" if several else self.path.name

    def read(self, options: ReadOptions = AS_STORED) -> Image:
        """Raises `FileError`, `ParameterError`."""
        return read_image(self.path, page=self.page, significant_bits=options.significant_bits, value_range=options.value_range)


def images_in(paths: Sequence[Path]) -> list[Place]:
    """The images of files and folders; those of a folder in natural order. Raises `FileError` for a folder without any."""
    places: list[Place] = []
    for path in paths:
        if not path.is_dir():
            places.append(Place(path))
            continue
        inside = [p for p in path.iterdir() if p.suffix.lower() in ENDINGS and not p.name.startswith(".") and p.is_file()]
        inside = [p for p in inside if not _was_written(p)]
        if not inside:
            raise FileError(path, "holds no image that Lucid Finch reads")
        places += [Place(p) for p in sorted(inside, key=natural)]
    return places


def _was_written(path: Path) -> bool:
    """Whether a run wrote it: pictures, tables and maps beside the findings file that their names begin with, and the summary."""
    parts = path.name.split(".")
    stems = (".".join(parts[:count]) for count in range(1, len(parts) - 1))
    if any(path.with_name(f"{stem}.findings.json").exists() for stem in stems):
        return True
    if path.name != SUMMARY_NAME:
        return False
    with path.open(encoding="utf-8", errors="replace") as stream:
        return stream.readline().strip() == ",".join(SUMMARY)


def natural(path: Path) -> list[Any]:
    """Key of the natural order: img2 comes before img10."""
    return [(1, int(part), "") if part.isdigit() else (0, 0, part.lower()) for part in re.split(r"(\d+)", path.name)]
