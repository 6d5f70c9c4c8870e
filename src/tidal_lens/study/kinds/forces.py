"""Force and moment on walls, by pressure and by friction, as coefficients too."""

from __future__ import annotations

from typing import Annotated, ClassVar, Literal, Self

import numpy as np
from pydantic import Field

from tidal_lens.cutting.points import values_at
from tidal_lens.errors import MissingQuantityError, StudyError
from tidal_lens.flow.case import Flow
from tidal_lens.measures.boundaries import boundary_facets
from tidal_lens.measures.forces import Forces, Load, Wind, momentum_force, wall_forces
from tidal_lens.measures.sums import Facets
from tidal_lens.quantities.names import CONST
from tidal_lens.quantities.store import QuantityStore
from tidal_lens.study.charts import Chart, Curve
from tidal_lens.study.kinds.first_values import AXES, rounded
from tidal_lens.study.kinds.kind import Begun, Handle, Handles, Kind, Made, See, Shape, Sort, Tile, Vec
from tidal_lens.study.kinds.measured import as_whole, measured_lines, told_depth, whole_units
from tidal_lens.study.kinds.section import lacks_walls
from tidal_lens.study.looks import LineLook
from tidal_lens.study.tables import Table
from tidal_lens.study.value import Name, Vector
from tidal_lens.study.words import Words, number_text
from tidal_lens.tracing.streamlines import Lines

_DRAWN = 0.4  # of the flow's stage: how long the resultant is drawn


class ForcesShape(Shape):
    """On which boundaries, and what coefficients are taken with.

    Attributes
    ----------
    boundaries : tuple of str
        The walls.
    about : tuple or None
        Point that moments are taken about; None for that of the reference state.
    area, length : float
        Reference area and length; 0 takes those of the reference state, or the walls' planform and length. In plane flows all is
        by unit depth: the area is a length then.
    axis : str
        Along which the force adds up in the chart.
    """

    kind: Literal["forces"] = "forces"
    reckoned: ClassVar[str] = ("Pressure less that of the free stream and wall shear stress, both linear over triangles of the walls: of "
                               "second order.")
    geometry: ClassVar[Sort] = "lines"
    measures: ClassVar[bool] = True
    of_mesh: ClassVar[bool] = False  # the user may say what its boundaries are
    boundaries: Annotated[tuple[Name, ...], Field(max_length=10_000)]
    about: Vector | None = None
    area: Annotated[float, Field(ge=0.0, le=1e12)] = 0.0
    length: Annotated[float, Field(ge=0.0, le=1e12)] = 0.0
    axis: Literal["x", "y", "z"] = "x"

    def needs(self) -> tuple[str, ...]:
        """The pressure; friction where there is a viscosity."""
        return ("pressure",)

    def constants(self) -> tuple[str, ...]:
        """The free stream, and a typed viscosity, by which friction follows."""
        return tuple(f"{CONST}{name}" for name in ("U_ref", "rho_ref", "p_ref", "mu_ref", "gamma", "R", "A_ref", "L_ref", "X_ref", "d_ref"))

    def make(self, see: See) -> Made:
        """The resultant as a line through the middle of what it pushes, the table, and how it adds up along an axis."""
        flow = see.flow
        facets = as_whole(see, boundary_facets(flow, self.boundaries), flow.points)
        if not len(facets.corners):
            raise StudyError("None of these boundaries lies on the outside of the flow.", "", "Choose walls of this result.")
        try:
            shear, without = see.values("wall-shear"), ""
        except MissingQuantityError as lacking:
            shear, without = None, str(lacking)
        level, axis = see.reference.pressure or 0.0, np.eye(3)[AXES.index(self.axis)]
        about = np.array(self.about or see.reference.about)
        found = wall_forces(flow.points, facets, see.values("pressure") - level, shear, about, axis)
        if flow.turned is not None:
            found = found.along_axis(np.asarray(flow.turned.axis))
        wind = self._wind(see, facets)
        rows = (*_rows(found, wind, si=whole_units(see)), *self._balance(see, wind, found.total))
        by = 1.0 if wind is None else 1.0 / (wind.dynamic * wind.area)
        unit = "force" if wind is None else "force coefficient"
        curves = tuple(Curve(f"along {a}", found.along, by * found.running[:, n]) for n, a in enumerate(AXES))
        charts = (Chart(self.axis, f"{unit}, added up", curves),)
        told = ", ".join(f"{n} {number_text(v)}" for n, v in list(wind.coefficients(found.total).items())[:2]) if wind else "no free stream"
        return Made(self._resultant(see, found, facets), tables=(Table("Forces", ("what", "pressure", "friction", "total"), rows),),
                    charts=charts, frame=(about, found.total.force),
                    told=told + told_depth(see) + (f"; no friction: {without}" if without else ""))

    def _balance(self, see: See, wind: Wind | None, own: Load) -> tuple[tuple[str | float, ...], ...]:
        """The force by momentum through all other boundaries, in steady flow, and how far it is off the walls' own."""
        outer = boundary_facets(see.flow, self.boundaries, others=True)
        if wind is None or not len(outer.corners) or len(see.flow.times) > 1:
            return ()
        try:
            density, velocity = see.values("density"), see.values("velocity")
        except MissingQuantityError:
            return ()
        above = see.values("pressure") - (see.reference.pressure or 0.0)
        outer = as_whole(see, outer, see.flow.points)
        force = momentum_force(Facets(outer.corners, -outer.areas), above, density, velocity)
        if see.flow.turned is not None:
            axis = np.asarray(see.flow.turned.axis)
            force = (force @ axis) * axis
        found, walls = wind.coefficients(Load(force, np.zeros(3))), wind.coefficients(own)
        out: list[tuple[str | float, ...]] = []
        for name in ("CL", "CD", "CY"):
            out += [(f"{name} by momentum", "", "", found[name]),
                    (f"{name} by momentum less the walls' own", "", "", found[name] - walls[name])]
        return tuple(out)

    def _wind(self, see: See, facets: Facets) -> Wind | None:
        ref = see.reference
        if not ref.speed > 0.0 or not ref.density:
            return None
        extent = np.ptp(see.flow.points[facets.corners].reshape(-1, 3), axis=0)
        if see.flow.normal is not None:  # what is as deep as the layer is no length of the body
            extent = extent * (np.abs(see.flow.normal) < 0.5)
        length = self.length or ref.length or float(extent.max()) or 1.0
        planform = 0.5 * float(np.abs(facets.areas[:, 2]).sum()) or 0.5 * float(np.abs(facets.areas).sum())
        if see.flow.turned is not None:  # its greatest cross-section
            planform = float(np.pi * see.flow.turned.outward(see.flow.points[facets.corners].reshape(-1, 3))[0].max() ** 2) or planform
        deep = length * (ref.depth or 1.0)
        area = self.area or (deep if see.flow.normal is not None and see.flow.turned is None else ref.area or planform)
        return Wind(ref.velocity, 0.5 * ref.density * ref.speed**2, area, length)

    def _resultant(self, see: See, found: Forces, facets: Facets) -> Lines:
        """From the middle of the walls as they are pushed, along the force."""
        middles = see.flow.points[facets.corners].mean(axis=1)
        weight = facets.sizes / max(float(facets.sizes.sum()), 1e-300)
        start = weight @ middles
        size = float(np.linalg.norm(found.total.force))
        low, high = see.flow.stage
        way = found.total.force / size if size > 0.0 else np.zeros(3)
        points = np.array([start, start + _DRAWN * float(np.linalg.norm(high - low)) * way])
        return measured_lines(points, np.array([0, 2]), values_at(see.flow, points, see.token), np.array([0.0, 1.0]))

    def tell(self, words: Words) -> str:
        """On what, about which point."""
        about = f", about ({', '.join(words.number(c, 3) for c in self.about)})" if self.about is not None else ""
        return f"on {', '.join(self.boundaries[:3]) or 'nothing'}{' …' if len(self.boundaries) > 3 else ''}{about}"

    def handles(self, _flow: Flow, made: Made | None) -> Handles | None:
        """The point that moments are taken about."""
        about = np.array(self.about) if self.about is not None else made.frame[0] if made is not None and made.frame else None
        if about is None:
            return None
        x, y, z = (float(c) for c in about)
        label = "moments about " + ", ".join(number_text(c, 4) for c in (x, y, z))
        return Handles("forces", (Handle("about", about, label=label, value=(x, y, z)),))

    def moved(self, _handle: str, to: Vec, flow: Flow, *, snap: bool) -> Self:
        """About a place."""
        if self.about is None and np.array_equal(to, flow.reference.about):
            return self
        to = flow.points[((flow.points - to) ** 2).sum(axis=1).argmin()] if snap else to
        return self.with_(about=rounded(to, 0.0 if snap else 1e-3 * flow.size))

    def typed(self, _handle: str, value: Vector) -> Self:
        """About a place, exactly."""
        return self.with_(about=value)


def _rows(found: Forces, wind: Wind | None, *, si: bool) -> tuple[tuple[str | float, ...], ...]:
    loads: tuple[Load, ...] = (found.pressure, found.friction, found.total)
    rows: list[tuple[str | float, ...]] = []
    if wind is not None:
        each = [wind.coefficients(load) for load in loads]
        rows += [(name, *(c[name] for c in each)) for name in each[0]]
    newton, metre = (" [N]", " [N m]") if si else ("", "")
    rows += [(f"force {a}{newton}", *(float(load.force[n]) for load in loads)) for n, a in enumerate(AXES)]
    rows += [(f"moment {a}{metre}", *(float(load.moment[n]) for load in loads)) for n, a in enumerate(AXES)]
    rows.append(("area of the walls", "", "", found.area))
    if wind is not None:
        rows += [("reference area", "", "", wind.area), ("reference length", "", "", wind.length),
                 ("dynamic pressure", "", "", wind.dynamic)]
    return tuple(rows)


def new_forces(store: QuantityStore) -> Begun:
    """On all walls of the body, or all walls."""
    walls = tuple(b.name for b in store.flow.boundaries if b.kind == "wall")
    return Begun("Forces", ForcesShape(boundaries=walls), LineLook(width=4.0, colour="#B0246B"))


def _lacks(flow: Flow) -> str:
    return lacks_walls(flow) or ("" if flow.roles.pressure or flow.roles.energy else "a pressure")


KIND = Kind(ForcesShape, "Force and moment on walls by pressure and friction, coefficients, and how they add up along an axis.",
            "measure", "forces", (Tile("add-forces", "Forces", "Add up pressure and friction on the walls: CL, CD, moments."),),
            lambda store, _argument: new_forces(store), slow=True, lacks=_lacks, group="On walls")
