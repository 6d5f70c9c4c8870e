"""Boundaries: which there are where the file names none, and what kind each is."""

from __future__ import annotations

import re
from collections.abc import Callable, Sequence
from dataclasses import dataclass, replace
from typing import Any

import numpy as np
from numpy.typing import NDArray

from tidal_lens.flow.case import Boundary, BoundaryKind
from tidal_lens.flow.faces import face_keys
from tidal_lens.flow.outside import Outside

_WORDS: tuple[tuple[BoundaryKind, str], ...] = (
    ("symmetry", "symm"),
    ("far field", "far.?field|freestream|free.?stream"),
    ("inlet", "inlet|inflow"),
    ("outlet", "outlet|outflow|exit"),
    ("wall", "wall|body|surface|wing|fuselage|blade|hub|shroud|airfoil|aerofoil|floor|ground|hull|cylinder|sphere"),
)
_SHARP = np.cos(np.radians(40.0))
_MOST = 24  # patches of one kind that are told apart
PLANE = "the plane of the flow"
_FEW = 0.002  # of all its kind's area: such patches are put together


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
        return np.asarray((speed < 0.35 * top) & (through <= 0.05 * speed + 1e-6 * top))

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
    if len(outside.faces) == 0:
        return ()
    patch = _patches(outside, motion, labels)
    size = np.linalg.norm(outside.areas, axis=1)
    told: list[tuple[BoundaryKind, str, NDArray[np.bool_], float]] = []
    for number in np.argsort(-np.bincount(patch, size), kind="stable"):
        own = patch == number
        kind, reason = guess_kind(points, outside.of(own), motion)
        told.append((kind, reason, own, float(size[own].sum())))
    found: list[Boundary] = []
    for kind in dict.fromkeys(k for k, *_ in told):
        same = [t for t in told if t[0] == kind]
        whole = sum(t[3] for t in same)
        large = [t for t in same if t[3] > _FEW * whole][:_MOST]
        for number, (_, reason, own, _) in enumerate(large):
            found.append(boundary_of_faces(_name(kind, number, len(large)), kind, points, outside.faces[own], reason, found=True))
        small = [t for t in same if not any(t[2] is u[2] for u in large)]
        if small:
            own = np.logical_or.reduce([t[2] for t in small])
            found.append(boundary_of_faces(f"{kind}, small parts (found)", kind, points, outside.faces[own], small[0][1], found=True))
    return tuple(found)


def _name(kind: BoundaryKind, number: int, many: int) -> str:
    plain = "outside" if kind == "open" else kind
    return f"{plain} {number + 1} (found)" if many > 1 else f"{plain} (found)"


def _patches(outside: Outside, motion: Motion | None, labels: NDArray[np.int64]) -> NDArray[np.int64]:
    """Number of the smooth part that each face belongs to, shape (m,)."""
    from scipy.sparse import coo_array
    from scipy.sparse.csgraph import connected_components

    faces, m = outside.faces, len(outside.faces)
    ends = np.sort(np.stack([labels[faces], labels[np.roll(faces, -1, axis=1)]], axis=-1).reshape(-1, 2), axis=1)
    owner = np.repeat(np.arange(m), 4)
    real = ends[:, 0] != ends[:, 1]
    ends, owner = ends[real], owner[real]
    order = np.lexsort((ends[:, 1], ends[:, 0]))
    ends, owner = ends[order], owner[order]
    same = (ends[1:] == ends[:-1]).all(axis=1)
    a, b = owner[:-1][same], owner[1:][same]
    normal = _units(outside.areas)
    smooth = (normal[a] * normal[b]).sum(axis=1) > _SHARP
    if motion is not None and motion.parted:
        still = motion.still(outside)
        smooth &= still[a] == still[b]
    graph = coo_array((np.ones(int(smooth.sum())), (a[smooth], b[smooth])), shape=(m, m))
    return np.asarray(connected_components(graph, directed=False)[1]).astype(np.int64)


def _units(vectors: NDArray[np.float64]) -> NDArray[np.float64]:
    return np.asarray(vectors / np.maximum(np.linalg.norm(vectors, axis=1), 1e-300)[:, None])


def guess_kind(points: NDArray[np.float64], outside: Outside, motion: Motion | None) -> tuple[BoundaryKind, str]:
    """What a part of the outside is, and why: rules of thumb, common practice, no source.

    Parameters
    ----------
    points : ndarray, shape (n, 3)
        Points of the flow.
    outside : Outside
        The part's faces.
    motion : Motion or None
        The flow's motion.
    """
    if motion is None or motion.speed <= 0.0:
        return "open", "there is no velocity to tell by"
    size = np.linalg.norm(outside.areas, axis=1)
    normal = _units(outside.areas)
    if motion.normal is not None and bool((np.abs(normal @ np.array(motion.normal)) > 0.99).all()):
        return "symmetry", PLANE
    if float(size[motion.still(outside)].sum()) > 0.5 * float(size.sum()):
        return "wall", "the velocity vanishes on it"
    velocity = np.nan_to_num(motion.at_faces(outside))
    flux = (velocity * normal).sum(axis=1) * size
    inward, outward = -float(np.minimum(flux, 0.0).sum()), float(np.maximum(flux, 0.0).sum())
    crossing = (inward + outward) / max(motion.speed * float(size.sum()), 1e-300)
    speeds = np.linalg.norm(velocity, axis=1)
    mean = velocity.mean(axis=0)
    even = float(np.sqrt(((velocity - mean) ** 2).sum(axis=1).mean())) < 0.01 * float(speeds.mean())
    if crossing < 1e-3 or inward + outward <= 0.0:
        if even:
            return "far field", "the undisturbed stream runs along it"
        flat = float(np.linalg.norm((normal * size[:, None]).sum(axis=0))) > 0.9999 * float(size.sum())
        return ("symmetry", "plane, and the flow runs along it") if flat else ("wall", "the flow runs along it: a wall with slip")
    return _open_kind(inward, outward, even=even)


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
    _, group = np.unique(np.concatenate(keys), return_inverse=True)
    found = np.full(int(group.max(initial=0)) + 1, len(boundaries))
    tags = np.concatenate(whose)
    found[group[tags >= 0]] = tags[tags >= 0]
    return np.asarray(found[group[: len(faces)]])


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
    told: list[Boundary] = []
    for n, boundary in enumerate(named):
        if boundary.reason:
            told.append(boundary)
            continue
        by_name = kind_from_name(boundary.name)
        own = outside.of(owner == n)
        kind, reason = ((by_name, "by its name") if by_name else guess_kind(points, own, motion) if len(own.faces)
                        else ("open", "it is not part of the outside"))
        told.append(replace(boundary, kind=kind, reason=reason))
    return (*told, *find_boundaries(points, outside.of(owner == len(named)), motion, labels))


def with_kind(boundary: Boundary, kind: BoundaryKind, reason: str) -> Boundary:
    """The same boundary taken to be of another kind."""
    return replace(boundary, kind=kind, reason=reason)
