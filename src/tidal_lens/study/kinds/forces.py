"""Force and moment on walls, or on another card's surface, by pressure and by friction, as coefficients too."""

from __future__ import annotations

from typing import Annotated, ClassVar, Literal, Self

import numpy as np
from pydantic import Field

from tidal_lens.cutting.points import values_at
from tidal_lens.errors import MissingQuantityError, StudyError
from tidal_lens.flow.case import Flow
from tidal_lens.measures.boundaries import boundary_facets
from tidal_lens.measures.forces import Forces, Load, Wind, force_within, momentum, surface_forces, wall_forces
from tidal_lens.measures.sums import Facets
from tidal_lens.quantities.names import CONST
from tidal_lens.quantities.store import QuantityStore
from tidal_lens.sampling.mesh import Stencil
from tidal_lens.study.charts import Chart, Curve
from tidal_lens.study.kinds.card_surface import outward_surface
from tidal_lens.study.kinds.first_values import AXES, rounded
from tidal_lens.study.kinds.kind import Begun, Handle, Handles, Kind, Made, See, Shape, Sort, Tile, Vec
from tidal_lens.study.kinds.measured import as_whole, measured_lines, told_depth, whole_units
from tidal_lens.study.kinds.section import lacks_walls
from tidal_lens.study.looks import LineLook
from tidal_lens.study.tables import Table
from tidal_lens.study.value import LayerId, Name, Vector
from tidal_lens.study.words import Words, number_text
from tidal_lens.tracing.streamlines import Lines

_DRAWN = 0.4  # of the flow's stage: how long the resultant is drawn


class ForcesShape(Shape):
    """On what, and what coefficients are taken with.

    Attributes
    ----------
    boundaries : tuple of str
        The walls.
    card : str
        A card of a surface that is taken in place of them: what the flow before it does to what is behind it, or within it.
    through : str
        A card of a surface round the walls, through which the momentum is balanced; none takes all other boundaries.
    about : tuple or None
        Point that moments are taken about; None for that of the reference state.
    area, length : float
        Reference area and length; 0 takes those of the reference state, or the walls' planform and length. In plane flows all is
        by unit depth: the area is a length then.
    axis : str
        Along which the force adds up in the chart.
    """

    kind: Literal["forces"] = "forces"
    reckoned: ClassVar[str] = ("Pressure less that of the free stream and shear stress, both linear over triangles: of second order. "
                               "Momentum: mean of products at the corners, of second order; steady flow.")
    geometry: ClassVar[Sort] = "lines"
    measures: ClassVar[bool] = True
    of_mesh: ClassVar[bool] = False  # the user may say what its boundaries are
    boundaries: Annotated[tuple[Name, ...], Field(max_length=10_000)]
    card: LayerId = ""
    through: LayerId = ""
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
        points, facets, found, carried, notes = self._on_card(see) if self.card else self._on_walls(see)
        if see.flow.turned is not None:
            found = found.along_axis(np.asarray(see.flow.turned.axis))
        wind = self._wind(see, points, facets)
        heads = ("pressure", "friction", *(() if carried is None else ("both", "momentum")), "total")
        rows = _rows(found, carried, wind, si=whole_units(see))
        if not self.card:
            balance, more = self._balance(see, wind, found.total)
            rows, notes = (*rows, *balance), (*notes, *more)
        by = 1.0 if wind is None else 1.0 / (wind.dynamic * wind.area)
        unit = "force" if wind is None else "force coefficient"
        curves = tuple(Curve(f"along {a}", found.along, by * found.running[:, n]) for n, a in enumerate(AXES))
        charts = (Chart(self.axis, f"{unit}, added up", curves),)
        total = found.total if carried is None else found.total + carried
        told = ", ".join(f"{n} {number_text(v)}" for n, v in list(wind.coefficients(total).items())[:2]) if wind else "no free stream"
        return Made(self._resultant(see, points, total, facets), tables=(Table("Forces", ("what", *heads), rows),), charts=charts,
                    frame=(self._about(see), total.force), told="; ".join([told + told_depth(see), *(n for n in notes if n)]))

    def _about(self, see: See) -> Vec:
        return np.array(self.about or see.reference.about)

    def _on_walls(self, see: See) -> tuple[Vec, Facets, Forces, None, tuple[str, ...]]:
        """The nodes, the walls and what the flow does to them."""
        facets = as_whole(see, boundary_facets(see.flow, self.boundaries), see.flow.points)
        if not len(facets.corners):
            raise StudyError("None of these boundaries lies on the outside of the flow.", "", "Choose walls of this result.")
        try:
            shear, without = see.values("wall-shear"), ""
        except MissingQuantityError as lacking:
            shear, without = None, f"no friction: {lacking}"
        above = see.values("pressure") - (see.reference.pressure or 0.0)
        found = wall_forces(see.flow.points, facets, above, shear, self._about(see), np.eye(3)[AXES.index(self.axis)])
        return see.flow.points, facets, found, None, (without,)

    def _on_card(self, see: See) -> tuple[Vec, Facets, Forces, Load | None, tuple[str, ...]]:
        """Vertices and facets of the card's surface, what pushes and rubs there, and the momentum that comes through."""
        points, stencil, facets, gap = outward_surface(see, self.card, self.boundaries)
        facets = as_whole(see, facets, points)
        above = stencil.apply(see.values("pressure")) - (see.reference.pressure or 0.0)
        stress, without = _stress(see, stencil)
        found = surface_forces(points, facets, above, stress, self._about(see), np.eye(3)[AXES.index(self.axis)])
        try:
            carried = momentum(points, facets, stencil.apply(see.values("density")), stencil.apply_vectors(see.values("velocity")),
                               self._about(see))
        except MissingQuantityError as lacking:
            return points, facets, found, None, (gap, without, f"no momentum: {lacking}")
        return points, facets, found, carried if see.flow.turned is None else carried.along_axis(np.asarray(see.flow.turned.axis)), (
            gap, without)

    def _balance(self, see: See, wind: Wind | None, own: Load) -> tuple[tuple[tuple[str | float, ...], ...], tuple[str, ...]]:
        """The force by momentum through all round the walls, in steady flow, and how far it is off the walls' own; notes."""
        if wind is None or (not self.through and len(see.flow.times) > 1):
            return (), ()
        notes: tuple[str, ...] = ()
        try:
            density, velocity, above = see.values("density"), see.values("velocity"), see.values("pressure")
            if self.through:
                points, stencil, facets, gap = outward_surface(see, self.through, self.boundaries)
                density, velocity, above = stencil.apply(density), stencil.apply_vectors(velocity), stencil.apply(above)
                stress = _stress(see, stencil)[0]
                notes = (gap, "steady flow is assumed in the balance" if len(see.flow.times) > 1 else "")
            else:
                outer, points, stress = boundary_facets(see.flow, self.boundaries, others=True), see.flow.points, None
                if not len(outer.corners):
                    return (), ()
                facets = Facets(outer.corners, -outer.areas)
        except MissingQuantityError as lacking:
            return (), (f"no balance of momentum: {lacking}",) if self.through else ()
        load = force_within(points, as_whole(see, facets, points), above - (see.reference.pressure or 0.0), density, velocity,
                            self._about(see), stress)
        if see.flow.turned is not None:
            load = load.along_axis(np.asarray(see.flow.turned.axis))
        found, walls = wind.coefficients(load), wind.coefficients(own)
        out: list[tuple[str | float, ...]] = []
        for name in ("CL", "CD", "CY"):
            out += [(f"{name} by momentum", "", "", found[name]),
                    (f"{name} by momentum less the walls' own", "", "", found[name] - walls[name])]
        return tuple(out), notes

    def _wind(self, see: See, points: Vec, facets: Facets) -> Wind | None:
        ref = see.reference
        if not ref.speed > 0.0 or not ref.density:
            return None
        if self.card:  # what coefficients are taken with is the body's
            body = boundary_facets(see.flow, self.boundaries)
            points, facets = (see.flow.points, body) if len(body.corners) else (points, facets)
        extent = np.ptp(points[facets.corners].reshape(-1, 3), axis=0)
        if see.flow.normal is not None:  # what is as deep as the layer is no length of the body
            extent = extent * (np.abs(see.flow.normal) < 0.5)
        length = self.length or ref.length or float(extent.max()) or 1.0
        planform = 0.5 * float(np.abs(facets.areas[:, 2]).sum()) or 0.5 * float(np.abs(facets.areas).sum())
        if see.flow.turned is not None:  # its greatest cross-section
            planform = float(np.pi * see.flow.turned.outward(points[facets.corners].reshape(-1, 3))[0].max() ** 2) or planform
        deep = length * (ref.depth or 1.0)
        area = self.area or (deep if see.flow.normal is not None and see.flow.turned is None else ref.area or planform)
        return Wind(ref.velocity, 0.5 * ref.density * ref.speed**2, area, length)

    def _resultant(self, see: See, points: Vec, total: Load, facets: Facets) -> Lines:
        """From the middle of what is pushed, along the force."""
        weight = facets.sizes / max(float(facets.sizes.sum()), 1e-300)
        start = weight @ points[facets.corners].mean(axis=1)
        size = float(np.linalg.norm(total.force))
        low, high = see.flow.stage
        way = total.force / size if size > 0.0 else np.zeros(3)
        ends = np.array([start, start + _DRAWN * float(np.linalg.norm(high - low)) * way])
        return measured_lines(ends, np.array([0, 2]), values_at(see.flow, ends, see.token), np.array([0.0, 1.0]))

    def tell(self, words: Words) -> str:
        """On what, about which point."""
        about = f", about ({', '.join(words.number(c, 3) for c in self.about)})" if self.about is not None else ""
        walls = f"{', '.join(self.boundaries[:3]) or 'nothing'}{' …' if len(self.boundaries) > 3 else ''}"
        through = f", and by momentum through {words.card(self.through)}" if self.through and not self.card else ""
        return f"on {words.card(self.card) if self.card else walls}{about}{through}"

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


def _stress(see: See, stencil: Stencil) -> tuple[Vec | None, str]:
    """Viscous stress μ (∇u + ∇uᵀ − ⅔ ∇·u) at a surface's vertices, (n, 3, 3); or None, and why."""
    try:
        viscosity = stencil.apply(see.values("viscosity"))
        gradient = see.values("velocity-gradient")
    except MissingQuantityError as lacking:
        return None, f"no friction: {lacking}"
    own = stencil.apply_vectors(gradient.reshape(len(gradient), 9)).reshape(-1, 3, 3)
    rate = own + np.swapaxes(own, 1, 2) - 2.0 / 3.0 * np.trace(own, axis1=1, axis2=2)[:, None, None] * np.eye(3)
    return np.asarray(viscosity[:, None, None] * rate), ""


def _rows(found: Forces, carried: Load | None, wind: Wind | None, *, si: bool) -> tuple[tuple[str | float, ...], ...]:
    loads: tuple[Load, ...] = (found.pressure, found.friction, found.total)
    if carried is not None:
        loads = (*loads, carried, found.total + carried)
    rows: list[tuple[str | float, ...]] = []
    if wind is not None:
        each = [wind.coefficients(load) for load in loads]
        rows += [(name, *(c[name] for c in each)) for name in each[0]]
    newton, metre = (" [N]", " [N m]") if si else ("", "")
    rows += [(f"force {a}{newton}", *(float(load.force[n]) for load in loads)) for n, a in enumerate(AXES)]
    rows += [(f"moment {a}{metre}", *(float(load.moment[n]) for load in loads)) for n, a in enumerate(AXES)]
    empty = ("",) * (len(loads) - 1)
    rows.append(("area of the walls" if carried is None else "area", *empty, found.area))
    if wind is not None:
        rows += [("reference area", *empty, wind.area), ("reference length", *empty, wind.length),
                 ("dynamic pressure", *empty, wind.dynamic)]
    return tuple(rows)


def new_forces(store: QuantityStore) -> Begun:
    """On all walls of the body, or all walls."""
    walls = tuple(b.name for b in store.flow.boundaries if b.solid)
    return Begun("Forces", ForcesShape(boundaries=walls), LineLook(width=4.0, colour="#B0246B"))


def _lacks(flow: Flow) -> str:
    return lacks_walls(flow) or ("" if flow.roles.pressure or flow.roles.energy else "a pressure")


KIND = Kind(ForcesShape, "Force and moment on walls or a card's surface by pressure and friction, coefficients; how it adds up.",
            "measure", "forces", (Tile("add-forces", "Forces", "Add up pressure and friction on the walls: CL, CD, moments."),),
            lambda store, _argument: new_forces(store), slow=True, lacks=_lacks, group="On walls")
