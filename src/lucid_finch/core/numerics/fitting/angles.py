"""Directions to a hundred-thousandth of a radian in a tenth of the time of an exact arc tangent: to file points by them."""

from __future__ import annotations

import math

from lucid_finch.core.numerics.runtime.compiling import helper


@helper
def fast_atan2(y, x):  # type: ignore[no-untyped-def]
    """atan2 within 1e-5 rad (Abramowitz and Stegun, Handbook of Mathematical Functions, 4.4.49); 0 for (0, 0)."""
    wide, tall = abs(x), abs(y)
    t = min(wide, tall) / max(max(wide, tall), 1e-300)
    q = t * t
    turn = t * (0.9998660 + q * (-0.3302995 + q * (0.1801410 + q * (-0.0851330 + q * 0.0208351))))
    turn = 0.5 * math.pi - turn if tall > wide else turn
    turn = math.pi - turn if x < 0 else turn
    return -turn if y < 0 else turn


@helper
def normalized_angle(y, x):  # type: ignore[no-untyped-def]
    """The direction of (x, y) as a share of a full turn in [0, 1], within 2e-6."""
    turn = fast_atan2(y, x) * (0.5 / math.pi)
    return turn + 1.0 if turn < 0 else turn
