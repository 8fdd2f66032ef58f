"""Keeps the results up to date with image and recipe: judges at once if it can, else has the worker run the plan."""

from __future__ import annotations

import contextlib
import ctypes
import time
from collections.abc import Callable
from pathlib import Path
from typing import Any

from PySide6.QtCore import QObject, QTimer, Signal, Slot

from lucid_finch.core.detection import Arithmetic, Detection
from lucid_finch.core.errors import FileError, ParameterError
from lucid_finch.core.execution.engine import Detected, Engine, Failed, StepDone, judged_again
from lucid_finch.core.execution.plan import Plan, PlannedDetector, PlannedStep
from lucid_finch.core.image import Image
from lucid_finch.core.inspection.calibration import Calibration
from lucid_finch.core.inspection.rectifying import rectification
from lucid_finch.core.numerics.rendering import viewing
from lucid_finch.core.prepare import step_of
from lucid_finch.desktop.study.picture import Picture
from lucid_finch.desktop.study.rectified_pictures import RECTIFIED, rectified_picture
from lucid_finch.desktop.study.study import Study, step_card, step_place
from lucid_finch.desktop.study.worker import Coordinator, Job

JUDGED_AT_ONCE = 20_000
"""Up to so many candidates are judged in the window's thread."""


_LARGE = 20_000_000


def give_back_memory() -> None:
    """Have the C library return free memory to the system: after a large image that is more than the image."""
    with contextlib.suppress(OSError, AttributeError):
        ctypes.CDLL(None).malloc_trim(0)


class Runner(QObject):
    """Between the study and the worker; knows no widget."""

    picture_made = Signal(object)
    image_read = Signal(object, object)
    """An image, and the path it came from or None."""
    failures_changed = Signal()
    failed = Signal(str)
    message = Signal(str)
    took = Signal(float)

    def __init__(self, study: Study) -> None:
        super().__init__()
        self.study = study
        self.engine = Engine()
        self.worker = Coordinator()
        self.failures: dict[str, str] = {}
        """Card to what went wrong there."""
        self.wanted_maps: Callable[[], list[str]] = list
        """Maps in sight: they are made first."""
        self.hurried: Callable[[], bool] = lambda: False
        """Whether another image follows at once: then only maps in sight are made."""
        self._generation = 0
        self._calibration: Calibration | None = None
        """That of the last run: another one makes other maps."""
        self._reading: int | None = None
        """Generation of the image that is being read: nothing else is begun meanwhile, since that would take its place."""
        self._wanted_image: int | None = None
        """Generation of the image that was asked for last."""
        self._keep_image = True
        self._source: tuple[Image, Picture] | None = None
        """The source and its picture, once it is shown."""
        self._answer_due = QTimer(self)
        self._answer_due.setSingleShot(True)
        self._answer_due.timeout.connect(self._answer)
        # In the next turn of the event loop: moves that come together are answered once.
        study.recipe_changed.connect(lambda: self._answer_due.start(0))
        study.image_changed.connect(self._image_changed)
        self.worker.part_done.connect(self._part_done)
        self.worker.failed.connect(self._work_failed)
        self.worker.idle.connect(self._came_to_rest)

    @property
    def answering(self) -> bool:
        """Whether a change of the recipe has not been looked at yet."""
        return self._answer_due.isActive()

    def forget(self) -> None:
        """Let go of all that was computed: the window closes."""
        self.engine.cache.clear()
        self.study.detections = {}
        self._source = None

    def read(self, make: Callable[[], Image], text: str, path: Path | None = None, keep: bool = True) -> None:
        """Have the worker make an image; if that fails, all stays as it was, or, without `keep`, there is no image."""
        self._keep_image = keep
        self._reading = self._generation = self.worker.submit(text, lambda job: job.emit_part(("image", make(), path)))
        self._wanted_image = self._reading

    def do(self, work: Callable[[Job], str], text: str) -> None:
        """Have the worker do something that must not be lost; what it returns is shown."""

        def reported(job: Job) -> None:
            job.emit_part(("message", work(job)))

        self.worker.submit(text, reported, keep=True)

    def _answer(self) -> None:
        """Bring the results up to date with the recipe: at once if only limits have moved."""
        if self.study.image is not None and not self._judge_at_once():
            self.run()

    def _image_changed(self) -> None:
        self._source = None
        if self.hurried():
            # No frame of a camera, and hardly one of a clip, is looked at again.
            self.engine.cache.clear()
        self._answer_due.stop()
        self.run()

    def _judge_at_once(self) -> bool:
        """If only limits have moved, answer within the frame."""
        study = self.study
        if self.failures or study.image is None or not study.detections or study.recipe.calibration != self._calibration:
            return False
        try:
            found = judged_again(Plan.of(study.recipe), study.image, study.detections, JUDGED_AT_ONCE)
        except ParameterError as error:
            self.failed.emit(str(error))
            return True
        if found is None:
            return False
        study.detections, changed = found
        for name in changed:
            study.detection_changed.emit(name)
        if changed:
            self._draw_judged_maps()
        return True

    def _draw_judged_maps(self) -> None:
        found = self.study.detection
        if found is None or self._reading is not None:
            return

        def work(job: Job) -> None:
            for evidence in found.evidence.values():
                if evidence.judged and not job.cancelled():
                    job.emit_part(("picture", Picture.of_map(evidence)))

        self._generation = self.worker.submit("drawing", work)

    def run(self) -> None:
        """The whole recipe in the worker: findings first, then the maps in sight, then the other thumbnails."""
        image, recipe = self.study.image, self.study.recipe
        self._calibration = recipe.calibration
        if image is None or self._reading is not None:
            return
        detector = self.study.detector
        wanted, rectified = self.wanted_maps(), self.study.rectified
        # Of images that follow one another only what is in sight.
        brief = image.width * image.height > _LARGE, self.hurried()

        def work(job: Job) -> None:
            begun = time.perf_counter()
            source = self._source
            if source is None or source[0] is not image:
                source = image, Picture.of_image(image, "source", self.tr("source"))
                job.emit_part(("picture", source[1]))
            viewing.load()
            failures: dict[str, str] = {}
            stages: list[tuple[str, Image]] = []
            """Card and result of each step that leads to the detector in sight."""
            shown: Detection | None = None
            seen = image
            for event in self.engine.events(Plan.of(recipe), image, job.cancelled):
                match event:
                    case StepDone(step, result) if step.owner in ("", detector):
                        stages.append((step_card(step.number, step.owner), result))
                        seen = result
                    case Detected(name, detection):
                        job.emit_part(("detection", name, detection))
                        shown = detection if name == detector else shown
                    case Failed(PlannedStep() as step, error):
                        failures[step_card(step.number, step.owner)] = str(error)
                    case Failed(PlannedDetector() as planned, error):
                        failures[planned.name] = str(error)
            job.emit_part(("prepared", seen, stages))
            job.emit_part(("failures", failures))
            job.emit_part(("time", time.perf_counter() - begun))
            if job.cancelled():
                return
            title = self.tr("prepared")
            same = seen.pixels is image.pixels and seen.frame == image.frame
            sums = self._arithmetics(stages)
            prepared_picture = (
                source[1].renamed("prepared", title)
                if same
                else Picture.of_image(seen, "prepared", title, sums[stages[-1][0]] if stages else None)
            )
            job.emit_part(("picture", prepared_picture))
            maps: list[Callable[[], Picture]] = []
            names: list[str] = []
            for card, result in stages:
                # What is in sight of a large image is enough: each stage is as large as the image.
                if not any(brief) or card in wanted:
                    names.append(card)
                    maps.append(lambda c=card, r=result: Picture.of_image(r, c, self.study.stage_title(c), sums[c]))  # type: ignore[misc]
            for evidence in shown.evidence.values() if shown is not None else ():
                if brief[1] and evidence.name not in wanted:
                    continue
                names.append(evidence.name)
                maps.append(lambda e=evidence: Picture.of_map(e))  # type: ignore[misc]
            for name in rectified:
                if not any(brief) or name in wanted:
                    names.append(name)
                    maps.append(lambda n=name: self._rectified_picture(n, image, recipe.calibration, job.cancelled))  # type: ignore[misc]
            for _, make in sorted(zip(names, maps, strict=True), key=lambda pair: pair[0] not in wanted):
                if job.cancelled():
                    return
                job.emit_part(("picture", make()))
            if brief[0]:
                give_back_memory()

        self._generation = self.worker.submit(self.tr("detecting"), work)

    def _rectified_picture(
        self, name: str, image: Image, calibration: Calibration | None, cancelled: Callable[[], bool]
    ) -> Picture:
        """A rectified picture of the image, made once: it depends on neither steps nor detectors. Raises `Cancelled`."""
        assert calibration is not None
        key = (image.identity, calibration.sha256, name)
        how = rectification(calibration, RECTIFIED[name])
        made = self.engine.cache.get(key, lambda: how.picture(image, cancelled))
        return rectified_picture(name, self.study.stage_title(name), made, how)

    def _arithmetics(self, stages: list[tuple[str, Image]]) -> dict[str, Arithmetic | None]:
        """How each stage is made of the one before, where it is a weighted sum."""
        found: dict[str, Arithmetic | None] = {}
        before, black = "source", self.study.image.black if self.study.image is not None else 0.0
        for card, result in stages:
            place = step_place(card)
            steps = self.study.steps_of(place[0]) if place is not None else []
            found[card] = None
            if place is not None and place[1] < len(steps):
                given = {k: v for k, v in steps[place[1]].items() if k not in ("step", "on")}
                step = step_of(str(steps[place[1]]["step"]))
                with contextlib.suppress(ParameterError):
                    tables = step.kernels(step.Parameters.make(given, step.name))
                    if tables:
                        found[card] = Arithmetic(before, tables, len(tables) > 1, str(given.get("border", "mirror")), black)
            before, black = card, result.black
        return found

    @Slot(int, object)
    def _part_done(self, generation: int, part: Any) -> None:
        what, *values = part
        if what == "message":
            self.message.emit(values[0])
            return
        # The image that was asked for last is shown, even if a run of the one before has been begun since.
        if generation != self._generation and not (what == "image" and generation == self._wanted_image):
            return
        if what == "image":
            self._reading = None
            self.image_read.emit(values[0], values[1])
        elif what == "detection":
            name, found = values
            self.study.detections[name] = found
            self.study.detection_changed.emit(name)
        elif what == "failures":
            for name in values[0]:
                self.study.detections.pop(name, None)
            self.failures = values[0]
            self.failures_changed.emit()
        elif what == "prepared":
            self.study.prepared, self.study.stages = values
        elif what == "time":
            self.took.emit(values[0])
        elif what == "picture":
            if values[0].name == "source" and self.study.image is not None:
                self._source = self.study.image, values[0]
            self.picture_made.emit(values[0])

    @Slot(int, object)
    def _work_failed(self, generation: int, error: Exception) -> None:
        known = isinstance(error, (FileError, ParameterError))
        reading = generation == self._reading
        if reading and not self._keep_image:
            self.study.close_image()
        self.failed.emit(str(error) if known else f"{type(error).__name__}: {error}")
        if reading:
            self._come_back()

    @Slot()
    def _came_to_rest(self) -> None:
        # An image that was given up brings nothing.
        if self._reading is not None and not self.worker.busy:
            self._come_back()

    def _come_back(self) -> None:
        """No image has come: what has changed meanwhile concerns the one that is there."""
        self._reading = None
        self._answer_due.start(0)
