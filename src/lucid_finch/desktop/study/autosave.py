"""Keeps unsaved work where a crash cannot reach it, a file a window, and finds what a crash left behind."""

from __future__ import annotations

import base64
import fcntl
import io
import json
import logging
import os
import time
from concurrent.futures import ThreadPoolExecutor
from dataclasses import dataclass
from pathlib import Path
from typing import IO

import PIL.Image

from lucid_finch.core.errors import FileError, ParameterError
from lucid_finch.core.image import Image
from lucid_finch.core.recipe import Recipe
from lucid_finch.core.viewing.display import picture_of
from lucid_finch.files.writing import whole_file

VERSION = 1
_THUMBNAIL = 120
"""px of the longer side."""

log = logging.getLogger(__name__)


@dataclass(frozen=True)
class Leftover:
    """Work of a window that did not end as it should."""

    path: Path
    recipe: Recipe
    recipe_path: Path | None
    image_path: Path | None
    saved: float
    """Seconds since 1970."""
    image_name: str = ""
    thumbnail: bytes = b""
    """A small PNG of the image that was open, or nothing."""


class Autosave:
    """One window's file. A lock beside it, which the system releases however the process ends, shows that it is in use."""

    def __init__(self, folder: Path) -> None:
        self.folder = folder
        self._lock: IO[bytes] | None = None
        self.path: Path | None = None
        # Waiting for the disk is not the window's business.
        self._writer = ThreadPoolExecutor(1, thread_name_prefix="finch-autosave")
        self._pictured: tuple[int, str] = (-1, "")

    def keep(self, recipe: Recipe, recipe_path: Path | None, image_path: Path | None, image: Image | None = None) -> None:
        """Replace what was kept, in the background."""
        self._writer.submit(self.write, recipe, recipe_path, image_path, image)

    def forget(self) -> None:
        """Nothing is unsaved any more; in the background, after what is being written."""
        self._writer.submit(self.remove)

    def write(self, recipe: Recipe, recipe_path: Path | None, image_path: Path | None, image: Image | None = None) -> None:
        """Replace what was kept, now. What goes wrong is logged: it must not get in the way of the work."""
        data = {
            "version": VERSION,
            "saved": time.time(),
            "recipe": recipe.plain(),
            "recipe_path": str(recipe_path) if recipe_path is not None else None,
            "image_path": str(image_path) if image_path is not None else None,
            "image_name": image.name if image is not None else "",
            "thumbnail": self._thumbnail(image),
        }
        try:
            with whole_file(self._own_path()) as stream:
                stream.write(json.dumps(data).encode())
        except (OSError, FileError) as error:
            log.warning("unsaved work is not kept: %s", error)

    def _thumbnail(self, image: Image | None) -> str:
        """A small PNG in base64; the same image is reduced once."""
        if image is None:
            return ""
        if self._pictured[0] != image.identity:
            picture = PIL.Image.fromarray(picture_of(image))
            picture.thumbnail((_THUMBNAIL, _THUMBNAIL))
            buffer = io.BytesIO()
            picture.save(buffer, "PNG")
            self._pictured = image.identity, base64.b64encode(buffer.getvalue()).decode()
        return self._pictured[1]

    def remove(self) -> None:
        """Nothing is unsaved any more."""
        if self.path is not None:
            self.path.unlink(missing_ok=True)

    def close(self) -> None:
        """The window ends as it should."""
        self._writer.shutdown(wait=True, cancel_futures=True)
        self.remove()
        if self._lock is not None and self.path is not None:
            self._lock.close()
            self._lock = None
            self.path.with_suffix(".lock").unlink(missing_ok=True)

    def _own_path(self) -> Path:
        if self.path is None:
            self.folder.mkdir(parents=True, exist_ok=True)
            number = 0
            while True:
                path = self.folder / f"{os.getpid()}-{number}.json"
                lock = path.with_suffix(".lock").open("wb")
                # What another process of this number has left is not written over.
                if _locked(lock) and not path.exists():
                    self._lock, self.path = lock, path
                    break
                lock.close()
                number += 1
        assert self.path is not None
        return self.path

    def leftovers(self) -> list[Leftover]:
        """What windows that are no more have left, the newest first; what cannot be read is passed over."""
        found = []
        for path in sorted(self.folder.glob("*.json")) if self.folder.is_dir() else []:
            if path == self.path or not _abandoned(path):
                continue
            try:
                data = json.loads(path.read_text(encoding="utf-8"))
                recipe = Recipe.make(data["recipe"], "kept work")
                places = [Path(data[k]) if data.get(k) else None for k in ("recipe_path", "image_path")]
                picture = base64.b64decode(str(data.get("thumbnail", "")))
                name = str(data.get("image_name", ""))
                found.append(Leftover(path, recipe, places[0], places[1], float(data["saved"]), name, picture))
            except (OSError, ValueError, KeyError, TypeError, ParameterError) as error:
                log.warning("%s cannot be recovered: %s", path, error)
        return sorted(found, key=lambda one: -one.saved)

    def discard(self, leftover: Leftover) -> None:
        """It was recovered, or is not wanted."""
        leftover.path.unlink(missing_ok=True)
        leftover.path.with_suffix(".lock").unlink(missing_ok=True)


def _locked(file: IO[bytes]) -> bool:
    try:
        fcntl.flock(file, fcntl.LOCK_EX | fcntl.LOCK_NB)
    except OSError:
        return False
    return True


def _abandoned(path: Path) -> bool:
    """Whether no living window holds the lock."""
    lock = path.with_suffix(".lock")
    if not lock.exists():
        return True
    with lock.open("rb") as file:
        return _locked(file)
