"""Makes the program known to the user's desktop: menu entry, icon and file type, as freedesktop.org asks; and takes them away."""

from __future__ import annotations

import os
import shutil
import subprocess
from importlib.resources import files
from pathlib import Path

from lucid_finch.files.writing import write_text

NAME = "lucid-finch"
MIME = "application/x-lucid-finch-recipe+json"

_ENTRY = """[Desktop Entry]
Type=Application
Name=Lucid Finch
GenericName=Edge and shape detection
Comment=Detect and localise edges and shapes in images
Exec={command} %F
Icon={name}
Terminal=false
Categories=Graphics;Science;ImageProcessing;
MimeType={mime};image/png;image/jpeg;image/tiff;image/bmp;image/webp;inode/directory;
StartupWMClass={name}
"""
_TYPE = """<?xml version="1.0" encoding="UTF-8"?>
<mime-info xmlns="http://www.freedesktop.org/standards/shared-mime-info">
  <mime-type type="{mime}">
    <comment>Lucid Finch recipe</comment>
    <sub-class-of type="application/json"/>
    <icon name="{name}"/>
    <glob pattern="*.finch.json" weight="80"/>
  </mime-type>
</mime-info>
"""


def _data_home() -> Path:
    return Path(os.environ.get("XDG_DATA_HOME") or Path.home() / ".local" / "share")


def places() -> dict[str, Path]:
    """Where each file goes, of this user alone."""
    data = _data_home()
    icons = data / "icons" / "hicolor" / "scalable"
    return {
        "entry": data / "applications" / f"{NAME}.desktop",
        "icon": icons / "apps" / f"{NAME}.svg",
        "type icon": icons / "mimetypes" / f"{MIME.replace('/', '-')}.svg",
        "type": data / "mime" / "packages" / f"{NAME}.xml",
    }


def install(command: str) -> list[Path]:
    """Write the files; `command` opens the window and takes paths. Returns them. Raises `FileError`."""
    icon = (files("lucid_finch.desktop") / "icons" / f"{NAME}.svg").read_text(encoding="utf-8")
    texts = {
        "entry": _ENTRY.format(command=command, name=NAME, mime=MIME),
        "icon": icon,
        "type icon": icon,
        "type": _TYPE.format(name=NAME, mime=MIME),
    }
    for what, path in places().items():
        write_text(path, texts[what])
    _tell_desktop()
    return list(places().values())


def uninstall() -> list[Path]:
    """Take the files away; returns those that there were."""
    gone = [path for path in places().values() if path.exists()]
    for path in gone:
        path.unlink()
    _tell_desktop()
    return gone


def _tell_desktop() -> None:
    """Have the desktop's caches made again, where their tools are installed."""
    data = _data_home()
    for tool, folder in (("update-desktop-database", data / "applications"), ("update-mime-database", data / "mime")):
        if shutil.which(tool) and folder.is_dir():
            subprocess.run([tool, str(folder)], check=False, capture_output=True)
