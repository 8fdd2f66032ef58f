"""Whether everything is compiled is known for these very files, as the compiler's own cache has it."""

from __future__ import annotations

import os
import shutil
import tempfile
import unittest
from pathlib import Path
from unittest import mock

from lucid_finch.core import numerics, warming
from lucid_finch.core.numerics.compiling import completion_mark


class Warm(unittest.TestCase):
    def setUp(self) -> None:
        folder = tempfile.TemporaryDirectory()
        self.addCleanup(folder.cleanup)
        self.sources = Path(folder.name) / "numerics"
        shutil.copytree(numerics.__path__[0], self.sources, ignore=shutil.ignore_patterns("__pycache__"))

    def test_another_checkout_and_files_written_anew_are_not_compiled(self) -> None:
        mark = completion_mark(self.sources)
        self.assertEqual(mark, completion_mark(self.sources))
        self.assertEqual(mark.parent, completion_mark().parent)
        self.assertNotEqual(mark, completion_mark())
        moved = self.sources.rename(self.sources.with_name("elsewhere"))
        self.assertNotEqual(completion_mark(moved), mark)
        moved.rename(self.sources)
        self.assertEqual(completion_mark(self.sources), mark)
        os.utime(self.sources / "rims.py", (1, 1))
        self.assertNotEqual(completion_mark(self.sources), mark)

    def test_it_is_warm_where_the_mark_is(self) -> None:
        mark = self.sources / "mark"
        with mock.patch.object(warming, "completion_mark", lambda: mark):
            self.assertFalse(warming.is_warm())
            mark.touch()
            self.assertTrue(warming.is_warm())


if __name__ == "__main__":
    unittest.main()
