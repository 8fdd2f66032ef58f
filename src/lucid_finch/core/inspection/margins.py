"""How little would change what is found: the weakest margin of an image, by which long runs are sorted."""

from __future__ import annotations

import numpy as np

from lucid_finch.core.detection import Detection
from lucid_finch.core.judging import Outcome

_NONE = 1e-6
"""A limit as small as that limits nothing."""


def weakest_margin(detection: Detection) -> float:
    """The least share of a limit by which a finding passes it, or a near miss falls short of its own; NaN where there is neither.

    0.02: a change of a limit by 2 percent would lose a finding or admit another one.
    """
    task = detection.task
    judgement, columns = task.judgement, task.candidates.columns if task.candidates is not None else {}
    if judgement is None:
        return float("nan")
    found, near = judgement.found, np.asarray(task.near_rows if task.near_rows is not None else [], np.int64)
    near = near[judgement.outcome[near] == Outcome.FAILED]
    least = [np.inf]
    for number, limit in enumerate(judgement.limits):
        if limit.admits is not None or abs(limit.bound) < _NONE:
            continue
        short = np.asarray(limit.shortfall(columns[limit.criterion]), float) / abs(limit.bound)
        least += np.abs(short[found]).tolist()
        least += short[near[judgement.failed[near] == number]].tolist()
    finite = [value for value in least if np.isfinite(value)]
    return round(float(min(finite)), 6) if finite else float("nan")
