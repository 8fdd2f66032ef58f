"""A sample of hostile material in a watched process: no call hangs, none ends the process, none fails but by our own errors."""

from __future__ import annotations

import unittest
import unittest.mock

from benchmarks import hostile


class Watched(unittest.TestCase):
    def test_a_sample_of_calls(self) -> None:
        made, faults = hostile.watch(80, 700_000, False, None)
        self.assertEqual(faults, [])
        self.assertEqual(made, 80)

    def test_a_process_that_dies_is_named(self) -> None:
        with unittest.mock.patch.object(hostile.sys, "executable", "/bin/false"):
            _, faults = hostile.watch(1, 0, False, None)
        self.assertEqual(len(faults), 1)
        self.assertIn("dies with 1", faults[0])


if __name__ == "__main__":
    unittest.main()
