"""Demo scenes of the made-up Heron Street Tileworks: drawn by code from fixed seeds, with exact truth beside them."""

from __future__ import annotations

from collections.abc import Callable
from dataclasses import dataclass
from functools import cache
from importlib import resources
from typing import Any

from lucid_finch.core.errors import ParameterError, nearest
from lucid_finch.core.image import Image
from lucid_finch.demo.cutouts import cutouts
from lucid_finch.demo.glaze_edge import glaze_edge
from lucid_finch.demo.glaze_swatches import glaze_swatches
from lucid_finch.demo.leaning_screen import leaning_screen
from lucid_finch.demo.pierced_screen import pierced_screen
from lucid_finch.demo.tile_panel import tile_panel


@dataclass(frozen=True)
class Scene:
    """A picture and what is truly in it."""

    name: str
    image: Image
    marks: list[dict[str, Any]]
    """Truth: each mark has its `kind` and the columns of findings of that kind."""

    def truth(self) -> dict[str, Any]:
        """The contents of a truth file."""
        return {"lucid_finch_truth": 1, "image": f"{self.name}.png", "marks": self.marks}


SCENES: dict[str, Callable[[], tuple[Image, list[dict[str, Any]]]]] = {
    "tile_panel": tile_panel,
    "glaze_swatches": glaze_swatches,
    "glaze_edge": glaze_edge,
    "cutouts": cutouts,
    "pierced_screen": pierced_screen,
    "leaning_screen": leaning_screen,
}


@cache
def scene(name: str) -> Scene:
    """A demo scene by name. Raises `ParameterError`."""
    if name not in SCENES:
        raise ParameterError(f'scene: "{name}" is not known{nearest(name, SCENES)}; there are: {", ".join(SCENES)}', "scene")
    return Scene(name, *SCENES[name]())


def recipe_text(name: str) -> str:
    """The recipe that belongs to a scene."""
    return (resources.files("lucid_finch.demo") / "recipes" / f"{name}.finch.json").read_text("utf-8")
