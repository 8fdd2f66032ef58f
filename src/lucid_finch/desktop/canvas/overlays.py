"""Puts marks on the panes: findings, near misses, scan lines, fits, votes, merged findings, and what is selected of them."""

from __future__ import annotations

from collections.abc import Callable, Sequence
from dataclasses import replace

import numpy as np
from PySide6.QtCore import QObject
from PySide6.QtGui import QColor

from lucid_finch.core.detection import Detection, Outlines, Overlay
from lucid_finch.core.execution.combining import Combined
from lucid_finch.core.inspection.rectifying import Rectification, rectification
from lucid_finch.core.table import Findings
from lucid_finch.core.viewing.mark_colours import mark_colours
from lucid_finch.desktop.canvas.map_links import cell_marks, curve_marks, near_peak, peak_marks
from lucid_finch.desktop.canvas.merged_marks import merged_marks, one_mark
from lucid_finch.desktop.canvas.pane import Marks
from lucid_finch.desktop.canvas.panes import PaneFrame, PaneGroup
from lucid_finch.desktop.canvas.rectified_marks import on_rectified
from lucid_finch.desktop.study.rectified_pictures import RECTIFIED
from lucid_finch.desktop.study.selection import Selection
from lucid_finch.desktop.study.study import Study
from lucid_finch.desktop.toolkit.theme import FIT_COLOUR, NEAR_COLOUR, SCAN_COLOUR


class Overlays(QObject):
    """Follows study and selection; `merged` gives the merged findings if their page is in front."""

    def __init__(self, study: Study, selection: Selection, panes: PaneGroup, merged: Callable[[], Combined | None]) -> None:
        super().__init__(panes)
        self.study, self.selection, self.panes, self.merged = study, selection, panes, merged
        self.colour_by = ""
        """Column that colours the marks of the detector in sight."""
        self._own: list[Marks] = []
        """Findings and near misses of the detector in sight."""
        self._peaks: list[Marks] = []
        """The findings on accumulators."""
        self.standing: list[Marks] = []
        """Marks that stay until they are replaced, such as what was gained and lost."""
        self.arrows: list[Marks] = []
        """Residuals of a calibration that is looked at."""
        self._flat: list[Marks] = []
        """The findings and near misses on rectified pictures in sight."""
        self._votes: list[Marks] = []
        """What voted for the place that was clicked last."""
        selection.changed.connect(self.show_selected)

    def show(self, extra: Sequence[Marks] = ()) -> None:
        """Show all marks of the current results, and `extra` ones."""
        study = self.study
        marks: list[Marks] = []
        self._own, self._peaks, self._votes = [], [], []
        merged = self.merged()
        colours = {name: QColor(text) for name, text in mark_colours(study.recipe).items()}
        if merged is not None:
            marks += merged_marks(merged, study.detections, colours)
        for entry in study.recipe.detectors:
            found = study.detections.get(entry.name)
            if found is None:
                continue
            in_sight = entry.name == study.detector
            marks += [_overlay_marks(o) for o in found.overlays if in_sight or o.role == "fit"]
            own = self._found_marks(found, colours[entry.name], in_sight)
            if in_sight:
                near = found.near_misses
                rejected = Marks.of(
                    found.near_outlines, near["x"], near["y"], np.arange(len(near)), QColor(NEAR_COLOUR), dashed=True
                )  # fmt: skip
                self._own = [own, rejected]
                self._peaks = peak_marks(found, colours[entry.name])
                marks += [own, rejected, *self._peaks] if merged is None else []
            elif merged is None or entry.name not in merged.of:
                marks.append(own)
        row = self.selection.merged_row(study.detector, study.detection) if merged is not None else None
        if row is not None and study.detection is not None:
            marks.append(one_mark(study.detection, [row], self._own[0].colour))
        if self.arrows:
            # Findings would hide them.
            marks, self._own, self._peaks = [*self.arrows], [], []
        marks += [*self.standing, *extra]
        self._flat = [flat for rectified in self._rectified() for flat in on_rectified(self._own, *rectified)]
        others = [mark for mark in marks if not mark.only_on and all(mark is not own for own in self._own)]
        marks += [flat for rectified in self._rectified() for flat in on_rectified(others, *rectified)]
        self.panes.show_marks([*marks, *self._flat])

    def _rectified(self) -> list[tuple[str, Rectification]]:
        """The rectified pictures in sight and how they belong to the image."""
        calibration = self.study.calibration
        if calibration is None:
            return []
        shown = {frame.map_name for frame in self.panes.shown}
        return [(name, rectification(calibration, above)) for name, above in RECTIFIED.items() if name in shown]

    def _found_marks(self, found: Detection, colour: QColor, in_sight: bool) -> Marks:
        table = found.findings
        apart = next((c.name for c in table.declared.values() if c.sets_apart), "")
        outlines = found.outlines if not apart or len(found.outlines) else _shapes_apart(table, apart)
        own = Marks.of(outlines, table["x"], table["y"], table["id"], colour)
        if outlines is not found.outlines:
            # Numbers beside the shapes, which they would hide.
            own = replace(own, at=np.stack([table["x"], table["y"] - 9.0], axis=1))
        if found.places is not None:
            own = replace(own, at=np.asarray(found.places, float), beside=found.task.detector.numbers_beside)
        if found.named_by:
            own = replace(own, names=tuple(table[found.named_by].tolist()))
        if in_sight and self.colour_by in table.declared:
            own = own.coloured(table.stored(self.colour_by), table.declared[self.colour_by])
        return own

    def set_colour_by(self, column: str) -> None:
        """Colour the marks of the detector in sight by a column; "" for one colour."""
        self.colour_by = column
        self.show()

    def show_selected(self, centre: bool = False) -> None:
        """Draw the selected marks bolder, and bring them into view if asked to."""
        if len(self._own) != 2:
            return
        found, near = self.selection.found, self.selection.near
        marks = [replace(m, chosen=frozenset(rows)) for m, rows in zip(self._own, (found, near), strict=True)]
        marks += [replace(m, chosen=frozenset(found)) for m in self._peaks]
        # Two of each picture: findings, then near misses.
        marks += [replace(m, chosen=frozenset((found, near)[n % 2])) for n, m in enumerate(self._flat)]
        if self.merged() is not None:
            detection = self.study.detection
            marks = [one_mark(detection, list(found), self._own[0].colour)] if detection is not None and found else []
        known = {id(m.points) for m in marks}
        others = [m for m in self.panes.frames[0].pane.marks if id(m.points) not in known and not m.passing]
        self.panes.show_marks([*others, *marks, *self._votes])
        box = self._own[0].box(list(found)) if found else self._own[1].box(list(near))
        if centre and box is not None:
            # Maps with axes of their own mark the place, and stay where they are.
            for frame in self.panes.shown:
                if not frame.pane.apart:
                    frame.pane.bring_into_sight(box)

    def at(self, frame: PaneFrame, x: float, y: float) -> tuple[int, int] | None:
        """Rows of the finding and of the near miss (or -1) at a place of a pane: a mark of the image, or the one behind a cell
        of an accumulator. None where nothing can be selected."""
        within = max(6 / frame.view.scale, 1.0)
        detection, picture = self.study.detection, frame.pane.picture
        if len(self._own) != 2 or detection is None or picture is None:
            return None
        for name, rectified in self._rectified():
            if picture.name == name:
                u, v = (float(w) for w in rectified.to_source(x, y))
                near = within * rectified.step if not rectified.from_above else within
                return self._own[0].nearest(u, v, near), self._own[1].nearest(u, v, near)
        cell = cell_marks(detection, picture, *near_peak(detection, picture, x, y, within))
        if cell is not None:
            candidate, self._votes = cell
            rows = (detection.task.rows, detection.task.near_rows)
            found, near = (next(iter(np.flatnonzero(r == candidate).tolist()), -1) for r in rows)
            return found, near
        if picture.axes is not None:
            return None
        self._votes = curve_marks(detection, x, y)
        return self._own[0].nearest(x, y, within), self._own[1].nearest(x, y, within)


_CROSS = np.array([[-1, 0], [1, 0], [0, 0], [0, -1], [0, 1]], float)
_DIAMOND = np.array([[-1, 0], [0, -1], [1, 0], [0, 1], [-1, 0]], float)


def _shapes_apart(table: Findings, flag: str) -> Outlines:
    """Crosses for rows whose flag is set, larger diamonds for the others: shapes, so that colour is not needed."""
    centre = np.stack([table["x"], table["y"]], axis=1)
    return Outlines.of([c + (2.5 * _CROSS if on else 4.0 * _DIAMOND) for c, on in zip(centre, table[flag], strict=True)])


def _overlay_marks(overlay: Overlay) -> Marks:
    """Scan lines, named at their starts, or a fit, at its middle."""
    first = overlay.role == "scan"
    at = np.array([line[0 if first else len(line) // 2] for line in overlay.lines]).reshape(-1, 2)
    colour = QColor(SCAN_COLOUR if first else FIT_COLOUR)
    marks = Marks.of(Outlines.of(overlay.lines), at[:, 0], at[:, 1], np.zeros(len(at)), colour)
    return replace(marks, nameless=True)
