"""Walls and other boundaries."""

from __future__ import annotations

from typing import ClassVar, Literal

import numpy as np

from tidal_lens.cutting.regions import blocks_surface
from tidal_lens.cutting.surface import join
from tidal_lens.cutting.walls import boundary_surface
from tidal_lens.flow.case import Flow
from tidal_lens.quantities.store import QuantityStore
from tidal_lens.study.kinds.cut import Blocks
from tidal_lens.study.kinds.kind import Begun, Kind, Made, See, Shape, Tile
from tidal_lens.study.looks import SurfaceLook
from tidal_lens.study.value import Name
from tidal_lens.study.words import Words


class WallShape(Shape):
    """Which boundaries, or what of them is on some blocks (``only``), and the outsides of which blocks."""

    kind: Literal["wall"] = "wall"
    on_walls: ClassVar[bool] = True
    of_mesh: ClassVar[bool] = False  # the user may say what its boundaries are
    boundaries: tuple[Name, ...]
    blocks: Blocks = ()
    only: Blocks = ()

    def make(self, see: See) -> Made:
        """Faces of the boundaries."""
        flow = see.flow
        own = [n for n, block in enumerate(flow.blocks) if block.name in self.blocks]
        return Made(join([boundary_surface(flow, self.boundaries, see.token, self.only), *([blocks_surface(flow, own)] if own else [])]))

    def tell(self, _words: Words) -> str:
        """Names of the boundaries."""
        told = ", ".join([*self.boundaries, *(f"block {name}" for name in self.blocks)]) or "no boundary"
        return f"{told}, on {' and '.join(self.only)} only" if self.only else told


def new_walls(store: QuantityStore) -> Begun:
    """All walls of the flow, plain; translucent where they enclose it, and so are all boundaries where there are no walls."""
    flow = store.flow
    walls = tuple(b.name for b in flow.boundaries if b.solid)
    look = SurfaceLook() if walls and not _enclosed(flow) else SurfaceLook(opacity=0.25)
    return Begun("Walls", WallShape(boundaries=walls or tuple(b.name for b in flow.boundaries)), look)


def _enclosed(flow: Flow) -> bool:
    """Whether walls are most of the outside, so that plain they would hide all that is inside."""
    if flow.body is not None or flow.normal is not None:
        return False
    corners = [b.points[b.faces] for b in flow.boundaries if b.solid and len(b.faces)]
    area = sum(0.5 * float(np.linalg.norm(np.cross(c[:, 2] - c[:, 0], c[:, 3] - c[:, 1]), axis=1).sum()) for c in corners)
    return area > 0.5 * float(np.linalg.norm(flow.outside.areas, axis=1).sum())


KIND = Kind(WallShape, "Walls and other boundaries of the flow.", "look", "wall",
            (Tile("add-walls", "Walls", "Show walls and other boundaries."),), lambda store, _argument: new_walls(store), group="Surfaces")
