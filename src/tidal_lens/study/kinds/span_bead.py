"""The bead of what stands at a share of span: on the line from hub to casing."""

from __future__ import annotations

import numpy as np

from tidal_lens.flow.annulus import kept_annulus
from tidal_lens.flow.case import Flow
from tidal_lens.study.kinds.kind import Handle, Handles, Vec

_SOME = 5000  # nodes, of which one near the line says where round the axis it stands


def span_bead(flow: Flow, what: str, share: float, along: float) -> Handles | None:
    """Its handles at a share along the annulus that was seen last; none before one was."""
    line = _line(flow, along)
    if line is None:
        return None
    hub, across = line
    rail = across / max(float(np.linalg.norm(across)), 1e-300)
    bead = Handle("span", hub + share * across, rail, None, f"{100 * share:.3g} % of the span", share, turns=True)
    return Handles(what, (bead,), ((np.array([hub, hub + across]), False),))


def span_at(flow: Flow, to: Vec, old: float, *, snap: bool) -> float:
    """The share of span of a place; to tenths with ``snap``; the old one where it is not known."""
    annulus = kept_annulus(flow)
    share = float(annulus.shares(np.asarray(to, np.float64)[None])[0, 1]) if annulus is not None else np.nan
    if not np.isfinite(share):
        return old
    share = min(max(share, 0.0), 1.0)
    return round(share, 1) if snap else float(f"{share:.3g}")


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
