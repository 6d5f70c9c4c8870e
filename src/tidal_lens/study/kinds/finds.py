"""What the four finders have in common as kinds of layers: candidates in their order, and what is drawn of them."""

from __future__ import annotations

from collections.abc import Mapping, Sequence
from dataclasses import replace
from typing import Any, ClassVar

import numpy as np
from numpy.typing import NDArray

from tidal_lens.cutting.points import values_at
from tidal_lens.cutting.surface import Surface
from tidal_lens.features.finding import Finding, ranked, sounding_numbers
from tidal_lens.features.found import FoundLines, FoundSurface, lines_kept, lines_of, surface_kept, surface_of
from tidal_lens.flow.case import Flow
from tidal_lens.quantities.names import CONST
from tidal_lens.study.kinds.kind import Made, See, Shape
from tidal_lens.study.said import Sifting, listing

MAGENTA = "#B0246B"
STREAM = (f"{CONST}U_ref",)


class FindShape(Shape):
    """Looks for a sort of features in the whole flow; all candidates, of which a sieve in its look shows some."""

    of_mesh: ClassVar[bool] = False
    finds: ClassVar[bool] = True

    def constants(self) -> tuple[str, ...]:
        """The free stream's velocity: thresholds are shares of it."""
        return STREAM


def made_lines(findings: Sequence[Finding], flow: Flow, see: See, told: str) -> Made:
    """Findings that are lines, the clearest first."""
    found = [findings[k] for k in ranked(findings)]
    points = np.concatenate([np.empty((0, 3)), *(f.line for f in found)])
    lines = lines_of(found, sounding_numbers(found), values_at(flow, points, see.token))
    return Made(lines, findings=tuple(found), told=told)


def made_surface(findings: Sequence[Finding], surfaces: Sequence[Surface | None], own: Sequence[Mapping[str, NDArray[Any]]],
                 told: str) -> Made:
    """Findings that are surfaces, or places only, the clearest first."""
    order = ranked(findings)
    sheets = [(n, s, own[k]) for n, k in enumerate(order) if (s := surfaces[k]) is not None]
    return Made(surface_of(sheets), findings=tuple(findings[k] for k in order), told=told)


def sifted(made: Made, sifting: Sifting) -> Made:
    """What is drawn of a finder's candidates."""
    shown = np.array([x.shown for x in listing(made.findings, sifting)], bool)
    geometry = made.geometry
    if isinstance(geometry, FoundLines):
        return replace(made, geometry=lines_kept(geometry, shown))
    if isinstance(geometry, FoundSurface):
        return replace(made, geometry=surface_kept(geometry, shown))
    return made
