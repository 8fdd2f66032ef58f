"""What the clipboard holds as an image: a picture, or rows of numbers."""

from __future__ import annotations

import numpy as np
from PySide6.QtGui import QGuiApplication, QImage

from lucid_finch.core.errors import ParameterError
from lucid_finch.core.image import Image
from lucid_finch.files.typed import image_of_numbers


def pasted_image() -> Image:
    """The picture of the clipboard, or its numbers. Raises `ParameterError` where there is neither."""
    clipboard = QGuiApplication.clipboard()
    data = clipboard.mimeData()
    if data is not None and data.hasImage():
        picture = clipboard.image().convertToFormat(QImage.Format.Format_RGB888)
        width, height = picture.width(), picture.height()
        rows = np.frombuffer(picture.constBits(), np.uint8).reshape(height, picture.bytesPerLine())
        pixels = rows[:, : 3 * width].reshape(height, width, 3)
        grey = bool((pixels[..., 0] == pixels[..., 1]).all() and (pixels[..., 0] == pixels[..., 2]).all())
        return Image.from_array(np.array(pixels[..., 0] if grey else pixels), name="pasted")
    text = clipboard.text()
    if not text.strip():
        raise ParameterError("the clipboard holds neither a picture nor numbers")
    return image_of_numbers(text, "pasted numbers")
