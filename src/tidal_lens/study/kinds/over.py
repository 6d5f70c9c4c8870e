"""Integrals and means over boundaries, or over the surface of another card."""

from __future__ import annotations

from collections.abc import Callable
from typing import Annotated, ClassVar, Literal

import numpy as np
from pydantic import Field

from tidal_lens.cutting.points import Points
from tidal_lens.errors import MissingQuantityError, StudyError
from tidal_lens.flow.case import Flow
from tidal_lens.measures.boundaries import boundary_facets
from tidal_lens.measures.sums import Facets, SurfaceSums, Through
from tidal_lens.measures.volumes import distribution
from tidal_lens.quantities.names import CONST
from tidal_lens.quantities.store import QuantityStore
from tidal_lens.sampling.mesh import Stencil
from tidal_lens.study.charts import SHARES, Chart, Curve, table_of
from tidal_lens.study.kinds.card_surface import card_surface
from tidal_lens.study.kinds.kind import Begun, Kind, Made, See, Shape, Sort, Tile, Vec
from tidal_lens.study.kinds.measured import as_whole, first_quantity, told_depth, whole_units
from tidal_lens.study.looks import BallLook
from tidal_lens.study.tables import Amount, Table
from tidal_lens.study.value import LayerId, Name, QuantityName
from tidal_lens.study.words import Words, amount_text

_BINS = 60  # of the distribution


class OverShape(Shape):
    """Over what, and of what.

    Attributes
    ----------
    card : str
        One of a surface; none takes boundaries.
    boundaries : tuple of str
        Named boundaries, looked at from inside: what flows out is along the normal.
    quantity : str
        What is averaged.
    """

    kind: Literal["over"] = "over"
    reckoned: ClassVar[str] = "Values are linear over triangles of the surface, products of two are integrated exactly: of second order."
    geometry: ClassVar[Sort] = "points"
    measures: ClassVar[bool] = True
    of_mesh: ClassVar[bool] = False  # boundaries may be said, and it looks at what carries mass besides
    card: LayerId = ""
    boundaries: Annotated[tuple[Name, ...], Field(max_length=10_000)] = ()
    quantity: QuantityName

    @classmethod
    def takes(cls, shape: Shape) -> bool:
        """Surfaces."""
        return shape.geometry == "surface"

    def make(self, see: See) -> Made:
        """Where it is least and greatest, and the table."""
        points, stencil, facets = self._surface(see)
        facets = as_whole(see, facets, points)
        values = stencil.apply(see.values(self.quantity))
        velocity, density = _carrier(see, stencil)
        # Of what is not known everywhere (outside the flow, off walls) what is known counts.
        found = facets.sums(values, velocity, density)
        if not found.area > 0.0:
            raise StudyError(f"{see.called(self.quantity)} is not known there.", "", "Choose another quantity.")
        used, mean, si = np.flatnonzero(found.used), see.amount(self.quantity, found.mean), whole_units(see)
        rows: list[tuple[str | float, ...]] = [
            (f"area{' [m²]' if si else ''}", found.area), ("mean by area", mean),
            ("plain mean of the vertices", see.amount(self.quantity, float(values[used].mean()))),
            ("standard deviation by area", see.amount(self.quantity, found.spread, change=True)), ("integral", found.integral)]
        if velocity is not None:
            rows += _carried(found, "volume" if density is None else "mass", lambda v: see.amount(self.quantity, v), si=si)
        energy = _energy(see, stencil, velocity, density)
        if energy is not None:
            rows.append((f"energy flow, net{' [W]' if si else ''}", facets.through(energy).net))
        least, greatest = int(used[values[used].argmin()]), int(used[values[used].argmax()])
        for word, at in (("least", least), ("greatest", greatest)):
            rows.append((word, see.amount(self.quantity, float(values[at]))))
            rows += [(f"{word} at {axis}", float(c)) for axis, c in zip("xyz", points[at], strict=True)]
        if found.area < (1.0 - 1e-6) * found.whole_area:
            rows.append(("share of the area on which it is known", found.area / found.whole_area))
        both = np.array([least, greatest])
        extremes = Points(points[both], stencil.take(both), {"value": values[both]})
        weights = np.bincount(facets.corners.ravel(), np.repeat(facets.sizes, 3), minlength=len(values)) / 3.0
        weights[~found.used] = 0.0
        curve = Curve("by area", *distribution(weights, values, float(values[least]), float(values[greatest]), _BINS))
        charts = (Chart(see.called(self.quantity), SHARES, (curve,)),)
        tables = (Table("Over a surface", ("what", "value"), tuple(rows)), table_of("Distribution", charts))
        return Made(extremes, tables=tables, charts=charts,
                    told=f"mean by area {amount_text(mean)}{told_depth(see)}", amounts=(mean,))

    def _surface(self, see: See) -> tuple[Vec, Stencil, Facets]:
        """Vertices, how values come to them, and facets."""
        if not self.card:
            facets = boundary_facets(see.flow, self.boundaries)
            if not len(facets.corners):
                raise StudyError("None of these boundaries lies on the outside of the flow.", "",
                                 "Choose boundaries of this result, or a card.")
            there = np.zeros(see.flow.n_points, bool)
            there[facets.corners] = True
            used, number = np.flatnonzero(there), np.empty(see.flow.n_points, np.int64)
            number[used] = np.arange(len(used))
            stencil = Stencil(used[:, None], np.ones((len(used), 1)))
            return see.flow.points[used], stencil, Facets(number[facets.corners], -facets.areas)
        return card_surface(see, self.card)

    def needs(self) -> tuple[str, ...]:
        """What is averaged."""
        return (self.quantity,)

    def constants(self) -> tuple[str, ...]:
        """What density and energy may follow from."""
        return tuple(f"{CONST}{name}" for name in ("gamma", "R", "rho_ref", "d_ref"))

    def tell(self, words: Words) -> str:
        """What over what."""
        over = words.card(self.card) if self.card else ", ".join(self.boundaries[:3]) or "nothing"
        return f"{words.quantity(self.quantity)} over {over}{' …' if not self.card and len(self.boundaries) > 3 else ''}"


def _carrier(see: See, stencil: Stencil) -> tuple[Vec | None, Vec | None]:
    """Velocity and density at its vertices, if they are known."""
    try:
        velocity = stencil.apply_vectors(see.values("velocity"))
    except MissingQuantityError:
        return None, None
    try:
        return velocity, stencil.apply(see.values("density"))
    except MissingQuantityError:
        return velocity, None


def _energy(see: See, stencil: Stencil, velocity: Vec | None, density: Vec | None) -> Vec | None:
    """Flux of the total enthalpy of a perfect gas at its vertices, if there is one."""
    if velocity is None or density is None or see.flow.roles.density is None:
        return None
    try:
        pressure = stencil.apply(see.values("pressure"))
    except MissingQuantityError:
        return None
    gamma = see.reference.gamma
    return np.asarray((gamma / (gamma - 1.0) * pressure + 0.5 * density * (velocity**2).sum(axis=1))[:, None] * velocity)


def _carried(found: SurfaceSums, named: str, amount: Callable[[float], Amount], *, si: bool) -> list[tuple[str | float, ...]]:
    """What goes through, and means weighted by it."""
    per = {"mass": " [kg/s]", "volume": " [m³/s]"}[named] if si else ""
    through = Through(found.forth, found.back)
    out: list[tuple[str | float, ...]] = [
        (f"volume flow, net{' [m³/s]' if si else ''}", found.volume_flow), (f"{named} flow along the normal{per}", through.forth),
        (f"{named} flow against it{per}", through.back), (f"{named} flow, net{per}", through.net),
        ("share that goes the other way", through.reversed)]
    for word, total, weighed in ((named, found.either, found.by_either), (f"net {named} flow", found.forth - found.back, found.by_net)):
        if abs(total) > 1e-9 * found.either:
            out.append((f"mean by {word}", amount(weighed / total)))
    return out


def new_over(store: QuantityStore, card: str) -> Begun:
    """Of the total pressure, or the best quantity."""
    quantity = first_quantity(store, "total-pressure", "pressure") or ""
    shape = OverShape(card=card, boundaries=() if card else open_ones(store.flow), quantity=quantity)
    return Begun("Surface mean", shape, BallLook(size=0.006))


def open_ones(flow: Flow) -> tuple[str, ...]:
    """Boundaries that the flow comes in and goes out through, or all."""
    return tuple(b.name for b in flow.boundaries if b.kind in ("outlet", "inlet")) or tuple(b.name for b in flow.boundaries)


KIND = Kind(OverShape, "Integrals, means and flow rates over boundaries or another card's surface; where a quantity is least and greatest.",
            "measure", "over",
            (Tile("add-over", "Surface", "Average and add up over the chosen card, or over boundaries: means, flow rates, extremes."),),
            new_over, slow=True, group="Over")
