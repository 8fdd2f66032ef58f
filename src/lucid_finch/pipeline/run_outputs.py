"""What is written of a whole run: the summary, one table a detector, lines of JSON, clips."""

from __future__ import annotations

import contextlib
import csv
from collections.abc import Iterator
from pathlib import Path
from typing import IO, Any

from lucid_finch.core.detectors import KINDS
from lucid_finch.core.errors import FileError, ParameterError
from lucid_finch.core.table import Column
from lucid_finch.files.clips import ClipWriter
from lucid_finch.files.findings import write_rows
from lucid_finch.files.maps import RESULT
from lucid_finch.files.writing import whole_file
from lucid_finch.pipeline.batch import Batch, Record
from lucid_finch.pipeline.clip_pictures import Shown
from lucid_finch.pipeline.journal import Journal
from lucid_finch.pipeline.sinks import file_names
from lucid_finch.pipeline.sources import OF_ALL, SUMMARY, SUMMARY_NAME, Place

_BEFORE = ("image", "page", "time")
"""Columns of the table of a run before those of the findings."""
_AT_ONCE = 50_000
"""Rows of a Parquet file that are written together."""
_PICTURES = "images"
"""What the name of a clip made of pictures begins with."""
_RATE = 25.0
"""Frames a second of a clip made of pictures that have no time."""


def write_of_run(batch: Batch, journal: Journal) -> list[Path]:
    """The summary, and the tables and lines that are asked for. Raises `FileError`, `ParameterError`."""
    out = journal.out
    write_rows(out / SUMMARY_NAME, journal.rows(), list(SUMMARY))
    made = [out / SUMMARY_NAME]
    if "lines" in batch.outputs.kinds:
        with whole_file(out / f"{OF_ALL}findings.jsonl", text=True) as stream:
            stream.writelines(f"{line}\n" for line in journal.lines())
        made.append(out / f"{OF_ALL}findings.jsonl")
    if "table" in batch.outputs.kinds:
        made += _csv_tables(batch, journal)
    if "table-parquet" in batch.outputs.kinds:
        made += _parquet_tables(batch, journal)
    return made


def _table_files(batch: Batch, ending: str) -> dict[str, str]:
    names = file_names([entry.name for entry in batch.recipe.detectors])
    return {entry.name: f"{OF_ALL}{names[entry.name]}.{ending}" for entry in batch.recipe.running}


def _csv_tables(batch: Batch, journal: Journal) -> list[Path]:
    names = _table_files(batch, "csv")
    with contextlib.ExitStack() as stack:
        opened: dict[str, IO[str]] = {
            name: stack.enter_context(whole_file(journal.out / file, text=True)) for name, file in names.items()
        }
        begun: set[str] = set()
        for path, page, time, tables in journal.tables():
            for name, (columns, rows) in tables.items():
                writer = csv.writer(opened[name])
                if name not in begun:
                    begun.add(name)
                    writer.writerow((*_BEFORE, *columns))
                writer.writerows([path, page, time, *row] for row in rows)
    return [journal.out / file for file in names.values()]


def _parquet_tables(batch: Batch, journal: Journal) -> list[Path]:
    try:
        import pyarrow
        import pyarrow.parquet as parquet
    except ImportError as error:
        raise ParameterError("table-parquet needs pyarrow: pip install 'lucid-finch[tables]'", "outputs") from error
    names = _table_files(batch, "parquet")
    with contextlib.ExitStack() as stack:
        opened = {name: stack.enter_context(whole_file(journal.out / file)) for name, file in names.items()}
        writers: dict[str, Any] = {}
        waiting: dict[str, list[list[Any]]] = {name: [] for name in names}
        columns_of: dict[str, list[str]] = {}

        def write(name: str) -> None:
            rows, waiting[name] = waiting[name], []
            columns = [*_BEFORE, *columns_of.get(name, [])]
            values = {column: [row[k] for row in rows] for k, column in enumerate(columns)}
            table = pyarrow.table(values, schema=_schema(name))
            if name not in writers:
                writers[name] = stack.enter_context(parquet.ParquetWriter(opened[name], table.schema))
            writers[name].write_table(table)

        declared = {entry.name: KINDS[entry.kind].all_columns() for entry in batch.recipe.running}

        def _schema(name: str) -> Any:
            known: dict[str, Column] = {column.name: column for column in declared[name]}
            kinds = {"image": pyarrow.string(), "page": pyarrow.int64(), "time": pyarrow.float64()}
            for column in columns_of.get(name, []):
                kinds[column] = _arrow_type(pyarrow, column, known.get(column))
            return pyarrow.schema(kinds)

        for path, page, time, tables in journal.tables():
            for name, (columns, rows) in tables.items():
                columns_of.setdefault(name, list(columns))
                waiting[name] += [[path, page, time if isinstance(time, float | int) else None, *row] for row in rows]
                if len(waiting[name]) >= _AT_ONCE:
                    write(name)
        for name in names:
            write(name)
    return [journal.out / file for file in names.values()]


def _arrow_type(pyarrow: Any, name: str, column: Column | None) -> Any:
    """How a column of findings is stored: texts, whole numbers, numbers."""
    if column is not None and column.names:
        return pyarrow.string()
    whole = ("id", "rank", "track")
    return pyarrow.int64() if name in whole or (column is not None and column.scale in ("flag", "number")) else pyarrow.float64()


class Clips:
    """Puts the frames of records together to clips; those of one source follow one another."""

    def __init__(self, batch: Batch) -> None:
        self.batch = batch
        self._source: Path | None = None
        self._writers: dict[str, ClipWriter] = {}
        self._shown: dict[str, Shown] = {}
        self._number = 0
        self.failures: list[str] = []
        """Clips that could not be written to their end."""
        self._given_up: set[str] = set()
        self.made: list[Path] = []

    def add(self, record: Record) -> None:
        """The frames of the next image."""
        if not record.pictures or self.batch.out is None:
            return
        place = record.place
        # All pictures make one clip, whatever folders they are in.
        source = place.path if place.is_frame else Path(_PICTURES)
        if source != self._source:
            self.close()
            self._source, self._number, self._given_up = source, 0, set()
        time = place.time if place.time is not None else self._number / _RATE
        self._number += 1
        names = file_names(record.pictures)
        for name, frame in record.pictures.items():
            if name in self._given_up:
                continue
            try:
                writer = self._writers.get(name)
                if writer is None:
                    writer = self._writers[name] = self._begun(place, names[name])
                    self._shown[name] = Shown()
                writer.write(self._shown[name].picture(frame), time)
            except FileError as error:
                self._give_up(name, error)

    def _begun(self, place: Place, name: str) -> ClipWriter:
        assert self.batch.out is not None
        stem = (place.name or place.path.name) if place.is_frame else _PICTURES
        ending = f"{name}.{self.batch.outputs.clip_format}"
        path, number = self.batch.out / f"{stem}.{ending}", 1
        # Pictures before and after a clip.
        while path in self.made:
            number += 1
            path = self.batch.out / f"{stem}-{number}.{ending}"
        self.made.append(path)
        return ClipWriter(path, _RATE, RESULT)

    def _give_up(self, name: str, error: FileError) -> None:
        self.failures.append(str(error))
        self._given_up.add(name)
        writer = self._writers.pop(name, None)
        if writer is not None:
            with contextlib.suppress(FileError):
                writer.close()

    def close(self) -> None:
        """Finish what is open."""
        for name in list(self._writers):
            writer = self._writers.pop(name)
            try:
                writer.close()
            except FileError as error:
                self.failures.append(str(error))
        self._shown = {}


def with_clips(records: Iterator[Record], clips: Clips) -> Iterator[Record]:
    """The records, their frames put into clips on the way."""
    try:
        for record in records:
            clips.add(record)
            yield record
    finally:
        clips.close()
