"""Speed of the edge detector against a plain NumPy/SciPy composition of the same result, on 1920 x 1080, 8 bit."""

from __future__ import annotations

from typing import Any

import numpy as np
from numpy.typing import NDArray
from scipy import ndimage

from benchmarks.scenes import photograph
from benchmarks.timing import fastest
from lucid_finch.core.detector import Context
from lucid_finch.core.detectors.edges import Edges
from lucid_finch.core.execution import engine
from lucid_finch.core.image import Image
from lucid_finch.core.numerics.edges.background import measure_background
from lucid_finch.core.numerics.edges.chain_significance import Z_LOW
from lucid_finch.core.numerics.edges.chains import link_chains
from lucid_finch.core.numerics.edges.edge_points import find_edge_points, scale_plane
from lucid_finch.core.numerics.edges.gradients import operator_kernels
from lucid_finch.core.numerics.runtime import threads


def composed_points(pixels: NDArray[Any]) -> tuple[NDArray[Any], ...]:
    """Gradient, block background, suppression along the direction, hysteresis labels, sub-pixel: array by array."""
    smooth, derive = operator_kernels("gaussian", 1.2)
    image = pixels.astype(np.float32)
    gx = ndimage.correlate1d(ndimage.correlate1d(image, smooth, 0, mode="mirror"), derive, 1, mode="mirror")
    gy = ndimage.correlate1d(ndimage.correlate1d(image, derive, 0, mode="mirror"), smooth, 1, mode="mirror")
    m = np.sqrt(gx * gx + gy * gy)
    height, width = m.shape
    blocks = m[3::8][: height // 64 * 8, : width // 64 * 64].reshape(height // 64, 8, width // 64, 64)
    low, high = (np.quantile(blocks, q, axis=(1, 3)) / np.sqrt(-2 * np.log1p(-q)) for q in (0.35, 0.65))
    scale = np.minimum(high, 1.5 * low)
    rows = np.clip((np.arange(height) + 0.5) / 64 - 0.5, 0, scale.shape[0] - 1)
    columns = np.clip((np.arange(width) + 0.5) / 64 - 0.5, 0, scale.shape[1] - 1)
    floor = Z_LOW * ndimage.map_coordinates(scale, np.meshgrid(rows, columns, indexing="ij"), order=1)
    padded = np.pad(m, 1, mode="reflect")
    at = {(dy, dx): padded[1 + dy : 1 + dy + height, 1 + dx : 1 + dx + width] for dy in (-1, 0, 1) for dx in (-1, 0, 1)}
    ax, ay = np.abs(gx), np.abs(gy)
    flat, same = ax >= ay, gx * gy > 0
    big, small = np.maximum(ax, ay), np.minimum(ax, ay)
    beyond = np.where(same, at[1, 1], np.where(flat, at[-1, 1], at[1, -1]))
    back = np.where(same, at[-1, -1], np.where(flat, at[1, -1], at[-1, 1]))
    ahead = (big - small) * np.where(flat, at[0, 1], at[1, 0]) + small * beyond
    behind = (big - small) * np.where(flat, at[0, -1], at[-1, 0]) + small * back
    thin = (m >= floor) & (big * m >= ahead) & (big * m > behind)
    labels, count = ndimage.label(thin, np.ones((3, 3)))
    reach = np.zeros(count + 1, np.float32)
    row, column = np.nonzero(thin)
    label = labels[row, column]
    np.maximum.at(reach, label, m[row, column])
    picked = flat[row, column]
    before = np.where(picked, at[0, -1][row, column], at[-1, 0][row, column])
    after = np.where(picked, at[0, 1][row, column], at[1, 0][row, column])
    middle, dx, dy = m[row, column], gx[row, column], gy[row, column]
    la, lb = np.log(before / middle), np.log(after / middle)
    offset = np.clip(0.5 * (la - lb) / np.minimum(la + lb, -1e-6), -1, 1) * np.sign(np.where(picked, dx, dy))
    foot = offset * big[row, column] / middle**2
    return row, column, column + foot * dx, row + foot * dy, dx / middle, dy / middle, middle, reach[label]


def composed_chains(points: tuple[NDArray[Any], ...]) -> list[list[int]]:
    """The same links in a Python loop."""
    row, column, x, y, ux, uy, _, _ = (p.tolist() for p in points)
    index = {place: i for i, place in enumerate(zip(row, column, strict=True))}
    ahead: dict[int, tuple[float, int]] = {}
    behind: dict[int, tuple[float, int]] = {}
    for p in range(len(row)):
        for dy, dx in ((-1, -1), (-1, 0), (-1, 1), (0, -1)):
            q = index.get((row[p] + dy, column[p] + dx))
            if q is None:
                continue
            gx, gy = ux[p] + ux[q], uy[p] + uy[q]
            norm = gx * gx + gy * gy
            if norm < 3:
                continue
            ex, ey = x[q] - x[p], y[q] - y[p]
            aside = ex * gx + ey * gy
            cost = ex * ex + ey * ey + 3 * aside * aside / norm
            back, front = (p, q) if ey * gx - ex * gy >= 0 else (q, p)
            if back not in ahead or cost < ahead[back][0]:
                ahead[back] = (cost, front)
            if front not in behind or cost < behind[front][0]:
                behind[front] = (cost, back)
    following = {p: q for p, (_, q) in ahead.items() if behind.get(q, (0, -1))[1] == p}
    starts = set(range(len(row))) - set(following.values())
    chains, seen = [], set()
    for start in [*sorted(starts), *range(len(row))]:
        if start in seen:
            continue
        chain, p = [start], following.get(start)
        seen.add(start)
        while p is not None and p not in seen:
            seen.add(p)
            chain.append(p)
            p = following.get(p)
        chains.append(chain)
    return chains


def main() -> None:
    picture = photograph()
    image = Image.from_array(picture)
    kernels = operator_kernels("gaussian", 1.2)
    background = measure_background(picture, kernels, 1.0)
    points = find_edge_points(picture, kernels, background, Z_LOW)
    detector, parameters = Edges(), Edges.Parameters.make({}, "edges")
    gathered = detector.gather(image, parameters, Context())
    weights = np.ones(len(points), np.float32)
    plane = np.empty(picture.shape, np.float32)
    other = np.empty_like(plane)
    composed = composed_points(picture)
    print(f"edge points: {len(points)}, in the composition: {len(composed[0])}")
    scale_plane(background.scale, picture.shape[1], 0, 8)
    threads.set_thread_count(1)
    times = fastest(
        {
            "copy of a float plane": lambda: np.copyto(plane, other),
            "composition: points": lambda: composed_points(picture),
            "points with background": lambda: detector.gather(image, parameters, Context()),
            "chains": lambda: link_chains(points, picture.shape[1], weights),
            "form": lambda: detector.form(image, gathered, parameters),
            "edges, whole": lambda: engine.detect("edges", image, {}),
        }
    )
    looped = fastest({"composition: chains": lambda: composed_chains(composed)}, turns=2)
    threads.set_thread_count(2)
    double = fastest(
        {
            "edges, whole": lambda: engine.detect("edges", image, {}),
            "points": lambda: detector.gather(image, parameters, Context()),
        }
    )
    copy = times["copy of a float plane"]
    for name, seconds in {**times, **looped}.items():
        print(f"{name:26} {1000 * seconds:8.2f} ms  {seconds / copy:7.1f} copies")
    points_only, chains, everything = times["composition: points"], looped["composition: chains"], times["edges, whole"]
    gathering = times["points with background"]
    print(f"points: {points_only / gathering:.1f} times the composition")
    print(
        f"chains: {1e9 * times['chains'] / len(points):.1f} ns an edge point, {chains / times['chains']:.0f} times a Python loop"
    )
    print(f"edges, whole: {(points_only + chains) / everything:.1f} times the composition with chains")
    print(f"edges, whole: {points_only / everything:.1f} times the composition without chains")
    print(f"two threads: {everything / double['edges, whole']:.2f} times faster, gathering {gathering / double['points']:.2f}")


if __name__ == "__main__":
    main()
