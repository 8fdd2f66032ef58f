"""Remembers what a run has done, image by image, so that it can go on after it broke off: an SQLite file among the results."""

from __future__ import annotations

import sqlite3
import zlib
from collections.abc import Iterator, Mapping
from dataclasses import replace
from pathlib import Path
from types import TracebackType
from typing import Any

import orjson

from lucid_finch.core.errors import FileError
from lucid_finch.files.findings import encoded, versions
from lucid_finch.pipeline.batch import Batch, Record, hash_of
from lucid_finch.pipeline.sources import RESULTS_APART, Place

NAME = "run.journal"
_IN_ORDER = "number IS NOT NULL ORDER BY number, path, page"
_TABLES = """
CREATE TABLE IF NOT EXISTS about (key TEXT PRIMARY KEY, value TEXT);
CREATE TABLE IF NOT EXISTS images (
    path TEXT, page INTEGER, number INTEGER, size INTEGER, changed INTEGER, sha256 TEXT, failure TEXT, unmet TEXT, rows TEXT,
    tables BLOB, line BLOB, PRIMARY KEY (path, page));
CREATE INDEX IF NOT EXISTS in_order ON images (number);
"""


def identity(batch: Batch) -> str:
    """What the results follow from besides the image: recipe, versions, how images are read, what is written."""
    outputs = replace(batch.outputs, overwrite=False)
    return encoded([batch.recipe.sha256, versions(), repr(batch.options), repr(outputs)])


class Journal:
    """An open journal; one thread at a time. Raises `FileError` where it cannot be written or is none."""

    def __init__(self, out: Path, batch: Batch, resume: bool) -> None:
        """In the folder `out`; begun anew unless `resume`, and where it is of another recipe, other versions or outputs."""
        self.path, self.out = out / NAME, out
        self.is_other = False
        """Whether there was one to go on with, but of something else."""
        out.mkdir(parents=True, exist_ok=True)
        try:
            self._base = sqlite3.connect(self.path, isolation_level=None, timeout=2.0)
            self._base.execute("PRAGMA journal_mode=WAL")
            self._base.execute("PRAGMA synchronous=NORMAL")
            self._base.executescript(_TABLES)
            found = self._base.execute("SELECT value FROM about WHERE key = 'identity'").fetchone()
            own = identity(batch)
            if not resume or found is None or found[0] != own:
                self.is_other = resume and found is not None
                self._base.execute("DELETE FROM images")
                self._base.execute("INSERT OR REPLACE INTO about VALUES ('identity', ?)", (own,))
            # Below 0: of an earlier run, and not come by yet.
            self._base.execute("UPDATE images SET number = -1 - number WHERE number >= 0")
        except sqlite3.DatabaseError as error:
            raise FileError(self.path, f"the journal of the run cannot be used: {error}") from None

    def kept(self, place: Place, number: int, retry: bool) -> Record | None:
        """What was done with an image that has not changed since; None: it has to be done. With `retry`, also what failed."""
        row = self._base.execute(
            "SELECT size, changed, sha256, failure, unmet, rows FROM images WHERE path = ? AND page = ?",
            (str(place.path), place.page),
        ).fetchone()
        if row is None or (row[3] and retry) or not self._is_same(place, *row[:3]):
            return None
        rows = tuple(orjson.loads(row[5]))
        if not row[3] and not self._is_there(rows):
            return None
        self._base.execute("UPDATE images SET number = ? WHERE path = ? AND page = ?", (number, str(place.path), place.page))
        return Record(place, row[3], tuple(orjson.loads(row[4])), rows)

    def _is_same(self, place: Place, size: int, changed: int, sha256: str) -> bool:
        try:
            about = place.path.stat()
        except OSError:
            return False
        return (about.st_size, about.st_mtime_ns) == (size, changed) or (sha256 != "" and hash_of(place.path) == sha256)

    def _is_there(self, rows: tuple[Mapping[str, Any], ...]) -> bool:
        """Whether the files that were written are still there."""
        names = {name for row in rows for name in str(row.get("results", "")).split(RESULTS_APART) if name}
        return all((self.out / name).exists() for name in names)

    def add(self, record: Record, number: int) -> None:
        """Note what has become of an image, the `number`-th of the run. Raises `FileError`."""
        place = record.place
        try:
            about = place.path.stat()
            size, changed = about.st_size, about.st_mtime_ns
        except OSError:
            size, changed = -1, -1
        tables = zlib.compress(encoded(record.tables).encode(), 1) if record.tables else None
        line = zlib.compress(record.line.encode(), 1) if record.line else None
        try:
            self._base.execute(
                "INSERT OR REPLACE INTO images VALUES (?, ?, ?, ?, ?, ?, ?, ?, ?, ?, ?)",
                (
                    str(place.path), place.page, number, size, changed, record.sha256, record.failure, encoded(record.unmet),
                    encoded(record.rows), tables, line,
                ),
            )  # fmt: skip
        except sqlite3.DatabaseError as error:
            raise FileError(self.path, f"the journal of the run cannot be written: {error}") from None

    def settle(self, is_whole: bool) -> None:
        """The run has ended: what it has not come by is left out of its tables if it `is_whole`, else it stays in them."""
        number = "NULL" if is_whole else "-1 - number"
        self._base.execute(f"UPDATE images SET number = {number} WHERE number < 0")

    def rows(self) -> Iterator[dict[str, Any]]:
        """The rows of the summary, in the order of the images."""
        for (rows,) in self._base.execute(f"SELECT rows FROM images WHERE {_IN_ORDER}"):
            yield from orjson.loads(rows)

    def lines(self) -> Iterator[str]:
        """The findings of each image as a line of JSON."""
        for (line,) in self._base.execute(f"SELECT line FROM images WHERE line IS NOT NULL AND {_IN_ORDER}"):
            yield zlib.decompress(line).decode()

    def tables(self) -> Iterator[tuple[str, int, float | str, dict[str, tuple[list[str], list[list[Any]]]]]]:
        """Path, page, time ("": none) and the findings of each detector, image by image."""
        chosen = f"SELECT path, page, rows, tables FROM images WHERE tables IS NOT NULL AND {_IN_ORDER}"
        for path, page, rows, tables in self._base.execute(chosen):
            first = (orjson.loads(rows) or [{}])[0]
            yield path, page, first.get("time", ""), orjson.loads(zlib.decompress(tables))

    def close(self) -> None:
        """Give back the file."""
        self._base.close()

    def __enter__(self) -> Journal:
        return self

    def __exit__(self, kind: type[BaseException] | None, error: BaseException | None, trace: TracebackType | None) -> None:
        self.close()
