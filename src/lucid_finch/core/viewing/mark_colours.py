"""The colours of detectors, the same in the window and in what is written."""

from __future__ import annotations

from lucid_finch.core.recipe import Recipe

MARK_COLOURS = ("#e69f00", "#56b4e9", "#cc79a7", "#009e73", "#f0e442", "#0072b2", "#d55e00")
"""Hues that people with colour blindness can distinguish (Okabe and Ito, 2008), one per detector."""


def mark_colours(recipe: Recipe) -> dict[str, str]:
    """#rrggbb of each detector of a recipe, by its place in it, whether it is on or off."""
    return {entry.name: MARK_COLOURS[number % len(MARK_COLOURS)] for number, entry in enumerate(recipe.detectors)}
