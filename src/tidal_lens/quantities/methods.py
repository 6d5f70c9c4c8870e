"""How quantities are worked out where there is a choice, and what the user has added to the catalogue."""

from __future__ import annotations

import math
from dataclasses import dataclass
from typing import Literal

Averaging = Literal["count", "volume", "distance"]
Triple = tuple[float, float, float]

AVERAGING: dict[str, str] = {"count": "plain mean", "volume": "weighted by volume", "distance": "weighted by nearness"}


@dataclass(frozen=True)
class Frame:
    """A frame in which some blocks turn: about an axis through a point, at a rate [rad/s], right-handed."""

    blocks: tuple[str, ...]
    point: Triple
    axis: Triple
    rate: float


@dataclass(frozen=True)
class Methods:
    """Choices.

    Attributes
    ----------
    formulas : tuple of (str, str)
        Names and texts of the user's formulas.
    fourth_order : bool
        Take differences of fourth order on structured blocks.
    on_cells : bool
        Take derivatives of cell values between the cells and bring them to nodes, not of node values.
    averaging : str
        How cell values come to nodes.
    axis_point, axis : tuple of float
        Axis of rotation; its direction need not be of length 1.
    spin : float
        Rate of rotation about it [rad/s].
    turning : tuple of str
        Blocks that turn so, the others stand; all where nothing is said.
    frames : tuple of Frame
        Of blocks that turn otherwise.
    passages, shown : int
        Round the axis, as recognised for 0; and of how many of them cuts are made.
    knife : tuple of float
        Direction along which a knife edge shows the density gradient.
    shading : float
        How dark schlieren shading is.
    """

    formulas: tuple[tuple[str, str], ...] = ()
    fourth_order: bool = False
    on_cells: bool = False
    averaging: Averaging = "count"
    axis_point: Triple = (0.0, 0.0, 0.0)
    axis: Triple = (1.0, 0.0, 0.0)
    spin: float = 0.0
    turning: tuple[str, ...] = ()
    frames: tuple[Frame, ...] = ()
    passages: int = 0
    shown: int = 1
    knife: Triple = (1.0, 0.0, 0.0)
    shading: float = 8.0


def unit_vector(v: Triple) -> Triple:
    """A vector made as long as 1; one without length becomes x."""
    size = math.sqrt(sum(c * c for c in v))
    return (v[0] / size, v[1] / size, v[2] / size) if size > 0.0 else (1.0, 0.0, 0.0)
