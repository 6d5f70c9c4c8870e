"""From the document to the scene: which items are drawn, in which colours."""

from __future__ import annotations

from typing import Any

import numpy as np

from tidal_lens.app import theme
from tidal_lens.app.document import Document
from tidal_lens.app.jobs import Slot
from tidal_lens.cutting.surface import Surface
from tidal_lens.memory import KEEPER
from tidal_lens.scene.palettes import palette
from tidal_lens.scene.scene import ColourMap, Item, LinesItem, Scene, SurfaceItem
from tidal_lens.study.evaluate import Evaluated
from tidal_lens.study.model import Layer

OUTLINE = "·outline"


def _size_of(item: Item) -> int:
    arrays = [item.points, item.values, item.faces if isinstance(item, SurfaceItem) else item.offsets]
    return sum(a.nbytes for a in arrays if a is not None)


class Scenery:
    """Builds scenes; items that did not change stay the same objects, so that nothing is uploaded twice."""

    def __init__(self, document: Document) -> None:
        self._document = document
        self._items: dict[str, tuple[tuple[Any, ...], Item]] = {}
        self._maps: dict[tuple[str, float, float], ColourMap] = {}

    def clear(self) -> None:
        """Forget everything: another flow."""
        self._items.clear()
        self._maps.clear()

    def scene(self, background: str) -> Scene:
        """The scene of the present study, as far as it has been worked out."""
        document = self._document
        assert document.flow is not None
        items: list[Item] = []
        for layer in document.study.layers:
            result = document.results.get(layer.id)
            if result is not None and document.study.is_drawn(layer):
                items.append(self._item(layer, result))
        if document.study.outline and document.evaluator is not None:
            edge = self._outline()
            if edge is not None:
                items.append(edge)
        there = {layer.id for layer in document.study.layers} | {OUTLINE}
        for gone in self._items.keys() - there:
            del self._items[gone]
        # Drawn arrays are held by the view and by the graphics library, each once.
        KEEPER.note("view", 2 * sum(_size_of(item) for _, item in self._items.values()), lambda: None, "pictures", fixed=True)
        low, high = document.flow.bounds
        return Scene(tuple(items), background, low, high)

    def _outline(self) -> Item | None:
        document = self._document
        evaluator = document.evaluator
        assert evaluator is not None
        ready = evaluator.known_outline
        if ready is None:
            document.jobs.submit(Slot("outline"), "Outline", lambda _token: evaluator.outline(),
                                 lambda _answer: document.result_changed.emit(OUTLINE), lambda _error: None)
            return None
        tint = theme.current().soft
        basis = (id(ready), tint)

        def make() -> Item:
            offsets = np.arange(0, 2 * len(ready) + 1, 2, dtype=np.int64)
            return LinesItem(OUTLINE, ready.reshape(-1, 3), offsets, None, None, tint, 1.0, pickable=False)

        return self._keep(OUTLINE, basis, make)

    def _keep(self, name: str, basis: tuple[Any, ...], make: Any) -> Item:
        there = self._items.get(name)
        if there is None or there[0] != basis:
            there = (basis, make())
            self._items[name] = there
        return there[1]

    def _colours(self, result: Evaluated, layer: Layer) -> ColourMap | None:
        name = layer.look.colour_by
        known = self._document.key(name) if name else None
        if name is None or known is None or result.layer.look.colour_by != name or self._document.evaluator is None:
            return None
        _spread, low, high = known
        scale = self._document.evaluator.store.describe(name).scale
        key = (scale, low, high)
        if key not in self._maps:
            if len(self._maps) > 64:
                self._maps.clear()
            self._maps[key] = ColourMap(palette(scale, low, high), low, high)
        return self._maps[key]

    def _item(self, layer: Layer, result: Evaluated) -> Item:
        colours = self._colours(result, layer)
        values = result.colours if colours is not None else None
        basis = (id(result.geometry.points), id(values), id(colours), layer.look)
        geometry = result.geometry

        def make() -> Item:
            look: Any = layer.look
            if isinstance(geometry, Surface):
                return SurfaceItem(layer.id, geometry.points, geometry.faces, values, colours, look.colour, look.opacity,
                                   look.mesh_lines, layer.shape.lit)
            return LinesItem(layer.id, geometry.points, geometry.offsets, values, colours, look.colour, look.width)

        return self._keep(layer.id, basis, make)
