"""Boundaries: which there are where the file names none, and what kind each is."""

from __future__ import annotations

import re
from collections.abc import Callable, Sequence
from dataclasses import dataclass, replace
from typing import Any

import numpy as np
from numpy.typing import NDArray

from tidal_lens.flow.case import SOLID, Boundary, BoundaryKind
from tidal_lens.flow.faces import face_keys, of_polygons
from tidal_lens.flow.outside import Outside
from tidal_lens.work import checkpoint

_WORDS: tuple[tuple[BoundaryKind, str], ...] = (
    ("symmetry", "symm"),
    ("far field", "far.?field|freestream|free.?stream"),
    ("inlet", "inlet|inflow"),
    ("outlet", "outlet|outflow|exit"),
    ("periodic", "periodic|cyclic"),
    ("hub", r"(?<![a-z])hub(?![a-z])|spinner"),
    ("casing", r"casing|shroud"),
    ("blade", r"blade|(?<![a-z])vanes?(?![a-z])"),
    ("wall", "wall|body|surface|wing|fuselage|airfoil|aerofoil|floor|ground|hull|cylinder|sphere|baffle|plate|fence|"
             "flap|slat|spoiler|splitter|vane"),
)
_SHARP = np.cos(np.radians(40.0))
_MOST = 24  # patches of one kind that are told apart
PLANE = "the plane of the flow"
_FEW = 0.002  # of all its kind's area: such patches are put together
_CRUMB = 0.02  # the same where there are very many; steps of a staircase, where most of the area is in such
_STEPS = 8  # neighbours over which the steps of a body made of cubes are smoothed
_BESIDE = 0.35  # of the flow along a body: in cells beside it so much may run into it and out of it
_SEEPS = 0.02  # of the greatest speed: so much the cells beside the walls of a closed flow may run into them
_SLOW = 0.35  # of the greatest speed: what runs slower beside a face may be at rest on it
_THROUGH = 0.25  # of the greatest speed: a body's patch through which the mean flow is faster is an opening
_VOTED = 0.03  # of a smooth patch: less that is at rest, or moves, is no part of its own; nor is four times as much of
_FEW_FACES = 12  # faces: corners of coarse meshes have all their nodes on a wall


def kind_from_name(name: str) -> BoundaryKind | None:
    """Guess the kind of a boundary from its name, or None."""
    return next((kind for kind, pattern in _WORDS if re.search(pattern, name, re.IGNORECASE)), None)


def boundary_of_faces(name: str, kind: BoundaryKind, points: NDArray[np.float64], faces: NDArray[np.int64], reason: str = "", *,
                      found: bool = False) -> Boundary:
    """Make a boundary of faces that are given by the flow's nodes."""
    nodes, compact = np.unique(faces, return_inverse=True)
    return Boundary(name, kind, points[nodes], compact.reshape(faces.shape).astype(np.int64), nodes, reason, found)


@dataclass(frozen=True, eq=False)
class Motion:
    """How the flow moves at the outside.

    Attributes
    ----------
    at_faces : callable
        Velocity (m, 3) at some outer faces: the mean over a face's corners, or that of the cell behind it.
    still : callable
        Of some outer faces (m,): whether the velocity vanishes at all corners, or, behind them, is small and along the face.
    speed : float
        Greatest speed in the flow.
    parted : bool
        Whether a wall can be told face by face: values at nodes vanish on it, those in cells behind it only become small.
    normal : tuple of float or None
        Normal of a plane flow.
    """

    at_faces: Callable[[Outside], NDArray[Any]]
    still: Callable[[Outside], NDArray[np.bool_]]
    speed: float
    parted: bool
    normal: tuple[float, float, float] | None = None


def motion_of(velocity: NDArray[Any] | None, place: str, normal: tuple[float, float, float] | None = None) -> Motion | None:
    """The motion that node or cell values of velocity (n, 3) tell of; None without any."""
    if velocity is None or len(velocity) == 0:
        return None
    top = float(np.sqrt(np.nanmax(np.einsum("ij,ij->i", velocity, velocity), initial=0.0)))

    def node_still(outside: Outside) -> NDArray[np.bool_]:
        own = velocity[outside.faces]
        return np.asarray((np.abs(own) <= 1e-6 * top).all(axis=(1, 2)))

    def cell_still(outside: Outside) -> NDArray[np.bool_]:
        own = velocity[outside.cells]
        through = np.abs((own * _units(outside.areas)).sum(axis=1))
        speed = np.linalg.norm(own, axis=1)
        return np.asarray((speed < _SLOW * top) & (through <= 0.05 * speed + 1e-6 * top))

    if place == "node":
        return Motion(lambda outside: np.asarray(velocity[outside.faces].mean(axis=1)), node_still, top, True, normal)
    return Motion(lambda outside: np.asarray(velocity[outside.cells]), cell_still, top, False, normal)


def find_boundaries(points: NDArray[np.float64], outside: Outside, motion: Motion | None,
                    labels: NDArray[np.int64]) -> tuple[Boundary, ...]:
    """Split the outside at sharp edges and where no-slip walls end, and guess what each part is.

    Parameters
    ----------
    points : ndarray, shape (n, 3)
        Points of the flow.
    outside : Outside
        Its outer faces.
    motion : Motion or None
        The flow's motion; without it all kinds are open.
    labels : ndarray, shape (n,)
        The same label for nodes that lie on one another.
    """
    return _find(points, outside, _Seen.of(points, outside, motion, labels), np.ones(len(outside.faces), dtype=bool))


def _find(points: NDArray[np.float64], outside: Outside, seen: _Seen, rest: NDArray[np.bool_]) -> tuple[Boundary, ...]:
    """Boundaries of what no boundary of the file is."""
    chosen = np.flatnonzero(rest)
    if len(chosen) == 0:
        return ()
    checkpoint()
    patch, count = seen.patches(rest)
    checkpoint()
    sizes = np.bincount(patch, seen.size[chosen], count)
    kinds = seen.kinds(chosen, patch, count)
    # Faces of one patch stand together, so that the work does not grow with patches times faces.
    order = np.argsort(patch, kind="stable")
    ends = np.cumsum(np.bincount(patch, minlength=count))
    starts = np.concatenate([[0], ends[:-1]])
    by_kind: dict[BoundaryKind, list[int]] = {}
    for number in np.argsort(-sizes, kind="stable").tolist():
        by_kind.setdefault(kinds[number][0], []).append(number)
    found: list[Boundary] = []

    def own(numbers: list[int]) -> NDArray[np.int64]:
        return np.asarray(outside.faces[chosen[np.concatenate([order[starts[n]:ends[n]] for n in numbers])]])

    for kind, numbers in by_kind.items():
        whole = float(sizes[numbers].sum())
        large = [n for n in numbers if sizes[n] > (_FEW if len(numbers) <= _MOST else _CRUMB) * whole][:_MOST]
        if len(numbers) > _MOST and sizes[large].sum() < 0.5 * whole:
            found.append(boundary_of_faces(_name(kind, 0, 1), kind, points, own(numbers), kinds[numbers[0]][1], found=True))
            continue
        for at, number in enumerate(large):
            found.append(boundary_of_faces(_name(kind, at, len(large)), kind, points, own([number]), kinds[number][1], found=True))
        small = numbers[len(large):]
        if small:
            found.append(boundary_of_faces(f"{kind}, small parts (found)", kind, points, own(small), kinds[small[0]][1], found=True))
    return tuple(found)


def _name(kind: BoundaryKind, number: int, many: int) -> str:
    plain = "outside" if kind == "open" else kind
    return f"{plain} {number + 1} (found)" if many > 1 else f"{plain} (found)"


def _units(vectors: NDArray[np.float64]) -> NDArray[np.float64]:
    return np.asarray(vectors / np.maximum(np.linalg.norm(vectors, axis=1), 1e-300)[:, None])


@dataclass(frozen=True, eq=False)
class _Seen:
    """What is known of all outer faces (m).

    Attributes
    ----------
    size, normal, velocity, still : ndarray
        Area, unit normal, velocity, whether they are at rest.
    enclosed : ndarray
        Whether they are those of a body that lies wholly inside the flow.
    round : ndarray
        Whether, taken as a whole, the flow goes round that body, not through it.
    pairs : ndarray, shape (k, 2)
        Faces that share an edge.
    motion : Motion or None
        The flow's motion.
    sealed : bool
        Whether nothing enters or leaves anywhere.
    """

    size: NDArray[np.float64]
    normal: NDArray[np.float64]
    velocity: NDArray[np.float64] | None
    still: NDArray[np.bool_]
    enclosed: NDArray[np.bool_]
    round: NDArray[np.bool_]
    pairs: NDArray[np.int64]
    motion: Motion | None
    sealed: bool

    @staticmethod
    def of(points: NDArray[np.float64], outside: Outside, motion: Motion | None, labels: NDArray[np.int64]) -> _Seen:
        m = len(outside.faces)
        size = np.linalg.norm(outside.areas, axis=1)
        checkpoint()
        normal = _units(outside.areas)
        velocity = None if motion is None else np.nan_to_num(motion.at_faces(outside)).astype(np.float64)
        still = np.zeros(m, dtype=bool) if motion is None else motion.still(outside)
        checkpoint()
        pairs = _neighbours(outside.faces, labels)
        sealed = False
        body = _bodies(points, outside.faces, pairs)
        stepped = _stepped(normal, body, pairs)
        normal = _without_steps(normal, size, stepped, pairs)
        goes_round = np.zeros(m, dtype=bool)
        if motion is not None and velocity is not None:
            crossing = np.abs((velocity * normal).sum(axis=1)) * size
            own, along = np.bincount(body + 1, crossing), np.bincount(body + 1, np.linalg.norm(velocity, axis=1) * size)
            goes_round = np.asarray(own[body + 1] < np.where(stepped, _BESIDE, _most(motion)) * along[body + 1])
            across = motion.normal is None or np.abs(normal @ np.array(motion.normal)) < 0.99
            sealed = float((crossing * across).sum()) < 1e-2 * motion.speed * float((size * across).sum())
        checkpoint()
        return _Seen(size, normal, velocity, still, body >= 0, goes_round, pairs, motion, sealed)

    def patches(self, rest: NDArray[np.bool_]) -> tuple[NDArray[np.int64], int]:
        """Number of the smooth part that each of some faces belongs to, and how many parts there are."""
        a, b = self.pairs[:, 0], self.pairs[:, 1]
        smooth = rest[a] & rest[b] & ((self.normal[a] * self.normal[b]).sum(axis=1) > _SHARP)
        number = np.cumsum(rest) - 1
        a, b = number[a[smooth]], number[b[smooth]]
        wide, count = _components(a, b, int(rest.sum()))
        if self.motion is None or not self.motion.parted:
            return wide, count
        still, size = self.still[rest], self.size[rest]
        # A part at rest ends where the flow moves, but a few faces of the other kind do not make a boundary: the patch is one by vote.
        share = np.bincount(wide, size * still, count) / np.maximum(np.bincount(wide, size, count), 1e-300)
        mixed = (share > _VOTED) & (share < 1.0 - _VOTED)
        apart = mixed[wide[a]] & (still[a] != still[b])
        fine, many = _components(a[~apart], b[~apart], len(still))
        return _without_islands(fine, many, wide, still, size)

    def kinds(self, chosen: NDArray[np.int64], patch: NDArray[np.int64], count: int) -> list[tuple[BoundaryKind, str]]:
        """What each patch of some faces is, and why: rules of thumb, common practice, no source."""
        motion, velocity = self.motion, self.velocity
        if motion is None or velocity is None or motion.speed <= 0.0:
            return [("open", "there is no velocity to tell by")] * count

        def add(values: NDArray[Any]) -> NDArray[np.float64]:
            return np.asarray(np.bincount(patch, values, count))

        size, normal, own = self.size[chosen], self.normal[chosen], velocity[chosen]
        area, number = np.maximum(add(size), 1e-300), np.maximum(add(np.ones(len(chosen))), 1.0)
        flux = (own * normal).sum(axis=1) * size
        speed = np.linalg.norm(own, axis=1)
        mean = np.column_stack([add(own[:, c]) / number for c in range(3)])
        spread = np.sqrt(add(((own - mean[patch]) ** 2).sum(axis=1)) / number)
        told = _Told(inward=-add(np.minimum(flux, 0.0)), outward=add(np.maximum(flux, 0.0)), area=area,
                     still=add(size * self.still[chosen]) / area, even=spread < 0.01 * add(speed) / number,
                     flat=np.linalg.norm(np.column_stack([add(size * normal[:, c]) for c in range(3)]), axis=1) / area,
                     along=add(speed * size), enclosed=add(size * self.enclosed[chosen]) / area,
                     round=add(size * (self.enclosed & self.round)[chosen]) / area,
                     driven=self._driven(own, patch, count) if self.sealed else spread < 0.0)
        plane = np.zeros(count, dtype=bool)
        if motion.normal is not None:
            plane = add(np.abs(normal @ np.array(motion.normal)) <= 0.99) == 0.0
        return [("symmetry", PLANE) if plane[n] else told.kind(n, motion, sealed=self.sealed) for n in range(count)]


    @staticmethod
    def _driven(own: NDArray[np.float64], patch: NDArray[np.int64], count: int) -> NDArray[np.bool_]:
        """Whether most faces of a patch have the same velocity, as on a lid that moves; not told of very many patches."""
        out = np.zeros(count, dtype=bool)
        for n in range(count if count <= 100 else 0):
            mine = own[patch == n]
            usual = np.median(mine, axis=0) if len(mine) else np.zeros(3)
            top = float(np.linalg.norm(usual))
            out[n] = top > 0.0 and float((np.linalg.norm(mine - usual, axis=1) < 0.02 * top).mean()) > 0.6
        return out


@dataclass(frozen=True, eq=False)
class _Told:
    """Of patches: flow inward, outward, along; area; shares of it at rest, of bodies inside, of such as it goes round; what it is like."""

    inward: NDArray[np.float64]
    outward: NDArray[np.float64]
    area: NDArray[np.float64]
    still: NDArray[np.float64]
    even: NDArray[np.bool_]
    flat: NDArray[np.float64]
    along: NDArray[np.float64]
    enclosed: NDArray[np.float64]
    round: NDArray[np.float64]
    driven: NDArray[np.bool_]

    def kind(self, n: int, motion: Motion, *, sealed: bool) -> tuple[BoundaryKind, str]:
        if self.still[n] > 0.5:
            return "wall", "the velocity vanishes on it"
        inward, outward = float(self.inward[n]), float(self.outward[n])
        crossing = (inward + outward) / (motion.speed * float(self.area[n]))
        if self.enclosed[n] > 0.5 and inward + outward < _most(motion) * float(self.along[n]):
            return "wall", "a body inside the flow, and the flow runs along it"
        if self.round[n] > 0.5 and crossing < _THROUGH:  # before a blunt face the flow in the first cells still runs towards it
            return "wall", "part of a body inside the flow, and the flow goes round it"
        beside = float(self.along[n]) / (motion.speed * float(self.area[n]))
        if (sealed and not motion.parted and not self.driven[n] and 1e-3 <= crossing < _SEEPS and beside < _SLOW
                and inward + outward < _BESIDE * float(self.along[n])):
            return "wall", "the flow is slow beside it, and nothing comes in or leaves anywhere"
        if crossing < (_SEEPS if sealed and self.driven[n] else 1e-3) or inward + outward <= 0.0:
            flat = float(self.flat[n]) > 0.9999
            if sealed and self.driven[n]:
                return "wall", "it moves along itself: the flow follows it, and nothing comes in or leaves anywhere"
            if self.even[n] and not self.enclosed[n] > 0.5:
                return "far field", "the undisturbed stream runs along it"
            return ("symmetry", "plane, and the flow runs along it") if flat else ("wall", "the flow runs along it: a wall with slip")
        return _open_kind(inward, outward, even=bool(self.even[n]))


def _most(motion: Motion) -> float:
    """Share of the flow along a body that may run into it and out of it: in the cells beside it some does; more is a flow through."""
    return 0.05 if motion.parted else _BESIDE


def _neighbours(faces: NDArray[np.int64], labels: NDArray[np.int64]) -> NDArray[np.int64]:
    """Pairs of faces (k, 2) that share an edge."""
    ends = np.sort(np.stack([labels[faces], labels[np.roll(faces, -1, axis=1)]], axis=-1).reshape(-1, 2), axis=1)
    owner = np.repeat(np.arange(len(faces)), 4)
    real = ends[:, 0] != ends[:, 1]
    owner = owner[real]
    key = ends[real, 0] * np.int64(len(labels)) + ends[real, 1]
    checkpoint()
    order = np.argsort(key, kind="stable")
    key, owner = key[order], owner[order]
    same = key[1:] == key[:-1]
    return np.column_stack([owner[:-1][same], owner[1:][same]])


def _components(a: NDArray[np.int64], b: NDArray[np.int64], count: int) -> tuple[NDArray[np.int64], int]:
    from scipy.sparse import coo_array  # loaded when first needed, not before the window is up
    from scipy.sparse.csgraph import connected_components

    checkpoint()
    graph = coo_array((np.ones(len(a)), (a, b)), shape=(count, count))
    many, part = connected_components(graph, directed=False)
    return np.asarray(part).astype(np.int64), int(many)


def _without_islands(fine: NDArray[np.int64], many: int, wide: NDArray[np.int64], still: NDArray[np.bool_],
                     size: NDArray[np.float64]) -> tuple[NDArray[np.int64], int]:
    """Parts of a patch that are few faces of it go to its largest part, whatever they are like."""
    area = np.bincount(fine, size, many)
    home = np.zeros(many, np.int64)
    home[fine] = wide
    whole = np.bincount(wide, size)
    order = np.lexsort((area, home))
    largest = np.zeros(len(whole), np.int64)
    largest[home[order]] = order  # of each patch the last written, its largest part
    few = np.bincount(fine, minlength=many) < _FEW_FACES
    to = np.where((area < _VOTED * whole[home]) | (few & (area < 4.0 * _VOTED * whole[home])), largest[home], np.arange(many))
    _, part = np.unique(to[fine], return_inverse=True)
    return np.asarray(part).astype(np.int64), int(part.max(initial=-1)) + 1


def _bodies(points: NDArray[np.float64], faces: NDArray[np.int64], pairs: NDArray[np.int64]) -> NDArray[np.int64]:
    """Which closed surface, of those that reach none of the flow's least and greatest coordinates, each face is of; -1 of none."""
    if len(faces) == 0:
        return np.zeros(0, dtype=np.int64)
    part, count = _components(pairs[:, 0], pairs[:, 1], len(faces))
    checkpoint()
    low, high = np.full((count, 3), np.inf), np.full((count, 3), -np.inf)
    corners = points[faces]
    np.minimum.at(low, part, corners.min(axis=1))
    np.maximum.at(high, part, corners.max(axis=1))
    least, most = low.min(axis=0), high.max(axis=0)
    room = 1e-6 * (most - least)
    inside = ((low > least + room) & (high < most - room)).all(axis=1)
    return np.asarray(np.where(inside[part], part, -1))


def _stepped(normal: NDArray[np.float64], body: NDArray[np.int64], pairs: NDArray[np.int64]) -> NDArray[np.bool_]:
    """Which faces are of bodies that are made of cubes: very many parts with sharp edges between them."""
    own = pairs[body[pairs[:, 0]] >= 0]
    if len(own) == 0:
        return np.zeros(len(body), dtype=bool)
    smooth = (normal[own[:, 0]] * normal[own[:, 1]]).sum(axis=1) > _SHARP
    patch, count = _components(own[smooth, 0], own[smooth, 1], len(normal))
    of = np.full(count, -1)
    of[patch] = body
    parts = np.bincount(of + 1, minlength=int(body.max()) + 2)
    return np.asarray((body >= 0) & (parts[body + 1] > _MOST))


def _without_steps(normal: NDArray[np.float64], size: NDArray[np.float64], stepped: NDArray[np.bool_],
                   pairs: NDArray[np.int64]) -> NDArray[np.float64]:
    """Normals, on bodies that are made of cubes those of what the steps stand for: means over some steps about."""
    a, b = pairs[stepped[pairs[:, 0]]].T
    if len(a) == 0:
        return normal
    area = normal * size[:, None]
    for _ in range(_STEPS):
        checkpoint()
        about = [np.bincount(a, area[b, c], len(area)) + np.bincount(b, area[a, c], len(area)) for c in range(3)]
        area = (area + np.column_stack(about)) / 5.0
    return np.where(stepped[:, None], _units(area), normal)


def _open_kind(inward: float, outward: float, *, even: bool) -> tuple[BoundaryKind, str]:
    share = inward / (inward + outward)
    if share > 0.98:
        return "inlet", "the flow comes in through it"
    if share < 0.02:
        return "outlet", "the flow leaves through it"
    if even:
        return "far field", "the undisturbed stream crosses it"
    if share < 0.2:
        return "outlet", "most of the flow leaves through it"
    return "far field", "the flow comes in and leaves through it"


def owners(faces: NDArray[np.int64], boundaries: Sequence[Boundary], labels: NDArray[np.int64]) -> NDArray[np.int64]:
    """Which boundary each face is part of, one more than there are where it is part of none.

    Parameters
    ----------
    faces : ndarray, shape (m, 4)
        Corners as the flow's nodes.
    boundaries : sequence of Boundary
        Those without nodes of the flow have no part of it.
    labels : ndarray, shape (n,)
        The same label for nodes that lie on one another.
    """
    keys = [face_keys(labels[faces])]
    whose = [np.full(len(faces), -1)]
    for n, boundary in enumerate(boundaries):
        if boundary.nodes is not None and len(boundary.faces):
            keys.append(face_keys(labels[boundary.nodes[boundary.faces]]))
            whose.append(np.full(len(boundary.faces), n))
    if len(keys) == 1:
        return np.full(len(faces), len(boundaries))
    checkpoint()
    _, group = np.unique(np.concatenate(keys), return_inverse=True)
    found = np.full(int(group.max(initial=0)) + 1, len(boundaries))
    tags = np.concatenate(whose)
    found[group[tags >= 0]] = tags[tags >= 0]
    owner = np.asarray(found[group[: len(faces)]])
    checkpoint()
    left = np.flatnonzero(owner == len(boundaries))
    if len(left):
        for n, boundary in enumerate(boundaries):
            if boundary.nodes is not None and boundary.polygons is not None:
                of = of_polygons(labels[faces[left]], labels[boundary.nodes[boundary.faces]], boundary.polygons)
                owner[left[of]] = n
    return owner


def members(faces: NDArray[np.int64], boundary: Boundary, labels: NDArray[np.int64]) -> NDArray[np.bool_]:
    """Which faces (m, 4), given by the flow's nodes, are part of a boundary; parameters as of :func:`owners`."""
    return np.asarray(owners(faces, [boundary], labels) == 0)


def settle_boundaries(points: NDArray[np.float64], outside: Outside, named: Sequence[Boundary], motion: Motion | None,
                      labels: NDArray[np.int64]) -> tuple[Boundary, ...]:
    """Boundaries that the file names, their kinds guessed where it does not tell, and what is left of the outside.

    Parameters
    ----------
    points, outside, motion, labels
        As of :func:`find_boundaries`.
    named : sequence of Boundary
        Those of the file; one without a reason for its kind is guessed.
    """
    owner = owners(outside.faces, named, labels)
    checkpoint()
    seen = _Seen.of(points, outside, motion, labels)
    guessed = seen.kinds(np.arange(len(owner)), owner, len(named) + 1) if len(owner) else []
    many = np.bincount(owner, minlength=len(named) + 1)
    told: list[Boundary] = []
    for n, boundary in enumerate(named):
        if boundary.reason:
            told.append(boundary)
            continue
        by_name = kind_from_name(boundary.name)
        kind, reason = ((by_name, "by its name") if by_name else guessed[n] if many[n] else ("open", "it is not part of the outside"))
        told.append(replace(boundary, kind=kind, reason=reason))
    return (*told, *_find(points, outside, seen, owner == len(named)))


def told_apart(kind: BoundaryKind | None, name: str) -> BoundaryKind | None:
    """A kind that a file states, more closely by its name where that is one of a machine's walls."""
    by_name = kind_from_name(name) if kind == "wall" else None
    return by_name if by_name in SOLID else kind


def with_kind(boundary: Boundary, kind: BoundaryKind, reason: str) -> Boundary:
    """The same boundary taken to be of another kind."""
    return replace(boundary, kind=kind, reason=reason)


def nearest_wall(boundaries: Sequence[Boundary], place: NDArray[np.float64]) -> NDArray[np.float64] | None:
    """Unit normal of the wall face whose middle is nearest to a place (3,), of either sign; None where there are no walls."""
    found = nearest_boundary([b for b in boundaries if b.solid], place)
    if found is None:
        return None
    boundary, face = found
    a, b, c, d = boundary.points[boundary.faces[face]]
    across = np.cross(c - a, d - b)
    size = float(np.linalg.norm(across))
    return across / size if size > 0.0 else None


def nearest_boundary(boundaries: Sequence[Boundary], place: NDArray[np.float64]) -> tuple[Boundary, int] | None:
    """The boundary, and the number of its face, whose middle is nearest to a place (3,); None where there is none."""
    best, found = np.inf, None
    for boundary in boundaries:
        if len(boundary.faces):
            gaps = ((boundary.points[boundary.faces].mean(axis=1) - place) ** 2).sum(axis=1)
            if float(gaps.min()) < best:
                best, found = float(gaps.min()), (boundary, int(gaps.argmin()))
    return found
