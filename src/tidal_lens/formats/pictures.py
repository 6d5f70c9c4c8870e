"""Picture files: read into pixels, whatever is in them distrusted."""

from __future__ import annotations

import warnings
from functools import lru_cache
from pathlib import Path

import numpy as np
from numpy.typing import NDArray

from tidal_lens.errors import FileError

ENDINGS = ("png", "jpg", "jpeg", "webp", "gif")
_LARGEST, _KEPT = 60_000_000, 2400  # pixels that are read at all; across and up that are kept


def read_picture(path: Path) -> NDArray[np.uint8]:
    """Pixels (h, w, 4) of a PNG, JPEG, WebP or GIF file; large ones are made smaller.

    Raises
    ------
    FileError
        It is missing, is no such picture, or is larger than is believed.
    """
    try:
        with warnings.catch_warnings():
            warnings.simplefilter("error")
            from PIL import Image  # only who reads a picture needs it

            with Image.open(path, formats=("PNG", "JPEG", "WEBP", "GIF")) as image:
                _check(image.width, image.height, path)
                image.thumbnail((_KEPT, _KEPT))
                return np.asarray(image.convert("RGBA")).copy()
    except FileError:
        raise
    except Exception as why:
        raise FileError(f"The picture cannot be read: {str(why)[:120] or type(why).__name__}.", str(path),
                        "Choose a PNG, JPEG, WebP or GIF file.") from why


def _check(wide: int, tall: int, path: Path) -> None:
    if wide * tall > _LARGEST:
        raise FileError(f"A picture of {wide} × {tall} pixels is not read.", str(path), "Make it smaller.")


def kept_picture(path: str) -> NDArray[np.uint8] | None:
    """Pixels of a picture, read once as long as the file does not change; None where it cannot be read."""
    try:
        stamp = Path(path).stat().st_mtime_ns
    except OSError:
        return None
    return _read_once(path, stamp)


@lru_cache(maxsize=16)
def _read_once(path: str, _stamp: int) -> NDArray[np.uint8] | None:
    try:
        return read_picture(Path(path))
    except FileError:
        return None
