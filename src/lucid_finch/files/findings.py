"""Writes what was found: findings JSON, CSV tables, SVG overlay."""

from __future__ import annotations

import base64
import csv
import hashlib
import io
import json
import re
from collections.abc import Iterable
from functools import cache, lru_cache
from importlib import metadata
from pathlib import Path
from typing import Any

import numpy as np
import orjson

from lucid_finch.core.detection import Detection
from lucid_finch.core.errors import ParameterError
from lucid_finch.core.execution.engine import Run
from lucid_finch.core.table import Table
from lucid_finch.core.viewing.display import picture_of
from lucid_finch.core.viewing.mark_colours import mark_colours
from lucid_finch.files.writing import whole_file, write_text

_DIGITS, _METRIC_DIGITS = 4, 6


def findings_document(run: Run, image_path: str | Path | None = None, time: float | None = None) -> dict[str, Any]:
    """The contents of a findings file; `time`: of a frame of a clip, s."""
    image: dict[str, Any] = {
        "path": str(image_path) if image_path is not None else run.image.name,
        "width": run.image.source_size[0],
        "height": run.image.source_size[1],
        "sha256": _file_hash(image_path),
    }
    if run.image.pages > 1:
        image["page"] = run.image.page
    if time is not None:
        image["time"] = time
    resolved = {name: {k: _clean(v) for k, v in d.resolved.items()} for name, d in run.detections.items()}
    expected = {entry.name: entry.plain()["expect"] for entry in run.recipe.detectors}
    return {
        "lucid_finch_findings": 1,
        "image": image,
        "recipe": {"name": run.recipe.name, "sha256": run.recipe.sha256, "resolved": resolved},
        "versions": versions(),
        "calibration": run.recipe.calibration.summary if run.recipe.calibration is not None else None,
        "detections": [_detection(d, expected.get(name, {})) for name, d in run.detections.items()],
        "combined": [{"of": list(c.of), "duplicates": c.duplicates, "findings": _rows(c.findings)} for c in run.combined],
    }


def versions() -> dict[str, str]:
    """Versions that a result depends on."""
    return {name: _version(name) for name in ("lucid-finch", "numpy", "scipy", "numba")}


@cache
def _version(package: str) -> str:
    return metadata.version(package)


def _detection(d: Detection, expected: dict[str, Any]) -> dict[str, Any]:
    return {
        "detector": d.name,
        "kind": d.kind,
        "units": d.units,
        "counts": d.findings.counts(d.named_by) if d.named_by else {},
        "findings": _rows(d.findings),
        "near_misses": _rows(d.near_misses),
        "points": {name: _column(values) for name, values in d.points.items()},
        "outlines": [] if d.points else [_column(o) for o in d.outlines],
        "fit": _clean(d.fit) if d.fit else None,
        "expected": expected,
        "notes": list(d.notes),
        "seconds": round(d.seconds, 4),
    }


def _column(values: Any) -> list[Any]:
    array = np.asarray(values)
    return np.round(array.astype(float), _DIGITS).tolist() if array.dtype.kind == "f" else array.tolist()  # type: ignore[no-any-return]


def _rows(table: Table) -> list[dict[str, Any]]:
    """Rows as JSON can hold them; millimetres, which are several pixels, with more digits."""
    digits = {name: _METRIC_DIGITS if c.unit.startswith("mm") else _DIGITS for name, c in table.declared.items()}
    return [{name: _clean(value, digits[name]) for name, value in row.items()} for row in table.rows()]


def _clean(value: Any, digits: int = _DIGITS) -> Any:
    """What JSON can hold: rounded numbers, null for what is no number."""
    if isinstance(value, dict):
        return {k: _clean(v, digits) for k, v in value.items()}
    if isinstance(value, (list, tuple)):
        return [_clean(v, digits) for v in value]
    if isinstance(value, np.generic):
        value = value.item()
    if isinstance(value, float):
        return round(value, digits) if np.isfinite(value) else None
    return value


def _file_hash(path: str | Path | None) -> str | None:
    # A pipe can be read once only.
    if path is None or not Path(path).is_file():
        return None
    try:
        about = Path(path).stat()
        return file_hash(Path(path), about.st_size, about.st_mtime_ns)
    except OSError:
        return None


@lru_cache(maxsize=64)
def file_hash(path: Path, size: int, changed: int) -> str:
    """sha256 of a file of that size, last changed then (ns); a clip is not read again for each frame. Raises `OSError`."""
    with path.open("rb") as stream:
        return hashlib.file_digest(stream, "sha256").hexdigest()


def write_findings(path: str | Path, run: Run, image_path: str | Path | None = None, time: float | None = None) -> None:
    """`NAME.findings.json`. Raises `FileError`."""
    document = findings_document(run, image_path, time)
    write_text(path, json_text(document) + "\n")


def encoded(value: Any) -> str:
    """JSON on one line; what is no number becomes null."""
    try:
        return orjson.dumps(value).decode()
    except TypeError:
        # A text that is no Unicode, such as the name of a file in another encoding.
        return json.dumps(value, allow_nan=False)


def json_text(value: Any, indent: int = 0) -> str:
    """JSON with a line for each row and each column of numbers: people can read it, and it is short."""
    # Columns hold one type: the first value says whether they are flat.
    some = list(value.values()) if isinstance(value, dict) else value[:1] if isinstance(value, list) else []
    if not any(isinstance(one, (dict, list)) and one for one in some):
        return encoded(value)
    pad = " " * (indent + 1)
    if isinstance(value, dict):
        lines = (f"{pad}{encoded(str(key))}: {json_text(one, indent + 1)}" for key, one in value.items())
        return "{\n" + ",\n".join(lines) + "\n" + " " * indent + "}"
    return "[\n" + ",\n".join(pad + json_text(one, indent + 1) for one in value) + "\n" + " " * indent + "]"


def table_rows(run: Run) -> dict[str, tuple[tuple[str, ...], list[list[Any]]]]:
    """Columns and rows of the findings of each detector, as JSON can hold them."""
    return {name: (d.findings.columns, [list(row.values()) for row in _rows(d.findings)]) for name, d in run.detections.items()}


def write_csv(path: str | Path, table: Table) -> None:
    """One table, with the column names as header. Raises `FileError`."""
    with whole_file(path, text=True) as stream:
        writer = csv.writer(stream)
        writer.writerow(table.columns)
        writer.writerows(row.values() for row in _rows(table))


def write_parquet(path: str | Path, table: Table) -> None:
    """One table as Parquet. Raises `FileError`, `ParameterError` where pyarrow is not installed."""
    try:
        import pyarrow.parquet
    except ImportError as error:
        raise ParameterError("parquet needs pyarrow: pip install 'lucid-finch[tables]'", "outputs") from error
    buffer = io.BytesIO()
    pyarrow.parquet.write_table(table.to_arrow(), buffer)
    with whole_file(path) as stream:
        stream.write(buffer.getbuffer())


def write_rows(path: str | Path, rows: Iterable[dict[str, Any]], columns: list[str]) -> None:
    """Rows of mappings as CSV. Raises `FileError`."""
    with whole_file(path, text=True) as stream:
        writer = csv.DictWriter(stream, columns)
        writer.writeheader()
        writer.writerows(rows)


_NOT_XML = re.compile("[^\t\n\r -\ud7ff\ue000-\ufffd\U00010000-\U0010ffff]")
"""Characters that XML has no place for, not even escaped."""


def svg_overlay(run: Run, with_picture: bool = True, picture: Any = None) -> str:
    """The findings as SVG whose user units are the source's pixels: pixel centres lie at whole numbers.

    `picture`: a Pillow picture to use instead of the image at its full size.
    """
    from jinja2 import Environment, PackageLoader

    width, height = run.image.source_size
    embedded = ""
    if with_picture:
        import PIL.Image

        buffer = io.BytesIO()
        (picture or PIL.Image.fromarray(picture_of(run.image))).save(buffer, "PNG", compress_level=3)
        embedded = base64.b64encode(buffer.getvalue()).decode()
    groups = []
    colours = mark_colours(run.recipe)
    for name, d in run.detections.items():
        marks = []
        for row in range(len(d.findings)):
            outline = d.outlines[row] if len(d.outlines) else np.array([[d.findings["x"][row], d.findings["y"][row]]])
            closed = bool(d.outlines.closed[row]) if len(d.outlines) else False
            path = "M" + " L".join(f"{x:.3f},{y:.3f}" for x, y in outline) + ("Z" if closed else "")
            x, y = d.place(row)
            marks.append({"id": d.label(row), "path": path, "x": x, "y": y})
        groups.append({"name": name, "colour": colours[name], "marks": marks})
    template = Environment(loader=PackageLoader("lucid_finch.files"), autoescape=True).get_template("overlay.svg")
    text = template.render(width=width, height=height, picture=embedded, groups=groups, title=run.image.name or "findings")
    return _NOT_XML.sub("\N{REPLACEMENT CHARACTER}", text)


def write_svg(path: str | Path, run: Run, with_picture: bool = True) -> None:
    """`svg_overlay` to a file. Raises `FileError`."""
    write_text(path, svg_overlay(run, with_picture))
