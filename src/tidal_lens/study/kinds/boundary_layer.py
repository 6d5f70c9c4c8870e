"""The boundary layer at places of a wall."""

from __future__ import annotations

from typing import Annotated, Any, ClassVar, Literal, Self

import numpy as np
from pydantic import Field

from tidal_lens.cutting.points import values_at
from tidal_lens.errors import MissingQuantityError, StudyError
from tidal_lens.flow.case import Flow
from tidal_lens.measures.boundary_layer import KARMAN, LAW, BoundaryLayer, boundary_layer, edge_of, law_of_the_wall
from tidal_lens.measures.on_walls import OnWalls, on_walls
from tidal_lens.quantities.names import CONST
from tidal_lens.quantities.store import QuantityStore
from tidal_lens.sampling.mesh import Stencil
from tidal_lens.study.charts import Chart, Curve, table_of
from tidal_lens.study.kinds.first_values import rounded
from tidal_lens.study.kinds.kind import Begun, Handle, Handles, Kind, Made, See, Shape, Sort, Tile, Vec
from tidal_lens.study.kinds.measured import measured_lines
from tidal_lens.study.kinds.section import SectionShape, lacks_walls
from tidal_lens.study.looks import LineLook
from tidal_lens.study.tables import Table
from tidal_lens.study.value import LayerId, Vector
from tidal_lens.study.words import Words, number_text
from tidal_lens.tracing.streamlines import Lines

_HAIR = 1e-3  # cell widths off the flow
_COUNT = 600  # places along the normal
_GRADED = 4.0  # they stand e to the power of it closer at the wall
_FIRST = 0.02  # of the body's length: how far it is looked at first
_TURNS = 12  # times that this is mended
_WITHIN = 0.7  # of that height within which an edge has to lie
_BACK = 0.005  # of the speed at the edge: what runs the other way
_FEW = 10  # cells across a layer: below, thicknesses are the mesh's
_FAR = 5.0  # first node in wall units above which the layer next to the wall is not resolved: common practice, no source


class BoundaryLayerShape(Shape):
    """Where, and what its edge is known by.

    Attributes
    ----------
    place : tuple
        Brought onto the nearest wall.
    to : tuple or None
        With ``stations`` more than one, the last of them; the line between is brought onto the wall.
    stations : int
        How many.
    card : str
        A section along whose first line the stations stand; none takes the place and the line from it.
    edge : str
        Total pressure that has come to its greatest value, or vorticity that has gone.
    height : float
        How far along the normal it is looked at; 0 takes as far as is needed.
    """

    kind: Literal["boundary-layer"] = "boundary-layer"
    reckoned: ClassVar[str] = "Integrals by Simpson’s rule over 600 places along the normal; values are interpolated in their cells."
    geometry: ClassVar[Sort] = "lines"
    measures: ClassVar[bool] = True
    of_mesh: ClassVar[bool] = False
    place: Vector
    to: Vector | None = None
    stations: Annotated[int, Field(ge=1, le=100)] = 1
    card: LayerId = ""
    edge: Literal["total pressure", "vorticity"] = "vorticity"
    height: Annotated[float, Field(ge=0.0, le=1e12)] = 0.0

    def needs(self) -> tuple[str, ...]:
        """What profiles are made of."""
        return ("velocity", "wall-normal", "vorticity")

    def constants(self) -> tuple[str, ...]:
        """What density and viscosity may follow from."""
        return tuple(f"{CONST}{name}" for name in ("rho_ref", "mu_ref", "gamma", "R"))

    def make(self, see: See) -> Made:
        """Profiles along normals, their numbers, and charts in outer and in wall units, or over the stations."""
        where = self._stations(see)
        try:
            feet = on_walls(see.flow, where)
        except ValueError as why:
            raise StudyError(f"There is no boundary layer: {why}.", "", "Say in the Case station which boundaries are walls.") from why
        profiles = [_Profile(self, see, feet, n) for n in range(len(where))]
        good = [p for p in profiles if p.found is not None]
        if not good:
            raise StudyError("No edge of a boundary layer was found along the normal.", "",
                             "Take the other sign of the edge, type a height, or choose a place where the flow follows the wall.")
        points = np.concatenate([p.points for p in good])
        offsets = np.arange(len(good) + 1, dtype=np.int64) * _COUNT
        stencil = good[0].stencil
        for p in good[1:]:
            stencil = stencil.extended(p.stencil)
        lines = measured_lines(points, offsets, stencil, np.concatenate([p.height for p in good]))
        charts = good[0].charts(see) if len(good) == 1 else _over(good, see)
        heads = ("value",) if len(good) == 1 else tuple(str(n + 1) for n in range(len(good)))
        rows: list[tuple[str | float, ...]] = [(name, *(p.numbers[name] for p in good)) for name in good[0].numbers]
        tables = (table_of("Boundary layer", charts), Table("Boundary layer, in numbers", ("what", *heads), tuple(rows)))
        first = good[0]
        told = f"δ99 {number_text(first.numbers[first.named('δ99')])}, H {number_text(first.numbers['H'])}"
        lost = len(profiles) - len(good)
        warned = next((p.warning for p in good if p.warning), "")
        return Made(lines, tables=tables, charts=charts, told=told + (f"; no edge at {lost} of {len(profiles)}" if lost else "")
                    + (f"; {warned}" if warned else ""))

    @staticmethod
    def follows(shape: Shape) -> bool:
        """Whether stations can stand along a card of a shape: along sections."""
        return isinstance(shape, SectionShape)

    def _stations(self, see: See) -> Vec:
        """Places (n, 3) that are brought onto walls."""
        if self.card:
            lines = see.made(self.card).geometry
            if not isinstance(lines, Lines) or not lines.n_lines:
                raise StudyError("Its stations stand along a section, and the card that it names has none.", "", "Choose another card.")
            line = lines.points[:lines.offsets[1]]
            along = np.concatenate([[0.0], np.cumsum(np.linalg.norm(np.diff(line, axis=0), axis=1))])
            # Not on the ends, which of a closed line are one place.
            at = (np.arange(self.stations) + 0.5) / self.stations * along[-1]
            return np.column_stack([np.interp(at, along, line[:, a]) for a in range(3)])
        if self.stations == 1 or self.to is None:
            return np.array([self.place])
        share = np.linspace(0.0, 1.0, self.stations)[:, None]
        return np.asarray(np.array(self.place) + share * (np.array(self.to) - np.array(self.place)))

    def tell(self, words: Words) -> str:
        """Where, and what the edge is known by."""
        if self.card:
            return f"{self.stations} stations along {words.card(self.card)}; edge by {self.edge}"
        return f"at ({', '.join(words.number(c, 3) for c in self.place)}); edge by {self.edge}"

    def handles(self, _flow: Flow, _made: Made | None) -> Handles:
        """The place, and the last one; none along a section."""
        if self.card:
            return Handles("boundary layer", ())
        beads = [Handle("place", np.array(self.place), label="boundary layer" if self.to is None else "first", value=self.place)]
        if self.to is not None:
            beads.append(Handle("to", np.array(self.to), label=f"{self.stations} stations", value=self.to))
        return Handles("boundary layer", tuple(beads))

    def moved(self, handle: str, to: Vec, flow: Flow, *, snap: bool) -> Self:
        """To a place, which is brought onto the wall when it is worked out."""
        to = flow.points[((flow.points - to) ** 2).sum(axis=1).argmin()] if snap else to
        return self.typed(handle, rounded(to, 0.0 if snap else 1e-4 * flow.size))

    def typed(self, handle: str, value: Any) -> Self:
        """At a place."""
        return self.with_(**{handle: value})


class _Profile:
    """One normal: what was found along it."""

    def __init__(self, shape: BoundaryLayerShape, see: See, feet: OnWalls, number: int) -> None:
        self._si = see.flow.si_units
        self.foot, self._normal = feet.points[number], feet.normals[number]
        self.at_wall = feet.stencil.take(np.array([number]))
        reach = shape.height or _FIRST * see.flow.length
        self.found: BoundaryLayer | None = None
        self.warning, edge = "", float("nan")
        for turn in range(_TURNS):
            self._sample(see, reach)
            signal = self.total if shape.edge == "total pressure" else self._turning()
            edge = edge_of(self.height, signal, falls=shape.edge == "vorticity")
            if shape.height or turn == _TURNS - 1:
                break
            # What still rises at the end has not come to rest.
            if not (np.isfinite(edge) and edge < _WITHIN * reach) and np.isfinite(signal[-1]):
                reach *= 1.8
            elif np.isfinite(edge) and edge < 0.25 * reach:
                reach = 2.0 * edge
            else:
                break
        if not np.isfinite(edge):
            fast = np.nan_to_num(np.linalg.norm(self.along, axis=1))
            edge = float(self.height[int(fast.argmax())])
            self.warning = f"no edge by the {shape.edge}: the place of the greatest speed is taken"
        if edge > 0.0:
            self._measure(see, edge)

    def named(self, name: str) -> str:
        """With its unit."""
        return f"{name} [m]" if self._si else name

    def _sample(self, see: See, reach: float) -> None:
        self.height = reach * np.expm1(_GRADED * np.linspace(0.0, 1.0, _COUNT)) / np.expm1(_GRADED)
        self.points = self.foot + self.height[:, None] * self._normal
        stencil = values_at(see.flow, self.points, see.token, _HAIR)
        # The wall itself is where it is said to be, on the safe side of all cells.
        width = max(stencil.ids.shape[1], self.at_wall.ids.shape[1])

        def padded(own: Stencil) -> Stencil:
            more = ((0, 0), (0, width - own.ids.shape[1]))
            return Stencil(np.pad(own.ids, more), np.pad(own.weights, more))

        stencil, foot = padded(stencil), padded(self.at_wall)
        stencil.ids[0], stencil.weights[0] = foot.ids[0], foot.weights[0]
        self.stencil = stencil
        velocity = stencil.apply_vectors(see.values("velocity"))
        slip = velocity - velocity[0]
        self.along = slip - (slip @ self._normal)[:, None] * self._normal
        self.spin = np.sqrt((stencil.apply_vectors(see.values("vorticity")) ** 2).sum(axis=1))
        try:
            self.density = stencil.apply(see.values("density"))
        except MissingQuantityError:
            self.density = np.ones(_COUNT)
        try:
            pressure = stencil.apply(see.values("pressure"))
            self.total = pressure + 0.5 * self.density * (slip**2).sum(axis=1)
        except MissingQuantityError:
            self.total = np.full(_COUNT, np.nan)

    def _turning(self) -> Vec:
        """Vorticity times height over speed."""
        speed = np.linalg.norm(self.along, axis=1)
        with np.errstate(divide="ignore", invalid="ignore"):
            return np.where(speed > 0.0, self.spin * self.height / speed, np.where(np.isfinite(speed), 1.0, np.nan))

    def _measure(self, see: See, edge: float) -> None:
        at_edge = np.array([np.interp(edge, self.height, self.along[:, a]) for a in range(3)])
        size = float(np.linalg.norm(at_edge))
        if not size > 0.0:
            return
        known = np.isfinite(self.along[:, 0])
        self.speed = self.along @ (at_edge / size)
        found = self.found = boundary_layer(self.height[known], self.speed[known], self.density[known], edge)
        if float(np.min(self.speed[known & (self.height < edge)], initial=0.0)) < -_BACK * size or found.momentum <= 0.0:
            self.warning = "the flow comes back along the wall there, it is separated: θ, H and what follows from them are not a layer's"
        numbers = {f"{a} of the wall": float(c) for a, c in zip("xyz", self.foot, strict=True)}
        numbers |= {self.named("δ99"): found.thickness, self.named("δ*"): found.displacement, self.named("θ"): found.momentum,
                    "H": found.shape, self.named("height of the edge"): edge, f"speed at the edge{' [m/s]' if self._si else ''}": size}
        ids = self.stencil.ids[(self.height < found.thickness) & known]
        cells = len(np.unique(np.sort(ids, axis=1), axis=0))
        numbers["cells across δ99"] = float(cells)
        if cells < _FEW and not self.warning:
            self.warning = f"the mesh has {cells} cells across the layer: thicknesses are rough"
        self.wall_speed = self.wall_length = float("nan")
        try:
            shear = float(np.linalg.norm(self.at_wall.apply_vectors(see.values("wall-shear"))[0]))
            viscosity = float(self.at_wall.apply(see.values("viscosity"))[0])
            density = float(self.density[0])
            self.wall_speed = float(np.sqrt(shear / density))
            self.wall_length = viscosity / (density * self.wall_speed) if self.wall_speed > 0.0 else float("nan")
            first = float(self.at_wall.apply(see.values("first-height"))[0]) / self.wall_length
            numbers |= {f"wall shear stress{' [Pa]' if self._si else ''}": shear,
                        "cf by the edge": shear / (0.5 * found.edge_density * size**2),
                        f"u_τ{' [m/s]' if self._si else ''}": self.wall_speed, "y⁺ of the first node": first,
                        "Reynolds number of θ": found.edge_density * size * found.momentum / viscosity}
            if first > _FAR and not self.warning:
                self.warning = f"the first node stands at y⁺ = {number_text(first, 3)}: what lies below is not resolved"
        except MissingQuantityError:
            pass
        self.numbers = numbers

    def charts(self, see: See) -> tuple[Chart, ...]:
        """In outer units, and in wall units with the law of the wall."""
        found = self.found
        assert found is not None
        own = self.height <= 1.6 * found.edge
        unit = " [m]" if see.flow.si_units else ""
        speed = f"speed along the wall{' [m/s]' if see.flow.si_units else ''}"
        out = [Chart(speed, f"height above the wall{unit}", (
            Curve("profile", self.speed[own], self.height[own], places=self.points[own]),
            Curve("δ99, δ*, θ", np.full(3, 0.99) * found.edge_speed,
                  np.array([found.thickness, found.displacement, found.momentum]), dots=True)))]
        if np.isfinite(self.wall_length) and self.wall_length > 0.0:
            plus = self.height[own][1:] / self.wall_length
            y = np.geomspace(max(float(plus[0]), 0.1), float(plus[-1]), 200)
            out.append(Chart("y⁺", "u⁺", (Curve("profile", plus, self.speed[own][1:] / self.wall_speed, places=self.points[own][1:]),
                                          Curve(f"law of the wall, κ {KARMAN:g}, {LAW:g}", y, law_of_the_wall(y), dashed=True)),
                             log_across=True))
        return tuple(out)


def _over(profiles: list[_Profile], see: See) -> tuple[Chart, ...]:
    """Numbers over the stations."""
    feet = np.array([p.foot for p in profiles])
    along = np.concatenate([[0.0], np.cumsum(np.linalg.norm(np.diff(feet, axis=0), axis=1))])
    unit = " [m]" if see.flow.si_units else ""

    def curve(name: str) -> Curve:
        return Curve(name, along, np.array([p.numbers.get(name, np.nan) for p in profiles]), places=feet)

    first = profiles[0]
    out = [Chart(f"length along the wall{unit}", f"thickness{unit}", tuple(curve(first.named(n)) for n in ("δ99", "δ*", "θ"))),
           Chart(f"length along the wall{unit}", "H", (curve("H"),))]
    if "cf by the edge" in first.numbers:
        out.append(Chart(f"length along the wall{unit}", "cf by the edge", (curve("cf by the edge"),)))
    return tuple(out)


def new_boundary_layer(store: QuantityStore) -> Begun:
    """Half way along the body's upper side."""
    low, high = store.flow.body or store.flow.bounds
    middle = 0.5 * (low + high)
    up = 2 if store.flow.normal is None or abs(store.flow.normal[2]) < 0.5 else 1
    place = middle.copy()
    place[up] = high[up]
    shape = BoundaryLayerShape(place=rounded(place, 1e-3 * store.flow.size))
    return Begun("Boundary layer", shape, LineLook(width=3.0, colour="#B0246B"))


def _lacks(flow: Flow) -> str:
    return lacks_walls(flow) or ("" if flow.roles.has_velocity else "a velocity")


KIND = Kind(BoundaryLayerShape, "The boundary layer at places of a wall: δ99, δ*, θ, H, cf, the profile in outer and in wall units.",
            "measure", "boundary-layer",
            (Tile("add-boundary-layer", "Boundary layer", "Measure the boundary layer along the normal of a wall."),),
            lambda store, _argument: new_boundary_layer(store), slow=True, lacks=_lacks, group="On walls")
