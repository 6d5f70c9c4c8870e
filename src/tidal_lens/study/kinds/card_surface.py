"""The surface of another card as measures take it: vertices, how values come to them, and facets."""

from __future__ import annotations

from collections.abc import Collection

import numpy as np

from tidal_lens.cutting.surface import Surface
from tidal_lens.errors import StudyError
from tidal_lens.measures.boundaries import boundary_facets
from tidal_lens.measures.sums import Facets
from tidal_lens.sampling.mesh import Stencil
from tidal_lens.study.kinds.kind import See, Vec

_LEVEL = 0.7  # of all area vectors' sizes that their sum has: such a surface is flat enough to have one side
_SHUT = 1e-5  # of its area: gaps as small as that are rounding


def card_surface(see: See, card: str) -> tuple[Vec, Stencil, Facets]:
    """Of a card that has one; facets of what is nearly flat all look along the axis that it faces most.

    Raises
    ------
    StudyError
        It has none, or no faces.
    """
    surface = _of(see, card)
    return surface.points, surface.stencil, _facets(surface)


def outward_surface(see: See, card: str, walls: Collection[str] = ()) -> tuple[Vec, Stencil, Facets, str]:
    """The same, facets of what is not flat away from what it encloses; and whether it does, in words: nothing if it is closed.

    What of it lies on ``walls`` is left out: the skin of a region round a body has the body's own walls in it.
    """
    surface = _of(see, card)
    points, facets = surface.points, Facets.of(surface.points, surface.faces)
    volume = _volume(points, facets, see.flow.normal)
    if volume is None:
        facets, why = _facets(surface), "the surface is open: what its gap lets through is left out"
        if float(np.linalg.norm(facets.areas.sum(axis=0))) >= _LEVEL * float(facets.sizes.sum()):
            why = "from the side that the surface looks to"
        else:
            facets = facets if np.trace(_moments(points, facets)) >= 0.0 else Facets(facets.corners, -facets.areas)
    else:
        facets, why = facets if volume > 0.0 else Facets(facets.corners, -facets.areas), ""
    return points, surface.stencil, _off(see, facets, surface.stencil, walls), why


def _moments(points: Vec, facets: Facets) -> Vec:
    """Integral of the place about the surface's middle times the normal, (3, 3): of a closed surface its volume times the unit matrix."""
    places = points[facets.corners].mean(axis=1)
    sizes = facets.sizes
    return np.asarray(np.einsum("ki,kj->ij", places - sizes @ places / max(float(sizes.sum()), 1e-300), facets.areas))


def _volume(points: Vec, facets: Facets, normal: tuple[float, ...] | None) -> float | None:
    """What a surface encloses, below 0 if its normals look inside; None of one that is open, by Gauss's theorem for 1 and for the place.

    In a plane flow it may be open along the plane's normal. Edges are no help: parts of several blocks have vertices of their own, and
    some stand on the edges of others.
    """
    axes = np.eye(3) if normal is None else np.linalg.svd(np.array([normal]))[2][1:]
    whole, found = float(facets.sizes.sum()), axes @ _moments(points, facets) @ axes.T
    size = float(np.ptp(points[facets.corners].reshape(-1, 3), axis=0).max())
    volume = float(np.trace(found)) / len(axes)
    gap = max(float(np.linalg.norm(axes @ facets.areas.sum(axis=0))) * size, float(np.abs(found - volume * np.eye(len(axes))).max()))
    return volume if gap < _SHUT * whole * size and abs(volume) > _SHUT * whole * size else None


def _of(see: See, card: str) -> Surface:
    surface = see.made(card).geometry
    if not isinstance(surface, Surface):
        raise StudyError("It is taken over a surface, but the card that it names has none.", "", "Choose another card.")
    if not len(surface.faces):
        raise StudyError("The card that it is taken over has no faces.", "", "Move that card into the flow, or choose another.")
    return surface


def _off(see: See, facets: Facets, stencil: Stencil, walls: Collection[str]) -> Facets:
    """Without those that lie on some boundaries: all their corners stand on their nodes, or between them."""
    there = np.zeros(see.flow.n_points, bool)
    there[boundary_facets(see.flow, walls).corners] = True
    on = (there[stencil.ids] | (stencil.weights == 0.0)).all(axis=1)
    off = ~on[facets.corners].all(axis=1)
    return Facets(facets.corners[off], facets.areas[off])


def _facets(surface: Surface) -> Facets:
    facets = Facets.of(surface.points, surface.faces)
    sizes = facets.sizes
    axis = np.abs(facets.areas).sum(axis=0)
    flat = facets.toward(facets.areas[int(sizes.argmax())])
    along = flat.areas.sum(axis=0)
    if float(np.linalg.norm(along)) < _LEVEL * float(sizes.sum()):
        return facets
    return flat.toward(along if along[int(axis.argmax())] >= 0.0 else -along)
