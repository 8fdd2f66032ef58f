"""The chance that a normal deviate exceeds a value, as a logarithm, since it soon underflows."""

from __future__ import annotations

import math
from typing import Any

import numpy as np
from numpy.typing import NDArray


def log_tail(z: Any) -> NDArray[np.float64]:
    """log10 of the chance that a normal deviate exceeds z."""
    from scipy import special  # here, since loading it takes a tenth of a second

    return np.asarray(special.log_ndtr(-np.asarray(z, float)) / math.log(10))
