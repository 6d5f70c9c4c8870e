"""How blocks of a result turn, as a file states it."""

from __future__ import annotations

from collections.abc import Sequence
from dataclasses import dataclass, replace

import numpy as np
from numpy.typing import NDArray

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
    more : tuple of Turning
        Frames of blocks that turn otherwise.
    """

    point: Triple
    axis: Triple
    rate: float
    blocks: tuple[str, ...] = ()
    more: tuple[Turning, ...] = ()

    def of_block(self, name: str) -> Turning | None:
        """The frame that a block turns in; None for one that stands."""
        return next((one for one in (*self.more, self) if name in one.blocks or (one is self and not self.blocks)), None)


def stated_turning(stated: Sequence[tuple[str, tuple[float, ...]]]) -> Turning | None:
    """What blocks, by name with a centre and a rate vector in six numbers or nothing, turn as; None where none does."""
    told = [(name, np.array(numbers, np.float64)) for name, numbers in stated if len(numbers) == 6 and np.isfinite(numbers).all()]
    groups: list[tuple[NDArray[np.float64], list[str]]] = []
    for name, own in told:
        rate = float(np.linalg.norm(own[3:]))
        if rate == 0.0:
            continue
        alike = next((names for other, names in groups if _alike(own, other, rate)), None)
        if alike is None:
            groups.append((own, [name]))
        else:
            alike.append(name)
    if not groups:
        return None
    first, *others = (_frame(own, tuple(names)) for own, names in groups)
    whole = len(groups) == 1 and len(groups[0][1]) == len(stated)
    return replace(first, blocks=() if whole else first.blocks, more=tuple(others))


def _alike(one: NDArray[np.float64], two: NDArray[np.float64], rate: float) -> bool:
    """Whether two blocks turn as one: at the same rate, about points of one axis."""
    apart = one[:3] - two[:3]
    along = one[3:] / rate
    off = float(np.linalg.norm(apart - (apart @ along) * along))
    return float(np.linalg.norm(one[3:] - two[3:])) <= _SAME * rate and off <= _SAME * max(1.0, float(np.abs(one[:3]).max()))


def _frame(numbers: NDArray[np.float64], blocks: tuple[str, ...]) -> Turning:
    rate = float(np.linalg.norm(numbers[3:]))
    (px, py, pz), (ax, ay, az) = numbers[:3].tolist(), (numbers[3:] / rate).tolist()
    return Turning((px, py, pz), (ax, ay, az), rate, blocks)
