"""Recirculation: bubbles of fluid that does not come on, and critical points of the velocity."""

from __future__ import annotations

from typing import ClassVar, Literal

import numpy as np

from tidal_lens.features.bubbles import find_bubbles
from tidal_lens.quantities.store import QuantityStore
from tidal_lens.study.kinds.finds import MAGENTA, FindShape, made_surface
from tidal_lens.study.kinds.kind import Begun, Kind, Made, See, Sort, Tile
from tidal_lens.study.kinds.vortices import lacks_velocity
from tidal_lens.study.looks import SurfaceLook
from tidal_lens.study.said import Sieve
from tidal_lens.study.value import QuantityName
from tidal_lens.study.words import Words


class RecirculationShape(FindShape):
    """Regions of reversed flow with their outlines.

    Attributes
    ----------
    density : str
        The quantity that makes mass fluxes of velocities; volume fluxes if empty.
    """

    kind: Literal["recirculation"] = "recirculation"
    geometry: ClassVar[Sort] = "surface"
    density: QuantityName = ""

    def needs(self) -> tuple[str, ...]:
        """Velocity and density."""
        return tuple(filter(None, ("velocity", self.density)))

    def make(self, see: See) -> Made:
        """All candidates."""
        bubbles, zeros = find_bubbles(see.flow, see.values, np.array(see.reference.velocity), see.token, density=self.density)
        found = [*(b.finding for b in bubbles), *zeros]
        return made_surface(found, [*(b.skin for b in bubbles), *(None for _ in zeros)], [{} for _ in found], f"{len(found)} candidates")

    def tell(self, _words: Words) -> str:
        """By what."""
        return "recirculation, out to where as much runs back as on"


def new_recirculation(store: QuantityStore) -> Begun:
    """In magenta, translucent."""
    density = "" if store.missing("density") else "density"
    return Begun("Recirculation", RecirculationShape(density=density), SurfaceLook(colour=MAGENTA, opacity=0.4, sieve=Sieve()))


KIND = Kind(RecirculationShape, "Recirculation bubbles with outline, volume and closure, and critical points of the velocity.", "find",
            "find-recirculation",
            (Tile("find-recirculation", "Recirculation", "Find where the flow runs back, how far, and whether it is closed."),),
            lambda store, _argument: new_recirculation(store), lacks=lacks_velocity, group="Features")
