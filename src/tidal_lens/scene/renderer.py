"""The off-screen renderer: one thread that owns all of VTK's drawing and always draws the newest wish.

The window never waits for it: requests are values, pictures come back through a callback on this thread.
"""

from __future__ import annotations

import os
import threading
from collections import OrderedDict
from collections.abc import Callable
from dataclasses import dataclass
from typing import Any

import numpy as np
from numpy.typing import NDArray

from tidal_lens.errors import RenderError
from tidal_lens.scene.camera import Camera
from tidal_lens.scene.scene import Frame, Item, Scene

Box = tuple[NDArray[np.float64], NDArray[np.float64]]
_Small = tuple[Item, Camera, str, Box | None]


@dataclass(frozen=True, eq=False)
class _Request:
    scene: Scene
    camera: Camera
    width: int
    height: int
    ratio: float
    draft: bool
    number: int


@dataclass(frozen=True)
class Listener:
    """Whom to tell: called on the renderer's thread."""

    frame: Callable[[Frame], None]
    picked: Callable[[int, str | None], None]
    small: Callable[[str, Item, NDArray[np.uint8]], None]
    failed: Callable[[str], None]


class Renderer:
    """Draws scenes in its own thread."""

    def __init__(self, listener: Listener) -> None:
        self._listener = listener
        self._wish: _Request | None = None
        self._picks: list[tuple[int, float, float]] = []
        self._small: OrderedDict[str, _Small] = OrderedDict()
        self._condition = threading.Condition()
        self._closing: bool = False
        self._ready: bool = False
        self._number = 0
        self._thread = threading.Thread(target=self._run, name="renderer", daemon=True)
        self._thread.start()

    def prepare(self) -> None:
        """Load what is drawn with: there will be something to draw soon."""
        with self._condition:
            self._ready = True
            self._condition.notify()

    def show(self, scene: Scene, camera: Camera, width: int, height: int, ratio: float = 1.0, *,
             draft: bool = False) -> int:
        """Ask for a picture of a size in device pixels; an older wish that has not begun is dropped.

        Returns
        -------
        int
            Number of the request, as the frame will carry it.
        """
        with self._condition:
            self._number += 1
            self._wish = _Request(scene, camera, max(width, 16), max(height, 16), ratio, draft, self._number)
            self._condition.notify()
            return self._number

    def pick(self, ticket: int, x: float, y: float) -> None:
        """Ask which item is at a place of the last picture (0..1 from the top left)."""
        with self._condition:
            self._picks.append((ticket, x, y))
            self._condition.notify()

    def small_picture(self, item: Item, camera: Camera, background: str, box: Box | None = None) -> None:
        """Ask for a small picture of one item, when there is nothing else to do: see :meth:`tidal_lens.scene.canvas.Canvas.draw_small`."""
        with self._condition:
            self._small[item.id] = (item, camera, background, box)
            self._condition.notify()

    def close(self) -> None:
        """Stop the thread."""
        with self._condition:
            self._closing = True
            self._condition.notify()
        self._thread.join(2.0)

    def _run(self) -> None:
        with self._condition:  # a window that is only just being built has nothing to draw, and wants the processor for itself
            self._condition.wait_for(lambda: self._ready or self._closing or self._wish or self._picks or self._small)
        if self._is_closing():
            return
        try:
            from tidal_lens.scene.canvas import Canvas

            canvas = Canvas(patient=False)
        except (ImportError, RenderError, OSError) as exc:
            self._listener.failed(f"The drawing library could not start: {exc}")
            return
        while True:
            with self._condition:
                while not (self._closing or self._wish or self._picks or self._small):
                    self._condition.wait()
                if self._closing:
                    break
                wish, self._wish = self._wish, None
                picks, self._picks = self._picks, []
                one = self._small.popitem(last=False) if self._small and not wish and not picks else None
            try:
                self._serve(canvas, wish, picks, one)
            except Exception as exc:  # noqa: BLE001  (the thread must live on; the user is told)
                self._listener.failed(f"The picture could not be drawn: {exc}")
        canvas.close()

    def _is_closing(self) -> bool:
        return self._closing

    def _serve(self, canvas: Any, wish: _Request | None, picks: list[tuple[int, float, float]],
               one: tuple[str, _Small] | None) -> None:
        if wish is not None:
            pixels, depth = canvas.draw_shown(wish.scene, wish.camera, wish.width, wish.height, wish.ratio, wish.draft)
            self._listener.frame(Frame(pixels, depth, wish.number, wish.draft))
        for ticket, x, y in picks:
            self._listener.picked(ticket, canvas.item_at(x, y))
        if one is not None:
            name, (item, *how) = one
            self._listener.small(name, item, canvas.draw_small(item, *how))


def prefer_headless() -> None:
    """Tell VTK not to look for a display: it only ever draws off screen here."""
    os.environ.setdefault("VTK_DEFAULT_OPENGL_WINDOW", "vtkEGLRenderWindow")
