"""Demo scenes of the made-up Heron Street Tileworks: drawn by code from fixed seeds, with ground truth."""

from __future__ import annotations

from collections.abc import Callable
from dataclasses import dataclass
from functools import cache
from importlib import resources
from pathlib import Path
from typing import Any

from lucid_finch.core.errors import ParameterError, nearest
from lucid_finch.core.image import Image
from lucid_finch.demo import belt
from lucid_finch.demo.cutouts import cutouts
from lucid_finch.demo.dot_target import dot_target
from lucid_finch.demo.glaze_edge import glaze_edge
from lucid_finch.demo.glaze_swatches import glaze_swatches
from lucid_finch.demo.leaning_screen import leaning_screen
from lucid_finch.demo.maker_marks import maker_marks
from lucid_finch.demo.people import open_day, plaques
from lucid_finch.demo.pierced_screen import pierced_screen
from lucid_finch.demo.pinholes import pinholes
from lucid_finch.demo.tile_panel import tile_panel


@dataclass(frozen=True)
class Scene:
    """A picture and its ground truth."""

    name: str
    image: Image
    marks: list[dict[str, Any]]
    """Truth: each mark has its `kind` and the columns of findings of that kind."""

    def truth(self) -> dict[str, Any]:
        """The contents of a truth file."""
        return {"lucid_finch_truth": 1, "image": f"{self.name}.png", "marks": self.marks}


@dataclass(frozen=True)
class SceneEntry:
    """How a scene is drawn and announced."""

    draw: Callable[[], tuple[Image, list[dict[str, Any]]]]
    title: str
    purpose: str


@dataclass(frozen=True)
class ClipEntry:
    """How a clip is made and announced."""

    file: Callable[[], Path]
    """The clip; it is made on first use."""
    truth: Callable[[], dict[str, Any]]
    title: str
    purpose: str


CLIPS: dict[str, ClipEntry] = {
    "belt": ClipEntry(belt.clip, belt.truth, "conveyor belt", "A clip of a made-up belt with round tiles, some of them broken")
}
"""Every demo clip by name."""

SCENES: dict[str, SceneEntry] = {
    "tile_panel": SceneEntry(tile_panel, "tile panel", "A panel of made-up tiles: edges of the tiles and lines of the joints"),
    "glaze_swatches": SceneEntry(
        glaze_swatches, "colour", "Made-up swatches of glaze that differ from the cloth in hue alone: the contrast axis"
    ),
    "glaze_edge": SceneEntry(glaze_edge, "boundary", "A made-up dipped tile: a boundary with drips, and its angle"),
    "cutouts": SceneEntry(
        cutouts, "cut-out pieces", "Made-up mosaic pieces on a cloth in uneven light, with holes and pieces in them"
    ),
    "pierced_screen": SceneEntry(
        pierced_screen, "pierced screen", "A made-up pierced screen: holes, bosses and plugged holes nearly as light as the body"
    ),
    "leaning_screen": SceneEntry(
        leaning_screen, "leaning screen", "The same kind of screen leaning away: its round holes are ellipses in the image"
    ),
    "pinholes": SceneEntry(pinholes, "pinholes", "A made-up glazed plate: pinholes and specks on mottled, brushed glaze"),
    "dot_target": SceneEntry(
        dot_target,
        "calibration plate",
        "A made-up plate of dots, leaning, and a lens that bends lines: places for calibration",
    ),
    "maker_marks": SceneEntry(
        maker_marks, "maker's marks", "A made-up stamp in clay, turned, of several sizes and partly covered, and marks like it"
    ),
    "plaques": SceneEntry(plaques, "portrait plaques", "Made-up heads on glazed plaques: a face on each"),
    "open_day": SceneEntry(open_day, "open day", "Made-up visitors in rows: faces of all sizes, some partly hidden"),
}
"""Every demo scene by name; the first is shown first."""


@cache
def scene(name: str) -> Scene:
    """A demo scene by name. Raises `ParameterError`."""
    if name not in SCENES:
        raise ParameterError(f'scene: "{name}" is not known{nearest(name, SCENES)}; there are: {", ".join(SCENES)}', "scene")
    return Scene(name, *SCENES[name].draw())


def recipe_text(name: str) -> str:
    """The recipe that belongs to a scene."""
    return (resources.files("lucid_finch.demo") / "recipes" / f"{name}.finch.json").read_text("utf-8")
