"""From what a study came to, to the scene: which items are drawn, in which colours."""

from __future__ import annotations

from collections.abc import Callable, Mapping
from dataclasses import dataclass, replace
from typing import Any

import numpy as np
from numpy.typing import NDArray

from tidal_lens.cutting.points import Points
from tidal_lens.cutting.surface import Surface
from tidal_lens.flow.case import Flow
from tidal_lens.memory import KEEPER
from tidal_lens.scene.balls import MOST
from tidal_lens.scene.palettes import palette
from tidal_lens.scene.passages import box_of, is_elsewhere, moves_of, pitches
from tidal_lens.scene.scene import BallsItem, ColourMap, Item, LinesItem, Moves, Scene, SurfaceItem
from tidal_lens.scene.texture import Streaks
from tidal_lens.study.dressings import Dressed, Dressing, Marks
from tidal_lens.study.evaluate import Evaluated
from tidal_lens.study.looks import BallLook
from tidal_lens.study.model import KeySetting, Layer, Study
from tidal_lens.tracing.solids import even_marks
from tidal_lens.tracing.streamlines import Lines

OUTLINE = "·outline"
GROUNDS = {"paper": "#F6F2E9", "white": "#FFFFFF", "ink": "#0C1318"}  # that a study may ask for; else that of the theme
EDGES = {"paper": "#5B6770", "white": "#5B6770", "ink": "#9DABB3"}
_MAPS = 64
_USUAL, _LEAST, _OVER = 0.99, 0.08, 1.5  # of sizes: the share of balls below the greatest, and the least and greatest share of that
_DASH = 0.01  # of the flow's size: dashes of doubtful lines
_BALL = 500  # bytes that the faces of a ball take about


@dataclass(frozen=True)
class Key:
    """The range of a colour key, which sort of palette it has, and what the user set on it."""

    low: float
    high: float
    scale: str
    bands: int = 0
    flipped: bool = False
    beyond: str = "colour"
    log: bool = False

    @staticmethod
    def of(study: Study, scale: str, name: str, low: float, high: float) -> Key:
        """The key of a quantity in a study."""
        setting = study.keys.get(name, KeySetting())
        return Key(low, high, setting.palette or scale, setting.bands, setting.flipped, setting.beyond, setting.is_log(scale, low, high))


@dataclass(frozen=True, eq=False)
class Table:
    """All that lies on the table.

    Attributes
    ----------
    flow : Flow
        The flow.
    study : Study
        What is shown of it.
    results : mapping
        What its layers came to, as far as they are there.
    key : callable
        The key of a quantity; None where it is not known yet.
    outline : ndarray, shape (n, 2, 3), or None
        Sharp edges of the flow's outside, if they are known.
    """

    flow: Flow
    study: Study
    results: Mapping[str, Evaluated]
    key: Callable[[str], Key | None]
    outline: NDArray[np.float64] | None


def radii_of(look: BallLook, sizes: NDArray[np.float64] | None, count: int, size: float) -> NDArray[np.float64]:
    """Radii (count,) of balls: ``sizes`` are values of the quantity that sizes them, ``size`` is the flow's."""
    greatest = look.size * size
    if look.sized == "even" or sizes is None or not np.isfinite(sizes).any():
        return np.full(count, greatest)
    if look.sized == "true":
        return np.where(np.isfinite(sizes) & (sizes > 0.0), 0.5 * sizes, 0.0)
    top = float(np.quantile(sizes[np.isfinite(sizes)], _USUAL))
    share = np.clip(np.nan_to_num(sizes / top if top > 0.0 else sizes, nan=_LEAST, posinf=_OVER), _LEAST, _OVER)
    return np.asarray(greatest * share)


def _solid(layer: Layer, result: Evaluated) -> Dressed | None:
    """What takes the place of lines, as far as it is wanted and there."""
    look = layer.look
    if look.on != "lines" or (look.tubes is None and look.ribbons is None):
        return None
    return next((d for d in result.dressed if d.faces is not None), None)


def _size_of(item: Item) -> int:
    if isinstance(item, BallsItem):
        return item.points.nbytes + item.radii.nbytes + _BALL * min(len(item.points), MOST)
    arrays = [item.points, item.values, item.faces if isinstance(item, SurfaceItem) else item.offsets]
    return sum(a.nbytes for a in arrays if a is not None)


class Scenery:
    """Builds scenes; items that did not change stay the same objects, so that nothing is uploaded twice."""

    def __init__(self) -> None:
        self._items: dict[str, tuple[tuple[Any, ...], Item]] = {}
        self._maps: dict[Key, ColourMap] = {}
        self._copies: dict[str, tuple[Item, object, Item]] = {}
        self._radii: dict[str, tuple[tuple[object, ...], NDArray[np.float64], object]] = {}
        self.phase = 0.0  # of running streaks

    def clear(self) -> None:
        """Forget everything: another flow."""
        self._items.clear()
        self._copies.clear()
        self._maps.clear()
        self._radii.clear()

    def scene(self, table: Table, ground: str, edge: str) -> Scene:
        """The scene of a study, as far as it has been worked out.

        Parameters
        ----------
        table : Table
            What there is.
        ground, edge : str
            Colours (``#rrggbb``) behind everything, and of the outline.
        """
        study, angles = table.study, pitches(table.flow, table.study)
        items: list[Item] = []
        low, high = box_of(*table.flow.bounds, moves_of(study, angles))
        for layer in study.layers:
            if layer.id in table.results and study.is_drawn(layer):
                result = table.results[layer.id]
                own = [self._item(layer, result, table.key, table.flow.size),
                       *self._dressings(layer, result, table.key, table.flow.size)]
                copied = layer.shape.of_passages and not result.unmasked.whole
                moves = moves_of(study, angles, result) if copied else ()
                items += [self._copied(item, angles, moves) for item in own]
                if is_elsewhere(result.geometry) and len(result.geometry.points):
                    ends = box_of(result.geometry.points.min(axis=0), result.geometry.points.max(axis=0), moves)
                    low, high = np.minimum(low, ends[0]), np.maximum(high, ends[1])
        if study.outline and table.outline is not None:
            items.append(self._copied(self._outline(table.outline, EDGES.get(study.ground, edge)), angles, moves_of(study, angles)))
        there = {layer.id for layer in study.layers} | {item.id for item in items} | {OUTLINE}
        for gone in self._items.keys() - there:
            del self._items[gone]
            self._copies.pop(gone, None)
            self._radii.pop(gone, None)
        # Drawn arrays are held by the view and by the graphics library, each once.
        KEEPER.note("view", 2 * sum(_size_of(item) for _, item in self._items.values()), lambda: None, "pictures", fixed=True)
        return Scene(tuple(items), GROUNDS.get(study.ground, ground), low, high, study.lamp)

    def _copied(self, item: Item, angles: tuple[float, ...], moves: Moves) -> Item:
        """The item with its copies; the same object while nothing changes."""
        if not moves:
            self._copies.pop(item.id, None)
            return item
        basis = angles, moves[0].tobytes()
        there = self._copies.get(item.id)
        if there is None or there[0] is not item or there[1] != basis:
            kept = there[2].copies if there is not None and there[1] == basis else moves
            there = self._copies[item.id] = item, basis, replace(item, copies=kept)
        return there[2]

    def _outline(self, ready: NDArray[np.float64], tint: str) -> Item:
        def make() -> Item:
            offsets = np.arange(0, 2 * len(ready) + 1, 2, dtype=np.int64)
            return LinesItem(OUTLINE, ready.reshape(-1, 3), offsets, None, None, tint, 1.0, pickable=False)

        return self._keep(OUTLINE, (id(ready), tint), make)

    def _marks(self, layer: Layer, result: Evaluated, dressed: Dressed, how: Marks, key: Callable[[str], Key | None], size: float) -> Item:
        """Balls along lines, coloured as these are."""
        name = layer.look.colour_by
        colours = self._colours(key(name)) if name is not None and result.layer.look.colour_by == name else None
        own, radius, lines = result.colours if colours is not None else None, how.size * size, result.geometry
        phase = self.phase if how.running else 0.0

        def make() -> Item:
            assert dressed.mixed is not None
            assert isinstance(lines, Lines)
            a, b, t = dressed.mixed if not phase else even_marks(lines.time if how.by == "time" else lines.along, lines.offsets, how.every,
                                                                  phase)
            points = lines.points[a] + t[:, None] * (lines.points[b] - lines.points[a])
            values = None if own is None else own[a] + t * (own[b] - own[a])
            return BallsItem(f"·marks {layer.id}", points, np.full(len(points), radius), values, colours, layer.look.colour, 1.0)

        return self._keep(f"·marks {layer.id}", (id(dressed.points), id(own), id(colours), layer.look.colour, radius, phase), make)

    def _dressings(self, layer: Layer, result: Evaluated, key: Callable[[str], Key | None], size: float) -> list[Item]:
        """Lines on a surface, drawn as its look has them now."""
        out: list[Item] = []
        now = {type(d): d for d in layer.look.dressings()}  # the answer may be that of a look of a moment ago
        for number, (dressed, asked) in enumerate(zip(result.dressed, result.layer.look.dressings(), strict=True)):
            how = now.get(type(asked))
            if how is None or dressed.vectors is not None or dressed.faces is not None:
                continue
            if isinstance(how, Marks) and dressed.mixed is not None:
                out.append(self._marks(layer, result, dressed, how, key, size))
                continue
            name = f"·{number} {layer.id}"  # a card's small picture is without them
            by = asked.coloured_by()
            colours = self._colours(key(by)) if by and dressed.values is not None else None

            values = dressed.values if colours is not None else None

            def make(dressed: Dressed = dressed, how: Dressing = how, name: str = name, values: Any = values, by: Any = colours) -> Item:
                return LinesItem(name, dressed.points, dressed.offsets, values, by, how.colour, how.width, pickable=False, lying=True)

            out.append(self._keep(name, (id(dressed.points), id(colours), how.colour, how.width), make))
        return out

    def _keep(self, name: str, basis: tuple[Any, ...], make: Callable[[], Item]) -> Item:
        there = self._items.get(name)
        if there is None or there[0] != basis:
            there = (basis, make())
            self._items[name] = there
        return there[1]

    def _colours(self, key: Key | None) -> ColourMap | None:
        if key is None:
            return None
        if key not in self._maps:
            if len(self._maps) > _MAPS:
                self._maps.clear()
            self._maps[key] = ColourMap(palette(key.scale, key.low, key.high, key.bands, flipped=key.flipped), key.low, key.high,
                                        key.beyond, key.log)
        return self._maps[key]

    def _item(self, layer: Layer, result: Evaluated, key: Callable[[str], Key | None], size: float) -> Item:
        name = layer.look.colour_by
        colours = self._colours(key(name)) if name is not None and result.layer.look.colour_by == name else None
        values = result.colours if colours is not None else None
        geometry, look = result.geometry, layer.look
        streaks, solid = self._streaks(layer, result), _solid(layer, result)

        def make() -> Item:
            if isinstance(geometry, Surface) and look.on == "surface":
                return SurfaceItem(layer.id, geometry.points, geometry.faces, values, colours, look.colour, look.opacity,
                                   look.mesh_lines, layer.shape.lit if look.lit is None else look.lit, streaks)
            if isinstance(geometry, Points) and look.on == "points":
                radii = self._radii_of(layer.id, look, result.sizes, geometry.points, size)
                return BallsItem(layer.id, geometry.points, radii, values, colours, look.colour, look.opacity)
            assert isinstance(geometry, Lines)
            assert look.on == "lines"
            if solid is not None and solid.faces is not None and solid.owners is not None:
                return SurfaceItem(layer.id, solid.points, solid.faces, None if values is None else values[solid.owners], colours,
                                   look.colour, 1.0, False, True)
            gaps = None if result.draft else geometry.dashed(size * _DASH)
            return LinesItem(layer.id, geometry.points, geometry.offsets, values, colours, look.colour, look.width, lying=layer.shape.lying,
                             gaps=gaps)

        item = self._keep(layer.id, (id(geometry.points), id(values), id(colours), look, id(streaks.vectors) if streaks else 0,
                                      id(result.sizes), id(solid.points) if solid is not None else 0), make)
        if isinstance(item, SurfaceItem) and streaks is not None and item.streaks != streaks:
            item = replace(item, streaks=streaks)
        return item

    def _radii_of(self, name: str, look: BallLook, sizes: NDArray[np.float64] | None, points: NDArray[np.float64],
                  size: float) -> NDArray[np.float64]:
        """Radii of balls; the same array while nothing about them changes."""
        basis = (id(points), id(sizes), look.size, look.sized)
        there = self._radii.get(name)
        if there is None or there[0] != basis:
            there = self._radii[name] = basis, radii_of(look, sizes, len(points), size), (points, sizes)  # held, so that ids stay
        return there[1]

    def _streaks(self, layer: Layer, result: Evaluated) -> Streaks | None:
        """The texture of a surface as its look has it now."""
        look = layer.look
        if look.on != "surface" or look.texture is None:
            return None
        vectors = next((d.vectors for d in result.dressed if d.vectors is not None), None)
        if vectors is None or len(vectors) != len(result.geometry.points):
            return None
        how = look.texture
        return Streaks(vectors, how.length, how.grain, how.contrast, self.phase if how.running else None)
