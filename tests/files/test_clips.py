"""Clips: what is written comes back to the bit, every frame by its number, uneven times, damage in clear words."""

from __future__ import annotations

import resource
import unittest
from pathlib import Path

import av
import numpy as np

from lucid_finch.core.errors import FileError, ParameterError
from lucid_finch.files.clips import Clip, ClipWriter, frame_count, is_clip, read_frame
from lucid_finch.files.images import read_image
from tests.files.test_images import InFolder


def frames(count: int, dtype: type = np.uint8, colour: bool = True, size: tuple[int, int] = (66, 91)) -> list[np.ndarray]:
    random = np.random.default_rng(3)
    shape = (*size, 3) if colour else size
    return [random.integers(0, np.iinfo(dtype).max, shape, endpoint=True).astype(dtype) for _ in range(count)]


def packed(path: Path, count: int, codec: str = "libx264", size: tuple[int, int] = (64, 96), **options: str) -> None:
    """A clip of the kind that cameras write: frame k has k white columns; frames depend on one another."""
    with av.open(str(path), "w") as out:
        stream = out.add_stream(codec, rate=30)
        stream.height, stream.width, stream.pix_fmt = *size, options.pop("pix_fmt", "yuv420p")
        stream.options = options
        for k in range(count):
            picture = np.full((*size, 3), 30, np.uint8)
            picture[:, : k + 1] = 220
            for packet in stream.encode(av.VideoFrame.from_ndarray(picture, format="rgb24")):
                out.mux(packet)
        for packet in stream.encode(None):
            out.mux(packet)


class Lossless(InFolder):
    def test_every_kind_of_picture_comes_back_to_the_bit(self) -> None:
        times = np.cumsum(np.random.default_rng(0).uniform(0.01, 0.2, 12))
        for dtype in (np.uint8, np.uint16):
            for colour in (True, False):
                path = self.path(f"{dtype.__name__}{colour}.mkv")
                with ClipWriter(path) as writer:
                    for picture, time in zip(frames(12, dtype, colour), times, strict=True):
                        writer.write(picture, float(time))
                with Clip(path) as clip:
                    self.assertEqual((len(clip), clip.size), (12, (91, 66)))
                    for number in (0, 1, 11, 4, 5, 3):
                        found = clip.frame(number)
                        np.testing.assert_array_equal(found.pixels, frames(12, dtype, colour)[number])
                        self.assertAlmostEqual(found.time, times[number] - times[0], delta=0.0011)
                        self.assertEqual(clip.number_at(found.time), number)

    def test_webm(self) -> None:
        path = self.path("small.webm")
        with ClipWriter(path) as writer:
            for k in range(8):
                writer.write(np.full((65, 91, 3), 20 * k, np.uint8), k / 25)
        with Clip(path) as clip:
            self.assertEqual(len(clip), 8)
            self.assertAlmostEqual(float(clip.frame(5).pixels.mean()), 100, delta=4)

    def test_one_size(self) -> None:
        path = self.path("changing.mkv")
        writer = ClipWriter(path)
        writer.write(np.zeros((40, 50), np.uint8), 0)
        with self.assertRaisesRegex(FileError, r"frame 1 is 52 x 40 px, those before 50 x 40 px: a clip has one size"):
            writer.write(np.zeros((40, 52), np.uint8), 1)
        writer.close()
        self.assertEqual(frame_count(path), 1)
        with self.assertRaisesRegex(ParameterError, r"clips are written as \.mkv or \.webm"):
            ClipWriter(self.path("a.mp4"))

    def test_a_full_disk_leaves_what_was_written(self) -> None:
        path, before = self.path("full.mkv"), resource.getrlimit(resource.RLIMIT_FSIZE)
        import signal

        old = signal.signal(signal.SIGXFSZ, signal.SIG_IGN)
        resource.setrlimit(resource.RLIMIT_FSIZE, (600_000, before[1]))
        try:
            with self.assertRaisesRegex(FileError, r"full\.mkv: cannot be written: .*; the \d+ frames before are kept"), \
                    ClipWriter(path) as writer:  # fmt: skip
                for k, picture in enumerate(frames(80, size=(120, 160))):
                    writer.write(picture, k / 25)
        finally:
            resource.setrlimit(resource.RLIMIT_FSIZE, before)
            signal.signal(signal.SIGXFSZ, old)
        with Clip(path) as clip:
            self.assertGreater(len(clip), 3)
            np.testing.assert_array_equal(clip.frame(2).pixels, frames(3, size=(120, 160))[2])


class Seeking(InFolder):
    def columns(self, pixels: np.ndarray) -> int:
        return int((pixels[..., 1].mean(axis=0) > 125).sum()) - 1

    def test_every_frame_by_its_number(self) -> None:
        kinds = {"b.mp4": {"bf": "3", "g": "25", "crf": "12"}, "i.mp4": {"g": "1"}, "ts.ts": {"bf": "2", "g": "12"}}
        for name, options in kinds.items():
            packed(self.path(name), 70, **options)
            with Clip(self.path(name)) as clip:
                self.assertEqual(len(clip), 70)
                for number in (0, 69, 3, 41, 42, 43, 40, 12, 0, 69):
                    found = clip.frame(number)
                    self.assertEqual(self.columns(found.pixels), number, name)
                    self.assertAlmostEqual(found.time, number / 30, delta=1e-3)
                self.assertEqual([self.columns(f.pixels) for f in clip.frames(2, 9)], list(range(2, 70, 9)))
                self.assertAlmostEqual(clip.rate, 30, delta=0.5)

    def test_deep_pictures_keep_their_bits(self) -> None:
        packed(self.path("deep.mkv"), 3, "ffv1", pix_fmt="yuv444p10le")
        found = Clip(self.path("deep.mkv")).frame(1)
        self.assertEqual((found.bits, found.pixels.dtype), (10, np.uint16))
        self.assertAlmostEqual(float(found.pixels[:, :2].mean()), 220 * 1023 / 255, delta=8)
        image = read_image(self.path("deep.mkv"), page=1)
        self.assertEqual((image.white, image.page, image.pages), (1023.0, 1, 3))

    def test_a_clip_that_is_shown_turned(self) -> None:
        packed(self.path("turned.mp4"), 4, size=(64, 96))
        with av.open(str(self.path("turned.mp4"))) as given, av.open(str(self.path("again.mov")), "w") as out:
            stream = out.add_stream_from_template(given.streams.video[0])
            if not hasattr(stream, "set_display_rotation"):
                self.skipTest("this PyAV writes no rotation")
            stream.set_display_rotation(90)
            for packet in given.demux(given.streams.video[0]):
                if packet.dts is not None:
                    packet.stream = stream
                    out.mux(packet)
        found = read_frame(self.path("again.mov"), 0)
        self.assertEqual((found.width, found.height), (64, 96))


class Damage(InFolder):
    def refused(self, path: Path, reason: str) -> None:
        with self.assertRaisesRegex(FileError, reason):
            Clip(path)

    def test_what_is_no_clip(self) -> None:
        self.refused(self.path("none.mkv"), "does not exist")
        self.path("text.mkv").write_text("no clip")
        self.refused(self.path("text.mkv"), "cannot be read as a clip")
        self.path("nothing.mkv").write_bytes(b"")
        self.refused(self.path("nothing.mkv"), "cannot be read as a clip")

    def test_sound_only_and_no_frames(self) -> None:
        with av.open(str(self.path("sound.mkv")), "w") as out:
            stream = out.add_stream("pcm_s16le", rate=8000)
            frame = av.AudioFrame.from_ndarray(np.zeros((1, 800), np.int16), format="s16", layout="mono")
            frame.rate, frame.pts = 8000, 0
            for packet in [*stream.encode(frame), *stream.encode(None)]:
                out.mux(packet)
        self.refused(self.path("sound.mkv"), "holds sound but no pictures")

    def test_cut_short(self) -> None:
        packed(self.path("whole.ts"), 60, g="10")
        data = self.path("whole.ts").read_bytes()
        self.path("cut.ts").write_bytes(data[: len(data) // 2])
        with Clip(self.path("cut.ts")) as clip:
            self.assertTrue(10 < len(clip) < 60)
            for number in range(len(clip) - 4):
                clip.frame(number)
        packed(self.path("whole.mp4"), 60)
        self.path("cut.mp4").write_bytes(self.path("whole.mp4").read_bytes()[:3000])
        self.refused(self.path("cut.mp4"), "cannot be read as a clip")

    def test_a_frame_that_there_is_not(self) -> None:
        packed(self.path("few.mp4"), 3)
        with self.assertRaisesRegex(ParameterError, r"page: 3 is not allowed; few\.mp4 has frames 0 to 2"):
            read_frame(self.path("few.mp4"), 3)
        self.assertTrue(is_clip("A.MP4") and not is_clip("a.png"))


if __name__ == "__main__":
    unittest.main()
