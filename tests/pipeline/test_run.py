"""The loop over images: natural order, one failure does not stop it, cancelling, names of what is written."""

from __future__ import annotations

import unittest

import numpy as np
from PIL import Image as Pillow

from lucid_finch.core.errors import Cancelled, FileError
from lucid_finch.core.execution.engine import Engine
from lucid_finch.core.recipe import Recipe
from lucid_finch.pipeline.run import run_images
from lucid_finch.pipeline.sinks import file_names, write_results
from lucid_finch.pipeline.sources import images_in, natural
from tests.files.test_images import InFolder
from tests.support import disc


class Order(InFolder):
    def test_numbers_count_as_numbers(self) -> None:
        for name in ("b1.png", "img10.png", "img2.png", "Img1.PNG", ".img0.png", "notes.txt", "img2b.png", "7.png"):
            self.path(name).write_bytes(b"")
        names = [place.path.name for place in images_in([self.folder])]
        self.assertEqual(names, ["7.png", "b1.png", "Img1.PNG", "img2.png", "img2b.png", "img10.png"])
        self.assertEqual(sorted(map(self.path, names), key=natural), list(map(self.path, names)))

    def test_a_folder_without_images_is_an_error(self) -> None:
        with self.assertRaises(FileError):
            images_in([self.folder])


class Loop(InFolder):
    def setUp(self) -> None:
        super().setUp()
        self.recipe = Recipe.parse('{"lucid_finch_recipe": 2, "detectors": [{"name": "a b", "kind": "edges"}]}')
        for number in (1, 2, 10):
            Pillow.fromarray(disc(20.0 + number, noise=2.0).pixels).save(self.path(f"img{number}.png"))

    def test_a_damaged_image_is_named_and_the_others_are_run(self) -> None:
        self.path("img2.png").write_bytes(b"\x89PNG\r\n\x1a\nno")
        done = list(run_images(self.recipe, images_in([self.folder]), Engine()))
        self.assertEqual([one.place.path.name for one in done], ["img1.png", "img2.png", "img10.png"])
        self.assertEqual([one.run is not None for one in done], [True, False, True])
        self.assertIn("img2.png", done[1].failure)
        self.assertTrue(all(len(one.run.detections["a b"].findings) == 1 for one in done if one.run is not None))

    def test_each_gives_what_it_gives_alone(self) -> None:
        together = [one.run for one in run_images(self.recipe, images_in([self.folder]), Engine())]
        for place, run in zip(images_in([self.folder]), together, strict=True):
            alone = Engine().run(self.recipe, place.read()).detections["a b"]
            assert run is not None
            self.assertEqual([*run.detections["a b"].findings.rows()], [*alone.findings.rows()])

    def test_cancelling_stops_between_images(self) -> None:
        asked = iter((False, False, True))
        done = []
        with self.assertRaises(Cancelled):
            for one in run_images(self.recipe, images_in([self.folder]), Engine(), lambda: next(asked, True)):
                done.append(one)
        self.assertLess(len(done), 3)


class Names(InFolder):
    def test_different_names_stay_different(self) -> None:
        for names in (("a b", "a/b", "a_b"), ("a/b", "a_b", "a b")):
            files = file_names(names)
            self.assertEqual(len(set(files.values())), 3)
            self.assertEqual(files, file_names(reversed(names)))
        self.assertEqual(file_names(["rim"]), {"rim": "rim"})

    def test_images_of_one_name_from_two_folders(self) -> None:
        paths = [self.path("one") / "a.png", self.path("two") / "a.png", self.path("two") / "a.tif", self.path("three") / "a.png"]
        names = [place.result_name for place in images_in([*paths, paths[0]])]
        self.assertEqual(names, ["one/a.png", "two/a.png", "a.tif", "three/a.png"])

    def test_two_detectors_write_two_tables(self) -> None:
        entries = ", ".join(f'{{"name": "{name}", "kind": "edges"}}' for name in ("a b", "a/b"))
        recipe = Recipe.parse(f'{{"lucid_finch_recipe": 2, "detectors": [{entries}]}}')
        Pillow.fromarray(np.asarray(disc(30.0, noise=2.0).pixels)).save(self.path("disc.png"))
        (one,) = run_images(recipe, images_in([self.path("disc.png")]), Engine())
        assert one.run is not None
        write_results(one.run, self.path("out"), "disc", one.place.path)
        self.assertEqual(len(list(self.path("out").glob("*.csv"))), 2)


if __name__ == "__main__":
    unittest.main()
