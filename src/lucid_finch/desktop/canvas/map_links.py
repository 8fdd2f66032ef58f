"""Links an accumulator with the image: peaks of the findings, the points that voted for a cell, the votes of one point."""

from __future__ import annotations

from dataclasses import replace

import numpy as np
from PySide6.QtGui import QColor

from lucid_finch.core.detection import NO_OUTLINES, Detection, EvidenceMap, Outlines
from lucid_finch.core.table import Array
from lucid_finch.desktop.canvas.pane import Marks
from lucid_finch.desktop.study.picture import Picture
from lucid_finch.desktop.toolkit.theme import CURVE_COLOUR, VOTE_COLOUR

_ARM = 4.0
"""px of a map between the middle of a peak's cross and its ends."""


def _linked(detection: Detection) -> list[EvidenceMap]:
    return [evidence for evidence in detection.evidence.values() if evidence.links is not None]


def peak_marks(detection: Detection, colour: QColor) -> list[Marks]:
    """A cross with its number for every finding, on each accumulator."""
    found = []
    for evidence in _linked(detection):
        assert evidence.links is not None
        places = _shown(evidence, np.asarray(evidence.links.peaks(), float))
        # One stroke there and back along both arms.
        arms = np.array([[-1, 0], [1, 0], [0, 0], [0, -1], [0, 1]]) * _ARM
        outlines = Outlines.of([place + arms for place in places])
        marks = Marks.of(outlines, places[:, 0], places[:, 1] - 2 * _ARM, detection.findings["id"], colour)
        found.append(replace(marks, only_on=evidence.name))
    return found


def near_peak(detection: Detection, picture: Picture, x: float, y: float, within: float) -> tuple[float, float]:
    """The peak of a finding close to a place of an accumulator, else the place."""
    links = detection.evidence[picture.name].links if picture.name in detection.evidence else None
    if links is None:
        return x, y
    peaks = _shown(detection.evidence[picture.name], np.asarray(links.peaks(), float).reshape(-1, 2))
    far = np.hypot(peaks[:, 0] - x, peaks[:, 1] - y)
    if not len(far) or far.min() > within:
        return x, y
    nearest = peaks[int(np.argmin(far))]
    return float(nearest[0]), float(nearest[1])


def cell_marks(detection: Detection, picture: Picture, x: float, y: float) -> tuple[int, list[Marks]] | None:
    """The candidate (or -1) behind the cell at a place of an accumulator, and the points that voted for it; None elsewhere."""
    links = detection.evidence[picture.name].links if picture.name in detection.evidence else None
    if links is None:
        return None
    votes = links.votes_at(*picture.frame.from_source(x, y))
    p = votes.points
    marks = Marks.of(NO_OUTLINES, p[:, 0], p[:, 1], np.zeros(len(p)), QColor(VOTE_COLOUR))
    return votes.candidate, [replace(marks, nameless=True, passing=True)]


def curve_marks(detection: Detection, x: float, y: float) -> list[Marks]:
    """The votes of the edge point nearest to a place of the image, on each accumulator."""
    found = []
    for evidence in _linked(detection):
        assert evidence.links is not None
        lines = [_shown(evidence, line) for line in evidence.links.votes_of(x, y)]
        if lines:
            middles = np.array([line[len(line) // 2] for line in lines])
            marks = Marks.of(Outlines.of(lines), middles[:, 0], middles[:, 1], np.zeros(len(lines)), QColor(CURVE_COLOUR))
            found.append(replace(marks, nameless=True, passing=True, only_on=evidence.name))
    return found


def _shown(evidence: EvidenceMap, places: Array) -> Array:
    """Columns and rows of a map as the places at which a pane shows them."""
    return np.stack(evidence.frame.to_source(places[:, 0], places[:, 1]), axis=1)
