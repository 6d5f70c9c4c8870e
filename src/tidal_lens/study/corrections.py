"""A flow with the roles and the kinds of boundaries that the user says it has."""

from __future__ import annotations

from dataclasses import replace

from tidal_lens.flow.boundaries import settle_boundaries, with_kind
from tidal_lens.flow.case import Boundary, Flow, next_number
from tidal_lens.flow.free_stream import guessed_reference, motion_in
from tidal_lens.flow.roles import VECTOR_ROLES, Roles
from tidal_lens.flow.turned import turned_about
from tidal_lens.study.model import Study

SAID = "you said so"
_KEPT = ("seams", "outside", "bounds", "size", "_mesh", "_joined", "_seam_fit", "_node_volumes")  # what does not depend on roles and kinds


def corrected(flow: Flow, study: Study) -> Flow:
    """The flow as the study has it; the same one where it has nothing to correct.

    Parameters
    ----------
    flow : Flow
        As it was read.
    study : Study
        Its ``roles``, ``kinds`` and ``turned`` count; what the flow does not have is passed over.
    """
    roles = corrected_roles(flow, study)
    turned = flow.turned if not study.turned else turned_about(flow.normal, study.turned)
    if roles == flow.roles and turned == flow.turned and not any(b.name in study.kinds for b in flow.boundaries):
        return flow
    boundaries, reference = flow.boundaries, flow.reference
    if roles != flow.roles:
        motion = motion_in(flow.fields, roles, flow.normal)
        named = [b if b.reason == "the file says so" else replace(b, reason="") for b in boundaries if not b.found]
        boundaries = settle_boundaries(flow.points, flow.outside, named, motion, flow.seams.labels(flow.n_points))
    boundaries = tuple(_said(b, study) for b in boundaries)
    if reference.origin != "stated in the file":
        reference = guessed_reference(boundaries, flow.fields, roles, reference.gamma, flow.outside, flow.seams.labels(flow.n_points))
    new = replace(flow, roles=roles, boundaries=boundaries, reference=reference, turned=turned, number=next_number())
    new.__dict__.update({name: flow.__dict__[name] for name in _KEPT if name in flow.__dict__})
    return new


def _said(boundary: Boundary, study: Study) -> Boundary:
    kind = study.kinds.get(boundary.name)
    return boundary if kind is None or kind == boundary.kind else with_kind(boundary, kind, SAID)


def corrected_roles(flow: Flow, study: Study) -> Roles:
    """The roles in force."""
    roles = flow.roles
    for role, names in study.roles.items():
        if role in VECTOR_ROLES:
            sizes = [flow.fields[n].components for n in names if n in flow.fields]
            fits = len(sizes) == len(names) and sizes in ([], [3], [1, 1, 1])
        else:
            fits = len(names) <= 1 and all(n in flow.fields and flow.fields[n].components == 1 for n in names)
        if fits and roles.fields(role) != names:
            roles = roles.with_role(role, names, SAID)
    return roles
