"""The small pictures on the cards: asked for when a layer's item has changed, drawn after the large one."""

from __future__ import annotations

from collections.abc import Callable
from typing import Any

from tidal_lens.app import theme
from tidal_lens.scene.camera import Camera
from tidal_lens.scene.renderer import Renderer
from tidal_lens.scene.scene import Item


class SmallPictures:
    """What was asked for, and what is still on its way.

    Parameters
    ----------
    ready : callable
        Given the id of a layer and its picture.
    """

    def __init__(self, ready: Callable[[str, Any], object]) -> None:
        self._ready = ready
        self._asked: dict[str, Item] = {}
        self._due: set[str] = set()
        self._ground = theme.current().ground

    def clear(self) -> None:
        """All of them are to be drawn anew."""
        self._asked.clear()

    @property
    def are_there(self) -> bool:
        """Whether none is on its way."""
        return not self._due

    def ask(self, renderer: Renderer, items: tuple[Item, ...], camera: Camera) -> None:
        """Have those of items drawn that changed, all that there were where the ground did; helpers of a layer have none of their own."""
        ground, changed = theme.current().ground, {x.id: x for x in items if not x.id.startswith("·") and self._asked.get(x.id) is not x}
        if ground != self._ground:  # of hidden cards too
            self._ground, changed = ground, {**self._asked, **changed}
        for item in changed.values():
            self._asked[item.id] = item
            self._due.add(item.id)
            renderer.small_picture(item, camera, ground)

    def take(self, name: str, item: Item, pixels: Any) -> None:
        """One has been drawn."""
        if self._asked.get(name) is item:
            self._due.discard(name)
        self._due &= set(self._asked)
        self._ready(name, pixels)
