"""Marks of merged findings, with the geometry of the detectors that they come from."""

from __future__ import annotations

from collections.abc import Mapping
from dataclasses import replace

import numpy as np
from PySide6.QtGui import QColor

from lucid_finch.core.detection import Detection
from lucid_finch.core.execution.combining import Combined
from lucid_finch.desktop.canvas.pane import Marks


def merged_marks(merged: Combined, detections: Mapping[str, Detection], colours: Mapping[str, QColor]) -> list[Marks]:
    """Marks of the merged findings, in the colour of the detector that each is from, with the numbers of the merged table."""
    found = []
    for name in merged.of:
        detection = detections.get(name)
        if detection is None:
            continue
        mine = merged.findings["detector"] == name
        rows = np.searchsorted(np.sort(detection.findings["id"]), merged.findings["number"][mine])
        rows = np.argsort(detection.findings["id"], kind="stable")[rows]
        outlines = detection.outlines.take(rows)
        x, y = detection.findings["x"][rows], detection.findings["y"][rows]
        found.append(Marks.of(outlines, x, y, merged.findings["id"][mine], colours[name]))
    return found


def one_mark(detection: Detection, rows: list[int], colour: QColor) -> Marks:
    """Findings drawn bolder over the merged ones, until others are chosen."""
    some = np.array(rows, np.int64)
    findings = detection.findings
    marks = Marks.of(detection.outlines.take(some), findings["x"][some], findings["y"][some], findings["id"][some], colour)
    return replace(marks, chosen=frozenset(range(len(rows))), nameless=True, passing=True)
