"""A plane cut."""

from __future__ import annotations

from typing import Annotated, Any, ClassVar, Literal, Self

import numpy as np
from pydantic import Field, FiniteFloat, model_validator

from tidal_lens.cutting.contour import plane_cut
from tidal_lens.cutting.planes import box_section, line_in_box, plane_axes, reach, unit, within_disc, within_rectangle
from tidal_lens.errors import StudyError
from tidal_lens.flow.case import Flow
from tidal_lens.quantities.store import QuantityStore
from tidal_lens.study.kinds.cut import Cut, through_passages
from tidal_lens.study.kinds.first_values import AXES, best_name, round_to, rounded
from tidal_lens.study.kinds.kind import Begun, Handle, Handles, Kind, Made, See, Tile, Vec
from tidal_lens.study.looks import SurfaceLook
from tidal_lens.study.value import LayerId, Vector
from tidal_lens.study.words import Words, number_text
from tidal_lens.tracing.streamlines import Lines

_PLACES = 17  # at which its bead may stand
_TILTS = ("tilt right", "tilt up")
_RING = 0.16  # of the flow's size, from the middle to the beads that tilt


class SliceShape(Cut):
    """A plane: its direction, and how far along it from the origin it stands; or across a line of another card.

    Attributes
    ----------
    centre : tuple or None
        What its beads and its limits stand about, if not the middle of the flow.
    limit, width, height
        Whether the whole plane is shown, a disc ``width`` across, or a rectangle.
    across, line, along
        A card of lines, which of its lines, and how far along it: these take the place of direction and position.
    """

    kind: Literal["slice"] = "slice"
    lit: ClassVar[bool] = False
    of_sides: ClassVar[Literal["", "lines", "cuts"]] = "cuts"
    direction: Vector
    position: FiniteFloat
    centre: Vector | None = None
    limit: Literal["whole", "disc", "rectangle"] = "whole"
    width: Annotated[float, Field(gt=0.0, le=1e12)] = 1.0
    height: Annotated[float, Field(gt=0.0, le=1e12)] = 1.0
    across: LayerId = ""
    line: Annotated[int, Field(ge=0, le=10_000_000)] = 0
    along: Annotated[float, Field(ge=0.0, le=1e12)] = 0.0

    @model_validator(mode="before")
    @classmethod
    def _of_axis(cls, raw: Any) -> Any:
        """Earlier studies name one of the axes."""
        if isinstance(raw, dict) and "axis" in raw and "direction" not in raw:
            axis = raw["axis"]
            if axis not in (0, 1, 2):
                raise ValueError("an axis is 0, 1 or 2")
            return {**{k: v for k, v in raw.items() if k != "axis"}, "direction": tuple(float(axis == n) for n in range(3))}
        return raw

    @model_validator(mode="after")
    def _has_direction(self) -> Self:
        if not 1e-150 < float(np.linalg.norm(self.direction)) < 1e150:
            raise ValueError("the direction of a slice needs a length")
        return self

    @property
    def normal(self) -> Vec:
        """Its direction, of length one."""
        return unit(self.direction)

    @property
    def axis(self) -> int | None:
        """The axis along which it stands, if it is one."""
        along = [n for n in range(3) if self.direction[n] > 0.0 and not any(self.direction[m] for m in range(3) if m != n)]
        return along[0] if along else None

    def make(self, see: See) -> Made:
        """The cut."""
        placed = self._across(see) if self.across else self
        normal, middle = placed.normal, placed.middle(see.flow)
        own = self.own_blocks(see.flow)
        cut, whole = through_passages(see, lambda point, way: plane_cut(see.flow, point, way, see.token, own), placed.position * normal,
                                      normal)
        if self.limit == "disc":
            cut = within_disc(cut, middle, 0.5 * self.width)
        elif self.limit == "rectangle":
            cut = within_rectangle(cut, middle, plane_axes(normal), self.width, self.height)
        return Made(cut, frame=(middle, normal) if self.across else None, whole=whole)

    def _across(self, see: See) -> Self:
        """Where the line is."""
        lines = see.made(self.across).geometry
        if not isinstance(lines, Lines):
            raise StudyError("It stands across a line, but the card that it names has none.", "", "Choose another card.")
        if not lines.n_lines:
            raise StudyError("The card that it stands across has no line.", "", "Move its seeds, or choose another card.")
        number = min(self.line, lines.n_lines - 1)
        points = lines.points[lines.offsets[number]:lines.offsets[number + 1]]
        place, way = at_length(points, self.along)
        return self.with_(direction=tuple(way), position=float(way @ place), centre=tuple(place), across="")

    def middle(self, flow: Flow) -> Vec:
        """The place on the plane about which beads and limits stand."""
        centre = np.array(self.centre) if self.centre is not None else 0.5 * (flow.bounds[0] + flow.bounds[1])
        return np.asarray(centre + (self.position - centre @ self.normal) * self.normal)

    def swept(self, share: float, store: QuantityStore) -> Self | None:
        """The plane at a share of its way through the flow."""
        if self.across:
            return None
        low, high = reach(store.flow.bounds, self.normal)
        return self.with_(position=low + (0.01 + 0.98 * share) * (high - low))

    def tell(self, words: Words) -> str:
        """Where it is."""
        size = {"whole": self.subject_told(), "disc": f"disc {words.number(self.width)} across",
                "rectangle": f"{words.number(self.width)} by {words.number(self.height)}"}[self.limit]
        if self.across:
            return f"{size}, across {words.card(self.across)} at {words.number(self.along)}"
        if self.axis is not None:
            return f"{size} at {AXES[self.axis]} = {words.number(self.position)}"
        way = ", ".join(words.number(c, 3) for c in self.normal)
        return f"{size} at {words.number(self.position)} along ({way})"

    def handles(self, flow: Flow, made: Made | None) -> Handles:
        """A bead that shifts it as near to its upper rim as can be seen, two that tilt it, one that sizes it; and the rim."""
        if self.across:
            return self._line_handles(flow, made)
        normal, middle = self.normal, self.middle(flow)
        right, up = plane_axes(normal)
        low, high = line_in_box(flow.bounds, middle, up)
        if self.limit != "whole":
            low, high = 0.0, 0.0
        track = middle + np.linspace(high, low, _PLACES)[:, None] * up
        where = AXES[self.axis] if self.axis is not None else "along its direction"
        bead = Handle("slice", track[0], normal, track, f"{where} = {number_text(self.position, 5)}", self.position)
        return Handles("slice", (bead, *self._tilts(flow, middle, right, up), *self._sizes(middle, right, up)), self._rim(flow, middle))

    def _line_handles(self, flow: Flow, made: Made | None) -> Handles:
        if made is None or made.frame is None:
            return Handles("slice", ())
        middle, normal = made.frame
        placed = self.with_(direction=tuple(normal), position=float(normal @ middle), centre=tuple(middle), across="")
        bead = Handle("along", middle, normal, None, f"{number_text(self.along, 4)} along the line", self.along)
        return Handles("slice", (bead, *placed._sizes(middle, *plane_axes(normal))), placed._rim(flow, middle))

    def _tilts(self, flow: Flow, middle: Vec, right: Vec, up: Vec) -> tuple[Handle, ...]:
        arm = _RING * flow.size
        return tuple(Handle(name, middle + arm * axis, self.normal, small=True, turns=True)
                     for name, axis in zip(_TILTS, (right, up), strict=True))

    def _sizes(self, middle: Vec, right: Vec, up: Vec) -> tuple[Handle, ...]:
        if self.limit == "whole":
            return ()
        if self.limit == "disc":
            return (Handle("size", middle + 0.5 * self.width * unit(right - up), label=f"{number_text(self.width)} across",
                           value=self.width, small=True, turns=True),)
        corner = middle + 0.5 * self.width * right - 0.5 * self.height * up
        return (Handle("size", corner, label=f"{number_text(self.width)} × {number_text(self.height)}", small=True, turns=True),)

    def _rim(self, flow: Flow, middle: Vec) -> tuple[tuple[Vec, bool], ...]:
        right, up = plane_axes(self.normal)
        turn = np.linspace(0.0, 2.0 * np.pi, 65)[:-1, None]
        circle = np.cos(turn) * right + np.sin(turn) * up
        lines: list[tuple[Vec, bool]] = [] if self.across else [(middle + _RING * flow.size * circle, True)]
        if self.limit == "disc":
            lines.append((middle + 0.5 * self.width * circle, True))
        elif self.limit == "rectangle":
            corners = np.array([[-1, -1], [1, -1], [1, 1], [-1, 1]]) * 0.5 * np.array([self.width, self.height])
            lines.append((middle + corners @ np.array([right, up]), True))
        else:
            rim = box_section(flow.bounds, self.normal, self.position)
            lines += [(rim, True)] if len(rim) > 2 else []
        return tuple(lines)

    def moved(self, handle: str, to: Vec, flow: Flow, *, snap: bool) -> Self:
        """Along its direction within the flow; tilted; or another size."""
        target = flow.points[((flow.points - to) ** 2).sum(axis=1).argmin()] if snap and handle != "slice" else to
        if handle in _TILTS:
            return self._tilted(handle, target, flow)
        if handle == "size":
            return self._sized(target, flow)
        if handle == "along":
            return self
        low, high = reach(flow.bounds, self.normal)
        position = min(max(float(self.normal @ to), low), high)
        if snap:
            places = flow.points @ self.normal
            return self.with_(position=float(places[np.abs(places - position).argmin()]))
        return self.with_(position=round_to(position, 0.0005 * (high - low)))

    def _tilted(self, handle: str, to: Vec, flow: Flow) -> Self:
        """About the other axis in the plane, so that it goes through a place; its middle stays."""
        middle, normal = self.middle(flow), self.normal
        right, up = plane_axes(normal)
        axis = right if handle == _TILTS[0] else up
        lift = float(normal @ (to - middle))
        if abs(lift) < 1e-9 * flow.size:
            return self
        way = unit(axis * max(float(axis @ (to - middle)), 1e-6 * flow.size) + lift * normal)
        turned = unit(normal - (normal @ way) * way)
        direction = rounded(turned, 1e-3)
        turned = unit(direction)
        centre = None if self.centre is None and np.allclose(middle, 0.5 * sum(flow.bounds)) else tuple(float(c) for c in middle)
        return self.with_(direction=direction, centre=centre, position=float(f"{turned @ middle:.9g}"))

    def _sized(self, to: Vec, flow: Flow) -> Self:
        right, up = plane_axes(self.normal)
        off = to - self.middle(flow)
        least = 1e-4 * flow.size
        if self.limit == "disc":
            return self.with_(width=max(round_to(2.0 * float(np.hypot(off @ right, off @ up)), 0.001 * flow.size), least))
        return self.with_(width=max(round_to(2.0 * abs(float(off @ right)), 0.001 * flow.size), least),
                          height=max(round_to(2.0 * abs(float(off @ up)), 0.001 * flow.size), least))

    def typed(self, handle: str, value: Any) -> Self:
        """At a number."""
        return self.with_(**{{"size": "width", "along": "along"}.get(handle, "position"): value})

    def stepped(self, steps: float, flow: Flow) -> Self:
        """By steps of a fiftieth of the flow."""
        low, high = reach(flow.bounds, self.normal)
        by = steps * round_to((high - low) / 50, (high - low) / 50)
        if self.across:
            return self.with_(along=float(f"{max(self.along + by, 0.0):.9g}"))
        return self.with_(position=float(f"{np.clip(self.position + by, low, high):.9g}"))

    def through(self, point: Vec, direction: Vec | None = None) -> Self:
        """Through a place, across another direction if one is given."""
        way = self.direction if direction is None else tuple(float(c) for c in direction)
        return self.with_(direction=way, centre=tuple(float(c) for c in point), position=float(unit(way) @ np.asarray(point)), across="")


def at_length(points: Vec, along: float) -> tuple[Vec, Vec]:
    """The place at a length along a line (n, 3), and the direction there."""
    steps = np.linalg.norm(np.diff(points, axis=0), axis=1)
    ends = np.concatenate([[0.0], np.cumsum(steps)])
    where = min(max(along, 0.0), float(ends[-1]))
    good = np.flatnonzero(steps > 0.0)
    if len(good) == 0:
        return points[0], np.array([1.0, 0.0, 0.0])
    n = int(good[min(int(np.searchsorted(ends[good + 1], where)), len(good) - 1)])
    way = points[n + 1] - points[n]
    return points[n] + (where - ends[n]) / steps[n] * way, unit(way)


def new_slice(store: QuantityStore, axis: int) -> Begun:
    """A slice through the middle, coloured by the best quantity."""
    low, high = store.flow.bounds
    position = round_to(0.5 * float(low[axis] + high[axis]), 0.01 * float(high[axis] - low[axis]))
    size = round_to(0.3 * store.flow.size, 0.05 * store.flow.size)
    shape = SliceShape(direction=_along(axis), position=position, width=size, height=size)
    return Begun(f"Slice {AXES[axis]}", shape, SurfaceLook(colour_by=best_name(store)))


def _along(axis: int) -> Vector:
    return float(axis == 0), float(axis == 1), float(axis == 2)


KIND = Kind(SliceShape, "A plane cut through the flow: whole, a disc or a rectangle.", "look", "slice",
            tuple(Tile(f"add-slice-{axis}", f"Slice {axis}", f"Cut the flow where {axis} is constant.", axis) for axis in AXES),
            lambda store, axis: new_slice(store, AXES.index(axis)), group="Surfaces")
