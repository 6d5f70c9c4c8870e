"""What a card is, in numbers: how much of it there is, and where what colours it is least and greatest."""

from __future__ import annotations

from collections.abc import Callable
from dataclasses import dataclass

import numpy as np

from tidal_lens.cutting.surface import Surface
from tidal_lens.study.evaluate import Evaluated
from tidal_lens.study.value import Vector
from tidal_lens.study.words import number_text
from tidal_lens.tracing.streamlines import Lines


@dataclass(frozen=True)
class Fact:
    """A fact.

    Attributes
    ----------
    name, value : str
        ``Area``, ``5.12``.
    place : tuple of float, or None
        Where it is, if it is somewhere.
    """

    name: str
    value: str
    place: Vector | None = None


def facts_of(result: Evaluated, tell: Callable[[float], str] = number_text) -> tuple[Fact, ...]:
    """Facts of what is drawn of a layer: what masks left of it; ``tell`` tells values of what colours it."""
    geometry = result.geometry
    out = [Fact("Points", f"{len(geometry.points):,}")]
    if isinstance(geometry, Surface):
        out += [Fact("Faces", f"{len(geometry.faces):,}"), Fact("Area", number_text(geometry.area))]
    elif isinstance(geometry, Lines):
        lengths = geometry.lengths
        out += [Fact("Lines", f"{geometry.n_lines:,}"), Fact("Length of all", number_text(float(lengths.sum())))]
        if geometry.n_lines:
            out.append(Fact("Shortest, longest", f"{number_text(float(lengths.min()))}, {number_text(float(lengths.max()))}"))
    values = result.colours
    if values is None or not np.isfinite(values).any():
        return tuple(out)
    for name, at in (("Least", int(np.nanargmin(values))), ("Greatest", int(np.nanargmax(values)))):
        x, y, z = (float(c) for c in geometry.points[at])
        out.append(Fact(name, tell(float(values[at])), (x, y, z)))
    return tuple(out)
