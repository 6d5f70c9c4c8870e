"""A scene as one binary glTF file: coloured surfaces and lines, no larger than asked for (Khronos Group, glTF 2.0 specification)."""

from __future__ import annotations

import json
import struct
from collections.abc import Sequence
from typing import Any

import numpy as np
from numpy.typing import NDArray

from tidal_lens.scene.palettes import parse
from tidal_lens.scene.scene import BallsItem, ColourMap, Item, LinesItem, Scene, SurfaceItem

_FLOAT, _UINT, _UBYTE = 5126, 5125, 5121
_TRIANGLES, _LINES, _POINTS = 4, 1, 0
_GREY = (158, 158, 158)
MOST = 400_000  # triangles of all surfaces together
_MOST_POINTS = 300_000  # of all lines together
_ROUNDS = 12  # of finding cells that merge enough


def glb(scene: Scene, most: int = MOST) -> bytes:
    """A scene as glTF.

    Parameters
    ----------
    scene : Scene
        What is drawn; copies of items are left out.
    most : int
        Triangles that all surfaces may have together: nodes of finer ones are merged.

    Returns
    -------
    bytes
        The file, its positions about the middle of the scene in ``extras.middle``.
    """
    out = _File()
    surfaces = [i for i in scene.items if isinstance(i, SurfaceItem) and len(i.faces)]
    counts = [len(_triangles(i.faces)) for i in surfaces]
    share = min(1.0, most / max(sum(counts), 1))
    for item, count in zip(surfaces, counts, strict=True):
        out.surface(item, max(200, int(share * count)))
    lines = [i for i in scene.items if isinstance(i, LinesItem) and len(i.points)]
    every = max(1, -(-sum(len(i.points) for i in lines) // _MOST_POINTS))
    for run in lines:
        out.lines(run, every)
    for balls in scene.items:
        if isinstance(balls, BallsItem) and len(balls.points):
            out.points(balls)
    return out.whole()


def tints(item: Item) -> NDArray[np.uint8]:
    """Colour of each point of an item, shape (n, 4)."""
    n = len(item.points)
    own = np.empty((n, 4), np.uint8)
    own[:, :3] = np.rint(255.0 * parse(item.colour))
    own[:, 3] = 255 if isinstance(item, LinesItem) else round(255 * item.opacity)
    if item.values is not None and item.colours is not None:
        own[:, :3] = _mapped(item.values, item.colours)
    return own


def _mapped(values: NDArray[np.float64], by: ColourMap) -> NDArray[np.uint8]:
    low, high, v = by.low, by.high, np.asarray(values, float)
    with np.errstate(invalid="ignore", divide="ignore"):
        share = (np.log(v) - np.log(low)) / (np.log(high) - np.log(low)) if by.log else (v - low) / (high - low if high != low else 1.0)
    good = np.isfinite(share)
    at = np.clip((np.where(good, share, 0.0) * len(by.table)).astype(int), 0, len(by.table) - 1)
    out = by.table[at, :3].copy()
    out[~good] = _GREY
    if by.beyond != "colour":
        out[good & ((share < 0.0) | (share > 1.0))] = _GREY
    return out


def _triangles(faces: NDArray[np.int64]) -> NDArray[np.int64]:
    """Faces (m, 4), the last vertex twice for triangles, as triangles (k, 3)."""
    first, second = faces[:, [0, 1, 2]], faces[:, [0, 2, 3]]
    return np.vstack([first, second[faces[:, 2] != faces[:, 3]]])


def merged(points: NDArray[np.float64], triangles: NDArray[np.int64], most: int) -> tuple[NDArray[np.int64], NDArray[np.int64]]:
    """Which points are kept, and triangles between them, at most so many: those in one cell of a lattice become the first of them.

    After Rossignac and Borrel 1993, Multi-resolution 3D approximations for rendering complex scenes (from memory).
    """
    if len(triangles) <= most:
        return np.arange(len(points)), triangles
    low, size = points.min(axis=0), float(np.ptp(points, axis=0).max()) or 1.0
    few, many = 2.0, float(2 * int(np.sqrt(most)) + 8)
    best: tuple[NDArray[np.int64], NDArray[np.int64]] | None = None
    for _ in range(_ROUNDS):
        cells = np.sqrt(few * many)
        at = ((points - low) * (cells / size)).astype(np.int64)
        key = (at[:, 0] * 2_000_003 + at[:, 1]) * 2_000_003 + at[:, 2]
        _, first, inverse = np.unique(key, return_index=True, return_inverse=True)
        own = inverse.reshape(-1)[triangles]
        own = own[(own[:, 0] != own[:, 1]) & (own[:, 1] != own[:, 2]) & (own[:, 0] != own[:, 2])]
        if len(own) <= most:
            few, best = cells, (first, own)
        else:
            many = cells
    return best if best is not None else (np.arange(len(points)), triangles[:: max(1, len(triangles) // most)][:most])


class _File:
    """What is put together: nodes, meshes, and one buffer."""

    def __init__(self) -> None:
        self._json: dict[str, Any] = {"asset": {"version": "2.0", "generator": "Tidal Lens"}, "scene": 0, "scenes": [{"nodes": []}],
                                      "nodes": [], "meshes": [], "materials": [], "accessors": [], "bufferViews": [],
                                      "extensionsUsed": ["KHR_materials_unlit"]}
        self._parts: list[bytes] = []
        self._length = 0

    def surface(self, item: SurfaceItem, most: int) -> None:
        good = np.asarray(np.isfinite(item.points).all(axis=1))
        triangles = _triangles(np.asarray(item.faces))
        triangles = triangles[good[triangles].all(axis=1)]
        if not len(triangles):
            return
        kept, faces = merged(np.where(good[:, None], item.points, 0.0), triangles, most)
        used, faces = np.unique(faces, return_inverse=True)
        kept, faces = kept[used], faces.reshape(-1, 3)
        self._mesh(item.id, item.points[kept], tints(item)[kept], faces, _TRIANGLES, lit=item.shaded, clear=item.opacity < 1.0)

    def lines(self, item: LinesItem, every: int) -> None:
        pieces: list[NDArray[np.int64]] = []
        for a, b in zip(item.offsets[:-1], item.offsets[1:], strict=True):
            run = np.append(np.arange(a, b - 1, every), b - 1) if b - a > 1 else np.empty(0, np.int64)
            pieces.append(np.column_stack([run[:-1], run[1:]]))
        pairs = np.vstack(pieces) if pieces else np.empty((0, 2), np.int64)
        if len(pairs):
            self._mesh(item.id, item.points, tints(item), pairs, _LINES, lit=False, clear=False)

    def points(self, item: BallsItem) -> None:
        few = np.linspace(0, len(item.points) - 1, min(len(item.points), _MOST_POINTS)).astype(int)
        self._mesh(item.id, item.points[few], tints(item)[few], np.arange(len(few)), _POINTS, lit=False, clear=False)

    def _mesh(self, name: str, points: NDArray[np.float64], colours: NDArray[np.uint8], indices: NDArray[np.int64], mode: int, *,
              lit: bool, clear: bool) -> None:
        places = np.ascontiguousarray(points, np.float32)
        material: dict[str, Any] = {"pbrMetallicRoughness": {"metallicFactor": 0.0, "roughnessFactor": 0.9}, "doubleSided": True}
        if not lit:
            material["extensions"] = {"KHR_materials_unlit": {}}
        if clear:
            material["alphaMode"] = "BLEND"
        linear = colours.copy()
        linear[:, :3] = _TO_LINEAR[colours[:, :3]]
        attributes = {"POSITION": self._accessor(places, _FLOAT, "VEC3", 34962, {"min": places.min(axis=0).tolist(),
                                                                                "max": places.max(axis=0).tolist()}),
                      "COLOR_0": self._accessor(linear, _UBYTE, "VEC4", 34962, {"normalized": True})}
        primitive = {"attributes": attributes, "mode": mode, "material": len(self._json["materials"]),
                     "indices": self._accessor(np.ascontiguousarray(indices.ravel(), np.uint32), _UINT, "SCALAR", 34963, {})}
        self._json["materials"].append(material)
        self._json["scenes"][0]["nodes"].append(len(self._json["nodes"]))
        self._json["nodes"].append({"mesh": len(self._json["meshes"]), "name": name})
        self._json["meshes"].append({"primitives": [primitive]})

    def _accessor(self, array: NDArray[Any], kind: int, shape: str, target: int, more: dict[str, Any]) -> int:
        raw = array.tobytes()
        raw += b"\0" * (-len(raw) % 4)
        self._json["bufferViews"].append({"buffer": 0, "byteOffset": self._length, "byteLength": len(raw), "target": target})
        self._json["accessors"].append({"bufferView": len(self._json["bufferViews"]) - 1, "componentType": kind,
                                        "count": len(array), "type": shape, **more})
        self._parts.append(raw)
        self._length += len(raw)
        return len(self._json["accessors"]) - 1

    def whole(self) -> bytes:
        """The file."""
        body = b"".join(self._parts)
        if body:
            self._json["buffers"] = [{"byteLength": len(body)}]
        told = {k: v for k, v in self._json.items() if v not in ([], {})}
        text = json.dumps(told, separators=(",", ":")).encode()
        text += b" " * (-len(text) % 4)
        chunks: Sequence[tuple[bytes, bytes]] = [(b"JSON", text), *([(b"BIN\0", body)] if body else [])]
        length = 12 + sum(8 + len(raw) for _, raw in chunks)
        return b"".join([struct.pack("<4sII", b"glTF", 2, length), *(struct.pack("<I4s", len(raw), kind) + raw for kind, raw in chunks)])


def _linear() -> NDArray[np.uint8]:
    """From screen colours to the linear ones that the format wants (IEC 61966-2-1)."""
    s = np.arange(256) / 255.0
    return np.rint(255.0 * np.where(s <= 0.04045, s / 12.92, ((s + 0.055) / 1.055) ** 2.4)).astype(np.uint8)


_TO_LINEAR = _linear()
