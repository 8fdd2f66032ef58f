"""Residuals of a calibration as arrows on the image."""

from __future__ import annotations

from dataclasses import replace

import numpy as np
from PySide6.QtGui import QColor

from lucid_finch.core.detection import Outlines
from lucid_finch.core.inspection.calibration import View
from lucid_finch.core.viewing.arrows import residual_arrows
from lucid_finch.desktop.canvas.pane import Marks
from lucid_finch.desktop.toolkit.theme import GAIN_COLOUR, LOSS_COLOUR


def arrow_marks(view: View, times: float) -> list[Marks]:
    """An arrow a point, `times` its residual long; points that were left out in another colour and dashed."""
    arrows, used = residual_arrows(view, times), np.asarray(view.used, bool)
    found = []
    for kept, colour in ((used, GAIN_COLOUR), (~used, LOSS_COLOUR)):
        lines = [arrows[n] for n in np.flatnonzero(kept)]
        if lines:
            at = np.array([line[0] for line in lines])
            marks = Marks.of(Outlines.of(lines), at[:, 0], at[:, 1], np.zeros(len(at)), QColor(colour), colour == LOSS_COLOUR)
            found.append(replace(marks, nameless=True))
    return found
