"""Arrays as a text within a study: compressed, and read with care."""

from __future__ import annotations

import base64
import binascii
import io
import zipfile
from collections.abc import Mapping
from typing import Any

import numpy as np
from numpy.typing import NDArray

from tidal_lens.errors import StudyError

MOST_BYTES = 64_000_000  # of the arrays in one text
_BROKEN = "Numbers that the study holds cannot be read: {}."


def pack(arrays: Mapping[str, NDArray[Any]]) -> str:
    """Arrays by their names as one text."""
    made = io.BytesIO()
    np.savez_compressed(made, allow_pickle=False, **dict(arrays))
    return base64.b64encode(made.getvalue()).decode()


def unpack(text: str) -> dict[str, NDArray[Any]]:
    """Arrays by their names.

    Raises
    ------
    StudyError
        The text holds none, or more than a study should.
    """
    try:
        raw = base64.b64decode(text, validate=True)
        with zipfile.ZipFile(io.BytesIO(raw)) as archive:
            if sum(entry.file_size for entry in archive.infolist()) > MOST_BYTES:
                raise StudyError(_BROKEN.format("they are more than 64 MB"), "", "Delete the card.")
        with np.load(io.BytesIO(raw), allow_pickle=False) as found:
            return {name: np.asarray(found[name]) for name in found.files}
    except (binascii.Error, zipfile.BadZipFile, ValueError, OSError, EOFError, KeyError, NotImplementedError, RuntimeError) as error:
        raise StudyError(_BROKEN.format(str(error)[:200]), "", "Delete the card, or open an older copy of the study.") from error
