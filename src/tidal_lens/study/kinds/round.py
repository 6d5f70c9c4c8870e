"""Round cuts: sphere, cylinder, cone, or any quadric."""

from __future__ import annotations

from typing import Annotated, Any, Literal, Self

import numpy as np
from pydantic import Field, FiniteFloat, model_validator

from tidal_lens.cutting.contour import quadric_cut
from tidal_lens.cutting.masking import kept_surface
from tidal_lens.cutting.planes import plane_axes, unit
from tidal_lens.flow.case import Flow
from tidal_lens.quantities.store import QuantityStore
from tidal_lens.study.kinds.cut import Cut
from tidal_lens.study.kinds.first_values import best_name, round_to, rounded
from tidal_lens.study.kinds.kind import Begun, Handle, Handles, Kind, Made, See, Tile, Vec
from tidal_lens.study.looks import SurfaceLook
from tidal_lens.study.value import Vector
from tidal_lens.study.words import Words, number_text

Ten = Annotated[tuple[FiniteFloat, ...], Field(min_length=10, max_length=10)]
_ARM = 0.12  # of the flow's size, from the middle to the bead that turns the axis
TERMS = ("x²", "y²", "z²", "xy", "xz", "yz", "x", "y", "z", "1")


class RoundShape(Cut):
    """A sphere or cylinder about a centre, a cone from its tip on, or a quadric.

    Attributes
    ----------
    centre : tuple
        Of a sphere; on the axis of a cylinder; the tip of a cone.
    axis : tuple
        Of a cylinder or cone, which opens along it.
    radius, angle
        Of a sphere or cylinder; half the opening of a cone [degrees].
    terms : tuple
        Coefficients of x², y², z², xy, xz, yz, x, y, z and 1, whose sum is zero on the quadric.
    """

    kind: Literal["round"] = "round"
    form: Literal["sphere", "cylinder", "cone", "quadric"] = "sphere"
    centre: Vector
    axis: Vector = (1.0, 0.0, 0.0)
    radius: Annotated[float, Field(gt=0.0, le=1e12)]
    angle: Annotated[float, Field(ge=0.5, le=89.5)] = 20.0
    terms: Ten = (1.0, 1.0, 1.0, 0.0, 0.0, 0.0, 0.0, 0.0, 0.0, -1.0)

    @model_validator(mode="after")
    def _has_axis(self) -> Self:
        if not 1e-150 < float(np.linalg.norm(self.axis)) < 1e150:
            raise ValueError("the axis needs a length")
        if self.form == "quadric" and not any(self.terms[:9]):
            raise ValueError("a quadric needs a coefficient that is not zero before the last")
        return self

    def make(self, see: See) -> Made:
        """The cut."""
        form, level = self.quadric()
        cut = quadric_cut(see.flow, form, level, see.token, self.own_blocks(see.flow))
        if self.form == "cone":  # the quadric has a second half behind the tip
            cut = kept_surface(cut, (cut.points - np.array(self.centre)) @ unit(self.axis))
        return Made(cut)

    def quadric(self) -> tuple[Vec, float]:
        """Nine coefficients, and the value on it."""
        if self.form == "quadric":
            return np.array(self.terms[:9]), -self.terms[9]
        c, a = np.array(self.centre), unit(self.axis)
        m = np.eye(3)
        if self.form == "cylinder":
            m -= np.outer(a, a)
        elif self.form == "cone":
            m -= np.outer(a, a) / np.cos(np.radians(self.angle)) ** 2
        level = 0.0 if self.form == "cone" else self.radius**2
        linear = -2.0 * m @ c
        return np.array([m[0, 0], m[1, 1], m[2, 2], 2 * m[0, 1], 2 * m[0, 2], 2 * m[1, 2], *linear]), level - float(c @ m @ c)

    def tell(self, words: Words) -> str:
        """Its form and size."""
        at = ", ".join(words.number(c) for c in self.centre)
        if self.form == "quadric":
            return "quadric by its coefficients"
        size = f"half angle {words.number(self.angle)}°" if self.form == "cone" else f"radius {words.number(self.radius)}"
        return f"{self.form}, {size}, {'tip' if self.form == 'cone' else 'about'} ({at})"

    def handles(self, flow: Flow, _made: Made | None) -> Handles | None:
        """Its middle or tip, its size, and its axis; and circles of it."""
        if self.form == "quadric":
            return None
        c, a = np.array(self.centre), unit(self.axis)
        right, up = plane_axes(a)
        turn = np.linspace(0.0, 2.0 * np.pi, 65)[:-1, None]
        middle = Handle("centre", c, label=", ".join(number_text(x) for x in self.centre), value=self.centre)
        tip = Handle("axis", c + _ARM * flow.size * a, small=True, turns=True)
        if self.form == "sphere":
            circles = [c + self.radius * (np.cos(turn) * p + np.sin(turn) * q) for p, q in ((right, up), (right, a), (up, a))]
            size = Handle("radius", c + self.radius * up, up, None, f"radius {number_text(self.radius)}", self.radius)
            return Handles("sphere", (middle, size), tuple((circle, True) for circle in circles))
        far = 0.3 * flow.size
        if self.form == "cylinder":
            circles = [c + shift * a + self.radius * (np.cos(turn) * right + np.sin(turn) * up) for shift in (-far, 0.0, far)]
            size = Handle("radius", c + self.radius * up, up, None, f"radius {number_text(self.radius)}", self.radius)
        else:
            wide = np.tan(np.radians(self.angle))
            circles = [c + shift * (a + wide * (np.cos(turn) * right + np.sin(turn) * up)) for shift in (far / 2, far)]
            size = Handle("angle", c + far * (a + wide * up), label=f"half angle {number_text(self.angle)}°", value=self.angle, turns=True)
        spine = (np.array([c - (far if self.form == "cylinder" else 0.0) * a, c + far * a]), False)
        return Handles(self.form, (middle, size, tip), (spine, *((circle, True) for circle in circles)))

    def moved(self, handle: str, to: Vec, flow: Flow, *, snap: bool) -> Self:
        """Its centre to a place; its size or its axis so that it goes there."""
        target = flow.points[((flow.points - to) ** 2).sum(axis=1).argmin()] if snap else to
        c, a = np.array(self.centre), unit(self.axis)
        off = target - c
        if handle == "centre":
            return self.with_(centre=tuple(float(x) for x in target) if snap else rounded(target, 0.0005 * flow.size))
        if handle == "axis":
            gone = float(np.linalg.norm(off - _ARM * flow.size * a)) < 1e-9 * flow.size
            return self if gone or not off.any() else self.with_(axis=rounded(unit(off), 1e-3))
        if handle == "angle":
            across = float(np.linalg.norm(off - (off @ a) * a))
            angle = float(np.degrees(np.arctan2(across, max(float(off @ a), 1e-12))))
            return self.with_(angle=min(max(round_to(angle, 0.05), 0.5), 89.5))
        up = plane_axes(a)[1]
        size = max(abs(float(off @ up)), 1e-4 * flow.size)
        return self.with_(radius=size if snap else round_to(size, 0.0005 * flow.size))

    def typed(self, handle: str, value: Any) -> Self:
        """At a number, or at three."""
        return self.with_(**{handle: value})

    def stepped(self, steps: float, flow: Flow) -> Self:
        """A fiftieth of the flow larger, or a degree wider."""
        if self.form == "cone":
            return self.with_(angle=min(max(self.angle + steps, 0.5), 89.5))
        by = steps * round_to(flow.size / 50, flow.size / 50)
        return self.with_(radius=max(float(f"{self.radius + by:.9g}"), 1e-4 * flow.size))


def new_round(store: QuantityStore) -> Begun:
    """A sphere close round the body, or about the middle of the flow."""
    flow = store.flow
    low, high = flow.body or flow.bounds
    size = float(np.linalg.norm(high - low))
    step = 0.005 * size
    radius = 0.55 * size if flow.body is not None else 0.3 * float((high - low).min() or size)
    wind = unit(store.reference.velocity)
    shape = RoundShape(centre=rounded(0.5 * (low + high), step), axis=(float(wind[0]), float(wind[1]), float(wind[2])),
                       radius=round_to(radius, step))
    return Begun("Sphere", shape, SurfaceLook(colour_by=best_name(store), opacity=0.85))


KIND = Kind(RoundShape, "A sphere, cylinder, cone or quadric cut through the flow.", "look", "round",
            (Tile("add-round", "Round", "Cut the flow by a sphere, a cylinder, a cone or a quadric."),),
            lambda store, _argument: new_round(store), group="Surfaces")
