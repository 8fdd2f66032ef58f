"""Reads images for the window: keeps a clip open, and reads the next frames ahead while it plays."""

from __future__ import annotations

import threading
from dataclasses import replace

from lucid_finch.core.errors import FileError, ParameterError
from lucid_finch.core.image import Image
from lucid_finch.pipeline.sources import Place, Reader

_AHEAD = 3
"""Frames that are read before they are asked for."""


class AheadReader:
    """May be asked from any thread; one at a time reads."""

    def __init__(self) -> None:
        self._reader = Reader()
        self._lock = threading.Lock()
        self._ready: dict[Place, Image] = {}
        self._thread: threading.Thread | None = None
        self._ended = False
        self.ahead = 0
        """How far the next frame that is wanted lies after the last one; 0: it is not known."""

    def go_ahead(self, step: int) -> None:
        """The next frames that are wanted lie so far apart; 0: nobody knows."""
        self.ahead = step

    def read(self, place: Place) -> Image:
        """Raises `FileError`, `ParameterError`."""
        with self._lock:
            image = self._ready.pop(place, None)
            if image is None:
                image = self._reader.read(place)
        if place.is_frame and place.image is None and self.ahead:
            self._begin(place, image.pages)
        return image

    def _begin(self, place: Place, count: int) -> None:
        if self._thread is not None and self._thread.is_alive():
            return
        wanted = [place.page + k * self.ahead for k in range(1, _AHEAD + 1)]
        places = [replace(place, page=n) for n in wanted if 0 <= n < count]

        def work() -> None:
            for one in places:
                with self._lock:
                    if self._ended:
                        return
                    if one in self._ready:
                        continue
                    try:
                        self._ready[one] = self._reader.read(one)
                    except (FileError, ParameterError):
                        return
                    while len(self._ready) > 2 * _AHEAD:
                        del self._ready[next(iter(self._ready))]

        self._thread = threading.Thread(target=work, name="finch-frames", daemon=True)
        self._thread.start()

    def close(self) -> None:
        """Give back what is open."""
        self._ended = True
        if self._thread is not None:
            self._thread.join(5)
        with self._lock:
            self._ready.clear()
            self._reader.close()
