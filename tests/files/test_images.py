"""Reading pictures of every kind, and refusing what is damaged with the file and the fault named."""

from __future__ import annotations

import io
import os
import struct
import subprocess
import sys
import tempfile
import unittest
import zlib
from pathlib import Path
from typing import Any
from unittest import mock

import imagecodecs
import numpy as np
import tifffile
from PIL import Image as Pillow

from lucid_finch.core.errors import FileError, ParameterError
from lucid_finch.core.image import Image
from lucid_finch.files import images
from lucid_finch.files.images import page_count, read_image
from lucid_finch.files.typed import image_of_numbers

RANDOM = np.random.default_rng(0)
GREY = RANDOM.integers(0, 256, (12, 17)).astype(np.uint8)
COLOUR = RANDOM.integers(0, 256, (12, 17, 3)).astype(np.uint8)
DEEP = RANDOM.integers(0, 4096, (12, 17)).astype(np.uint16)


class InFolder(unittest.TestCase):
    def setUp(self) -> None:
        folder = tempfile.TemporaryDirectory()
        self.addCleanup(folder.cleanup)
        self.folder = Path(folder.name)

    def path(self, name: str, data: bytes | None = None) -> Path:
        if data is not None:
            (self.folder / name).write_bytes(data)
        return self.folder / name


def encoded(picture: Any, kind: str, **options: Any) -> bytes:
    buffer = io.BytesIO()
    (picture if isinstance(picture, Pillow.Image) else Pillow.fromarray(picture)).save(buffer, kind, **options)
    return buffer.getvalue()


class Reading(InFolder):
    def test_lossless_kinds(self) -> None:
        for kind, ending in (("PNG", "png"), ("BMP", "bmp"), ("PPM", "ppm"), ("TIFF", "tif")):
            for picture in (GREY, COLOUR):
                with self.subTest(kind, shape=picture.shape):
                    read = read_image(self.path(f"a.{ending}", encoded(picture, kind)))
                    np.testing.assert_array_equal(read.pixels, picture)
                    self.assertEqual((read.white, read.name), (255.0, f"a.{ending}"))
        webp = read_image(self.path("a.webp", encoded(COLOUR, "WEBP", lossless=True)))
        np.testing.assert_array_equal(webp.pixels, COLOUR)

    def test_the_content_decides_not_the_ending(self) -> None:
        np.testing.assert_array_equal(read_image(self.path("a.jpg", encoded(GREY, "PNG"))).pixels, GREY)

    def test_exif_orientation(self) -> None:
        for orientation in range(1, 9):
            exif = Pillow.Exif()
            exif[0x0112] = orientation
            stored = np.zeros((16, 24, 3), np.uint8)
            stored[:8, :8] = 250
            read = read_image(self.path("a.jpg", encoded(stored, "JPEG", quality=95, exif=exif)))
            expected = {
                1: (0, 0), 2: (0, 1), 3: (1, 1), 4: (1, 0), 5: (0, 0), 6: (0, 1), 7: (1, 1), 8: (1, 0),
            }[orientation]  # fmt: skip
            height, width = read.pixels.shape[:2]
            self.assertEqual((height, width), (16, 24) if orientation < 5 else (24, 16))
            bright = read.pixels[..., 0] > 128
            corner = (int(bright[-4:].any()), int(bright[:, -4:].any()))
            self.assertEqual(corner, expected, orientation)

    def test_alpha_and_palettes(self) -> None:
        transparent = np.dstack([COLOUR, np.full((12, 17), 255, np.uint8)])
        transparent[0, 0, 3] = 0
        read = read_image(self.path("a.png", encoded(transparent, "PNG")))
        assert read.mask is not None
        self.assertEqual(int((~read.mask).sum()), 1)
        palette = Pillow.fromarray(COLOUR).quantize(16)
        read = read_image(self.path("p.png", encoded(palette, "PNG")))
        np.testing.assert_array_equal(read.pixels, np.asarray(palette.convert("RGB")))
        bits = Pillow.fromarray(GREY > 128)
        read = read_image(self.path("b.png", encoded(bits, "PNG")))
        np.testing.assert_array_equal(read.pixels, (GREY > 128) * 255)

    def test_sixteen_bits_and_their_significant_ones(self) -> None:
        png = encoded(DEEP, "PNG")
        read = read_image(self.path("a.png", png))
        np.testing.assert_array_equal(read.pixels, DEEP)
        self.assertEqual(read.white, 4095.0)
        self.assertIn("guessed", read.notes[0])
        chunk = b"sBIT" + bytes([14])
        told = png[:33] + struct.pack(">I", 1) + chunk + struct.pack(">I", zlib.crc32(chunk)) + png[33:]
        self.assertEqual(read_image(self.path("b.png", told)).white, 2**14 - 1)
        self.assertEqual(read_image(self.path("b.png", told), significant_bits=16).white, 65535.0)
        tifffile.imwrite(self.path("a.tif"), DEEP, extratags=[(281, 3, 1, 1023, True)])
        self.assertEqual(read_image(self.path("a.tif")).white, 1023.0)
        raw = b"P5\n# made up\n17 12\n4095\n" + DEEP.astype(">u2").tobytes()
        read = read_image(self.path("a.pgm", raw))
        np.testing.assert_array_equal(read.pixels, DEEP)
        self.assertEqual((read.white, read.notes), (4095.0, ()))
        plain = b"P2 2 2 300 0 100 200 300"
        np.testing.assert_array_equal(read_image(self.path("b.pgm", plain)).pixels, [[0, 100], [200, 300]])

    def test_tiff_of_other_kinds(self) -> None:
        floats = RANDOM.random((9, 8)).astype(np.float32)
        tifffile.imwrite(self.path("f.tif"), floats)
        np.testing.assert_array_equal(read_image(self.path("f.tif")).pixels, floats)
        tifffile.imwrite(self.path("planes.tif"), np.moveaxis(COLOUR, 2, 0), photometric="rgb", planarconfig="separate")
        np.testing.assert_array_equal(read_image(self.path("planes.tif")).pixels, COLOUR)
        tifffile.imwrite(self.path("white.tif"), GREY, photometric="miniswhite")
        np.testing.assert_array_equal(read_image(self.path("white.tif")).pixels, 255 - GREY)
        tifffile.imwrite(self.path("pages.tif"), np.stack([GREY, 255 - GREY]), photometric="minisblack")
        read = read_image(self.path("pages.tif"))
        np.testing.assert_array_equal(read.pixels, GREY)
        self.assertEqual((read.page, read.pages), (0, 2))
        np.testing.assert_array_equal(read_image(self.path("pages.tif"), page=1).pixels, 255 - GREY)
        self.assertEqual(page_count(self.path("pages.tif")), 2)
        with self.assertRaisesRegex(FileError, "pages.tif: has 2 pictures; there is no page 2"):
            read_image(self.path("pages.tif"), page=2)

    def test_compressed_tiffs(self) -> None:
        deep = GREY.astype(np.uint16) * 200
        for picture, compression in ((GREY, "tiff_lzw"), (COLOUR, "tiff_lzw"), (deep, "tiff_lzw"), (GREY, "packbits")):
            read = read_image(self.path("a.tif", encoded(picture, "TIFF", compression=compression)))
            np.testing.assert_array_equal(read.pixels, picture)
        fax = read_image(self.path("a.tif", encoded(GREY > 128, "TIFF", compression="group4")))
        np.testing.assert_array_equal(fax.pixels > 0, GREY > 128)
        lossy = read_image(self.path("a.tif", encoded(np.full((16, 16), 90, np.uint8), "TIFF", compression="jpeg")))
        np.testing.assert_allclose(lossy.pixels.astype(int), 90, atol=2)

    def test_colours_other_than_rgb_are_converted_or_refused_by_name(self) -> None:
        flat = np.full((12, 16, 3), (200, 60, 20), np.uint8)
        for mode in ("CMYK", "YCbCr"):
            read = read_image(self.path("a.tif", encoded(Pillow.fromarray(flat).convert(mode), "TIFF")))
            self.assertIsNone(read.mask)
            np.testing.assert_allclose(read.pixels.astype(int), flat, atol=4)
            self.assertIn(f"{mode} converted to RGB", read.notes[0])
        with self.assertRaisesRegex(FileError, "CIELAB with 8 bits"):
            read_image(self.path("a.tif", encoded(Pillow.fromarray(flat).convert("LAB"), "TIFF")))

    def test_the_stated_maximum_of_a_pgm(self) -> None:
        read = read_image(self.path("a.pgm", b"P2 3 2 15\n0 1 2 3 4 15\n"))
        self.assertEqual((read.white, read.pixels.tolist()), (15.0, [[0, 1, 2], [3, 4, 15]]))
        self.assertIn("maximum is 100", read_image(self.path("a.pgm", b"P2 2 1 100\n0 100\n")).notes[0])
        for data in (b"P2 2 1 255\n0 300\n", b"P2 2 1 15\n0 16\n", b"P5 2 1 15\n\x00\x10"):
            with self.assertRaisesRegex(FileError, "above the stated maximum"):
                read_image(self.path("a.pgm", data))

    def test_a_hole_in_a_csv_is_one_pixel(self) -> None:
        read = read_image(self.path("a.csv", b"1,2,3\n4,,6\n7,8,9\n"))
        assert read.mask is not None
        self.assertEqual(read.mask.tolist(), [[True] * 3, [True, False, True], [True] * 3])
        self.assertEqual(read.pixels[2].tolist(), [7, 8, 9])
        trailing = read_image(self.path("a.csv", b"1;2;\n3;4;\n"))
        self.assertEqual(trailing.pixels.tolist(), [[1, 2], [3, 4]])
        spaced = read_image(self.path("a.csv", b" 1  2 3\n 4 55  6\n"))
        self.assertEqual(spaced.pixels.tolist(), [[1, 2, 3], [4, 55, 6]])

    def test_pictures_that_follow_each_other(self) -> None:
        frames = [Pillow.fromarray(g) for g in (GREY, 255 - GREY, GREY // 2)]
        frames[0].save(self.path("moving.gif"), save_all=True, append_images=frames[1:])
        self.assertEqual(page_count(self.path("moving.gif")), 3)
        read = read_image(self.path("moving.gif"), page=1)
        self.assertEqual((read.page, read.pages), (1, 3))
        luma = read.pixels.mean(axis=2) if read.is_colour else read.pixels
        np.testing.assert_allclose(luma, 255 - GREY, atol=2)

    def test_arrays(self) -> None:
        np.save(self.path("a.npy"), GREY.astype(np.float64) / 255)
        np.testing.assert_allclose(read_image(self.path("a.npy")).pixels, GREY / 255, atol=1e-6)
        for text in ("1,2,3\n4,5,6\n", "1;2;3\n4;5;6\n", "1\t2\t3\n4\t5\t6\n", "1 2 3\n4 5 6\n"):
            read = read_image(self.path("a.csv", text.encode()))
            np.testing.assert_array_equal(read.pixels, [[1, 2, 3], [4, 5, 6]])
            self.assertEqual(read.pixels.dtype, np.uint8)
        read = read_image(self.path("b.csv", b"0.5,nan\n0.25,1.0\n"))
        assert read.mask is not None
        self.assertEqual(read.mask.tolist(), [[True, False], [True, True]])


class Refusing(InFolder):
    def refused(self, path: Path, words: str) -> None:
        with self.subTest(path.name, words=words), self.assertRaisesRegex(FileError, words) as caught:
            read_image(path)
        self.assertIn(path.name, str(caught.exception))

    def test_each_fault_is_named(self) -> None:
        png, jpeg, tiff = encoded(COLOUR, "PNG"), encoded(COLOUR, "JPEG"), encoded(GREY, "TIFF")
        self.refused(self.path("missing.png"), "does not exist")
        self.refused(self.path("empty.png", b""), r"is empty \(0 bytes\)")
        self.refused(self.path("text.png", b"hello, this is no picture"), "no picture that Lucid Finch reads")
        self.refused(self.path("cut.png", png[:90]), "damaged or cut short")
        self.refused(self.path("cut.jpg", jpeg[: len(jpeg) // 2]), "damaged or cut short")
        self.refused(self.path("cut.tif", tiff[:60]), "damaged or cut short")
        self.refused(self.path("cut.pgm", b"P5 40 40 255\n123"), "1600 bytes of pixels are promised")
        self.refused(self.path("head.pgm", b"P5 40"), "header is not complete")
        self.refused(self.path("ragged.csv", b"1,2,3\n4,5\n"), "rows differ in length")
        self.refused(self.path("words.csv", b"a,b\nc,d\n"), "damaged")
        np.save(self.path("cube.npy"), np.zeros((2, 2, 7)))
        self.refused(self.path("cube.npy"), "not an image")
        np.save(self.path("objects.npy"), np.array([{}, []], dtype=object), allow_pickle=True)
        self.refused(self.path("objects.npy"), "damaged|not an image")
        self.refused(self.folder, "is a folder")

    def test_random_damage_never_escapes(self) -> None:
        """Whatever a decoder makes of it, it is a `FileError` or a picture."""
        random = np.random.default_rng(1)
        for kind in ("PNG", "JPEG", "BMP", "TIFF", "WEBP", "PPM"):
            data = encoded(COLOUR, kind)
            for _ in range(25):
                broken = bytearray(data)
                for place in random.integers(2, len(data), 6):
                    broken[place] = random.integers(0, 256)
                try:
                    read_image(self.path("broken", bytes(broken)))
                except (FileError, ParameterError) as error:
                    self.assertIn("broken", str(error))

    def test_a_bomb_is_not_unpacked(self) -> None:
        header = struct.pack(">IIBBBBB", 60000, 60000, 8, 0, 0, 0, 0)
        chunk = b"IHDR" + header
        data = b"\x89PNG\r\n\x1a\n" + struct.pack(">I", 13) + chunk + struct.pack(">I", zlib.crc32(chunk))
        body = b"IDAT" + zlib.compress(bytes(1000))
        data += struct.pack(">I", len(body) - 4) + body + struct.pack(">I", zlib.crc32(body))
        self.refused(self.path("bomb.png", data), "60000 x 60000 pixels; more than 500 million")
        self.refused(self.path("bomb.pgm", b"P5 60000 60000 255\n1"), "60000 x 60000")

    @unittest.skipIf(os.geteuid() == 0, "root reads everything")
    def test_no_permission(self) -> None:
        path = self.path("a.png", encoded(GREY, "PNG"))
        path.chmod(0)
        self.refused(path, "cannot be read")

    def test_every_ending_has_a_reader(self) -> None:
        self.assertIn(".png", images.ENDINGS)
        self.assertTrue(all(e == e.lower() for e in images.ENDINGS))


def _noisy() -> Image:
    y, x = np.mgrid[:240, :320]
    return Image.from_array(
        (100 + 80 * np.sin(x / 30) * np.cos(y / 20) + RANDOM.normal(0, 3, x.shape)).clip(1, 255).astype(np.uint8)
    )


class Whole(InFolder):
    """What is read as it is stored, or in part, or not at all."""

    def test_colour_of_16_bits(self) -> None:
        random = np.random.default_rng(1)
        for channels in (2, 3, 4):
            pixels = random.integers(0, 65536, (30, 40, channels)).astype(np.uint16)
            if channels != 3:
                pixels[..., -1] = 65535
                pixels[3:5, 6:9, -1] = 0
            self.path("deep.png").write_bytes(imagecodecs.png_encode(pixels))
            image = read_image(self.path("deep.png"))
            colours = pixels[..., :3] if channels > 2 else pixels[..., 0]
            np.testing.assert_array_equal(image.pixels, colours)
            self.assertEqual(image.white, 65535.0)
            self.assertEqual(0 if image.mask is None else int((~image.mask).sum()), 0 if channels == 3 else 6)

    def test_a_jpeg_that_is_cut_short(self) -> None:
        whole = _noisy()
        Pillow.fromarray(whole.pixels).save(self.path("whole.jpg"), quality=90)
        data = self.path("whole.jpg").read_bytes()
        expected = read_image(self.path("whole.jpg")).pixels
        self.path("part.jpg").write_bytes(data[: len(data) * 6 // 10])
        part = read_image(self.path("part.jpg"))
        assert part.mask is not None
        rows = int(part.mask.all(axis=1).sum())
        self.assertTrue(0.3 * whole.height < rows < 0.8 * whole.height, rows)
        np.testing.assert_array_equal(part.pixels[:rows], expected[:rows])
        self.assertIn(f"{rows} of {whole.height} rows", " ".join(part.notes))
        self.path("none.jpg").write_bytes(data[:700])
        with self.assertRaisesRegex(FileError, "damaged or cut short"):
            read_image(self.path("none.jpg"))

    def test_more_compressed_tiffs(self) -> None:
        pixels = _noisy().pixels
        for compression in ("lzw", "deflate", "packbits", "zstd", "jpeg"):
            tifffile.imwrite(self.path("c.tif"), pixels, compression=compression)
            read = read_image(self.path("c.tif")).pixels.astype(int)
            self.assertLess(np.abs(read - pixels).mean(), 3.0 if compression == "jpeg" else 1e-9, compression)

    def test_what_takes_too_much_memory_is_refused_before_it_is_unpacked(self) -> None:
        Pillow.new("RGBA", (3000, 2000), (9, 90, 90, 255)).save(self.path("large.png"))
        palette = Pillow.new("P", (3000, 2000), 1)
        palette.putpalette([9, 9, 9] * 256)
        palette.save(self.path("palette.tif"))
        np.save(self.path("large.npy"), np.zeros((2000, 3000)))
        with mock.patch("lucid_finch.files.images.MOST_MEMORY", 20_000_000):
            for name in ("large.png", "palette.tif", "large.npy"):
                with self.assertRaisesRegex(FileError, "3000 x 2000 pixels and takes 0.* GB to read; more than 0.02 GB"):
                    read_image(self.path(name))

    def test_reading_takes_little_more_than_the_picture(self) -> None:
        """Peak of a process of its own, bytes a pixel."""
        Pillow.new("RGB", (4000, 3000), (9, 90, 90)).save(self.path("rgb.png"))
        palette = Pillow.new("P", (4000, 3000), 1)
        palette.putpalette([9, 9, 9] * 256)
        palette.save(self.path("palette.tif"))
        program = (
            "import sys, lucid_finch as lf, PIL.Image, tifffile\n"
            "lf.Image\n"
            "def peak(): return next(int(l.split()[1]) for l in open('/proc/self/status') if l.startswith('VmHWM'))\n"
            "open('/proc/self/clear_refs', 'w').write('5')\n"
            "before = peak(); lf.read_image(sys.argv[1]); print((peak() - before) * 1024 / 12e6)"
        )
        for name, most in (("rgb.png", 9.0), ("palette.tif", 7.0)):
            command = [sys.executable, "-c", program, str(self.path(name))]
            said = subprocess.run(command, capture_output=True, text=True, check=True)
            self.assertLess(float(said.stdout), most, name)


class Typed(unittest.TestCase):
    def test_types_and_what_is_refused(self) -> None:
        self.assertEqual(image_of_numbers("1 2; 3 4").pixels.dtype, np.uint8)
        self.assertEqual(image_of_numbers("1,2\n3,400").pixels.dtype, np.uint16)
        signed = image_of_numbers("-1 0.5; 2 3")
        self.assertEqual((signed.pixels.dtype, signed.black, signed.white), (np.float32, -1.0, 3.0))
        for text, why in (("", "needed"), ("a b", "needed"), ("1 2; 3", "as many"), ("1 nan", "finite|needed")):
            with self.assertRaisesRegex(ParameterError, why):
                image_of_numbers(text)
