"""Hill's spherical vortex (Hill 1894): the sphere divides the flow, and lines inside close on themselves."""

import numpy as np
import pytest

from tidal_lens.cutting.contour import isosurface
from tidal_lens.quantities.store import QuantityStore
from tidal_lens.sampling.mesh import mesh_of
from tidal_lens.tracing.seeds import seeds_on_line
from tidal_lens.tracing.streamlines import End, TraceSettings, trace_lines
from vortex_tank import CENTRE, RADIUS


def traced(demo, seeds, **settings):
    velocity = QuantityStore(demo, demo.reference).values("velocity")
    return trace_lines(demo, mesh_of(demo), velocity, np.atleast_2d(seeds), TraceSettings(**settings))


@pytest.mark.parametrize("where", [(0, 0, 0.72), (0, 0, 0.85), (0, 0.6, 0), (0.2, 0.3, 0.6), (0.1, 0, 0.5)])
def test_orbits_inside_close(demo, where):
    lines = traced(demo, CENTRE + RADIUS * np.array(where), direction="both", max_length=20.0)
    assert lines.ends[0, 1] == End.CLOSED
    assert "closed on itself" in lines.describe(0)
    assert np.linalg.norm(lines.points[-1] - lines.points[0]) < 0.02 * 0.06  # a fiftieth of a cell
    assert np.linalg.norm(lines.points - CENTRE, axis=1).max() < RADIUS


def test_no_line_crosses_the_dividing_sphere(demo):
    """Lines from upstream stay outside the sphere to within the mesh's own resolution."""
    lines = traced(demo, seeds_on_line((-1.9, -0.3, 1.0), (-1.9, 0.3, 1.5), 24), direction="forward")
    assert lines.n_lines == 24
    assert np.linalg.norm(lines.points - CENTRE, axis=1).min() > RADIUS - 0.02
    assert (lines.ends[:, 1] == End.LEFT).all()


def test_the_ring_centre_is_at_a_over_root_two(demo):
    """Inside the vortex the velocity vanishes on the ring of radius a/√2 (Hill 1894)."""
    velocity = QuantityStore(demo, demo.reference).values("velocity")
    ring = CENTRE + RADIUS / np.sqrt(2) * np.array([[0, np.cos(a), np.sin(a)] for a in np.linspace(0, 6, 12)])
    stencil, inside = mesh_of(demo).locate(ring)
    assert inside.all()
    speed = np.linalg.norm([stencil.apply(np.ascontiguousarray(velocity[:, a])) for a in range(3)], axis=0)
    assert speed.max() < 0.06 * demo.reference.speed


def test_axial_velocity_changes_sign_where_it_should(demo):
    """The surface u = 0 inside the sphere meets the mid-plane x = centre at s = a/√2."""
    store = QuantityStore(demo, demo.reference)
    surface = isosurface(demo, store.values("velocity-x"), 0.0)
    p = surface.points - CENTRE
    middle = (np.abs(p[:, 0]) < 0.02) & (np.linalg.norm(p, axis=1) < 0.95 * RADIUS)
    assert middle.sum() > 10
    assert np.abs(np.hypot(p[middle, 1], p[middle, 2]) - RADIUS / np.sqrt(2)).max() < 0.02
