"""Integrals and means over boundaries, or over the surface of another card."""

from __future__ import annotations

from typing import Annotated, ClassVar, Literal

import numpy as np
from pydantic import Field

from tidal_lens.cutting.points import Points
from tidal_lens.cutting.surface import Surface
from tidal_lens.errors import MissingQuantityError, StudyError
from tidal_lens.measures.boundaries import boundary_facets
from tidal_lens.measures.sums import Facets
from tidal_lens.quantities.store import QuantityStore
from tidal_lens.sampling.mesh import Stencil
from tidal_lens.study.kinds.kind import Begun, Kind, Made, See, Shape, Sort, Tile, Vec
from tidal_lens.study.kinds.measured import first_quantity
from tidal_lens.study.looks import BallLook
from tidal_lens.study.tables import Table
from tidal_lens.study.value import LayerId, Name, QuantityName
from tidal_lens.study.words import Words, number_text

_LEVEL = 0.7  # of all area vectors' sizes that their sum has: such a surface is flat enough to have one side


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
    geometry: ClassVar[Sort] = "points"
    measures: ClassVar[bool] = True
    of_mesh: ClassVar[bool] = False  # boundaries may be said, and it looks at what carries mass besides
    takes_card: ClassVar[Sort | None] = "surface"
    card: LayerId = ""
    boundaries: Annotated[tuple[Name, ...], Field(max_length=10_000)] = ()
    quantity: QuantityName

    def make(self, see: See) -> Made:
        """Where it is least and greatest, and the table."""
        points, stencil, facets = self._surface(see)
        values = stencil.apply(see.values(self.quantity))
        size = facets.sizes
        # Of what is not known everywhere (outside the flow, off walls) what is known counts.
        known = np.isfinite(facets.means(values))
        facets = Facets(facets.corners[known], facets.areas[known])
        own, used = facets.sizes, np.unique(facets.corners)
        area = float(own.sum())
        if not area > 0.0:
            raise StudyError(f"{see.called(self.quantity)} is not known there.", "", "Choose another quantity.")
        mean = facets.integral(values) / area
        spread = np.sqrt(max(float((facets.product(values, values) * own).sum()) / area - mean**2, 0.0))
        si = see.flow.si_units
        rows: list[tuple[str | float, ...]] = [
            (f"area{' [m²]' if si else ''}", area), ("mean by area", mean), ("plain mean of the vertices", float(np.nanmean(values[used]))),
            ("standard deviation by area", spread), ("integral", mean * area)]
        rows += _carried(see, stencil, facets, values)
        least, greatest = int(used[np.nanargmin(values[used])]), int(used[np.nanargmax(values[used])])
        for word, at in (("least", least), ("greatest", greatest)):
            rows.append((word, float(values[at])))
            rows += [(f"{word} at {axis}", float(c)) for axis, c in zip("xyz", points[at], strict=True)]
        if float(size[~known].sum()) > 1e-6 * float(size.sum()):
            rows.append(("share of the area on which it is known", area / float(size.sum())))
        both = np.array([least, greatest])
        extremes = Points(points[both], stencil.take(both), {"value": values[both]})
        return Made(extremes, tables=(Table("Over a surface", ("what", "value"), tuple(rows)),),
                    told=f"mean by area {number_text(mean)}")

    def _surface(self, see: See) -> tuple[Vec, Stencil, Facets]:
        """Vertices, how values come to them, and facets."""
        if not self.card:
            facets = boundary_facets(see.flow, self.boundaries)
            if not len(facets.corners):
                raise StudyError("None of these boundaries lies on the outside of the flow.", "",
                                 "Choose boundaries of this result, or a card.")
            used, corners = np.unique(facets.corners, return_inverse=True)
            stencil = Stencil(used[:, None], np.ones((len(used), 1)))
            return see.flow.points[used], stencil, Facets(corners.reshape(facets.corners.shape), -facets.areas)
        surface = see.made(self.card).geometry
        if not isinstance(surface, Surface):
            raise StudyError("It is taken over a surface, but the card that it names has none.", "", "Choose another card.")
        if not len(surface.faces):
            raise StudyError("The card that it is taken over has no faces.", "", "Move that card into the flow, or choose another.")
        return surface.points, surface.stencil, _facets(surface)

    def needs(self) -> tuple[str, ...]:
        """What is averaged."""
        return (self.quantity,)

    def tell(self, words: Words) -> str:
        """What over what."""
        over = words.card(self.card) if self.card else ", ".join(self.boundaries[:3]) or "nothing"
        return f"{words.quantity(self.quantity)} over {over}{' …' if not self.card and len(self.boundaries) > 3 else ''}"


def _carried(see: See, stencil: Stencil, facets: Facets, values: Vec) -> list[tuple[str | float, ...]]:
    """What goes through, and means weighted by it."""
    try:
        velocity = stencil.apply_vectors(see.values("velocity"))
    except MissingQuantityError:
        return []
    si = see.flow.si_units
    out: list[tuple[str | float, ...]] = [(f"volume flow, net{' [m³/s]' if si else ''}", facets.through(velocity).net)]
    try:
        flux, named = stencil.apply(see.values("density"))[:, None] * velocity, "mass"
    except MissingQuantityError:
        flux, named = velocity, "volume"
    through = facets.through(flux)
    per = {"mass": " [kg/s]", "volume": " [m³/s]"}[named] if si else ""
    out += [(f"{named} flow along the normal{per}", through.forth), (f"{named} flow against it{per}", through.back),
            (f"{named} flow, net{per}", through.net), ("share that goes the other way", through.reversed)]
    normal, own = np.einsum("kci,ki->kc", flux[facets.corners], facets.areas), values[facets.corners]
    for word, weight in ((named, np.abs(normal)), (f"net {named} flow", normal)):
        total = float(weight.mean(axis=1).sum())
        if abs(total) > 1e-9 * (through.forth + through.back):  # the mean of a product of two linear values over a triangle
            product = (weight.sum(axis=1) * own.sum(axis=1) + (weight * own).sum(axis=1)) / 12.0
            out.append((f"mean by {word}", float(product.sum()) / total))
    return out


def _facets(surface: Surface) -> Facets:
    """Facets of a surface: of one that is nearly flat all look the same way, along the axis that it faces most."""
    facets = Facets.of(surface.points, surface.faces)
    axis = np.abs(facets.areas).sum(axis=0)
    main = facets.areas[int(facets.sizes.argmax())]
    along = np.where((facets.areas @ main < 0.0)[:, None], -facets.areas, facets.areas).sum(axis=0)
    if float(np.linalg.norm(along)) < _LEVEL * float(facets.sizes.sum()):
        return facets
    along = along if along[int(axis.argmax())] >= 0.0 else -along
    return Facets.of(surface.points, surface.faces, along)


def new_over(store: QuantityStore, card: str) -> Begun:
    """Of the total pressure, or the best quantity."""
    quantity = first_quantity(store, "total-pressure", "pressure") or ""
    bounds = store.flow.boundaries
    open_ones = tuple(b.name for b in bounds if b.kind in ("outlet", "inlet")) or tuple(b.name for b in bounds)
    return Begun("Surface mean", OverShape(card=card, boundaries=() if card else open_ones, quantity=quantity), BallLook(size=0.006))


KIND = Kind(OverShape, "Integrals, means and flow rates over boundaries or another card's surface; where a quantity is least and greatest.",
            "measure", "over",
            (Tile("add-over", "Surface", "Average and add up over the chosen card, or over boundaries: means, flow rates, extremes."),),
            new_over, slow=True, group="Over")
