"""What draws scenes behind the renderer; everything here runs on its thread."""

from __future__ import annotations

import time
from collections.abc import Callable, Collection
from dataclasses import dataclass, replace
from functools import cached_property
from typing import TYPE_CHECKING, Any

import numpy as np
from numpy.typing import NDArray

from tidal_lens.scene.camera import Camera
from tidal_lens.scene.painting import Painter, Painting, can_paint, doubled, halved, is_compiled, whole
from tidal_lens.scene.scene import Item, LinesItem, Scene, SurfaceItem, shown_items, thicker
from tidal_lens.scene.sight import LAMP, WHOLE, Part, Shown, Sight, lamps, reach
from tidal_lens.scene.texture import Streaks, directions, laid_over, smeared
from tidal_lens.work import Token

if TYPE_CHECKING:
    from tidal_lens.scene.library import Library

_PAUSE = 2.0  # seconds between looks whether others have compiled
SMALL, LARGER = (264, 120), (320, 220)
_FINE = 3_000_000  # pixels of a picture at most that is drawn at twice its size
_TILE = 1600  # pixels a side of the parts that larger ones are drawn in
_Drawn = Callable[..., Painting]  # of the names of items (None: all), and what they are drawn over


def _drawn_by(item: Item) -> tuple[Any, ...]:
    """All that an item is drawn by, but for the streaks over it."""
    if isinstance(item, SurfaceItem):
        return (item.id, id(item.points), id(item.faces), id(item.values), id(item.colours), item.colour, item.opacity, item.mesh_lines,
                item.shaded, id(item.copies))
    return item.id, id(item)


@dataclass(frozen=True, eq=False)
class _Before:
    """The draft before: what its items were drawn by, and which of them have changed while nothing else did."""

    frame: tuple[Any, ...]
    looks: dict[str, tuple[Any, ...]]
    moving: frozenset[str]
    held: tuple[Any, ...]  # so that ids stay their own


@dataclass(frozen=True, eq=False)
class _Rest:
    """A draft of all that does not move while something is dragged."""

    basis: tuple[Any, ...]
    pixels: NDArray[np.uint8]
    depth: NDArray[np.float32]
    held: tuple[Any, ...]


def _hides(item: Item) -> bool:
    """Whether an item hides all that is behind it, wherever it is."""
    return _is_opaque(item) and (isinstance(item, LinesItem) or item.colours is None or item.colours.beyond in ("colour", "grey"))


def _is_opaque(item: Item) -> bool:
    """Whether an item hides all that is behind it, wherever its colours are not hidden: the painter knows."""
    return isinstance(item, LinesItem) or item.opacity >= 1.0


class Canvas:
    """Draws scenes, and small pictures of single items: paints them itself where it can, else with the library.

    Parameters
    ----------
    patient : bool
        Whether it compiles what it paints with where that was never done; else the library draws until others have.
    """

    def __init__(self, *, patient: bool = True) -> None:
        self._painter = Painter()
        self._paints, self._asked_at = patient, -np.inf
        self._shown: Shown | None = None
        self._last: tuple[Any, ...] | None = None
        self._before: _Before | None = None
        self._rest: _Rest | None = None
        self._ways: dict[str, tuple[Any, ...]] = {}  # directions on the screen of items with a texture

    def draw(self, scene: Scene, camera: Camera, width: int, height: int, ratio: float,
             draft: bool) -> tuple[NDArray[np.uint8], NDArray[np.float32]]:
        """Pixels (h, w, 4) and depths (h, w) of a scene; a draft has half the size, and what is no draft is drawn finer and averaged."""
        return self._textured(scene, camera, *self._plain(scene, camera, width, height, ratio, draft))

    def draw_shown(self, scene: Scene, camera: Camera, width: int, height: int, ratio: float,
                   draft: bool) -> tuple[NDArray[np.uint8], NDArray[np.float32]]:
        """As :meth:`draw`, with the pixels of a draft enlarged to what is to be shown."""
        pixels, depth = self.draw(scene, camera, width, height, ratio, draft)
        return doubled(pixels, height, width) if draft else pixels, depth

    def draw_large(self, scene: Scene, camera: Camera, width: int, height: int, ratio: float,
                   token: Token | None = None) -> tuple[NDArray[np.uint8], NDArray[np.float32]]:
        """As :meth:`draw` in full, of any size, part by part."""
        if width <= _TILE and height <= _TILE:
            return self.draw(scene, camera, width, height, ratio, draft=False)
        pixels, depth = np.empty((height, width, 4), np.uint8), np.empty((height, width), np.float32)
        rows, columns = (range(0, n, _TILE) for n in (height, width))
        for number, (y, x) in enumerate((y, x) for y in rows for x in columns):
            if token is not None:
                token.report(number / (len(rows) * len(columns)))
            wide, tall = min(_TILE, width - x), min(_TILE, height - y)
            part = x / width, y / height, wide / width, tall / height
            own = np.s_[y:y + tall, x:x + wide]
            pixels[own], depth[own] = self._plain(scene, camera, wide, tall, ratio, draft=False, part=part)
        return self._textured(scene, camera, pixels, depth)

    def _textured(self, scene: Scene, camera: Camera, pixels: NDArray[np.uint8],
                  depth: NDArray[np.float32]) -> tuple[NDArray[np.uint8], NDArray[np.float32]]:
        """The picture with the textures of its surfaces."""
        self._ways = {i.id: self._ways[i.id] for i in scene.items if i.id in self._ways}
        textured = [i for i in scene.items if isinstance(i, SurfaceItem) and i.streaks is not None and len(i.points)]
        if textured:
            pixels = pixels.copy()  # without streaks it may be wanted again: while they run nothing else changes
        for item in textured:
            assert item.streaks is not None
            self._texture(item, item.streaks, camera, pixels, depth)
        return pixels, depth

    def _plain(self, scene: Scene, camera: Camera, width: int, height: int, ratio: float,
               draft: bool, part: Part = WHOLE) -> tuple[NDArray[np.uint8], NDArray[np.float32]]:
        """The picture without textures; the last one again if nothing else changed."""
        frame = id(camera), scene.background, scene.lamp, width, height, ratio, draft, part
        basis = (*map(_drawn_by, scene.items), *frame)
        if self._last is not None and self._last[0] == basis:
            return self._last[1], self._last[2]
        fine = not draft and width * height <= _FINE
        scale = 2.0 if fine else 0.5 if draft else 1.0
        wide, tall = max(int(width * scale), 8), max(int(height * scale), 8)
        items = tuple(thicker(i, ratio * scale) for i in shown_items(scene.items))
        sight = Sight(camera, (wide, tall), reach(camera, scene.low, scene.high), part)
        shown = self._shown = Shown(items, scene, sight, draft=draft, fine=fine)

        def drawn(names: Collection[str] | None, over: Painting | None = None) -> Painting:
            own = items if names is None else tuple(i for i in items if i.id in names)
            if (draft or fine) and self._can_paint(own):  # what is not drawn finer is smoothed
                pixels, depth = self._painter.paint(own, sight, lamps(scene.lamp), scene.background, over)
                if not draft:
                    self._let_go()
            else:
                pixels, depth = self._library.draw(shown, names)
                if over is not None:
                    behind = (over[1] < depth) | np.isinf(depth)
                    np.copyto(whole(pixels), whole(over[0]), where=behind)
                    depth = np.minimum(depth, over[1])
            return (halved(pixels), depth[::2, ::2]) if fine else (pixels, depth)

        pixels, depth = self._over_the_rest(drawn, scene, camera, frame) if draft else drawn(None)
        if not draft:
            self._before = self._rest = None
        pixels[..., 3] = 255  # Qt relies on it though it says that it does not
        self._last = basis, pixels, depth, (scene, camera)  # held, so that ids stay their own
        return pixels, depth

    def _over_the_rest(self, drawn: _Drawn, scene: Scene, camera: Camera, frame: tuple[Any, ...]) -> Painting:
        """A draft: where the same few items change again and again, only they are drawn, over a picture of the others."""
        looks, before = {item.id: _drawn_by(item) for item in scene.items}, self._before
        moving = frozenset[str]()
        if before is not None and before.frame == frame and before.looks.keys() == looks.keys():
            moving = before.moving | {name for name, look in looks.items() if before.looks[name] != look}
        self._before = _Before(frame, looks, moving, (scene, camera))
        others = looks.keys() - moving
        is_clear = all(map(_hides, scene.items)) or (all(_is_opaque(item) for item in scene.items if item.id in others)
                                                     and self._can_paint(shown_items(scene.items)))
        if not moving or not others or not is_clear:
            self._rest = None
            return drawn(None)
        basis = (frame, *(looks[name] for name in looks if name in others))
        if self._rest is None or self._rest.basis != basis:
            self._rest = _Rest(basis, *drawn(others), (scene, camera))
        return drawn(moving, (self._rest.pixels, self._rest.depth))

    def _texture(self, item: SurfaceItem, how: Streaks, camera: Camera, pixels: NDArray[np.uint8], depth: NDArray[np.float32]) -> None:
        basis = (id(item.points), id(how.vectors), id(camera), depth.shape)
        there = self._ways.get(item.id)
        if there is None or there[0] != basis or there[2] is not depth:
            ways = directions(camera, item.points, item.faces, how.vectors, depth)
            there = basis, ways, depth, (item.points, how.vectors, camera)  # held, so that ids stay their own
            self._ways[item.id] = there
        laid_over(pixels, smeared(there[1], how), how.contrast)

    def item_at(self, x: float, y: float) -> str | None:
        """The item at a place of the last picture (0..1 from the top left), or None."""
        shown = self._shown
        if shown is None:
            return None
        if not self._can_paint(shown.items):
            return self._library.item_at(shown, x, y)
        wide, tall = shown.sight.size
        column, row = min(max(int(x * wide), 0), wide - 1), min(max(int(y * tall), 0), tall - 1)
        return self._painter.item_at(shown.items, shown.sight, column, row)

    def _can_paint(self, items: tuple[Item, ...]) -> bool:
        if not self._paints and time.monotonic() - self._asked_at > _PAUSE:
            self._asked_at = time.monotonic()
            self._paints = is_compiled()
        return self._paints and can_paint(items)

    @cached_property
    def _library(self) -> Library:
        from tidal_lens.scene.library import Library  # loaded when first needed: seldom

        return Library()

    def draw_small(self, item: Item, camera: Camera, background: str,
                   box: tuple[NDArray[np.float64], NDArray[np.float64]] | None = None) -> NDArray[np.uint8]:
        """A small picture of one item: it fills it; or, of what lies in a box (low, high), as the camera sees it, somewhat larger."""
        size, items = LARGER if box else SMALL, shown_items((replace(item, copies=()),))
        good = item.points[np.isfinite(item.points).all(axis=1)]
        low, high = box or ((good.min(axis=0), good.max(axis=0)) if len(good) else (np.zeros(3), np.ones(3)))
        seen_by = camera if box else camera.framing(low, high, SMALL[0] / SMALL[1])
        if self._can_paint(items):
            fine = tuple(thicker(i, 2.0) for i in items)
            sight = Sight(seen_by, (2 * size[0], 2 * size[1]), reach(seen_by, low, high))
            return halved(Painter().paint(fine, sight, lamps(LAMP), background)[0])
        return self._library.draw_small(items, seen_by, (low, high), size, background)

    def close(self) -> None:
        """Let go of the windows."""
        self._let_go()

    def _let_go(self) -> None:
        """Of the library's windows: what it sorts out what is seen through with takes 200 MB."""
        library = self.__dict__.pop("_library", None)
        if library is not None:
            library.close()
