"""What kinds need that work on nothing without it: the pictures of their examples."""

from __future__ import annotations

from typing import Any

from lucid_finch.core.detectors import KINDS
from lucid_finch.files.assets import asset_of


def needed(kind: str) -> dict[str, Any]:
    """Parameters, pictures as images, without which a kind refuses to work."""
    example = KINDS[kind].examples[0]
    return {name: example.assets[value] for name, value in example.parameters.items() if value in example.assets}


def entry(kind: str) -> tuple[dict[str, Any], dict[str, Any]]:
    """A detector of a recipe, named as its kind, and the pictures that the recipe has to hold."""
    parameters, assets = {}, {}
    for name, image in needed(kind).items():
        parameters[name], data = asset_of(image)
        assets[parameters[name]] = data.model_dump()
    return {"name": kind, "kind": kind, "parameters": parameters}, assets


def recipe_of_all(**fields: Any) -> dict[str, Any]:
    """A recipe with every kind."""
    entries, assets = zip(*(entry(kind) for kind in KINDS), strict=True)
    held = {name: data for one in assets for name, data in one.items()}
    return {"lucid_finch_recipe": 2, **fields, "detectors": list(entries), "assets": held}
