"""Images from numbers that were typed or pasted: small examples to be worked out on paper."""

from __future__ import annotations

import numpy as np

from lucid_finch.core.errors import ParameterError
from lucid_finch.core.image import Image
from lucid_finch.core.parameter_types.structures import rows_of_numbers


def image_of_numbers(text: str, name: str = "numbers") -> Image:
    """A grey image from rows of numbers: columns parted by spaces, commas or tabs, rows by new lines or semicolons.

    Whole numbers from 0 to 255 give 8 bit, up to 65535 16 bit, others floats over their own range. Raises `ParameterError`.
    """
    rows = rows_of_numbers(text)
    if isinstance(rows, str) or not rows or not rows[0]:
        raise ParameterError(f"numbers: rows of numbers are needed, such as 1 2 3; 4 5 6, not {text.strip()[:40]!r}")
    widths = {len(row) for row in rows}
    if len(widths) > 1:
        raise ParameterError(f"numbers: every row needs as many numbers as the others; there are rows of {sorted(widths)}")
    values = np.array(rows, np.float64)
    if not np.isfinite(values).all():
        raise ParameterError("numbers: every number must be finite")
    whole = bool((values % 1 == 0).all()) and values.min() >= 0
    if whole and values.max() <= 65535:
        return Image.from_array(values.astype(np.uint8 if values.max() <= 255 else np.uint16), name=name)
    low, high = float(values.min()), float(values.max())
    return Image.from_array(values.astype(np.float32), name=name, value_range=(low, high if high > low else low + 1.0))
