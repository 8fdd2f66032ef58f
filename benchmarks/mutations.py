"""Random damage by the ten thousand: files, parameters, recipes and detections, and runs that are killed.

Usage: python -m benchmarks.mutations WHAT [--count N] [--state FILE]   (WHAT: files, parameters, recipes, detections, kills)

Every case follows from its number; the state file holds how far it came, and the next call goes on there. A case fails that
raises anything but an error of ours or a warning, that takes over 20 s, or that ends the process.
"""

from __future__ import annotations

import argparse
import contextlib
import copy
import io
import json
import os
import signal
import subprocess
import sys
import tempfile
import time
import warnings
from collections.abc import Callable
from functools import cache
from pathlib import Path
from typing import Any
from xml.dom import minidom

import numpy as np
import tifffile
from PIL import Image as Pillow

import lucid_finch as lf
from benchmarks import hostile
from benchmarks.examples import needed, recipe_of_all
from lucid_finch.core.detectors import KINDS
from lucid_finch.core.prepare import STEPS
from lucid_finch.demo import SCENES, recipe_text

_SEED = 5_000_000


@cache
def _originals() -> list[tuple[str, bytes]]:
    """Small files of every kind that is read."""
    random = np.random.default_rng(0)
    grey, colour = random.integers(0, 256, (30, 40)).astype(np.uint8), random.integers(0, 256, (30, 40, 3)).astype(np.uint8)
    deep = random.integers(0, 4096, (30, 40)).astype(np.uint16)
    found = []

    def pillow(ending: str, picture: Any, **options: Any) -> None:
        buffer = io.BytesIO()
        picture.save(buffer, ending.upper().replace("JPG", "JPEG").replace("TIF", "TIFF").replace("PGM", "PPM"), **options)
        found.append((f"a.{ending}", buffer.getvalue()))

    for picture in (Pillow.fromarray(grey), Pillow.fromarray(colour)):
        for ending in ("png", "jpg", "bmp", "webp", "gif", "tif"):
            pillow(ending, picture)
    pillow("png", Pillow.fromarray(deep))
    pillow("png", Pillow.fromarray(colour).convert("P"), transparency=3)
    pillow("png", Pillow.fromarray(colour).convert("RGBA"))
    pillow("png", Pillow.fromarray(grey > 99))
    pillow("jpg", Pillow.fromarray(colour).convert("CMYK"))
    pillow("jpg", Pillow.fromarray(grey), progressive=True)
    pillow("pgm", Pillow.fromarray(grey))
    for array, options in ((deep, {"compression": "lzw"}), (colour, {"photometric": "rgb", "tile": (16, 16)}), (grey / 255, {})):
        buffer = io.BytesIO()
        tifffile.imwrite(buffer, array.astype(np.float32) if array.dtype == float else array, **options)
        found.append(("a.tif", buffer.getvalue()))
    for array in (grey, colour, deep, grey / 7.0):
        buffer = io.BytesIO()
        np.save(buffer, array)
        found.append(("a.npy", buffer.getvalue()))
    found.append(("a.csv", b"\n".join(b",".join(str(v).encode() for v in row) for row in grey)))
    return found


def damaged(data: bytes, random: np.random.Generator) -> bytes:
    """Some bytes changed, cut, repeated, swapped or put in; the head more often than the rest."""
    changed = bytearray(data)
    for _ in range(int(random.integers(1, 5))):
        if not changed:
            break
        reach = len(changed) if random.random() < 0.5 else min(len(changed), 80)
        at = int(random.integers(reach))
        size = int(min(random.integers(1, 40), len(changed) - at))
        match int(random.integers(6)):
            case 0:
                changed[at] = int(random.integers(256))
            case 1:
                changed[at] ^= 1 << int(random.integers(8))
            case 2:
                del changed[at : at + size]
            case 3:
                changed[at:at] = random.bytes(size)
            case 4:
                changed[at:at] = changed[at : at + size]
            case _:
                changed[at : at + size] = bytes([int(random.choice([0, 255, 127]))]) * size
    return bytes(changed[: int(random.integers(len(changed) + 1))] if random.random() < 0.2 else changed)


def file_case(number: int, folder: Path) -> None:
    """A damaged file is read, or refused in our words."""
    random = np.random.default_rng(_SEED + number)
    name, data = _originals()[number % len(_originals())]
    path = folder / name
    path.write_bytes(damaged(data, random))
    with contextlib.suppress(lf.FileError, lf.ParameterError):
        image = lf.read_image(path, page=int(random.choice([0, 0, 0, 1])))
        assert image.pixels.ndim in (2, 3) and np.isfinite(image.pixels).all()


_ODD: tuple[Any, ...] = (
    0, 1, -1, 2, 7, 1e-300, 1e300, -5.5, 0.5, 100, 10**9, "auto", "", "3%", "20%w", "1.2mm", "dark", "x", True, False, None,
    (1, 2), (2, 1), [], [1], [[1, 0, -1]] * 3, {}, {"shape": "rectangle"}, float("nan"), float("inf"), "\0", "é" * 50,
    {"shape": "rectangle", "x": 9, "y": 9, "width": 9, "height": 9, "angle": 400}, np.float32(3), np.array([1.0, 5.0]),
    {"shape": "ellipse", "x": 16, "y": 12, "width": 20, "height": 9}, {"shape": "annulus", "x": 9, "y": 9, "outer": 8},
    {"shape": "polygon", "points": [[1, 1], [20, 3], [9, 20]]},
)  # fmt: skip


@cache
def _small() -> tuple[lf.Image, ...]:
    random = np.random.default_rng(3)
    y, x = np.mgrid[:40, :52]
    plane = 90 + 80 * (np.hypot(x - 26, y - 20) < 12) + random.normal(0, 4, x.shape)
    grey = plane.clip(0, 255).astype(np.uint8)
    return (
        lf.Image.from_array(grey), lf.Image.from_array(np.stack([grey, grey[::-1], grey], axis=2)),
        lf.Image.from_array((plane / 255).astype(np.float32)), lf.Image.from_array(grey.astype(np.uint16) * 200),
        lf.Image.from_array(np.zeros((3, 2), np.uint8)),
    )  # fmt: skip


def parameter_case(number: int, folder: Path) -> None:
    """Odd values of parameters are refused in our words, or work."""
    random = np.random.default_rng(_SEED + number)
    table: dict[str, Any] = {**KINDS, **STEPS}
    name = list(table)[number % len(table)]
    declared = table[name].Parameters.declarations()
    given = dict(needed(name)) if name in KINDS else {}
    for key in random.permutation(list(declared))[: int(random.integers(1, 4))]:
        values = declared[key].type.sweep(declared[key], declared[key].plain_default(), (1.0, 20.0))
        if values and random.random() < 0.5:
            given[str(key)] = values[int(random.integers(len(values)))]
        else:
            given[str(key)] = _ODD[int(random.integers(len(_ODD)))]
    if random.random() < 0.05:
        given["no_such"] = 1
    image = _small()[int(random.integers(len(_small())))]
    with contextlib.suppress(lf.ParameterError, lf.FileError):
        if name in KINDS:
            found = lf.detect(name, image, **given)  # type: ignore[call-overload]
            list(found.near_misses.rows())
        else:
            made = lf.prepare(name, image, **given)  # type: ignore[call-overload]
            assert np.isfinite(made.pixels).all()


@cache
def _recipes() -> list[dict[str, Any]]:
    found = [json.loads(recipe_text(name)) for name in SCENES]
    return [*found, recipe_of_all(name="all", prepare=[{"step": "smooth"}])]


def _mutated(value: Any, random: np.random.Generator) -> Any:
    """One place of a document changed: removed, renamed, repeated, or given another value."""
    if isinstance(value, dict) and value and random.random() < 0.85:
        key = list(value)[int(random.integers(len(value)))]
        match int(random.integers(6)):
            case 0:
                value.pop(key)
            case 1:
                value[str(random.choice([*value, "x", "kind", "on"]))] = value.pop(key)
            case _:
                value[key] = _mutated(value[key], random)
        return value
    if isinstance(value, list) and value and random.random() < 0.85:
        at = int(random.integers(len(value)))
        match int(random.integers(5)):
            case 0:
                del value[at]
            case 1:
                value.insert(at, copy.deepcopy(value[at]))
            case _:
                value[at] = _mutated(value[at], random)
        return value
    plain = [odd for odd in _ODD if not isinstance(odd, (np.ndarray, np.generic, tuple))]
    return copy.deepcopy(plain[int(random.integers(len(plain)))])


def recipe_case(number: int, folder: Path) -> None:
    """A damaged recipe is refused in our words, or is one that is kept whole and runs."""
    random = np.random.default_rng(_SEED + number)
    document = copy.deepcopy(_recipes()[number % len(_recipes())])
    for _ in range(int(random.integers(1, 4))):
        document = _mutated(document, random)
    text = json.dumps(document)
    data: str | bytes = damaged(text.encode(), random) if random.random() < 0.3 else text
    with contextlib.suppress(lf.ParameterError, lf.FileError):
        recipe = lf.Recipe.parse(data)
        assert lf.Recipe.parse(recipe.text()).text() == recipe.text()
        if random.random() < 0.1:
            lf.run(recipe, _small()[int(random.integers(len(_small())))])


_CASES: dict[str, Callable[[int, Path], None]] = {"files": file_case, "parameters": parameter_case, "recipes": recipe_case}


def work(what: str, first: int, count: int) -> None:
    """Some cases, one after the other; a line where one begins."""
    warnings.simplefilter("error")
    with tempfile.TemporaryDirectory() as folder:
        for number in range(first, first + count):
            print("call", number, what, flush=True)
            try:
                _CASES[what](number, Path(folder))
            except Exception as error:
                print("fault", number, what, type(error).__name__, str(error)[:300], flush=True)


def kill_case(number: int, folder: Path) -> list[str]:
    """A run is killed at some moment: every file is whole, and a new run completes. Returns what is wrong."""
    random = np.random.default_rng(_SEED + number)
    pictures, out = folder / "pictures", folder / f"out{number}"
    if not pictures.exists():
        pictures.mkdir()
        for k in range(12):
            pixels = np.random.default_rng(k).integers(0, 60, (200, 260))
            pixels[40:150, 60 : 120 + 8 * k] += 120
            Pillow.fromarray(pixels.astype(np.uint8)).save(pictures / f"{k}.png")
        (folder / "r.finch.json").write_text(json.dumps(recipe_of_all(name="r")))
    command = [sys.executable, "-m", "lucid_finch", "run", str(folder / "r.finch.json"), str(pictures), "--out", str(out)]
    command += ["--outputs", "findings,csv,svg,annotated,maps", "--jobs", str(random.choice([1, 1, 2]))]
    with subprocess.Popen(command, stdout=subprocess.DEVNULL, stderr=subprocess.DEVNULL, start_new_session=True) as process:
        time.sleep(float(random.uniform(0.8, 4.5)))
        with contextlib.suppress(ProcessLookupError):
            os.killpg(process.pid, signal.SIGKILL)
    wrong = broken_files(out)
    if number % 10 == 0:
        done = subprocess.run(command, capture_output=True, text=True, timeout=120, check=False)
        if done.returncode:
            wrong.append(f"a new run ends with {done.returncode}: {done.stderr[-300:]}")
        wrong += broken_files(out)
    return wrong


def broken_files(folder: Path) -> list[str]:
    """Files that are not whole; parts that were being written have names of their own."""
    wrong = []
    for path in folder.rglob("*") if folder.exists() else []:
        if not path.is_file() or path.name.endswith(".part"):
            continue
        try:
            match path.suffix:
                case ".json":
                    json.loads(path.read_text())
                case ".svg":
                    minidom.parse(str(path))
                case ".png":
                    with Pillow.open(path) as opened:
                        opened.load()
                case ".csv":
                    rows = path.read_text().splitlines()
                    assert len({row.count(",") for row in rows[:1]}) <= 1 and path.read_text().endswith("\n")
        except Exception as error:
            wrong.append(f"{path.name}: {error!r}")
    return wrong


def main() -> int:
    parser = argparse.ArgumentParser(description=__doc__)
    parser.add_argument("what", choices=[*_CASES, "detections", "kills"])
    parser.add_argument("--count", type=int, default=1000)
    parser.add_argument("--state", type=Path, default=Path(tempfile.gettempdir()) / "lucid-finch-mutations.json")
    parser.add_argument("--work", nargs=2, type=int)
    given = parser.parse_args()
    if given.work:
        work(given.what, *given.work)
        return 0
    state = json.loads(given.state.read_text()) if given.state.exists() else {}
    faults: list[str] = state.get(f"{given.what} faults", [])
    done = state.get(given.what, 0)
    with tempfile.TemporaryDirectory() as folder:
        while done < given.count:
            some = min(2000 if given.what in _CASES else 200 if given.what == "detections" else 1, given.count - done)
            if given.what == "kills":
                faults += [f"kill {done}: {wrong}" for wrong in kill_case(done, Path(folder))]
            elif given.what == "detections":
                faults += hostile.watch(some, 2_000_000 + done, False, None)[1]
            else:
                command = [sys.executable, "-m", "benchmarks.mutations", given.what]
                faults += hostile.watched(command, done, done + some)[1]
            done += some
            state |= {given.what: done, f"{given.what} faults": faults}
            given.state.write_text(json.dumps(state, indent=1))
    for fault in faults:
        print(fault)
    print(f"{done} {given.what}, {len(faults)} faults")
    return 1 if faults else 0


if __name__ == "__main__":
    sys.exit(main())
