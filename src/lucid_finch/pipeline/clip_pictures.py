"""The frames of the clips that a run writes: the picture with marks, and maps with one display range for the whole clip."""

from __future__ import annotations

from typing import Any

import numpy as np
from numpy.typing import NDArray

from lucid_finch.core.detection import MapKind
from lucid_finch.core.execution.engine import Run
from lucid_finch.core.viewing.display import display_range, shown
from lucid_finch.files.annotated import annotated_picture
from lucid_finch.pipeline.sinks import Outputs, clip_maps

Frame = tuple[MapKind, NDArray[Any]]
"""How the values of a frame are shown, and the values; bytes are shown as they are."""


def clip_pictures(run: Run, outputs: Outputs) -> dict[str, Frame]:
    """Frames by the name of their clip."""
    found: dict[str, Frame] = {}
    if "clip" in outputs.kinds:
        found["annotated"] = "grey", np.asarray(annotated_picture(run, factor=1))
    if "map-clip" in outputs.kinds:
        for detector, name in clip_maps(run, outputs):
            detection = run.detections[detector]
            if name == "prepared":
                found[f"{detector}.{name}"] = "grey", np.asarray(detection.task.image.pixels)
            elif name in detection.evidence:
                evidence = detection.evidence[name]
                found[f"{detector}.{name}"] = evidence.kind, np.asarray(evidence.values)
    return found


class Shown:
    """Makes 8-bit pictures of the frames of one clip; what is black and white is set by the first."""

    def __init__(self) -> None:
        self._span: tuple[float, float] | None = None

    def picture(self, frame: Frame) -> NDArray[np.uint8]:
        """(H, W) or (H, W, 3)."""
        kind, values = frame
        if values.dtype == np.uint8:
            return values
        if self._span is None:
            self._span = display_range(values if values.ndim == 2 else values[..., 1], kind)
        return shown(values, kind, *self._span)
