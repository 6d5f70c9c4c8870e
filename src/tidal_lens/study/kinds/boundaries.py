"""All boundaries at once: what flows through them, means, and forces."""

from __future__ import annotations

from typing import Annotated, ClassVar, Literal

import numpy as np
from pydantic import Field

from tidal_lens.cutting.points import Points
from tidal_lens.distinct import distinct
from tidal_lens.errors import MissingQuantityError, StudyError
from tidal_lens.measures.boundaries import boundary_facets
from tidal_lens.measures.forces import wall_forces
from tidal_lens.measures.sums import Facets
from tidal_lens.quantities.names import CONST
from tidal_lens.quantities.store import QuantityStore
from tidal_lens.sampling.mesh import Stencil
from tidal_lens.study.kinds.kind import Begun, Kind, Made, See, Shape, Sort, Tile, Vec
from tidal_lens.study.kinds.measured import as_whole, told_depth, whole_units
from tidal_lens.study.looks import BallLook
from tidal_lens.study.tables import Table
from tidal_lens.study.value import Name
from tidal_lens.study.words import Words, number_text

_MOST = 200
_ALL = "all"


class BoundariesShape(Shape):
    """Besides each boundary, groups of them.

    Attributes
    ----------
    groups : tuple of (str, tuple of str)
        Names, and the boundaries of each.
    heat : float
        Heat capacity of a liquid; 0 takes a perfect gas, of which the total enthalpy flows.
    """

    kind: Literal["boundaries"] = "boundaries"
    reckoned: ClassVar[str] = ("Values are linear over triangles of the boundaries: of second order. What flows both ways counts on "
                               "both sides. Heat flow is what the flow carries, heat conducted what walls take from it.")
    geometry: ClassVar[Sort] = "points"
    measures: ClassVar[bool] = True
    of_mesh: ClassVar[bool] = False
    groups: Annotated[tuple[tuple[Name, tuple[Name, ...]], ...], Field(max_length=500)] = ()
    heat: Annotated[float, Field(ge=0.0, le=1e12)] = 0.0

    def constants(self) -> tuple[str, ...]:
        """The free stream and the gas."""
        return tuple(f"{CONST}{name}" for name in ("U_ref", "rho_ref", "p_ref", "mu_ref", "gamma", "R", "Pr", "X_ref", "d_ref"))

    def make(self, see: See) -> Made:
        """A column for each, and a point in the middle of each."""
        names = [b.name for b in see.flow.boundaries][:_MOST]
        sets = [(n, (n,)) for n in names] + [(n, own) for n, own in self.groups] + [(_ALL, tuple(names))]
        columns: dict[str, dict[str, float]] = {}
        middles = []
        solid, taken = {b.name for b in see.flow.boundaries if b.solid}, self._conducted(see)
        for name, own in sets:
            see.token.check()
            facets, walls = boundary_facets(see.flow, own), boundary_facets(see.flow, [n for n in own if n in solid])
            if len(facets.corners):
                columns[name] = self._numbers(see, as_whole(see, Facets(facets.corners, -facets.areas), see.flow.points))
                if taken is not None and len(walls.corners):
                    columns[name][f"heat conducted into walls{' [W]' if whole_units(see) else ''}"] = as_whole(
                        see, walls, see.flow.points).sums(taken).integral
                if name in names:
                    used = distinct(facets.corners)
                    middle = facets.sizes @ see.flow.points[facets.corners].mean(axis=1) / facets.sizes.sum()
                    middles.append(int(used[((see.flow.points[used] - middle) ** 2).sum(axis=1).argmin()]))
        if not columns:
            raise StudyError("No boundary lies on the outside of this flow.", "", "Say in the Case station what bounds it.")
        rows = list(dict.fromkeys(n for c in columns.values() for n in c))
        wide = Table("Boundaries, in numbers", ("what", *columns), tuple((r, *(c.get(r, np.nan) for c in columns.values())) for r in rows))
        long = Table("Boundaries", ("boundary", "kind", *rows), tuple(
            (n, next((b.kind for b in see.flow.boundaries if b.name == n), ""), *(c.get(r, np.nan) for r in rows))
            for n, c in columns.items()))
        net = next((v for n, v in columns.get(_ALL, {}).items() if "flow in, net" in n), None)
        nodes = np.array(middles, np.int64)[:, None]
        told = f"{len(middles)} boundaries" + (f", net {number_text(net)}" if net is not None else "") + told_depth(see)
        return Made(Points(see.flow.points[nodes[:, 0]], Stencil(nodes, np.ones(nodes.shape))), tables=(long, wide), told=told)

    def _numbers(self, see: See, facets: Facets) -> dict[str, float]:
        """Of some boundaries, seen from inside."""
        flow, si = see.flow, whole_units(see)

        def known(name: str) -> Vec | None:
            try:
                return np.asarray(see.values(name))
            except MissingQuantityError:
                return None

        velocity, density, pressure = known("velocity"), known("density"), known("pressure")
        temperature = known("temperature")
        if temperature is None:
            temperature = known("static-temperature")
        out = {f"area{' [m²]' if si else ''}": float(facets.sizes.sum())}
        if velocity is not None:
            first = next((v for v in (temperature, pressure, density) if v is not None), np.ones(flow.n_points))
            found = facets.sums(first, velocity, density)
            what, per = ("mass", " [kg/s]") if density is not None else ("volume", " [m³/s]")
            per = per if si else ""
            out |= {f"{what} flow in{per}": found.back, f"{what} flow out{per}": found.forth,
                    f"{what} flow in, net{per}": (found.back - found.forth)}
            heat = self._heat(see, velocity, density, pressure, temperature)
            if heat is not None:
                through = facets.through(heat)
                out[f"heat flow in, net{' [W]' if si else ''}"] = (through.back - through.forth)
            if temperature is not None and found.either > 0.0:
                out[f"temperature, mean by {what}{' [K]' if si else ''}"] = found.by_either / found.either
        for name, values in (("pressure", pressure), ("temperature", temperature), ("density", density)):
            if values is not None:
                unit = {"pressure": " [Pa]", "temperature": " [K]", "density": " [kg/m³]"}[name] if si else ""
                out[f"{name}, mean by area{unit}"] = facets.sums(values).mean
        if pressure is not None:
            force = self._force(see, Facets(facets.corners, -facets.areas), pressure, known("wall-shear"))
            out |= {f"force {a}{' [N]' if si else ''}": float(c) for a, c in zip("xyz", force, strict=True)}
        return out

    def _conducted(self, see: See) -> Vec | None:
        """Heat that walls take from the flow by area, (n,), where it is known: of a perfect gas, or a liquid by its heat capacity."""
        try:
            if not self.heat > 0.0:
                return np.asarray(see.values("heat-flux"))
            return np.asarray(see.values("viscosity") * see.values("wall-rise")) * (self.heat / see.reference.prandtl)
        except MissingQuantityError:
            return None

    def _force(self, see: See, inward: Facets, pressure: Vec, shear: Vec | None) -> Vec:
        above, about = pressure - (see.reference.pressure or 0.0), np.array(see.reference.about)
        load = wall_forces(see.flow.points, inward, above, shear, about, np.array([1.0, 0.0, 0.0]), 2).total
        return load.force if see.flow.turned is None else load.along_axis(np.asarray(see.flow.turned.axis)).force

    def _heat(self, see: See, velocity: Vec, density: Vec | None, pressure: Vec | None, temperature: Vec | None) -> Vec | None:
        """Flux of heat: of total enthalpy in a perfect gas, of ρ c T in a liquid."""
        if density is None:
            return None
        if self.heat > 0.0:
            return None if temperature is None else np.asarray((self.heat * density * temperature)[:, None] * velocity)
        if pressure is None or see.flow.roles.density is None:
            return None
        gamma = see.reference.gamma
        total = gamma / (gamma - 1.0) * pressure.astype(np.float64) + 0.5 * density * (velocity.astype(np.float64) ** 2).sum(axis=1)
        return np.asarray(total[:, None] * velocity)

    def tell(self, _words: Words) -> str:
        """All of them."""
        return f"all boundaries{f' and {len(self.groups)} groups' if self.groups else ''}"


def new_boundaries(_store: QuantityStore) -> Begun:
    """All."""
    return Begun("Boundaries", BoundariesShape(), BallLook(size=0.002))


KIND = Kind(BoundariesShape, "All boundaries at once: mass and heat flows, means, forces; and named groups of them.", "measure",
            "boundaries", (Tile("add-boundaries", "Boundaries", "Add up flows and forces of all boundaries at once."),),
            lambda store, _argument: new_boundaries(store), slow=True,
            lacks=lambda flow: "" if flow.boundaries else "boundaries", group="Over")
