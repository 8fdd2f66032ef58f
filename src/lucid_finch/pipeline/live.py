"""A camera that runs: frames from a thread of its own, always the newest, opened again when it is lost; what is known of it."""

from __future__ import annotations

import threading
import time
from collections.abc import Callable, Iterator
from dataclasses import dataclass, field
from pathlib import Path

from lucid_finch.core.errors import FileError
from lucid_finch.pipeline.cameras import Camera, Shot, open_camera
from lucid_finch.pipeline.sources import Place


@dataclass
class Watched:
    """What is known of a camera that runs."""

    shots: int = 0
    lost: int = 0
    """Frames that the camera, or the way from it, lost."""
    passed: int = 0
    """Frames that came while the one before was worked on."""
    rate: float = 0.0
    """Frames a second, of late."""
    said: str = ""
    """What is waited for; "" while frames come."""


@dataclass
class Reconnecting:
    """Frames of a camera that is opened again whenever it is lost."""

    source: str
    wanted: Callable[[], bool] = field(default=lambda: True)
    """Looked at while it waits."""
    opened: Callable[[str], Camera] = open_camera
    pauses: tuple[float, ...] = (0.5, 1.0, 2.0, 4.0)
    """Seconds between tries."""
    tries: int = 0
    """Most tries in a row; 0: no end."""
    watched: Watched = field(default_factory=Watched)
    camera: Camera | None = None

    def shot(self) -> Shot | None:
        """The next frame; None when it is no longer wanted. Raises `FileError` after the last try."""
        failed = 0
        while self.wanted():
            try:
                if self.camera is None:
                    self.watched.said = f"connecting to {self.source}"
                    self.camera = self.opened(self.source)
                    self.watched.said = "waiting for the first frame"
                    self._last: Shot | None = None
                shot = self.camera.shot()
            except FileError as error:
                self.close()
                failed += 1
                if self.tries and failed >= self.tries:
                    raise
                pause = self.pauses[min(failed, len(self.pauses)) - 1]
                self.watched.said = f"{error.reason}; trying again in {pause:g} s"
                self._wait(pause)
                continue
            self._count(shot)
            return shot
        return None

    def _count(self, shot: Shot) -> None:
        w = self.watched
        w.shots, w.said = w.shots + 1, ""
        if self._last is not None:
            w.lost += max(0, shot.number - self._last.number - 1)
            step = max(shot.taken - self._last.taken, 1e-6)
            w.rate = 1 / step if w.rate == 0 else 1 / (0.9 / w.rate + 0.1 * step)
        self._last = shot

    def _wait(self, seconds: float) -> None:
        end = time.monotonic() + seconds
        while self.wanted() and time.monotonic() < end:
            time.sleep(min(0.05, seconds))

    def close(self) -> None:
        """Give the device back."""
        camera, self.camera = self.camera, None
        if camera is not None:
            camera.close()


class Live:
    """Takes frames in a thread and keeps the newest. Close it, or use it in a `with` statement."""

    def __init__(self, source: str, opened: Callable[[str], Camera] = open_camera, tries: int = 0) -> None:
        self._ended = threading.Event()
        self._changed = threading.Condition()
        self._newest: Shot | None = None
        self.failure = ""
        """Why no more frames come; "" while they may."""
        self._frames = Reconnecting(source, lambda: not self._ended.is_set(), opened, tries=tries)
        self._settings: list[tuple[str, float]] = []
        self._thread = threading.Thread(target=self._work, name="finch-camera", daemon=True)
        self._thread.start()

    @property
    def watched(self) -> Watched:
        """What is known of it."""
        return self._frames.watched

    @property
    def camera(self) -> Camera | None:
        """The camera, while it is open."""
        return self._frames.camera

    def set_control(self, name: str, value: float) -> None:
        """Set something of the camera before its next frame."""
        self._settings.append((name, value))

    def _work(self) -> None:
        try:
            while not self._ended.is_set():
                shot = self._frames.shot()
                if shot is None:
                    break
                self._set()
                with self._changed:
                    self.watched.passed += self._newest is not None
                    self._newest = shot
                    self._changed.notify_all()
        except Exception as error:
            self.failure = str(error)
        finally:
            self._frames.close()
            with self._changed:
                self._changed.notify_all()

    def _set(self) -> None:
        camera = self._frames.camera
        while self._settings and camera is not None:
            name, value = self._settings.pop(0)
            try:
                camera.set_control(name, value)
            except (FileError, ValueError) as error:
                self.watched.said = str(error)

    def newest(self, seconds: float = 0.1) -> Shot | None:
        """The newest frame that was not taken yet, waited for so long; None if there is none."""
        with self._changed:
            if self._newest is None and seconds > 0 and self._thread.is_alive():
                self._changed.wait(seconds)
            shot, self._newest = self._newest, None
            return shot

    @property
    def running(self) -> bool:
        """Whether frames may come."""
        return self._thread.is_alive()

    def end(self) -> None:
        """End it; its thread gives the device back as soon as it can."""
        self._ended.set()

    def close(self, seconds: float = 12.0) -> None:
        """End it, and wait until the device is given back."""
        self.end()
        self._thread.join(seconds)

    def __enter__(self) -> Live:
        return self

    def __exit__(self, *_: object) -> None:
        self.close()


def camera_rounds(source: str, frames: int = 0, every: int = 1, tries: int = 5) -> Iterator[list[Place]]:
    """The frames of a camera as they come, each by itself, at most so many (0: no end); of those that came while one was worked
    on only the newest. Raises `FileError` after so many tries in a row to open it."""
    name = source.split("?")[0].replace("://", "-").replace("/", "-").replace(":", "-")
    given = 0
    with Live(source, tries=tries) as live:
        while not frames or given < frames:
            shot = live.newest()
            if shot is None:
                if not live.running:
                    raise FileError(source, live.failure.removeprefix(f"{source}: ") or "gives no frames")
                continue
            if shot.number % every:
                continue
            given += 1
            yield [Place(Path(name), shot.number, name, round(shot.time, 6), shot.image(name))]
