"""The annulus of a turning machine: the flow between hub and casing, by how far along and how far across it a place is."""

from __future__ import annotations

from collections.abc import Sequence
from dataclasses import dataclass
from typing import Any

import numpy as np
from numpy.typing import NDArray

from tidal_lens.flow.case import Boundary, BoundaryKind, Flow
from tidal_lens.work import run_chunks

Vec = NDArray[np.float64]
Triple = tuple[float, float, float]
_FINE = 512  # stretches that hub and casing are cut into
_SAME = 1e-3  # of the annulus' size: nodes as near to one another in the meridional plane are one
_CHUNK = 16384
_LEAST, _NEARLY = 1.9, 0.01  # passages at least, and how near to a whole number they have to come
_STEP = 1e-3  # of the way, for its direction
_REACH = 1.5  # shares across, outside of 0 to 1, beyond which a place is none of the annulus


@dataclass(frozen=True, eq=False)
class Annulus:
    """Between two curves in the meridional plane, each cut at equal shares of its length.

    A place is told by two shares: along, from the inlet's end (0) to the other (1), and across, from the hub (0) to the casing (1).
    Straight lines join the places of both curves at the same share along: between cones, surfaces of a constant share across are cones.

    Attributes
    ----------
    point, axis : ndarray, shape (3,)
        A point of the axis, and its direction, of length one.
    hub, casing : ndarray, shape (n, 2)
        Places along the axis and distances from it.
    """

    point: Vec
    axis: Vec
    hub: Vec
    casing: Vec

    @staticmethod
    def of(boundaries: Sequence[Boundary], point: Triple, axis: Triple) -> Annulus:
        """Of the boundaries that are hub and casing.

        Raises
        ------
        ValueError
            One of them is not there, or is no curve in the meridional plane.
        """
        start, way = np.array(point, np.float64), np.array(axis, np.float64)
        way = way / max(float(np.linalg.norm(way)), 1e-300)

        def places(kind: BoundaryKind) -> Vec:
            own = [b for b in boundaries if b.kind == kind and len(b.points)]
            # Sides of a passage that no name tells of may be taken for inlets: those that the file names come first.
            own = [b for b in own if not b.found] or own if kind == "inlet" else own
            return _meridional(np.concatenate([b.points for b in own]), start, way) if own else np.empty((0, 2))

        hub, casing, inlet = places("hub"), places("casing"), places("inlet")
        for name, own in (("hub", hub), ("casing", casing)):
            if len(own) < 2:
                raise ValueError(f"no boundary of this result is a {name}")
        size = float(np.ptp(np.concatenate([hub, casing]), axis=0).max())
        curves = [_along(_curve(own, size), inlet) for own in (hub, casing)]
        if ((curves[0] - curves[1]) ** 2).sum() > ((curves[0] - curves[1][::-1]) ** 2).sum():
            curves[1] = curves[1][::-1]
        return Annulus(start, way, curves[0], curves[1])

    def meridional(self, points: Vec) -> Vec:
        """Along the axis and away from it, of places in space (n, 3), shape (n, 2)."""
        return _meridional(points, self.point, self.axis)

    def shares(self, points: Vec) -> Vec:
        """How far along and across places in space (n, 3) are, shape (n, 2); not numbers far off the annulus.

        Before the inlet's end and behind the other what is said of the ends holds on.
        """
        out = np.empty((len(points), 2))

        def chunk(begin: int, end: int) -> None:
            out[begin:end] = self._shares(self.meridional(points[begin:end]))

        run_chunks(chunk, len(points), _CHUNK)
        return out

    def _shares(self, p: Vec) -> Vec:
        hub, across = self.hub, self.casing - self.hub
        n = len(hub) - 1
        turn = 1.0 if _cross(across[0], hub[1] - hub[0]) < 0.0 else -1.0
        # A place is behind a line across as long as it lies on its inlet's side: halving finds the stretch.
        low, high = np.zeros(len(p), np.int64), np.full(len(p), n, np.int64)
        for _ in range(int(np.ceil(np.log2(n))) + 1):
            middle = (low + high) // 2
            past = turn * _cross(p - hub[middle], across[middle]) >= 0.0
            low, high = np.where(past & (middle > low), middle, low), np.where(past, high, np.maximum(middle, low + 1))
        k = np.minimum(low, n - 1)
        # Within a stretch both ends of the line go straight: cross(p − h − t dh, a + t da) = 0.
        off, dh, a, da = p - hub[k], hub[k + 1] - hub[k], across[k], across[k + 1] - across[k]
        square, linear, still = -_cross(dh, da), _cross(off, da) - _cross(dh, a), _cross(off, a)
        root = np.sqrt(np.maximum(linear * linear - 4.0 * square * still, 0.0))
        with np.errstate(divide="ignore", invalid="ignore"):
            # The root nearer to the stretch, written so that nothing cancels.
            q = -0.5 * (linear + np.where(linear >= 0.0, root, -root))
            one, two = np.where(q != 0.0, still / q, 0.0), q / square
        t = np.where(np.isfinite(two) & (np.abs(two - 0.5) < np.abs(one - 0.5)), two, one)
        line = a + t[:, None] * da
        share = np.einsum("ni,ni->n", off - t[:, None] * dh, line) / np.maximum(np.einsum("ni,ni->n", line, line), 1e-300)
        good = np.isfinite(t) & (np.abs(share - 0.5) <= 0.5 + _REACH)
        return np.where(good[:, None], np.column_stack([(k + t) / n, share]), np.nan)

    def lengths(self, across: float) -> tuple[Vec, Vec, Vec]:
        """Shares along, how long the way at a share across is up to each, and its m′, the sum of its steps by the radius; (n,) each."""
        share = np.linspace(0.0, 1.0, len(self.hub))
        line = self.places(share, np.full(len(share), across))
        steps = np.linalg.norm(np.diff(line, axis=0), axis=1)
        radius = np.maximum(0.5 * (line[1:, 1] + line[:-1, 1]), 1e-300)
        return share, np.concatenate([[0.0], np.cumsum(steps)]), np.concatenate([[0.0], np.cumsum(steps / radius)])

    def places(self, along: Vec, across: Vec) -> Vec:
        """Where shares along and across (of one shape) are in the meridional plane, with two coordinates more at last."""
        at = np.clip(np.asarray(along, np.float64), 0.0, 1.0) * (len(self.hub) - 1)
        k = np.minimum(at.astype(np.int64), len(self.hub) - 2)
        t = (at - k)[..., None]
        one, two = ((1.0 - t) * c[k] + t * c[k + 1] for c in (self.hub, self.casing))
        return np.asarray(one + np.asarray(across)[..., None] * (two - one))

    def ways(self, along: Vec, across: Vec) -> Vec:
        """Unit vectors along the annulus at constant shares across, in the meridional plane, with two coordinates more at last."""
        ahead, behind = (self.places(np.clip(along + d, 0.0, 1.0), across) for d in (_STEP, -_STEP))
        way = ahead - behind
        return np.asarray(way / np.maximum(np.linalg.norm(way, axis=-1), 1e-300)[..., None])

    def turned(self, vectors: Vec, angle: Vec) -> Vec:
        """Vectors of the meridional plane (..., 2) at angles (...,), in space (..., 3)."""
        return np.asarray(self.in_space(vectors, angle) - self.point)

    def in_space(self, places: Vec, angle: Vec) -> Vec:
        """Places of the meridional plane (..., 2) turned about the axis by angles (...,), shape (..., 3)."""
        first, second = self.frame
        out = np.cos(angle)[..., None] * first + np.sin(angle)[..., None] * second
        return np.asarray(self.point + places[..., :1] * self.axis + places[..., 1:] * out)

    def angles(self, points: Vec) -> Vec:
        """Angle about the axis of places (n, 3), from −π to π [rad]."""
        first, second = self.frame
        off = points - self.point
        return np.asarray(np.arctan2(off @ second, off @ first))

    @property
    def frame(self) -> tuple[Vec, Vec]:
        """Directions from the axis of the angles 0 and ½π, right-handed about it: that of 0 is upright where it can be."""
        up = np.array([0.0, 0.0, 1.0]) if abs(self.axis[2]) < 0.9 else np.array([1.0, 0.0, 0.0])
        first = up - (up @ self.axis) * self.axis
        first = first / np.linalg.norm(first)
        return first, np.cross(self.axis, first)


def annulus_of(flow: Flow, point: Triple, axis: Triple) -> Annulus:
    """The annulus of a flow about an axis; kept with the flow.

    Raises
    ------
    ValueError
        See :meth:`Annulus.of`.
    """
    ready: tuple[tuple[Triple, Triple], Annulus] | None = flow.__dict__.get("_annulus")
    if ready is None or ready[0] != (point, axis):
        ready = flow.__dict__["_annulus"] = (point, axis), Annulus.of(flow.boundaries, point, axis)
    return ready[1]


def passages_of(flow: Flow, point: Triple, axis: Triple) -> int:
    """How many such passages make the whole wheel, by what the inlet or the outlet takes up of the angle; 1 where that tells of none.

    Kept with the flow: it is asked for at every change of the study.
    """
    ready: tuple[tuple[Triple, Triple], int] | None = flow.__dict__.get("_passages")
    if ready is None or ready[0] != (point, axis):
        ready = flow.__dict__["_passages"] = (point, axis), _counted(flow, point, axis)
    return ready[1]


def _counted(flow: Flow, point: Triple, axis: Triple) -> int:
    way = np.array(axis, np.float64)
    frame = Annulus(np.array(point, np.float64), way / max(float(np.linalg.norm(way)), 1e-300), np.empty((0, 2)), np.empty((0, 2)))
    for boundary in sorted(flow.boundaries, key=lambda b: b.found):
        if boundary.kind in ("inlet", "outlet") and len(boundary.points):
            angle = frame.angles(boundary.points)
            angle = np.angle(np.exp(1j * (angle - np.angle(np.exp(1j * angle).mean()))))
            wide = min(float(np.ptp(angle)), float(np.ptp(_upright(angle, frame.meridional(boundary.points)[:, 1]))))
            number = 2.0 * np.pi / max(wide, 1e-3)
            if number >= _LEAST and abs(number - round(number)) < _NEARLY * number:
                return round(number)
    return 1


def _upright(angle: Vec, radius: Vec, rings: int = 16) -> Vec:
    """Angles (n,) less their mean at that radius: what leans from hub to casing takes up no more of the way round."""
    ring = np.clip(((radius - radius.min()) / max(float(np.ptp(radius)), 1e-300) * rings).astype(np.int64), 0, rings - 1)
    count = np.bincount(ring, minlength=rings)
    there = count > 0
    middle, lean = (np.bincount(ring, v, rings)[there] / count[there] for v in (radius, angle))
    if len(middle) > 1:  # beyond the middles of the outermost rings it goes on as there
        ends = radius.min(), radius.max()
        slopes = (lean[1] - lean[0]) / (middle[1] - middle[0]), (lean[-1] - lean[-2]) / (middle[-1] - middle[-2])
        low, high = lean[0] + (ends[0] - middle[0]) * slopes[0], lean[-1] + (ends[1] - middle[-1]) * slopes[1]
        middle, lean = np.concatenate([[ends[0] - 1e-12], middle, [ends[1] + 1e-12]]), np.concatenate([[low], lean, [high]])
    return np.asarray(angle - np.interp(radius, middle, lean))


def unwrapped(along: Vec, angle: Vec, stations: int = 120) -> Vec:
    """Angles (n,) [rad] without a jump along a passage that leans round the axis: each is counted about the mean direction near by.

    Of what goes all round the jump stays, opposite to that direction.
    """
    bins = np.clip(np.round(along * (stations - 1)), 0, stations - 1).astype(np.int64)
    numbers = np.arange(stations)
    spread = np.exp(-0.5 * (np.subtract.outer(numbers, numbers) / 1.5) ** 2)
    east, north = (spread @ np.bincount(bins, f(angle), stations) for f in (np.cos, np.sin))
    there = np.bincount(bins, minlength=stations) > 0
    middle = np.unwrap(np.arctan2(north, east)[there])
    at = np.interp(along, numbers[there] / (stations - 1), middle)
    return np.asarray(at + np.angle(np.exp(1j * (angle - at))))


def kept_annulus(flow: Flow) -> Annulus | None:
    """The one that was asked for last; None where none was."""
    ready: tuple[tuple[Triple, Triple], Annulus] | None = flow.__dict__.get("_annulus")
    return None if ready is None else ready[1]


def _cross(a: Vec, b: Vec) -> Vec:
    return np.asarray(a[..., 0] * b[..., 1] - a[..., 1] * b[..., 0])


def _meridional(points: Vec, start: Vec, way: Vec) -> Vec:
    off = points - start
    along = off @ way
    return np.column_stack([along, np.linalg.norm(off - along[:, None] * way, axis=1)])


def _curve(places: Vec, size: float) -> Vec:
    """Places (n, 2) near a curve in their order along it, at equal shares of its length."""
    from scipy.sparse import csr_array
    from scipy.sparse.csgraph import minimum_spanning_tree
    from scipy.spatial.distance import cdist

    _, group = np.unique(np.round(places / (_SAME * size)).astype(np.int64), axis=0, return_inverse=True)
    many = np.bincount(group.ravel())
    own = np.column_stack([np.bincount(group.ravel(), places[:, a]) / many for a in range(2)])
    if len(own) < 2:
        raise ValueError("hub or casing is a single circle")
    # All pairs: where nodes crowd, the nearest ones of each would not reach over the gaps between the crowds. A gap of nothing, between
    # places that were rounded differently, would be none for the tree, and in a dense matrix a small one too.
    gaps = cdist(own, own) + 1e-12 * size
    np.fill_diagonal(gaps, 0.0)
    tree = minimum_spanning_tree(csr_array(gaps))
    one = _farthest(tree, 0)[-1]
    line = own[_farthest(tree, one)]
    steps = np.concatenate([[0.0], np.cumsum(np.linalg.norm(np.diff(line, axis=0), axis=1))])
    if not steps[-1] > _SAME * size:
        raise ValueError("hub or casing has no length along the axis")
    even = np.linspace(0.0, steps[-1], _FINE + 1)
    return np.column_stack([np.interp(even, steps, line[:, a]) for a in range(2)])


def _farthest(tree: Any, start: int) -> list[int]:
    """The way in a tree from a place to the farthest one."""
    from scipy.sparse.csgraph import dijkstra

    paths: Any = dijkstra(tree, directed=False, indices=start, return_predecessors=True)  # type: ignore[call-overload]
    reach, before = paths[0], paths[1]
    at, chain = int(np.where(np.isfinite(reach), reach, -1.0).argmax()), []
    while at >= 0:
        chain.append(at)
        at = int(before[at])
    return chain[::-1]


def _along(curve: Vec, inlet: Vec) -> Vec:
    """From the inlet's end on; without an inlet along the axis."""
    if len(inlet):
        gaps = [float(((inlet.mean(axis=0) - end) ** 2).sum()) for end in (curve[0], curve[-1])]
        return curve if gaps[0] <= gaps[1] else curve[::-1]
    return curve if curve[0, 0] <= curve[-1, 0] else curve[::-1]
