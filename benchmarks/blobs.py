"""Blobs: spots on made and on photographed texture, errors against the bound, speed, memory."""

from __future__ import annotations

import argparse
import math
import resource
import time
from dataclasses import dataclass

import numpy as np
from numpy.typing import NDArray
from scipy import ndimage

import lucid_finch as lf
from benchmarks.corners import pictures
from benchmarks.scenes import photograph
from lucid_finch.core.numerics.blobs.evidence import normalised
from lucid_finch.core.numerics.blobs.scale_space import find_extrema, scales_between
from lucid_finch.core.numerics.runtime.threads import set_thread_count

Plane = NDArray[np.float64]
_FINE = 4
TEXTURES = ("noise", "fractal", "weave", "brick", "leaves", "grain")


def texture(kind: str, height: int, width: int, random: np.random.Generator) -> Plane:
    """Texture with zero mean and a standard deviation of 1."""
    white = random.normal(size=(height, width))
    y, x = np.mgrid[:height, :width].astype(float)
    match kind:
        case "noise":
            values = ndimage.gaussian_filter(white, random.uniform(0.8, 2.5))
        case "fractal":
            ky, kx = np.fft.fftfreq(height)[:, None], np.fft.rfftfreq(width)[None]
            k = np.hypot(kx, ky)
            k[0, 0] = 1
            values = np.fft.irfft2(np.fft.rfft2(white) / k ** random.uniform(0.7, 1.2), (height, width))
        case "weave":
            turn, period = random.uniform(0, np.pi), random.uniform(5, 11)
            u, v = x * np.cos(turn) + y * np.sin(turn), y * np.cos(turn) - x * np.sin(turn)
            wander = 0.6 * ndimage.gaussian_filter(white, 6) * 6
            values = np.sin(2 * np.pi * u / period + wander) + np.sin(2 * np.pi * v / period - wander)
            values += 0.5 * ndimage.gaussian_filter(random.normal(size=white.shape), 1.0) * 3
        case "brick":
            tall, wide = random.uniform(26, 40), random.uniform(60, 90)
            row = np.floor(y / tall)
            along = (x + (row % 2) * wide / 2) % wide
            joint = (np.minimum(y % tall, tall - y % tall) < 2.5) | (np.minimum(along, wide - along) < 2.5)
            tone = random.normal(size=(int(row.max()) + 1, int(width / wide) + 3))
            values = np.where(joint, 1.5, 0.8 * tone[row.astype(int), np.floor((x + (row % 2) * wide / 2) / wide).astype(int)])
            values = ndimage.gaussian_filter(values, 0.8) + 0.6 * ndimage.gaussian_filter(white, 1.2) * 4
        case "leaves":
            values = np.zeros((height, width))
            for _ in range(height * width // 250):
                cx, cy, r = random.uniform(0, width), random.uniform(0, height), random.pareto(2.5) * 4 + 3
                r = min(r, 30.0)
                x0, x1, y0, y1 = int(max(cx - r, 0)), int(cx + r + 1), int(max(cy - r, 0)), int(cy + r + 1)
                u, v = x[y0:y1, x0:x1] - cx, y[y0:y1, x0:x1] - cy
                turn, flat = random.uniform(0, np.pi), random.uniform(0.3, 0.8)
                a, b = u * np.cos(turn) + v * np.sin(turn), (v * np.cos(turn) - u * np.sin(turn)) / flat
                values[y0:y1, x0:x1][np.hypot(a, b) < r] = random.normal()
            values = ndimage.gaussian_filter(values, 0.8)
        case _:
            values = np.zeros((height, width))
            count = height * width // 120
            np.add.at(values, (random.integers(0, height, count), random.integers(0, width, count)), random.normal(size=count))
            values = ndimage.gaussian_filter(values, 1.3)
    values = values - values.mean()
    return np.asarray(values / values.std())


@dataclass(frozen=True)
class Spot:
    """One that was painted."""

    x: float
    y: float
    radius: float
    disc: bool


def paint(picture: Plane, spot: Spot, contrast: float, blur: float) -> None:
    """Add a spot to a picture, in place."""
    reach = math.ceil(2.5 * spot.radius + 4 * blur + 2)
    x0, y0 = max(int(spot.x) - reach, 0), max(int(spot.y) - reach, 0)
    x1, y1 = min(int(spot.x) + reach + 1, picture.shape[1]), min(int(spot.y) + reach + 1, picture.shape[0])
    height, width = y1 - y0, x1 - x0
    y, x = (np.mgrid[: height * _FINE, : width * _FINE] + 0.5) / _FINE - 0.5
    far = np.hypot(x + x0 - spot.x, y + y0 - spot.y)
    if spot.disc:
        shape = ndimage.gaussian_filter((far < spot.radius).astype(float), blur * _FINE)
    else:
        shape = np.exp(-((far / spot.radius) ** 2))
    picture[y0:y1, x0:x1] += contrast * shape.reshape(height, _FINE, width, _FINE).mean(axis=(1, 3))


def placed(random: np.random.Generator, size: tuple[int, int], count: int, radii: tuple[float, float]) -> list[Spot]:
    """Spots that do not touch."""
    spots: list[Spot] = []
    for _ in range(50 * count):
        radius = float(np.exp(random.uniform(*np.log(radii))))
        x, y = (float(random.uniform(3 * radius + 4, n - 3 * radius - 4)) for n in (size[1], size[0]))
        if all(math.hypot(x - s.x, y - s.y) > 3 * (radius + s.radius) + 4 for s in spots):
            spots.append(Spot(x, y, radius, bool(random.random() < 0.6)))
        if len(spots) == count:
            break
    return spots


def compare(spots: list[Spot], f: lf.Table) -> tuple[int, int, list[float], list[float]]:
    """How many were found, how many findings are others, distances and relative errors of the radius."""
    used: set[int] = set()
    found, off, ratio = 0, [], []
    for spot in spots:
        far = np.hypot(f["x"] - spot.x, f["y"] - spot.y) if len(f) else np.array([1e9])
        k = int(np.argmin(far))
        if far[k] < max(0.5 * spot.radius, 1.5) and 0.5 < f["radius"][k] / spot.radius < 2.0:
            found += 1
            used.add(k)
            off.append(float(far[k]))
            ratio.append(float(f["radius"][k] / spot.radius - 1))
    return found, len(f) - len(used), off, ratio


def made(count: int, seed: int, times: float) -> None:
    """Spots of so many times the texture's standard deviation, defaults."""
    whole = [0, 0, 0]
    ratios: list[float] = []
    for kind in TEXTURES:
        found = other = total = 0
        for number in range(count):
            random = np.random.default_rng(1000 * seed + number)
            height, width = 600, 800
            strength = random.uniform(4, 10)
            picture = 120 + strength * texture(kind, height, width, random) + 15 * np.linspace(-1, 1, width)[None, :]
            spots = placed(random, (height, width), 20, (2.0, 14.0))
            for spot in spots:
                contrast = max(random.uniform(times, 1.5 * times) * strength, 15.0) * random.choice([-1, 1])
                paint(picture, spot, contrast, random.uniform(0.7, 1.2))
            seen = np.clip(np.round(picture + random.normal(0, 2, picture.shape)), 0, 255).astype(np.uint8)
            a, b, _, ratio = compare(spots, lf.detect("blobs", seen).findings)
            found, other, total = found + a, other + b, total + len(spots)
            ratios += ratio
        precision, recall = found / max(found + other, 1), found / total
        f1 = 2 * precision * recall / max(precision + recall, 1e-9)
        print(f"{kind}: F1 {f1:.3f} (precision {precision:.3f}, recall {recall:.3f})", flush=True)
        whole = [whole[0] + found, whole[1] + other, whole[2] + total]
    precision, recall = whole[0] / max(whole[0] + whole[1], 1), whole[0] / whole[2]
    print(
        f"all: F1 {2 * precision * recall / (precision + recall):.3f} (precision {precision:.3f}, recall {recall:.3f}); "
        f"radius: median {100 * np.median(ratios):+.1f} %, typically off by {100 * np.median(np.abs(ratios)):.1f} %"
    )


def textured_scene(
    kind: str, random: np.random.Generator, times: tuple[float, float], radii: tuple[float, float] = (3.0, 10.0)
) -> tuple[Plane, list[Spot]]:
    """A part of a photograph, or made texture, with spots of so many times its local contrast."""
    if kind == "photograph":
        while True:
            picture = pictures(random)
            if min(picture.shape) < 420:
                continue
            top, left = (int(random.integers(0, n - 400)) for n in picture.shape)
            part = picture[top : top + 400, left : left + 400].copy()
            local = np.sqrt(np.maximum(ndimage.uniform_filter(part**2, 41) - ndimage.uniform_filter(part, 41) ** 2, 0))
            if np.quantile(local, 0.1) >= 5 and np.quantile(local, 0.9) < 3 * np.quantile(local, 0.1):
                break
    else:
        strength = random.uniform(4, 10)
        part = 120 + strength * texture(kind, 400, 400, random) + random.normal(0, 1.5, (400, 400))
        local = np.full(part.shape, strength)
    spots = placed(random, (400, 400), 8, radii)
    for spot in spots:
        at = int(spot.y), int(spot.x)
        sign = (1 if part[at] < 128 else -1) if kind == "photograph" else random.choice([-1, 1])
        paint(part, spot, sign * random.uniform(*times) * local[at], random.uniform(0.7, 1.2))
    return np.clip(np.round(part), 0, 255), spots


def textured(count: int, seed: int) -> None:
    """Spots of three times the local contrast: found at so many others a megapixel, and at defaults."""
    for kind in ("photograph", *TEXTURES):
        rows, total, area, default = [], 0, 0.0, [0, 0]
        for number in range(count):
            random = np.random.default_rng(10_000 * seed + number)
            picture, spots = textured_scene(kind, random, (3.0, 3.0))
            seen = picture.astype(np.uint8)
            area, total = area + seen.size / 1e6, total + len(spots)
            f = lf.detect("blobs", seen, false_alarms=1e5).findings
            right = np.zeros(len(f), bool)
            for spot in spots:
                near = np.hypot(f["x"] - spot.x, f["y"] - spot.y) < max(0.5 * spot.radius, 1.5)
                near &= np.abs(np.log(f["radius"] / spot.radius)) < math.log(2)
                if near.any():
                    right[np.flatnonzero(near)[np.argmax(f["log_nfa"][near])]] = True
            rows.append(np.column_stack([f["log_nfa"], right]))
            found, others, _, _ = compare(spots, lf.detect("blobs", seen).findings)
            default = [default[0] + found, default[1] + others]
        table = np.concatenate(rows)
        table = table[np.argsort(-table[:, 0])]
        found, others = np.cumsum(table[:, 1]), np.cumsum(1 - table[:, 1]) / area
        shares = [found[max(int(np.searchsorted(others, most, side="right")) - 1, 0)] / total for most in (10, 30, 100)]
        print(
            f"{kind}: {shares[0]:.2f} at 10 others a megapixel, {shares[1]:.2f} at 30, {shares[2]:.2f} at 100; "
            f"defaults {default[0] / total:.2f} with {default[1] / area:.1f}",
            flush=True,
        )


def learn(count: int, seed: int) -> None:
    """Print the weights of `numerics.blobs.evidence`, by logistic regression."""
    tables, labels, shares = [], [], []
    for kind in ("photograph", *TEXTURES):
        before = len(tables)
        for number in range(count):
            random = np.random.default_rng(77_000 * (seed + 1) + number)
            picture, spots = textured_scene(kind, random, (2.5, 5.5), (1.8, 14.0))
            gathered = lf.detect("blobs", picture.astype(np.uint8)).task.gathered
            x, y, radius = (gathered.columns[name][gathered.which] for name in ("x", "y", "radius"))
            right = np.zeros(len(x), bool)
            for spot in spots:
                near = np.hypot(x - spot.x, y - spot.y) < max(0.5 * spot.radius, 1.5)
                right |= near & (np.abs(np.log(radius / spot.radius)) < math.log(2))
            tables.append(gathered.measures.table())
            labels.append(right)
        many = sum(len(t) for t in tables[before:])
        shares += [np.full(len(t), 1.0 / many) for t in tables[before:]]
        print(kind, many, int(sum(one.sum() for one in labels[before:])), flush=True)
    right, weight = np.concatenate(labels), np.concatenate(shares)
    kinds = np.repeat(np.arange(1 + len(TEXTURES)), count)
    of_kind = np.repeat(kinds, [len(t) for t in tables])
    for name, table in (("all", np.concatenate(tables)), ("alone", np.concatenate(tables)[:, 2:])):
        middle, spread = table.mean(axis=0), table.std(axis=0) + 1e-9
        values = normalised(table, middle, spread)
        found = logistic(values, right, weight)
        print(name)
        for row in zip(middle, spread, found[: table.shape[1]], found[table.shape[1] :], strict=True):
            print("        [" + ", ".join(f"{v:.3f}" for v in row) + "],")
        speaks = values @ found
        tails = [
            [float(np.quantile(speaks[~right & (of_kind == k)], q)) for q in (0.95, 0.99, 0.999)] for k in range(kinds[-1] + 1)
        ]
        print("quantiles 0.95, 0.99, 0.999 of each kind:", np.round(tails, 1).tolist())


def logistic(values: NDArray[np.float64], right: NDArray[np.bool_], weight: NDArray[np.float64]) -> NDArray[np.float64]:
    """Weights of the columns; the right ones count twenty times."""
    from scipy.optimize import minimize

    def cost(p: NDArray[np.float64]) -> tuple[float, NDArray[np.float64]]:
        t = values @ p[1:] + p[0]
        loss = 20 * right * np.logaddexp(0, -t) + ~right * np.logaddexp(0, t)
        slope = weight * (-20 * right / (1 + np.exp(t)) + ~right / (1 + np.exp(-t)))
        return float((weight * loss).sum() + 0.001 * (p[1:] ** 2).sum()), np.concatenate(
            [[slope.sum()], values.T @ slope + 0.002 * p[1:]]
        )

    return np.asarray(minimize(cost, np.zeros(values.shape[1] + 1), jac=True).x[1:])


def bound(count: int) -> None:
    """Error of the place against the Cramer-Rao bound, and of the radius."""
    random = np.random.default_rng(2)
    for disc, radius in ((True, 2.5), (True, 5.0), (True, 12.0), (False, 3.0), (False, 8.0)):
        for noise in (2.0, 5.0):
            off, least, ratio = [], [], []
            for _ in range(count):
                size = int(10 * radius + 40)
                clean = np.full((size, size), 120.0)
                spot = Spot(*(size / 2 + random.uniform(-0.5, 0.5, 2)), radius, disc)  # type: ignore[arg-type]
                paint(clean, spot, 50 * random.choice([-1, 1]), 0.8)
                seen = np.clip(np.round(clean + random.normal(0, noise, clean.shape)), 0, 255).astype(np.uint8)
                f = lf.detect("blobs", seen).findings
                if not len(f):
                    continue
                k = int(np.argmin(np.hypot(f["x"] - spot.x, f["y"] - spot.y)))
                off += [f["x"][k] - spot.x, f["y"][k] - spot.y]
                ratio.append(f["radius"][k] / radius - 1)
                gy, gx = np.gradient(clean)
                least.append(noise / math.sqrt(0.5 * float((gx**2).sum() + (gy**2).sum())))
            error = float(np.sqrt(np.mean(np.square(off))))
            print(
                f"{'disc' if disc else 'Gaussian'} {radius:g}, noise {noise:g}: {len(ratio)} of {count}, {error:.4f} px, "
                f"{error / np.mean(least):.2f} times the bound; radius {100 * np.median(ratio):+.1f} %, "
                f"typically off by {100 * np.median(np.abs(ratio)):.1f} %"
            )


def speed() -> None:
    """Ten scales at 1920 x 1080, one thread, against the composition."""
    picture = photograph()
    scales = scales_between(2.0, 16.0)
    set_thread_count(1)
    taken = []
    for _ in range(6):
        started = time.perf_counter()
        find_extrema(picture, scales, False, 0.5, None)
        taken.append(time.perf_counter() - started)
    started = time.perf_counter()
    values = picture.astype(np.float32)
    stack = np.stack([s.sigma**2 * ndimage.gaussian_laplace(values, s.sigma) for s in scales])
    np.nonzero((np.abs(stack) == ndimage.maximum_filter(np.abs(stack), 3)) & (np.abs(stack) > 0.5))
    composition = time.perf_counter() - started
    ours = float(np.median(taken[1:]))
    print(f"ours {1000 * ours:.0f} ms, composition {composition:.2f} s: {composition / ours:.1f} times, {len(scales)} scales")


def memory() -> None:
    """The most memory that 4096 x 3072 pixels take above the image."""
    picture = np.asarray(photograph(4096, 3072))
    lf.detect("blobs", picture[:400, :400])
    before = resource.getrusage(resource.RUSAGE_SELF).ru_maxrss
    result = lf.detect("blobs", picture)
    after = resource.getrusage(resource.RUSAGE_SELF).ru_maxrss
    print(f"{len(result.findings)} blobs, {(after - before) / 1024:.0f} MB above {before / 1024:.0f} MB")


def main() -> None:
    parser = argparse.ArgumentParser(description=__doc__)
    parser.add_argument("--count", type=int, default=6)
    parser.add_argument("--seed", type=int, default=1)
    parser.add_argument("--times", type=float, default=3.0)
    parser.add_argument("what", choices=["made", "textured", "learn", "bound", "speed", "memory"])
    given = parser.parse_args()
    match given.what:
        case "made":
            made(given.count, given.seed, given.times)
        case "textured":
            textured(given.count, given.seed)
        case "learn":
            learn(given.count, given.seed)
        case "bound":
            bound(given.count)
        case "speed":
            speed()
        case _:
            memory()


if __name__ == "__main__":
    main()
