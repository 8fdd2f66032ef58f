"""Cameras: of this machine (V4L2), of the network by URL, and the simulated one that ships; they give frames one by one."""

from __future__ import annotations

import contextlib
import re
import time
from dataclasses import dataclass
from pathlib import Path
from typing import Any
from urllib.parse import parse_qs, urlsplit

import numpy as np
from numpy.typing import NDArray

from lucid_finch.core.errors import FileError, ParameterError
from lucid_finch.core.image import Image
from lucid_finch.files.clips import pixels_of

PREFIX = "camera:"
SIMULATED = "camera:simulated"
_URL = re.compile(r"^(rtsp|rtsps|rtmp|http|https|tcp|udp|srt)://", re.IGNORECASE)
TIMEOUT = 8.0
"""Seconds for which a camera may be silent."""


def is_camera(source: str) -> bool:
    """Whether a text names a camera rather than a file."""
    return source.startswith(PREFIX) or _URL.match(source) is not None


@dataclass(frozen=True)
class Shot:
    """What a camera has seen."""

    pixels: NDArray[Any]
    """(H, W) or (H, W, 3): uint8, or uint16 of `bits`."""
    bits: int
    number: int
    """From 0; what the camera lost on the way counts."""
    time: float
    """Seconds since the camera was opened."""
    taken: float
    """The same as `time.monotonic()`, for latencies."""

    def image(self, name: str) -> Image:
        """As an image."""
        return Image.from_array(self.pixels, significant_bits=self.bits if self.bits > 8 else None, name=name, copy=False)


@dataclass(frozen=True)
class Control:
    """Something of a camera that can be set."""

    name: str
    label: str
    value: float
    least: float
    most: float
    step: float


class Camera:
    """An open camera. Close it, or use it in a `with` statement; one thread at a time. Raises `FileError`."""

    def __init__(self, name: str) -> None:
        self.name = name

    def shot(self) -> Shot:
        """The next frame, once it is there. Raises `FileError` where the camera is gone or silent."""
        raise NotImplementedError

    def controls(self) -> list[Control]:
        """What can be set."""
        return []

    def set_control(self, name: str, value: float) -> None:
        """Raises `ParameterError`, `FileError`."""
        raise ParameterError(f"{self.name} has no control {name}", name)

    def close(self) -> None:
        """Give the device back."""

    def __enter__(self) -> Camera:
        return self

    def __exit__(self, *_: object) -> None:
        self.close()


@dataclass
class _Settings:
    """Of the simulated camera; names are those of its address."""

    rate: float = 30.0
    width: int = 1280
    height: int = 720
    exposure: float = 1.0
    noise: float = 2.0
    jitter: float = 0.0
    """Standard deviation of the time of a frame, share of the time between two."""
    drop: float = 0.0
    """Share of the frames that get lost."""
    lose: int = 0
    """Frames after which the camera is gone; 0: never."""
    settle: int = 0
    """Frames over which the exposure comes to its value."""


_LIMITS = {
    "rate": (0.1, 240.0, 1.0), "exposure": (0.05, 4.0, 0.05), "noise": (0.0, 30.0, 0.5), "jitter": (0.0, 0.5, 0.05),
    "drop": (0.0, 0.9, 0.05),
}  # fmt: skip
_LABELS = {"rate": "Frames a second", "exposure": "Exposure", "noise": "Noise", "jitter": "Jitter", "drop": "Frames lost"}


class SimulatedCamera(Camera):
    """Looks at the demo's belt: `camera:simulated?rate=30&size=1280x720&noise=2&jitter=0.1&drop=0.02&lose=500`."""

    def __init__(self, source: str = SIMULATED) -> None:
        super().__init__(SIMULATED)
        self.settings = _Settings()
        for name, values in parse_qs(urlsplit(source).query).items():
            self._take(name, values[-1])
        from lucid_finch.demo import belt

        # Painting the belt takes seconds.
        belt.seen(0.0, self.settings.noise)
        self._random = np.random.default_rng(5)
        self._begun = time.monotonic()
        self._number = self._given = 0
        self._due = 0.0

    def _take(self, name: str, text: str) -> None:
        if name == "size" and (match := re.fullmatch(r"(\d+)x(\d+)", text)):
            self.settings.width, self.settings.height = max(16, int(match[1])), max(16, int(match[2]))
            return
        known = [field for field in self.settings.__dataclass_fields__ if field not in ("width", "height")]
        try:
            if name not in known:
                raise ValueError(name)
            before = getattr(self.settings, name)
            setattr(self.settings, name, type(before)(float(text)))
        except ValueError:
            raise ParameterError(
                f'{SIMULATED}: "{name}={text}" is not allowed; there are: size=WIDTHxHEIGHT, {", ".join(known)}', name
            ) from None

    def shot(self) -> Shot:
        from lucid_finch.demo import belt

        s = self.settings
        while True:
            wait = self._begun + self._due - time.monotonic()
            if wait > 0:
                time.sleep(wait)
            elif wait < -1.0:
                # Nobody took frames for a while: as of a camera, they are lost.
                lost = int(-wait * s.rate)
                self._number, self._due = self._number + lost, self._due + lost / s.rate
            if s.lose and self._given >= s.lose:
                raise FileError(self.name, "the camera is gone")
            number, seconds = self._number, self._due
            self._number, self._due = number + 1, seconds + max(0.1, 1 + self._random.normal(0, s.jitter)) / s.rate
            if self._random.random() >= s.drop:
                break
        exposure = s.exposure * (min(1.0, (self._given + 1) / s.settle) if s.settle else 1.0)
        self._given += 1
        return Shot(belt.seen(seconds, s.noise, exposure, (s.width, s.height)), 8, number, seconds, time.monotonic())

    def controls(self) -> list[Control]:
        return [Control(name, _LABELS[name], float(getattr(self.settings, name)), *limits) for name, limits in _LIMITS.items()]

    def set_control(self, name: str, value: float) -> None:
        if name not in _LIMITS:
            super().set_control(name, value)
        low, high, _ = _LIMITS[name]
        setattr(self.settings, name, min(max(float(value), low), high))


class StreamCamera(Camera):
    """A camera of the network by its URL, or of this machine by its device."""

    def __init__(self, name: str, address: str, form: str | None = None, options: dict[str, str] | None = None) -> None:
        import av

        super().__init__(name)
        quick = {"fflags": "nobuffer", "flags": "low_delay", "analyzeduration": "1000000", "probesize": "500000"}
        given = {**quick, **(options or {})}
        if address.lower().startswith("rtsp"):
            given["rtsp_transport"] = "tcp"
        try:
            self._container: Any = av.open(address, format=form, options=given, timeout=TIMEOUT)
            self._stream = self._container.streams.video[0]
        except IndexError:
            self._container.close()
            raise FileError(name, "sends no pictures") from None
        except (av.error.FFmpegError, OSError) as error:
            raise FileError(name, _why(error)) from None
        self._stream.thread_type = "SLICE"
        self._frames = self._container.decode(self._stream)
        self._begun = time.monotonic()
        self._number = 0
        self._first: float | None = None

    def shot(self) -> Shot:
        import av

        try:
            frame = next(self._frames)
        except StopIteration:
            raise FileError(self.name, "the stream has ended") from None
        except (av.error.FFmpegError, OSError) as error:
            raise FileError(self.name, _why(error)) from None
        now = time.monotonic()
        pixels, bits = pixels_of(frame)
        seconds = now - self._begun
        if frame.time is not None:
            self._first = frame.time if self._first is None else self._first
            seconds = frame.time - self._first
        self._number += 1
        return Shot(pixels, bits, self._number - 1, seconds, now)

    def close(self) -> None:
        with contextlib.suppress(Exception):
            self._container.close()


def _why(error: BaseException) -> str:
    """What is wrong with a camera, in words."""
    import errno

    number = getattr(error, "errno", None)
    known = {
        errno.EBUSY: "is in use by another program", errno.ENODEV: "the camera is gone", errno.ETIMEDOUT: "is silent",
        errno.EACCES: "may not be used by this user", errno.ENOENT: "there is no such camera",
        errno.ECONNREFUSED: "nobody answers there",
    }  # fmt: skip
    if number in known:
        return known[number]
    said = str(error).split("] ")[-1]
    return "is silent" if "timed out" in said.lower() or "Immediate exit" in said else f"cannot be read: {said}"


@dataclass(frozen=True)
class CameraEntry:
    """A camera that can be opened."""

    source: str
    label: str
    sizes: tuple[str, ...] = ()
    """Sizes and rates that it offers."""


def cameras() -> list[CameraEntry]:
    """The cameras of this machine, and the simulated one."""
    return [*_devices(), CameraEntry(SIMULATED, "simulated: the demo's belt", ("1280 x 720, 30 /s",))]


def _devices() -> list[CameraEntry]:
    try:
        from linuxpy.video.device import iter_video_capture_devices
    except ImportError:
        return []
    found = []
    for device in iter_video_capture_devices():
        try:
            with device:
                sizes = {
                    f"{frame.width} x {frame.height}, {float(frame.max_fps):g} /s": None for frame in device.info.frame_sizes
                }
                found.append(CameraEntry(f"{PREFIX}{device.filename}", str(device.info.card), tuple(sizes)))
        except OSError as error:
            found.append(CameraEntry(f"{PREFIX}{device.filename}", f"{device.filename}: {_why(error)}"))
    return found


class DeviceCamera(StreamCamera):
    """A V4L2 device: frames as FFmpeg reads them, controls as the driver has them. Untried on hardware."""

    def __init__(self, name: str, path: Path, options: dict[str, str]) -> None:
        super().__init__(name, str(path), "v4l2", options)
        self._path = path

    def _device(self) -> Any:
        from linuxpy.video.device import Device

        return Device(self._path)

    def controls(self) -> list[Control]:
        try:
            with self._device() as device:
                return [
                    Control(c.config_name, c.name, float(c.value), float(c.minimum), float(c.maximum), float(c.step))
                    for c in device.controls.values() if hasattr(c, "minimum") and not c.is_flagged_inactive
                ]  # fmt: skip
        except (ImportError, OSError):
            return []

    def set_control(self, name: str, value: float) -> None:
        try:
            with self._device() as device:
                setattr(device.controls, name, round(value))
        except (AttributeError, ImportError, ValueError) as error:
            raise ParameterError(f"{self.name}: {name} = {value:g} cannot be set: {error}", name) from None
        except OSError as error:
            raise FileError(self.name, _why(error)) from None


def open_camera(source: str) -> Camera:
    """A camera by its name (`camera:simulated`, `camera:/dev/video0?size=1280x720&rate=30`, a URL). Raises `FileError`,
    `ParameterError`."""
    if source.split("?")[0] == SIMULATED:
        return SimulatedCamera(source)
    if not source.startswith(PREFIX):
        return StreamCamera(source, source)
    parts = urlsplit(source[len(PREFIX) :])
    given = {name: values[-1] for name, values in parse_qs(parts.query).items()}
    names = {"size": "video_size", "rate": "framerate", "format": "input_format"}
    options = {new: given[old] for old, new in names.items() if old in given}
    path = Path(parts.path if "/" in parts.path else f"/dev/{parts.path}")
    if not path.exists():
        known = ", ".join(entry.source for entry in cameras())
        raise FileError(source, f"there is no such camera; there are: {known}")
    return DeviceCamera(source, path, options)
