"""Connects the regions of the recipe with the shapes on the panes: shows them, and edits them when they are dragged."""

from __future__ import annotations

from typing import Any

from PySide6.QtCore import QObject

from lucid_finch.core.detectors import detector_of
from lucid_finch.core.image import Image
from lucid_finch.core.prepare import step_of
from lucid_finch.core.prepare.step import suggested_box
from lucid_finch.desktop.canvas.drawing import Drawing
from lucid_finch.desktop.canvas.shapes import Shape
from lucid_finch.desktop.recipe_panel.settings import COMMON, SettingsPanel
from lucid_finch.desktop.study.study import SOURCE, Study, step_place

_SAMPLE = "sample"


class RegionShapes(QObject):
    """Shows the regions of the selected card; edits go through the settings and so can be undone."""

    def __init__(self, study: Study, drawing: Drawing, settings: SettingsPanel) -> None:
        super().__init__()
        self.study, self.drawing, self.settings = study, drawing, settings
        for signal in (study.chosen_changed, study.recipe_changed, study.samples_changed, study.image_changed):
            signal.connect(self.refresh)
        drawing.changed.connect(self._changed)
        settings.draw_wanted.connect(drawing.start)
        settings.samples_wanted.connect(self._sample)
        self.refresh()

    def refresh(self) -> None:
        """Put the shapes of what is chosen on the panes, and nothing else of ours."""
        wanted: dict[str, tuple[Shape, str, bool]] = {}
        for name, label, region in self._regions():
            if region is None:
                continue
            wanted[name] = region, label, False
            for number, hole in enumerate(region.get("exclude") or ()):
                wanted[f"{name}/{number}"] = hole, self.tr("excluded"), True
        self.drawing.keep_only({*wanted, "measure", "calibration"})
        for key, (shape, label, dashed) in wanted.items():
            self.drawing.put(key, shape, label, dashed)

    def _regions(self) -> list[tuple[str, str, Shape | None]]:
        """Parameter, label and value of each region in sight."""
        study = self.study
        if study.image is None:
            return []
        place = step_place(study.chosen)
        if study.chosen == SOURCE:
            return [("region", self.tr("region of all"), self._common)]
        if place is None:
            entry = next((e for e in study.recipe.detectors if e.name == study.chosen), None)
            declared = detector_of(entry.kind).Parameters.declarations() if entry is not None else {}
            values = entry.parameters if entry is not None else {}
            here = [n for n, d in declared.items() if d.is_region and not d.of_picture]
            return [(n, self.tr("region"), _plain(values.get(n))) for n in here]
        step = study.steps_of(place[0])[place[1]]
        declared = step_of(str(step["step"])).Parameters.declarations()
        found = [(n, d.label.lower(), step.get(n)) for n, d in declared.items() if d.is_region]
        if step_of(step["step"]).separates and step_of(step["step"]).sampled(step) is None and study.samples is not None:
            labels = self.tr("object"), self.tr("surroundings")
            found += [(f"{_SAMPLE}.{n}", label, shape) for n, label, shape in zip(range(2), labels, study.samples, strict=True)]
        return found

    @property
    def _common(self) -> Shape | None:
        region: Shape | None = self.study.recipe.plain()["region"]
        return region

    def _sample(self) -> None:
        if self.study.samples is None:
            self.study.sample(*first_samples(self.study.image))
        else:
            self.refresh()

    def _changed(self, key: str, shape: Shape | None, moving: bool) -> None:
        name, _, rest = key.partition("/")
        if key in ("measure", "ruler", "teach", "calibration"):
            return
        if name.startswith(_SAMPLE) and self.study.samples is not None:
            if shape is not None and not rest:
                pair = list(self.study.samples)
                pair[int(name.rpartition(".")[2])] = shape
                self.study.sample(pair[0], pair[1])
            self.refresh()
            return
        value = next((region for n, _, region in self._regions() if n == name), None)
        if not rest:
            # The exclusions of a region that is drawn again stay, as far as they are its own.
            new: Any = (
                shape if shape is None or value is None else {**shape, "exclude": shape.get("exclude", value.get("exclude", []))}
            )
        elif value is None:
            new = None
        else:
            holes = [*(value.get("exclude") or ())]
            if rest == "new":
                # While it is being dragged, a new exclusion is only shown.
                if moving or shape is None:
                    return
                self.drawing.put(key, None)
                holes.append(shape)
            elif shape is None:
                holes.pop(int(rest))
            else:
                holes[int(rest)] = shape
            new = {**value, "exclude": holes}
        if self.study.image is not None:
            self.settings.edit(COMMON if self.study.chosen == SOURCE else "", name, new, moving)
        self.refresh()


def _plain(region: Any) -> Any:
    return region.model_dump(mode="json") if hasattr(region, "model_dump") else region


def first_samples(image: Image | None) -> tuple[Shape, Shape]:
    """Areas of object and surroundings to begin with, to be dragged to where they belong."""
    side = 0.04 * max(image.source_size) if image is not None else 4.0
    width, height = image.source_size if image is not None else (100, 100)
    small = side / width, side / height
    return suggested_box(image, (0.5, 0.5), small), suggested_box(image, (0.4, 0.5), small)
