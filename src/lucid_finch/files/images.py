"""Reads pictures and arrays from files, by their content and not by their ending."""

from __future__ import annotations

import contextlib
import csv
import logging
import re
import shutil
import struct
import tempfile
import threading
import warnings
from collections.abc import Callable, Iterator
from dataclasses import dataclass, field
from pathlib import Path
from typing import Any

import numpy as np

from lucid_finch.core.errors import FileError, ParameterError
from lucid_finch.core.image import Image
from lucid_finch.files import clips

MOST_PIXELS = 500_000_000
"""Larger pictures are refused before they are unpacked."""

MOST_MEMORY = 2_000_000_000
"""Bytes that may be taken while a picture is unpacked."""
_STRIP = 256
"""Rows that are copied at a time."""

READ = "PNG, JPEG, WebP, BMP, GIF, TIFF, PGM/PPM, NPY, CSV"
ENDINGS = (".png", ".jpg", ".jpeg", ".webp", ".bmp", ".gif", ".tif", ".tiff", ".pgm", ".ppm", ".pnm", ".npy", ".csv")

# How the stored rows and columns have to be turned for each EXIF/TIFF orientation.
_ORIENTED: dict[int, Callable[[Any], Any]] = {
    2: lambda a: a[:, ::-1],
    3: lambda a: a[::-1, ::-1],
    4: lambda a: a[::-1],
    5: lambda a: a.swapaxes(0, 1),
    6: lambda a: a.swapaxes(0, 1)[:, ::-1],
    7: lambda a: a[::-1, ::-1].swapaxes(0, 1),
    8: lambda a: a.swapaxes(0, 1)[::-1],
}


def read_image(
    path: str | Path,
    *,
    page: int = 0,
    significant_bits: int | None = None,
    value_range: tuple[float, float] | None = None,
) -> Image:
    """The picture in a file, or one `page` (from 0) of several: of a clip, the frame. Raises `FileError` that names the file and
    the reason, `ParameterError`."""
    given = Path(path)
    if "\0" in str(given):
        raise FileError(given, "is no name of a file")
    if isinstance(page, bool) or not isinstance(page, int) or page < 0:
        raise ParameterError(f"page: {page!r} is not allowed; a whole number from 0", "page")
    if clips.is_clip(given):
        return clips.read_frame(given, page)
    with _seekable(given) as file:
        try:
            return _read(file, given.name, page, significant_bits, value_range)
        except FileError as error:
            if file is given:
                raise
            raise FileError(given, error.reason) from error


@contextlib.contextmanager
def _seekable(file: Path) -> Iterator[Path]:
    """The file itself; of a pipe or a device, which can be read once only, a copy."""
    if file.is_file() or file.is_dir() or not file.exists():
        yield file
        return
    with tempfile.NamedTemporaryFile(prefix="lucid-finch-", suffix=file.suffix) as copy:
        try:
            with file.open("rb") as stream:
                shutil.copyfileobj(stream, copy)
            copy.flush()
        except OSError as error:
            raise FileError(file, f"cannot be read: {error.strerror or error}") from error
        yield Path(copy.name)


def _read(file: Path, name: str, page: int, significant_bits: int | None, value_range: tuple[float, float] | None) -> Image:
    head = _head(file)
    pages = 1
    try:
        reader = _reader(file, head)
        if reader in _PAGES:
            pages = _PAGES[reader](file)
        if page >= pages:
            raise FileError(file, f"has {pages} picture{'s' * (pages > 1)}; there is no page {page} (they count from 0)")
        loaded = reader(file, page)
    except FileError:
        raise
    except MemoryError as error:
        raise FileError(file, "does not fit into memory") from error
    except Exception as error:  # whatever a damaged file makes a decoder raise
        raise FileError(file, f"is damaged or cut short: {_first_line(error)}") from error
    array, notes = loaded.array, loaded.notes
    try:
        bits = loaded.bits if significant_bits is None else significant_bits
        if array.dtype.kind == "f" or (array.dtype.itemsize == 1 and reader is not _read_pnm):
            bits = significant_bits
        if bits is not None and array.dtype.kind in "iu" and bits > 8 * array.dtype.itemsize:
            # Said of a whole folder, it concerns the deeper files in it.
            bits = None
            notes.append(f"significant_bits = {significant_bits} does not apply to {8 * array.dtype.itemsize} bits")
        return Image.from_array(
            array, significant_bits=bits, value_range=value_range, mask=loaded.mask, name=name, notes=tuple(notes), page=page,
            pages=pages, copy=False,
        )  # fmt: skip
    except ParameterError as error:
        if error.parameter == "image":
            raise FileError(file, str(error).removeprefix("image: ")) from error
        raise


def _head(file: Path) -> bytes:
    try:
        if file.is_dir():
            raise FileError(file, "is a folder, not a picture")
        with file.open("rb") as stream:
            head = stream.read(64)
    except FileNotFoundError as error:
        raise FileError(file, "does not exist") from error
    except OSError as error:
        if isinstance(error, FileError):
            raise
        raise FileError(file, f"cannot be read: {error.strerror or error}") from error
    if not head:
        raise FileError(file, "is empty (0 bytes)")
    return head


def page_count(path: str | Path) -> int:
    """How many pictures a file holds. Raises `FileError`."""
    file = Path(path)
    if clips.is_clip(file):
        return clips.frame_count(file)
    reader = _reader(file, _head(file))
    try:
        return _PAGES[reader](file) if reader in _PAGES else 1
    except Exception as error:
        raise FileError(file, f"is damaged or cut short: {_first_line(error)}") from error


_NUMBERS = re.compile(rb"[0-9.,;eE+\-\snaN]+")
"""How a table of numbers begins."""


@dataclass
class Loaded:
    """Pixels as a file has them."""

    array: Any
    bits: int | None = None
    """Significant bits, where the file says so."""
    notes: list[str] = field(default_factory=list)
    mask: Any = None
    """Valid pixels; None: all that the array's alpha does not hide."""


Reader = Callable[[Path, int], Loaded]


def _reader(file: Path, head: bytes) -> Reader:
    if head.startswith(b"\x93NUMPY"):
        return _read_npy
    if head[:4] in (b"II*\0", b"MM\0*", b"II+\0", b"MM\0+"):
        return _read_tiff
    if head[:1] == b"P" and head[1:2] in b"2356" and head[2:3].isspace():
        return _read_pnm
    starts = (b"\x89PNG\r\n\x1a\n", b"\xff\xd8\xff", b"BM", b"P1", b"P4", b"GIF8")
    if head.startswith(starts) or (head[:4] == b"RIFF" and head[8:12] == b"WEBP"):
        return _read_with_pillow
    if file.suffix.lower() in (".csv", ".tsv", ".txt") or (not file.suffix and _NUMBERS.fullmatch(head)):
        return _read_csv
    raise FileError(file, f"is no picture that Lucid Finch reads ({READ})")


def _allow(width: int, height: int, file: Path, bytes_each: float = 1.0) -> None:
    """Refuses what is too large before it is unpacked; `bytes_each`: what a pixel takes while it is read."""
    if width * height > MOST_PIXELS:
        raise FileError(file, f"has {width} x {height} pixels; more than {MOST_PIXELS // 1_000_000} million are refused")
    if width * height * bytes_each > MOST_MEMORY:
        needed = f"takes {width * height * bytes_each / 1e9:.2g} GB to read; more than {MOST_MEMORY / 1e9:g} GB are refused"
        raise FileError(file, f"has {width} x {height} pixels and {needed}")


_BYTES_EACH = {"1": 2, "L": 2, "LA": 6, "P": 8, "PA": 9, "I;16": 4, "I": 8, "F": 8}
"""Bytes that a pixel takes in the decoder, which pads colour to four, and in the array; 9 for all others."""


def _read_with_pillow(file: Path, number: int) -> Loaded:
    import PIL.Image

    PIL.Image.MAX_IMAGE_PIXELS = None  # our own check below refuses what is too large, with a message of ours
    notes: list[str] = []
    with file.open("rb") as stream:
        start = stream.read(4)
    bits, depth = _png_bits(file) if start == b"\x89PNG" else (None, 8)
    with warnings.catch_warnings():
        warnings.simplefilter("ignore")
        with PIL.Image.open(file) as opened:
            picture: PIL.Image.Image = opened
            _allow(*picture.size, file, _BYTES_EACH.get(picture.mode, 9))
            orientation = int(picture.getexif().get(0x0112, 1)) if opened.format in ("JPEG", "WEBP", "PNG", "MPO") else 1
            if depth == 16 and picture.mode in ("RGB", "RGBA", "LA"):
                _allow(*picture.size, file, 14)
                array, mask = _deep_png(file), None
            else:
                if number:
                    picture.seek(number)
                mask = _load(picture, notes)
                array = _array_of(picture, notes)
    if array.dtype.kind in "iu" and array.dtype.itemsize > 2:
        array = array.astype(np.uint16) if array.size and array.min() >= 0 and array.max() < 65536 else array
    array = array.astype(array.dtype.newbyteorder("="), copy=False)
    if orientation in _ORIENTED:
        array = _ORIENTED[orientation](array)
        mask = _ORIENTED[orientation](mask) if mask is not None else None
        notes.append("turned upright as its EXIF orientation says")
    return Loaded(array, bits, notes, mask)


_truncated = threading.Lock()
_LARGEST_BLOCK = 16
"""Rows that are coded together in a JPEG, at most."""


def _load(picture: Any, notes: list[str]) -> Any:
    """Decode a picture; of a JPEG that is cut short, what there is. Returns the mask of valid pixels, None for all."""
    from PIL import ImageFile

    if picture.format != "JPEG":
        picture.load()
        return None
    try:
        picture.load()
        return None
    except OSError as error:
        # A setting of the whole module: what is cut short is read by one thread at a time.
        with _truncated:
            ImageFile.LOAD_TRUNCATED_IMAGES = True
            try:
                picture.load()
            finally:
                ImageFile.LOAD_TRUNCATED_IMAGES = False
        # What is missing is filled with one grey; the blocks of the last row that is there may be incomplete.
        pixels = np.asarray(picture).reshape(picture.height, picture.width, -1)
        there = np.flatnonzero((pixels != pixels[-1, -1]).any(axis=(1, 2)))
        rows = (int(there[-1]) // _LARGEST_BLOCK) * _LARGEST_BLOCK if len(there) else 0
        if not rows:
            raise error
    notes.append(f"the file is cut short: {rows} of {picture.height} rows could be read; the others are not valid")
    mask = np.zeros((picture.height, picture.width), bool)
    mask[:rows] = True
    return mask


def _deep_png(file: Path) -> Any:
    """Colour, or grey with alpha, of 16 bits a channel, which the other library reduces to 8."""
    import imagecodecs

    return imagecodecs.png_decode(file.read_bytes())


def _array_of(picture: Any, notes: list[str]) -> Any:
    """A decoded picture as an array, strip by strip: never the whole of it twice."""
    mode = picture.mode
    wanted = mode
    if mode in ("P", "PA"):
        wanted = "RGBA" if "transparency" in picture.info or mode == "PA" else "RGB"
    elif mode == "1":
        wanted = "L"
    elif mode in ("CMYK", "YCbCr", "LAB", "HSV"):
        notes.append(f"converted from {mode} to RGB")
        wanted = "RGB"
    elif mode in ("L", "RGB") and "transparency" in picture.info:
        wanted = "LA" if mode == "L" else "RGBA"
    width, height = picture.size
    out: Any = None
    for top in range(0, height, _STRIP):
        strip = picture.crop((0, top, width, min(top + _STRIP, height)))
        if wanted != mode:
            # The colour that stands for transparent is not carried over by cutting.
            strip.info = dict(picture.info)
            strip = strip.convert(wanted)
        part = np.asarray(strip)
        if out is None:
            out = np.empty((height, *part.shape[1:]), part.dtype)
        out[top : top + _STRIP] = part
    return out


def _png_bits(file: Path) -> tuple[int | None, int]:
    """Significant bits from the sBIT chunk (or None), and the bit depth."""
    significant, depth = None, 8
    with file.open("rb") as stream:
        stream.seek(8)
        while len(start := stream.read(8)) == 8:
            length, name = struct.unpack(">I4s", start)
            if name == b"IDAT" or length > 1 << 20:
                break
            data = stream.read(length + 4)
            if name == b"IHDR":
                depth = data[8]
            elif name == b"sBIT" and length:
                significant = max(data[: min(length, 3)])
    return significant, depth


def _pillow_pages(file: Path) -> int:
    import PIL.Image

    PIL.Image.MAX_IMAGE_PIXELS = None
    with warnings.catch_warnings():
        warnings.simplefilter("ignore")
        with PIL.Image.open(file) as opened:
            return int(getattr(opened, "n_frames", 1))


def _tiff_pages(file: Path) -> int:
    import tifffile

    logging.getLogger("tifffile").setLevel(logging.CRITICAL)
    with tifffile.TiffFile(file) as tiff:
        return max(len(tiff.pages), 1)


def _read_tiff(file: Path, number: int) -> Loaded:
    import tifffile

    # Its complaints about a damaged file reach the user as one error of ours.
    logging.getLogger("tifffile").setLevel(logging.CRITICAL)
    notes: list[str] = []
    with tifffile.TiffFile(file) as tiff:
        if not tiff.pages:
            raise FileError(file, "holds no picture")
        page: Any = tiff.pages[number]
        colours = tifffile.PHOTOMETRIC
        each = 4 if page.photometric == colours.PALETTE else 2 * page.samplesperpixel * max(page.bitspersample, 8) / 8
        _allow(page.imagewidth, page.imagelength, file, each)
        if page.photometric not in (colours.MINISBLACK, colours.MINISWHITE, colours.RGB, colours.PALETTE):
            return _tiff_by_pillow(file, number, page, f"stores colour as {page.photometric.name}")
        try:
            array = page.asarray()
        except ValueError as error:
            if "imagecodecs" not in str(error):
                raise
            return _tiff_by_pillow(file, number, page, f"is compressed by {page.compression.name}")
        axes = page.axes
        if page.photometric == tifffile.PHOTOMETRIC.PALETTE and page.colormap is not None:
            table, codes = (page.colormap >> 8).astype(np.uint8), array
            array = np.empty((*codes.shape, 3), np.uint8)
            for channel in range(3):
                array[..., channel] = table[channel][codes]
            del codes
        elif axes.startswith("S") and array.ndim == 3:
            array = np.moveaxis(array, 0, -1)
        if page.photometric == tifffile.PHOTOMETRIC.MINISWHITE:
            top = (1 << page.bitspersample) - 1 if array.dtype.kind in "iu" else 1
            array = array.astype(bool) ^ True if array.dtype == bool else (top - array).astype(array.dtype)
        tag = page.tags.get("MaxSampleValue")
        stored = max(np.atleast_1d(tag.value)) if tag is not None else None
        bits = int(stored).bit_length() if stored else (page.bitspersample if page.bitspersample not in (8, 16, 32, 64) else None)
        orientation = page.tags.get("Orientation")
        turned = _ORIENTED.get(int(orientation.value)) if orientation is not None else None
        if turned is not None:
            array = turned(array)
            notes.append("turned upright as its orientation tag says")
    if array.ndim > 3:
        raise FileError(file, f"has an array of shape {array.shape}, which is no single picture")
    return Loaded(array.astype(array.dtype.newbyteorder("="), copy=False), bits, notes)


def _tiff_by_pillow(file: Path, number: int, page: Any, why: str) -> Loaded:
    """What only the other library knows: colour other than RGB, and some compressions; of 8 bits, or grey of 16."""
    from PIL import Image as Pillow

    what = f"{why} with {page.bitspersample} bits a channel, which is not read"
    try:
        with Pillow.open(file) as picture:
            picture.seek(number)
            if picture.mode in ("I;16", "I;16B", "F", "1", "L", "LA", "P", "RGB", "RGBA"):
                return _read_with_pillow(file, number)
            if picture.mode == "LAB":
                raise FileError(file, what)
            rgb = picture.convert("RGB")
    except FileError:
        raise
    except (OSError, ValueError, KeyError) as error:
        raise FileError(file, what) from error
    return Loaded(np.array(rgb), None, [f"{picture.mode} converted to RGB"])


def _read_pnm(file: Path, number: int) -> Loaded:
    """PGM and PPM, plain and raw, keeping the grey levels as stored (a maximum of 4095 stays 12 bits)."""
    data = file.read_bytes()
    numbers: list[int] = []
    place = 2
    while len(numbers) < 3:
        while place < len(data) and (data[place : place + 1].isspace() or data[place : place + 1] == b"#"):
            place = (data.find(b"\n", place) if data[place : place + 1] == b"#" else place) + 1
            if place == 0:
                raise ValueError("the header is not complete")
        end = place
        while end < len(data) and data[end : end + 1].isdigit():
            end += 1
        if end == place:
            raise ValueError("the header is not complete")
        numbers.append(int(data[place:end]))
        place = end
    width, height, most = numbers
    _allow(width, height, file)
    if not 0 < most < 65536 or not width or not height:
        raise ValueError("the header makes no sense")
    channels = 3 if data[1:2] in b"36" else 1
    count = width * height * channels
    if data[1:2] in b"56":
        kind = np.dtype(">u2") if most > 255 else np.dtype("u1")
        if len(data) - place - 1 < count * kind.itemsize:
            raise ValueError(f"{count * kind.itemsize} bytes of pixels are promised, {max(len(data) - place - 1, 0)} are there")
        flat = np.frombuffer(data, kind, count, place + 1)
    else:
        flat = np.array(data[place:].split()[:count], dtype=np.int64)
        if len(flat) < count:
            raise ValueError(f"{count} pixels are promised, {len(flat)} are there")
    if flat.max() > most:
        raise ValueError(f"a value of {int(flat.max())} is above the stated maximum of {most}")
    array = flat.astype(np.uint16 if most > 255 else np.uint8).reshape(height, width, channels)
    notes = [] if (most + 1).bit_count() == 1 else [f"the stated maximum is {most}"]
    return Loaded(array[..., 0] if channels == 1 else array, most.bit_length() if most != 255 else None, notes)


def _read_npy(file: Path, number: int) -> Loaded:
    array = np.load(file, mmap_mode="r", allow_pickle=False)
    if array.ndim >= 2:
        channels = array.shape[2] if array.ndim == 3 else 1
        _allow(array.shape[1], array.shape[0], file, channels * (array.dtype.itemsize + 4))
    return Loaded(array.astype(np.float32) if array.dtype == np.float64 else np.array(array))


def _read_csv(file: Path, number: int) -> Loaded:
    # A cell has two characters at least, and takes many bytes until it is a number.
    _allow(file.stat().st_size // 2, 1, file, 60)
    text = file.read_text(encoding="utf-8-sig")
    try:
        dialect = csv.Sniffer().sniff(text[:4096], delimiters=",;\t ")
        delimiter = dialect.delimiter
    except csv.Error:
        delimiter = ","
    if delimiter == " ":
        rows = [line.split() for line in text.splitlines() if line.strip()]
    else:
        rows = [row for row in csv.reader(text.splitlines(), delimiter=delimiter) if row]
    if rows and all(not row[-1].strip() for row in rows):
        # Every line ends with the delimiter.
        rows = [row[:-1] for row in rows]
    if not rows or len({len(row) for row in rows}) != 1:
        raise ValueError("the rows differ in length")
    # A cell without a number is a pixel that is not valid.
    array = np.array([[cell.strip() or "nan" for cell in row] for row in rows], dtype=np.float64)
    whole = np.isfinite(array).all() and (array == np.round(array)).all() and array.min() >= 0 and array.max() < 65536
    if whole:
        return Loaded(array.astype(np.uint8 if array.max() < 256 else np.uint16))
    return Loaded(array.astype(np.float32))


_PAGES: dict[Reader, Callable[[Path], int]] = {_read_with_pillow: _pillow_pages, _read_tiff: _tiff_pages}


def _first_line(error: BaseException) -> str:
    text = str(error).strip() or type(error).__name__
    return text.splitlines()[0][:160]
