"""Pictures painted by our own kernels.

A drawing library that has no graphics card to draw with spends most of its time on triangles that cover no pixel, as in the thin layers at
walls, and on making new buffers whenever a surface is another one; what is no larger than usual is painted sooner than that.
"""

from __future__ import annotations

from dataclasses import dataclass, replace
from functools import lru_cache
from typing import Any

import numpy as np
from numpy.typing import NDArray

from tidal_lens.cutting import painting_kernels as kernels
from tidal_lens.jit import is_there, signature_of
from tidal_lens.scene.balls import MOST, balls
from tidal_lens.scene.palettes import parse
from tidal_lens.scene.scene import BallsItem, Faces, Item, LinesItem, SurfaceItem
from tidal_lens.scene.sight import Lamps, Sight
from tidal_lens.work import WORKERS, read_only, run_chunks

_MOST_FACES = 1_000_000  # of what is painted here: a graphics card would draw more of them sooner
_MOST_PUT_DOWN = 3_000_000  # pixels of what is seen through, 32 bytes each, that are sorted at a time
_LIFT = 0.0096  # share of the depth of a scene by which lines that lie on a surface are drawn before it
_NONE = np.zeros(0, np.float32)
_NO_NORMALS = np.zeros((0, 3), np.float32)
_NO_TABLE = np.zeros((0, 4), np.uint8)
_NO_HEAD, _NO_POOL = np.zeros((0, 0), np.int32), np.zeros((0, 4))
_AMBIENT, _DIFFUSE = 0.42, 0.70  # of lit surfaces, as in pictures at rest
_BEYOND = {"colour": kernels.CLAMPED, "grey": kernels.GREY}
_LAYOUT = ("points", "faces", "offsets", "gaps", "radii", "values", "colours", "shaded")  # what lays an item out, where it has it


Painting = tuple[NDArray[np.uint8], NDArray[np.float32]]  # pixels (h, w, 4) and depths (h, w), infinite where there is nothing


def whole(pixels: NDArray[np.uint8]) -> NDArray[np.uint32]:
    """Pixels (h, w, 4) as (h, w) of four bytes each."""
    return pixels.view(np.uint32)[:, :, 0]


def can_paint(items: tuple[Item, ...]) -> bool:
    """Whether items are of the kinds that are painted here, and not too many for it."""
    count = 0
    for item in items:
        if isinstance(item, SurfaceItem):
            if item.mesh_lines:
                return False
            count += len(item.faces) * (1 + len(item.copies))
        elif isinstance(item, BallsItem):
            if len(item.points) > MOST // 30:
                return False
            count += 20 * len(item.points) * (1 + len(item.copies))
        else:
            count += len(item.points) * (1 + len(item.copies)) // 2
    return count <= _MOST_FACES


def doubled(pixels: NDArray[np.uint8], height: int, width: int) -> NDArray[np.uint8]:
    """A draft (h // 2, w // 2, 4) as large as what is to be shown (h, w, 4)."""
    out = np.empty((height, width, 4), np.uint8)
    small, large = pixels.reshape(len(pixels), -1), out.reshape(height, -1)
    run_chunks(lambda begin, end: kernels.double_rows(small, large, begin, end), height, max(-(-height // WORKERS), 64))
    return out


def halved(pixels: NDArray[np.uint8]) -> NDArray[np.uint8]:
    """A picture (2 h, 2 w, 4) of half the size."""
    out = np.empty((len(pixels) // 2, pixels.shape[1] // 2, 4), np.uint8)
    run_chunks(lambda begin, end: kernels.halve_rows(pixels, out, begin, end), len(out), max(-(-len(out) // WORKERS), 64))
    return out


@dataclass(frozen=True, eq=False)
class _Shape:
    """An item as it is painted: corners, and faces (m, 4) or ways from corner to corner (m, 2); all read only, for one kernel only."""

    points: NDArray[Any]
    parts: Faces
    values: NDArray[np.float32]
    normals: NDArray[np.float32]

    @staticmethod
    def of(points: NDArray[Any], parts: Faces, values: NDArray[np.float32], normals: NDArray[np.float32] = _NO_NORMALS) -> _Shape:
        return _Shape(read_only(np.ascontiguousarray(points, np.float64)), read_only(parts), read_only(values), read_only(normals))


def _laid_out(item: Item) -> _Shape:
    if isinstance(item, SurfaceItem):
        return _surface(item)
    return _lines(item) if isinstance(item, LinesItem) else _balls(item)


def _surface(item: SurfaceItem) -> _Shape:
    normals = _NO_NORMALS
    points, faces = np.ascontiguousarray(item.points, np.float64), np.ascontiguousarray(item.faces, np.int64)
    if item.shaded:
        normals = np.zeros((len(points), 3), np.float32)
        kernels.normals_of(read_only(points), read_only(faces), normals)
    return _Shape.of(points, faces, _values(item), normals)


def _lines(item: LinesItem) -> _Shape:
    drawn = np.ones(len(item.points), bool) if item.gaps is None else ~item.gaps
    drawn[item.offsets[1:] - 1] = False  # the way from a point to the next
    drawn[item.offsets[-1]:] = False
    begins = np.flatnonzero(drawn)
    return _Shape.of(item.points, np.column_stack([begins, begins + 1]), _values(item))


def _balls(item: BallsItem) -> _Shape:
    places, normals, faces = balls(item.points, item.radii)
    values = _values(item)
    if len(values):
        values = np.repeat(values, len(places) // max(len(item.points), 1))
    return _Shape.of(places, np.ascontiguousarray(faces[:, [0, 1, 2, 2]]), values, normals)


def _values(item: Item) -> NDArray[np.float32]:
    if item.values is None or item.colours is None:
        return _NONE
    return np.ascontiguousarray(item.values, np.float32)


def _how(item: Item) -> NDArray[np.float64]:
    how = np.zeros(kernels.SIZE)
    how[[kernels.RED, kernels.GREEN, kernels.BLUE]] = 255.0 * parse(item.colour)
    how[[kernels.AMBIENT, kernels.OPACITY]] = 1.0
    if (colours := item.colours) is not None:
        low, high = (np.log10([colours.low, colours.high]) if colours.log else (colours.low, colours.high))
        how[[kernels.LOW, kernels.HIGH, kernels.LOG]] = low, high, colours.log
        how[kernels.BEYOND] = _BEYOND.get(colours.beyond, kernels.HIDDEN)
    if isinstance(item, LinesItem):
        how[kernels.WIDTH] = item.width
    else:
        how[kernels.OPACITY] = item.opacity
        if isinstance(item, BallsItem) or item.shaded:
            how[[kernels.AMBIENT, kernels.DIFFUSE]] = _AMBIENT, _DIFFUSE
    return how


class Painter:
    """Paints items; keeps how they were laid out while they are drawn again and again. Of one thread."""

    def __init__(self) -> None:
        self._shapes: dict[str, tuple[tuple[int, ...], Item, _Shape]] = {}

    def item_at(self, items: tuple[Item, ...], sight: Sight, column: int, row: int) -> str | None:
        """The foremost of items at a pixel, also where it is seen through, of those that can be pointed at."""
        found, nearest = None, -np.inf
        width, height = sight.size
        pixels, near = np.empty((height, width, 4), np.uint8), np.empty((height, width), np.float32)  # but for one row not touched
        eye = _Eye.of(sight, ())
        for item in items:
            if isinstance(item, LinesItem) and not item.pickable:
                continue
            near[row] = -np.inf
            for step in self._steps(item, eye):
                step.how[kernels.OPACITY] = 1.0
                step.paint(pixels, near, row, row + 1)
            if near[row, column] > nearest:
                found, nearest = item.id, float(near[row, column])
        return found

    def paint(self, items: tuple[Item, ...], sight: Sight, lamps: Lamps, background: str,
              over: Painting | None = None) -> Painting:
        """Pixels (h, w, 4) and depths (h, w), infinite where there is nothing.

        Parameters
        ----------
        items : tuple
            What is drawn: see :func:`can_paint`.
        sight : Sight
            From where it is seen.
        lamps : tuple
            Where lamps stand as the eye sees them (right, up, back), and how strong they are.
        background : str
            Colour of the ground.
        over : tuple, optional
            Pixels and depths of what else there is, none of it seen through: painted over, in place of the ground.
        """
        width, height = sight.size
        pixels, near, depth = (np.empty((height, width, *rest), of) for of, rest in ((np.uint8, (4,)), (np.float32, ()), (np.float32, ())))
        ground = int(np.array([*np.round(255.0 * parse(background)), 255.0]).astype(np.uint8).view(np.uint32)[0])
        eye, parallel = _Eye.of(sight, lamps), sight.camera.span > 0.0
        self._shapes = {item.id: self._shapes[item.id] for item in items if item.id in self._shapes}
        whole_ones, clear_ones = ([step for item in items if _is_seen_through(item) is clear for step in self._steps(item, eye)]
                                  for clear in (False, True))
        head = np.empty((height, width), np.int32) if clear_ones else _NO_HEAD

        def rows(begin: int, end: int) -> None:
            if over is None:
                kernels.begin_rows(ground, whole(pixels), near, begin, end)
            else:
                kernels.begin_over(whole(over[0]), over[1], parallel, whole(pixels), near, begin, end)
            for step in whole_ones:
                step.paint(pixels, near, begin, end)
            if clear_ones:
                _seen_through(clear_ones, pixels, near, head, begin, end)
            kernels.end_rows(near, depth, parallel, begin, end)

        run_chunks(rows, height, max(-(-height // (2 * WORKERS)), 16))
        return pixels, depth

    def _steps(self, item: Item, eye: _Eye) -> list[_Step]:
        shape, how = self._shape(item), _how(item)
        for number, value in eye.how.items():
            how[number] = value
        if isinstance(item, LinesItem) and item.lying:
            how[kernels.LIFT] = eye.lift
        table = read_only(np.ascontiguousarray(item.colours.table) if len(shape.values) and item.colours is not None else _NO_TABLE)
        steps = []
        for move in (None, *item.copies):
            own = eye if move is None else eye.before(move)
            steps.append(_Step(shape, how, table, isinstance(item, LinesItem), own.seen(shape.points, how), own))
        return steps

    def _shape(self, item: Item) -> _Shape:
        layout = tuple(id(getattr(item, name, None)) for name in _LAYOUT)
        there = self._shapes.get(item.id)
        if there is None or there[0] != layout:
            there = self._shapes[item.id] = layout, item, _laid_out(item)  # held, so that ids stay their own
        return there[2]


def _is_seen_through(item: Item) -> bool:
    return not isinstance(item, LinesItem) and item.opacity < 1.0


@dataclass(frozen=True, eq=False)
class _Eye:
    """Who sees it: place and directions (4, 3), lamps (k, 3), what kernels ask for, and by how much nearer lines on surfaces are."""

    basis: NDArray[np.float64]
    lights: NDArray[np.float64]
    how: dict[int, float]
    lift: float

    @staticmethod
    def of(sight: Sight, lamps: Lamps) -> _Eye:
        camera, (width, height), (least, far), (left, top, wide, tall) = sight.camera, sight.size, sight.between, sight.part
        right, up, forward = camera.basis()
        lights = [strength * (np.array(place) / np.linalg.norm(place)) @ np.array([right, up, -forward]) for place, strength in lamps]
        half = 0.5 * height / tall
        how = {kernels.ACROSS: (0.5 - left) * width / wide, kernels.DOWN: (0.5 - top) * height / tall}
        if camera.span:
            how |= {kernels.PARALLEL: 1.0, kernels.LEAST: -np.inf, kernels.SCALE: half / camera.span}
            lift = far - least
        else:
            how |= {kernels.LEAST: least, kernels.SCALE: half / float(np.tan(np.radians(0.5 * camera.angle)))}
            lift = 1.0 / least - 1.0 / far
        return _Eye(np.array([camera.eye, right, up, forward]), np.array(lights).reshape(-1, 3), how, _LIFT * lift)

    def seen(self, points: NDArray[Any], how: NDArray[np.float64]) -> NDArray[np.float64]:
        """Points as they are seen: see :mod:`tidal_lens.cutting.painting_kernels`."""
        out = np.empty((len(points), 6))
        run_chunks(lambda a, b: kernels.place(points, self.basis, how, out, a, b), len(out), 8192)
        return out

    def before(self, move: NDArray[np.float64]) -> _Eye:
        """As it sees a copy, which is turned or mirrored, and shifted: moved the other way itself."""
        turn = move[:3, :3]
        basis = self.basis @ turn
        basis[0] -= move[:3, 3] @ turn
        return replace(self, basis=basis, lights=self.lights @ turn)


@dataclass(frozen=True, eq=False)
class _Step:
    """One item, or a copy of it, ready to be painted."""

    shape: _Shape
    how: NDArray[np.float64]
    table: NDArray[np.uint8]
    is_lines: bool
    seen: NDArray[np.float64]
    eye: _Eye

    def paint(self, pixels: NDArray[np.uint8], near: NDArray[np.float32], begin: int, end: int, head: NDArray[np.int32] = _NO_HEAD,
              pool: NDArray[np.float64] = _NO_POOL) -> None:
        shape = self.shape
        if self.is_lines:
            kernels.paint_lines(self.seen, shape.parts, shape.values, self.how, self.table, pixels, near, begin, end)
        else:
            kernels.paint_faces(self.seen, shape.parts, shape.values, shape.normals, self.eye.basis[3], self.eye.lights, self.how,
                                self.table, pixels, near, head, pool, begin, end)


def _seen_through(steps: list[_Step], pixels: NDArray[np.uint8], near: NDArray[np.float32], head: NDArray[np.int32], begin: int, end: int,
                  room: int = 0) -> None:
    """Paint all that is seen through in some rows; in fewer at a time where it would take much room."""
    room = room or min((end - begin) * head.shape[1], _MOST_PUT_DOWN)
    head[begin:end] = 0
    pool = np.empty((room + 1, 4))
    pool[0, 0] = 0.0
    for step in steps:
        step.paint(pixels, near, begin, end, head, pool)
    count = int(pool[0, 0])
    if count <= room:
        kernels.lay_over(head, pool, pixels, begin, end)
        return
    del pool
    if count <= _MOST_PUT_DOWN or end - begin == 1:
        _seen_through(steps, pixels, near, head, begin, end, count)
        return
    middle = (begin + end) // 2
    _seen_through(steps, pixels, near, head, begin, middle)
    _seen_through(steps, pixels, near, head, middle, end)


@lru_cache(maxsize=1)
def _signatures() -> tuple[tuple[Any, tuple[Any, ...]], ...]:
    """Each kernel with what it is called with."""
    eye = _Eye(np.zeros((4, 3)), np.zeros((2, 3)), {}, 0.0)
    shape, how, seen = _Shape.of(np.zeros((1, 3)), np.zeros((1, 4), np.int64), _NONE), np.zeros(kernels.SIZE), np.zeros((1, 6))
    pixels, near, table = np.zeros((1, 1, 4), np.uint8), np.zeros((1, 1), np.float32), read_only(_NO_TABLE)
    calls = ((kernels.place, (shape.points, eye.basis, how, seen, 0, 1)),
             (kernels.normals_of, (shape.points, shape.parts, np.zeros((1, 3), np.float32))),
             (kernels.begin_rows, (0, whole(pixels), near, 0, 1)), (kernels.end_rows, (near, near, True, 0, 1)),
             (kernels.begin_over, (whole(pixels), near, True, whole(pixels), near, 0, 1)), (kernels.halve_rows, (pixels, pixels, 0, 1)),
             (kernels.paint_faces, (seen, shape.parts, shape.values, shape.normals, eye.basis[3], eye.lights, how, table, pixels, near,
                                    _NO_HEAD, _NO_POOL, 0, 1)),
             (kernels.lay_over, (_NO_HEAD, _NO_POOL, pixels, 0, 1)),
             (kernels.paint_lines, (seen, shape.parts, shape.values, how, table, pixels, near, 0, 1)),
             (kernels.double_rows, (pixels[0], pixels[0], 0, 1)))
    return tuple((kernel, signature_of(*arguments)) for kernel, arguments in calls)


def is_compiled() -> bool:
    """Whether there is no need to compile anything."""
    return all(is_there(kernel, signature) for kernel, signature in _signatures())
