"""Numbers the objects of a clip or a camera through its frames, for the detectors of a recipe that ask for it."""

from __future__ import annotations

from dataclasses import replace

import numpy as np

from lucid_finch.core.detection import Detection
from lucid_finch.core.execution.engine import Run
from lucid_finch.core.inspection.tracking import COLUMN, SIZES, Tracker
from lucid_finch.core.table import Findings
from lucid_finch.pipeline.run import Done


class RunTracker:
    """Adds the column `track` to the detectors of a recipe that ask for it, frame by frame."""

    def __init__(self) -> None:
        self._trackers: dict[str, Tracker] = {}
        self._source = ""

    def followed(self, done: Done, number: int) -> Done:
        """What an image gave, the `number`-th of the run; numbers begin anew with another clip."""
        if done.run is None:
            return done
        place = done.place
        time = place.time if place.time is not None else float(number)
        return replace(done, run=self._tracked(done.run, str(place.path) if place.is_frame else "", time))

    def _tracked(self, run: Run, source: str, time: float) -> Run:
        if source != self._source:
            self._trackers, self._source = {}, source
        wanted = [entry.name for entry in run.recipe.running if entry.track and entry.name in run.detections]
        if not wanted:
            return run
        return replace(
            run, detections={**run.detections, **{name: self._with_track(run.detections[name], time) for name in wanted}}
        )

    def _with_track(self, detection: Detection, time: float) -> Detection:
        table = detection.findings
        size = next((np.asarray(table[name], float) for name in SIZES if name in table), np.zeros(len(table)))
        at = np.stack([np.asarray(table["x"], float), np.asarray(table["y"], float)], axis=1)
        numbers = self._trackers.setdefault(detection.name, Tracker()).numbers(at, np.nan_to_num(size), time)
        columns = {name: table.stored(name) for name in table.columns} | {COLUMN.name: numbers}
        return replace(detection, findings=Findings(columns, (*table.declared.values(), COLUMN)))
