"""All kinds over hostile material: texture, foliage-like noise, JPEG blocks, discs, saturated and tiny images, at many sigmas.

Usage: python -m benchmarks.hostile [--calls N] [--seed S] [--bounds] [FOLDER]. `--bounds` compiles with the compiler's bounds
checks into a cache of its own. Photographs from FOLDER are used too. A call of over 20 s, and a process that dies, is named.
"""

from __future__ import annotations

import argparse
import io
import os
import select
import subprocess
import sys
import tempfile
import time
import warnings
from pathlib import Path
from typing import Any

import numpy as np
from PIL import Image as Pillow
from scipy import ndimage

LIMIT = 20.0
"""Seconds that one call may take, compiling apart."""


def _texture(random: np.random.Generator, size: tuple[int, int]) -> Any:
    """Noise of one scale, of several added up, or stretched in one direction."""
    scales = random.uniform(0.5, 12, random.integers(1, 4))
    plane = sum(ndimage.gaussian_filter(random.normal(0, 1, size), (s, s * random.uniform(0.5, 3))) * s for s in scales)
    return 128 + random.uniform(5, 90) * plane / plane.std()


def _foliage(random: np.random.Generator, size: tuple[int, int]) -> Any:
    """Many small ellipses over each other, in random greys."""
    y, x = np.mgrid[: size[0], : size[1]]
    plane = np.full(size, 90.0)
    for _ in range(int(random.integers(50, 400))):
        cx, cy, turn = random.uniform(0, size[1]), random.uniform(0, size[0]), random.uniform(0, np.pi)
        a, b = random.uniform(2, 25), random.uniform(1, 8)
        left, right = int(max(cx - 26, 0)), int(cx + 27)
        top, bottom = int(max(cy - 26, 0)), int(cy + 27)
        u, v = x[top:bottom, left:right] - cx, y[top:bottom, left:right] - cy
        inside = ((u * np.cos(turn) + v * np.sin(turn)) / a) ** 2 + ((v * np.cos(turn) - u * np.sin(turn)) / b) ** 2 < 1
        plane[top:bottom, left:right][inside] = random.uniform(0, 255)
    return plane


def _discs(random: np.random.Generator, size: tuple[int, int]) -> Any:
    """Discs and rings, touching, cut and within each other."""
    y, x = np.mgrid[: size[0], : size[1]]
    plane = np.full(size, random.uniform(0, 255))
    for _ in range(int(random.integers(1, 60))):
        far = np.hypot(x - random.uniform(0, size[1]), (y - random.uniform(0, size[0])) * random.uniform(0.5, 2))
        radius = random.uniform(1, 60)
        plane[(far < radius) & (far > radius * random.choice([0, 0, 0.8]))] = random.uniform(0, 255)
    return ndimage.gaussian_filter(plane, random.uniform(0, 2)) + random.normal(0, random.uniform(0, 8), size)


def _pattern(random: np.random.Generator, size: tuple[int, int]) -> Any:
    """Chessboards, gratings and spirals: everything repeats or is perfectly regular."""
    y, x = np.mgrid[: size[0], : size[1]]
    period, turn = random.uniform(2, 40), random.uniform(0, np.pi)
    u, v = x * np.cos(turn) + y * np.sin(turn), y * np.cos(turn) - x * np.sin(turn)
    ring = np.sin(np.hypot(u - 99, v - 50) / period * 6)
    waves = (np.sin(u * 2 * np.pi / period), np.sin(u * 6 / period) * np.sin(v * 6 / period), ring)
    plane = 128 + 120 * waves[random.integers(3)]
    return np.where(plane > 128, 255.0, 0.0) if random.random() < 0.5 else plane


def picture(seed: int, photographs: list[Path]) -> Any:
    """A picture as an array: uint8, uint16 or float32, grey or in colour."""
    random = np.random.default_rng(seed)
    size = (int(random.integers(2, 420)), int(random.integers(2, 560)))
    if photographs and random.random() < 0.5:
        with Pillow.open(photographs[random.integers(len(photographs))]) as opened:
            opened.draft("RGB", (900, 900))
            opened.thumbnail((640, 640))
            plane = np.asarray(opened.convert("L"), float)
    else:
        plane = (_texture, _foliage, _discs, _pattern)[random.integers(4)](random, size)
    if random.random() < 0.3:
        plane = (plane - 128) * random.uniform(1, 6) + random.uniform(0, 255)
    bytes_ = np.clip(np.round(plane), 0, 255).astype(np.uint8)
    if random.random() < 0.4:
        buffer = io.BytesIO()
        Pillow.fromarray(bytes_).save(buffer, "JPEG", quality=int(random.integers(3, 90)))
        bytes_ = np.asarray(Pillow.open(buffer))
    kind = random.integers(6)
    if kind == 0:
        return bytes_.astype(np.uint16) * np.uint16(257)
    if kind == 1:
        return (bytes_ / np.float32(255)).astype(np.float32)
    return np.stack([bytes_, bytes_[::-1], bytes_], axis=2) if kind == 2 else bytes_


def parameters(kind: str, random: np.random.Generator) -> dict[str, Any]:
    """Defaults, or some parameters at values of their sweeps."""
    from lucid_finch.core.detectors import KINDS

    given: dict[str, Any] = {}
    declared = list(KINDS[kind].Parameters.declarations().values())
    if "sigma" in KINDS[kind].Parameters.declarations() and random.random() < 0.6:
        given["sigma"] = float(random.uniform(0.5, 6))
    for one in random.permutation(len(declared))[: int(random.integers(0, 4))]:
        values = declared[one].type.sweep(declared[one], declared[one].plain_default(), (1.0, 20.0))
        if values:
            given[declared[one].name] = values[random.integers(len(values))]
    return given


def work(first: int, calls: int, photographs: list[Path]) -> None:
    """Some calls, one after the other; a line for each, so that whoever reads knows where it stands."""
    import lucid_finch as lf
    from benchmarks.examples import needed
    from lucid_finch.core.detectors import KINDS

    warnings.simplefilter("error")
    kinds = list(KINDS)
    for number in range(first, first + calls):
        random = np.random.default_rng(10_000_000 + number)
        kind = kinds[number % len(kinds)]
        given = parameters(kind, random)
        print("call", number, kind, given, flush=True)
        begun = time.perf_counter()
        try:
            image = lf.Image.from_array(picture(number // len(kinds), photographs))
            found = lf.detect(kind, image, **{**needed(kind), **given})
            _ = found.near_misses["failed"], [evidence.values for evidence in found.evidence.values()]
            lf.explain(found, at=(random.uniform(0, image.width - 1), random.uniform(0, image.height - 1)))
        except lf.ParameterError:
            pass
        except Exception as error:
            print("fault", number, kind, given, type(error).__name__, error, flush=True)
        print("done", number, f"{time.perf_counter() - begun:.2f}", flush=True)


def watch(calls: int, seed: int, bounds: bool, folder: str | None) -> tuple[int, list[str]]:
    """Runs `work` in processes that are watched. Returns the calls that were made, and what went wrong."""
    environment = dict(os.environ)
    limit = LIMIT
    if bounds:
        environment |= {"NUMBA_BOUNDSCHECK": "1", "LUCID_FINCH_KERNELS": str(Path(tempfile.gettempdir()) / "lucid-finch-bounds")}
        limit = 240.0
    command = [sys.executable, "-m", "benchmarks.hostile", *([folder] if folder else [])]
    return watched(command, seed, seed + calls, environment, limit)


def watched(
    command: list[str], at: int, end: int, environment: dict[str, str] | None = None, limit: float = LIMIT
) -> tuple[int, list[str]]:
    """Runs a command with `--work FIRST COUNT` until all calls were made, again after one that hangs or dies. Returns how many
    there were, and what went wrong."""
    faults: list[str] = []
    calls = end - at
    while at < end:
        with subprocess.Popen([*command, "--work", str(at), str(end - at)], stdout=subprocess.PIPE, env=environment) as process:
            last, rest = "", b""
            assert process.stdout is not None
            heard = time.monotonic()
            while True:
                ready, _, _ = select.select([process.stdout], [], [], 0.2)
                got = os.read(process.stdout.fileno(), 65536) if ready else b""
                if ready and not got:
                    break
                if not got:
                    if time.monotonic() - heard > limit:
                        faults.append(f"hangs: {last.strip()}")
                        process.kill()
                        break
                    continue
                heard = time.monotonic()
                *lines, rest = (rest + got).split(b"\n")
                for line in (one.decode("utf-8", "replace") for one in lines):
                    if line.startswith("fault"):
                        faults.append(line.strip())
                    if line.startswith("call"):
                        last, at = line, int(line.split()[1]) + 1
            if process.wait() not in (0, -9):
                faults.append(f"dies with {process.returncode}: {last.strip()}")
            if not last:
                # It has not come to its first call, and another one would not either.
                break
    return calls, faults


def main() -> int:
    options = argparse.ArgumentParser(description=__doc__)
    options.add_argument("folder", nargs="?")
    options.add_argument("--calls", type=int, default=200)
    options.add_argument("--seed", type=int, default=0)
    options.add_argument("--bounds", action="store_true")
    options.add_argument("--work", nargs=2, type=int)
    given = options.parse_args()
    photographs = sorted(p for p in Path(given.folder).rglob("*") if p.suffix in (".jpg", ".png")) if given.folder else []
    if given.work:
        work(*given.work, photographs)
        return 0
    made, faults = watch(given.calls, given.seed, given.bounds, given.folder)
    for fault in faults:
        print(fault)
    print(f"{made} calls, {len(faults)} faults")
    return 1 if faults else 0


if __name__ == "__main__":
    sys.exit(main())
