"""Separation: where the flow leaves walls and comes to them, and where the wall shear is zero."""

from __future__ import annotations

from typing import Any, ClassVar, Literal

import numpy as np
from numpy.typing import NDArray

from tidal_lens.features.scales import has_walls
from tidal_lens.features.separation import find_separation
from tidal_lens.flow.case import Flow
from tidal_lens.quantities.gradients import flow_gradient
from tidal_lens.quantities.store import QuantityStore
from tidal_lens.quantities.walls import shear
from tidal_lens.study.kinds.finds import MAGENTA, FindShape, made_lines
from tidal_lens.study.kinds.kind import Begun, Kind, Made, See, Sort, Tile
from tidal_lens.study.kinds.vortices import lacks_velocity
from tidal_lens.study.looks import LineLook
from tidal_lens.study.said import Sieve
from tidal_lens.study.value import QuantityName
from tidal_lens.study.words import Words

_STILL = 1e-6  # of the greatest velocity: walls on which it is less hold the fluid


class SeparationShape(FindShape):
    """Separation and attachment lines and critical points on walls.

    Attributes
    ----------
    by : str
        The vector on walls: the wall shear stress, or the velocity, from which its direction follows.
    """

    kind: Literal["separation"] = "separation"
    geometry: ClassVar[Sort] = "lines"
    on_walls: ClassVar[bool] = True
    by: QuantityName = "wall-shear"

    @property
    def lying(self) -> bool:
        """On walls."""
        return True

    def make(self, see: See) -> Made:
        """All candidates."""
        found = find_separation(see.flow, _on_walls(see, self.by), see.token)
        told = "" if found.euler is None else f", indices {found.index_sum} of {found.euler}"
        return made_lines(found.findings, see.flow, see, f"{len(found.findings)} candidates{told}")

    def tell(self, words: Words) -> str:
        """By what."""
        return f"separation and attachment on walls, by lines of {words.quantity(self.by)}"


def _on_walls(see: See, name: str) -> NDArray[Any]:
    """The vector on walls; of a velocity that is zero there the shear that it has beside them, up to the viscosity."""
    values = see.values(name)
    if name != "velocity":
        return values
    nodes = np.concatenate([np.empty(0, np.int64), *(b.nodes[b.faces].ravel() for b in see.flow.boundaries
                                                     if b.solid and b.nodes is not None and len(b.faces))])
    size = np.abs(np.nan_to_num(values[nodes])).max(initial=0.0)
    if size > _STILL * float(np.abs(np.nan_to_num(values)).max(initial=0.0)):
        return values
    return shear(see.flow, flow_gradient(see.flow, values, see.token), np.ones(see.flow.n_points))


def _lacks(flow: Flow) -> str:
    return lacks_velocity(flow) or ("" if has_walls(flow) else "walls")


def new_separation(store: QuantityStore) -> Begun:
    """By the wall shear, or where there is none by the velocity."""
    by = "velocity" if store.missing("wall-shear") else "wall-shear"
    return Begun("Separation", SeparationShape(by=by), LineLook(colour=MAGENTA, width=3.0, sieve=Sieve()))


KIND = Kind(SeparationShape, "Separation and attachment lines on walls, and the critical points of the wall shear.", "find",
            "find-separation",
            (Tile("find-separation", "Separation", "Find where the flow leaves walls and comes to them."),),
            lambda store, _argument: new_separation(store), lacks=_lacks, group="Features")
