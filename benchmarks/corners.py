"""Corners: errors against the bound, whole boards, false ones on photographs, repeatability, speed."""

from __future__ import annotations

import argparse
import math
import time

import numpy as np
from numpy.typing import NDArray
from scipy import ndimage

import lucid_finch as lf
from benchmarks.photographs import FOLDER
from benchmarks.scenes import photograph
from benchmarks.templates import grey
from lucid_finch.core.numerics.corners.structure_tensor import maxima, operator, response_plane, tensors_at
from lucid_finch.core.numerics.runtime.threads import set_thread_count

_FINE = 6
"""Samples of a pixel along each side."""


def pictures(random: np.random.Generator) -> NDArray[np.float64]:
    """A photograph without people, grey."""
    files = sorted(path for path in FOLDER.iterdir() if path.suffix.lower() in (".jpg", ".jpeg", ".png", ".webp"))
    return grey(files[int(random.integers(len(files)))])


def sampled(shape: tuple[int, int], value: object, blur: float) -> NDArray[np.float64]:
    """A picture of value(x, y), averaged over each pixel, after a blur of so many px."""
    y, x = ((np.mgrid[: shape[0] * _FINE, : shape[1] * _FINE] + 0.5) / _FINE - 0.5).astype(np.float32)
    fine = np.asarray(value(x, y), np.float32)  # type: ignore[operator]
    smooth = ndimage.gaussian_filter(fine, blur * _FINE) if blur > 0 else fine
    return np.asarray(smooth.reshape(shape[0], _FINE, shape[1], _FINE).mean(axis=(1, 3)), np.float64)


def bytes_of(picture: NDArray[np.float64], noise: float, random: np.random.Generator) -> NDArray[np.uint8]:
    """With noise, rounded."""
    return np.clip(np.round(picture + random.normal(0, noise, picture.shape)), 0, 255).astype(np.uint8)


def board(
    random: np.random.Generator, columns: int, rows: int, pitch: float, tilt: float, size: tuple[int, int]
) -> tuple[object, NDArray[np.float64]]:
    """A chessboard in perspective as a function of x and y, and its inner corners (n, 2)."""
    turn, way = random.uniform(0, 2 * np.pi), random.uniform(0, 2 * np.pi)
    spin = np.array([[math.cos(turn), -math.sin(turn), 0], [math.sin(turn), math.cos(turn), 0], [0, 0, 1]])
    axis = np.array([math.cos(way), math.sin(way), 0])
    cross = np.array([[0, -axis[2], axis[1]], [axis[2], 0, -axis[0]], [-axis[1], axis[0], 0]])
    lean = np.eye(3) + math.sin(tilt) * cross + (1 - math.cos(tilt)) * cross @ cross
    rotation = lean @ spin
    far = 2.2 * pitch * max(columns, rows)
    focal = far
    camera = np.array([[focal, 0, size[0] / 2], [0, focal, size[1] / 2], [0, 0, 1]])
    plane = camera @ np.column_stack([rotation[:, 0], rotation[:, 1], [0.0, 0.0, far]])
    back = np.linalg.inv(plane)
    inner = np.array([[(i - columns / 2) * pitch, (j - rows / 2) * pitch, 1] for j in range(1, rows) for i in range(1, columns)])
    seen = inner @ plane.T
    dark, bright = random.uniform(20, 70), random.uniform(150, 230)

    def value(x: NDArray[np.float32], y: NDArray[np.float32]) -> NDArray[np.float32]:
        w = back[2, 0] * x + back[2, 1] * y + back[2, 2]
        u = (back[0, 0] * x + back[0, 1] * y + back[0, 2]) / w / pitch + columns / 2
        v = (back[1, 0] * x + back[1, 1] * y + back[1, 2]) / w / pitch + rows / 2
        inside = (u >= 0) & (u < columns) & (v >= 0) & (v < rows)
        black = (np.floor(u).astype(int) + np.floor(v).astype(int)) % 2 == 0
        return np.where(inside & black, np.float32(dark), np.float32(bright))

    return value, seen[:, :2] / seen[:, 2:]


def boards(count: int, seed: int) -> None:
    """Inner corners of chessboards up to 45 degrees of tilt, on the default recipe."""
    random = np.random.default_rng(seed)
    whole = found = false = total = 0
    errors, stated = [], []
    for _ in range(count):
        columns, rows = int(random.integers(5, 11)), int(random.integers(4, 9))
        pitch = float(random.uniform(16, 40))
        value, truth = board(random, columns, rows, pitch, math.radians(random.uniform(0, 45)), (560, 480))
        noise = float(random.uniform(1, 5))
        seen = bytes_of(sampled((480, 560), value, float(random.uniform(0.5, 1.3))), noise, random)
        f = lf.detect("corners", seen).findings
        saddles = f[f["form"] == "saddle"]
        at = np.stack([saddles["x"], saddles["y"]], axis=1)
        inside = (truth > 12).all(axis=1) & (truth[:, 0] < 547) & (truth[:, 1] < 467)
        far = np.hypot(*(truth[:, None] - at[None]).T).T if len(at) else np.full((len(truth), 1), 99.0)
        hit = far.min(axis=1) < 1.0
        whole += bool(hit[inside].all())
        found, total = found + int(hit[inside].sum()), total + int(inside.sum())
        false += int((far.min(axis=0) >= 1.0).sum()) if len(at) else 0
        for t in np.flatnonzero(hit):
            k = int(np.argmin(far[t]))
            errors += [at[k, 0] - truth[t, 0], at[k, 1] - truth[t, 1]]
            stated += [saddles["x_std"][k], saddles["y_std"][k]]
    e = np.array(errors)
    print(
        f"boards: whole {whole / count:.2f}, corners {found / total:.4f}, other saddles {false / count:.2f} a board; "
        f"median error {np.median(np.hypot(e[::2], e[1::2])):.3f} px, rms {np.sqrt(np.mean(e**2)):.4f}, "
        f"error over stated {np.sqrt(np.mean((e / np.array(stated)) ** 2)):.2f}"
    )


def single(count: int) -> None:
    """One saddle or wedge in the middle: error against the bound and the median distance."""
    random = np.random.default_rng(3)
    for form, opening in (("saddle", 90), ("saddle", 65), ("wedge", 90), ("wedge", 60), ("wedge", 130)):
        for noise in (3.0, 6.0):
            off, least = [], []
            for _ in range(count):
                value, place = _corner(random, form, math.radians(opening))
                clean = sampled((44, 44), value, 0.8)
                f = lf.detect("corners", bytes_of(clean, noise, random)).findings
                if not len(f):
                    continue
                far = np.hypot(f["x"] - place[0], f["y"] - place[1])
                k = int(np.argmin(far))
                off += [f["x"][k] - place[0], f["y"][k] - place[1]]
                least.append(_bound(clean, place, noise))
            e = np.array(off)
            print(
                f"{form} {opening} deg, noise {noise:g}: median {np.median(np.hypot(e[::2], e[1::2])):.3f} px, rms an axis "
                f"{np.sqrt(np.mean(e**2)):.4f}, over the bound {np.sqrt(np.mean(e**2)) / np.sqrt(np.mean(np.square(least))):.2f}"
            )


def _corner(random: np.random.Generator, form: str, opening: float) -> tuple[object, NDArray[np.float64]]:
    place = 21.5 + random.uniform(-0.5, 0.5, 2)
    turn = random.uniform(0, 2 * np.pi)
    sign = random.choice([-1, 1])

    def value(x: NDArray[np.float32], y: NDArray[np.float32]) -> NDArray[np.float32]:
        one = np.cos(turn) * (x - place[0]) + np.sin(turn) * (y - place[1]) > 0
        other = np.cos(turn + np.pi - opening) * (x - place[0]) + np.sin(turn + np.pi - opening) * (y - place[1]) > 0
        inside = one == other if form == "saddle" else one & other
        return np.where(inside, np.float32(110 + 40 * sign), np.float32(110 - 40 * sign))

    return value, place


def _bound(clean: NDArray[np.float64], place: NDArray[np.float64], noise: float) -> float:
    """The least error an axis of a place that is seen within 6 px, everything else known."""
    gy, gx = np.gradient(clean)
    y, x = np.mgrid[: clean.shape[0], : clean.shape[1]]
    near = np.hypot(x - place[0], y - place[1]) <= 6.5
    fisher = np.array([[(gx[near] ** 2).sum(), (gx * gy)[near].sum()], [(gx * gy)[near].sum(), (gy[near] ** 2).sum()]])
    return noise * math.sqrt(0.5 * float(np.trace(np.linalg.inv(fisher))))


def photographs(count: int, seed: int) -> None:
    """Share of the corners that a second look calls a straight edge or noise: the tensor at half and double scale."""
    random = np.random.default_rng(seed)
    edges = noise = total = 0
    seconds = []
    for _ in range(count):
        seen = pictures(random).astype(np.uint8)
        started = time.perf_counter()
        result = lf.detect("corners", seen)
        seconds.append((time.perf_counter() - started) / seen.size * 1e6)
        f = result.findings
        rows, columns = (np.round(f[n]).astype(np.int32) for n in ("y", "x"))
        straight = np.zeros(len(f), bool)
        weak = np.zeros(len(f), bool)
        second = seen[2:-2:4, 2:-2].astype(float)
        sigma = np.median(np.abs(second[:, 2:] - 2 * second[:, 1:-1] + second[:, :-2])) / (0.6745 * math.sqrt(6))
        for factor in (0.5, 2.0):
            tensors = tensors_at(seen, rows, columns, factor, 2.0 * factor)
            straight |= tensors.isotropy < 0.1
            weak |= tensors.least < (2.0 * max(sigma, 0.5) * 0.2 / factor**2) ** 2
        edges, noise, total = edges + int(straight.sum()), noise + int((weak & ~straight).sum()), total + len(f)
    print(
        f"photographs: {total} corners in {count}, {100 * edges / total:.2f} % on straight edges, "
        f"{100 * noise / total:.2f} % noise; "
        f"{np.median(seconds):.3f} s a megapixel"
    )


def repeatability(count: int, seed: int) -> None:
    """Corners of a photograph that are found again within 1.5 px after a turn by 30 degrees and noise 5."""
    random = np.random.default_rng(seed)
    shares = []
    turn = math.radians(30)
    c, s = math.cos(turn), math.sin(turn)
    for _ in range(count):
        seen = pictures(random)
        height, width = seen.shape
        middle = np.array([(height - 1) / 2, (width - 1) / 2])
        matrix = np.array([[c, s], [-s, c]])
        turned = ndimage.affine_transform(seen, matrix, middle - matrix @ middle, order=3, mode="mirror")
        plain = bytes_of(seen, 0, random)
        first = lf.detect("corners", plain, keep=500).findings
        second = lf.detect("corners", bytes_of(turned, 5.0, random)).findings
        at = (np.stack([first["y"], first["x"]], axis=1) - middle) @ matrix + middle
        inside = (at > 20).all(axis=1) & (at[:, 0] < height - 21) & (at[:, 1] < width - 21)
        if inside.sum() < 20 or not len(second):
            continue
        far = np.hypot(at[inside, 0][:, None] - second["y"][None], at[inside, 1][:, None] - second["x"][None])
        shares.append(float((far.min(axis=1) < 1.5).mean()))
    print(f"repeatability: mean {np.mean(shares):.3f}, median {np.median(shares):.3f} over {len(shares)} photographs")


def background(count: int) -> None:
    """Corners in pictures of noise alone, white and smoothed; 0.01 an image are accepted."""
    random = np.random.default_rng(8)
    for blur in (0.0, 0.8, 2.0):
        found = 0
        for _ in range(count):
            values = random.normal(size=(600, 800))
            values = ndimage.gaussian_filter(values, blur) if blur else values
            seen = np.clip(np.round(120 + 12 * values / values.std()), 0, 255).astype(np.uint8)
            found += len(lf.detect("corners", seen).findings)
        print(f"noise smoothed by {blur:g}: {found / count:.2f} an image")


def speed() -> None:
    """Response, suppression and the strongest thousand, one thread, against the composition."""
    picture = photograph()
    op = operator("min_eigenvalue", 1.0, 2.0, 0.05)

    def ours() -> NDArray[np.int64]:
        plane = response_plane(picture, op)
        rows, columns = maxima(plane, 0.0, op.margin, None)
        return np.argpartition(-plane[rows, columns], 1000)[:1000]

    def composition() -> NDArray[np.int64]:
        values = picture.astype(np.float64)
        gx, gy = (ndimage.gaussian_filter(values, 1.0, order=order) for order in ((0, 1), (1, 0)))
        a, b, c = (ndimage.gaussian_filter(product, 2.0) for product in (gx * gx, gx * gy, gy * gy))
        plane = 0.5 * (a + c - np.sqrt((a - c) ** 2 + 4 * b * b))
        rows, columns = np.nonzero((plane == ndimage.maximum_filter(plane, 3)) & (plane > 0))
        return np.argpartition(-plane[rows, columns], 1000)[:1000]

    set_thread_count(1)
    taken = []
    for task in (ours, composition):
        task()
        times = []
        for _ in range(5):
            started = time.perf_counter()
            task()
            times.append(time.perf_counter() - started)
        taken.append(float(np.median(times)))
    print(f"ours {1000 * taken[0]:.1f} ms, composition {1000 * taken[1]:.0f} ms: {taken[1] / taken[0]:.1f} times")


def main() -> None:
    parser = argparse.ArgumentParser(description=__doc__)
    parser.add_argument("--count", type=int, default=40)
    parser.add_argument("--seed", type=int, default=1)
    parser.add_argument("what", choices=["boards", "single", "photographs", "repeatability", "background", "speed"])
    given = parser.parse_args()
    match given.what:
        case "boards":
            boards(given.count, given.seed)
        case "single":
            single(given.count)
        case "photographs":
            photographs(given.count, given.seed)
        case "repeatability":
            repeatability(given.count, given.seed)
        case "background":
            background(given.count)
        case _:
            speed()


if __name__ == "__main__":
    main()
