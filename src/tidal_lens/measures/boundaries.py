"""The flow's boundaries as facets on its own nodes."""

from __future__ import annotations

from collections.abc import Collection

import numpy as np

from tidal_lens.flow.boundaries import owners
from tidal_lens.flow.case import Flow
from tidal_lens.measures.sums import Facets


def boundary_facets(flow: Flow, names: Collection[str], *, others: bool = False) -> Facets:
    """Outer faces of the named boundaries, or of all ``others``; corners as the flow's nodes and area vectors into the flow."""
    faces, outward = flow.outside.faces, flow.outside.areas
    owner = flow.__dict__.get("_owners")
    if owner is None:
        owner = owners(faces, flow.boundaries, flow.seams.labels(flow.n_points))
        flow.__dict__["_owners"] = owner
    own = np.isin(owner, [n for n, b in enumerate(flow.boundaries) if b.name in names], invert=others)
    faces, outward = faces[own], outward[own]
    facets = Facets.of(flow.points, faces)
    # Triangles come first, then the second halves of quadrilaterals: each is turned as its face is.
    whole = np.concatenate([outward, outward[faces[:, 2] != faces[:, 3]]])
    against = (facets.areas * whole).sum(axis=1) > 0.0
    return Facets(facets.corners, np.where(against[:, None], -facets.areas, facets.areas))
