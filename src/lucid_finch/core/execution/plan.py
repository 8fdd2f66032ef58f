"""A recipe as tasks: preparation steps and detectors with their parameters made, and one dependency key a stage."""

from __future__ import annotations

from collections.abc import Hashable, Mapping, Sequence
from dataclasses import dataclass, field, replace
from functools import cached_property
from typing import Any

from lucid_finch.core.detector import Detector, DetectorParameters, StageKeys
from lucid_finch.core.detectors import detector_of
from lucid_finch.core.image import Image
from lucid_finch.core.inspection.calibration import Calibration
from lucid_finch.core.inspection.metric_parameters import in_pixels, of_image
from lucid_finch.core.parameters import Parameters, Stage
from lucid_finch.core.prepare import step_of
from lucid_finch.core.prepare.step import PreparationStep
from lucid_finch.core.recipe import Recipe


@dataclass(frozen=True)
class PlannedStep:
    """One preparation step."""

    owner: str
    """The detector that it belongs to; "" for all."""
    number: int
    """Its place among the steps of its owner, from 0; steps that are off count."""
    step: PreparationStep
    given: Mapping[str, Any]
    """Parameters as the recipe has them."""
    calibration: Calibration | None = None

    @staticmethod
    def of(
        steps: Sequence[Mapping[str, Any]], owner: str = "", calibration: Calibration | None = None
    ) -> tuple[PlannedStep, ...]:
        """The steps that are on, from plain data. Raises `ParameterError` for an unknown step."""
        found = []
        for number, given in enumerate(steps):
            options = dict(given)
            name = str(options.pop("step", ""))
            if options.pop("on", True):
                found.append(PlannedStep(owner, number, step_of(name), options, calibration))
        return tuple(found)

    @property
    def parameters(self) -> Parameters:
        """In pixels. Raises `ParameterError`."""
        made = self.step.Parameters.make(self.given, f"preparation {self.number + 1}, {self.step.name}")
        return in_pixels(made, self.calibration)

    def key_after(self, key: Hashable) -> Hashable:
        """Key of the image after this step, from that of the image before. Raises `ParameterError`."""
        return (key, self.step.name, self.parameters.model_dump_json())

    def run(self, image: Image) -> Image:
        """The image after this step. Raises `ParameterError`."""
        return self.step.run(image, self.parameters)


@dataclass(frozen=True)
class PlannedDetector:
    """One detector with its own preparation."""

    name: str
    detector: Detector
    given: DetectorParameters
    steps: tuple[PlannedStep, ...]
    calibration: Calibration | None = None

    @cached_property
    def parameters(self) -> DetectorParameters:
        """In pixels. Raises `ParameterError`."""
        return in_pixels(self.given, self.calibration)

    def on(self, image: Image) -> PlannedDetector:
        """With what is in percent of the image as pixels."""
        return replace(self, given=of_image(self.given, image.source_size))

    def keys(self, prepared: Hashable) -> StageKeys:
        """What its stages depend on, from the key of the prepared image."""
        own = self.parameters
        gathered = (prepared, self.detector.kind, repr(own.plain(Stage.GATHER)), self.detector.floor(own))
        return StageKeys(prepared, gathered, (gathered, repr(own.plain(Stage.FORM))))


@dataclass(frozen=True)
class Plan:
    """All tasks of a recipe, in its order."""

    common: tuple[PlannedStep, ...]
    detectors: tuple[PlannedDetector, ...]
    assets: Mapping[str, Any] = field(default_factory=dict)

    @staticmethod
    def of(recipe: Recipe) -> Plan:
        """The plan of a recipe. Raises `ParameterError`."""
        detectors = tuple(
            PlannedDetector(
                entry.name,
                detector_of(entry.kind),
                entry.made_parameters(recipe.region),
                PlannedStep.of([step.plain() for step in entry.prepare], entry.name, recipe.calibration),
                recipe.calibration,
            )
            for entry in recipe.running
        )
        common = PlannedStep.of([step.plain() for step in recipe.prepare], "", recipe.calibration)
        return Plan(common, detectors, recipe.assets)

    @staticmethod
    def source_key(image: Image) -> Hashable:
        """Key of an image that nothing has been done to."""
        return image.identity

    def prepared_key(self, planned: PlannedDetector, image: Image) -> Hashable:
        """Key of the image that a detector sees, if no step fails. Raises `ParameterError`."""
        key = self.source_key(image)
        for step in (*self.common, *planned.steps):
            key = step.key_after(key)
        return key
