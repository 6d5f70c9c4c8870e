"""Vortices: their core lines, with what turns round them."""

from __future__ import annotations

from typing import ClassVar, Literal

from tidal_lens.features.vortex_list import find_vortices
from tidal_lens.flow.case import Flow
from tidal_lens.quantities.store import QuantityStore
from tidal_lens.study.kinds.finds import MAGENTA, FindShape, made_lines
from tidal_lens.study.kinds.kind import Begun, Kind, Made, See, Sort, Tile
from tidal_lens.study.looks import LineLook
from tidal_lens.study.said import Sieve
from tidal_lens.study.value import QuantityName
from tidal_lens.study.words import Words


class VortexShape(FindShape):
    """Core lines of vortices.

    Attributes
    ----------
    pressure : str
        The quantity that is told along them; none if empty.
    """

    kind: Literal["vortices"] = "vortices"
    geometry: ClassVar[Sort] = "lines"
    pressure: QuantityName = ""

    def needs(self) -> tuple[str, ...]:
        """What cores are found by, and what is told along them."""
        return tuple(filter(None, ("velocity", "vorticity", "lambda2", self.pressure)))

    def make(self, see: See) -> Made:
        """All candidates."""
        found = find_vortices(see.flow, see.values, see.reference.speed, see.token, pressure=self.pressure)
        return made_lines(found, see.flow, see, f"{len(found)} candidates")

    def tell(self, _words: Words) -> str:
        """By what."""
        return "vortex cores, where λ₂ is least across the vorticity"


def new_vortices(store: QuantityStore) -> Begun:
    """Vortices, with the pressure coefficient or the pressure along them where there is one."""
    pressure = next((n for n in ("cp", "pressure") if not store.missing(n)), "")
    return Begun("Vortices", VortexShape(pressure=pressure), LineLook(colour=MAGENTA, width=3.0, sieve=Sieve()))


def lacks_velocity(flow: Flow) -> str:
    """What a flow does not have to be looked through."""
    return "" if flow.roles.velocity or flow.roles.momentum else "a velocity"


KIND = Kind(VortexShape, "Core lines of vortices, with radius, circulation, swirl and pressure.", "find", "find-vortices",
            (Tile("find-vortices", "Vortices", "Find the vortices: core lines with radius, circulation and swirl."),),
            lambda store, _argument: new_vortices(store), lacks=lacks_velocity, group="Features")
