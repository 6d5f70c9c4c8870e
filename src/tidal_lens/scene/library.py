"""The drawing library (VTK): its render windows, for what is not painted by our own kernels. Everything here runs on one thread."""

from __future__ import annotations

from collections.abc import Collection
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
from tidal_lens.scene.palettes import parse
from tidal_lens.scene.scene import Item, LinesItem
from tidal_lens.scene.sight import LAMP, WHOLE, Part, Shown, lamps, reach


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
        self.lights: list[Any] = [self._add_light(place, strength) for place, strength in lamps(LAMP)]
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
        own.SetClippingRange(*reach(camera, low, high))

    def set_lamp(self, angle: float) -> None:
        """Let the main light fall from a side of the picture; from the right for 0, anticlockwise [degrees]."""
        self.lights[0].SetPosition(*lamps(angle)[0][0])

    def pixels(self) -> NDArray[np.uint8]:
        width, height = self.window.GetSize()
        buffer = vtkUnsignedCharArray()
        self.window.GetRGBACharPixelData(0, 0, width - 1, height - 1, 0, buffer)
        raw = vtk_to_numpy(buffer)
        if raw.size != width * height * 4:
            raise RenderError("The pixels could not be read back.")
        return np.ascontiguousarray(raw.reshape(height, width, 4)[::-1])

    def depth(self, near: float, far: float, *, parallel: bool) -> NDArray[np.float32]:
        width, height = self.window.GetSize()
        buffer = vtkFloatArray()
        self.window.GetZbufferData(0, 0, width - 1, height - 1, buffer)
        z = vtk_to_numpy(buffer).reshape(height, width)[::-1]
        if parallel:
            return np.where(z >= 1.0, np.inf, near + z * (far - near)).astype(np.float32)
        with np.errstate(divide="ignore"):
            depth = 2 * near * far / (far + near - (2 * z - 1) * (far - near))
        return np.where(z >= 1.0, np.inf, depth).astype(np.float32)


class Library:
    """The library's windows."""

    def __init__(self) -> None:
        vtkLogger.SetStderrVerbosity(vtkLogger.VERBOSITY_OFF)
        vtkObject.GlobalWarningDisplayOff()
        # One setting for the whole library: set from the first, or pictures would depend on what else was drawn before.
        vtkMapper.SetResolveCoincidentTopologyToPolygonOffset()
        self._main = _Window()
        self._small: _Window | None = None
        self._picker: Any = vtkPropPicker()
        self._arranged: Shown | None = None

    def _arrange(self, shown: Shown) -> None:
        if self._arranged is shown:
            return
        main, self._arranged = self._main, shown
        main.window.SetSize(*shown.sight.size)
        main.renderer.SetBackground(*parse(shown.scene.background))
        main.renderer.SetUseFXAA(not shown.draft and not shown.fine)
        main.set_lamp(shown.scene.lamp)
        main.set_items(shown.items)
        main.set_camera(shown.sight.camera, shown.scene.low, shown.scene.high, shown.sight.part)
        if shown.draft:  # what lies behind what is sorted out at rest
            main.renderer.SetUseDepthPeeling(False)

    def draw(self, shown: Shown, names: Collection[str] | None) -> tuple[NDArray[np.uint8], NDArray[np.float32]]:
        """Pixels and depths of some of the items, or of all."""
        self._arrange(shown)
        self._main.show_only(names)
        self._main.window.Render()
        return self._main.pixels(), self._main.depth(*shown.sight.between, parallel=shown.sight.camera.span > 0.0)

    def item_at(self, shown: Shown, x: float, y: float) -> str | None:
        """The item at a place (0..1 from the top left), or None."""
        self._arrange(shown)
        self._main.show_only(None)
        width, height = shown.sight.size
        self._picker.Pick(x * width, (1 - y) * height, 0, self._main.renderer)
        prop = self._picker.GetViewProp()
        return next((n for n, d in self._main.drawn.items() if any(a is prop for a in d.actors)), None) if prop is not None else None

    def draw_small(self, items: tuple[Item, ...], camera: Camera, box: tuple[NDArray[np.float64], NDArray[np.float64]],
                   size: tuple[int, int], background: str) -> NDArray[np.uint8]:
        """A small picture."""
        if self._small is None:
            self._small = _Window()
            self._small.renderer.SetUseFXAA(True)
        small = self._small
        small.window.SetSize(*size)
        small.renderer.SetBackground(*parse(background))
        small.set_items(items)
        small.set_camera(camera, *box)
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
