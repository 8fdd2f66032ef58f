"""The study: image, recipe and results of one window; every edit of the recipe can be undone."""

from __future__ import annotations

import re
from pathlib import Path
from typing import Any

from PySide6.QtCore import QObject, Signal
from PySide6.QtGui import QUndoCommand, QUndoStack

from lucid_finch.core.detection import Detection
from lucid_finch.core.errors import ParameterError
from lucid_finch.core.execution.combining import Combined, combine
from lucid_finch.core.image import Image
from lucid_finch.core.inspection.calibration import Calibration
from lucid_finch.core.prepare import step_of
from lucid_finch.core.recipe import AssetData, redirected, starter
from lucid_finch.core.regions import region_of
from lucid_finch.desktop.study.rectified_pictures import RECTIFIED
from lucid_finch.files.calibrations import Calibration as CalibrationFile
from lucid_finch.files.recipes import Recipe

SOURCE = "@source"
"""The card of the source image."""

_MERGED_AT_ONCE = 1500
"""Up to this many findings are merged whenever one of the detectors has run."""
_STEP = "@step "
_IN_DOCUMENT = re.compile(r"^recipe: (?:[a-z_]+(?:\.\d+)?: )?")
"""Where in a recipe's document an error was found."""


def step_card(number: int, owner: str = "") -> str:
    """The card of a preparation step, counted from 0: a common one, or one of its `owner`, a detector, alone."""
    return f"{_STEP}{number}" + (f" of {owner}" if owner else "")


def step_place(card: str) -> tuple[str, int] | None:
    """Owner ("" where common) and number of the preparation step behind a card, or None if it is another kind of card."""
    if not card.startswith(_STEP):
        return None
    number, _, owner = card.removeprefix(_STEP).partition(" of ")
    return owner, int(number)


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
    samples_changed = Signal()

    def __init__(self) -> None:
        super().__init__()
        self.recipe = Recipe.make(starter())
        self.recipe_path: Path | None = None
        self.image: Image | None = None
        self.image_path: Path | None = None
        self.prepared: Image | None = None
        """What the detector in sight sees."""
        self.stages: list[tuple[str, Image]] = []
        """Card and result of every preparation step that leads there."""
        self.detections: dict[str, Detection] = {}
        # What was merged last, with the detections that it came from: they must live as long as their ids are held.
        self._merged: dict[Any, tuple[Combined | None, tuple[Detection, ...]]] = {}
        self.undo = QUndoStack(self)
        self.undo.setUndoLimit(1000)
        self.chosen = self.recipe.detectors[0].name
        """The selected card: the name of a detector, `SOURCE` or a `step_card`."""
        self._last_detector = ""
        self.samples: tuple[dict[str, Any], dict[str, Any]] | None = None

    def choose(self, card: str) -> None:
        if card != self.chosen and card in self.cards:
            self.chosen = card
            self.chosen_changed.emit()

    @property
    def cards(self) -> list[str]:
        """All cards from top to bottom."""
        found = [SOURCE, *(step_card(number) for number in range(len(self.recipe.prepare)))]
        for entry in self.recipe.detectors:
            found += [entry.name, *(step_card(number, entry.name) for number in range(len(entry.prepare)))]
        return found

    @property
    def detector(self) -> str:
        """The detector that evidence, tables and settings are about: the selected one or the owner of the selected step, else
        the one before, else the first."""
        names = [entry.name for entry in self.recipe.detectors]
        place = step_place(self.chosen)
        chosen = self.chosen if place is None else place[0]
        if chosen in names:
            self._last_detector = chosen
        return self._last_detector if self._last_detector in names else names[0] if names else ""

    @property
    def last_step(self) -> str:
        """The card of the last step that leads to the detector in sight, or "": its result is what is called prepared."""
        found = ""
        for owner in ("", self.detector) if self.detector else ("",):
            for number, step in enumerate(self.steps_of(owner)):
                found = step_card(number, owner) if step.get("on", True) else found
        return found

    @property
    def sampled(self) -> tuple[Any, Any] | None:
        """Areas of an object and of its surroundings: those of the chosen contrast axis, else what was sampled by hand."""
        place = step_place(self.chosen)
        step = self.steps_of(place[0])[place[1]] if place is not None else {}
        shapes = (step_of(step["step"]).sampled(step) if step else None) or self.samples
        return None if shapes is None else (region_of(shapes[0]), region_of(shapes[1]))

    def sample(self, inside: dict[str, Any], outside: dict[str, Any]) -> None:
        """Keep two areas to compare channels by; they are no part of the recipe."""
        self.samples = inside, outside
        self.samples_changed.emit()

    def steps_of(self, owner: str) -> list[dict[str, Any]]:
        """The common preparation steps ("") or those of one detector, as plain data."""
        if not owner:
            return [step.plain() for step in self.recipe.prepare]
        return [step.plain() for entry in self.recipe.detectors if entry.name == owner for step in entry.prepare]

    @property
    def calibration(self) -> Calibration | None:
        """The recipe's calibration, if it is for images of the size of the one in sight."""
        calibration, image = self.recipe.calibration, self.image
        if calibration is None or image is None or image.source_size != (calibration.width, calibration.height):
            return None
        return calibration

    @staticmethod
    def load_calibration(path: Path) -> Calibration:
        """The calibration in a file. Raises `FileError`, `ParameterError`."""
        return CalibrationFile.load(path)

    @staticmethod
    def save_calibration(calibration: Calibration, path: Path) -> None:
        """Write a calibration. Raises `FileError`."""
        CalibrationFile.of(calibration).save(path)

    @property
    def rectified(self) -> tuple[str, ...]:
        """Names of the rectified pictures that the calibration makes possible."""
        calibration = self.calibration
        return () if calibration is None or calibration.target == "line" else tuple(RECTIFIED)

    @property
    def detection(self) -> Detection | None:
        return self.detections.get(self.detector)

    def open_image(self, image: Image, path: Path | None, follows: bool = False) -> None:
        """Another image. `follows`: one of many that come fast; what was found in the one before stays until its own is there."""
        self.image, self.image_path = image, path
        if not follows:
            self.prepared, self.stages = None, []
            self.detections = {}
        self.image_changed.emit()

    def close_image(self) -> None:
        """Let go of the image and of what was found in it."""
        self.image, self.image_path = None, None
        self.prepared, self.stages = None, []
        self.detections = {}
        self.image_changed.emit()

    def open_recipe(self, recipe: Recipe, path: Path | None) -> None:
        """Replaces the recipe; this cannot be undone, since it belongs to another file."""
        self.undo.clear()
        self.recipe_path = path
        self.recipe = recipe
        self.detections = {}
        self.chosen = recipe.detectors[0].name if recipe.detectors else SOURCE
        self.recipe_changed.emit()
        self.chosen_changed.emit()

    def edit(self, changes: dict[str, Any], text: str, key: str = "") -> None:
        """Change fields of the recipe as one undo step. Raises `ParameterError` and changes nothing if they are wrong."""
        try:
            after = Recipe.make({**self.recipe.plain(), **changes})
        except ParameterError as error:
            # Where in the document it stands says nothing to whoever sees the card.
            raise ParameterError(_IN_DOCUMENT.sub("", str(error)), error.parameter) from None
        if after != self.recipe:
            self.undo.push(_Edit(self, after, text, key))

    def edit_detector(self, name: str, parameters: dict[str, Any], text: str, key: str = "") -> None:
        """Change parameters of one detector. Raises `ParameterError`."""
        detectors = [entry.plain() for entry in self.recipe.detectors]
        for entry in detectors:
            if entry["name"] == name:
                entry["parameters"] = {**entry["parameters"], **parameters}
        self.edit({"detectors": detectors}, text, key)

    def edit_step(self, number: int, parameters: dict[str, Any], text: str, key: str = "", owner: str = "") -> None:
        """Change parameters of one preparation step, common or of one detector. Raises `ParameterError`."""
        steps = self.steps_of(owner)
        steps[number] = {**steps[number], **parameters}
        self._edit_steps(owner, steps, text, key)

    def _edit_steps(self, owner: str, steps: list[dict[str, Any]], text: str, key: str = "", chosen: str = "") -> None:
        if not owner:
            self.edit({"prepare": steps}, text, key)
        else:
            entries = [{**entry, "prepare": steps} if entry["name"] == owner else entry for entry in self._entries()]
            self.edit({"detectors": entries}, text, key)
        if chosen:
            self.choose(chosen)

    # What can be done with a card

    def add_step(self, name: str, owner: str = "") -> None:
        """A preparation step after the last, common or of one detector, with its defaults."""
        step: dict[str, Any] = {"step": name, **step_of(name).suggested(self.image)}
        areas = step_of(name).sampled(step)
        if areas is not None and self.samples is not None:
            # What was sampled by hand takes the place of the areas that it would start with.
            step = {k: self.samples[areas.index(v)] if v in areas else v for k, v in step.items()}
        steps = self.steps_of(owner)
        self._edit_steps(owner, [*steps, step], f"add {name}", chosen=step_card(len(steps), owner))

    def add_detector(self, kind: str) -> None:
        """A detector after the last, with its defaults."""
        name = self._free_name(kind)
        self.edit({"detectors": [*self._entries(), {"name": name, "kind": kind}]}, f"add {kind}")
        self.choose(name)

    def hold_picture(self, detector: str, kind: str, parameters: dict[str, Any], name: str, data: AssetData) -> None:
        """Put a picture into the recipe and let a detector (a new one of that kind if "") use it; pictures that none uses go.
        Raises `ParameterError`."""
        entries = self._entries()
        chosen = detector or self._free_name(kind)
        if not detector:
            entries = [*entries, {"name": chosen, "kind": kind, "parameters": {}}]
        entries = [{**e, "parameters": {**e.get("parameters", {}), **parameters}} if e["name"] == chosen else e for e in entries]
        held = {**self.recipe.plain()["assets"], name: data.model_dump()}
        used = {value for e in entries for value in e.get("parameters", {}).values() if isinstance(value, str)}
        kept = {key: value for key, value in held.items() if key in used}
        self.edit({"detectors": entries, "assets": kept}, f"teach {chosen}")
        self.choose(chosen)

    def remove(self, card: str) -> None:
        own, place = self._kin(card)
        own.pop(place)
        self._put_kin(card, own, f"remove {self.title(card)}")

    def duplicate(self, card: str) -> None:
        own, place = self._kin(card)
        step = step_place(card)
        name = self._free_name(card) if step is None else ""
        own.insert(place + 1, {**own[place], "name": name} if step is None else dict(own[place]))
        self._put_kin(card, own, f"duplicate {self.title(card)}", name if step is None else step_card(place + 1, step[0]))

    def replace_step(self, card: str, step: dict[str, Any]) -> None:
        """Another step in the place of one."""
        own, place = self._kin(card)
        own[place] = step
        self._put_kin(card, own, f"{step['step']} instead of {self.title(card)}", card)

    def move(self, card: str, by: int) -> None:
        """Up (-1) or down (1) among its own kind; at the end nothing happens."""
        own, place = self._kin(card)
        step = step_place(card)
        if 0 <= place + by < len(own):
            own.insert(place + by, own.pop(place))
            chosen = card if step is None else step_card(place + by, step[0])
            self._put_kin(card, own, f"move {self.title(card)}", chosen)

    def switch(self, card: str, on: bool) -> None:
        own, place = self._kin(card)
        own[place] = {**own[place], "on": on}
        self._put_kin(card, own, f"switch {self.title(card)} {'on' if on else 'off'}")

    def switch_chosen(self) -> None:
        """Switch the selected card on or off."""
        self.switch(self.chosen, not self.is_on(self.chosen))

    def rename(self, card: str, name: str) -> None:
        """Raises `ParameterError` if the name is taken or empty."""
        entries, place = self._kin(card)
        entries[place] = {**entries[place], "name": name.strip()}
        self._put_kin(card, entries, f"rename {card}", name.strip(), {card: name.strip()})

    def merges(self, card: str) -> tuple[str, ...]:
        """The detectors whose findings are merged with those of a card, itself included; nothing if there are none."""
        return next((group for group in self.recipe.combine if card in group), ())

    def merge(self, card: str, other: str, together: bool) -> None:
        """Have the findings of two detectors merged, or part the second from the first again."""
        group = {*self.merges(card), card, other} if together else {*self.merges(card)} - {other}
        rest = [[n for n in g if n != other] for g in self.recipe.combine if card not in g]
        names = [entry.name for entry in self.recipe.detectors if entry.name in group]
        groups = [g for g in [*rest, names] if len(g) > 1]
        self.edit({"combine": groups}, f"merge {card} and {other}" if together else f"part {other} from {card}")

    def merged(self) -> list[tuple[tuple[str, ...], Combined | None]]:
        """Each group of merged detectors, and what it comes to; None where that are too many to be merged while one looks."""
        found = []
        for group in self.recipe.combine:
            parts = {name: self.detections[name] for name in group if name in self.detections}
            if not parts:
                continue
            key = group, tuple(id(d) for d in parts.values())
            if key not in self._merged:
                small = sum(len(d.findings) for d in parts.values()) <= _MERGED_AT_ONCE
                self._merged = {k: v for k, v in self._merged.items() if k[0] != group}
                self._merged[key] = (combine(parts, group) if small else None, tuple(parts.values()))
            found.append((group, self._merged[key][0]))
        return found

    def expect_count(self, name: str, count: Any) -> None:
        """How many findings a detector should have: a number, a pair, or None. Raises `ParameterError`."""
        entries, place = self._kin(name)
        expect = {k: v for k, v in entries[place]["expect"].items() if k != "count"}
        entries[place] = {**entries[place], "expect": expect if count is None else {**expect, "count": count}}
        self._put_kin(name, entries, f"expected count of {name}")

    def is_on(self, card: str) -> bool:
        place = step_place(card)
        if place is not None:
            return bool(self.steps_of(place[0])[place[1]].get("on", True))
        return all(entry.on for entry in self.recipe.detectors if entry.name == card)

    def stage_title(self, card: str) -> str:
        """What the map after a preparation step, or a rectified picture, is called."""
        place = step_place(card)
        if card in RECTIFIED:
            return self.tr("from above") if RECTIFIED[card] else self.tr("undistorted")
        return f"{place[1] + 1} {self.title(card)}" if place is not None and card in self.cards else card

    def title(self, card: str) -> str:
        place = step_place(card)
        return str(self.steps_of(place[0])[place[1]]["step"]) if place is not None else "source" if card == SOURCE else card

    def _entries(self) -> list[dict[str, Any]]:
        return [entry.plain() for entry in self.recipe.detectors]

    def _kin(self, card: str) -> tuple[list[dict[str, Any]], int]:
        """The steps or detectors that a card is one of, as plain data, and its place among them."""
        place = step_place(card)
        if place is not None:
            return self.steps_of(place[0]), place[1]
        entries = self._entries()
        return entries, next(i for i, entry in enumerate(entries) if entry["name"] == card)

    def _put_kin(
        self, card: str, own: list[dict[str, Any]], text: str, chosen: str = "", renamed: dict[str, str] | None = None
    ) -> None:
        place = step_place(card)
        if place is not None:
            self._edit_steps(place[0], own, text, chosen=chosen)
            return
        # References and merged lists follow: by the new name, or not at all.
        names = {entry["name"] for entry in own}
        gone = {entry.name: None for entry in self.recipe.detectors if entry.name not in names}
        after = redirected({**self.recipe.plain(), "detectors": own}, {**gone, **(renamed or {})})
        self.edit({"detectors": after["detectors"], "combine": after["combine"]}, text)
        if chosen:
            self.choose(chosen)

    def _free_name(self, name: str) -> str:
        taken = {entry.name for entry in self.recipe.detectors}
        base = name.rstrip("0123456789").rstrip() or name
        return name if name not in taken else next(f"{base} {n}" for n in range(2, 10_000) if f"{base} {n}" not in taken)

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
        gone = [name for name in self.detections if name not in names]
        self.detections = {n: d for n, d in self.detections.items() if n in names}
        if self.chosen not in self.cards:
            # It was renamed or removed: what has its place now.
            self.chosen = self.cards[min(place, len(self.cards) - 1)]
            self.recipe_changed.emit()
            self.chosen_changed.emit()
        else:
            self.recipe_changed.emit()
        # Nothing else may change for the others: the marks of what is gone would stay.
        for name in gone:
            self.detection_changed.emit(name)
