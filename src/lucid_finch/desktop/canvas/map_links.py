"""Links a map of votes with the image: where findings peak in it, which points voted for a cell, where one point voted."""

from __future__ import annotations

from dataclasses import replace

import numpy as np
from PySide6.QtGui import QColor

from lucid_finch.core.detection import Array, Detection, Outlines
from lucid_finch.desktop.canvas.pane import Marks
from lucid_finch.desktop.canvas.picture import Picture

_ARM = 4.0
"""px of a map between the middle of a peak's cross and its ends."""
_VOTER_COLOUR = QColor("#f2e34c")
_CURVE_COLOUR = QColor("#7fd1ff")


def voting_maps(detection: Detection) -> list[str]:
    """Names of the maps of a detection in which there are votes."""
    work = detection.work
    return [name for name in detection.evidence if work.detector.peaks(work, name) is not None]


def peak_marks(detection: Detection, colour: QColor) -> list[Marks]:
    """A cross with its number for every finding, on each map of votes."""
    found = []
    for name in voting_maps(detection):
        places = _shown(detection, name, np.asarray(detection.work.detector.peaks(detection.work, name), float))
        # One stroke there and back along both arms.
        arms = np.array([[-1, 0], [1, 0], [0, 0], [0, -1], [0, 1]]) * _ARM
        outlines = Outlines.of([place + arms for place in places])
        marks = Marks.of(outlines, places[:, 0], places[:, 1] - 2 * _ARM, detection.findings["id"], colour)
        found.append(replace(marks, only_on=name))
    return found


def cell_marks(detection: Detection, picture: Picture, x: float, y: float) -> tuple[int, list[Marks]] | None:
    """The candidate (or -1) behind the cell at a place of a map of votes, and the points that voted for it; None elsewhere."""
    work = detection.work
    if picture.name not in voting_maps(detection):
        return None
    votes = work.detector.votes_at(work, picture.name, *picture.frame.from_source(x, y))
    if votes is None:
        return None
    empty = Outlines(np.empty((0, 2)), np.zeros(1, np.int64), np.zeros(0, bool))
    p = votes.points
    marks = Marks.of(empty, p[:, 0], p[:, 1], np.zeros(len(p)), _VOTER_COLOUR)
    return votes.candidate, [replace(marks, nameless=True, passing=True)]


def curve_marks(detection: Detection, x: float, y: float) -> list[Marks]:
    """Where the edge point nearest to a place of the image has voted, on each map of votes."""
    work = detection.work
    found = []
    for name in voting_maps(detection):
        lines = [_shown(detection, name, line) for line in work.detector.votes_of(work, name, x, y)]
        if lines:
            middles = np.array([line[len(line) // 2] for line in lines])
            marks = Marks.of(Outlines.of(lines), middles[:, 0], middles[:, 1], np.zeros(len(lines)), _CURVE_COLOUR)
            found.append(replace(marks, nameless=True, passing=True, only_on=name))
    return found


def _shown(detection: Detection, name: str, places: Array) -> Array:
    """Columns and rows of a map as the places at which a pane shows them."""
    return np.stack(detection.evidence[name].frame.to_source(places[:, 0], places[:, 1]), axis=1)
