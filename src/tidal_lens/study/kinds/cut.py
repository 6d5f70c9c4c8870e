"""What all cuts through cells have in common: the blocks that they are of."""

from __future__ import annotations

from collections.abc import Callable
from typing import Annotated

import numpy as np
from pydantic import Field

from tidal_lens.cutting.surface import Surface, join
from tidal_lens.errors import StudyError
from tidal_lens.flow.case import Flow
from tidal_lens.flow.periodic import moved
from tidal_lens.sampling.mesh import TurnedStencil
from tidal_lens.study.kinds.kind import See, Shape, Vec
from tidal_lens.study.value import Name

Blocks = Annotated[tuple[Name, ...], Field(max_length=10_000)]


def through_passages(see: See, cut: Callable[[Vec, Vec], Surface], point: Vec, normal: Vec) -> tuple[Surface, bool]:
    """A plane cut through all passages that are shown, and whether there are several.

    Each is cut by the plane as it stands to it, and what comes of that is brought to where the passage stands.

    Parameters
    ----------
    see : See
        What is seen.
    cut : callable
        Cuts the flow by a plane through a point, at right angles to a direction.
    point, normal : ndarray, shape (3,)
        The plane.
    """
    periodic = see.periodic if see.shown > 1 else None
    axial = periodic is not None and bool(np.allclose(periodic.move[:3, :3] @ normal, normal, atol=1e-9))
    if periodic is None or axial:  # copies are the same then
        return cut(point, normal), False
    parts = []
    for number in range(see.shown):
        move = periodic.moves(number)
        back = np.linalg.inv(move)
        own = cut(back[:3, :3] @ point + back[:3, 3], back[:3, :3] @ normal)
        turns = np.broadcast_to(move[:3, :3], (len(own.points), 3, 3))
        parts.append(Surface(moved(own.points, move), own.faces, TurnedStencil(own.stencil.ids, own.stencil.weights, turns)))
    return join(parts), True


class Cut(Shape):
    """A shape that is made from cells: of the whole flow, or of some of its blocks."""

    blocks: Blocks = ()

    def own_blocks(self, flow: Flow) -> frozenset[int] | None:
        """Numbers of its blocks; None for all.

        Raises
        ------
        StudyError
            The flow has none of them.
        """
        if not self.blocks:
            return None
        found = frozenset(n for n, block in enumerate(flow.blocks) if block.name in self.blocks)
        if not found:
            raise StudyError(f"This result has no block {' or '.join(self.blocks[:3])}.", "", "Choose other blocks.")
        return found

    def subject_told(self) -> str:
        """What it is of, in words."""
        return ", ".join(self.blocks) or "whole flow"
