"""What is to be drawn, as a value."""

from __future__ import annotations

from dataclasses import dataclass, replace

import numpy as np
from numpy.typing import NDArray

from tidal_lens.scene.texture import Streaks

Faces = NDArray[np.int64]
Points = NDArray[np.float64]
Moves = tuple[NDArray[np.float64], ...]  # (4, 4) each: where an item is drawn once more


@dataclass(frozen=True, eq=False)
class ColourMap:
    """Colours from low to high, shape (n, 4) uint8; ``beyond`` is as of :class:`tidal_lens.study.model.KeySetting`."""

    table: NDArray[np.uint8]
    low: float
    high: float
    beyond: str = "colour"
    log: bool = False


@dataclass(frozen=True, eq=False)
class SurfaceItem:
    """A surface to draw; ``values`` at its points are coloured by ``colours``, else it is plain.

    ``shaded`` surfaces are lit; others show the colours of the key exactly. ``streaks`` are laid over it.
    """

    id: str
    points: Points
    faces: Faces
    values: NDArray[np.float64] | None
    colours: ColourMap | None
    colour: str
    opacity: float
    mesh_lines: bool
    shaded: bool
    streaks: Streaks | None = None
    copies: Moves = ()


@dataclass(frozen=True, eq=False)
class LinesItem:
    """Polylines to draw: points of all, and where each begins; ``lying`` ones lie on a surface and are drawn before it.

    ``gaps`` (n,) tells from which points the way to the next is left out.
    """

    id: str
    points: Points
    offsets: Faces
    values: NDArray[np.float64] | None
    colours: ColourMap | None
    colour: str
    width: float
    pickable: bool = True
    lying: bool = False
    gaps: NDArray[np.bool_] | None = None
    copies: Moves = ()


@dataclass(frozen=True, eq=False)
class BallsItem:
    """Balls to draw at points, each of a radius (n,)."""

    id: str
    points: Points
    radii: NDArray[np.float64]
    values: NDArray[np.float64] | None
    colours: ColourMap | None
    colour: str
    opacity: float
    copies: Moves = ()


Item = SurfaceItem | LinesItem | BallsItem


@dataclass(frozen=True, eq=False)
class Scene:
    """Everything in the view; ``low`` and ``high`` bound it; ``lamp`` is the side from which light falls [degrees]."""

    items: tuple[Item, ...]
    background: str
    low: Points
    high: Points
    lamp: float = 124.0


@dataclass(frozen=True, eq=False)
class Frame:
    """A finished picture.

    Attributes
    ----------
    pixels : ndarray, shape (h, w, 4), uint8
        Red, green, blue, unused; top row first.
    depth : ndarray, shape (h, w), of a draft (h // 2, w // 2)
        Distance in front of the eye, infinite where there is nothing.
    number : int
        Of the request that it answers.
    draft : bool
        Whether it was made small and quickly, and then enlarged.
    """

    pixels: NDArray[np.uint8]
    depth: NDArray[np.float32]
    number: int
    draft: bool


def shown_items(items: tuple[Item, ...]) -> tuple[Item, ...]:
    """The items that have anything to draw."""
    return tuple(i for i in items if len(i.points) and not (isinstance(i, LinesItem) and len(i.offsets) < 2))


def thicker(item: Item, factor: float) -> Item:
    """Lines are given in pixels of an ordinary screen: widen them for a finer one."""
    return replace(item, width=item.width * factor) if isinstance(item, LinesItem) and factor != 1.0 else item
