"""What stands at a share of span has in common: the share, and its bead on the line from hub to casing."""

from __future__ import annotations

from typing import Annotated, Any, ClassVar, Self

import numpy as np
from pydantic import Field

from tidal_lens.flow.annulus import kept_annulus
from tidal_lens.flow.case import Flow
from tidal_lens.quantities.names import CONST
from tidal_lens.study.kinds.kind import Handle, Handles, Made, Shape, Vec

Share = Annotated[float, Field(ge=0.0, le=1.0)]
AXIS = (f"{CONST}axis", f"{CONST}axis_point")
_SOME = 5000  # nodes, of which one near the line says where round the axis it stands


class AtSpan(Shape):
    """A share of span, from the hub (0) to the casing (1)."""

    what: ClassVar[str] = "span"
    along: ClassVar[float] = 0.5  # share of the way at which its bead stands
    share: Share = 0.5

    def constants(self) -> tuple[str, ...]:
        """The axis."""
        return AXIS

    def handles(self, flow: Flow, _made: Made | None) -> Handles | None:
        """A bead on the line from hub to casing, in the annulus that was seen last; none before one was."""
        line = _line(flow, self.along)
        if line is None:
            return None
        hub, across = line
        rail = across / max(float(np.linalg.norm(across)), 1e-300)
        bead = Handle("span", hub + self.share * across, rail, None, f"{100 * self.share:.3g} % of the span", self.share, turns=True)
        return Handles(self.what, (bead,), ((np.array([hub, hub + across]), False),))

    def moved(self, _handle: str, to: Vec, flow: Flow, *, snap: bool) -> Self:
        """To the share of a place; to tenths with ``snap``."""
        annulus = kept_annulus(flow)
        share = float(annulus.shares(np.asarray(to, np.float64)[None])[0, 1]) if annulus is not None else np.nan
        if not np.isfinite(share):
            return self
        share = min(max(share, 0.0), 1.0)
        return self.with_(share=round(share, 1) if snap else float(f"{share:.3g}"))

    def typed(self, _handle: str, value: Any) -> Self:
        """At a share."""
        return self.with_(share=min(max(float(value), 0.0), 1.0))

    def stepped(self, steps: float, _flow: Flow) -> Self:
        """By hundredths of the span."""
        return self.with_(share=float(f"{min(max(self.share + 0.01 * steps, 0.0), 1.0):.6g}"))


def _line(flow: Flow, along: float) -> tuple[Vec, Vec] | None:
    """Its place on the hub, and the way from there to the casing; kept with the flow."""
    annulus = kept_annulus(flow)
    if annulus is None:
        return None
    ready: tuple[object, float, tuple[Vec, Vec]] | None = flow.__dict__.get("_span_line")
    if ready is None or ready[0] is not annulus or ready[1] != along:
        some = flow.points[::max(1, flow.n_points // _SOME)]
        near = some[int(np.nanargmin(np.abs(annulus.shares(some)[:, 0] - along)))]
        angle = np.repeat(annulus.angles(near[None]), 2)
        ends = annulus.in_space(annulus.places(np.array([along, along]), np.array([0.0, 1.0])), angle)
        ready = flow.__dict__["_span_line"] = annulus, along, (ends[0], ends[1] - ends[0])
    return ready[2]
