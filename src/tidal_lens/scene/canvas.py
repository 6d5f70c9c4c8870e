"""The VTK render windows behind the renderer; everything here runs on its thread."""

from __future__ import annotations

from collections.abc import Callable, Collection
from dataclasses import dataclass, replace
from typing import Any

import numpy as np
import vtkmodules.vtkRenderingOpenGL2  # noqa: F401  (registers the drawing back end)
from numpy.typing import NDArray
from vtkmodules.util.numpy_support import vtk_to_numpy
from vtkmodules.vtkCommonCore import vtkFloatArray, vtkLogger, vtkObject, vtkUnsignedCharArray
from vtkmodules.vtkRenderingCore import vtkLight, vtkMapper, vtkPropPicker, vtkRenderer, vtkRenderWindow

from tidal_lens.errors import RenderError
from tidal_lens.scene.actors import Drawn
from tidal_lens.scene.camera import Camera
from tidal_lens.scene.drafting import Drafts, Lamps, can_paint, doubled
from tidal_lens.scene.palettes import parse
from tidal_lens.scene.scene import Item, LinesItem, Scene, SurfaceItem, shown_items, thicker
from tidal_lens.scene.texture import Streaks, directions, laid_over, smeared
from tidal_lens.work import Token

SMALL, LARGER = (264, 120), (320, 220)
_FINE = 3_000_000  # pixels of a picture at most that is drawn at twice its size
_TILE = 1600  # pixels a side of the parts that larger ones are drawn in
Part = tuple[float, float, float, float]  # left, top, width and height, as shares of the whole picture
WHOLE: Part = (0.0, 0.0, 1.0, 1.0)


def _halved(pixels: NDArray[np.uint8]) -> NDArray[np.uint8]:
    """A picture (2 h, 2 w, 4) of half the size: each pixel the mean of four."""
    rows = np.add(pixels[::2], pixels[1::2], dtype=np.uint16).reshape(len(pixels) // 2, -1, 2, 4)
    return ((rows[:, :, 0] + rows[:, :, 1] + 2) >> 2).astype(np.uint8)


def _drawn_by(item: Item) -> tuple[Any, ...]:
    """All that an item is drawn by, but for the streaks over it."""
    if isinstance(item, SurfaceItem):
        return (item.id, id(item.points), id(item.faces), id(item.values), id(item.colours), item.colour, item.opacity, item.mesh_lines,
                item.shaded, id(item.copies))
    return item.id, id(item)


def _lamps(angle: float) -> Lamps:
    """The main light falls from a side of the picture [degrees], a weaker one always from the same."""
    turn = np.radians(angle)
    return ((0.72 * float(np.cos(turn)), 0.72 * float(np.sin(turn)), 1.0), 0.85), ((0.8, -0.3, 0.6), 0.25)


def _reach(camera: Camera, low: NDArray[np.float64], high: NDArray[np.float64]) -> tuple[float, float]:
    """Depths between which a box lies; the least is before the eye in perspective."""
    middle, radius = 0.5 * (low + high), 0.51 * float(np.linalg.norm(high - low)) + 1e-9
    depth = float((middle - camera.eye) @ camera.basis()[2])
    if camera.span:
        return depth - radius, depth + radius
    far = max(depth + radius, 1e-6)
    return max(depth - radius, 1e-3 * far), far


class _Window:
    """One render window with one renderer and the actors in it."""

    def __init__(self) -> None:
        self.window: Any = vtkRenderWindow()
        self.window.SetOffScreenRendering(True)
        self.window.SetMultiSamples(0)
        self.window.SetAlphaBitPlanes(True)
        self.renderer: Any = vtkRenderer()
        self.renderer.SetMaximumNumberOfPeels(6)
        self.renderer.SetOcclusionRatio(0.0)
        self.renderer.RemoveAllLights()
        self.renderer.SetAutomaticLightCreation(False)
        self.lights: list[Any] = [self._add_light(place, strength) for place, strength in _lamps(124.0)]
        self.window.AddRenderer(self.renderer)
        self.drawn: dict[str, Drawn] = {}

    def _add_light(self, place: tuple[float, float, float], strength: float) -> Any:
        light = vtkLight()
        light.SetLightTypeToCameraLight()
        light.SetPosition(*place)
        light.SetIntensity(strength)
        self.renderer.AddLight(light)
        return light

    def set_items(self, items: tuple[Item, ...]) -> None:
        wanted = {item.id: item for item in items}
        for name in [n for n in self.drawn if n not in wanted]:
            self._take_off(self.drawn.pop(name))
        for name, item in wanted.items():
            there = self.drawn.get(name)
            if there is not None and there.update(item):
                continue
            if there is not None:
                self._take_off(there)
            self.drawn[name] = Drawn(item)
            for actor in self.drawn[name].actors:
                self.renderer.AddActor(actor)
        translucent = any(not isinstance(i, LinesItem) and i.opacity < 1.0 for i in items)
        self.renderer.SetUseDepthPeeling(translucent)

    def _take_off(self, drawn: Drawn) -> None:
        for actor in drawn.actors:
            self.renderer.RemoveActor(actor)

    def show_only(self, names: Collection[str] | None) -> None:
        """Let only some of the items be seen; None for all."""
        for name, drawn in self.drawn.items():
            for actor in drawn.actors:
                actor.SetVisibility(names is None or name in names)

    def set_camera(self, camera: Camera, low: NDArray[np.float64], high: NDArray[np.float64], part: Part = WHOLE) -> None:
        own = self.renderer.GetActiveCamera()
        own.SetPosition(*camera.eye)
        own.SetFocalPoint(*camera.focus)
        own.SetViewUp(*camera.up)
        (left, top, wide, tall) = part
        own.SetViewAngle(2.0 * float(np.degrees(np.arctan(tall * np.tan(np.radians(0.5 * camera.angle))))))
        own.SetParallelProjection(camera.span > 0.0)
        own.SetParallelScale(tall * (camera.span or 1.0))
        own.SetWindowCenter((2.0 * left + wide - 1.0) / wide, (1.0 - 2.0 * top - tall) / tall)
        own.SetClippingRange(*_reach(camera, low, high))

    def set_lamp(self, angle: float) -> None:
        """Let the main light fall from a side of the picture; from the right for 0, anticlockwise [degrees]."""
        self.lights[0].SetPosition(*_lamps(angle)[0][0])

    def pixels(self) -> NDArray[np.uint8]:
        width, height = self.window.GetSize()
        buffer = vtkUnsignedCharArray()
        self.window.GetRGBACharPixelData(0, 0, width - 1, height - 1, 0, buffer)
        raw = vtk_to_numpy(buffer)
        if raw.size != width * height * 4:
            raise RenderError("The pixels could not be read back.")
        return np.ascontiguousarray(raw.reshape(height, width, 4)[::-1])

    def depth(self, near: float, far: float, every: int, *, parallel: bool) -> NDArray[np.float32]:
        width, height = self.window.GetSize()
        buffer = vtkFloatArray()
        self.window.GetZbufferData(0, 0, width - 1, height - 1, buffer)
        z = vtk_to_numpy(buffer).reshape(height, width)[::-1][::every, ::every]
        if parallel:
            return np.where(z >= 1.0, np.inf, near + z * (far - near)).astype(np.float32)
        with np.errstate(divide="ignore"):
            depth = 2 * near * far / (far + near - (2 * z - 1) * (far - near))
        return np.where(z >= 1.0, np.inf, depth).astype(np.float32)


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
    """Whether an item, where it is, hides all that is behind it."""
    if isinstance(item, LinesItem):
        return True
    return item.opacity >= 1.0 and (item.colours is None or item.colours.beyond in ("colour", "grey"))


class Canvas:
    """Draws scenes, and small pictures of single items."""

    def __init__(self) -> None:
        vtkLogger.SetStderrVerbosity(vtkLogger.VERBOSITY_OFF)
        vtkObject.GlobalWarningDisplayOff()
        # One setting for the whole library: set from the first, or pictures would depend on what else was drawn before.
        vtkMapper.SetResolveCoincidentTopologyToPolygonOffset()
        self._main = _Window()
        self._small: _Window | None = None
        self._arrange: Callable[[], None] | None = None  # of what was asked for last, where nothing was drawn with the library yet
        self._drafts = Drafts()
        self._picker: Any = vtkPropPicker()
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
        main = self._main
        fine = not draft and width * height <= _FINE
        scale = 2.0 if fine else 0.5 if draft else 1.0
        wide, tall = max(int(width * scale), 8), max(int(height * scale), 8)
        items = tuple(thicker(i, ratio * scale) for i in shown_items(scene.items))
        near, far = _reach(camera, scene.low, scene.high)

        def arrange() -> None:
            main.window.SetSize(wide, tall)
            main.renderer.SetBackground(*parse(scene.background))
            main.renderer.SetUseFXAA(not draft and not fine)
            main.set_lamp(scene.lamp)
            main.set_items(items)
            main.set_camera(camera, scene.low, scene.high, part)
            if draft:  # what lies behind what is sorted out at rest
                main.renderer.SetUseDepthPeeling(False)
            self._arrange = None

        def drawn(names: Collection[str] | None) -> tuple[NDArray[np.uint8], NDArray[np.float32]]:
            own = items if names is None else tuple(i for i in items if i.id in names)
            if draft and can_paint(own):
                return self._drafts.paint(own, camera, wide, tall, (near, far), _lamps(scene.lamp), scene.background)
            if self._arrange is not None:
                self._arrange()
            main.show_only(names)
            main.window.Render()
            depth = main.depth(near, far, 2 if fine else 1, parallel=camera.span > 0.0)
            return _halved(main.pixels()) if fine else main.pixels(), depth

        self._arrange = arrange
        pixels, depth = self._over_the_rest(drawn, scene, camera, frame) if draft else drawn(None)
        if not draft:
            self._before = self._rest = None
        pixels[..., 3] = 255  # Qt relies on it though it says that it does not
        self._last = basis, pixels, depth, (scene, camera)  # held, so that ids stay their own
        return pixels, depth

    def _over_the_rest(self, drawn: Callable[[Collection[str] | None], tuple[NDArray[np.uint8], NDArray[np.float32]]], scene: Scene,
                       camera: Camera, frame: tuple[Any, ...]) -> tuple[NDArray[np.uint8], NDArray[np.float32]]:
        """A draft: where the same few items change again and again, only they are drawn, over a picture of the others."""
        looks, before = {item.id: _drawn_by(item) for item in scene.items}, self._before
        moving = frozenset[str]()
        if before is not None and before.frame == frame and before.looks.keys() == looks.keys():
            moving = before.moving | {name for name, look in looks.items() if before.looks[name] != look}
        self._before = _Before(frame, looks, moving, (scene, camera))
        others = looks.keys() - moving
        if not moving or not others or not all(map(_hides, scene.items)):
            self._rest = None
            return drawn(None)
        basis = (frame, *(looks[name] for name in looks if name in others))
        if self._rest is None or self._rest.basis != basis:
            self._rest = _Rest(basis, *drawn(others), (scene, camera))
        pixels, depth = drawn(moving)
        behind = (self._rest.depth < depth) | np.isinf(depth)
        np.copyto(pixels.view(np.uint32), self._rest.pixels.view(np.uint32), where=behind[:, :, None])  # a pixel at a time
        return pixels, np.minimum(depth, self._rest.depth)

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
        if self._arrange is not None:  # the last picture was painted without
            self._arrange()
        width, height = self._main.window.GetSize()
        self._main.show_only(None)
        self._picker.Pick(x * width, (1 - y) * height, 0, self._main.renderer)
        prop = self._picker.GetViewProp()
        return next((n for n, d in self._main.drawn.items() if any(a is prop for a in d.actors)), None) if prop is not None else None

    def draw_small(self, item: Item, camera: Camera, background: str,
                   box: tuple[NDArray[np.float64], NDArray[np.float64]] | None = None) -> NDArray[np.uint8]:
        """A small picture of one item: it fills it; or, of what lies in a box (low, high), as the camera sees it, somewhat larger."""
        if self._small is None:
            self._small = _Window()
            self._small.renderer.SetUseFXAA(True)
        small, size = self._small, LARGER if box else SMALL
        small.window.SetSize(*size)
        small.renderer.SetBackground(*parse(background))
        small.set_items(shown_items((replace(item, copies=()),)))
        if len(item.points):
            good = item.points[np.isfinite(item.points).all(axis=1)]
            low, high = box or (good.min(axis=0), good.max(axis=0))
            small.set_camera(camera if box else camera.framing(low, high, SMALL[0] / SMALL[1]), low, high)
        small.window.Render()
        pixels = small.pixels()
        small.set_items(())
        return pixels

    def close(self) -> None:
        """Let go of the windows."""
        for one in (self._main, self._small):
            if one is not None:
                one.set_items(())
                one.window.Finalize()
