"""Pixels as Qt has them."""

from __future__ import annotations

import numpy as np
from numpy.typing import NDArray
from PyQt6.QtGui import QImage


def image_over(pixels: NDArray[np.uint8]) -> QImage:
    """A picture (h, w, 4), opaque and contiguous, as an image that is those very pixels: who shows it holds them; nobody writes them."""
    height, width = pixels.shape[:2]
    image: QImage = QImage(pixels.data, width, height, 4 * width, QImage.Format.Format_RGBX8888)  # type: ignore[call-overload]
    return image


def image_of(pixels: NDArray[np.uint8]) -> QImage:
    """A picture (h, w, 4) as an image of its own, opaque: Qt relies on the fourth number when it draws one faintly."""
    height, width = pixels.shape[:2]
    image = QImage(width, height, QImage.Format.Format_RGBX8888)
    room = image.bits()
    assert room is not None
    room.setsize(image.sizeInBytes())
    own = np.frombuffer(room, np.uint8).reshape(height, width, 4)  # type: ignore[call-overload]
    own[:] = pixels
    own[..., 3] = 255
    return image
