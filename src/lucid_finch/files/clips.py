"""Reads and writes clips: frames by number with their times, exact seeking; open formats without loss for what is written."""

from __future__ import annotations

import bisect
import contextlib
import os
from collections.abc import Iterator
from dataclasses import dataclass
from fractions import Fraction
from pathlib import Path
from types import TracebackType
from typing import Any

import numpy as np
from numpy.typing import NDArray

from lucid_finch.core.errors import FileError, ParameterError
from lucid_finch.core.image import Image
from lucid_finch.files.writing import refuse_inputs

ENDINGS = (".mkv", ".mp4", ".m4v", ".mov", ".avi", ".webm", ".mpg", ".mpeg", ".ts", ".wmv", ".flv", ".ogv", ".y4m", ".mjpeg")
WRITTEN = {".mkv": "ffv1", ".webm": "libvpx-vp9"}
"""Endings of clips that are written, and how frames are packed: FFV1 loses nothing, VP9 is small."""
_MILLISECONDS = Fraction(1, 1000)
_REMEMBERED = 4
_indexes: dict[tuple[str, int, int], list[int]] = {}
_NEAR = 64
"""Frames that are decoded on the way, rather than to seek anew."""


def is_clip(path: str | Path) -> bool:
    """Whether a file's name is that of a clip."""
    return Path(path).suffix.lower() in ENDINGS


@dataclass(frozen=True)
class Frame:
    """One picture of a clip."""

    number: int
    """From 0."""
    time: float
    """Seconds from the first frame."""
    pixels: NDArray[Any]
    """(H, W) or (H, W, 3): uint8, or uint16 of `bits`."""
    bits: int

    def image(self, name: str, count: int) -> Image:
        """As an image; `count`: how many frames the clip has."""
        return Image.from_array(
            self.pixels, significant_bits=self.bits if self.bits > 8 else None, name=name, page=self.number,
            pages=max(count, self.number + 1), copy=False,
        )  # fmt: skip


def _words(error: BaseException) -> str:
    return str(error).split("] ")[-1].split(":")[0].strip() or type(error).__name__


class Clip:
    """An open clip: frames in the order in which they are shown. Close it, or use it in a `with` statement; one thread at a time.

    Raises `FileError` for what is no clip, holds no pictures, or is damaged.
    """

    def __init__(self, path: str | Path) -> None:
        import av

        self.path = Path(path)
        self._container: Any = None
        try:
            self._container = av.open(os.fspath(self.path), metadata_errors="ignore")
            streams = self._container.streams.video
            pictures = [s for s in streams if not s.disposition & av.stream.Disposition.attached_pic]
        except FileNotFoundError:
            raise FileError(self.path, "does not exist") from None
        except (av.error.FFmpegError, OSError, ValueError) as error:
            self.close()
            raise FileError(self.path, f"cannot be read as a clip: {_words(error)}") from None
        if not pictures:
            sound = bool(self._container.streams.audio)
            self.close()
            raise FileError(self.path, "holds sound but no pictures" if sound else "holds no pictures")
        self._stream = pictures[0]
        self._stream.thread_type = "AUTO"
        self._ticks = self._index()
        if not self._ticks:
            self.close()
            raise FileError(self.path, "holds no frame")
        self._decoder: Iterator[Any] | None = None
        self._next = 0

    def _index(self) -> list[int]:
        """The time stamps of all frames in the order shown; those of the clips that were opened last are remembered."""
        try:
            about = self.path.stat()
            key = (os.path.abspath(self.path), about.st_size, about.st_mtime_ns)
        except OSError:
            return self._indexed()
        if key not in _indexes:
            while len(_indexes) >= _REMEMBERED:
                _indexes.pop(next(iter(_indexes)), None)
            _indexes[key] = self._indexed()
        ticks = _indexes[key]
        self._step = self._usual_step(ticks)
        return ticks

    def _indexed(self) -> list[int]:
        """Read without unpacking a picture."""
        import av

        found: list[int] = []
        with contextlib.suppress(av.error.FFmpegError, OSError):
            for packet in self._container.demux(self._stream):
                if packet.size and not packet.is_discard:
                    found.append(packet.pts if packet.pts is not None else packet.dts if packet.dts is not None else len(found))
        self._step = self._usual_step(found)
        return sorted(set(found))

    def _usual_step(self, ticks: list[int]) -> int:
        steps = np.diff(np.unique(np.array(ticks, np.int64)))
        return int(np.median(steps)) if len(steps) else 1

    def __len__(self) -> int:
        return len(self._ticks)

    @property
    def size(self) -> tuple[int, int]:
        """Width and height as stored; a clip may say that it is to be shown turned."""
        context = self._stream.codec_context
        return int(context.width), int(context.height)

    @property
    def rate(self) -> float:
        """Frames a second, on average."""
        seconds = self.time_of(len(self) - 1) + float(self._step * self._base)
        return len(self) / seconds if seconds > 0 else float(self._stream.average_rate or 25)

    @property
    def _base(self) -> Fraction:
        return Fraction(self._stream.time_base or 1)

    def time_of(self, number: int) -> float:
        """Seconds from the first frame."""
        return float((self._ticks[number] - self._ticks[0]) * self._base)

    def number_at(self, seconds: float) -> int:
        """The frame that is shown at a time."""
        tick = self._ticks[0] + round(seconds / float(self._base))
        return min(max(bisect.bisect_right(self._ticks, tick) - 1, 0), len(self) - 1)

    def frame(self, number: int) -> Frame:
        """One frame. Quick where it comes after the one before. Raises `FileError`, `ParameterError`."""
        if not 0 <= number < len(self):
            raise ParameterError(f"page: {number} is not allowed; {self.path.name} has frames 0 to {len(self) - 1}", "page")
        if self._decoder is not None and self._next <= number < self._next + _NEAR:
            found = self._found(number)
            if found is not None:
                return found
        # Some formats go to a place behind the one asked for: then from an earlier one, at last from the beginning.
        for start in (number, max(number - _NEAR, 0), None):
            if self._seek(start):
                found = self._found(number)
                if found is not None:
                    return found
        raise FileError(self.path, f"frame {number} is damaged or missing: the clip may be cut short")

    def _found(self, number: int) -> Frame | None:
        """The frame, from where the decoder is; None if it is behind, or cannot be unpacked."""
        for frame in self._decoded():
            place = self._number_of(frame)
            self._next = place + 1
            if place == number:
                return self._made(frame, number)
            if place > number:
                break
        self._decoder = None
        return None

    def frames(self, first: int = 0, every: int = 1) -> Iterator[Frame]:
        """Frames first, first + every, ... Raises `FileError`."""
        for number in range(first, len(self), max(1, every)):
            yield self.frame(number)

    def _seek(self, number: int | None) -> bool:
        """Let decoding go on at or before a frame, None: from the beginning; whether that could be done."""
        import av

        self._decoder, index = None, self._stream.index
        try:
            if number is not None:
                self._container.seek(self._ticks[number], stream=self._stream, backward=True, any_frame=False)
            else:
                self._container.close()
                self._container = av.open(os.fspath(self.path), metadata_errors="ignore")
                self._stream = self._container.streams[index]
                self._stream.thread_type = "AUTO"
        except (av.error.FFmpegError, OSError):
            return False
        self._decoder, self._next = self._container.decode(self._stream), 0
        return True

    def _decoded(self) -> Iterator[Any]:
        """Frames until one cannot be unpacked."""
        import av

        with contextlib.suppress(av.error.FFmpegError, OSError):
            while self._decoder is not None:
                frame = next(self._decoder, None)
                if frame is None:
                    return
                yield frame

    def _number_of(self, frame: Any) -> int:
        tick = frame.pts if frame.pts is not None else frame.dts
        if tick is None:
            return self._next
        return bisect.bisect_left(self._ticks, tick)

    def _made(self, frame: Any, number: int) -> Frame:
        turns = round((frame.rotation or 0) / 90) % 4
        pixels, bits = pixels_of(frame)
        if turns:
            pixels = np.ascontiguousarray(np.rot90(pixels, turns))
        return Frame(number, self.time_of(number), pixels, bits)

    def close(self) -> None:
        """Give back the file and the decoder."""
        self._decoder = None
        if self._container is not None:
            with contextlib.suppress(Exception):
                self._container.close()
            self._container = None

    def __enter__(self) -> Clip:
        return self

    def __exit__(self, kind: type[BaseException] | None, error: BaseException | None, trace: TracebackType | None) -> None:
        self.close()


def pixels_of(frame: Any) -> tuple[NDArray[Any], int]:
    """The pixels of a decoded frame and their bits: grey stays grey, more than 8 bits stay."""
    parts = frame.format.components
    bits = max(part.bits for part in parts)
    grey = len(parts) == 1 and frame.format.name != "pal8"
    if bits <= 8:
        return frame.to_ndarray(format="gray" if grey else "rgb24"), 8
    deep = frame.to_ndarray(format="gray16le" if grey else "rgb48le")
    # The library fills all 16 bits.
    return (deep >> (16 - bits) if bits < 16 else deep), bits


def read_frame(path: str | Path, number: int) -> Image:
    """One frame of a clip as an image. Raises `FileError`, `ParameterError`."""
    with Clip(path) as clip:
        return clip.frame(number).image(Path(path).name, len(clip))


def frame_count(path: str | Path) -> int:
    """How many frames a clip has. Raises `FileError`."""
    with Clip(path) as clip:
        return len(clip)


class ClipWriter:
    """Writes frames with their times to a clip, `.mkv` (FFV1, without loss) or `.webm` (VP9).

    The file grows as it is written, so that what is there can be read even if the program is killed. Raises `FileError`; what was
    written before stays. All frames have the size of the first.
    """

    def __init__(self, path: str | Path, rate: float = 25.0, comment: str = "") -> None:
        self.path = Path(path)
        codec = WRITTEN.get(self.path.suffix.lower())
        if codec is None:
            raise ParameterError(f"{self.path.name}: clips are written as {' or '.join(WRITTEN)}", "outputs")
        self._codec, self._rate, self._comment = codec, rate, comment
        self._container: Any = None
        self._stream: Any = None
        self._last = -1
        self.count = 0

    def _open(self, pixels: NDArray[Any]) -> None:
        import av

        refuse_inputs(self.path)
        self.path.parent.mkdir(parents=True, exist_ok=True)
        # A cluster a second: what is lost when the program dies is at most that. The same frames give the same bytes.
        options = {"cluster_time_limit": "1000", "fflags": "bitexact"}
        self._container = av.open(os.fspath(self.path), "w", format="matroska" if self.path.suffix.lower() == ".mkv" else "webm",
                                  options=options)  # fmt: skip
        if self._comment:
            self._container.metadata["comment"] = self._comment
        rate = Fraction(self._rate).limit_denominator(1001)
        height, width = pixels.shape[:2]
        self._stream = self._container.add_stream(self._codec, rate=rate)
        self._stream.width, self._stream.height = width, height
        self._given = ("gray" if pixels.ndim == 2 else "rgb24") if pixels.dtype == np.uint8 else (
            "gray16le" if pixels.ndim == 2 else "rgb48le")  # fmt: skip
        if self._codec == "ffv1":
            packed = {"gray": "gray", "rgb24": "bgr0", "gray16le": "gray16le", "rgb48le": "gbrp16le"}[self._given]
            # Every frame by itself, in slices that are packed side by side.
            self._stream.options = {"level": "3", "g": "1", "slices": "4", "slicecrc": "1"}
            self._stream.thread_type, self._stream.codec_context.thread_count = "SLICE", 0
        else:
            packed = "yuv420p"
            self._stream.options = {"crf": "24", "b:v": "0", "deadline": "realtime", "cpu-used": "6", "row-mt": "1"}
            # VP9 in this form halves the colours: both sides have to be even.
            self._stream.width, self._stream.height = width + width % 2, height + height % 2
        self._stream.pix_fmt = packed
        self._stream.codec_context.time_base = _MILLISECONDS
        self._size = (height, width)

    def write(self, pixels: NDArray[Any], seconds: float) -> None:
        """Add a frame (H, W) or (H, W, 3), uint8 or uint16 of all 16 bits, that is shown from `seconds` on."""
        import av

        try:
            if self._container is None:
                self._open(pixels)
            if pixels.shape[:2] != self._size:
                was, now = (f"{w} x {h}" for h, w in (self._size, pixels.shape[:2]))
                raise FileError(self.path, f"frame {self.count} is {now} px, those before {was} px: a clip has one size")
            frame = av.VideoFrame.from_ndarray(np.ascontiguousarray(pixels), format=self._given)
            # Times in whole milliseconds, which Matroska keeps, each after the one before.
            self._last = max(round(1000 * seconds), self._last + 1)
            frame.pts, frame.time_base = self._last, _MILLISECONDS
            for packet in self._stream.encode(frame.reformat(self._stream.width, self._stream.height, self._stream.pix_fmt)):
                self._container.mux(packet)
            self.count += 1
        except (av.error.FFmpegError, OSError) as error:
            if isinstance(error, FileError):
                raise
            raise FileError(self.path, self._broke_off(error)) from None

    def _broke_off(self, error: BaseException) -> str:
        why = os.strerror(error.errno) if isinstance(error, OSError) and error.errno else _words(error)
        return f"cannot be written: {why}; the {self.count} frames before are kept"

    def close(self) -> None:
        """Finish the file. Raises `FileError`."""
        import av

        container, self._container = self._container, None
        if container is None:
            return
        try:
            for packet in self._stream.encode(None):
                container.mux(packet)
            container.close()
        except (av.error.FFmpegError, OSError) as error:
            with contextlib.suppress(Exception):
                container.close()
            raise FileError(self.path, self._broke_off(error)) from None

    def __enter__(self) -> ClipWriter:
        return self

    def __exit__(self, kind: type[BaseException] | None, error: BaseException | None, trace: TracebackType | None) -> None:
        self.close()
