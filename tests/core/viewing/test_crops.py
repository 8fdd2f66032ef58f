"""Squares of the image around findings: where, how turned, what type, and as an output."""

from __future__ import annotations

import numpy as np
import tifffile

import lucid_finch as lf
from lucid_finch.core.errors import ParameterError
from lucid_finch.core.viewing.crops import crops_of
from tests.files.test_images import InFolder


class Crops(InFolder):
    def setUp(self) -> None:
        super().setUp()
        y, x = np.mgrid[:90, :120]
        self.picture = np.where((x > 60) & (y > 40), 180, 60).astype(np.uint8)
        self.found = lf.detect("corners", self.picture)

    def test_whole_places_are_copied_and_the_rest_is_zero(self) -> None:
        image = lf.Image.from_array(self.picture)
        table = self.found.findings
        table.stored("x")[:], table.stored("y")[:] = 60.0, 40.0
        np.testing.assert_array_equal(lf.crops(image, table, 21)[0], self.picture[30:51, 50:71])
        table.stored("x")[:] = 3.0
        crop = lf.crops(image, table, 21)[0]
        self.assertTrue((crop[:, :7] == 0).all())
        np.testing.assert_array_equal(crop[:, 8:], self.picture[30:51, 1:14])

    def test_turned_so_that_the_direction_points_to_the_right(self) -> None:
        crop = lf.crops(self.picture, self.found.findings, 31, turned=True)[0].astype(float)
        # The wedge opens to the right: alike above and below the middle.
        self.assertAlmostEqual(self.found.findings["direction"][0], 45.0, delta=3)
        self.assertLess(np.abs(crop - crop[::-1]).mean(), 6)
        self.assertGreater(crop[15, 22], 150)
        self.assertLess(crop[15, 8], 90)

    def test_colour_depth_and_bad_sizes(self) -> None:
        colour = np.repeat(self.picture[..., None], 3, axis=2)
        self.assertEqual(crops_of(lf.Image.from_array(colour), self.found.findings, 9).shape, (1, 9, 9, 3))
        deep = lf.Image.from_array(self.picture.astype(np.uint16) * 100, significant_bits=15)
        self.assertEqual(lf.crops(deep, self.found.findings, 9).dtype, np.uint16)
        for size in (0, 1, 5000):
            with self.assertRaisesRegex(lf.ParameterError, "crops are 2 to 1024 px wide"):
                lf.crops(self.picture, self.found.findings, size)

    def test_fitted_so_that_a_finding_fills_its_square(self) -> None:
        y, x = np.mgrid[:120, :160]
        picture = np.full((120, 160), 40, np.uint8)
        picture[np.hypot(x - 60, y - 50) < 24] = 210
        found = lf.detect("circles", picture).findings
        crop = lf.crops(picture, found, 32, fitted=True)[0]
        self.assertGreater(crop[16, 1:-1].min(), 180)
        self.assertLess(max(crop[0, 0], crop[-1, -1]), 60)
        with self.assertRaisesRegex(ParameterError, "no size"):
            lf.crops(picture, lf.detect("edges", picture).findings, 32, fitted=True)

    def test_as_an_output_a_page_for_each_finding(self) -> None:
        detectors = [
            {"name": "c", "kind": "corners"},
            {"name": "none", "kind": "blobs", "parameters": {"contrast_min_pct": 90.0}},
        ]
        recipe = lf.Recipe.make({"lucid_finch_recipe": 2, "name": "r", "detectors": detectors})
        run = lf.run(recipe, self.picture)
        written = run.save(self.folder, ["crops"], name="part")
        self.assertEqual([path.name for path in written], ["part.c.crops.tif"])
        pages = tifffile.imread(written[0])
        self.assertEqual(np.squeeze(pages).shape, (32, 32))
        np.testing.assert_array_equal(np.squeeze(pages), lf.crops(self.picture, run.detections["c"].findings)[0])
