"""Walls of blades at shares of the span: any wall quantity round the blade, pressure and suction side told apart."""

from __future__ import annotations

from dataclasses import replace
from typing import Annotated, ClassVar, Literal

import numpy as np
from numpy.typing import NDArray
from pydantic import Field

from tidal_lens.cutting.sections import Section, level_section
from tidal_lens.cutting.surface import Surface
from tidal_lens.cutting.walls import boundary_surface
from tidal_lens.errors import MissingQuantityError, StudyError
from tidal_lens.flow.annulus import Annulus
from tidal_lens.flow.case import Flow
from tidal_lens.quantities.store import QuantityStore
from tidal_lens.study.charts import Chart, Curve, table_of
from tidal_lens.study.kinds.kind import Begun, Kind, Made, See, Sort, Tile, Vec
from tidal_lens.study.kinds.measured import Quantities, first_quantity, measured_lines
from tidal_lens.study.kinds.round_axis import lacks_annulus
from tidal_lens.study.kinds.section import side_curve
from tidal_lens.study.kinds.span_bead import AtSpan, Share
from tidal_lens.study.looks import LineLook
from tidal_lens.study.tables import Table
from tidal_lens.study.value import Name
from tidal_lens.study.words import Words, number_text

SIDES = ("pressure side", "suction side")
_FINE = 400  # places at which both sides are set off against each other


class RoundBladeShape(AtSpan):
    """Of which walls, at which spans, what over what.

    Attributes
    ----------
    boundaries : tuple of str
        The blades.
    more : tuple of float
        Further shares of the span.
    quantities : tuple of str
        A chart each.
    against : str
        Share of the way along the annulus from the leading to the trailing edge, or m′, the way divided by the radius.
    """

    kind: Literal["round-blade"] = "round-blade"
    reckoned: ClassVar[str] = ("Values of the walls’ nodes, linear along the edges that the span cuts; sides by which way round the axis "
                               "they look, the one of the higher mean pressure is the pressure side.")
    geometry: ClassVar[Sort] = "lines"
    on_walls: ClassVar[bool] = True
    measures: ClassVar[bool] = True
    of_mesh: ClassVar[bool] = False
    what: ClassVar[str] = "round the blade"
    along: ClassVar[float] = 0.0
    boundaries: Annotated[tuple[Name, ...], Field(max_length=10_000)]
    more: Annotated[tuple[Share, ...], Field(max_length=12)] = ()
    quantities: Quantities
    against: Literal["chord", "m'"] = "chord"

    def needs(self) -> tuple[str, ...]:
        """What is measured, which way walls look, and the pressure that names the sides."""
        return (*self.quantities, "wall-normal")

    def make(self, see: See) -> Made:
        """The cuts, a chart for each quantity, and what both sides differ by."""
        walls, annulus = boundary_surface(see.flow, self.boundaries, see.token), see.annulus
        spans = annulus.shares(walls.points)[:, 1] if len(walls.points) else np.empty(0)
        cuts = {share: self._cut(walls, spans, share) for share in dict.fromkeys((self.share, *self.more))}
        cuts = {share: cut for share, cut in cuts.items() if len(cut.points)}
        if not cuts:
            raise StudyError("No blade is met at this share of the span.", "", "Choose walls that are blades, or another share.")
        sides = {share: self._sides(see, annulus, cut) for share, cut in cuts.items()}
        charts: list[Chart] = []
        rows: list[tuple[str | float, ...]] = []
        for quantity in self.quantities:
            values = see.values(quantity)
            curves: list[Curve] = []
            columns: list[dict[str, float]] = []
            for share, cut in cuts.items():
                own = cut.stencil.apply(values)
                along = self._over(annulus, cut, share)
                starts = np.zeros(len(own), bool)
                starts[cut.offsets[1:-1]] = True
                named = f", span {number_text(share)}" if len(cuts) > 1 else ""
                pair = {name: replace(side_curve(name + named, along, own, cut.points, on, starts), dashed=name == SIDES[1])
                        for name, on in zip(SIDES, (sides[share], ~sides[share]), strict=True) if on.any()}
                curves += pair.values()
                columns.append(_numbers(pair))
            charts.append(Chart(self._across(), see.called(quantity), tuple(curves)))
            of = f" of {see.called(quantity)}" if len(self.quantities) > 1 else ""
            rows += [(f"{what}{of}", *(c.get(what, np.nan) for c in columns)) for what in columns[0]]
        offsets = np.concatenate([[0], *(c.offsets[1:] + start for c, start in zip(
            cuts.values(), np.cumsum([0, *(len(c.points) for c in cuts.values())])[:-1], strict=True))]).astype(np.int64)
        first, *others = cuts.values()
        stencil = first.stencil
        for cut in others:
            stencil = stencil.extended(cut.stencil)
        lines = measured_lines(np.concatenate([c.points for c in cuts.values()]), offsets, stencil,
                               np.concatenate([c.arc for c in cuts.values()]))
        heads = ("value",) if len(cuts) == 1 else tuple(f"span {number_text(share)}" for share in cuts)
        tables = (table_of("Round the blade", tuple(charts)), Table("Round the blade, in numbers", ("what", *heads), tuple(rows)))
        return Made(lines, tables=tables, charts=tuple(charts),
                    told=f"{len(cuts)} span{'s' if len(cuts) > 1 else ''}, {sum(len(c.points) for c in cuts.values()):,} points")

    @staticmethod
    def _cut(walls: Surface, spans: Vec, share: float) -> Section:
        """One blade: the longest line if that is closed, all of them where a passage holds both sides of different blades."""
        size = float(np.linalg.norm(np.ptp(walls.points, axis=0))) if len(spans) else 0.0
        known = np.nan_to_num(spans, nan=9.0)
        cut = level_section(walls, size * (known - share))
        if len(cut.points) and np.allclose(cut.points[0], cut.points[cut.offsets[1] - 1], atol=1e-9 * size):
            count = int(cut.offsets[1])
            return Section(cut.points[:count], cut.offsets[:2], cut.stencil.take(np.arange(count)))
        return cut

    def _over(self, annulus: Annulus, cut: Section, share: float) -> Vec:
        """How far along each point is."""
        at, way, by_radius = annulus.lengths(share)
        own = np.interp(annulus.shares(cut.points)[:, 0], at, way if self.against == "chord" else by_radius)
        return np.asarray((own - own.min()) / max(float(np.ptp(own)), 1e-300)) if self.against == "chord" else own

    def _across(self) -> str:
        return "share of the chord along the annulus" if self.against == "chord" else "m′"

    @staticmethod
    def _sides(see: See, annulus: Annulus, cut: Section) -> NDArray[np.bool_]:
        """Which points are on the pressure side, shape (n,), bool."""
        angle = annulus.angles(cut.points)
        first, second = annulus.frame
        turn = np.cos(angle)[:, None] * second - np.sin(angle)[:, None] * first
        ahead = np.asarray(np.einsum("ni,ni->n", cut.stencil.apply_vectors(see.values("wall-normal")), turn) > 0.0)
        try:
            pressure = cut.stencil.apply(see.values("pressure"))
        except MissingQuantityError:
            return ahead
        if ahead.all() or not ahead.any():
            return ahead
        return ahead if np.nanmean(pressure[ahead]) >= np.nanmean(pressure[~ahead]) else ~ahead

    def tell(self, words: Words) -> str:
        """What, and where."""
        listed = ", ".join(words.number(100 * s) for s in (self.share, *self.more))
        return f"{', '.join(words.quantity(q) for q in self.quantities)} at {listed} % of the span"


def _numbers(pair: dict[str, Curve]) -> dict[str, float]:
    """Least and greatest of each side and where along, and the mean of what both differ by."""
    out: dict[str, float] = {}
    for side, curve in pair.items():
        for word, at in (("least", int(np.nanargmin(curve.values))), ("greatest", int(np.nanargmax(curve.values)))):
            out |= {f"{side}, {word}": float(curve.values[at]), f"{side}, {word}, at": float(curve.at[at])}
    if len(pair) == len(SIDES):
        one, two = pair.values()
        at_both = np.linspace(0.0, float(np.nanmax(one.at)), _FINE)
        out["mean difference across"] = float(np.nanmean(_single(one, at_both) - _single(two, at_both)))
    return out


def _single(curve: Curve, at: Vec) -> Vec:
    """Values of a side at places along, in the order of these."""
    good = np.isfinite(curve.values) & np.isfinite(curve.at)
    order = np.argsort(curve.at[good], kind="stable")
    return np.interp(at, curve.at[good][order], curve.values[good][order])


def new_round_blade(store: QuantityStore) -> Begun:
    """The pressure round all blades, at half of the span."""
    blades = tuple(b.name for b in store.flow.boundaries if b.kind == "blade")
    quantity = first_quantity(store, "pressure") or ""
    return Begun("Round the blade", RoundBladeShape(boundaries=blades, quantities=(quantity,)), LineLook(width=3.0, colour="#B0246B"))


def _lacks(flow: Flow) -> str:
    return lacks_annulus(flow) or ("" if any(b.kind == "blade" for b in flow.boundaries) else "a boundary that is a blade")


KIND = Kind(RoundBladeShape, "Loading of blades: any wall quantity at shares of the span, pressure and suction side told apart.", "measure",
            "round-blade", (Tile("add-round-blade", "Round the blade", "Draw pressure or any wall quantity round the blade at a span."),),
            lambda store, _argument: new_round_blade(store), slow=True, lacks=_lacks, group="Turning")
