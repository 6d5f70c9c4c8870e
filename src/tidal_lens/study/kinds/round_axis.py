"""Means round the axis of a turning machine, drawn on the meridional plane."""

from __future__ import annotations

from typing import Annotated, ClassVar, Literal

import numpy as np
from pydantic import Field

from tidal_lens.cutting.level_lines import level_lines
from tidal_lens.cutting.surface import OwnSurface, Surface
from tidal_lens.errors import MissingQuantityError, StudyError
from tidal_lens.flow.annulus import passages_of
from tidal_lens.flow.case import Flow
from tidal_lens.flow.faces import quads_of_sheet
from tidal_lens.measures.round_axis import Lattice, RoundAxis, round_axis
from tidal_lens.measures.stage import Machine, stage
from tidal_lens.quantities.names import CONST, OWN
from tidal_lens.quantities.store import QuantityStore
from tidal_lens.sampling.mesh import Stencil
from tidal_lens.study.charts import Chart, Curve, Sheet, table_of
from tidal_lens.study.kinds.kind import Begun, Kind, Made, See, Shape, Tile, Vec
from tidal_lens.study.kinds.measured import first_quantity
from tidal_lens.study.kinds.span_bead import AXIS
from tidal_lens.study.looks import SurfaceLook
from tidal_lens.study.tables import Table
from tidal_lens.study.value import QuantityName
from tidal_lens.study.words import Words, number_text

MEAN, OPEN = "mean round the axis", "open share round the axis"
_ROUGH = (48, 16, 60)  # of a draft
_FEW, _LINES = (26, 9, 60), 14  # places of arrows on the flat chart, and about how many lines


class RoundAxisShape(Shape):
    """Of what, and by what.

    Attributes
    ----------
    quantity : str
        What is averaged.
    by : str
        The angle that a place takes up, or the mass that goes along the annulus.
    stations : tuple of float
        Shares of the way from the inlet's end to the other at which the mean is drawn over the span.
    along, across, rays : int
        Places each way, and angles.
    """

    kind: Literal["round-axis"] = "round-axis"
    of_passages: ClassVar[bool] = False
    reckoned: ClassVar[str] = ("Mean over the angle, not over indices: at each place of the plane as many rays round the axis as are asked "
                               "for, those inside blades left out; values are interpolated in their cells.")
    lit: ClassVar[bool] = False
    measures: ClassVar[bool] = True
    of_mesh: ClassVar[bool] = False
    quantity: QuantityName
    by: Literal["angle", "mass"] = "angle"
    stations: Annotated[tuple[Annotated[float, Field(ge=0.0, le=1.0)], ...], Field(max_length=12)] = (0.0, 0.5, 1.0)
    along: Annotated[int, Field(ge=8, le=1000)] = 120
    across: Annotated[int, Field(ge=4, le=500)] = 40
    rays: Annotated[int, Field(ge=8, le=5000)] = 180

    def constants(self) -> tuple[str, ...]:
        """The axis; what the density may follow from."""
        return (*AXIS, *(f"{CONST}{name}" for name in ("gamma", "R", "rho_ref", "spin")))

    def draft(self) -> RoundAxisShape:
        """On a coarser lattice."""
        along, across, rays = _ROUGH
        return self.with_(along=min(self.along, along), across=min(self.across, across), rays=min(self.rays, rays))

    def make(self, see: See) -> Made:
        """The plane with its means, curves over the span, and numbers."""
        carried = None
        if self.by == "mass":
            try:
                carried = see.values("density"), see.values("velocity")
            except MissingQuantityError as lacking:
                raise StudyError(f"A mean by mass is wanted: {lacking}", "", "Take the mean by angle.") from lacking
        found = round_axis(see.flow, see.annulus, see.values(self.quantity), Lattice(self.along, self.across, self.rays),
                           carried, token=see.token)
        if not np.isfinite(found.mean).any():
            raise StudyError("Nothing of the flow lies between hub and casing.", "", "Say in the Case station which boundaries they are.")
        number = np.arange(found.mean.size).reshape(found.mean.shape)
        nothing = Stencil(np.zeros((number.size, 1), np.int64), np.full((number.size, 1), np.nan))
        places = see.annulus.in_space(found.places, np.zeros(found.mean.shape))
        own = {MEAN: np.ascontiguousarray(found.mean.ravel()), OPEN: np.ascontiguousarray(found.open_share.ravel())}
        surface = OwnSurface(places.reshape(-1, 3), quads_of_sheet(number), nothing, own)
        flat = self._flat(see, found)
        charts = (self._over_span(see, found), self._along(see, found))
        told = f"{number_text(float(np.nanmin(found.mean)))} to {number_text(float(np.nanmax(found.mean)))}, by {self.by}"
        numbers = self._numbers(found, self._stage(see))
        curves = (table_of(f"Round the axis, {c.across}", (c,)) for c in charts)
        return Made(surface, tables=(numbers, *curves, _lattice_table(found)), charts=(flat, *charts), told=told)

    def _flat(self, see: See, found: RoundAxis) -> Chart:
        """The meridional plane on paper: the mean in colours, with lines of equal values and the mean meridional velocity."""
        low, high = float(np.nanmin(found.mean)), float(np.nanmax(found.mean))
        spacing = _round_step((high - low) / _LINES) if high > low else 0.0
        levels = [float(v) for v in np.arange(np.ceil(low / spacing), high / spacing) * spacing] if spacing else []
        number = np.arange(found.mean.size).reshape(found.mean.shape)
        plane = np.column_stack([found.places.reshape(-1, 2), np.zeros(number.size)])
        nothing = Stencil(np.zeros((number.size, 1), np.int64), np.ones((number.size, 1)))
        lines = np.empty((0, 2, 2))
        if levels:
            lines = level_lines(Surface(plane, quads_of_sheet(number), nothing), found.mean.ravel(), levels)[0][:, :, :2]
        feet, arrows = self._arrows(see)
        told = f"{see.called(self.quantity)}, mean by {self.by}"
        unit = " [m]" if see.flow.si_units else ""
        return Chart(f"along the axis{unit}", f"radius{unit}", (),
                     sheet=Sheet(found.places[:, :, 0], found.places[:, :, 1], found.mean, told, lines, spacing, feet, arrows))

    def _arrows(self, see: See) -> tuple[Vec, Vec]:
        """Places of a coarse lattice, and the mean meridional velocity there, the longest a twentieth of the plane."""
        none = np.empty((0, 2)), np.empty((0, 2))
        try:
            velocity = see.values("velocity")
        except MissingQuantityError:
            return none
        annulus, lattice = see.annulus, Lattice(*_FEW)
        off = see.flow.points - annulus.point
        out = off - np.outer(off @ annulus.axis, annulus.axis)
        out /= np.maximum(np.linalg.norm(out, axis=1), 1e-300)[:, None]
        parts = [round_axis(see.flow, annulus, np.ascontiguousarray(v), lattice, token=see.token)
                 for v in (velocity @ annulus.axis, np.einsum("nk,nk->n", velocity, out))]
        way = np.stack([p.mean for p in parts], axis=-1).reshape(-1, 2)
        feet = parts[0].places.reshape(-1, 2)
        known = np.isfinite(way).all(axis=1)
        fastest = float(np.linalg.norm(way[known], axis=1).max(initial=0.0))
        if fastest == 0.0:
            return none
        return feet[known], way[known] * (0.05 * float(np.ptp(feet, axis=0).max()) / fastest)

    def _rows(self, found: RoundAxis) -> list[int]:
        return [int(np.abs(found.along - share).argmin()) for share in self.stations]

    def _over_span(self, see: See, found: RoundAxis) -> Chart:
        curves = tuple(Curve(f"{100 * found.along[row]:.3g} % of the way", found.mean[row], found.across,
                             places=see.annulus.in_space(found.places[row], np.zeros(len(found.across)))) for row in self._rows(found))
        return Chart(see.called(self.quantity), "share of span", curves)

    def _along(self, see: See, found: RoundAxis) -> Chart:
        curves = []
        for share in (0.1, 0.5, 0.9):
            column = int(np.abs(found.across - share).argmin())
            places = see.annulus.in_space(found.places[:, column], np.zeros(len(found.along)))
            curves.append(Curve(f"span {found.across[column]:.2g}", found.along, found.mean[:, column], places=places))
        return Chart("share of the way along", see.called(self.quantity), tuple(curves))

    def _stage(self, see: See) -> dict[str, float]:
        """What happens from the first station to the last, by mass; nothing where that is not known."""
        if self.by != "mass" or len(self.stations) < 2:
            return {}
        axis = see.annulus.axis
        passages = passages_of(see.flow, tuple(see.annulus.point.tolist()), tuple(axis.tolist()))
        try:
            found = stage(see.flow, see.annulus, see.values, Machine(see.reference.gamma, see.spin, passages),
                          (self.stations[0], self.stations[-1]), see.token)
        except MissingQuantityError:
            return {}
        return {"passages": float(passages), **found}

    def _numbers(self, found: RoundAxis, more: dict[str, float]) -> Table:
        """Means over the stations: each ring by the area that is open in it; then what the stage does."""
        radius = found.places[:, :, 1]
        steps = np.linalg.norm(np.diff(found.places, axis=1), axis=2)
        wide = 0.5 * (np.pad(steps, ((0, 0), (1, 0))) + np.pad(steps, ((0, 0), (0, 1))))
        area = np.where(np.isfinite(found.mean), radius * found.open_angle * wide, 0.0)
        rows: list[tuple[str | float, ...]] = []
        for share, row in zip(self.stations, self._rows(found), strict=True):
            whole = float(area[row].sum())
            mean = float((area[row] * np.nan_to_num(found.mean[row])).sum() / whole) if whole > 0.0 else float("nan")
            rows.append((f"mean by area at {100 * share:.3g} % of the way", mean))
        rows += [("least", float(np.nanmin(found.mean))), ("greatest", float(np.nanmax(found.mean))),
                 ("least open share", float(found.open_share[1:-1, 1:-1].min())), *more.items()]
        return Table("Round the axis, in numbers", ("what", "value"), tuple(rows))

    def tell(self, words: Words) -> str:
        """Of what, by what."""
        return f"mean of {words.quantity(self.quantity)} round the axis, by {self.by}"


def _round_step(size: float) -> float:
    """The next of 1, 2, 5 times a power of ten."""
    power = 10.0 ** np.floor(np.log10(size))
    return float(power * next(n for n in (1.0, 2.0, 5.0, 10.0) if n * power >= size * (1.0 - 1e-9)))


def _lattice_table(found: RoundAxis) -> Table:
    """All means, a row each."""
    shares = np.meshgrid(found.along, found.across, indexing="ij")
    columns = [*shares, found.places[:, :, 0], found.places[:, :, 1], found.mean, found.open_share]
    rows = np.stack([np.asarray(c, np.float64).ravel() for c in columns], axis=1)
    return Table("On the meridional plane", ("share of the way", "share of span", "along the axis", "radius", "mean", "open share"),
                 tuple(tuple(float(v) for v in row) for row in rows))


def lacks_annulus(flow: Flow) -> str:
    """What of a machine a flow does not have."""
    lacking = [kind for kind in ("hub", "casing") if not any(b.kind == kind for b in flow.boundaries)]
    return f"a boundary that is the {' and one that is the '.join(lacking)}" if lacking else ""


def new_round_axis(store: QuantityStore) -> Begun:
    """Of the pressure."""
    quantity = first_quantity(store, "pressure") or ""
    return Begun("Round the axis", RoundAxisShape(quantity=quantity), SurfaceLook(colour_by=OWN + MEAN, lit=False))


KIND = Kind(RoundAxisShape, "Means round the axis of a turning machine on the meridional plane, over the span and along the annulus.",
            "measure", "round-axis", (Tile("add-round-axis", "Round the axis", "Average round the axis, onto the meridional plane."),),
            lambda store, _argument: new_round_axis(store), slow=True, lacks=lacks_annulus, group="Turning")
