"""A sample of the damage that `benchmarks.mutations` does by the ten thousand, and runs that are killed."""

from __future__ import annotations

import sys
import unittest
from pathlib import Path

from benchmarks import hostile, mutations
from tests.files.test_images import InFolder


class Damage(InFolder):
    def test_a_sample_is_refused_in_words_or_works(self) -> None:
        for what in ("files", "parameters", "recipes"):
            command = [sys.executable, "-m", "benchmarks.mutations", what]
            _, faults = hostile.watched(command, 900_000, 900_600)
            self.assertEqual(faults, [], what)

    def test_a_killed_run_leaves_whole_files(self) -> None:
        # Its number is a multiple of ten: a new run follows.
        self.assertEqual(mutations.kill_case(900_000, Path(self.folder)), [])

    def test_a_half_written_file_would_be_seen(self) -> None:
        self.path("a.findings.json").write_text('{"lucid_finch_findings": 1, ')
        self.path("a.svg").write_text("<svg><g></svg>")
        self.path("a.png").write_bytes(b"\x89PNG\r\n\x1a\n")
        self.assertEqual(len(mutations.broken_files(self.folder)), 3)


if __name__ == "__main__":
    unittest.main()
