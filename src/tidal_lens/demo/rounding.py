"""Numbers that pack well."""

from __future__ import annotations

import numpy as np
from numpy.typing import NDArray


def rounded(values: NDArray[np.float64], bits: int) -> NDArray[np.float32]:
    """Single precision with the last bits of the mantissa zero: they are below the solver's error and do not pack."""
    raw = np.ascontiguousarray(values, np.float32).view(np.uint32)
    drop = 23 - bits
    out = ((raw + (1 << (drop - 1))) >> drop) << drop
    return out.view(np.float32)
