"""A surface at a constant share of span of a turning machine, in the view or unrolled."""

from __future__ import annotations

from typing import Literal

import numpy as np

from tidal_lens.cutting.contour import isosurface
from tidal_lens.cutting.surface import Surface
from tidal_lens.errors import StudyError
from tidal_lens.flow.annulus import Annulus, unwrapped
from tidal_lens.quantities.store import QuantityStore
from tidal_lens.sampling.mesh import TurnedStencil
from tidal_lens.study.dressings import Arrows
from tidal_lens.study.kinds.cut import Cut
from tidal_lens.study.kinds.first_values import best_name
from tidal_lens.study.kinds.kind import Begun, Kind, Made, See, Tile
from tidal_lens.study.kinds.round_axis import lacks_annulus
from tidal_lens.study.kinds.span_bead import AtSpan
from tidal_lens.study.looks import SurfaceLook
from tidal_lens.study.words import Words, number_text

_ASIDE = 1.15  # of the greatest radius: where the unrolled surface lies
_EDGE = 1e-3  # of the span: hub and casing themselves are no surfaces within the flow


class SpanShape(AtSpan, Cut):
    """Where between hub and casing.

    Attributes
    ----------
    unrolled : bool
        Whether it is laid flat beside the machine: m′ along the axis and the angle across, both times the same radius, so that angles
        between directions stay; vectors are turned along.
    """

    kind: Literal["span"] = "span"
    unrolled: bool = False

    def needs(self) -> tuple[str, ...]:
        """The share of span."""
        return ("span-share",)

    def make(self, see: See) -> Made:
        """The surface."""
        _ = see.annulus  # its bead goes by it
        level = min(max(self.share, _EDGE), 1.0 - _EDGE)
        surface = isosurface(see.flow, see.values("span-share"), level, see.token, self.own_blocks(see.flow))
        if not len(surface.faces):
            raise StudyError(f"Nothing of the flow stands at {number_text(level)} of the span.", "",
                             "Say in the Case station which boundaries are hub and casing.")
        told = f"{100 * self.share:.3g} % of the span"
        if not self.unrolled:
            return Made(surface, told=told)
        flat, radius = unrolled(surface, see.annulus, level)
        first, _ = see.annulus.frame
        return Made(flat, frame=(flat.points.min(axis=0), radius * first),
                    told=f"{told}, unrolled: m′ and angle, times {number_text(radius)}")

    def tell(self, words: Words) -> str:
        """Where."""
        return f"{self.subject_told()} at {words.number(100 * self.share)} % of the span{', unrolled' if self.unrolled else ''}"


def unrolled(surface: Surface, annulus: Annulus, share: float) -> tuple[Surface, float]:
    """A surface at a share of span laid flat beside the machine, and the radius by which m′ and angles were multiplied."""
    along = np.nan_to_num(annulus.shares(surface.points)[:, 0])
    angle = unwrapped(along, annulus.angles(surface.points))
    at, _, by_radius = annulus.lengths(share)
    line = annulus.places(at, np.full(len(at), share))
    radius = float(line[:, 1].mean())
    # Upright beyond the casing, where angles are counted from.
    first, second = annulus.frame
    corner = annulus.point + line[0, 0] * annulus.axis + _ASIDE * float(annulus.casing[:, 1].max()) * first
    across = angle - float(angle.min(initial=np.inf))
    points = corner + radius * (np.interp(along, at, by_radius)[:, None] * annulus.axis + across[:, None] * first)
    ahead = annulus.ways(along, np.full(len(along), share))
    on = annulus.turned(ahead, annulus.angles(surface.points))
    turn = np.cross(annulus.axis, annulus.turned(np.array([[0.0, 1.0]]), annulus.angles(surface.points)))
    flat = np.stack([annulus.axis, first, second])
    own = np.stack([on, turn, np.cross(on, turn)], axis=1)
    turns = np.einsum("ki,nkj->nij", flat, own)
    # Of a whole wheel, faces over the jump of the angle are left out.
    kept = np.ptp(angle[surface.faces], axis=1) < np.pi
    stencil = TurnedStencil(surface.stencil.ids, surface.stencil.weights, turns)
    return Surface(points, surface.faces[kept], stencil), radius


def new_span(store: QuantityStore, how: str) -> Begun:
    """Half way between hub and casing; unrolled with arrows of the velocity as who turns sees it."""
    look = SurfaceLook(colour_by=best_name(store))
    if how == UNROLLED:
        seen = "relative-velocity" if store.methods.spin else "velocity"
        arrows = None if store.missing(seen) else Arrows(of=seen, part="along")
        return Begun("Unrolled", SpanShape(unrolled=True), look.with_(arrows=arrows))
    return Begun("At a span", SpanShape(), look)


UNROLLED = "unrolled"
KIND = Kind(SpanShape, "The surface at a constant share of the span between hub and casing, in place or unrolled.", "measure", "span",
            (Tile("add-span", "At a span", "Lay a surface at a share of the span between hub and casing."),
             Tile("add-span-unrolled", "Unrolled", "Lay the surface at mid span flat, with arrows of the velocity along it.", UNROLLED,
                  "unrolled")),
            new_span, slow=True, lacks=lacks_annulus, group="Turning")
