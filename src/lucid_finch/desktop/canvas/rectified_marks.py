"""Marks of the image on its rectified pictures."""

from __future__ import annotations

from collections.abc import Sequence
from dataclasses import replace

import numpy as np

from lucid_finch.core.inspection.rectifying import Rectification
from lucid_finch.desktop.canvas.pane import Marks


def on_rectified(marks: Sequence[Marks], name: str, how: Rectification) -> list[Marks]:
    """The same marks on a rectified picture."""
    found = []
    for mark in marks:
        points = np.stack(how.from_source(mark.points[:, 0], mark.points[:, 1]), axis=1)
        at = np.stack(how.from_source(mark.at[:, 0], mark.at[:, 1]), axis=1)
        # What lies beyond the horizon is nowhere.
        found.append(
            replace(
                mark, points=np.require(np.nan_to_num(points, nan=-1e6), np.float32, "C"), at=np.nan_to_num(at, nan=-1e6),
                only_on=name,
            )
        )  # fmt: skip
    return found
