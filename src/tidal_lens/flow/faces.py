"""Outer faces of a grid."""

from __future__ import annotations

from typing import Any

import numpy as np
from numpy.typing import NDArray

from tidal_lens.flow.grid import HEX_FACES, HEXAHEDRON, Grid, StructuredGrid


def outer_faces(grid: Grid) -> NDArray[np.int64]:
    """Faces that belong to one cell only.

    Returns
    -------
    ndarray, shape (m, 4), int64
        Corners, counted within the block; a triangle repeats its last corner.
    """
    if isinstance(grid, StructuredGrid):
        return _structured_faces(grid.dims)
    ready: NDArray[np.int64] | None = grid.__dict__.get("_outer")
    if ready is None:
        ready = _unmatched_faces(grid.corners, bool((grid.types == HEXAHEDRON).all()))
        grid.__dict__["_outer"] = ready
    return ready


def _structured_faces(dims: tuple[int, int, int]) -> NDArray[np.int64]:
    index = np.arange(dims[0] * dims[1] * dims[2], dtype=np.int64).reshape(dims[::-1])
    sides = [index[:, :, 0], index[:, :, -1], index[:, 0, :], index[:, -1, :], index[0], index[-1]]
    return np.concatenate([quads_of_sheet(side) for side in sides])


def quads_of_sheet(index: NDArray[np.int64]) -> NDArray[np.int64]:
    """Quadrilaterals of a two-dimensional array of point numbers, shape (m, 4)."""
    return np.stack([index[:-1, :-1], index[:-1, 1:], index[1:, 1:], index[1:, :-1]], axis=-1).reshape(-1, 4)


def _unmatched_faces(corners: NDArray[np.int32], all_hexahedra: bool) -> NDArray[np.int64]:
    faces = np.concatenate([corners[:, face] for face in HEX_FACES])
    if not all_hexahedra:
        faces = drop_repeats(faces)
    return faces[_appear_once(faces)].astype(np.int64)


def drop_repeats(faces: NDArray[Any]) -> NDArray[Any]:
    """Bring collapsed faces to the form (a, b, c, c) and drop those that are no more than an edge."""
    nxt = np.roll(faces, -1, axis=1)
    repeats = faces == nxt
    n = repeats.sum(axis=1)
    opposite = (faces[:, 0] == faces[:, 2]) | (faces[:, 1] == faces[:, 3])
    triangles = faces[(n == 1) & ~opposite]
    at = repeats[(n == 1) & ~opposite].argmax(axis=1)
    # Rotate so that the repeated corner stands last and before last.
    columns = (np.arange(4)[None, :] + at[:, None] + 2) % 4
    turned = np.take_along_axis(triangles, columns, axis=1)
    return np.concatenate([faces[(n == 0) & ~opposite], turned])


def _face_keys(faces: NDArray[Any]) -> NDArray[np.uint64]:
    # The sum of mixed corner numbers: the same from whatever corner a face starts, and a triangle counts each of its
    # corners once. The chance that two of 10 million faces clash is 1e-5.
    mixed = np.arange(int(faces.max(initial=0)) + 1, dtype=np.uint64) + np.uint64(0x632BE59BD9B4E019)
    for shift, factor in ((30, 0xBF58476D1CE4E5B9), (27, 0x94D049BB133111EB)):
        mixed ^= mixed >> np.uint64(shift)
        mixed *= np.uint64(factor)
    mixed ^= mixed >> np.uint64(31)
    key: NDArray[np.uint64] = mixed[faces[:, 0]] + mixed[faces[:, 1]] + mixed[faces[:, 2]]
    key += np.where(faces[:, 3] == faces[:, 2], np.uint64(0), mixed[faces[:, 3]])
    return key


def _appear_once(faces: NDArray[Any]) -> NDArray[np.bool_]:
    keys = _face_keys(faces)
    order = np.argsort(keys)
    ranked = keys[order]
    same = ranked[1:] == ranked[:-1]
    once = np.ones(len(keys), dtype=bool)
    once[order[1:][same]] = False
    once[order[:-1][same]] = False
    return once


def unshared_mask(faces: NDArray[np.int64], labels: NDArray[np.int64]) -> NDArray[np.bool_]:
    """Which faces have corners that coincide with those of no other face.

    Parameters
    ----------
    faces : ndarray, shape (m, 4)
        Corners.
    labels : ndarray, shape (n,)
        The same label for nodes that lie on one another.
    """
    return _appear_once(labels[faces])
