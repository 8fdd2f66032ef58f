"""Templates: found and false matches on photographs and on painted scenes, errors against the bound, times as ratios."""

from __future__ import annotations

import argparse
import io
import math
import time
from dataclasses import dataclass
from pathlib import Path

import numpy as np
from PIL import Image as Pillow
from scipy import ndimage

import lucid_finch as lf
from benchmarks.photographs import FOLDER

_STRUCTURED = 1.5
"""Grey levels per px: below, one edge or a blurred patch, which fixes the place along one direction alone."""


@dataclass(frozen=True)
class Placed:
    """Where a template was put into a scene."""

    x: float
    y: float
    angle: float
    scale: float


def place(
    scene: np.ndarray, source: np.ndarray, box: tuple[int, int, int], at: Placed, hidden: float, gain: float, offset: float
) -> np.ndarray:
    """The scene with the square `box` (left, top, side) of a source laid into it, `hidden` of it at one side left out."""
    left, top, side = box
    turn = math.radians(at.angle)
    rows, columns = np.mgrid[: scene.shape[0], : scene.shape[1]]
    u = (math.cos(turn) * (columns - at.x) + math.sin(turn) * (rows - at.y)) / at.scale
    v = (-math.sin(turn) * (columns - at.x) + math.cos(turn) * (rows - at.y)) / at.scale
    inside = (np.abs(u) < side / 2) & (np.abs(v) < side / 2) & (u < side * (0.5 - hidden))
    smooth = ndimage.gaussian_filter(source, 0.5 * math.sqrt(max(1 / at.scale**2 - 1, 0))) if at.scale < 1 else source
    middle = (side - 1) / 2
    values = ndimage.map_coordinates(smooth, [v + middle + top, u + middle + left], order=3, mode="mirror")
    return np.where(inside, gain * values + offset, scene)


def spoiled(scene: np.ndarray, random: np.random.Generator, noise: float, blur: float, quality: int) -> np.ndarray:
    """Blur, noise and compression."""
    blurred = ndimage.gaussian_filter(scene, blur) if blur > 0 else scene
    noisy = np.clip(np.round(blurred + random.normal(0, noise, scene.shape)), 0, 255).astype(np.uint8)
    if not quality:
        return noisy
    stream = io.BytesIO()
    Pillow.fromarray(noisy).save(stream, "JPEG", quality=quality)
    return np.asarray(Pillow.open(stream))


def grey(path: Path) -> np.ndarray:
    picture = Pillow.open(path).convert("L")
    picture.thumbnail((1920, 1080))
    return np.asarray(picture).astype(np.float64)


def _weakest_gradient(patch: np.ndarray) -> float:
    """Root mean square gradient along the direction in which it is least, grey levels per px: what fixes the place both ways."""
    gy, gx = np.gradient(ndimage.gaussian_filter(patch, 1.5))
    tensor = np.array([[np.mean(gx * gx), np.mean(gx * gy)], [np.mean(gx * gy), np.mean(gy * gy)]])
    return math.sqrt(max(float(np.linalg.eigvalsh(tensor)[0]), 0.0))


@dataclass
class _Tally:
    """Right and wrong matches."""

    found: int = 0
    false: int = 0
    total: int = 0

    def add(self, found: int, false: int, total: int) -> None:
        self.found, self.false, self.total = self.found + found, self.false + false, self.total + total

    def __str__(self) -> str:
        precision, recall = self.found / max(self.found + self.false, 1), self.found / max(self.total, 1)
        f1 = 2 * precision * recall / max(precision + recall, 1e-9)
        return f"F1 {f1:.3f} (precision {precision:.3f}, recall {recall:.3f}, {self.total})"


def photographs(count: int, seed: int, contrast: float) -> None:
    """Patches of one photograph in another one."""
    random = np.random.default_rng(seed)
    files = sorted(path for path in FOLDER.iterdir() if path.suffix.lower() in (".jpg", ".jpeg", ".png", ".webp"))
    every, structured = _Tally(), _Tally()
    seconds, errors = [], []
    while every.total < count:
        first, second = random.choice(len(files), 2, replace=False)
        source, scene = grey(files[first]), grey(files[second])
        side = int(random.integers(48, 201))
        if min(source.shape) < 2 * side or min(scene.shape) < 500:
            continue
        left, top = (int(random.integers(8, n - side - 8)) for n in (source.shape[1], source.shape[0]))
        patch = source[top : top + side, left : left + side]
        if patch.std() < contrast or np.hypot(*np.gradient(ndimage.gaussian_filter(patch, 1))).mean() < 1.5:
            continue
        at = Placed(
            float(random.uniform(0.25, 0.75) * scene.shape[1]), float(random.uniform(0.3, 0.7) * scene.shape[0]),
            float(random.uniform(-180, 180)), float(random.uniform(0.7, 1.4)),
        )  # fmt: skip
        laid = place(scene, source, (left, top, side), at, 0.25, random.uniform(0.6, 1.3), random.uniform(-10, 10))
        seen = spoiled(laid, random, 5.0, float(random.uniform(0, 1.5)), 40)
        started = time.perf_counter()
        result = lf.detect("templates", seen, template=patch.astype(np.uint8), rotation=(-180, 180), scale=(0.7, 1.4))
        seconds.append(time.perf_counter() - started)
        f = result.findings
        off = np.hypot(f["x"] - at.x, f["y"] - at.y)
        good = (off < 0.1 * side) & (np.abs(np.log(f["scale"] / at.scale)) < 0.1)
        # Some of the files show the same photograph.
        false = int((~good & ~((f["score"] > 0.95) & (f["log_nfa"] > 50))).sum())
        weakest = _weakest_gradient(patch)
        every.add(int(good.any()), false, 1)
        if weakest >= _STRUCTURED:
            structured.add(int(good.any()), false, 1)
        if good.any():
            k = int(np.argmax(good))
            errors.append((off[k], abs(math.remainder(f["angle"][k] - at.angle, 360)), abs(f["scale"][k] / at.scale - 1)))
        outcome = "found" if good.any() else "LOST" + _why(result.near_misses, at, side)
        print(
            f"{every.total} side {side} weakest gradient {weakest:.1f}: {false} false, {seconds[-1]:.2f} s, {outcome}", flush=True
        )
    typical = np.median(np.array(errors), axis=0)
    print(f"all: {every}; with a gradient of {_STRUCTURED} or more both ways: {structured}")
    print(
        f"median errors {typical[0]:.3f} px, {typical[1]:.3f} deg, {100 * typical[2]:.3f} %; {np.median(seconds):.2f} s",
    )


def _why(near: lf.Table, at: Placed, side: int) -> str:
    """The limits that candidates at a place failed."""
    close = np.hypot(near["x"] - at.x, near["y"] - at.y) < 0.1 * side
    rows = zip(*(near[c][close] for c in ("failed", "score", "log_nfa")), strict=True)
    return "; " + (", ".join(f"{w} ({a:.2f}, {b:.1f})" for w, a, b in rows) or "no candidate")


def _figure(side: int, random: np.random.Generator, ground: float) -> np.ndarray:
    """Strokes and dots on a plain ground, blurred a little."""
    y, x = np.mgrid[: 4 * side, : 4 * side] / (4 * side) - 0.5
    figure = np.full(x.shape, ground)
    for _ in range(int(random.integers(5, 10))):
        (cx, cy), turn = random.uniform(-0.33, 0.33, 2), random.uniform(0, np.pi)
        length, breadth = random.uniform(0.05, 0.2), random.uniform(0.025, 0.07)
        u, v = (x - cx) * np.cos(turn) + (y - cy) * np.sin(turn), (y - cy) * np.cos(turn) - (x - cx) * np.sin(turn)
        figure[(np.abs(u) < length) & (np.abs(v) < breadth)] = ground + random.choice([-1, 1]) * random.uniform(25, 70)
    return ndimage.gaussian_filter(figure, 2).reshape(side, 4, side, 4).mean(axis=(1, 3))


def painted(count: int, seed: int) -> None:
    """Figures at any angle and size on textured ground, some hidden by 30 %, others beside them, in light that falls off."""
    found = false = total = 0
    seconds, errors = [], []
    for number in range(count):
        random = np.random.default_rng(1000 * seed + number)
        height, width = 720, 960
        ground = 120 + 9 * ndimage.gaussian_filter(random.normal(size=(height, width)), 5) / 0.057
        ground += random.normal(0, 3, ground.shape)
        side = int(random.integers(48, 110))
        taught, others = _figure(side, random, 120.0), [_figure(side, random, 120.0) for _ in range(4)]
        scene, truth = ground, []
        for cell in random.permutation(12):
            x, y = 120 + 240 * (cell % 4) + random.uniform(-25, 25), 120 + 240 * (cell // 4) + random.uniform(-25, 25)
            at = Placed(x, y, float(random.uniform(-180, 180)), float(random.uniform(0.7, 1.4)))
            right = len(truth) < 7
            figure = taught if right else others[int(random.integers(4))]
            hidden = 0.3 if right and len(truth) < 2 else 0.0
            scene = place(
                scene, figure, (0, 0, side), at, hidden, float(random.uniform(0.7, 1.2)), float(random.uniform(-15, 15))
            )
            truth += [at] if right else []
        light = 1.15 - 0.45 * np.linspace(0, 1, width)[None, :]
        seen = spoiled(scene * light, random, 3.0, float(random.uniform(0.3, 1.0)), 0)
        template = np.clip(np.round(taught + random.normal(0, 2, taught.shape)), 0, 255).astype(np.uint8)
        started = time.perf_counter()
        f = lf.detect("templates", seen, template=template, rotation=(-180, 180), scale=(0.7, 1.4)).findings
        seconds.append(time.perf_counter() - started)
        used: set[int] = set()
        for at in truth:
            off = np.hypot(f["x"] - at.x, f["y"] - at.y)
            turned = np.abs((f["angle"] - at.angle + 180) % 360 - 180)
            good = np.flatnonzero((off < 0.1 * side) & (np.abs(np.log(f["scale"] / at.scale)) < 0.1) & (turned < 10))
            used |= set(good.tolist())
            found += len(good) > 0
            if len(good):
                errors.append((off[good[0]], turned[good[0]], abs(f["scale"][good[0]] / at.scale - 1)))
        total += len(truth)
        false += len(f) - len(used)
        print(f"{number} side {side}: {len(used)} of {len(truth)}, {len(f) - len(used)} false, {seconds[-1]:.2f} s", flush=True)
    precision, recall = found / max(found + false, 1), found / total
    f1 = 2 * precision * recall / max(precision + recall, 1e-9)
    typical = np.median(np.array(errors), axis=0)
    print(
        f"F1 {f1:.3f} (precision {precision:.3f}, recall {recall:.3f}); median errors {typical[0]:.3f} px, {typical[1]:.3f} deg, "
        f"{100 * typical[2]:.3f} %; {np.median(seconds):.2f} s"
    )


def bound(count: int, noise: float) -> None:
    """Error of the place of an upright template against the Cramer-Rao bound, and the same with free angle and scale."""
    random = np.random.default_rng(5)
    fine = 8
    base = ndimage.gaussian_filter(random.normal(size=(160 * fine, 160 * fine)), 2.2 * fine)
    base = 110 + 45 * base / base.std()
    for free in (False, True):
        off, told = [], []
        for _ in range(count):
            dx, dy = random.integers(-fine // 2, fine // 2 + 1, 2) / fine
            moved = np.roll(base, (round(dy * fine), round(dx * fine)), (0, 1))
            planes = [p.reshape(160, fine, 160, fine).mean(axis=(1, 3)) for p in (base, moved)]
            seen = np.clip(np.round(planes[1] + random.normal(0, noise, planes[1].shape)), 0, 255).astype(np.uint8)
            template = planes[0][48:112, 48:112].astype(np.float32)
            given = {"rotation": (-5, 5), "scale": (0.95, 1.05)} if free else {}
            image = lf.Image.from_array(seen)
            taught = lf.Image.from_array(template, value_range=(0, 255))
            f = lf.detect("templates", image, template=taught, **given).findings
            best = int(np.argmin(f["rank"]))
            off += [f["x"][best] - 79.5 - dx, f["y"][best] - 79.5 - dy]
            told += [f["x_std"][best], f["y_std"][best]]
            if free:
                off[-2:], told[-2:] = (
                    [f["angle"][best], 100 * (f["scale"][best] - 1)],
                    [f["angle_std"][best], 100 * f["scale_std"][best]],
                )
        gy, gx = np.gradient(planes[0][48:112, 48:112])
        least = noise / math.sqrt(0.5 * float((gx**2).sum() + (gy**2).sum()))
        error, stated = float(np.sqrt(np.mean(np.square(off)))), float(np.sqrt(np.mean(np.square(told))))
        what = "angle (deg) and scale (%)" if free else f"place, bound {least:.4f} px, ratio {error / least:.2f}"
        print(f"noise {noise:g}: rms {error:.4f}, stated {stated:.4f}: {what}", flush=True)


def speed() -> None:
    """The whole map and the search against a composition of transforms, on 1920 x 1080."""
    from scipy import fft

    from benchmarks.scenes import photograph
    from lucid_finch.core.numerics.matching.correlation import Pattern, correlation_map
    from lucid_finch.core.numerics.matching.upright import correlation_peaks

    picture = photograph()
    part = picture[300:364, 1000:1064]

    def composition() -> None:
        image, weights = picture.astype(np.float64), part - part.mean()
        size = [fft.next_fast_len(a + b - 1, real=True) for a, b in zip(image.shape, part.shape, strict=True)]
        products = fft.irfft2(fft.rfft2(image, size) * np.conj(fft.rfft2(weights, size)), size)[: 1080 - 63, : 1920 - 63]
        once, twice = (np.pad(a.cumsum(0).cumsum(1), ((1, 0), (1, 0))) for a in (image, image**2))
        total, squares = (a[64:, 64:] - a[:-64, 64:] - a[64:, :-64] + a[:-64, :-64] for a in (once, twice))
        _ = products / np.sqrt(np.maximum(squares - total**2 / 4096, 1e-9) * (weights**2).sum())

    def turned_composition(count: int) -> None:
        """The same for templates at some angles, the pixels of a disc each, the transforms of the image taken once."""
        image = picture.astype(np.float64)
        size = [fft.next_fast_len(a + b - 1, real=True) for a, b in zip(image.shape, part.shape, strict=True)]
        spectra = [fft.rfft2(plane, size) for plane in (image, image**2)]
        y, x = np.mgrid[:64, :64] - 31.5
        disc = (np.hypot(x, y) < 32).astype(np.float64)
        over = np.conj(fft.rfft2(disc, size))
        total, squares = (fft.irfft2(spectrum * over, size)[: 1080 - 63, : 1920 - 63] for spectrum in spectra)
        varied = np.maximum(squares - total**2 / disc.sum(), 1e-9)
        best = np.full(total.shape, -1.0)
        for angle in 2.0 * np.arange(count):
            turned = ndimage.rotate(part.astype(np.float64), angle, reshape=False, order=1, mode="mirror")
            weights = (turned - (turned * disc).sum() / disc.sum()) * disc
            products = fft.irfft2(spectra[0] * np.conj(fft.rfft2(weights, size)), size)[: 1080 - 63, : 1920 - 63]
            np.maximum(best, products / np.sqrt(varied * (weights**2).sum()), out=best)

    ours = picture.astype(np.float32)
    pattern = Pattern.of(part)
    template = np.ascontiguousarray(part)
    turned = {"rotation": (-180, 180)}
    tasks = {
        "composition": composition,
        "map": lambda: correlation_map(ours, pattern, 1.0, 255.0),
        "peaks from 0.5 on": lambda: correlation_peaks(ours, pattern, 1.0, 255.0, 0.4),
        "upright, found and measured": lambda: lf.detect("templates", picture, template=template),
        "any angle": lambda: lf.detect("templates", picture, template=template, **turned),
        "any angle, scale 0.7 to 1.4": lambda: lf.detect("templates", picture, template=template, **turned, scale=(0.7, 1.4)),
    }
    taken = {}
    for name, task in tasks.items():
        task()
        times = []
        for _ in range(5):
            started = time.perf_counter()
            task()
            times.append(time.perf_counter() - started)
        taken[name] = float(np.median(times))
        print(f"{name}: {taken[name]:.3f} s, {taken['composition'] / taken[name]:.1f} times the composition", flush=True)
    started = time.perf_counter()
    turned_composition(12)
    whole = 15.0 * (time.perf_counter() - started)
    print(
        f"composition every 2 degrees: {whole:.1f} s, {whole / taken['any angle']:.1f} times ours at any angle (12 of 180 taken)"
    )


def main() -> None:
    parser = argparse.ArgumentParser(description=__doc__)
    parser.add_argument("--count", type=int, default=40)
    parser.add_argument("--seed", type=int, default=1)
    parser.add_argument("--contrast", type=float, default=15.0, help="standard deviation of a patch, at least")
    parser.add_argument("what", choices=["photographs", "painted", "bound", "speed"], nargs="?", default="photographs")
    given = parser.parse_args()
    if given.what == "photographs":
        photographs(given.count, given.seed, given.contrast)
    elif given.what == "painted":
        painted(given.count, given.seed)
    elif given.what == "bound":
        for noise in (2.0, 6.0):
            bound(given.count, noise)
    else:
        speed()


if __name__ == "__main__":
    main()
