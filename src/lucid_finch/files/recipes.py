"""Recipes in files."""

from __future__ import annotations

from pathlib import Path
from typing import Self

import lucid_finch.core.recipe as core
from lucid_finch.files import assets as assets
from lucid_finch.files.calibrations import Calibration
from lucid_finch.files.writing import read_document, write_text

ENDING = ".finch.json"


class Recipe(core.Recipe):
    """A recipe that can be loaded and saved."""

    @classmethod
    def load(cls, path: str | Path, *, calibration: str | Path | None = None) -> Self:
        """From a file; `calibration`: the file of one that takes the place of its own.

        Raises `FileError` if it cannot be read, `ParameterError` naming the file and field if it is wrong.
        """
        data = read_document(path)
        if calibration is None:
            return cls.parse(data, str(path))
        # Given to the text: what it has in millimetres may be without a calibration until then.
        return cls.make({**cls.parsed(data, str(path)), "calibration": Calibration.load(calibration).plain()}, str(path))

    def save(self, path: str | Path) -> None:
        """To a file, whole or not at all. Raises `FileError`."""
        write_text(path, self.text())
