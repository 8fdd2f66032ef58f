"""The benchmark against another checkout runs that one's code, and refuses a folder without any."""

from __future__ import annotations

import contextlib
import io
import sys
import tempfile
import unittest
from pathlib import Path
from unittest import mock

import numpy as np

from benchmarks import against


class Against(unittest.TestCase):
    def test_a_folder_without_code_is_refused(self) -> None:
        said = io.StringIO()
        with (
            tempfile.TemporaryDirectory() as folder,
            mock.patch.object(sys, "argv", ["against", folder]),
            contextlib.redirect_stderr(said),
            self.assertRaises(SystemExit) as ended,
        ):
            against.main()
        self.assertEqual(ended.exception.code, 2)
        self.assertIn("is no checkout", said.getvalue())

    def test_the_code_of_the_other_checkout_is_timed(self) -> None:
        with tempfile.TemporaryDirectory() as folder:
            package = Path(folder) / "src" / "lucid_finch"
            runtime = package / "core" / "numerics" / "runtime"
            runtime.mkdir(parents=True)
            for part in (package / "core", package / "core" / "numerics", runtime):
                (part / "__init__.py").touch()
            (runtime / "threads.py").write_text("def set_thread_count(count): pass\n")
            (package / "__init__.py").write_text(
                "import time\nclass Image:\n    from_array = staticmethod(lambda pixels: pixels)\n"
                "def detect(kind, image):\n    {'edges': time.sleep}[kind](0.2)\n"
            )
            picture = Path(folder) / "picture.npy"
            np.save(picture, np.zeros((4, 4), np.uint8))
            timed = against.Timed(Path(folder), picture)
            with timed.process:
                self.assertGreater(timed.seconds("edges"), 0.19)
                with self.assertRaisesRegex(RuntimeError, "nothing failed"):
                    timed.seconds("nothing")


if __name__ == "__main__":
    unittest.main()
