"""What the window remembers from one start to the next: a small versioned file in the user's configuration folder."""

from __future__ import annotations

import json
import logging
from pathlib import Path

import platformdirs
from pydantic import BaseModel, ConfigDict, Field, ValidationError

from lucid_finch.core.errors import FileError
from lucid_finch.files.writing import whole_file

VERSION = 1
_MOST_RECENT = 12

log = logging.getLogger(__name__)


class Preferences(BaseModel):
    """All of it has a default: a file that cannot be used costs nothing but these."""

    model_config = ConfigDict(extra="ignore", validate_assignment=True)

    version: int = VERSION
    theme: str = "light"
    text_scale: float = Field(default=1.0, ge=0.7, le=2.0)
    """Size of all texts against the system's."""
    geometry: str = ""
    """Place and size of the window, as the toolkit writes them, in hexadecimal."""
    splitters: dict[str, list[int]] = {}
    panes: int = 2
    hidden_parts: list[str] = []
    """Parts of the window that are hidden."""
    export: dict[str, list[str]] = {}
    """What was written last, and where ("outputs", "folder")."""
    hidden_columns: dict[str, list[str]] = {}
    """By kind of detector."""
    recent: list[str] = []
    """Images, folders and recipes, the newest first."""

    def remember(self, path: Path) -> None:
        """Put a path in front of the recent ones."""
        text = str(path.resolve())
        self.recent = [text, *(p for p in self.recent if p != text)][:_MOST_RECENT]


class PreferencesFile:
    """Reads and writes them; `path` None keeps them in memory only, as tests want it."""

    def __init__(self, path: Path | None) -> None:
        self.path = path
        self._may_write = True

    @staticmethod
    def of_user() -> PreferencesFile:
        return PreferencesFile(Path(platformdirs.user_config_dir("lucid-finch")) / "preferences.json")

    def load(self) -> Preferences:
        if self.path is None or not self.path.exists():
            return Preferences()
        try:
            data = json.loads(self.path.read_text(encoding="utf-8"))
            if isinstance(data, dict) and isinstance(data.get("version"), int) and data["version"] > VERSION:
                # A newer Lucid Finch wrote it, and wants to find it as it was.
                self._may_write = False
                return Preferences()
            return Preferences.model_validate(data)
        except (OSError, ValueError, ValidationError) as error:
            log.warning("%s cannot be used: %s", self.path, error)
            return Preferences()

    def save(self, preferences: Preferences) -> None:
        if self.path is None or not self._may_write:
            return
        try:
            self.path.parent.mkdir(parents=True, exist_ok=True)
            with whole_file(self.path) as stream:
                stream.write(preferences.model_dump_json(indent=1).encode())
        except (OSError, FileError) as error:
            log.warning("preferences are not kept: %s", error)
