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


SOURCE = "@source"
"""The card of the source image."""

_STEP = "@step "


def step_card(number: int) -> str:
    """The card of a preparation step, counted from 0."""
    return f"{_STEP}{number}"


def step_number(card: str) -> int | None:
    """The preparation step behind a card, or None if it is another kind of card."""
    return int(card.removeprefix(_STEP)) if card.startswith(_STEP) else None


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
        self.undo.setUndoLimit(1000)
        self.chosen = self.recipe.detectors[0].name
        """The chosen card: the name of a detector, `SOURCE` or a `step_card`."""

    def choose(self, card: str) -> None:
        if card != self.chosen and card in self.cards:
            self.chosen = card
            self.chosen_changed.emit()

    @property
    def cards(self) -> list[str]:
        """All cards from top to bottom."""
        steps = [step_card(number) for number in range(len(self.recipe.prepare))]
        return [SOURCE, *steps, *(entry.name for entry in self.recipe.detectors)]

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
        self.chosen = recipe.detectors[0].name if recipe.detectors else SOURCE
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

    # What can be done with a card

    def add_step(self, name: str) -> None:
        """A preparation step after the last, with its defaults."""
        step: dict[str, Any] = {"step": name}
        if name == "crop":
            width, height = self.image.source_size if self.image is not None else (100, 100)
            step["region"] = {
                "shape": "rectangle", "x": (width - 1) / 2, "y": (height - 1) / 2, "width": float(width), "height": float(height)
            }  # fmt: skip
        steps = [one.plain() for one in self.recipe.prepare]
        self._edit_cards([*steps, step], None, f"add {name}", step_card(len(steps)))

    def add_detector(self, kind: str) -> None:
        """A detector after the last, with its defaults."""
        entries = self._entries()
        name = self._free_name(kind)
        self._edit_cards(None, [*entries, {"name": name, "kind": kind}], f"add {kind}", name)

    def remove(self, card: str) -> None:
        steps, entries, place = self._taken_apart(card)
        (steps if step_number(card) is not None else entries).pop(place)
        self._edit_cards(steps, entries, f"remove {self.title(card)}")

    def duplicate(self, card: str) -> None:
        steps, entries, place = self._taken_apart(card)
        if step_number(card) is not None:
            steps.insert(place + 1, dict(steps[place]))
            self._edit_cards(steps, entries, f"duplicate {self.title(card)}", step_card(place + 1))
        else:
            name = self._free_name(card)
            entries.insert(place + 1, {**entries[place], "name": name})
            self._edit_cards(steps, entries, f"duplicate {card}", name)

    def move(self, card: str, by: int) -> None:
        """Up (-1) or down (1) among its own kind; at the end nothing happens."""
        steps, entries, place = self._taken_apart(card)
        own = steps if step_number(card) is not None else entries
        if 0 <= place + by < len(own):
            own.insert(place + by, own.pop(place))
            chosen = step_card(place + by) if own is steps else card
            self._edit_cards(steps, entries, f"move {self.title(card)}", chosen)

    def switch(self, card: str, on: bool) -> None:
        steps, entries, place = self._taken_apart(card)
        own = steps if step_number(card) is not None else entries
        own[place] = {**own[place], "on": on}
        self._edit_cards(steps, entries, f"switch {self.title(card)} {'on' if on else 'off'}")

    def rename(self, card: str, name: str) -> None:
        """Raises `ParameterError` if the name is taken or empty."""
        steps, entries, place = self._taken_apart(card)
        entries[place] = {**entries[place], "name": name.strip()}
        self._edit_cards(steps, entries, f"rename {card}", name.strip())

    def expect_count(self, name: str, count: Any) -> None:
        """How many findings a detector should have: a number, a pair, or None. Raises `ParameterError`."""
        _, entries, place = self._taken_apart(name)
        expect = {k: v for k, v in entries[place]["expect"].items() if k != "count"}
        entries[place] = {**entries[place], "expect": expect if count is None else {**expect, "count": count}}
        self._edit_cards(None, entries, f"expected count of {name}")

    def is_on(self, card: str) -> bool:
        number = step_number(card)
        if number is not None:
            return self.recipe.prepare[number].on
        return all(entry.on for entry in self.recipe.detectors if entry.name == card)

    def title(self, card: str) -> str:
        number = step_number(card)
        return self.recipe.prepare[number].step if number is not None else "source" if card == SOURCE else card

    def _entries(self) -> list[dict[str, Any]]:
        return [entry.plain() for entry in self.recipe.detectors]

    def _taken_apart(self, card: str) -> tuple[list[dict[str, Any]], list[dict[str, Any]], int]:
        """Steps, detectors, and the place of the card among its own kind."""
        number = step_number(card)
        entries = self._entries()
        place = number if number is not None else next(i for i, entry in enumerate(entries) if entry["name"] == card)
        return [step.plain() for step in self.recipe.prepare], entries, place

    def _free_name(self, name: str) -> str:
        taken = {entry.name for entry in self.recipe.detectors}
        base = name.rstrip("0123456789").rstrip() or name
        return name if name not in taken else next(f"{base} {n}" for n in range(2, 10_000) if f"{base} {n}" not in taken)

    def _edit_cards(
        self, steps: list[dict[str, Any]] | None, entries: list[dict[str, Any]] | None, text: str, chosen: str = ""
    ) -> None:
        changes = {name: value for name, value in (("prepare", steps), ("detectors", entries)) if value is not None}
        self.edit(changes, text)
        if chosen:
            self.choose(chosen)

    # Saved or not

    def mark_saved(self, path: Path) -> None:
        self.recipe_path = path
        self.undo.setClean()

    @property
    def unsaved(self) -> bool:
        return not self.undo.isClean()

    def _set(self, recipe: Recipe) -> None:
        place = self.cards.index(self.chosen) if self.chosen in self.cards else 0
        self.recipe = recipe
        names = {entry.name for entry in recipe.running}
        self.detections = {n: d for n, d in self.detections.items() if n in names}
        if self.chosen not in self.cards:
            # It was renamed or removed: what has its place now.
            self.chosen = self.cards[min(place, len(self.cards) - 1)]
            self.recipe_changed.emit()
            self.chosen_changed.emit()
        else:
            self.recipe_changed.emit()
