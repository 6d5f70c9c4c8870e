"""All quantities at chosen places."""

from __future__ import annotations

from typing import Annotated, Any, ClassVar, Literal, Self

import numpy as np
from pydantic import Field

from tidal_lens.cutting.points import Points, values_at
from tidal_lens.distinct import distinct
from tidal_lens.errors import StudyError
from tidal_lens.flow.case import Flow
from tidal_lens.quantities.store import QuantityStore
from tidal_lens.quantities.walls import wall_faces
from tidal_lens.sampling.mesh import Stencil
from tidal_lens.study.kinds.first_values import rounded
from tidal_lens.study.kinds.kind import Begun, Handle, Handles, Kind, Made, See, Shape, Sort, Tile, Vec
from tidal_lens.study.looks import BallLook
from tidal_lens.study.tables import Table
from tidal_lens.study.value import Vector
from tidal_lens.study.words import Words, number_text

_HAIR = 1e-3  # cell widths off the flow
_MOST = 50
_SAME = 1e-9  # of the flow's size: nodes at one place
_APART = 0.5  # cosine between the normals of the two sides of a wall


class ProbeShape(Shape):
    """Where.

    Attributes
    ----------
    places : tuple of tuples
        One below another in the table.
    snap : str
        Values at the ``place`` itself, at the nearest ``node``, of the ``cell`` as a mean of its corners, or at the nearest node of a
        ``wall`` with what is known on walls, on either side of one without thickness.
    """

    kind: Literal["probe"] = "probe"
    reckoned: ClassVar[str] = "Values are interpolated in the cell that holds the place; derivatives are those of the nodes round it."
    geometry: ClassVar[Sort] = "points"
    measures: ClassVar[bool] = True
    of_mesh: ClassVar[bool] = False
    of_all: ClassVar[bool] = True
    places: Annotated[tuple[Vector, ...], Field(min_length=1, max_length=_MOST)]
    snap: Literal["place", "node", "cell", "wall"] = "place"

    def make(self, see: See) -> Made:
        """The places, and every quantity at them."""
        flow = see.flow
        where = np.array(self.places)
        names = [str(n + 1) for n in range(len(where))]
        if self.snap == "wall":
            nodes, names = _on_walls(flow, where)
            stencil = Stencil(nodes[:, None], np.ones((len(nodes), 1)))
        else:
            stencil = values_at(flow, where, see.token, _HAIR)
            if self.snap != "place":
                stencil = _snapped(stencil, mean=self.snap == "cell")
        inside = np.asarray(np.isfinite(stencil.weights).all(axis=1))
        if not inside.any():
            raise StudyError("The place lies outside the flow.", "", "Drag its bead into the flow, or type another place.")
        if self.snap == "wall":
            where = flow.points[stencil.ids[:, 0]]
        elif self.snap != "place":
            where = np.where(inside[:, None], stencil.apply_vectors(flow.points), where)
        rows: list[tuple[str | float, ...]] = [(axis, *(float(c) for c in where[:, n])) for n, axis in enumerate("xyz")]
        rows.append(("block", *(_block_of(flow, int(n)) if ok else "outside" for n, ok in zip(stencil.ids[:, 0], inside, strict=True))))
        own: dict[str, Vec] = {}
        safe = Stencil(np.where(inside[:, None], stencil.ids, 0), np.where(inside[:, None], stencil.weights, np.nan))
        for quantity, values in see.everything_at(safe, walls=self.snap == "wall"):
            columns = values[:, None] if values.ndim == 1 else values
            for n, axis in enumerate(("",) if values.ndim == 1 else (" x", " y", " z")):
                unit = f" [{quantity.unit}]" if quantity.unit else ""
                if np.isfinite(columns[:, n]).any():
                    rows.append((f"{quantity.title}{axis}{unit}", *(float(v) for v in columns[:, n])))
                    own[f"{quantity.title}{axis}"] = columns[:, n]
        table = Table("Probe", ("what", *(names if len(names) > 1 else ("value",))), tuple(rows))
        lost = int((~inside).sum())
        told = f"{len(rows) - 4} quantities at {len(where)} place{'s' if len(where) > 1 else ''}"
        return Made(Points(where, safe), tables=(table,), told=f"{told}, {lost} outside the flow" if lost else told)

    def tell(self, words: Words) -> str:
        """Where."""
        first = ", ".join(words.number(c, 3) for c in self.places[0])
        more = f" and {len(self.places) - 1} more" if len(self.places) > 1 else ""
        return f"at ({first}){more}{'' if self.snap == 'place' else ', nearest ' + self.snap}"

    def handles(self, _flow: Flow, _made: Made | None) -> Handles:
        """A bead at each place."""
        several = len(self.places) > 1

        def label(n: int, place: Vector) -> str:
            return str(n + 1) if several else ", ".join(number_text(c, 4) for c in place)

        return Handles("probe", tuple(Handle(f"place {n}", np.array(p), label=label(n, p), value=p, small=several)
                                      for n, p in enumerate(self.places)))

    def moved(self, handle: str, to: Vec, flow: Flow, *, snap: bool) -> Self:
        """A place dragged."""
        to = flow.points[((flow.points - to) ** 2).sum(axis=1).argmin()] if snap else to
        return self.typed(handle, rounded(to, 0.0 if snap else 1e-4 * flow.size))

    def typed(self, handle: str, value: Any) -> Self:
        """A place typed."""
        at = int(handle.split()[1])
        return self.with_(places=(*self.places[:at], value, *self.places[at + 1:]))

    def with_place(self, place: Vector) -> Self:
        """With one more, the oldest gone where there are too many."""
        return self.with_(places=(*self.places, place)[-_MOST:])


def _snapped(stencil: Stencil, *, mean: bool) -> Stencil:
    """At the node that counts most, or the mean of all corners."""
    if mean:
        # A collapsed cell repeats corners with no weight of their own at some places: each node counts once.
        weights = np.zeros_like(stencil.weights)
        for row, ids in enumerate(stencil.ids):
            _, first = np.unique(ids, return_index=True)
            weights[row, first] = 1.0 / len(first)
        return Stencil(stencil.ids, np.where(np.isfinite(stencil.weights), weights, np.nan))
    at = np.nan_to_num(stencil.weights, nan=-1.0).argmax(axis=1)
    rows = np.arange(len(at))
    return Stencil(stencil.ids[rows, at][:, None], np.where(np.isfinite(stencil.weights[rows, at]), 1.0, np.nan)[:, None])


def _on_walls(flow: Flow, where: Vec) -> tuple[np.ndarray, list[str]]:
    """The nearest nodes of walls, both sides of one where two lie back to back, and what to call them."""
    from scipy.spatial import cKDTree

    faces, areas, _ = wall_faces(flow)
    if not len(faces):
        raise StudyError("This flow has no walls.", "", "Take the values at the place itself, or say in the Case station what is a wall.")
    nodes = distinct(faces)
    tree = cKDTree(flow.points[nodes])
    normal = np.zeros((len(nodes), 3))
    for c in range(4):
        np.add.at(normal, np.searchsorted(nodes, faces[:, c]), areas)
    normal /= np.maximum(np.linalg.norm(normal, axis=1), 1e-300)[:, None]
    found, names = [], []
    for n, nearest in enumerate(np.asarray(tree.query(where)[1])):
        found.append(int(nodes[nearest]))
        names.append(str(n + 1))
        for other in tree.query_ball_point(flow.points[nodes[nearest]], _SAME * flow.size):
            if normal[other] @ normal[nearest] < _APART:
                found.append(int(nodes[other]))
                names.append(f"{n + 1}, other side")
                break
    return np.array(found, np.int64), names


def _block_of(flow: Flow, node: int) -> str:
    return next((b.name for b in flow.blocks if b.first_point <= node < b.first_point + b.grid.n_points), "")


def new_probe(store: QuantityStore, argument: str) -> Begun:
    """At a place behind the body, or in the middle of the flow; at the place that is given."""
    if argument:
        x, y, z = (float(c) for c in argument.split())
        place: Vector = (x, y, z)
    else:
        flow = store.flow
        low, high = flow.body or flow.stage
        middle = 0.5 * (low + high)
        if flow.body is not None:
            stream = np.array(store.reference.velocity)
            along = int(np.abs(stream).argmax()) if stream.any() else 0
            middle[along] = high[along] + 0.1 * flow.length
        place = rounded(middle, 1e-3 * flow.size)
    return Begun("Probe", ProbeShape(places=(place,)), BallLook(colour="#B0246B", size=0.004))


KIND = Kind(ProbeShape, "All quantities at chosen places, with units: at the place, the nearest node, the cell, or on a wall.", "measure",
            "probe", (Tile("add-probe", "Probe", "Read all quantities at places of the flow."),), new_probe, slow=True, group="Here")
