"""Marks of what was gained and lost against a kept result."""

from __future__ import annotations

from dataclasses import replace
from typing import Any

import numpy as np
from PySide6.QtGui import QColor

from lucid_finch.core.detection import Detection
from lucid_finch.desktop.canvas.pane import Marks
from lucid_finch.desktop.pages.kept import Comparison
from lucid_finch.desktop.toolkit.theme import GAIN_COLOUR, LOSS_COLOUR


def comparison_marks(comparison: Comparison) -> list[Marks]:
    """What was gained is drawn bold, what was lost dashed."""
    gained = _marks(comparison.now, comparison.gained, GAIN_COLOUR, False)
    lost = _marks(comparison.before, comparison.lost, LOSS_COLOUR, True)
    return [replace(gained, chosen=frozenset(range(len(comparison.gained)))), lost]


def _marks(found: Detection, rows: Any, colour: str, dashed: bool) -> Marks:
    chosen = np.asarray(rows, np.int64)
    table = found.findings
    x, y, number = (table[name][chosen] for name in ("x", "y", "id"))
    return replace(Marks.of(found.outlines.take(chosen), x, y, number, QColor(colour), dashed=dashed), nameless=True)
