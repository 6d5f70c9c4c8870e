"""Shocks, each with the jump that was fitted to it, and sonic surfaces."""

from __future__ import annotations

from typing import ClassVar, Literal

from tidal_lens.features.shocks import find_shocks
from tidal_lens.flow.case import Flow
from tidal_lens.quantities.names import CONST
from tidal_lens.quantities.store import QuantityStore
from tidal_lens.study.kinds.finds import MAGENTA, STREAM, FindShape, made_surface
from tidal_lens.study.kinds.kind import Begun, Kind, Made, See, Sort, Tile
from tidal_lens.study.kinds.vortices import lacks_velocity
from tidal_lens.study.looks import SurfaceLook
from tidal_lens.study.said import Sieve
from tidal_lens.study.words import Words


class ShockShape(FindShape):
    """Shock surfaces."""

    kind: Literal["shocks"] = "shocks"
    geometry: ClassVar[Sort] = "surface"

    def needs(self) -> tuple[str, ...]:
        """The state of the gas."""
        return "velocity", "pressure", "density"

    def constants(self) -> tuple[str, ...]:
        """What jumps rest on too."""
        return (*STREAM, f"{CONST}gamma")

    def make(self, see: See) -> Made:
        """All candidates."""
        found = find_shocks(see.flow, see.values, see.reference.gamma, see.token)
        return made_surface([s.finding for s in found], [s.surface for s in found], [s.own for s in found], f"{len(found)} candidates")

    def tell(self, _words: Words) -> str:
        """By what."""
        return "shocks, where the flow meets a pressure rise at Mach 1 and a jump fits"


def _lacks(flow: Flow) -> str:
    roles = flow.roles
    return lacks_velocity(flow) or ("" if roles.density else "a density") or ("" if roles.pressure or roles.energy else "a pressure")


def new_shocks(_store: QuantityStore) -> Begun:
    """In magenta, translucent."""
    return Begun("Shocks", ShockShape(), SurfaceLook(colour=MAGENTA, opacity=0.35, sieve=Sieve()))


KIND = Kind(ShockShape, "Shock surfaces with Mach numbers, jumps and angles, and sonic surfaces.", "find", "find-shocks",
            (Tile("find-shocks", "Shocks", "Find the shocks: surfaces with Mach numbers, jumps and angles."),),
            lambda store, _argument: new_shocks(store), lacks=_lacks, group="Features")
