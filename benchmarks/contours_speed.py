"""Speed of contours and of edge scans against plain compositions, on 1920 x 1080, one thread: ratios of one run."""

from __future__ import annotations

from collections.abc import Callable
from typing import Any

import numpy as np
from numpy.typing import NDArray
from scipy import ndimage

from benchmarks.scenes import photograph
from benchmarks.timing import fastest as fastest_of
from lucid_finch.core.execution import engine
from lucid_finch.core.image import Image
from lucid_finch.core.numerics.regions.borders import rings_of
from lucid_finch.core.numerics.regions.components import label_parts
from lucid_finch.core.numerics.regions.iso_contours import cross_level
from lucid_finch.core.numerics.regions.thresholding import histogram, otsu
from lucid_finch.core.numerics.runtime import threads


def discs(count: int, radius: float) -> NDArray[np.uint8]:
    """So many discs in rows, 0 and 1."""
    across = int(np.sqrt(count * 16 / 9))
    y, x = np.mgrid[0:1080, 0:1920]
    step_x, step_y = 1920 / across, 1080 / (count // across)
    off = np.hypot((x + 0.5) % step_x - step_x / 2, (y + 0.5) % step_y - step_y / 2)
    return (off < radius).astype(np.uint8)


def composed_otsu(pixels: NDArray[Any]) -> float:
    """The textbook: a histogram, then the variance between both classes at every level."""
    counts = np.bincount(pixels.ravel(), minlength=256)
    weight = counts / counts.sum()
    below, moment = np.cumsum(weight), np.cumsum(weight * np.arange(256))
    with np.errstate(invalid="ignore", divide="ignore"):
        between = (moment[-1] * below - moment) ** 2 / (below * (1 - below))
    return float(np.nanargmax(between))


def composed_parts(binary: NDArray[np.uint8]) -> Any:
    """Labels, boxes, and sums over them for area, centroid and second moments."""
    label, count = ndimage.label(binary, np.ones((3, 3)))
    flat, (y, x) = label.ravel(), np.indices(binary.shape)
    values = (None, x, y, x * x, x * y, y * y)
    sums = [np.bincount(flat, None if v is None else v.ravel(), count + 1) for v in values]
    return ndimage.find_objects(label), sums


def looped_borders(binary: NDArray[np.uint8]) -> int:
    """Outlines with nesting pixel by pixel in Python: a scan over all pixels that follows each border it meets first."""
    stride = binary.shape[1] + 2
    padded = np.pad(binary, 1).ravel().tolist()
    right, left, step = (0, -1, -1 - stride, -stride), (-stride, 0, -1, -1 - stride), (1, stride, -1, -stride)
    border_of: dict[int, int] = {}
    parents: list[int] = []
    total, last = 0, -1
    for p in range(1, len(padded)):
        if padded[p] == padded[p - 1]:
            continue
        if p not in border_of:
            # The border met last on this row is around this one, or beside it.
            q, d = (p, 0) if padded[p] else (p, 1)
            start, outline, number = (q, d), [], len(parents)
            while True:
                outline.append((q + right[d]) * 4 + d)
                if d & 1:
                    border_of[q if d == 1 else q - stride] = number
                q += step[d]
                if padded[q + left[d]]:
                    d = (d + 3) & 3
                elif not padded[q + right[d]]:
                    d = (d + 1) & 3
                if (q, d) == start:
                    break
            parents.append(last if p % stride > 1 and parents else -1)
            total += len(outline)
        last = border_of[p]
    return total


def slanted_step() -> Image:
    """One boundary of contrast 40 from top to bottom, blurred by a pixel, noise 3."""
    y, x = np.mgrid[0:1080, 0:1920]
    step = ndimage.gaussian_filter(np.where(x > 960 + 0.1 * (y - 540), 40.0, 0.0), 1.0)
    return Image.from_array((100 + step + np.random.default_rng(0).normal(0, 3, step.shape)).clip(0, 255).astype(np.uint8))


def speckled() -> NDArray[np.uint8]:
    """Sixty discs on a ground whose noise makes some hundred specks above level 140."""
    y, x = np.mgrid[0:1080, 0:1920]
    plane = np.full(x.shape, 110.0)
    random = np.random.default_rng(3)
    for _ in range(60):
        plane[np.hypot(x - random.uniform(40, 1880), y - random.uniform(40, 1040)) < random.uniform(15, 50)] = 180.0
    plane = ndimage.gaussian_filter(plane, 1.0) + random.normal(0, 8.0, x.shape)
    return plane.clip(0, 255).astype(np.uint8)


def fastest(function: Callable[[], Any], rounds: int) -> float:
    """Seconds of the fastest of some calls."""
    return fastest_of({"": function}, rounds)[""]


def main() -> None:
    threads.set_thread_count(1)
    pixels = photograph(1920, 1080)
    ours, theirs = fastest(lambda: otsu(*histogram(pixels)), 9), fastest(lambda: composed_otsu(pixels), 5)
    print(f"Otsu: {theirs / ours:.1f} times (asked 3), {ours * 1e3:.2f} ms")
    for count, radius in ((1000, 14.0), (20_000, 4.0)):
        binary = discs(count, radius)
        ours, theirs = fastest(lambda b=binary: label_parts(b), 7), fastest(lambda b=binary: composed_parts(b), 3)
        print(f"labelling with measures, {count} objects: {theirs / ours:.1f} times (asked 6), {ours * 1e3:.2f} ms")
    whole = {}
    for count, radius in ((1000, 14.0), (20_000, 4.0)):
        binary = discs(count, radius)
        level = binary.astype(np.float32) - 0.5

        def outlines(b: Any = binary, v: Any = level) -> Any:
            return cross_level(v, None, rings_of(b).borders)

        taken = fastest_of(
            {"loop": lambda b=binary: looped_borders(b), "alone": lambda b=binary: rings_of(b), "sub-pixel": outlines}, 7
        )
        whole[count], alone, loop = taken["sub-pixel"], taken["alone"], taken["loop"]
        print(
            f"outlines with nesting, {count} objects: {loop / alone:.0f} times a Python loop (asked 80), {alone * 1e3:.1f} ms; "
            f"sub-pixel {loop / whole[count]:.0f} times"
        )
    print(f"20,000 objects take {whole[20_000] / whole[1000]:.2f} times as long as 1,000 (asked at most 3)")
    for count, radius in ((1000, 14.0), (20_000, 4.0)):
        picture = Image.from_array((discs(count, radius) * 200).astype(np.uint8))
        for given in ({"binarize": "otsu"}, {}):
            taken = fastest(lambda p=picture, g=given: engine.detect("contours", p, g), 2)
            print(f"the whole detector, {count} objects, {given or 'defaults'}: {taken * 1e3:.0f} ms, names included")
    noisy = Image.from_array(speckled())
    given = {"binarize": "fixed", "level": 140.0}
    found = engine.detect("contours", noisy, given)
    fast = fastest_of(
        {
            "ours": lambda: engine.detect("contours", noisy, given),
            "theirs": lambda: composed_parts(ndimage.gaussian_filter(noisy.pixels.astype(np.float32), 1.0) > 140),
        },
        7,
    )
    print(
        f"fixed level, {len(found.findings)} contours, {len(found.near_misses)} near misses: "
        f"{fast['theirs'] / fast['ours']:.1f} times (asked 6), {fast['ours'] * 1e3:.1f} ms"
    )
    step, area = slanted_step(), {"shape": "rectangle", "x": 960, "y": 540, "width": 200, "height": 1000, "angle": 0.5}
    taken = fastest(lambda: engine.detect("edge_scan", step, {"region": area, "spacing": 1.0}), 40)
    print(f"1,000 scans of 200 px, robust line included: {taken * 1e3:.1f} ms (asked 10)")


if __name__ == "__main__":
    main()
