"""Walls cut by a plane: quantities over the cut, and an experiment's taps beside them."""

from __future__ import annotations

from pathlib import Path
from typing import Annotated, Any, ClassVar, Literal, Self

import numpy as np
from pydantic import Field, FiniteFloat, model_validator

from tidal_lens.cutting.planes import reach, unit
from tidal_lens.cutting.sections import Section, section_of
from tidal_lens.cutting.walls import boundary_surface
from tidal_lens.errors import StudyError
from tidal_lens.flow.case import Flow
from tidal_lens.formats.csv_tables import read_table
from tidal_lens.quantities.store import QuantityStore
from tidal_lens.study.charts import Chart, Curve, summary_of, table_of
from tidal_lens.study.experiment import Rows, differences
from tidal_lens.study.kinds.first_values import AXES, round_to
from tidal_lens.study.kinds.kind import Begun, Handle, Handles, Kind, Made, See, Shape, Sort, Tile, Vec
from tidal_lens.study.kinds.measured import Quantities, first_quantity, measured_lines
from tidal_lens.study.kinds.slice import SliceShape
from tidal_lens.study.looks import LineLook
from tidal_lens.study.value import LayerId, Name, StudyPath, Vector
from tidal_lens.study.words import Words, number_text

Against = Literal["x", "y", "z", "chord", "arc"]
_NEAR = 0.02  # of the walls' size: taps so near the plane are shown
_UP = np.array([0.0, 0.0, 1.0])
DOWN = ("cp",)  # quantities whose axis points down


class SectionShape(Shape):
    """Which boundaries, by which planes, what over what.

    Attributes
    ----------
    boundaries : tuple of str
        What is cut.
    card : str
        A slice whose plane is taken; none takes the section's own.
    direction, position
        Of the plane.
    more : tuple of float
        Positions of further planes beside it: several spans in one chart.
    quantities : tuple of str
        A chart each.
    against : str
        A coordinate, its share of the chord from the least to the greatest x, or the length along the cut.
    taps : str
        A table of an experiment: columns x, y, z and one that is called as a quantity is.
    """

    kind: Literal["section"] = "section"
    reckoned: ClassVar[str] = "Values of the walls’ nodes, linear along the edges that the plane cuts; two sides by the outward normal."
    geometry: ClassVar[Sort] = "lines"
    on_walls: ClassVar[bool] = True
    measures: ClassVar[bool] = True
    takes_taps: ClassVar[bool] = True
    of_mesh: ClassVar[bool] = False  # the user may say what its boundaries are
    boundaries: Annotated[tuple[Name, ...], Field(max_length=10_000)]
    card: LayerId = ""
    direction: Vector
    position: FiniteFloat
    more: Annotated[tuple[FiniteFloat, ...], Field(max_length=20)] = ()
    quantities: Quantities
    against: Against = "x"
    taps: StudyPath = ""

    @model_validator(mode="after")
    def _has_direction(self) -> Self:
        if not 1e-150 < float(np.linalg.norm(self.direction)) < 1e150:
            raise ValueError("the direction of a section needs a length")
        return self

    def needs(self) -> tuple[str, ...]:
        """What is measured, and which way walls look."""
        return (*self.quantities, "wall-normal")

    @staticmethod
    def follows(shape: Shape) -> bool:
        """Whether it can go by the plane of a card of a shape: of slices."""
        return isinstance(shape, SliceShape)

    def _placed(self, see: See) -> Self:
        """With the plane of its slice."""
        cut = see.shape(self.card)
        if not isinstance(cut, SliceShape):
            raise StudyError("It cuts walls by the plane of a slice, but the card that it names is none.", "", "Choose another card.")
        frame = see.made(self.card).frame  # of one that goes with a line
        normal, position = (cut.normal, cut.position) if frame is None else (frame[1], float(frame[1] @ frame[0]))
        x, y, z = (float(c) for c in normal)
        return self.with_(card="", direction=(x, y, z), position=position, more=())

    def make(self, see: See) -> Made:
        """The cuts, a chart for each quantity."""
        if self.card:
            return self._placed(see).make(see)
        normal = unit(self.direction)
        walls = boundary_surface(see.flow, self.boundaries, see.token)
        positions = (self.position, *self.more)
        cuts = [section_of(walls, normal, position) for position in positions]
        if not any(len(c.points) for c in cuts):
            raise StudyError("The plane does not meet these walls.", "", "Move its bead, or choose other walls.")
        along, up = self._axes(normal)
        facing = see.values("wall-normal")
        charts, compared = [], Rows()
        taps = self._taps(see, walls.points) if self.taps else {}
        for quantity in self.quantities:
            values = see.values(quantity)
            curves: list[Curve] = []
            for position, cut in zip(positions, cuts, strict=True):
                if len(cut.points):
                    named = f"{self._place(normal)} = {number_text(position)}" if self.more else ""
                    curves += self._sides(cut, cut.stencil.apply(values), self._over(cut, along), facing, up, named)
            if quantity in taps:
                compared += differences(tuple(curves), taps[quantity])
                curves.append(taps[quantity])
            charts.append(Chart(self._across(), see.called(quantity), tuple(curves), quantity in DOWN))
        have = [c for c in cuts if len(c.points)]
        offsets = np.concatenate([[0], *(c.offsets[1:] + start for c, start in
                                         zip(have, np.cumsum([0, *(len(c.points) for c in have[:-1])]), strict=True))]).astype(np.int64)
        stencil = have[0].stencil
        for c in have[1:]:
            stencil = stencil.extended(c.stencil)
        lines = measured_lines(np.concatenate([c.points for c in have]), offsets, stencil, np.concatenate([c.arc for c in have]))
        told = f"{sum(len(c.points) for c in have):,} points"
        tables = (table_of("Section", tuple(charts)), summary_of(tuple(charts), compared, means=False))
        return Made(lines, tables=tables, charts=tuple(charts), told=told)

    def _axes(self, normal: Vec) -> tuple[Vec, Vec]:
        """Along the chord in the plane, and across it, upwards."""
        axis = AXES.index(self.against) if self.against in AXES else 0
        along = np.eye(3)[axis] - normal[axis] * normal
        if float(np.linalg.norm(along)) < 1e-6:
            along = np.eye(3)[(axis + 1) % 3] - normal[(axis + 1) % 3] * normal
        along = unit(along)
        up = np.cross(normal, along)
        lean = up @ _UP if abs(up @ _UP) > 1e-6 else up @ np.ones(3)
        return along, up if lean >= 0.0 else -up

    def _over(self, cut: Section, along: Vec) -> Vec:
        if self.against == "arc":
            return cut.arc
        if self.against == "chord":
            own = cut.points @ along
            return np.asarray((own - own.min()) / max(float(np.ptp(own)), 1e-300))
        return np.asarray(cut.points[:, AXES.index(self.against)])

    def _across(self) -> str:
        return {"chord": "share of the chord", "arc": "length along the cut"}.get(self.against, self.against)

    def _place(self, normal: Vec) -> str:
        axis = int(np.abs(normal).argmax())
        return AXES[axis] if abs(normal[axis]) > 1.0 - 1e-9 else "position"

    def _sides(self, cut: Section, values: Vec, over: Vec, facing: Vec, up: Vec, named: str) -> list[Curve]:
        """One curve of what looks up and one of what looks down; one alone over the arc, or where that is not known."""
        ahead = cut.stencil.apply_vectors(facing) @ up
        starts = np.zeros(len(over), bool)
        starts[cut.offsets[1:-1]] = True
        if self.against == "arc" or not np.isfinite(ahead).all():
            return [side_curve(named or "walls", over, values, cut.points, np.ones(len(over), bool), starts)]
        out = []
        for name, own in (("upper", ahead >= 0.0), ("lower", ahead < 0.0)):
            if own.any():
                out.append(side_curve(f"{name}, {named}" if named else name, over, values, cut.points, own, starts))
        return out

    def _taps(self, see: See, walls: Vec) -> dict[str, Curve]:
        """Of each quantity that the table has, the taps near the plane."""
        table = read_table(Path(self.taps))
        heads = [name.split("[")[0].strip().lower() for name in table.names]
        if not {"x", "y", "z"} <= set(heads):
            raise StudyError("The taps need columns x, y and z.", self.taps, "Name the columns so in the table's first row.")
        places = np.column_stack([table.columns[:, heads.index(a)] for a in AXES])
        normal = unit(self.direction)
        size = float(np.linalg.norm(np.ptp(walls, axis=0)))
        near = np.abs(places @ normal - self.position) < _NEAR * size
        along, _ = self._axes(normal)
        out = {}
        for quantity in self.quantities:
            called = {quantity.lower(), quantity.split(":")[-1].lower(), see.called(quantity).split("[")[0].strip().lower()}
            column = next((n for n, head in enumerate(heads) if head in called), None)
            if column is None:
                continue
            own = np.flatnonzero(near & np.isfinite(table.columns[:, column]))
            cut = Section(places[own], np.array([0, len(own)]), None)  # type: ignore[arg-type]
            reference = walls[np.abs(walls @ normal - self.position) < _NEAR * size] @ along
            if self.against == "chord" and len(reference):
                over = (places[own] @ along - reference.min()) / max(float(np.ptp(reference)), 1e-300)
            else:
                over = self._over(cut, along)
            if self.against != "arc":
                out[quantity] = Curve(f"taps, {Path(self.taps).stem}", np.asarray(over), table.columns[own, column], True, places[own])
        if not out:
            raise StudyError(f"The taps' table has no column that is called {' or '.join(see.called(q) for q in self.quantities)}.",
                             self.taps, "Name its column as the quantity is called, or choose the quantity that it holds.")
        return out

    def tell(self, words: Words) -> str:
        """What over what, and where."""
        if self.card:
            return f"{', '.join(words.quantity(q) for q in self.quantities)} by {words.card(self.card)}"
        normal = unit(self.direction)
        return f"{', '.join(words.quantity(q) for q in self.quantities)} at {self._place(normal)} = {words.number(self.position)}"

    def handles(self, flow: Flow, made: Made | None) -> Handles:
        """A bead at the highest point of the cut, along the plane's direction; none where that is a slice's."""
        if self.card:
            return Handles("section", ())
        normal = unit(self.direction)
        low, high = flow.body or flow.bounds
        middle = 0.5 * (low + high)
        middle = middle + (self.position - middle @ normal) * normal
        if made is not None and len(made.geometry.points):
            _, up = self._axes(normal)
            own = made.geometry.points
            own = own[np.abs(own @ normal - self.position) < 1e-6 * flow.size]
            middle = own[int((own @ up).argmax())] if len(own) else middle
        where = self._place(normal)
        return Handles("section", (Handle("section", middle, normal, None, f"{where} = {number_text(self.position, 5)}", self.position),))

    def moved(self, _handle: str, to: Vec, flow: Flow, *, snap: bool) -> Self:
        """Along its direction within the walls."""
        normal = unit(self.direction)
        low, high = reach(flow.body or flow.bounds, normal)
        position = min(max(float(normal @ to), low), high)
        if snap:
            places = flow.points @ normal
            return self.with_(position=float(places[np.abs(places - position).argmin()]))
        return self.with_(position=round_to(position, 0.0005 * (high - low)))

    def typed(self, _handle: str, value: Any) -> Self:
        """At a number."""
        return self.with_(position=value)

    def stepped(self, steps: float, flow: Flow) -> Self:
        """By steps of a fiftieth of the walls."""
        if self.card:
            return self
        low, high = reach(flow.body or flow.bounds, unit(self.direction))
        by = steps * round_to((high - low) / 50, (high - low) / 50)
        return self.with_(position=float(f"{np.clip(self.position + by, low, high):.9g}"))


def side_curve(name: str, over: Vec, values: Vec, points: Vec, own: np.ndarray, starts: np.ndarray) -> Curve:
    """What of lines belongs to a side, in the order of the line; broken where it leaves it and where another line begins."""
    rows = np.flatnonzero(own)
    breaks = np.flatnonzero((np.diff(rows) > 1) | starts[rows[1:]]) + 1
    at, up, places = over[rows], values[rows], points[rows]
    return Curve(name, np.insert(at, breaks, np.nan), np.insert(up, breaks, np.nan), places=np.insert(places, breaks, np.nan, axis=0))


def lacks_walls(flow: Flow) -> str:
    """Whether there is a wall to cut."""
    return "" if any(b.solid and b.nodes is not None for b in flow.boundaries) else "a wall"


def new_section(store: QuantityStore) -> Begun:
    """Along the middle of the body, pressure coefficient over x."""
    flow = store.flow
    low, high = flow.body or flow.bounds
    stream = np.abs(np.array(store.reference.velocity))
    size = high - low
    side = 1 if size[1] > 0.0 and stream[1] <= max(stream[0], stream[2]) else 0
    direction = flow.normal or tuple(float(n == side) for n in range(3))
    normal = unit(direction)
    position = round_to(float(0.5 * (low + high) @ normal), 1e-3 * float(size.max()))
    quantity = first_quantity(store, "cp", "pressure") or ""
    walls = tuple(b.name for b in flow.boundaries if b.solid)
    shape = SectionShape(boundaries=walls, direction=direction, position=position, quantities=(quantity,))
    return Begun("Section", shape, LineLook(width=3.0, colour="#B0246B"))


KIND = Kind(SectionShape, "Walls cut by a plane: quantities over the cut as charts, with an experiment's taps over them.",
            "measure", "section", (Tile("add-section", "Section", "Cut the walls by a plane and draw a quantity over the cut."),),
            lambda store, _argument: new_section(store), slow=True, lacks=lacks_walls, group="On walls")
