"""The detectors, one module a kind, and the table that names them."""

from __future__ import annotations

from lucid_finch.core.detector import Detector
from lucid_finch.core.detectors.blobs import Blobs
from lucid_finch.core.detectors.circles import Circles
from lucid_finch.core.detectors.contours import Contours
from lucid_finch.core.detectors.corners import Corners
from lucid_finch.core.detectors.edge_scan import EdgeScan
from lucid_finch.core.detectors.edges import Edges
from lucid_finch.core.detectors.ellipses import Ellipses
from lucid_finch.core.detectors.faces import Faces
from lucid_finch.core.detectors.lines import Lines
from lucid_finch.core.detectors.templates import Templates
from lucid_finch.core.errors import ParameterError, nearest

KINDS: dict[str, type[Detector]] = {
    detector.kind: detector
    for detector in (Edges, EdgeScan, Contours, Lines, Circles, Ellipses, Corners, Blobs, Templates, Faces)
}
"""Every kind of detector by name."""
Blobs.outliner = Contours()


def detector_of(kind: str) -> Detector:
    """The detector of that kind. Raises `ParameterError`."""
    if kind not in KINDS:
        raise ParameterError(f'kind: "{kind}" is not known{nearest(kind, KINDS)}; there are: {", ".join(KINDS)}', "kind")
    return KINDS[kind]()
