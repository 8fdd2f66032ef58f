"""Whether everything is compiled is known for these very files, as the compiler's own cache has it."""

from __future__ import annotations

import os
import shutil
import tempfile
import unittest
from pathlib import Path
from unittest import mock

from lucid_finch.core import numerics, warming


class Warm(unittest.TestCase):
    def setUp(self) -> None:
        folder = tempfile.TemporaryDirectory()
        self.addCleanup(folder.cleanup)
        self.kept, self.sources = Path(folder.name) / "kept", Path(folder.name) / "numerics"
        self.kept.mkdir()
        shutil.copytree(numerics.__path__[0], self.sources, ignore=shutil.ignore_patterns("__pycache__"))
        for target, name, value in ((warming, "cache_folder", lambda: self.kept), (numerics, "__path__", [str(self.sources)])):
            patched = mock.patch.object(target, name, value)
            patched.start()
            self.addCleanup(patched.stop)

    def test_another_checkout_and_files_written_anew_are_not(self) -> None:
        self.assertFalse(warming.is_warm())
        warming._marker().touch()
        self.assertTrue(warming.is_warm())
        moved = self.sources.rename(self.sources.with_name("elsewhere"))
        with mock.patch.object(numerics, "__path__", [str(moved)]):
            self.assertFalse(warming.is_warm())
        moved.rename(self.sources)
        self.assertTrue(warming.is_warm())
        os.utime(self.sources / "rims.py", (1, 1))
        self.assertFalse(warming.is_warm())


if __name__ == "__main__":
    unittest.main()
