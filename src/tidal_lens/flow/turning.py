"""How blocks of a result turn, as a file states it."""

from __future__ import annotations

from collections.abc import Sequence
from dataclasses import dataclass

import numpy as np

Triple = tuple[float, float, float]
_SAME = 1e-6  # of the rate: blocks that turn as nearly alike turn as one


@dataclass(frozen=True)
class Turning:
    """A frame that turns.

    Attributes
    ----------
    point, axis : tuple of float
        A point of the axis, and its direction, of length one.
    rate : float
        Right-handed about it [rad/s].
    blocks : tuple of str
        That turn so, the others stand; none for all.
    """

    point: Triple
    axis: Triple
    rate: float
    blocks: tuple[str, ...] = ()


def stated_turning(stated: Sequence[tuple[str, tuple[float, ...]]]) -> tuple[Turning | None, str]:
    """What blocks, by name with a centre and a rate vector in six numbers or nothing, turn as; and what of that is left out, in words."""
    told = [(name, np.array(numbers, np.float64)) for name, numbers in stated if len(numbers) == 6 and np.isfinite(numbers).all()]
    moving = [(name, v) for name, v in told if np.linalg.norm(v[3:]) > 0.0]
    if not moving:
        return None, ""
    first = moving[0][1]
    rate = float(np.linalg.norm(first[3:]))
    alike = [name for name, v in moving if float(np.linalg.norm(v[3:] - first[3:])) <= _SAME * rate]
    others = [name for name, _ in moving if name not in alike]
    (px, py, pz), (ax, ay, az) = first[:3].tolist(), (first[3:] / rate).tolist()
    why = f"{', '.join(others[:3])} turn otherwise than {alike[0]}: they are taken to stand." if others else ""
    return Turning((px, py, pz), (ax, ay, az), rate, () if len(alike) == len(stated) else tuple(alike)), why
