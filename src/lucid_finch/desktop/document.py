"""The study on the bench: image, recipe and results; every edit of the recipe can be undone."""

from __future__ import annotations

from pathlib import Path
from typing import Any

from PySide6.QtCore import QObject, Signal
from PySide6.QtGui import QUndoCommand, QUndoStack

from lucid_finch.core.detection import Detection
from lucid_finch.core.image import Image
from lucid_finch.files.recipes import Recipe


def fresh_recipe() -> Recipe:
    """What a bench without a recipe starts with: luma and edges, all limits by default."""
    return Recipe.make(
        {
            "lucid_finch_recipe": 1,
            "name": "untitled",
            "prepare": [{"step": "channel", "take": "luma"}],
            "detectors": [{"name": "edges", "kind": "edges"}],
        }
    )


class _Edit(QUndoCommand):
    """Recipe before and after; edits with the same key that follow each other become one."""

    def __init__(self, study: Study, after: Recipe, text: str, key: str) -> None:
        super().__init__(text)
        self.study, self.before, self.after, self.key = study, study.recipe, after, key

    def id(self) -> int:
        return 1 if self.key else -1

    def mergeWith(self, other: QUndoCommand) -> bool:
        if not isinstance(other, _Edit) or other.key != self.key:
            return False
        self.after = other.after
        return True

    def redo(self) -> None:
        self.study._set(self.after)

    def undo(self) -> None:
        self.study._set(self.before)


class Study(QObject):
    """Knows nothing of the widgets that show it."""

    recipe_changed = Signal()
    image_changed = Signal()
    detection_changed = Signal(str)
    """Name of the detector with a new result."""
    chosen_changed = Signal()

    def __init__(self) -> None:
        super().__init__()
        self.recipe = fresh_recipe()
        self.recipe_path: Path | None = None
        self.image: Image | None = None
        self.image_path: Path | None = None
        self.prepared: Image | None = None
        self.detections: dict[str, Detection] = {}
        self.undo = QUndoStack(self)
        self.chosen = self.recipe.detectors[0].name
        """Name of the chosen card: a detector, or "source" or "preparation"."""

    def choose(self, card: str) -> None:
        if card != self.chosen:
            self.chosen = card
            self.chosen_changed.emit()

    @property
    def detector(self) -> str:
        """The detector that evidence, tables and settings are about: the chosen one, else the first."""
        names = [entry.name for entry in self.recipe.detectors]
        return self.chosen if self.chosen in names else names[0] if names else ""

    @property
    def detection(self) -> Detection | None:
        return self.detections.get(self.detector)

    def open_image(self, image: Image, path: Path | None) -> None:
        self.image, self.image_path = image, path
        self.prepared = None
        self.detections = {}
        self.image_changed.emit()

    def open_recipe(self, recipe: Recipe, path: Path | None) -> None:
        """Replaces the recipe; this is not undone, since it belongs to another file."""
        self.undo.clear()
        self.recipe_path = path
        self.recipe = recipe
        self.detections = {}
        self.chosen = recipe.detectors[0].name if recipe.detectors else "preparation"
        self.recipe_changed.emit()
        self.chosen_changed.emit()

    def edit(self, changes: dict[str, Any], text: str, key: str = "") -> None:
        """Change fields of the recipe as one undo step. Raises `ParameterError` and changes nothing if they are wrong."""
        after = Recipe.make({**self.recipe.plain(), **changes})
        if after != self.recipe:
            self.undo.push(_Edit(self, after, text, key))

    def edit_detector(self, name: str, parameters: dict[str, Any], text: str, key: str = "") -> None:
        """Change parameters of one detector. Raises `ParameterError`."""
        detectors = [entry.plain() for entry in self.recipe.detectors]
        for entry in detectors:
            if entry["name"] == name:
                entry["parameters"] = {**entry["parameters"], **parameters}
        self.edit({"detectors": detectors}, text, key)

    def edit_step(self, number: int, parameters: dict[str, Any], text: str, key: str = "") -> None:
        """Change parameters of one common preparation step. Raises `ParameterError`."""
        steps = [step.plain() for step in self.recipe.prepare]
        steps[number] = {**steps[number], **parameters}
        self.edit({"prepare": steps}, text, key)

    def mark_saved(self, path: Path) -> None:
        self.recipe_path = path
        self.undo.setClean()

    @property
    def unsaved(self) -> bool:
        return not self.undo.isClean()

    def _set(self, recipe: Recipe) -> None:
        self.recipe = recipe
        names = {entry.name for entry in recipe.detectors}
        self.detections = {n: d for n, d in self.detections.items() if n in names}
        self.recipe_changed.emit()
