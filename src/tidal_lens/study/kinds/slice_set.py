"""Several plane cuts one behind another."""

from __future__ import annotations

from typing import Annotated, Any, ClassVar, Literal, Self

import numpy as np
from pydantic import Field, FiniteFloat, model_validator

from tidal_lens.cutting.contour import plane_cut
from tidal_lens.cutting.planes import box_section, reach, unit
from tidal_lens.cutting.surface import join
from tidal_lens.errors import StudyError
from tidal_lens.flow.case import Flow
from tidal_lens.quantities.store import QuantityStore
from tidal_lens.study.kinds.cut import Cut, through_passages
from tidal_lens.study.kinds.first_values import AXES, best_name, round_to
from tidal_lens.study.kinds.kind import Begun, Handle, Handles, Kind, Made, See, Tile, Vec
from tidal_lens.study.kinds.slice import at_length
from tidal_lens.study.looks import SurfaceLook
from tidal_lens.study.value import LayerId, Vector
from tidal_lens.study.words import Words, number_text
from tidal_lens.tracing.streamlines import Lines

_ENDS = ("first", "last")


class SliceSetShape(Cut):
    """Planes across a direction between two places along it; or across a line of another card, evenly along it.

    Attributes
    ----------
    by, count, spacing
        Whether their number is said, or how far apart they are, from the first on.
    across, line
        A card of lines, and which of its lines takes the place of the direction: ``first`` and ``last`` are then lengths along it.
    """

    kind: Literal["slice-set"] = "slice-set"
    lit: ClassVar[bool] = False
    of_sides: ClassVar[Literal["", "lines", "cuts"]] = "cuts"
    direction: Vector
    first: FiniteFloat
    last: FiniteFloat
    by: Literal["count", "spacing"] = "count"
    count: Annotated[int, Field(ge=1, le=200)] = 6
    spacing: Annotated[float, Field(gt=0.0, le=1e12)] = 1.0
    across: LayerId = ""
    line: Annotated[int, Field(ge=0, le=10_000_000)] = 0

    @model_validator(mode="after")
    def _has_direction(self) -> Self:
        if not 1e-150 < float(np.linalg.norm(self.direction)) < 1e150:
            raise ValueError("the direction of slices needs a length")
        return self

    @property
    def places(self) -> Vec:
        """Where the planes stand along the direction, 200 at most."""
        if self.by == "count":
            return np.linspace(self.first, self.last, self.count) if self.count > 1 else np.array([0.5 * (self.first + self.last)])
        many = int(min(abs(self.last - self.first) / self.spacing * (1.0 + 1e-9), 199.0)) + 1
        return np.asarray(self.first + np.sign(self.last - self.first) * self.spacing * np.arange(many))

    @property
    def normal(self) -> Vec:
        """Its direction, of length one."""
        return unit(self.direction)

    def make(self, see: See) -> Made:
        """All cuts as one surface."""
        planes = self._across(see) if self.across else [(place * self.normal, self.normal) for place in self.places]
        parts, own, whole = [], self.own_blocks(see.flow), False
        for n, (point, way) in enumerate(planes):
            see.token.check()
            see.token.report(n / len(planes))
            cut, several = through_passages(see, lambda at, to: plane_cut(see.flow, at, to, None, own), point, way)
            parts.append(cut)
            whole = whole or several
        return Made(join(parts), whole=whole)

    def _across(self, see: See) -> list[tuple[Vec, Vec]]:
        lines = see.made(self.across).geometry
        if not isinstance(lines, Lines) or not lines.n_lines:
            raise StudyError("The card that the slices stand across has no line.", "", "Move its seeds, or choose another card.")
        number = min(self.line, lines.n_lines - 1)
        points = lines.points[lines.offsets[number]:lines.offsets[number + 1]]
        return [at_length(points, float(place)) for place in self.places]

    def tell(self, words: Words) -> str:
        """How many, and between which places."""
        many = f"{f'{self.subject_told()}, ' if self.blocks else ''}{len(self.places)} slices"
        span = f"{words.number(self.first)} … {words.number(self.last)}"
        if self.across:
            return f"{many} across {words.card(self.across)}, {span}"
        along = [n for n in range(3) if self.direction[n] > 0.0 and not any(self.direction[m] for m in range(3) if m != n)]
        way = AXES[along[0]] if along else f"along ({', '.join(words.number(c, 3) for c in self.normal)})"
        return f"{many}, {way} {span}"

    def handles(self, flow: Flow, _made: Made | None) -> Handles | None:
        """A bead on the first and the last plane, on arms; and the rims of all."""
        if self.across:
            return None
        middle = 0.5 * (flow.bounds[0] + flow.bounds[1])
        normal = self.normal
        beads = []
        for name, place in zip(_ENDS, (self.first, self.last), strict=True):
            stand = middle + (place - middle @ normal) * normal
            beads.append(Handle(name, stand, normal, None, f"{name} {number_text(place, 5)}", place))
        rims = [box_section(flow.bounds, normal, float(place)) for place in self.places[:40]]
        return Handles("slices", tuple(beads), tuple((rim, True) for rim in rims if len(rim) > 2))

    def moved(self, handle: str, to: Vec, flow: Flow, *, snap: bool) -> Self:
        """One end along the direction, within the flow."""
        low, high = reach(flow.bounds, self.normal)
        place = min(max(float(self.normal @ to), low), high)
        if snap:
            places = flow.points @ self.normal
            return self.with_(**{handle: float(places[np.abs(places - place).argmin()])})
        return self.with_(**{handle: round_to(place, 0.0005 * (high - low))})

    def typed(self, handle: str, value: Any) -> Self:
        """One end at a number."""
        return self.with_(**{handle: value})

    def stepped(self, steps: float, flow: Flow) -> Self:
        """All planes by a fiftieth of the flow."""
        low, high = reach(flow.bounds, self.normal)
        by = steps * round_to((high - low) / 50, (high - low) / 50)
        return self.with_(first=float(f"{self.first + by:.9g}"), last=float(f"{self.last + by:.9g}"))


def new_slice_set(store: QuantityStore) -> Begun:
    """Six slices across the free stream, from nose to tail of a body, else over the middle of the flow."""
    flow = store.flow
    wind = np.abs(np.array(store.reference.velocity))
    low, high = flow.body or flow.bounds
    along = int(np.argmax(wind)) if wind.any() else int(np.argmax(high - low))
    a, b = float(low[along]), float(high[along])
    if flow.body is None:
        a, b = a + 0.1 * (b - a), b - 0.1 * (b - a)
    else:  # the cuts at the very ends would touch the body in a point
        a, b = a + 0.02 * (b - a), b - 0.02 * (b - a)
    step = 0.01 * (b - a)
    shape = SliceSetShape(direction=(float(along == 0), float(along == 1), float(along == 2)), first=round_to(a, step),
                          last=round_to(b, step), spacing=round_to(0.2 * (b - a), step) or 1.0)
    return Begun("Slice set", shape, SurfaceLook(colour_by=best_name(store), opacity=0.9))


KIND = Kind(SliceSetShape, "Plane cuts one behind another, along a direction or a line.", "look", "slice-set",
            (Tile("add-slice-set", "Slice set", "Cut the flow by several planes one behind another."),),
            lambda store, _argument: new_slice_set(store), group="Surfaces")
